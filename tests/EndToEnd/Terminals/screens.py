"""A terminal of a size around a command: keys go in, and what its screen shows comes out, cell by cell, as another's emulator sees it.

screens.py COLUMNSxROWS COMMAND…   reads lines of JSON: {"keys": text} types; {"wait": seconds} draws until nothing came for so
long; {"until": text} draws until the screen has it, a minute at most; {"show": true} answers with the screen's lines and the cursor's
place; {"pid": true} with the command's process. At the end of its input the command is hung up.
"""
import fcntl, json, os, pty, select, shutil, signal, struct, sys, tempfile, termios, time
import pyte

columns, rows = map(int, sys.argv[1].split("x"))
screen = pyte.Screen(columns, rows)
stream = pyte.ByteStream(screen)
home = tempfile.mkdtemp(prefix="calm-screen.")
pid, master = pty.fork()
if pid == 0:
    # Before the command is there: a size that changes while it draws is told to it, and it draws otherwise.
    fcntl.ioctl(0, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
    os.environ["TERM"] = "xterm-256color"
    os.chdir(home)  # an editor that is hung up leaves what it has where it is
    os.execvp(sys.argv[2], sys.argv[2:])

# Questions that a terminal answers: where the cursor is, and what it is.
screen.write_process_input = lambda data: os.write(master, data.encode())
over = False


def draw(quiet):
    """Until nothing came for so long, at most ten seconds."""
    global over
    last = begun = time.monotonic()
    while not over and time.monotonic() - last < quiet and time.monotonic() - begun < 10:
        if not select.select([master], [], [], 0.02)[0]:
            continue
        try:
            got = os.read(master, 65536)
        except OSError:
            got = b""
        if not got:
            over = True
            break
        last = time.monotonic()
        try:
            stream.feed(got)
        except Exception as error:  # what the emulator does not know
            print(error, file=sys.stderr)


def say(what):
    print(json.dumps(what), flush=True)


for line in sys.stdin:
    order = json.loads(line)
    if "keys" in order:
        try:
            os.write(master, order["keys"].encode("utf-8", "surrogateescape"))
        except OSError:
            over = True
    if "wait" in order:
        draw(order["wait"])
    if "until" in order:
        limit = time.monotonic() + 60
        while order["until"] not in "\n".join(screen.display) and time.monotonic() < limit and not over:
            draw(0.02)
    if "show" in order:
        say({"lines": screen.display, "cursor": [screen.cursor.x, screen.cursor.y]})
    if "pid" in order:
        say({"pid": pid})
try:
    os.kill(pid, signal.SIGHUP)
    draw(0.1)
    os.kill(pid, signal.SIGKILL)
    os.waitpid(pid, 0)
except OSError:
    pass
shutil.rmtree(home, ignore_errors=True)
