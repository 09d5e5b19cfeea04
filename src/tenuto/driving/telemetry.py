"""Telemetry: the report of a far end, which is an autopilot, a firmware or a remote robot."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any, NamedTuple

from tenuto.basics.text import joined, parted

_NOT_SAID: Mapping[str, float] = {}


class Telemetry(NamedTuple):
    """The newest report of one far end. A missing value is None, NaN or empty.

    Attributes:
        time: when the newest part of it was received, s on the clock of the ticks; −inf before the first.
        says: the names of the attributes that this kind of far end can report.
        follows: it follows commands now. state: its own name of its state, such as "driving" or "latched".
        reasons: why it does not follow, and its other messages.
        armed: its motors are armed. mode: the name of its mode. flying: it is in the air.
        height: above the origin of its position, m. x, y: its position, m; at the origin it faces along x.
        heading: rad from x, to the left.
        vx, vy, vz, yaw_rate: measured, along its own axes, m/s and rad/s; forward, left and up are positive.
        wheels: name → measured speed, rad/s. distances: name → m.
        voltage: of its battery, V. charge: of its battery, 0…1.
        round_trip: from our message to its answer, s. loss: the share of recent messages that were lost, 0…1.
        waiting: how long sent bytes wait in our own port, s.
        bears: the share of lost commands with which it stops once in ten minutes on average, 0…1.
    """

    time: float = -math.inf
    says: frozenset[str] = frozenset()
    follows: bool | None = None
    state: str = ""
    reasons: tuple[str, ...] = ()
    armed: bool | None = None
    mode: str = ""
    flying: bool | None = None
    height: float = math.nan
    x: float = math.nan
    y: float = math.nan
    heading: float = math.nan
    vx: float = math.nan
    vy: float = math.nan
    vz: float = math.nan
    yaw_rate: float = math.nan
    wheels: Mapping[str, float] = _NOT_SAID
    distances: Mapping[str, float] = _NOT_SAID
    voltage: float = math.nan
    charge: float = math.nan
    round_trip: float = math.nan
    loss: float = math.nan
    waiting: float = math.nan
    bears: float = math.nan

    def number(self, name: str) -> float:
        """Return a number by its name, ``voltage`` or ``distances.front``; NaN if it was not reported."""
        what, _, one = name.partition(".")
        value = getattr(self, what) if what in _NUMBERS else math.nan
        found = value.get(one, math.nan) if isinstance(value, Mapping) else value
        return float(found) if isinstance(found, (int, float)) else math.nan

    def age(self, now: float) -> float:
        """Return how long it has been silent, s; ``now`` in s."""
        return now - self.time

    def in_words(self, now: float) -> str:
        """Describe all of it in a line; ``now`` in s."""
        if not math.isfinite(self.time):
            return "nothing heard yet"
        said = [f"silent for {self.age(now):.1f} s"] if self.age(now) > _SILENT else []
        said += [self.state] if self.state else []
        said += ["does not follow"] if self.follows is False else []
        said += [f"mode {self.mode}"] if self.mode else []
        said += ["armed"] if self.armed else []  # "not armed" is one of the reasons
        said += ["in the air"] if self.flying else []
        said += [f"{self.voltage:.1f} V"] if math.isfinite(self.voltage) else []
        said += [f"{100.0 * self.charge:.0f} % charged"] if math.isfinite(self.charge) else []
        # The state of the link comes before measurements: a small view cuts the end.
        said += [f"answers in {1000.0 * self.round_trip:.0f} ms"] if math.isfinite(self.round_trip) else []
        said += [f"{100.0 * self.loss:.0f} % lost{self._borne}"] if math.isfinite(self.loss) else []
        said += [f"{1000.0 * self.waiting:.0f} ms in our port"] if self.waiting > _SILENT / 10.0 else []
        said += [f"height {self.height:.1f} m"] if abs(self.height) > _SOME_HEIGHT else []
        said += [text.format(getattr(self, name)) for name, text in _SHOWN if math.isfinite(getattr(self, name))]
        said += [
            f"{name} {math.degrees(speed):+z.0f} deg/s" for name, speed in self.wheels.items() if math.isfinite(speed)
        ]
        said += [f"{name} {metres:.2f} m" for name, metres in self.distances.items() if math.isfinite(metres)]
        return ", ".join([*said, *self.reasons])

    @property
    def _borne(self) -> str:
        if not self.loss > 0.005 or math.isnan(self.bears):
            return ""
        return f" (tolerates {'only ' if self.loss > self.bears else ''}{100.0 * self.bears:.0f} %)"

    def as_row(self, name: str) -> Iterator[tuple[str, float | int | str]]:
        """Return a column for each value that it can report: ``far.NAME.WHAT`` and its value; yes is 1, and no is 0."""
        yield f"far.{name}.time", self.time if math.isfinite(self.time) else math.nan
        for what, column in _columns(name, self.says):
            value = getattr(self, what)
            if what in _BY_NAME:
                yield from ((f"{column}.{one}", number) for one, number in value.items())
            elif what == "reasons":
                yield column, joined(value)
            else:
                yield column, _cell(what, value)


@lru_cache(maxsize=64)  # they are the same at every tick of a drive
def _columns(name: str, says: frozenset[str]) -> tuple[tuple[str, str], ...]:
    return tuple((what, f"far.{name}.{what}") for what in _IN_ORDER if what in says)


# All that a far end may report; what a link tolerates is computed here.
EVERYTHING = frozenset(Telemetry._fields) - {"time", "says", "bears"}
_IN_ORDER = tuple(name for name in Telemetry._fields if name not in ("time", "says"))
# A silence of this length is shown, s.
_SILENT = 1.0
# An older report is not valid any more, s. Heartbeats of autopilots come once a second.
SILENT_AFTER = 3.0
_BY_NAME = ("wheels", "distances")
# A vehicle up to this height stands on the ground, m.
_SOME_HEIGHT = 0.05
_SHOWN = (("x", "x {:+z.1f} m"), ("y", "y {:+z.1f} m"), ("vx", "{:+z.2f} m/s ahead"))
# The names for `Telemetry.number`: single numbers, and groups of several; yes and no are 1 and 0.
_NUMBERS = frozenset(Telemetry._fields) - {"time", "says", "state", "reasons", "mode"}
_TEXTS = ("state", "reasons", "mode")
_YES_OR_NO = ("follows", "armed", "flying")
FarEnds = Mapping[str, Telemetry]
NO_FAR_ENDS: FarEnds = {}
NOTHING_HEARD = Telemetry()


def far_ends_of(cells: Mapping[str, float | str]) -> FarEnds:
    """Return the far ends from their columns, without ``far.``; a value without a column was not reported."""
    found: dict[str, dict[str, Any]] = {}
    for column, value in cells.items():
        name, what, *one = column.split(".", 2)
        said = found.setdefault(name, {})
        if one:
            said.setdefault(what, {})[one[0]] = value
        else:
            said[what] = _value(what, value)
    return {name: Telemetry(**said, says=frozenset(said) - {"time"}) for name, said in found.items()}


def is_text(column: str) -> bool:
    """Return whether a column of `Telemetry.as_row` holds text."""
    return column.startswith("far.") and column.rpartition(".")[2] in _TEXTS and column.count(".") == 2


def _value(what: str, cell: float | str) -> Any:
    if what in _YES_OR_NO:
        return None if math.isnan(float(cell)) else bool(cell)
    if what == "reasons":
        return parted(str(cell))
    return -math.inf if what == "time" and math.isnan(float(cell)) else cell


def _cell(what: str, value: float | str | bool | None) -> float | int | str:
    if what in _YES_OR_NO:
        return math.nan if value is None else int(bool(value))
    return value if isinstance(value, str) else float(value if value is not None else math.nan)
