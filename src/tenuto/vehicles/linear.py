"""A general linear mix: a matrix of named inputs to named outputs, as in radio transmitters."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar, NamedTuple

import numpy as np

from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.number import Value, larger, weighted
from tenuto.kinds.options import option
from tenuto.vehicles.base import Beginning, Bounds, Chassis, Quantity, VehicleOptions
from tenuto.vehicles.velocity import VelocityCommand

AXES = ("forward", "sideways", "up", "turn")


# An output that is at its limit has no more room than this.
_NO_ROOM = 1e-12


class MixOutput(NamedTuple):
    """One output of a mix.

    Attributes:
        name: the builder's own.
        shares: its share of forward, sideways, up and turn, each of full speed.
        offset: its value at standstill. low, high: its limits.
    """

    name: str
    shares: tuple[float, float, float, float]
    offset: float = 0.0
    low: float = -1.0
    high: float = 1.0


@dataclass(frozen=True)
class LinearMix(Chassis):
    """Outputs that are sums of shares of a velocity: output = offset + Σ share·axis/full.

    Attributes:
        outputs: see `MixOutput`.
        full: the velocity at which each axis counts as 1; m/s and rad/s, all above 0.
    """

    outputs: tuple[MixOutput, ...]
    full: VelocityCommand

    @cached_property
    def _back(self) -> tuple[tuple[float, ...], ...]:
        matrix = np.linalg.pinv(np.array([output.shares for output in self.outputs], dtype=float))
        return tuple(tuple(float(cell) for cell in row) for row in matrix)

    @cached_property
    def _projection(self) -> tuple[tuple[float, ...], ...]:
        matrix = np.array(self._back) @ np.array([output.shares for output in self.outputs], dtype=float)
        return tuple(tuple(float(cell) for cell in row) for row in matrix.round(12))

    @cached_property
    def _blocked(self) -> tuple[tuple[int, float], ...]:
        """The axes with one direction only, with the possible side: a throttle has no reverse."""
        found = []
        for output in self.outputs:
            moved = [axis for axis, share in enumerate(output.shares) if share]
            rooms = (output.high - output.offset, output.offset - output.low)
            if len(moved) == 1 and min(rooms) <= 0.0 < max(rooms):
                side = 1.0 if (rooms[0] > 0.0) == (output.shares[moved[0]] > 0.0) else -1.0
                found.append((moved[0], side))
        return tuple(found)

    @cached_property
    def _ways(self) -> tuple[tuple[float, float, float, float], ...]:
        """For each direction of each output: the share of its range that each axis uses, per m/s or rad/s."""
        found = []
        for output in self.outputs:
            a, b, c, d = (share / full for share, full in zip(output.shares, self.full, strict=True))
            for side, room in ((1.0, output.high - output.offset), (-1.0, output.offset - output.low)):
                share = side / max(room, _NO_ROOM)
                found.append((a * share, b * share, c * share, d * share))
        return tuple(found)

    @cached_property
    def couples(self) -> bool:
        """Whether a command along one axis also moves it along another."""
        made = [self.possible(*(float(axis == one) for axis in range(4))) for one in range(4)]
        return any(abs(part) > 1e-9 for one, parts in enumerate(made) for axis, part in enumerate(parts) if axis != one)

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return each output; within its limits where the velocity is within reach."""
        axes = [axis / full for axis, full in zip((vx, vy, vz, yaw_rate), self.full, strict=True)]
        return {output.name: output.offset + weighted(output.shares, axes) for output in self.outputs}

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity that fits the outputs best."""
        changes = [actuators[output.name] - output.offset for output in self.outputs]
        vx, vy, vz, yaw_rate = (full * weighted(row, changes) for row, full in zip(self._back, self.full, strict=True))
        return vx, vy, vz, yaw_rate

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the load of the output nearest to its limit, from its offset to there."""
        if type(vx) is float and type(vy) is float and type(vz) is float and type(yaw_rate) is float:
            ways = [a * vx + b * vy + c * vz + d * yaw_rate for a, b, c, d in self._ways]
            return max(0.0, *ways)
        most = 0.0 * vx
        for output, value in zip(self.outputs, self.inverse(vx, vy, vz, yaw_rate).values(), strict=True):
            change = value - output.offset
            for way, room in ((change, output.high - output.offset), (-change, output.offset - output.low)):
                most = larger(most, way / max(room, _NO_ROOM))
        return most

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each output."""
        return {output.name: Bounds(output.low, output.high, Quantity.SHARE) for output in self.outputs}

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out the axes that no output uses."""
        axes = [axis / full for axis, full in zip((vx, vy, vz, yaw_rate), self.full, strict=True)]
        parts = [full * weighted(row, axes) for row, full in zip(self._projection, self.full, strict=True)]
        for axis, side in self._blocked:
            parts[axis] = side * larger(side * parts[axis], 0.0 * parts[axis])
        x, y, z, turn = parts
        return x, y, z, turn


_SHARE = "a number from -1 to 1"


@dataclass(frozen=True, kw_only=True)
class MixRow:
    """``[chassis.outputs.NAME]``: the shares of one output."""

    forward: float = option(_SHARE, 0.0, low=-1.0, high=1.0)
    sideways: float = option(_SHARE, 0.0, low=-1.0, high=1.0)
    up: float = option(_SHARE, 0.0, low=-1.0, high=1.0)
    turn: float = option(_SHARE, 0.0, low=-1.0, high=1.0)
    offset: float = option(_SHARE, 0.0, low=-1.0, high=1.0)
    low: float = option(_SHARE, -1.0, low=-1.0, high=1.0)
    high: float = option(_SHARE, 1.0, low=-1.0, high=1.0)

    def output(self, name: str) -> MixOutput:
        """Return the output of this table."""
        shares = (self.forward, self.sideways, self.up, self.turn)
        return MixOutput(name, shares, self.offset, self.low, self.high)


def row_errors(key: str, rows: Mapping[str, MixRow]) -> Iterator[Finding]:
    """Refuse an output whose offset is outside its own limits; ``key`` is that of the table."""
    for name, row in rows.items():
        if not row.low < row.high:
            yield unexpected(f"{key}.{name}.low", f"less than high, {row.high:g}", f"{row.low:g}")
        elif not row.low <= row.offset <= row.high:
            yield unexpected(f"{key}.{name}.offset", f"from {row.low:g} to {row.high:g}", f"{row.offset:g}")


@dataclass(frozen=True, kw_only=True)
class LinearMixOptions(VehicleOptions):
    """A matrix from shares of the axes to outputs."""

    kind: ClassVar[str] = "linear_mix"
    picture: ClassVar[tuple[str, ...]] = ("a --> 1", " \\/    ", "b --> 2")
    full_is_known: ClassVar[bool] = False
    beginning: ClassVar[Beginning | None] = Beginning(
        "outputs.left = { forward = 1.0, turn = -0.5 }    # shares of the full forward speed and turn\n"
        "outputs.right = { forward = 1.0, turn = 0.5 }\n"
    )
    outputs: dict[str, MixRow] = option("tables [chassis.outputs.NAME]", fewest=1)

    def errors(self) -> Iterator[Finding]:
        """Refuse an output whose offset is outside its own limits."""
        yield from super().errors()
        yield from row_errors("outputs", self.outputs)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return LinearMix(tuple(row.output(name) for name, row in self.outputs.items()), full)
