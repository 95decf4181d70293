import math
import sys

from zwtrace import Trace

sys.stdout.reconfigure(encoding="utf-8")
trace = Trace(sys.stdout.write)


def picture(t, tick, x, gait, tired, rest=lambda: None):
    trace.begin(t, tick)
    trace.set("dog/fern", "x", x)
    trace.set("dog/fern", "gait", gait)
    trace.set("dog/fern", "tired", tired)
    rest()
    trace.end()


def sheep():
    trace.set("sheep/s01", "x", 10)
    trace.set("sheep/s01", "y", 0.5)


def gate():
    trace.set("gate/n", "label", 'say "hi"\\\n\u0001 über 羊')


def odd():
    gate()
    trace.set("sheep/s02", "x", math.inf)
    trace.set("sheep/s02", "y", -math.inf)


trace.joined(0, "fern", "dog/fern")
picture(0, 0, -3.25, "run", False, sheep)
picture(0.05, 1, -2.875, "run", False, sheep)
picture(0.1, 2, -2.875, "run", False, sheep)
picture(0.15, 3, -2.875, "trot", True, gate)
trace.event(0.16, "bark", id=81, entity="dog/fern", by="fern", to="moss", data={"loud": True})
trace.event(0.17, "final")
trace.input(0.18, "run", 12)
trace.checkpoint(0.19, "touch", id="7", entity="bell/brass", by="fern")
trace.sent(0.191, "1042", to="fern", data="sheep/s01 is gone", size=96)
trace.got(0.192, "7", by="fern")
trace.clock(0.2, 0.081, 12.5)
picture(0.25, 5, math.nan, "trot", True, odd)
picture(1, 20, 1234567.891, "trot", True)
picture(1.1, -1, 0, "trot", True)


def own():
    trace.received()
    trace.set("dog/fern", "x", 0.125)
    trace.predicted()
    trace.set("dog/fern", "x", 0.5)
    trace.set("dog/fern", "tired", False)


picture(1.2, -1, 0, "trot", True, own)
picture(1.3, -1, 0, "trot", True, own)
trace.at(25)
trace.left(1.5, "fern")
trace.refused(1.6, "oak")
