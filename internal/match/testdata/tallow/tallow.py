# Tallow in Python: TCP, threads, random numbers.
import random, socket, sys, threading, time

if sys.argv[1] == "server":
    listening = socket.create_server(("127.0.0.1", int(sys.argv[2])))
    people, lock = {}, threading.Lock()
    print("lit", flush=True)

    def burn():
        tick = 0
        while True:
            time.sleep(0.05)
            tick += 1
            with lock:
                for name, connection in list(people.items()):
                    try:
                        connection.sendall(b"%d %.4f %d\n" % (tick, random.random(), hash(name) % 1000))
                    except OSError:  # it has left
                        del people[name]

    threading.Thread(target=burn, daemon=True).start()

    def welcome(connection):
        name = connection.makefile("r").readline().strip()
        print(name, "came", flush=True)
        with lock:
            people[name] = connection

    while True:
        threading.Thread(target=welcome, args=(listening.accept()[0],), daemon=True).start()

connection = socket.create_connection((sys.argv[2], int(sys.argv[3])))
connection.sendall(sys.argv[4].encode() + b"\n")
print("by the candle", flush=True)
heard = []
threading.Thread(target=lambda: [heard.append(line.strip()) for line in connection.makefile("r")], daemon=True).start()
while True:
    time.sleep(0.11)
    print("%.4f" % time.time(), len(heard), heard[-1:], id(heard) % 1000, flush=True)
