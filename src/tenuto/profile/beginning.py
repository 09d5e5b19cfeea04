"""The text of a new profile: slow, with measures to be filled in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from tenuto.kinds.tables import made, table_of
from tenuto.vehicles.base import VEHICLES, Chassis, VehicleOptions
from tenuto.vehicles.velocity import VelocityCommand

_TEXT = """\
# Made by tenuto begin. Slow at first: raise the speeds when you trust it.
format = 1
name = ""

[source]      # what is held in the hand

[controls]    # each stick: what the device calls it, and how much of its middle is ignored

[style]       # what the sticks mean
kind = "{style}"

[speeds]      # how fast it goes with a stick at its end
{speeds}

[limits]      # how fast that may change
{limits}

[guard]       # what must be so for it to move, and how it stops
link_timeout = "300 ms"     # the longest silence of the device to drive through
stop_deceleration = "{stop}"

[chassis]     # what it is
kind = "{kind}"
{chassis}"""


def chassis_in(tables: Mapping[str, Any]) -> Chassis | None:
    """Return the vehicle of the ``[chassis]`` of a profile; None if it is invalid."""
    from pydantic import ValidationError

    try:
        options = made(
            table_of(VEHICLES.all[tables["chassis"]["kind"]], VEHICLES.what).model_validate(tables["chassis"])
        )
    except (ValidationError, KeyError, TypeError):
        return None
    return options.chassis(VelocityCommand(1.0, 1.0, 1.0, 1.0)) if isinstance(options, VehicleOptions) else None


def begun_for() -> list[str]:
    """Name the vehicles for which a profile can be made."""
    return [kind for kind, vehicle in VEHICLES.all.items() if vehicle.beginning is not None]


def text_begun_for(kind: str) -> str:
    """Return the text of a profile for a vehicle, without its source and its controls.

    Raises:
        KeyError: the vehicle is not one of `begun_for`.
    """
    vehicle = VEHICLES.all[kind]
    begins = vehicle.beginning
    if begins is None:
        raise KeyError(kind)
    limits = [f'acceleration = "{begins.acceleration}"']
    if vehicle.in_shares:
        limits[0] += "        # from standstill to full"
    else:
        limits.append('turn_acceleration = "90 deg/s^2"')
    speeds = "\n".join(f'{key} = "{value}"' for key, value in begins.speeds)
    return _TEXT.format(
        kind=kind, style=begins.style, speeds=speeds, chassis=begins.chassis, limits="\n".join(limits),
        stop="0.5 s" if vehicle.in_shares else "1.0 m/s^2",
    )  # fmt: skip
