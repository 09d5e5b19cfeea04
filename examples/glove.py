"""Your own glove over text lines: a microcontroller prints four numbers per line, and a boat follows.

Bend sensors drive the two thrusters, a fist of the other hand (the last number) is hold-to-run. The board is simulated:
this program writes its lines to a pseudo-terminal. Time is simulated too; with your own board, leave the clock out.
"""

import math

import tenuto
from tenuto import Tick
from tenuto.sim.device import SerialDevice

PROFILE = """
format = 1
name = "Sorrel, by glove"
source = { kind = "lines", port = "PORT", columns = ["index_finger", "little_finger", "thumb", "fist"] }
# As they were measured: flat, half bent and bent.
controls.left = { reads = "index_finger", low = 210, centre = 480, high = 750, dead_zone = 0.1 }
controls.right = { reads = "little_finger", low = 190, centre = 455, high = 720, dead_zone = 0.1 }
controls.fist = { reads = "fist", low = 0, high = 1 }
style = { kind = "tank", left = "left", right = "right" }
speeds = { forward = "0.8 m/s", backward = "0.4 m/s", turn = "40 deg/s" }
limits = { acceleration = "0.4 m/s^2", turn_acceleration = "60 deg/s^2" }
guard = { hold_to_run = "fist", link_timeout = "400 ms", stop_deceleration = "0.6 m/s^2", stop_turn_deceleration = "90 deg/s^2" }
chassis = { kind = "differential", track = "0.7 m", wheel_radius = "0.1 m" }
"""  # noqa: E501


told = ""


class Glove(SerialDevice):
    """Prints fifty lines a second until its battery is empty; the hand moves as soon as the boat listens."""

    first = math.inf

    def next_bytes(self, seconds: float) -> list[bytes]:
        """Rest, make a fist at 0.5 s, bend the index finger from 1 s and the little finger from 2 s on."""
        if told:
            self.first = min(self.first, seconds)
        seconds = max(seconds - self.first, 0.0)
        if seconds > 5.0:
            return []
        left = 480 + 250 * math.sin(min(max(seconds - 1.0, 0.0), 1.5))
        right = 455 + 240 * math.sin(min(max(seconds - 2.0, 0.0), 1.5))
        return [f"{left:.0f},{right:.0f},300,{int(seconds > 0.5)}\n".encode()]


def tell(tick: Tick) -> str | None:
    """Print a line when the state changes, and each second."""
    global told
    now = f"{tick.guard.state} {int(tick.time)}"
    if now != told:
        told = now
        why = tick.guard.reasons[0].text if tick.guard.reasons else ""
        print(f"{tick.time:4.1f} s  {tick.guard.state:12} {tick.command.vx:+.2f} m/s "
              f"{math.degrees(tick.command.yaw_rate):+4.0f} deg/s  {why}")  # fmt: skip
    return "it is over" if tick.time > 7.0 else None


clock = tenuto.SimulatedClock()
glove = Glove(rate=50.0, clock=clock)
profile = tenuto.parse_profile(PROFILE.replace("PORT", glove.port))
with tenuto.open_source(profile, clock=clock) as source:
    tenuto.drive(profile, source, [tenuto.open_sink("simulated")], clock=clock, on_tick=tell)
glove.unplug()
