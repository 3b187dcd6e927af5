"""A program on a display that does what no program should (X Window System Protocol, version 11, written out: no library between).

guest.py windows COUNT | draw | grab | clipboard | size | lies | full | flood
"""

import os
import socket
import struct
import sys
import threading
import time

FOLDER = "/tmp/.X11-unix"


def join():
    with open(os.environ["XAUTHORITY"], "rb") as file:
        key = file.read()[-16:]
    line = socket.socket(socket.AF_UNIX)
    line.connect(f"{FOLDER}/X{os.environ['DISPLAY'][1:]}")
    name = b"MIT-MAGIC-COOKIE-1"
    line.sendall(struct.pack("<BxHHHHxx", 0x6C, 11, 0, len(name), len(key)) + name + b"\0\0" + key)
    head = read(line, 8)
    rest = read(line, 4 * struct.unpack("<H", head[6:])[0])
    assert head[0] == 1, rest
    base = struct.unpack("<I", rest[4:8])[0]
    screens = 32 + (struct.unpack("<H", rest[16:18])[0] + 3) // 4 * 4 + 8 * rest[21]
    return line, base, struct.unpack("<I", rest[screens : screens + 4])[0]


def read(line, length):
    got = b""
    while len(got) < length:
        got += line.recv(length - len(got)) or sys.exit("the display is gone")
    return got


def window(number, root, dialog=b""):
    """CreateWindow with a background, and MapWindow."""
    made = struct.pack("<BBHIIhhHHHHIII", 1, 0, 9, number, root, number % 300, number % 200, 80, 60, 0, 1, 0, 2, number)
    return made + dialog + struct.pack("<BxHI", 8, 2, number)


def ask(line, order):
    """The answer to a request, whatever events come before."""
    line.sendall(order)
    while True:
        unit = read(line, 32)
        if unit[0] in (0, 1):
            return unit + read(line, 4 * struct.unpack("<I", unit[4:8])[0] if unit[0] else 0)


def main(what):
    if what in ("lies", "full", "flood"):
        return {"lies": lies, "full": full, "flood": flood}[what]()
    line, base, root = join()
    line.sendall(window(base + 1, root))
    line.sendall(struct.pack("<BxHIII", 55, 4, base + 2, base + 1, 0))  # CreateGC
    print("begun", flush=True)
    if what == "windows":
        for number in range(int(sys.argv[2])):
            # WM_TRANSIENT_FOR (68), type WINDOW (33): each is a dialog.
            hint = struct.pack("<BBHIIIBxxxII", 18, 0, 7, base + 10 + number, 68, 33, 32, 1, base + 1)
            line.sendall(window(base + 10 + number, root, hint))
        ask(line, struct.pack("<BxH", 43, 1))  # GetInputFocus: all of it is done
        print("all are open", flush=True)
        time.sleep(1000)
    if what == "grab":
        line.sendall(struct.pack("<BxH", 36, 1))  # GrabServer
        ask(line, struct.pack("<BBHIHBBIII", 26, 1, 6, root, 0xFC, 1, 1, root, 0, 0))  # GrabPointer
        ask(line, struct.pack("<BBHIIBBxx", 31, 1, 4, root, 0, 1, 1))  # GrabKeyboard
        print("all is grabbed", flush=True)
        time.sleep(1000)
    number = 0
    while True:
        number += 1
        if what == "draw":
            # ChangeGC, foreground; PolyFillRectangle over all of the window.
            line.sendall(struct.pack("<BxHIII", 56, 4, base + 2, 4, number * 7919 % (1 << 24)))
            line.sendall(struct.pack("<BxHIIhhHH", 70, 5, base + 1, base + 2, 0, 0, 400, 300))
            if number % 1000 == 0:
                ask(line, struct.pack("<BxH", 43, 1))
        elif what == "clipboard":
            atom = struct.unpack("<I", ask(line, struct.pack("<BBHHxx9sxxx", 16, 0, 5, 9, b"CLIPBOARD"))[8:12])[0]
            line.sendall(struct.pack("<BxHIII", 22, 4, base + 1, atom, 0))  # SetSelectionOwner
            ask(line, struct.pack("<BxH", 43, 1))
        elif what == "size":
            randr = ask(line, struct.pack("<BxHHxx5sxxx", 98, 4, 5, b"RANDR"))[9]
            ask(line, struct.pack("<BBHII", randr, 0, 3, 1, 2))  # QueryVersion 1.2
            size = (640, 480) if number % 2 else (1200, 900)
            line.sendall(struct.pack("<BBHIHHII", randr, 7, 5, root, *size, 100, 100))  # SetScreenSize
            ask(line, struct.pack("<BxH", 43, 1))
            time.sleep(0.5)


def doors_of_its_own(queue):
    """Sockets in the place of its own display's."""
    doors = []
    for name in os.listdir(FOLDER):
        os.unlink(f"{FOLDER}/{name}")
        door = socket.socket(socket.AF_UNIX)
        door.bind(f"{FOLDER}/{name}")
        door.listen(queue)
        doors.append((name, door))
    return doors


def full():
    """Takes nobody, and lets nobody wait either: the queue is full."""
    kept = []
    for name, _ in doors_of_its_own(0):
        line = socket.socket(socket.AF_UNIX)
        line.connect(f"{FOLDER}/{name}")
        kept.append(line)
    print("begun", flush=True)
    time.sleep(1000)


def flood():
    """Greets as a display does, and then says what nobody asked for without a pause."""

    def to_window(line):
        line.sendall(b"RFB 003.008\n")
        read(line, 12)
        line.sendall(b"\1\1")
        read(line, 1)
        line.sendall(b"\0\0\0\0")
        read(line, 1)
        line.sendall(struct.pack(">HH16sI", 40, 30, b"\x20\x18", 4) + b"quay")
        line.sendall(struct.pack(">BxHHHHHi", 0, 1, 0, 0, 40, 30, 0) + b"\0" * (40 * 30 * 4))
        while True:
            line.sendall(b"\2" * 4096)  # Bell

    def to_program(line):
        line.sendall(b"\1\0\x0b\0\0\0\x0a\0" + b"\0" * 40)
        while True:
            line.sendall((b"\x10" + b"\0" * 31) * 128)  # CreateNotify

    def say(name, line):
        try:
            (to_program if name[0] == "X" else to_window)(line)
        except OSError:
            pass

    def take(name, door):
        while True:
            line, _ = door.accept()
            threading.Thread(target=say, args=(name, line), daemon=True).start()

    for name, door in doors_of_its_own(50):
        threading.Thread(target=take, args=(name, door), daemon=True).start()
    print("begun", flush=True)
    time.sleep(1000)


def lies():
    """Takes the place of its own display's sockets, and says what no display says."""
    doors = doors_of_its_own(50)
    for _, door in doors:
        door.setblocking(False)
    print("begun", flush=True)
    number = 0
    kept = []
    while True:
        for name, door in doors:
            try:
                line, _ = door.accept()
            except BlockingIOError:
                continue
            number += 1
            if name[0] == "X":
                # Answers as long as there may be, and lists that are longer than what comes.
                said = [b"\1\0\x0b\0\0\0\xff\xff", b"\1\0\x0b\0\0\0\x10\0" + b"\xff" * 64, b"\0" * 8, b"\1"][number % 4]
            else:
                head = b"RFB 003.008\n" + b"\1\1" + b"\0\0\0\0"
                size = [(0, 0), (65535, 65535), (4096, 4096), (300, 200)][number % 4]
                said = head + struct.pack(">HH16sI", *size, b"\x20\x18", [0xFFFFFFFF, 4][number // 4 % 2]) + b"quay"
                said += [b"", b"\0\0\xff\xff" + b"\xff" * 12, b"\3\0\0\0\xff\xff\xff\xff", b"\x7f"][number // 2 % 4]
            try:
                line.sendall(said)
            except OSError:
                pass
            kept.append(line)
            del kept[:-20]
        time.sleep(0.01)


main(sys.argv[1])
