"""How long a key takes to its echo, and 100 MB to the end, at a service's joined terminal; beside a relay in C with as many hops.

terminal.py PROGRAMS FLOORS   prints a line for each of them and each round, and their ratios.
"""
import fcntl, os, pty, select, shutil, struct, subprocess, sys, tempfile, termios, time

programs, floors = map(os.path.abspath, sys.argv[1:3])
root = tempfile.mkdtemp(prefix="calm-bench.")
os.chmod(root, 0o755)
BULK = os.path.join(root, "bulk.sh")
with open(BULK, "w") as file:
    file.write(
        "#!/bin/sh\nwhile :; do printf 'ready? '; read go\n"
        "yes 'the tide at the quay is written again and again, line by line' | head -c 100000000; echo; echo 'end of tide'; done\n"
    )
os.chmod(BULK, 0o755)
KEYS, ROUNDS, QUIET = 600, 3, 30


def ticks():
    """Processor time so far, in hundredths of a second (proc(5))."""

    def of(pid):
        with open(f"/proc/{pid}/stat") as file:
            return sum(map(int, file.read().rpartition(")")[2].split()[11:13]))

    keepers = [
        int(pid)
        for pid in os.listdir("/proc")
        if pid.isdigit() and os.path.basename(os.readlink(f"/proc/{pid}/exe") if os.path.exists(f"/proc/{pid}/exe") else "") == "calm-keeper"
        and os.readlink(f"/proc/{pid}/cwd").startswith(root)
    ]
    return {"keepers": sum(map(of, keepers)), "server": of(server.pid)}


def at_terminal(command):
    pid, master = pty.fork()
    if pid == 0:
        os.environ["TERM"] = "xterm-256color"
        os.execv(command[0], command)
    fcntl.ioctl(master, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
    return pid, master


def still(master, seconds):
    while select.select([master], [], [], seconds)[0]:
        os.read(master, 65536)


def over(pid, master):
    os.kill(pid, 9)
    os.waitpid(pid, 0)
    os.close(master)


def keys(command):
    """p50 and p99 in ms."""
    pid, master = at_terminal(command)
    still(master, 2)
    took = []
    for i in range(KEYS):
        key, seen, began = bytes([97 + i % 26]), b"", time.perf_counter()
        os.write(master, key)
        while key not in seen:
            seen += os.read(master, 4096)
        took.append((time.perf_counter() - began) * 1000)
        if i % 60 == 59:
            os.write(master, b"\x15")
            still(master, 0.05)
        time.sleep(0.003)
    over(pid, master)
    took.sort()
    return took[len(took) // 2], took[len(took) * 99 // 100]


def bulk(command):
    """Seconds."""
    pid, master = at_terminal(command)
    seen = b""

    def until(words):
        nonlocal seen
        while words not in seen:
            seen = seen[-100:] + os.read(master, 65536)

    until(b"ready?")
    still(master, 0.5)
    seen, began = b"", time.perf_counter()
    os.write(master, b"\r")
    until(b"end of tide")
    took = time.perf_counter() - began
    over(pid, master)
    return took


calm = [os.path.join(programs, "calm"), "--root", root]
server = subprocess.Popen([os.path.join(programs, "calm-sentry"), "serve", "--root", root, "--port", "0"], stdout=subprocess.PIPE)
try:
    server.stdout.readline()
    account = "nobody" if os.getuid() == 0 else os.environ["USER"]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "check": True}
    subprocess.run([*calm, "account", "permit", account], **quiet)
    for name, program in (("echo", "/bin/cat"), ("bulk", BULK)):
        subprocess.run([*calm, "wrap", name, "--account", account, "--terminal", "80x24", "--start", "--", program], **quiet)
    for _ in range(ROUNDS):
        (floor50, floor99), (own50, own99) = keys([floors, "relay", "/bin/cat"]), keys([*calm, "terminal", "echo"])
        print(f"key to echo  p50 {own50:.3f} ms, {own50 / floor50:.2f}x; p99 {own99:.3f} ms, {own99 / floor99:.2f}x", flush=True)
    for _ in range(ROUNDS):
        floor, own = bulk([floors, "relay", BULK]), bulk([*calm, "terminal", "bulk"])
        print(f"100 MB seen  {own:.2f} s, {own / floor:.2f}x", flush=True)
    address = subprocess.run([*calm, "open"], stdout=subprocess.PIPE, text=True, check=True).stdout.strip()
    subprocess.run(["node", os.path.join(os.path.dirname(os.path.abspath(__file__)), "terminal.mjs"), address], check=True)
    used = ticks()
    time.sleep(QUIET)
    after = ticks()
    for what, pids in (("their two keepers", "keepers"), ("the server", "server")):
        print(f"{QUIET} s with two terminals that nobody joined: {(after[pids] - used[pids]) * 10} ms of processor time of {what}", flush=True)
    subprocess.run([*calm, "stop", "--all"], **quiet)
finally:
    server.terminate()
    server.wait()
    shutil.rmtree(root, ignore_errors=True)
