"""The profile, sources and sinks of a drive, opened from options."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from tenuto.cli.clock import the_clock
from tenuto.cli.console import problems
from tenuto.cli.words import named_texts

if TYPE_CHECKING:
    from tenuto.links.black_box import BlackBox
    from tenuto.profile import Profile
    from tenuto.profile.profile import PreparedProfile
    from tenuto.sinks import Sink
    from tenuto.sources import Source


class Opened(NamedTuple):
    """Everything that takes part in a drive; it is closed with its stack."""

    profile: Profile
    prepared: PreparedProfile
    source: Source
    others: Mapping[str, Source]


def open_sources(
    stack: ExitStack,
    profile: Path,
    source: str | None,
    recording: Path | None,
    other: Sequence[str],
    calibration: Path | None,
    to: Sequence[str] = (),
) -> Opened:
    """Load a profile, open its sources, and apply its calibrations. Raises as these do.

    The texts of sinks, ``to``, are checked first: an error in one must not wait for the device.
    """
    import tenuto
    from tenuto.basics.errors import SinkError
    from tenuto.kinds.texts import read_text
    from tenuto.profile.prepare import prepare_profile
    from tenuto.sinks.base import SINKS
    from tenuto.sources import open_others

    for text in to:
        read_text(text, SINKS, SinkError)
    loaded, clock = tenuto.load_profile(profile), the_clock.get()
    chosen = f"recording:{recording}" if recording is not None else source if source is not None else loaded
    opened = stack.enter_context(tenuto.open_source(chosen, clock=clock))
    others = open_others(loaded, named_texts(list(other), "--other"), clock=clock)
    for one in others.values():
        stack.enter_context(one)
    return Opened(loaded, prepare_profile(loaded, opened, others, calibration=calibration), opened, others)


def open_all_sinks(stack: ExitStack, profile: Profile, to: Sequence[str]) -> list[Sink]:
    """Open the named sinks, or those of the profile, or the simulated robot. Raises `SinkError`."""
    import tenuto
    from tenuto.sinks import open_as_said, open_sinks

    sinks = open_as_said(to, profile) if to else open_sinks(profile) or [tenuto.open_sink("simulated")]
    for sink in sinks:
        stack.enter_context(sink)
    return sinks


def opened_box(stack: ExitStack, path: Path | None, ends: Sequence[Source | Sink]) -> BlackBox | None:
    """Open a black box for the bytes of all sources and sinks that have any. Raises `SinkError` if none has."""
    from tenuto.basics.errors import SinkError
    from tenuto.links.black_box import BlackBox

    if path is None:
        return None
    box = stack.enter_context(BlackBox(path, the_clock.get()))
    if not any([one.record_raw(box) for one in ends]):
        names = ", ".join(one.name for one in ends)
        raise SinkError(f"{path}: a black box records the bytes of ports and sockets, and {names} has none")
    return box


def say_of_box(box: BlackBox | None) -> None:
    """Explain why a black box ended early, if it did."""
    if box is not None and box.problem:
        problems.print(box.problem, soft_wrap=True)


def say_of_pages(ends: Sequence[Source | Sink]) -> None:
    """Print the addresses of the pages of sources and sinks, and what a new device needs."""
    from tenuto.sinks.page import PageSink
    from tenuto.sources.page import PageSource

    for one in ends:
        if isinstance(one, (PageSource, PageSink)):
            one.server.said = lambda text: problems.print(text, soft_wrap=True)
            say_where(one.server.url, one.server.code, one.server.fingerprint)


def say_where(url: str, code: str, fingerprint: str) -> None:
    """Print the address of a page, and what a new device needs; no code if none is needed."""
    problems.print(f"Open {url} in a browser.", soft_wrap=True)
    if not code:
        return
    problems.print(f"A new device needs the code {code}. It is valid for one device and ten minutes.", soft_wrap=True)
    problems.print(
        "The browser warns once, because the certificate is self-signed. Compare its fingerprint, SHA-256: "
        f"{fingerprint}…",
        soft_wrap=True,
    )
    if problems.is_terminal:
        import segno

        segno.make(f"{url}#code={code}", error="m").terminal(out=sys.stderr, compact=True)
