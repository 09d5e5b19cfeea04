"""The stages, each usable by itself: from a raw number to the value of a wheel.

Pure: time is an argument, and nothing here opens a device or a file. A function takes a float or a NumPy array and
returns the same kind. See docs/architecture.md for their order::

    from tenuto import stages

    stages.expo(0.5, 0.3)
    stages.Differential(track=0.62, wheel_radius=0.11).inverse(1.2, 0.0, 0.0, 0.0)
"""

from tenuto.curves.base import Shape
from tenuto.curves.expo import expo
from tenuto.curves.points import Points
from tenuto.driving.guard import Guard
from tenuto.driving.limits import Limits, approach, ramp_to_stop
from tenuto.driving.ramps import CommandRamp
from tenuto.sticks.shaping import dead_zone
from tenuto.sticks.tilt import TiltFilter, tilt_from_gravity
from tenuto.sticks.travel import Travel, from_centre, from_end
from tenuto.styles.mixing import Intent, in_corner, tank
from tenuto.styles.speeds import Speeds, Turning
from tenuto.vehicles import Chassis, Differential
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand, field_to_body

__all__ = [
    "STANDSTILL",
    "Chassis",
    "CommandRamp",
    "Differential",
    "Guard",
    "Intent",
    "Limits",
    "Points",
    "Shape",
    "Speeds",
    "TiltFilter",
    "Travel",
    "Turning",
    "VelocityCommand",
    "approach",
    "dead_zone",
    "expo",
    "field_to_body",
    "from_centre",
    "from_end",
    "in_corner",
    "ramp_to_stop",
    "tank",
    "tilt_from_gravity",
]
