"""Questions for a stick, a button or a switch, answered by moving it."""

from __future__ import annotations

import select
import sys
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.binding import Listener, Meant, Unclear
from tenuto.cli.clock import the_clock
from tenuto.cli.console import results
from tenuto.cli.watch import Watch, show_on
from tenuto.clock import Clock, SimulatedClock
from tenuto.sources import Source
from tenuto.styles.base import Asked, StyleOptions
from tenuto.vehicles.base import Chassis

if TYPE_CHECKING:
    from tenuto.links.page import PageServer


class Role(NamedTuple):
    """A purpose for which a control is asked.

    Attributes:
        name: of the control in a new profile.
        prompt: the instruction.
        key: the path in [style] of the key that names the control; empty if it is not part of a style.
        other_way: the instruction for the opposite direction, if a one-way trigger or button was used.
        optional: whether it may be left out. speed: see `Ask`.
        stays: whether the control may keep its position.
    """

    name: str
    prompt: str
    key: tuple[str, ...] = ()
    other_way: str = ""
    optional: bool = False
    stays: bool = False
    speed: str = ""


def _role(asked: Asked) -> Role:
    """Ask for a stick that is pushed in one direction, or two controls, one for each direction."""
    key, ask, optional = asked
    end = "all the way, and release it"
    if not ask.other:
        return Role(
            ask.name, f"press the control that should {ask.way}, {end}", key, optional=optional, speed=ask.speed
        )
    other = f"press the control that should {ask.other}, all the way, and release it"
    way = f"push the stick in the direction that should {ask.way}, {end}"
    return Role(ask.name, way, key, other, optional, speed=ask.speed)


def style_roles(style: type[StyleOptions], chassis: Chassis) -> tuple[Role, ...]:
    """List the roles for a style of a vehicle; none if it can only be written by hand."""
    return tuple(_role(asked) for asked in style.asks(chassis))


# The number of attempts for a gesture that is not understood: a stick that is never still must not ask for ever.
_MOST_UNCLEAR = 10
WAYS = Role("ways", "press the control that should change the steering mode", optional=True)
HOLD = Role("hold", "press the control that must be HELD to drive, for a moment, and release it", optional=True)
SWITCH = Role("start", "flip or press the control that switches driving ON and off", optional=True, stays=True)
STOP = Role("stop", "flip or press the control that STOPS everything", optional=True, stays=True)
PACE = Role("pace", "press the control that should change between slow and fast", optional=True)


class Asker:
    """Asks for one role after another, on one device.

    Attributes:
        found: role → its control; for an axis of two controls, the second is ``ROLE_minus``.
        ends: control → its lowest, highest and first number.
    """

    def __init__(
        self, source: Source, infos: tuple[ControlInfo, ...], stopped: list[int], *, wait: float, fast: bool,
        pages: Sequence[PageServer] = (),
    ) -> None:  # fmt: skip
        """Read a source; ``fast`` for a recording, which has its own time. Ask on pages too."""
        self._infos, self._stopped, self._wait = infos, stopped, wait
        self._pages, self._watch, self._asked = pages, Watch(source, {}), "Release everything."
        self._listener = Listener(infos)
        self._frames = self._coming(source, fast)
        self._talks = not fast and sys.stdin.isatty()
        self.found: dict[str, Meant] = {}
        self.ends: dict[str, tuple[float, float, float]] = {}

    def know(self, found: dict[str, Meant]) -> None:
        """Take earlier answers."""
        self.found |= found
        self._listener.taken |= {meant.control for meant in found.values()}

    def ask(self, role: Role) -> bool:
        """Ask for an unknown role; return whether it got a control. Raises if a required one did not."""
        if role.name in self.found:
            return True
        self._say(role.prompt, role.optional)
        answer = self._listen(role)
        if answer is None:
            if not role.optional:
                raise SourceError(f"no gesture came for {role.name}: nothing was written")
            return False
        self._take(role.name, answer, "")
        kind = next(info.kind for info in self._infos if info.name == answer.control)
        if role.other_way and kind != "stick":
            self._say(role.other_way, False)
            other = self._listen(role._replace(prompt=role.other_way))
            if other is not None:
                self._take(f"{role.name}_minus", other, "; the two form one axis")
        return True

    def go_to_ends(self, names: list[str], seconds: float) -> None:
        """Ask to move the controls to all their ends, if the device does not report these."""
        self._print(f"Now move {' and '.join(names)} to both ends, slowly, three times, and release.")
        began = None
        for frame in self._frames:
            began = frame.time if frame is not None and began is None else began
            if frame is not None and began is not None and frame.time - began > seconds:
                return

    def _take(self, name: str, meant: Meant, more: str) -> None:
        self.found[name] = meant
        self._listener.taken.add(meant.control)
        self._print(f"  understood: {meant.control}{more}", "green")

    def _say(self, prompt: str, optional: bool) -> None:
        skip = "" if not optional else "; Enter for none" if self._talks else "; or wait for none"
        self._print(f"Now {prompt}{skip}.")

    def _print(self, text: str, style: str = "") -> None:
        """Show a text in the terminal, and on the pages."""
        results.print(text, style=style, soft_wrap=True)
        self._asked = text.strip()

    def _listen(self, role: Role) -> Meant | None:
        began, unclear = None, 0
        for frame in self._frames:
            if role.optional and self._talks and select.select([sys.stdin], [], [], 0)[0]:
                sys.stdin.readline()
                return None
            if frame is None:
                continue
            began = frame.time if began is None else began
            answer = self._listener.feed(frame, stays=role.stays)
            if isinstance(answer, Meant):
                return answer
            if isinstance(answer, Unclear):
                self._print(f"  {answer.why}. Again: {role.prompt}.", "yellow")
                began, unclear = frame.time, unclear + 1
            if frame.time - began > self._wait or unclear > _MOST_UNCLEAR:
                return None
        if self._stopped:
            raise KeyboardInterrupt
        return None

    def _coming(self, source: Source, fast: bool) -> Iterator[Frame | None]:
        """Yield the frames of a source as they arrive, and None while none does."""
        clock: Clock = SimulatedClock() if fast else the_clock.get()
        start = clock.now()
        while not self._stopped and not source.finished:
            now = clock.now() - start
            frame = self._watch.poll(now)
            show_on(self._pages, self._watch, {"step": 3, "prompt": self._asked})
            for name, value in frame.values.items() if frame is not None and frame.link_good else ():
                low, first, high = self.ends.get(name, (value, value, value))
                self.ends[name] = min(low, value), first, max(high, value)
            yield frame
            clock.sleep_until(start + now + (0.01 if fast else 0.005))
