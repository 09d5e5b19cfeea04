"""A drone over MAVLink: arm, take off, fly ahead and turn, land; with a simulated autopilot in a process of its own.

The pad is simulated too. With a real one: ``tenuto drive damson-guided.toml``.
"""

import socket
import subprocess
import sys
from pathlib import Path

import tenuto
from tenuto import Tick
from tenuto.data import shipped
from tenuto.sources.function import FunctionSource

PAD = ("left_y", "left_x", "right_y", "right_x", "left_shoulder", "start", "north", "south")
FULL = -32768.0  # a pad counts downwards as its sticks go forward and to the left


def pad(now: float) -> dict[str, float]:
    """Hold left_shoulder, press start and north; at 5 s ahead, at 6.5 s turn left, at 8 s press south."""
    values = dict.fromkeys(PAD, 0.0) | {"left_shoulder": float(now > 1.0)}
    pressed = {"start": 1.4, "north": 1.9, "south": 8.0}
    values |= {button: float(begin <= now < begin + 0.2) for button, begin in pressed.items()}
    return values | {"right_y": FULL if 5.0 < now < 6.5 else 0.0, "left_x": FULL if 6.5 < now < 7.5 else 0.0}


def tell(tick: Tick) -> str | None:
    """Say what is asked of the autopilot, and what it says."""
    for action in tick.actions:
        print(f"{tick.time:5.2f} s  {action}")
    return "the flight is over" if tick.time > 12.5 else None


path = shipped("damson-guided.toml")
with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
    one.bind(("127.0.0.1", 0))
    address = f"127.0.0.1:{one.getsockname()[1]}"  # where nobody else listens
# A desk computer that does other things too holds the loop up now and then.
text = path.read_text(encoding="utf-8").replace("127.0.0.1:14550", address)
profile = tenuto.parse_profile(text + '[loop]\nstall_timeout = "2 s"\n')
command = [sys.executable, "-m", "tenuto", "robot", str(path), "--mavlink", address, *sys.argv[1:]]
autopilot = subprocess.Popen([*command, "--seconds", "15"], stdout=subprocess.PIPE, text=True, cwd=Path.cwd())
assert autopilot.stdout is not None
print(autopilot.stdout.readline().strip())
with tenuto.open_sinks(profile)[0] as sink:
    report = tenuto.drive(profile, FunctionSource("pad", PAD, pad), [sink], on_tick=tell)
print(report.ended)
print(autopilot.stdout.read().strip())
