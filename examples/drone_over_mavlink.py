"""A drone over MAVLink: arm, take off, fly ahead and turn, land; with a simulated autopilot in a process of its own.

The pad is simulated too. With a real one: ``tenuto drive damson-guided.toml``.
"""

import subprocess
import sys
from pathlib import Path

import tenuto
from tenuto import Tick
from tenuto.data import shipped
from tenuto.sources.function import FunctionSource

PAD = ("left_y", "left_x", "right_y", "right_x", "left_shoulder", "start", "north", "south")
ADDRESS = "127.0.0.1:14550"  # as in the profile
FULL = -32768.0  # a pad counts downwards as its sticks go forward and to the left


def pad(now: float) -> dict[str, float]:
    """Hold left_shoulder, press start and north; at 6 s ahead, at 8 s turn left, at 9.5 s press south."""
    values = dict.fromkeys(PAD, 0.0) | {"left_shoulder": float(now > 1.5)}
    pressed = {"start": 2.0, "north": 2.5, "south": 9.5}
    values |= {button: float(begin <= now < begin + 0.2) for button, begin in pressed.items()}
    return values | {"right_y": FULL if 6.0 < now < 8.0 else 0.0, "left_x": FULL if 8.0 < now < 9.0 else 0.0}


def tell(tick: Tick) -> str | None:
    """Say what is asked of the autopilot, and what it says."""
    for action in tick.actions:
        print(f"{tick.time:5.2f} s  {action}")
    return "the flight is over" if tick.time > 15.0 else None


path = shipped("damson-guided.toml")
profile = tenuto.load_profile(path)
command = [sys.executable, "-m", "tenuto", "robot", str(path), "--mavlink", ADDRESS, *sys.argv[1:]]
autopilot = subprocess.Popen([*command, "--seconds", "16"], stdout=subprocess.PIPE, text=True, cwd=Path.cwd())
assert autopilot.stdout is not None
print(autopilot.stdout.readline().strip())
with tenuto.open_sinks(profile)[0] as sink:
    report = tenuto.drive(profile, FunctionSource("pad", PAD, pad), [sink], on_tick=tell)
print(report.ended)
print(autopilot.stdout.read().strip())
