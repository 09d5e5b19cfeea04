"""Scripts of motion in TOML: see docs/scripts.md."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from tenuto.basics.errors import ProfileError, RecordingError
from tenuto.basics.findings import unexpected
from tenuto.files import UnreadableError, read_toml, unreadable
from tenuto.kinds.table import Name, Table
from tenuto.motion.script import (
    Chain,
    Circle,
    Hold,
    LinearRamp,
    Piece,
    Samples,
    Sway,
    figure_of_eight,
    overlaid,
    square,
)
from tenuto.profile.load import finding_of
from tenuto.profile.quantities import Length, SignedSpeed, SignedTurnSpeed, Speed, Time, TurnSpeed
from tenuto.sources.recording import read_table
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

Way = Literal["along", "level", "upright"]


class StepTable(Table):
    """The base class of all kinds of step."""

    together: bool = Field(default=False, description="true or false")


class VelocityTable(StepTable):
    """A velocity of four axes, for a time."""

    vx: SignedSpeed = Field(default=0.0, description='a speed, such as "0.5 m/s"')
    vy: SignedSpeed = Field(default=0.0, description='a speed, such as "0.5 m/s"')
    vz: SignedSpeed = Field(default=0.0, description='a speed, such as "0.5 m/s"')
    yaw_rate: SignedTurnSpeed = Field(default=0.0, description='a turning speed, such as "30 deg/s"')
    seconds: Time = Field(description='a time, such as "3 s"')

    @property
    def velocity(self) -> VelocityCommand:
        """The velocity."""
        return VelocityCommand(self.vx, self.vy, self.vz, self.yaw_rate)


class HoldTable(VelocityTable):
    """One velocity for a time."""

    kind: Literal["hold"] = Field(description="a kind of step")


class RampTable(VelocityTable):
    """Evenly from the end of the last step to a velocity."""

    kind: Literal["ramp"] = Field(description="a kind of step")


class SwayTable(StepTable):
    """To and fro on one axis."""

    kind: Literal["sway"] = Field(description="a kind of step")
    axis: Literal["vx", "vy", "vz", "yaw_rate"] = Field(description='"vx", "vy", "vz" or "yaw_rate"')
    speed: Speed | None = Field(default=None, description='a speed, such as "0.3 m/s"')
    turn_speed: TurnSpeed | None = Field(default=None, description='a turning speed, such as "30 deg/s"')
    period: Time = Field(description='a time, such as "4 s"')
    seconds: Time = Field(description='a time, such as "8 s"')


class CircleTable(StepTable):
    """Round a circle."""

    kind: Literal["circle"] = Field(description="a kind of step")
    radius: Length = Field(description='a length, such as "1 m"')
    speed: Speed = Field(description='a speed, such as "0.4 m/s"')
    turns: float = Field(default=1.0, description="how many times round; negative to the right")
    way: Way = Field(default="along", description='"along", "level" or "upright"')


class SquareTable(StepTable):
    """Round a square."""

    kind: Literal["square"] = Field(description="a kind of step")
    side: Length = Field(description='a length, such as "2 m"')
    speed: Speed = Field(description='a speed, such as "0.4 m/s"')
    turn_speed: TurnSpeed | None = Field(default=None, description='a turning speed, such as "45 deg/s"')


class EightTable(StepTable):
    """A figure of eight."""

    kind: Literal["eight"] = Field(description="a kind of step")
    radius: Length = Field(description='a length, such as "1 m"')
    speed: Speed = Field(description='a speed, such as "0.4 m/s"')
    way: Way = Field(default="along", description='"along", "level" or "upright"')


class FileTable(StepTable):
    """Velocities from a CSV file."""

    kind: Literal["file"] = Field(description="a kind of step")
    file: Name = Field(description="a CSV file with columns time, vx, vy, vz, yaw_rate, beside the script")


AnyStep = Annotated[
    HoldTable | RampTable | SwayTable | CircleTable | SquareTable | EightTable | FileTable,
    Field(discriminator="kind", description="tables [[steps]]"),
]


class Script(Table):
    """A script of motion. Load one with `load_script`."""

    format: Literal[1] = Field(description="the number 1, the format this version reads")
    name: Name = Field(description="a name for the motion")
    steps: list[AnyStep] = Field(min_length=1, description="tables [[steps]]")


def load_script(path: str | Path) -> tuple[str, Chain]:
    """Read a script from a TOML file; return its name and its motion.

    Raises:
        ProfileError: the file cannot be read, is not TOML, or has errors.
    """
    where = str(path)
    try:
        _, tables = read_toml(path)
        if "steps" not in tables and tables.keys() & {"source", "style", "chassis"}:
            raise ProfileError(where, [unexpected("file", "a script of motion", "a profile: tenuto check looks at it")])
        script = Script.model_validate(tables)
        pieces, before = [], STANDSTILL
        for number, step in enumerate(script.steps):
            piece = _piece(step, before, Path(path).parent, f"steps.{number}")
            before = piece.at(piece.seconds) if not isinstance(piece, Chain) else STANDSTILL
            pieces.append((piece, step.together))
    except UnreadableError as error:
        raise ProfileError(where, [unreadable(error)]) from error
    except ValidationError as error:
        raise ProfileError(where, [finding_of(details, Script) for details in error.errors()]) from None
    except _WrongStepError as error:
        raise ProfileError(where, [error.args[0]]) from error
    names = [f"steps.{number} ({step.kind})" for number, step in enumerate(script.steps)]
    return script.name, overlaid(pieces, names)


class _WrongStepError(Exception):
    """An invalid step."""


def _piece(step: Any, before: VelocityCommand, folder: Path, key: str) -> Piece:
    if isinstance(step, HoldTable):
        return Hold(step.velocity, step.seconds)
    if isinstance(step, RampTable):
        return LinearRamp(before, step.velocity, step.seconds)
    if isinstance(step, SwayTable):
        wanted, unwanted = ("turn_speed", "speed") if step.axis == "yaw_rate" else ("speed", "turn_speed")
        speed = getattr(step, wanted)
        if speed is None or getattr(step, unwanted) is not None:
            expected = SwayTable.model_fields[wanted].description or ""
            raise _WrongStepError(
                unexpected(f"{key}.{wanted}", expected, "nothing", f"and no {unwanted}, for axis {step.axis}")
            )
        return Sway(step.axis, speed, step.period, step.seconds)
    if isinstance(step, CircleTable):
        if step.turns == 0.0:
            raise _WrongStepError(unexpected(f"{key}.turns", CircleTable.model_fields["turns"].description or "", "0"))
        return Circle(step.radius, step.speed, step.turns, step.way)
    if isinstance(step, SquareTable):
        return square(step.side, step.speed, step.turn_speed)
    if isinstance(step, EightTable):
        return figure_of_eight(step.radius, step.speed, step.way)
    return _samples(folder / step.file, f"{key}.file")


def _samples(path: Path, key: str) -> Samples:
    """Read velocities from a CSV file; a missing column is 0."""
    expected = "a CSV file with rising times and finite numbers in columns time, vx, vy, vz, yaw_rate"
    try:
        table = read_table(path, ("time",))
    except RecordingError as error:
        raise _WrongStepError(unexpected(key, expected, str(error))) from error
    rows = [[row.get(name, 0.0) for name in ("time", *VelocityCommand._fields)] for row in table]
    known = set(table[0]) <= {"time", *VelocityCommand._fields} and len(rows) > 1
    if not known or any(after[0] <= before[0] for before, after in pairwise(rows)):
        raise _WrongStepError(unexpected(key, expected, f"{path}: {len(rows)} rows of {', '.join(table[0])}"))
    return Samples(tuple(row[0] - rows[0][0] for row in rows), tuple(VelocityCommand(*row[1:]) for row in rows))
