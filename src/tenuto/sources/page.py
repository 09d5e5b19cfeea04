"""A page in a browser: sticks under the thumbs, a gamepad of the laptop, keys, the tilt of a phone."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, replace
from typing import ClassVar

from tenuto.basics.errors import SourceError
from tenuto.basics.findings import Finding
from tenuto.basics.frame import Frame, LinkCounts, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Aligned, Timer
from tenuto.driving.asks import Asks
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.links.page import PageServer, PageSettings
from tenuto.protocols.page import LAYOUT, FromServer, Seat, infos_for
from tenuto.sources.base import HeldOptions, Source

# The most messages of the server that wait for the loop: those of some seconds.
_MOST_WAITING = 300


class PageSource(Source):
    """Drives from a page in a browser. In a profile with another source it replaces that device.

    Attributes:
        server: serves the page.
    """

    exact = True
    identity = "page"

    def __init__(self, settings: PageSettings, clock: Timer) -> None:
        """Serve the page.

        Raises:
            SourceError: the port is in use. MissingPackageError: a package for the server is not installed.
        """
        self._seat = Seat()
        self._heard: deque[tuple[float, FromServer]] = deque(maxlen=_MOST_WAITING)
        self._waiting: deque[Frame] = deque(maxlen=_MOST_WAITING)
        self._aligned = Aligned(clock.now)
        self.server = PageServer(settings, SourceError, lambda at, said: self._heard.append((at, said)), clock=clock)
        self.name = f"page at {self.server.url}"
        self._absent = f'nobody drives from the page: open {self.server.url}, press "Drive from here"'

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe its own controls, for use without a drive: those of a gamepad."""
        return LAYOUT

    def controls_for(self, plan: Plan, driver: str) -> tuple[ControlInfo, ...]:
        """Describe the controls of the device that it replaces."""
        return infos_for(plan, driver)

    def join(self, plan: Plan, driver: str, asks: Asks) -> None:
        """Replace the device of a driver; the page gets the sticks and buttons that the driver needs."""
        self.server.asks = asks
        self._seat.stand_in(plan, driver)
        self.server.change(plan, driver)

    def introduce(self, robot: str, way: str, file: str) -> None:
        """Take the robot's name, the way of its commands, and the file for saved settings."""
        self.server.title, self.server.origin, self.server.file = robot, way, file

    def tell(self, tick: Tick) -> None:
        """Take the newest tick for the page."""
        self.server.show(tick)

    def counts(self) -> LinkCounts:
        """Describe the number of frames that were good, that reported no driver, and that came too late."""
        return self._seat.counts

    def poll(self, now: float) -> Frame | None:
        """Return the newest frame of the driving page, or a bad frame if that page has left."""
        if self.server.gone:
            return Frame(now, self._seat.at_rest(), False, "the page's server has ended: start the drive again")
        while self._heard:
            self._look(*self._heard.popleft(), now)
        if self._waiting and not self._waiting[0].link_good:
            frame = self._waiting.popleft()
            self._absent = frame.note
            return frame
        if not self._waiting and self._absent:
            # Repeated at every tick: there is no driver until one takes the seat.
            return Frame(now, self._seat.at_rest(), False, self._absent, counts=self._seat.counts)
        self._absent = ""
        frames = []
        while self._waiting and self._waiting[0].link_good:
            frames.append(self._waiting.popleft())
        return with_earlier(frames)

    def _look(self, came: float, said: FromServer, now: float) -> None:
        """Keep the frames that count among the server's messages.

        If the driver has left the page, all controls are released first: this stops the robot even if the guard
        tolerates a bad link for a while.
        """
        at, seat = self._aligned.at(came, now), self._seat
        if said.kind == "gone":
            frame = Frame(at, seat.at_rest(), False, said.why, counts=seat.counts)
        else:
            taken = seat.take(said.client, said.frame, came) if said.frame is not None else None
            if taken is None:
                return
            frame = taken._replace(time=at)
        if not frame.link_good:
            frame = frame._replace(values=seat.at_rest())
            self._waiting.append(frame._replace(link_good=True, note=""))
        self._waiting.append(frame)

    def close(self) -> None:
        """Stop serving."""
        self.server.close()


@dataclass(frozen=True, kw_only=True)
class PageOptions(HeldOptions, PageSettings):
    """A page in a browser, on this machine or on a phone."""

    kind: ClassVar[str] = "page"
    layout: ClassVar[tuple[ControlInfo, ...]] = LAYOUT
    steps: ClassVar[int] = 200

    def errors(self) -> list[Finding]:
        """List options that contradict each other."""
        return self.misfits()

    def another(self) -> PageOptions:
        """Return a page for another driver: on any free port."""
        return replace(self, port=0)

    def open(self, clock: Timer) -> Source:
        """Serve the page."""
        return PageSource(self.settings(), clock)
