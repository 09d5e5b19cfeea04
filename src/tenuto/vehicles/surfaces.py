"""A throttle, and two surfaces with two functions each: the classic mixes of wings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.kinds.options import option
from tenuto.vehicles.base import Beginning, Chassis, VehicleOptions
from tenuto.vehicles.linear import LinearMix, MixOutput
from tenuto.vehicles.velocity import VelocityCommand

# Two surfaces with two functions each, and the throttle, with their shares. "up" is the elevator, nose up positive;
# "turn" is roll or yaw to the left; a deflection is positive upwards, and to the left for a rudder.
SURFACES: dict[str, tuple[MixOutput, ...]] = {
    "elevon": (
        MixOutput("throttle", (1.0, 0.0, 0.0, 0.0), low=0.0),
        MixOutput("left_elevon", (0.0, 0.0, 0.5, 0.5)),
        MixOutput("right_elevon", (0.0, 0.0, 0.5, -0.5)),
    ),
    "v_tail": (
        MixOutput("throttle", (1.0, 0.0, 0.0, 0.0), low=0.0),
        MixOutput("left_ruddervator", (0.0, 0.0, 0.5, 0.5)),
        MixOutput("right_ruddervator", (0.0, 0.0, 0.5, -0.5)),
    ),
    # "sideways" is the flap, down positive: both flaperons go down together.
    "flaperon": (
        MixOutput("throttle", (1.0, 0.0, 0.0, 0.0), low=0.0),
        MixOutput("elevator", (0.0, 0.0, 1.0, 0.0)),
        MixOutput("left_flaperon", (0.0, -0.5, 0.0, 0.5)),
        MixOutput("right_flaperon", (0.0, -0.5, 0.0, -0.5)),
    ),
}


@dataclass(frozen=True, kw_only=True)
class SurfacesOptions(VehicleOptions):
    """A throttle, and two surfaces with two functions each."""

    kind: ClassVar[str] = "surfaces"
    picture: ClassVar[tuple[str, ...]] = ("   |   ", "---+---", "  -+-  ")
    full_is_known: ClassVar[bool] = False
    beginning: ClassVar[Beginning | None] = Beginning(
        'mix = "elevon"             # or "v_tail", "flaperon"\n',
        "flight",
        (("forward", "3 m/s"), ("up", "1 m/s"), ("turn", "45 deg/s")),
        "2 m/s^2",
    )
    mix: Literal["elevon", "v_tail", "flaperon"] = option('"elevon", "v_tail" or "flaperon"')

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return LinearMix(SURFACES[self.mix], full)
