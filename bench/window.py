"""How long a press takes to its picture in a service's window, what a still one costs, and what it adds to a start.

window.py PROGRAMS   prints a line for each, with its ratio to a floor measured beside it. As root, with Xvnc and wish.
"""
import os, shutil, statistics, subprocess, sys, tempfile, time

programs = os.path.abspath(sys.argv[1])
here = os.path.dirname(os.path.abspath(__file__))
root = tempfile.mkdtemp(prefix="calm-bench.")
os.chmod(root, 0o755)
DESK = os.path.join(root, "desk.tcl")
with open(DESK, "w") as file:
    file.write(
        "wm geometry . 800x500+0+0; . configure -background #204060\n"
        "bind . <ButtonPress-1> { . configure -background [expr {[. cget -background] eq {#204060} ? {#e0c020} : {#204060}}] }\n"
    )
QUIET, STARTS = 30, 20


def number(line):
    return int(line.split()[1])


def ticks(pid):
    """Processor time so far, in hundredths of a second (proc(5))."""
    with open(f"/proc/{pid}/stat") as file:
        return sum(map(int, file.read().rpartition(")")[2].split()[11:13]))


def memory(pid):
    """Its own share of what it uses, in MiB."""
    with open(f"/proc/{pid}/smaps_rollup") as file:
        return next(number(line) for line in file if line.startswith("Pss:")) / 1024


def displays():
    found = []
    for pid in filter(str.isdigit, os.listdir("/proc")):
        try:
            if os.readlink(f"/proc/{pid}/exe").endswith("/Xtigervnc") or os.readlink(f"/proc/{pid}/exe").endswith("/Xvnc"):
                with open(f"/proc/{pid}/environ") as file:
                    if f"CALM_RUN={root}" in file.read():
                        found.append(int(pid))
        except OSError:
            pass
    return found


def display_alone():
    """Seconds from the start of a display to its number."""
    began = time.perf_counter()
    with subprocess.Popen(
        ["Xvnc", "-displayfd", "1", "-geometry", "800x500", "-rfbport", "-1", "-SecurityTypes", "None", "-nolisten", "tcp", "-extension", "GLX"],
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
    ) as alone:
        alone.stdout.readline()
        took = time.perf_counter() - began
        alone.terminate()
    return took


calm = [os.path.join(programs, "calm"), "--root", root]
quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "check": True}


def start(name):
    began = time.perf_counter()
    subprocess.run([*calm, "start", name], **quiet)
    took = time.perf_counter() - began
    subprocess.run([*calm, "stop", name], **quiet)
    return took


server = subprocess.Popen([os.path.join(programs, "calm-sentry"), "serve", "--root", root, "--port", "0"], stdout=subprocess.PIPE)
try:
    server.stdout.readline()
    subprocess.run([*calm, "account", "permit", "nobody"], **quiet)
    for name, window in (("with", ["--window", "800x500"]), ("without", [])):
        ready = ["--proof", "output:ready", "--", "/bin/sh", "-c", "echo ready; exec sleep 600"]
        subprocess.run([*calm, "wrap", name, "--account", "nobody", *window, *ready], **quiet)
        start(name)
    all_starts = [(start("with"), display_alone(), start("without")) for _ in range(STARTS)]
    own, display, program = (statistics.median(times) * 1000 for times in zip(*all_starts))
    print(f"start with a window  p50 {own:.0f} ms, {own / (display + program):.2f}x of a display's start and the program's ({display:.0f} + {program:.0f} ms)", flush=True)
    subprocess.run([*calm, "wrap", "desk", "--account", "nobody", "--window", "1280x800", "--start", "--", "/usr/bin/wish", DESK], **quiet)
    time.sleep(8)  # its first picture is kept by then
    (shown,) = displays()
    before = ticks(shown), ticks(server.pid)
    time.sleep(QUIET)
    print(f"{QUIET} s of a still window: {(ticks(shown) - before[0]) * 10} ms of processor time of its display, {(ticks(server.pid) - before[1]) * 10} ms of the server; its display has {memory(shown):.1f} MiB", flush=True)
    address = subprocess.run([*calm, "open"], stdout=subprocess.PIPE, text=True, check=True).stdout.strip()
    socket = f"{root}/run/calm-sentry/services/S3/window/sockets/rfb"
    subprocess.run(["node", os.path.join(here, "window.mjs"), address, socket], check=True)
    subprocess.run([*calm, "stop", "--all"], **quiet)
finally:
    server.terminate()
    server.wait()
    shutil.rmtree(root, ignore_errors=True)
