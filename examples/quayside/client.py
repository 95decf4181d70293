"""A client of Quayside that plays by itself: it comes, rings every two seconds, and logs each ring
that it hears of. With "twice" as its last word it has a mistake: it takes a notice that is repeated,
because its answer was lost, for another one."""
import signal
import socket
import sys
import time

HOST, PORT, NAME = sys.argv[1], int(sys.argv[2]), sys.argv[3]
TWICE = "twice" in sys.argv[4:]

link = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
link.connect((HOST, PORT))
link.settimeout(0.02)


def goodbye(*_):
    link.send(b"bye")
    sys.exit(0)


signal.signal(signal.SIGTERM, goodbye)
inside, asked, ring, heard = False, 0.0, 0.0, set()
while True:
    now = time.monotonic()
    if not inside and now - asked > 0.3:
        asked = now
        link.send(f"hello {NAME}".encode())
    if inside and now >= ring:
        ring = now + 2
        link.send(b"ring")
    try:
        words = link.recv(2000).decode().split()
    except (TimeoutError, socket.timeout, ConnectionRefusedError):
        continue
    if words == ["welcome"]:
        if not inside:
            print("on the quay", flush=True)
            ring = now + 1
        inside = True
    elif len(words) == 3:
        number, count, who = words
        link.send(f"got {number}".encode())
        if number not in heard or TWICE:
            print(f"notice of ring {count} by {who}", flush=True)
        heard.add(number)
