"""The inputs other than drivers: distance sensors, inhibits, measured speeds."""

from __future__ import annotations

from collections.abc import Mapping

from tenuto.basics.frame import Frame, frames_in
from tenuto.basics.reasons import Code, Reason
from tenuto.driving.distance import Distance
from tenuto.driving.inhibits import Inhibit
from tenuto.driving.limits import ramp_to_stop
from tenuto.driving.measured import Measured
from tenuto.driving.plan import Plan
from tenuto.driving.stopping import least_braking
from tenuto.vehicles.velocity import VelocityCommand

_OWN_CODES = (Code.INHIBITED, Code.INHIBIT_SILENT, Code.SPEED_WRONG)


class Inputs:
    """The state of the inputs of one robot.

    Attributes:
        lowers: some of them lower a speed. watches: some of them need the command.
        left: the share of all speeds that the inhibits permit now, 0…1.
    """

    def __init__(self, plan: Plan) -> None:
        self._distances = tuple(Distance(one) for one in plan.distances)
        self._inhibits = tuple(Inhibit(one) for one in plan.inhibits)
        self._measured = tuple(Measured(one) for one in plan.measured)
        self._all: tuple[Distance | Inhibit | Measured, ...] = (*self._distances, *self._inhibits, *self._measured)
        # Those that need the commands.
        self._followed: tuple[Distance | Measured, ...] = (*self._distances, *self._measured)
        self.lowers = bool(self._distances or self._inhibits)
        self.watches = bool(self._distances or self._measured)
        self._braking, self._period = least_braking(plan), plan.period
        self.left = 1.0
        # An inhibit permits less of the speeds than at the last tick.
        self.tightens = False
        # The stop category of the faults of this tick; None for that of any fault.
        self._category: int | None = None

    def hear(self, first: Frame | None, others: Mapping[str, Frame]) -> None:
        """Take the frames of this tick: that of the first in rank, and those of separate sources, by name."""
        for one in self._all:
            place = one.plan.heard_from
            frame = first if place is None else others.get(place)
            one.hear(frames_in(frame) if frame is not None else ())

    def faults(self, now: float, powered: bool) -> tuple[Reason, ...]:
        """List the reasons to stop; ``now`` in s. A measured speed is compared while the outputs have power."""
        found: list[Reason] = []
        categories: list[int] = []
        for inhibit in self._inhibits:
            category = inhibit.plan.category
            if category is not None and (reason := inhibit.reason(now)) is not None:
                found.append(reason)
                categories.append(category)
        for measured in self._measured:
            reason = measured.reason(now)
            if reason is not None and reason.code == Code.SPEED_UNKNOWN:
                found.append(reason)
            elif reason is not None and powered:
                found.append(reason)
                categories.append(0)
        self._category = min(categories, default=None)
        return tuple(found)

    def category(self, faults: tuple[Reason, ...], usual: int) -> int | None:
        """Return the stop category of all faults of this tick; None for that of any fault.

        Args:
            faults: of this tick, those of the inputs among them. usual: the category of any fault.
        """
        if self._category is not None and any(fault.code not in _OWN_CODES for fault in faults):
            return min(self._category, usual)
        return self._category

    def lower(self, demand: VelocityCommand, now: float) -> tuple[VelocityCommand, tuple[Reason, ...]]:
        """Reduce a demand to the limits of inhibits and distance sensors, on the same arc, with the reasons."""
        slowing = [(one.plan.share, one.reason(now)) for one in self._inhibits if one.plan.category is None]
        why = tuple(reason for _, reason in slowing if reason is not None)
        slow = min((share for share, reason in slowing if reason is not None), default=1.0)
        self.tightens, self.left = slow < self.left, slow
        if slow < 1.0:
            demand = VelocityCommand(*(slow * axis for axis in demand))
        kept = 1.0
        for sensor in self._distances:
            share, reason = sensor.lower(demand, now, self._braking, self._period)
            kept = min(kept, share)
            if reason is not None:
                why += (reason,)
        if kept < 1.0:
            demand = VelocityCommand(*(kept * axis for axis in demand))
        return demand, why

    def brake(
        self, before: VelocityCommand, command: VelocityCommand, now: float, dt: float
    ) -> tuple[VelocityCommand, tuple[Reason, ...]]:
        """Brake on the arc if a new command could no longer be stopped in time, whatever the ramps do.

        Args:
            before: the command of the tick before. command: the new one. now, dt: s.
        """
        for sensor in self._distances:
            if sensor.too_fast(command, now, self._braking, self._period):
                return ramp_to_stop(before, dt, *self._braking), (sensor.brakes(now),)
        return command, ()

    def sent(self, command: VelocityCommand, now: float) -> None:
        """Record the command of this tick; ``now`` in s."""
        for one in self._followed:
            one.sent(command, now)
