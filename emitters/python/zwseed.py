"""Lets a game that draws by random draw the same in every match of one seed, and otherwise with
another: python3 zwseed.py server.py ARGS. Each program draws its own numbers. Where no match is
played, nothing is changed."""
import os
import random
import runpy
import sys

if os.environ.get("ZWHEEL_SEED"):
    random.seed(os.environ["ZWHEEL_SEED"] + "/" + os.environ.get("ZWHEEL_NAME", ""))
sys.argv = sys.argv[1:]
sys.path[0] = os.path.dirname(os.path.abspath(sys.argv[0]))
runpy.run_path(sys.argv[0], run_name="__main__")
