"""A headless client of Stonewain. It plays every turn when its orders have come, and some
turns ahead with its own orders; when the orders of a turn come it goes back to the last
turn that is certain and plays those ahead anew. It reads control lines from standard input
(docs/driving.md) and prints what it has after every turn, also of those it plays anew.

    python3 client.py --host 127.0.0.1 --port 7600 --name fern [--faults NAME,...]

The mistakes it can make:
    own-first         it plays its own orders before those of others
    outside-rollback  the state of the random generator stays when it goes back
"""

import argparse
import json
import queue
import socket
import sys
import threading
import time

from stonewain import Moor
from zwtrace import Trace

parser = argparse.ArgumentParser()
parser.add_argument("--host", default="127.0.0.1")
parser.add_argument("--port", type=int, default=7600)
parser.add_argument("--name", default="fern")
parser.add_argument("--faults", default="")
options = parser.parse_args()
faults = set(options.faults.split(","))
AHEAD = 4  # turns

began = time.monotonic()
now = lambda: time.monotonic() - began


def write(line):
    sys.stdout.write(line)
    sys.stdout.flush()


trace = Trace(write)
news = queue.Queue()  # of standard input and of the server, in the order in which they came
server, certain, ahead, drives = None, None, None, [0, 0]


def listen(connection):
    for line in connection.makefile():
        news.put(("server", json.loads(line)))
    news.put(("closed", None))


def obey():
    for line in sys.stdin:
        news.put(("told", json.loads(line)))
    news.put(("told", {"do": "stop"}))


def send(*message):
    if server:
        server.sendall((json.dumps(message) + "\n").encode())


def leave():
    global server, certain
    if server:
        send("leave")
        server.close()
        trace.at(certain.turn if certain else -1)
        trace.left(now(), options.name)
    server, certain = None, None


def told(line):
    global server, drives
    if line["do"] == "join" and not server:
        server = socket.create_connection((options.host, options.port))
        server.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        threading.Thread(target=listen, args=(server,), daemon=True).start()
        send("join", options.name)
    elif line["do"] == "input":
        turn = line.get("turn", 0)
        drives = [1 if line.get("move", 0) > 0 else 0, (turn > 0.3) - (turn < -0.3)]
        send("drive", *drives)
    elif line["do"] == "leave":
        leave()
    elif line["do"] == "stop":
        leave()
        sys.exit(0)


def ordered(orders):
    if "own-first" in faults:
        return sorted(orders, key=lambda order: order[0] != options.name)
    return orders


def heard(message):
    global certain, ahead
    if "moor" in message:
        certain = Moor()
        vars(certain).update(message["moor"])
        certain.stones = {int(number): tuple(at) for number, at in certain.stones.items()}
        trace.at(certain.turn)
        trace.joined(now(), options.name, f"wain/{options.name}")
        certain.tell(trace, now())
        return
    if not certain or message["turn"] != certain.turn + 1:
        return
    if "outside-rollback" in faults and ahead:
        certain.seed = ahead.seed
    certain.play(ordered(message["orders"]))
    certain.tell(trace, now())
    ahead = certain.copy()
    guess = [o for o in message["orders"] if o[1] == "drive" and o[0] != options.name] + [[options.name, "drive", *drives]]
    for _ in range(AHEAD):
        ahead.play(ordered(guess))
        ahead.tell(trace, now())


threading.Thread(target=obey, daemon=True).start()
while True:
    source, line = news.get()
    if source == "told":
        told(line)
    elif source == "server" and server:
        heard(line)
    elif source == "closed" and server:
        leave()
