"""A radio receiver to four steered wheels: a simulated SBUS receiver, and servo pulses for the two axles.

Prints the pulses each half second of simulated time. With your own receiver: the name of its port in the profile, pins
instead of `print`, and no clock.
"""

import math

import tenuto
from tenuto import Tick
from tenuto.sim.receiver import SimulatedReceiver
from tenuto.sinks.function import FunctionSink

PROFILE = """
format = 1
name = "Quince, by radio"
source = { kind = "sbus", port = "PORT" }
controls.throttle = { reads = "channel_3", dead_zone = 0.06 }
controls.steer = { reads = "channel_1", reverse = true, dead_zone = 0.06 }
style = { kind = "four_wheel", throttle = "throttle", steer = "steer", max_angle = "28 deg", steering = "counter" }
speeds = { forward = "0.9 m/s", backward = "0.5 m/s", turn = "60 deg/s" }
limits = { acceleration = "0.6 m/s^2", turn_acceleration = "60 deg/s^2" }

[guard]
hold_to_run = "channel_5"
link_timeout = "300 ms"
stop_deceleration = "1.2 m/s^2"
stop_turn_deceleration = "120 deg/s^2"

[chassis]
kind = "four_wheel_steer"
wheelbase = "1.3 m"
track = "0.9 m"
wheel_radius = "0.2 m"
max_steering = "35 deg"

[actuators.angles]
form = "pulse"
"""


def hands(seconds: float) -> list[float]:
    """Channel 5 is held from 1 s on, 3 goes up, 1 to the left and to the right."""
    channels = [1500.0] * 16
    channels[4] = 2012.0 if seconds > 1.0 else 988.0
    channels[2] = 1900.0 if seconds > 1.5 else 1500.0
    channels[0] = 1500.0 - (400.0 * math.sin(seconds - 2.0) if seconds > 2.0 else 0.0)
    return channels


def servos(tick: Tick) -> None:
    """Print the pulses of the servos. After 6 s the transmitter is switched off."""
    receiver.faults.failsafe = tick.time > 6.0
    pulses = {name: value for name, value in tick.wire.items() if name.endswith("pulse")}
    said = ", ".join(f"{name.removesuffix('_angle.pulse')} {value:.0f} µs" for name, value in pulses.items())
    print(f"{tick.time:4.1f} s  {tick.guard.state:16} {tick.command.vx:+.2f} m/s  {said}")


clock = tenuto.SimulatedClock()
receiver = SimulatedReceiver("sbus", motion=hands, clock=clock)
profile = tenuto.parse_profile(PROFILE.replace("PORT", receiver.port))
with tenuto.open_source(profile, clock=clock) as source:
    tenuto.drive(
        profile, source, [FunctionSink("servos", servos, rate=2.0)],
        clock=clock, on_tick=lambda tick: "it is over" if tick.time > 8.0 else None,
    )  # fmt: skip
receiver.unplug()
