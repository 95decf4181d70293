"""The rules of Stonewain, a small lockstep game to be tested: every player drives a wain
over a moor and picks up stones. All state is whole numbers, so that the same orders in
the same order give the same state everywhere."""

import copy

TURNS_A_SECOND = 20
WIDTH, HEIGHT = 40_000, 30_000  # millimetres
SPEED = 250  # millimetres a turn
REACH = 1_600
STONES = 10

# The sine of every 15 degrees, times 1000: tables are the same on every machine.
SINES = [0, 259, 500, 707, 866, 966, 1000, 966, 866, 707, 500, 259, 0, -259, -500, -707, -866, -966, -1000, -966, -866, -707, -500, -259]


class Moor:
    """The state of the game after a turn."""

    def __init__(self, seed=1):
        self.turn = 0
        self.seed = seed & 0x7FFFFFFF
        self.wains = {}  # name -> [x, y, heading in steps of 15 degrees, stones]
        self.stones = {}  # number -> (x, y)
        self.strewn = 0
        while len(self.stones) < STONES:
            self.strew()

    def draw(self, most):
        self.seed = (self.seed * 1103515245 + 12345) & 0x7FFFFFFF
        return (self.seed >> 8) % most

    def strew(self):
        self.strewn += 1
        self.stones[self.strewn] = (self.draw(WIDTH) - WIDTH // 2, self.draw(HEIGHT) - HEIGHT // 2)

    def play(self, orders):
        """Plays a turn: orders is a list of [name, what, ...], in the order that counts."""
        self.turn += 1
        for name, what, *rest in orders:
            if what == "join":
                self.wains[name] = [self.draw(WIDTH) - WIDTH // 2, self.draw(HEIGHT) - HEIGHT // 2, 0, 0]
            elif what == "leave":
                self.wains.pop(name, None)
            elif what == "drive" and name in self.wains:
                self.drive(self.wains[name], *rest)

    def drive(self, wain, move, turn):
        wain[2] = (wain[2] + turn) % 24
        if move and self.draw(8) > 0:  # now and then the wheels slip
            wain[0] = max(-WIDTH // 2, min(WIDTH // 2, wain[0] + SPEED * SINES[(wain[2] + 6) % 24] // 1000))
            wain[1] = max(-HEIGHT // 2, min(HEIGHT // 2, wain[1] + SPEED * SINES[wain[2]] // 1000))
        for number, (x, y) in list(self.stones.items()):
            if (x - wain[0]) ** 2 + (y - wain[1]) ** 2 < REACH**2:
                del self.stones[number]
                wain[3] += 1
                self.strew()

    def copy(self):
        return copy.deepcopy(self)

    def checksum(self):
        sum = 0
        for name in sorted(self.wains):
            for n in self.wains[name]:
                sum = (sum * 31 + n) & 0xFFFFFFFF
        for number in sorted(self.stones):
            for n in (number, *self.stones[number]):
                sum = (sum * 31 + n) & 0xFFFFFFFF
        return f"{(sum * 31 + self.seed) & 0xFFFFFFFF:08x}"

    def tell(self, trace, t):
        """Tells a trace the state after the turn."""
        trace.begin(t, self.turn)
        for name, (x, y, heading, stones) in self.wains.items():
            wain = f"wain/{name}"
            trace.set(wain, "x", x / 1000)
            trace.set(wain, "y", y / 1000)
            trace.set(wain, "heading", heading * 15)
            trace.set(wain, "stones", stones)
        for number, (x, y) in self.stones.items():
            trace.set(f"stone/{number}", "x", x / 1000)
            trace.set(f"stone/{number}", "y", y / 1000)
        trace.set("moor/all", "checksum", self.checksum())
        trace.end()
