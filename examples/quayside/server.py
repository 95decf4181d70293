"""The server of Quayside: whoever is on the quay rings a bell now and then, and everybody hears of
it. It speaks UDP, repeats what nobody has answered, and knows nothing of who tests it: all that it
tells is its log."""
import socket
import sys
import time

PORT, SEED = int(sys.argv[1]), int(sys.argv[2])
LAST_PLACE = 4
REPEAT_S = 0.25

link = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
link.bind(("127.0.0.1", PORT))
link.settimeout(0.02)
players = {}   # name by address
unanswered = {}  # (address, number) -> (text, when to send it again)
number = 0


def log(text):
    print(text, flush=True)


def send(address, text):
    """Sends a numbered line that is repeated until it is answered."""
    global number
    number += 1
    unanswered[(address, number)] = (f"{number} {text}", time.monotonic() + REPEAT_S)
    link.sendto(f"{number} {text}".encode(), address)


log(f"quay open, seed {SEED}")
rings = 0
while True:
    for (address, n), (text, due) in list(unanswered.items()):
        if time.monotonic() >= due:
            unanswered[(address, n)] = (text, time.monotonic() + REPEAT_S)
            link.sendto(text.encode(), address)
    try:
        data, address = link.recvfrom(2000)
    except (TimeoutError, socket.timeout):
        continue
    word, _, rest = data.decode(errors="replace").partition(" ")
    if word == "hello":
        if address in players:
            link.sendto(b"welcome", address)
        elif len(players) < LAST_PLACE:
            players[address] = rest
            link.sendto(b"welcome", address)
            log(f"{rest} came onto the quay")
        else:
            link.sendto(b"full", address)
    elif word == "bye" and address in players:
        log(f"{players.pop(address)} left the quay")
        unanswered = {key: line for key, line in unanswered.items() if key[0] != address}
    elif word == "got":
        unanswered.pop((address, int(rest)), None)
    elif word == "ring" and address in players:
        rings += 1
        log(f"ring {rings} by {players[address]}")
        for other in players:
            send(other, f"{rings} {players[address]}")
