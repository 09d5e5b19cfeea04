"""A page in a browser that shows a drive whose sticks are elsewhere. Its emergency stop stops the robot."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.errors import SinkError
from tenuto.basics.findings import Finding
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.links.page import SEND_EVERY, PageServer, PageSettings
from tenuto.sinks.base import Sink, SinkOptions


class PageSink(Sink):
    """Shows a drive in a browser.

    Attributes:
        server: serves the page.
    """

    period = SEND_EVERY

    def __init__(self, settings: PageSettings) -> None:
        """Serve the page.

        Raises:
            SinkError: the port is in use. MissingPackageError: a package for the server is not installed.
        """
        self.server = PageServer(settings, SinkError, lambda at, said: None, seat=False)
        self.name = f"page at {self.server.url}"

    @property
    def problem(self) -> str:
        """Report that the page is no longer served."""
        return f"{self.name}: its server has ended" if self.server.gone else ""

    def introduce(self, robot: str, way: str, file: str) -> None:
        """Take the robot's name, the way of its commands, and the file for saved settings."""
        self.server.title, self.server.origin, self.server.file = robot, way, file

    def start(self, plan: Plan) -> None:
        """Take the plan of the robot."""
        self.server.asks = self.asks
        self.server.change(plan)

    def write(self, tick: Tick) -> None:
        """Show a tick."""
        self.server.show(tick)

    def stop(self, tick: Tick) -> None:
        """Show the stop."""
        self.server.show(tick)

    def close(self) -> None:
        """Stop serving."""
        self.server.close()


@dataclass(frozen=True, kw_only=True)
class PageSinkOptions(PageSettings, SinkOptions):
    """A page in a browser that shows the drive."""

    kind: ClassVar[str] = "page"

    def turns(self, plan: Plan) -> None:
        """Return None: it moves nothing."""

    def errors(self, actions: Collection[str]) -> list[Finding]:
        """List options that contradict each other."""
        return self.misfits()

    def open(self) -> Sink:
        """Serve the page."""
        return PageSink(self.settings())
