"""``tenuto watch``: every control of a source live, and which one moved."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.console import Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from tenuto.basics.frame import Frame
from tenuto.cli.clock import the_clock
from tenuto.cli.console import counted, plain_numbers, print_json, results
from tenuto.cli.live import may_take_the_screen
from tenuto.cli.opened import opened_box, say_of_box, say_of_pages
from tenuto.cli.signals import ctrl_c
from tenuto.cli.words import signal_in_words
from tenuto.sources import Source, open_source
from tenuto.sources.receiver import STRANGE
from tenuto.sticks.observe import Observed, Observer
from tenuto.sticks.travel import Travel

if TYPE_CHECKING:
    from tenuto.links.page import PageServer

_POLL_SECONDS, _REFRESH_SECONDS = 0.005, 0.1
# The width of a row without its bar, and the greatest width of the bar, in characters.
_DOCTOR_SECONDS = 2.0
# After this time without a frame a source is silent, s.
_SILENT = 0.5
_ROW, _MARK, _SHORTEST_BAR, _LONGEST_BAR = 60, 13, 8, 64


class Watch:
    """An observed source: the content of the view and the table."""

    def __init__(self, source: Source, travels: dict[str, Travel]) -> None:
        self.source = source
        self.observer = Observer(source.controls(), travels)
        self.newest: Frame | None = None
        self.now = 0.0
        self.marked: list[Frame] = []
        self._told_at, self._told = 0.0, list[Text]()
        self.shown_at = -_REFRESH_SECONDS

    def poll(self, now: float) -> Frame | None:
        """Read the source."""
        self.now = now
        frame = self.source.poll(now)
        if frame is not None:
            self.newest = frame
            self.observer.add(frame)
        return frame

    def mark(self) -> None:
        """Store the numbers of this moment for the end."""
        if self.newest is not None:
            self.marked.append(self.newest._replace(time=self.now))

    def marks(self) -> Text:
        """A line per mark: the numbers of all controls that have moved at all."""
        moving = [name for name, seen in self.observer.controls.items() if seen.low < seen.high]
        lines = (
            f"mark {number} at {frame.time:.2f} s: "
            + (
                ", ".join(f"{name} {_number(frame.values[name])}" for name in moving if name in frame.values)
                or "at rest"
            )
            for number, frame in enumerate(self.marked, 1)
        )
        return Text("\n".join(lines))

    def head(self) -> Text:
        """One line: the source, its frame rate, the losses, the quality of the link."""
        rate = self.observer.look(self.now)
        counts = self.source.counts()
        text = Text.assemble((self.source.name, "bold"), f"   {rate:.0f} frames/s   ")
        text.append(f"bad {counts.bad}", style="bold red" if counts.bad else "").append("   ")
        text.append(f"lost {counts.lost}", style="bold red" if counts.lost else "")
        if self.newest is not None and self.newest.signal is not None:
            text.append(f"   {signal_in_words(self.newest.signal)}")
        if self.marked:
            text.append(f"   {counted(len(self.marked), 'mark')}", style="bold")
        return text

    def link(self) -> Text:
        """One line: does the source send?"""
        if self.newest is None:
            return Text("nothing has come yet: is it switched on, and is the kind of source right?", style="yellow")
        if self.newest.note.startswith(STRANGE):
            return Text(STRANGE, style="bold red")
        if not self.newest.link_good:
            return Text(f"link not good: {self.newest.note}", style="bold red")
        if (age := self.now - self.newest.time) > _SILENT:
            return Text(f"silent for {age:.1f} s", style="bold red")
        return Text("link good" + (f": {self.newest.note}" if self.newest.note else ""), style="green")

    def doctor(self) -> list[Text]:
        """A line for each fault that the bytes show."""
        return [Text(one, style="yellow") for one in self.source.about_line()]

    def table(self, only: int | None = None, marks: Mapping[str, str] | None = None) -> Table:
        """A row per control, with the user's marks; the one that moved most within the last second is highlighted."""
        most = self.observer.most_moved()
        room = results.width - _ROW - (_MARK if marks is not None else 0)
        length = min(max(room, _SHORTEST_BAR), _LONGEST_BAR)
        table = Table(box=None, padding=(0, 1, 0, 0), header_style="dim")
        for name in ("control", "raw", "lowest", "", "highest", "position", ""):
            table.add_column(name, justify="right" if name not in ("control", "") else "left", no_wrap=True)
        for name, seen in list(self.observer.controls.items())[:only]:
            moved = name == most
            table.add_row(
                Text(name, style="bold reverse" if moved else ""),
                _number(seen.raw),
                _number(seen.low),
                _bar(seen, moved, length),
                _number(seen.high),
                "" if math.isnan(seen.position) else f"{seen.position:+z.2f}",
                Text("◀ moved" if moved else " " * 7, style="bold yellow").append(f" {(marks or {}).get(name, '')}"),
            )
        return table

    def view(self) -> RenderableType:
        """The whole screen, cut to the size of the terminal."""
        if self.now - self._told_at >= _DOCTOR_SECONDS:
            self._told_at, self._told = self.now, self.doctor()
        room = results.height - 5 - len(self._told)
        hidden = len(self.observer.controls) - room
        usual = "Move one stick at a time. q ends, m marks, r forgets the ends, ? helps."
        more = f"{hidden} more controls below: make the terminal taller. q ends, ? helps."
        return Group(
            self.head(),
            self.link(),
            *self._told,
            Text(),
            self.table(room),
            Text(more if hidden > 0 else usual, style="dim"),
        )

    def as_page(self) -> dict[str, object]:
        """The same for a page in a browser."""
        rate, link = self.observer.look(self.now), self.link()
        silent = self.newest is None or not self.newest.link_good or self.now - self.newest.time > _SILENT
        return {
            "source": self.source.name, "link": link.plain, "good": not silent, "rate": rate,
            "moved": self.observer.most_moved(),
            "controls": {name: plain_numbers([seen.raw, seen.low, seen.high, *seen.ends])
                         for name, seen in self.observer.controls.items()},
        }  # fmt: skip

    def as_json(self) -> dict[str, object]:
        """The same as plain data."""
        rate = self.observer.look(self.now)
        return {
            "source": self.source.name, "identity": self.source.identity, "frames": self.observer.frames,
            "frames_per_second": rate, **self.source.counts()._asdict(), "most_moved": self.observer.most_moved(),
            "line": self.source.about_line(),
            "controls": {
                name: {"raw": seen.raw, "low": seen.low, "high": seen.high, "position": seen.position}
                for name, seen in self.observer.controls.items() if self.observer.frames
            },
            "marks": [{"time": frame.time, "raw": dict(frame.values)} for frame in self.marked],
        }  # fmt: skip


def _number(value: float) -> str:
    return f"{value:.6g}" if math.isfinite(value) else "–"


def _bar(seen: Observed, moved: bool, length: int) -> Text:
    """Draw the range of a control: the reached part as a band, the present position as a block."""
    low, high = seen.ends
    if not (math.isfinite(seen.raw) and high > low):
        return Text("·" * length, style="dim")

    def cell(value: float) -> int:
        return min(max(int((value - low) / (high - low) * length), 0), length - 1)

    first, last, now = cell(seen.low), cell(seen.high), cell(seen.raw)
    cells = ["─" if first <= place <= last else "·" for place in range(length)]
    cells[first], cells[last] = "├", "┤"
    cells[now] = "█"
    bar = Text("".join(cells), style="cyan")
    bar.stylize("bold yellow" if moved else "bold white", now, now + 1)
    return bar


def _source_and_travels(stack: ExitStack, what: str) -> tuple[Source, dict[str, Travel]]:
    if not what.endswith(".toml"):
        return stack.enter_context(open_source(what, clock=the_clock.get())), {}
    import tenuto
    from tenuto.profile.prepare import prepare_profile

    profile = tenuto.load_profile(what)
    source = stack.enter_context(open_source(profile, clock=the_clock.get()))
    plan = prepare_profile(profile, source).plan()
    return source, {control.reads: control.travel for control in plan.controls}


def watch(
    source: Annotated[
        str, typer.Argument(help="A source, such as gamepad or sbus:/dev/ttyAMA0, or a profile.")
    ] = "gamepad",
    seconds: Annotated[float | None, typer.Option("--for", min=0.1, help="Stop after this number of seconds.")] = None,
    plain: Annotated[bool, typer.Option("--plain", help="Print one table at the end instead of a live view.")] = False,
    record: Annotated[
        Path | None, typer.Option(help="Write a recording: CSV or Parquet, by suffix.", dir_okay=False)
    ] = None,
    raw: Annotated[
        Path | None, typer.Option(help="Record the raw bytes in this black box, FILE.mcap.", dir_okay=False)
    ] = None,
    page: Annotated[
        str | None,
        typer.Option(help="Show it on a page too: its port, such as 8600 or 8600,lan=true.", show_default=False),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print what was seen as JSON at the end.")] = False,
) -> None:
    """Show what a controller sends: every control live, its range so far, and which one moved.

    Move one stick, and its row is highlighted: so you find which number is which stick. In the full-screen view, m
    marks a moment, whose numbers are printed at the end, and r resets the ranges.

    [bold]Examples:[/bold]

      tenuto watch                                 the first gamepad

      tenuto watch crsf:/dev/ttyUSB0               a radio receiver

      tenuto watch simulated:sbus,drop=0.2         without any device

      tenuto watch gamepad --for 10 --record mine.csv

      tenuto watch sbus:/dev/ttyUSB0 --raw box.mcap     and again: tenuto watch sbus:box.mcap

      tenuto watch sbus:/dev/ttyAMA0 --page 8600        in a browser
    """
    from tenuto.sources.recording import RecordingWriter

    with ExitStack() as stack:
        opened, travels = _source_and_travels(stack, source)
        writer = stack.enter_context(RecordingWriter(record)) if record else None
        box = opened_box(stack, raw, [opened])
        view = Watch(opened, travels)
        shown = watch_pages(stack, opened, page)
        stopped = stack.enter_context(ctrl_c())
        clock = the_clock.get()
        start = clock.now()

        def poll() -> bool:
            frame = view.poll(clock.now() - start)
            if frame is not None and writer is not None:
                writer.add(frame)
            show_on(shown, view)
            return not (stopped or opened.finished or (seconds is not None and view.now >= seconds))

        if not (plain or as_json) and may_take_the_screen([opened]):
            from tenuto.views.app import WatchApp

            WatchApp(poll, view.view, _POLL_SECONDS, {"mark": view.mark, "restart": view.observer.restart}).run()
        else:
            _in_place(poll, view, live=results.is_terminal and not plain and not as_json)
    if as_json:
        print_json("watch", view.as_json())
    else:
        results.print(view.head(), view.link(), *view.doctor(), sep="\n", soft_wrap=True)
        results.print(view.table(), soft_wrap=True)
        if view.marked:
            results.print(view.marks(), soft_wrap=True)
    say_of_box(box)
    if writer is not None and not as_json:
        results.print(f"recorded {writer.frames} frames in {writer.path}", soft_wrap=True)
    if view.observer.frames == 0:
        raise typer.Exit(1)


def watch_pages(stack: ExitStack, source: Source, page: str | None) -> list[PageServer]:
    """Return the pages that show it: the source itself if it is a page, and the page of the option."""
    from tenuto.sources.page import PageSource

    found = [source.server] if isinstance(source, PageSource) else []
    say_of_pages([source])
    return [*found, *asked_pages(stack, page)]


def asked_pages(stack: ExitStack, page: str | None) -> list[PageServer]:
    """Open the page of the option, and return it; None without the option."""
    from tenuto.sinks import open_sink
    from tenuto.sinks.page import PageSink

    if page is None:
        return []
    sink = stack.enter_context(open_sink(f"page:{page}"))
    assert isinstance(sink, PageSink)
    say_of_pages([sink])
    return [sink.server]


def show_on(pages: Sequence[PageServer], view: Watch, more: Mapping[str, object] | None = None) -> None:
    """Show the observed source on pages, ten times a second; ``more`` is an instruction for the user."""
    if pages and view.now >= view.shown_at + _REFRESH_SECONDS:
        view.shown_at = view.now
        for server in pages:
            server.watched = {**view.as_page(), **(more or {})}


def _in_place(poll: Callable[[], bool], view: Watch, *, live: bool) -> None:
    """Poll until the end, with a small view: the terminal is small, or its keys belong to the source."""
    with ExitStack() as stack:
        clock = the_clock.get()
        screen = stack.enter_context(Live(screen=True, auto_refresh=False, console=results)) if live else None
        refreshed = -1.0
        while poll():
            if screen is not None and view.now - refreshed >= _REFRESH_SECONDS:
                refreshed = view.now
                screen.update(view.view(), refresh=True)
            clock.sleep_until(clock.now() + _POLL_SECONDS)
