"""The server of Stonewain. TCP, one JSON array or object a line. It collects what players
order, tells everybody the orders of every turn, and plays along as the one whose state
counts.

    python3 server.py --port 7600 [--seed 1]
"""

import argparse
import json
import selectors
import socket
import sys
import time

from stonewain import TURNS_A_SECOND, Moor
from zwtrace import Trace

parser = argparse.ArgumentParser()
parser.add_argument("--port", type=int, default=7600)
parser.add_argument("--seed", type=int, default=1)
options = parser.parse_args()

began = time.monotonic()
now = lambda: time.monotonic() - began


def write(line):
    sys.stdout.write(line)
    sys.stdout.flush()


trace, moor = Trace(write), Moor(options.seed)
selector = selectors.DefaultSelector()
listener = socket.create_server(("127.0.0.1", options.port))
selector.register(listener, selectors.EVENT_READ)
clients = {}  # socket -> {name, rest, drives}
orders = []  # of the next turn, beside driving
print("listening", file=sys.stderr, flush=True)


def send(client, message):
    try:
        client.sendall((json.dumps(message) + "\n").encode())
    except OSError:
        drop(client)


def drop(client):
    gone = clients.pop(client, None)
    if not gone:
        return
    selector.unregister(client)
    client.close()
    if gone["name"]:
        orders.append([gone["name"], "leave"])
        trace.at(moor.turn)
        trace.left(now(), gone["name"])
        print(f"{gone['name']} left", file=sys.stderr, flush=True)


def take(client, message):
    if message[0] == "join":
        name = clients[client]["name"] = message[1]
        orders.append([name, "join"])
        trace.at(moor.turn)
        trace.joined(now(), name, f"wain/{name}")
        print(f"{name} joined", file=sys.stderr, flush=True)
        send(client, {"moor": vars(moor)})
    elif message[0] == "drive":
        clients[client]["drives"] = message[1:]
    elif message[0] == "leave":
        drop(client)


def receive(client):
    try:
        data = client.recv(65536)
    except OSError:
        data = b""
    if not data:
        drop(client)
        return
    *lines, clients[client]["rest"] = (clients[client]["rest"] + data).split(b"\n")
    for line in lines:
        if client in clients:
            take(client, json.loads(line))


moor.tell(trace, now())
due = now()
while True:
    due += 1 / TURNS_A_SECOND
    while (left := due - now()) > 0:
        for key, _ in selector.select(left):
            if key.fileobj is listener:
                client, _ = listener.accept()
                client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                clients[client] = {"name": "", "rest": b"", "drives": [0, 0]}
                selector.register(client, selectors.EVENT_READ)
            else:
                receive(key.fileobj)
    turn = orders + [[c["name"], "drive", *c["drives"]] for c in clients.values() if c["name"]]
    orders = []
    moor.play(turn)
    for client in list(clients):
        if clients.get(client, {}).get("name"):
            send(client, {"turn": moor.turn, "orders": turn})
    moor.tell(trace, now())
