"""Your own code as a sink: two H-bridges and a servo on pins; here the pins are simulated and only count.

On a computer with real pins, put its own library's calls where `Pins` prints.
"""

import tenuto
from tenuto import Tick
from tenuto.data import shipped
from tenuto.sinks.function import FunctionSink


class Pins:
    """Simulated pins that store their settings."""

    def __init__(self) -> None:
        self.now: dict[str, float] = {}
        self.most: dict[str, float] = {}

    def set(self, pin: str, value: float) -> None:
        """Set a pin: a duty 0…1, a level 0 or 1, or a pulse in µs."""
        self.now[pin] = value
        self.most[pin] = max(self.most.get(pin, value), value)


pins = Pins()


def to_pins(tick: Tick) -> None:
    """An H-bridge needs a duty and a direction for each wheel, a servo a pulse. Without power all pins are off."""
    for wheel in ("left_wheel", "right_wheel"):
        share = tick.wire[f"{wheel}.share"]  # with [actuators]: reverse, full; 0 without power
        pins.set(f"{wheel} duty", round(min(abs(share), 1.0), 3))
        pins.set(f"{wheel} forward", float(share >= 0.0))
    # A servo raises a flag while the cart moves.
    pins.set("flag servo", 1900.0 if tick.command.vx else 1100.0)


# The share of 120 rev/min, 12.57 rad/s.
profile = tenuto.load_profile(shipped("medlar.toml")).with_(
    **{"actuators.wheels.form": "share", "actuators.wheels.full": 12.57}
)
report = tenuto.replay(profile, shipped("orchard-row.csv"), [FunctionSink("pins", to_pins)]).report
print(f"{report.ticks} ticks. At most: {pins.most}")
print(f"At the end: {pins.now}")
