"""A tick: the output of every stage of the pipeline at one moment.

The live view, the log, the figures and the answer to "why does it not move?" are made from ticks.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.frame import Frame
from tenuto.basics.html import html_table
from tenuto.basics.reasons import Code, Reason
from tenuto.basics.text import joined
from tenuto.driving.guard import GuardStatus, State
from tenuto.driving.selection import Chosen
from tenuto.driving.telemetry import NO_FAR_ENDS, FarEnds
from tenuto.styles.mixing import Intent
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    from tenuto.driving.explain import Explanation
    from tenuto.driving.plan import Planned


@lru_cache(maxsize=256)  # they are the same at every tick of a pipeline
def _columns(stage: str, names: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(f"{stage}.{name}" for name in names)


def is_whole(column: str) -> bool:
    """Return whether a column of `Tick.as_row` holds whole numbers, and never NaN."""
    return column in ("new_frame", "power", "send") or column.startswith("switch.")


class Hand(NamedTuple):
    """Where one of several drivers holds the sticks.

    Attributes:
        frame: the newest, good or bad, or None before the first. fresh: a good one came with this tick.
        positions: control → position in the newest good frame. held: hold-to-run is complete; None before a frame.
    """

    frame: Frame | None
    fresh: bool
    positions: Mapping[str, float]
    held: bool | None


class Tick(NamedTuple):
    """One step of the pipeline. It shares only immutable values with the next tick.

    Attributes:
        time: seconds on the clock that was passed in.
        dt: the time step of the ramps in s: since the previous tick, or one period
            if the clock was not plausible.
        frame: the newest frame, good or bad, or None before the first.
        new_frame: whether that frame came with this tick.
        raw: control name → raw number of that frame; NaN if it has none.
        positions: control name → position of its travel, −1…1 (0…1 for one that rests at its end).
        shaped: control name → after dead zone, curve, smoothing and trim, −1…1.
        intent: shares of the robot's speeds.
        demand: the velocity that the driver asks for.
        guard: state and reasons.
        target: the target of the command: the demand, reduced on the same arc to what the chassis can do;
            standstill unless driving.
        command: the velocity that is sent.
        actuators: the value of each wheel, joint or thruster for it, name → rad/s, rad, N or a share.
        chosen: mode, rates, speed level, trims, and the positions of the switches.
        outputs: output name → level, −1…1.
        actions: the names of those that were fired at this tick.
        wire: the numbers that are sent for it, name → number, if the profile sets their form.
        power: whether the outputs may have power; off after a stop of category 0 or 1.
        valid_for: how long the command is valid, s: its receiver must stop by itself if no other came by then.
        send: whether the command is sent at all; False leaves the robot to the far end's own failsafe.
        notices: other messages for the driver: why an action was refused, or why a stick does nothing yet.
        driver: who drives, or would. For a script, the controls are those of the first in rank. A control
            or switch that this driver does not have, such as a permit, is that of the first in rank who has it.
        far: far end → its last report; empty if none can answer.
        hands: driver → the positions of the sticks; empty if there is only one driver.
    """

    time: float
    dt: float
    frame: Frame | None
    new_frame: bool
    raw: Mapping[str, float]
    positions: Mapping[str, float]
    shaped: Mapping[str, float]
    intent: Intent[float]
    demand: VelocityCommand
    guard: GuardStatus
    target: VelocityCommand
    command: VelocityCommand
    actuators: Mapping[str, float]
    chosen: Chosen = Chosen()
    outputs: Mapping[str, float] = {}
    actions: tuple[str, ...] = ()
    notices: tuple[Reason, ...] = ()
    wire: Mapping[str, float] = {}
    power: bool = True
    valid_for: float = math.inf
    send: bool = True
    driver: str = ""
    hands: Mapping[str, Hand] = {}
    far: FarEnds = NO_FAR_ENDS

    @property
    def state(self) -> str:
        """The guard's state in words; "driving, not followed" if the far end does not follow."""
        state = self.guard.state
        stands = state is State.DRIVING and any(notice.code == Code.FAR_END_STANDS for notice in self.notices)
        return f"{state}, not followed" if stands else str(state)

    def explain(self, planned: Planned) -> Explanation:
        """Explain this moment in words and numbers, with the profile or plan of the tick.

        ``print(tick.explain(profile))`` shows it; see `tenuto.driving.explain`. The ticks of `tenuto.replay` know their
        profile: ``print(ticks.at(26.6).explain())``.
        """
        from tenuto.driving.explain import explain

        return explain(self, planned)

    def _repr_html_(self) -> str:
        def numbers(values: Mapping[str, float]) -> str:
            return ", ".join(f"{name} {value:+.3g}" for name, value in values.items())

        rows = [
            ("raw", numbers(self.raw)), ("positions", numbers(self.positions)), ("shaped", numbers(self.shaped)),
            *((stage, numbers(getattr(self, stage)._asdict())) for stage in ("intent", "demand", "target", "command")),
            ("actuators", numbers(self.actuators)),
            ("why", "; ".join(reason.text for reason in (*self.guard.reasons, *self.notices))),
        ]  # fmt: skip
        return html_table(f"{self.time:.2f} s: {self.guard.state}", rows)

    def as_row(self) -> dict[str, float | int | str]:
        """Flatten the tick for a log or a table: ``stage.name`` → value, SI units.

        The columns are the same for every tick of a pipeline, controls in the order of the profile. Only a far end may
        add its wheels and distances later.
        Several reasons, actions or notices are joined as by `tenuto.basics.text.joined`. ``frame_age`` is NaN before
        the first frame.
        """
        row: dict[str, float | int | str] = {
            "time": self.time,
            "dt": self.dt,
            "new_frame": int(self.new_frame),
            "frame_age": math.nan if self.frame is None else self.time - self.frame.time,
        }
        signal = self.frame.signal if self.frame is not None else None
        row["link.quality"], row["link.rssi"] = (signal.quality, signal.rssi) if signal else (math.nan, math.nan)
        counts = self.frame.counts if self.frame is not None else None
        row["link.bad"], row["link.lost"] = (counts.bad, counts.lost) if counts else (math.nan, math.nan)
        for stage, values in (("raw", self.raw), ("position", self.positions), ("shaped", self.shaped)):
            row.update(zip(_columns(stage, tuple(values)), values.values(), strict=True))
        for stage in ("intent", "demand", "target", "command"):
            axes = getattr(self, stage)
            row.update(zip(_columns(stage, axes._fields), axes, strict=True))
        chosen = self.chosen
        more = {"actuators": self.actuators, "wire": self.wire, "output": self.outputs, "trim": chosen.trims}
        for stage, numbers in (*more.items(), ("switch", chosen.switches)):
            row.update(zip(_columns(stage, tuple(numbers)), numbers.values(), strict=True))
        row["driver"] = self.driver
        row["mode"], row["rates"], row["level"] = chosen.mode, chosen.rates, chosen.level
        row["steering"], row["rear_share"] = chosen.steering, chosen.rear_share
        row["power"], row["send"] = int(self.power), int(self.send)
        row["actions"] = joined(self.actions)
        row["notices"] = joined(notice.text for notice in self.notices)
        row["notice_codes"] = "; ".join(notice.code for notice in self.notices)
        row["guard.state"] = str(self.guard.state)
        row["guard.codes"] = "; ".join(reason.code for reason in self.guard.reasons)
        row["guard.reasons"] = joined(reason.text for reason in self.guard.reasons)
        for name, one in self.far.items():
            row.update(one.as_row(name))
        return row
