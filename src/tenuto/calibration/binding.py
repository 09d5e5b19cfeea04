"""Which control was meant? The one that moves while everything else rests."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo

# Shares of the way from rest to an end: of a movement, of a meant one, and of another one that is as large.
_NOTICED, _MEANT, _ALIKE = 0.2, 0.6, 0.5
# Everything must be still for this time before and after, s.
_STILL_SECONDS = 0.4


@dataclass(frozen=True, slots=True)
class Meant:
    """The control that was moved: its name, and whether its raw number rose or fell."""

    control: str
    rising: bool


@dataclass(frozen=True, slots=True)
class Unclear:
    """Why the meant control is unclear, as a text for the person who moved it."""

    why: str


@dataclass
class Listener:
    """Detects one gesture after another: rest, a movement, rest again. Feed it frames; it returns results.

    Attributes:
        taken: controls that have a function already and cannot be meant again.
    """

    infos: tuple[ControlInfo, ...]
    taken: set[str] = field(default_factory=set)
    _rest: dict[str, float] = field(default_factory=dict)
    _last: dict[str, float] = field(default_factory=dict)
    _furthest: dict[str, float] = field(default_factory=dict)
    _still_since: float = math.nan
    _moving: bool = False

    def feed(self, frame: Frame, *, stays: bool = False) -> Meant | Unclear | None:
        """Take a frame; return a result when a gesture has ended, else None.

        Args:
            frame: the next one.
            stays: the control is a switch that may keep its position; otherwise all must return to rest.
        """
        if not frame.link_good:
            return None
        jumped = any(
            abs(self._share(info, frame.values[info.name] - self._last.get(info.name, math.inf))) > 0.05
            for info in self.infos
        )
        self._last = dict(frame.values)
        if jumped or math.isnan(self._still_since):
            self._still_since = frame.time
        still = frame.time - self._still_since >= _STILL_SECONDS
        if not self._rest:
            self._rest = dict(frame.values) if still else {}
            return None
        for info in self.infos:
            away = self._share(info, frame.values[info.name] - self._rest[info.name])
            if abs(away) > abs(self._furthest.get(info.name, 0.0)):
                self._furthest[info.name] = away
        if max(map(abs, self._furthest.values()), default=0.0) > _NOTICED:
            self._moving = True
        if not (self._moving and still and (stays or self._all_back(frame))):
            return None
        answer = self._answer()
        self._rest, self._furthest, self._moving = dict(frame.values), {}, False
        return answer

    def _share(self, info: ControlInfo, change: float) -> float:
        low, high = info.travel or (0.0, 1023.0)
        return change / ((high - low) / 2.0 if info.kind == "stick" else high - low)

    def _all_back(self, frame: Frame) -> bool:
        return all(
            abs(self._share(info, frame.values[info.name] - self._rest[info.name])) < _NOTICED for info in self.infos
        )

    def _answer(self) -> Meant | Unclear:
        ordered = sorted(self._furthest.items(), key=lambda item: -abs(item[1]))
        name, most = ordered[0]
        if abs(most) < _MEANT:
            return Unclear(f"{name} moved by only {100 * abs(most):.0f} % of its travel: move it to its end")
        also = [other for other, share in ordered[1:] if abs(share) > _ALIKE * abs(most)]
        if also:
            return Unclear(f"{name} and {', '.join(also)} moved together: move one at a time, or use another control")
        if name in self.taken:
            return Unclear(f"{name} is in use already: use another control")
        return Meant(name, most > 0.0)
