"""Writes trace lines for zwheel: one file without dependencies, to be copied into
a game. Say everything that a view believes each time; the lines have only what has
changed, and a full snapshot about once a second.

    trace = Trace(sys.stdout.write)
    trace.joined(t, "fern", "dog/fern")
    trace.begin(t, tick)              # tick -1: the game has none
    trace.set("dog/fern", "x", 1.5)   # numbers, flags and text; an entity's in a row
    trace.predicted()                 # optional: what follows is what the client predicts,
    trace.set("dog/fern", "x", 1.7)   # or after received() what last came for it
    trace.end()                       # what was not named is despawned

Times are seconds on any clock that does not run backwards. Flush the stream, or
open it line by line.
"""

import json
import math


class Trace:
    def __init__(self, write):
        self._write = write
        self._t = 0.0
        self._tick = -1
        self._now = []  # (entity, [(field, value as it is written)])
        self._said = self._now  # what is said now is put there: the state, or what is told beside it
        self._beside = {}  # part of a line -> like now
        self._told = {}  # part of a line -> as it was written last
        self._before = {}  # entity -> {field: value}
        self._full = -math.inf

    def begin(self, t, tick=-1):
        """Begins a snapshot of the world at a time."""
        self._t, self._tick, self._now = t, tick, []
        self._said, self._beside = self._now, {}

    def at(self, tick):
        """Says of which tick the events, joins and leaves are that follow, up to the next
        snapshot, which says its own; -1: of none."""
        self._tick = tick

    def received(self):
        """What is set from here to the end of the snapshot is what last came for it."""
        self._said = self._beside["received"] = []

    def predicted(self):
        """What is set from here to the end of the snapshot is what the client predicts."""
        self._said = self._beside["predicted"] = []

    def set(self, entity, field, value):
        """Says a field: a number, True or False, or text."""
        if not self._said or self._said[-1][0] != entity:
            self._said.append((entity, []))
        self._said[-1][1].append((field, _written(value)))

    def end(self):
        """Writes the snapshot: what has changed in it, and its tick if it has one."""
        full = self._t >= self._full
        state, there = [], set()
        for entity, said in self._now:
            there.add(entity)
            known = self._before.setdefault(entity, {})
            fields = []
            for field, value in said:
                if full or known.get(field) != value:
                    fields.append(f"{_quote(field)}:{value}")
                known[field] = value
            if fields:
                state.append(f"{_quote(entity)}:{{{','.join(fields)}}}")
        despawned = [entity for entity in self._before if entity not in there]
        for entity in despawned:
            del self._before[entity]
        beside = ""
        for part in ("received", "predicted"):
            things = ",".join(
                f"{_quote(entity)}:{{{','.join(f'{_quote(field)}:{value}' for field, value in said)}}}"
                for entity, said in self._beside.get(part, ())
            )
            if things and (full or things != self._told.get(part)):
                beside += f',"{part}":{{{things}}}'
            self._told[part] = things
        if self._tick < 0 and not full and not state and not beside and not despawned:
            return
        line = self._ticked()
        if full:
            self._full = self._t + 1
            line += ',"full":true'
        if full or state:
            line += f',"state":{{{",".join(state)}}}'
        line += beside
        if not full and despawned:
            line += f',"despawned":[{",".join(map(_quote, despawned))}]'
        self._line(self._t, line)

    def event(self, t, name, id="", entity="", by="", to="", data=None):
        """Says a one-off; id, entity, by, to and data, any value, where they are known."""
        self._line(t, self._ticked() + _keys(event=name, id=id, entity=entity, by=by, to=to) + _data(data))

    def input(self, t, what, seq):
        """Says what the player does from now on."""
        self._line(t, f'{_keys(input=what)},"seq":{seq}')

    def checkpoint(self, t, name, id="", entity="", by="", data=None):
        """Says that the code has passed a checkpoint."""
        self._line(t, _keys(checkpoint=name, id=id, entity=entity, by=by) + _data(data))

    def sent(self, t, packet, to="", data=None, size=0):
        """Says that a packet was handed to the network: its number, or a hash of it; to
        whom, where a server says it; what is in it, any value; and how many bytes it has."""
        size = f',"bytes":{size}' if size else ""
        self._line(t, _keys(sent=packet, to=to) + _data(data) + size)

    def got(self, t, packet, by=""):
        """Says that a packet was taken in, and from whom, where a server says it."""
        self._line(t, _keys(got=packet, by=by))

    def clock(self, t, ping, server_t):
        """Says a clock exchange: the round trip, and what the server's clock showed
        when it answered, in seconds."""
        self._line(t, f',"ping":{ping:.6f},"server_t":{server_t:.6f}')

    def joined(self, t, name, entity):
        """Says that a player is in, and which entity is theirs."""
        self._line(t, self._ticked() + _keys(joined=name, entity=entity))

    def left(self, t, name):
        self._line(t, self._ticked() + _keys(left=name))

    def refused(self, t, name):
        """Says that a player was not let in."""
        self._line(t, self._ticked() + _keys(refused=name))

    def _ticked(self):
        return f',"tick":{self._tick}' if self._tick >= 0 else ""

    def _line(self, t, rest):
        self._write(f'{{"t":{t:.6f}{rest}}}\n')


def _keys(**values):
    return "".join(f',"{name}":{_quote(str(value))}' for name, value in values.items() if value != "")


def _data(value):
    return "" if value is None else f',"data":{json.dumps(value, separators=(",", ":"), ensure_ascii=False)}'


def _written(value):
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float)):
        if math.isfinite(value):
            return f"{value:.3f}"
        return '"NaN"' if math.isnan(value) else ('"Infinity"' if value > 0 else '"-Infinity"')
    return _quote(str(value))


def _quote(text):
    return json.dumps(text, ensure_ascii=False)
