"""A drone over MAVLink: arm, take off, fly ahead and turn, land; with a simulated autopilot at the other end.

The pad and time are simulated too. In real time, and with a real pad: ``tenuto drive damson-guided.toml``.
"""

import math

import tenuto
from tenuto import Tick
from tenuto.data import shipped
from tenuto.sim.autopilot import Autopilot
from tenuto.sources.function import FunctionSource

PAD = ("left_y", "left_x", "right_y", "right_x", "left_shoulder", "start", "north", "south")
FULL = -32768.0  # the numbers of a pad decrease as its sticks go forward and to the left


def pad(now: float) -> dict[str, float]:
    """Hold left_shoulder, press start and north; at 5 s ahead, at 6.5 s turn left, at 8 s press south."""
    values = dict.fromkeys(PAD, 0.0) | {"left_shoulder": float(now > 1.0)}
    pressed = {"start": 1.4, "north": 1.9, "south": 8.0}
    values |= {button: float(begin <= now < begin + 0.2) for button, begin in pressed.items()}
    return values | {"right_y": FULL if 5.0 < now < 6.5 else 0.0, "left_x": FULL if 6.5 < now < 7.5 else 0.0}


def tell(tick: Tick) -> str | None:
    """Print the requests to the autopilot, and its reports."""
    for action in tick.actions:
        print(f"{tick.time:5.2f} s  {action}")
    return "the flight is over" if tick.time > 12.5 else None


path, clock = shipped("damson-guided.toml"), tenuto.SimulatedClock()
with Autopilot(tenuto.load_profile(path)) as autopilot:
    host, port = autopilot.address
    profile = tenuto.parse_profile(path.read_text(encoding="utf-8").replace("127.0.0.1:14550", f"{host}:{port}"))

    def fly() -> None:
        """Run the autopilot beside the loop, and a little longer."""
        for point in autopilot.run(clock):
            if point.time > 14.0:
                return

    flown = clock.start(fly)
    with tenuto.open_sinks(profile)[0] as sink:
        report = tenuto.drive(profile, FunctionSource("pad", PAD, pad), [sink], clock=clock, on_tick=tell)
    print(report.ended)
    flown()
    here = autopilot.robot.now
    print(
        f"It is at x {here.x:+.2f} m, y {here.y:+.2f} m, {math.degrees(here.heading):+.0f} deg: {autopilot.summary()}"
    )
