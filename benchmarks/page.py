"""The page: the time from a finger to a command, compared with a bare WebSocket that echoes; and the cost of a page.

All in one run on one machine, with the suite's own browser and drive, and a tick every 5 ms.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from functools import partial
from pathlib import Path
from statistics import quantiles
from typing import TYPE_CHECKING

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from browsers import CHROMIUM, Fingers, PageDrive, RawPage, chromium, wait_for
from helpers import MEDLAR
from tenuto import Tick
from tenuto.driving.guard import State

if TYPE_CHECKING:
    from playwright.sync_api import Page

MOVES, LIFTS, WATCHERS, SECONDS = 300, 40, 10, 5.0
FAST = MEDLAR.with_(**{"loop.rate": "200 Hz", "guard.link_timeout": "1 s"})
_ECHO = """async (url) => {
  const line = new WebSocket(url), took = [];
  await new Promise((open) => (line.onopen = open));
  for (let number = 0; number < 300; number++) {
    const begin = performance.now();
    line.send("x".repeat(120));
    await new Promise((came) => (line.onmessage = came));
    took.push(performance.now() - begin);
    await new Promise((later) => setTimeout(later, 7));
  }
  return took;
}"""
_TIMES = """window.times = { move: [], up: [] };
for (const [kind, name, where] of [["move", "rawupdate", ".stick"], ["up", "up", "#hold"]])
  addEventListener(`pointer${name}`, (event) =>
    event.target.closest(where) && window.times[kind].push([event.timeStamp, performance.now()]
      .map((at) => performance.timeOrigin + at)), { capture: true });"""


def main() -> None:
    """Print delays, bytes and shares."""
    if CHROMIUM is None:
        print("page: no chromium here")
        return
    with chromium() as browser, PageDrive(FAST) as drive:
        context = browser.new_context(viewport={"width": 360, "height": 640}, has_touch=True)
        page = context.new_page()
        page.add_init_script(_TIMES)
        received = list[int]()
        page.on("websocket", lambda one: one.on("framereceived", lambda data: received.append(len(data))))
        page.goto(drive.url)
        first = page.evaluate(
            "new Promise((shown) => { const see = () => document.querySelector('#state .word').textContent !== "
            "'connecting' ? shown(performance.now()) : setTimeout(see, 2); see(); })"
        )
        page.locator("#take:visible").click()
        page.locator("#hold:visible").wait_for()
        commands = _moves(page, drive)
        stops = _lifts(page, drive)
        with _echo_server() as port:
            echo = context.new_page().evaluate(_ECHO, f"ws://127.0.0.1:{port}")
        page.bring_to_front()
        received.clear()
        page.wait_for_timeout(1000.0 * SECONDS)
        rate = sum(received) / SECONDS
        shares = _shares(drive)
    _say("a finger moves, to the command", commands[0])
    _say("  of it from the event in the page", commands[1])
    _say("a bare WebSocket there and back", echo)
    print(f"  the event takes {_part(commands[1], 50) - _part(echo, 50):+.1f} ms more at p50, "
          f"{_part(commands[1], 99) - _part(echo, 99):+.1f} ms at p99, a tick of 5 ms in it")  # fmt: skip
    _say("hold to run lifted, to the first tick that stops", stops[0])
    _say("  of it from the event in the page", stops[1])
    print(f"page opened to the first state shown: {first:.0f} ms; {rate / 1000:.1f} kB/s to each browser")
    print("a core's share of the server: " + ", ".join(f"{100 * share:.0f} % {who}" for who, share in shares.items()))


def _moves(page: Page, drive: PageDrive) -> tuple[list[float], list[float]]:
    """Push a stick to one place after the other; return the ms to the command with each place.

    Returns:
        From the finger, and from the moment at which the browser passes the event to the page.
    """
    fingers, came = Fingers(page), [(0.0, 0.0)]

    def see(tick: Tick) -> None:
        if tick.positions["drive"] != came[-1][1]:
            came.append((time.time(), tick.positions["drive"]))

    fingers.down(0, fingers.middle_of("#hold"))
    wait_for(lambda: drive.state == "driving", "not enabled")
    fingers.down(1, fingers.middle_of(".stick"))
    drive.see = see
    for number in range(MOVES):
        fingers.move(1, (0.0, -1.0 if number % 40 < 20 else 1.0))
        time.sleep(0.03)
    time.sleep(0.3)
    drive.see = None
    moved = page.evaluate("window.times.move")
    fingers.lift(1)
    fingers.lift(0)
    # All places differ, so each command belongs to one finger; if two were merged, all others would shift.
    assert len(moved) == len(came) - 1 == MOVES, (len(moved), len(came))
    pairs = list(zip((1000.0 * at for at, _ in came[1:]), moved, strict=True))
    return [at - finger for at, (finger, _) in pairs], [at - event for at, (_, event) in pairs]


def _lifts(page: Page, drive: PageDrive) -> tuple[list[float], list[float]]:
    """Release hold to run repeatedly; return the ms until the first tick that stops, as `_moves`."""
    fingers, took, event = Fingers(page), list[float](), list[float]()
    for _ in range(LIFTS):
        stopped = list[float]()
        wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
        fingers.down(0, fingers.middle_of("#hold"))
        wait_for(lambda: drive.state == "driving", "not enabled")
        time.sleep(0.05)

        def see(tick: Tick, kept: list[float] = stopped) -> None:
            if tick.guard.state is not State.DRIVING:
                kept.append(time.time())

        drive.see = see
        fingers.lift(0)
        wait_for(partial(list, stopped), "it does not stop")
        lifted = page.evaluate("window.times.up.at(-1)")
        took.append(1000.0 * stopped[0] - lifted[0])
        event.append(1000.0 * stopped[0] - lifted[1])
    return took, event


@contextmanager
def _echo_server() -> Iterator[int]:
    """Serve a WebSocket that echoes, in a process of its own."""
    code = (
        "import asyncio\nfrom websockets.asyncio.server import serve\n"
        "async def echo(line):\n    async for text in line: await line.send(text)\n"
        "async def main():\n    async with serve(echo, '127.0.0.1', 0, compression=None) as one:\n"
        "        print(one.sockets[0].getsockname()[1], flush=True); await one.serve_forever()\n"
        "asyncio.run(main())"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        yield int(process.stdout.readline())
        process.kill()


def _shares(drive: PageDrive) -> dict[str, float]:
    """Return the share of a core that the server uses with one driver, and with ten more watching pages."""
    found = {}
    with ExitStack() as stack:
        found["with one page"] = _share(drive)
        for _ in range(WATCHERS):
            stack.callback(RawPage(drive.url).line.close)
        found[f"with {WATCHERS} more that look on"] = _share(drive)
    return found


def _share(drive: PageDrive) -> float:
    stat = Path(f"/proc/{drive.source.server._process.pid}/stat")

    def used() -> float:
        parts = stat.read_text().rpartition(")")[2].split()
        return (int(parts[11]) + int(parts[12])) / os.sysconf("SC_CLK_TCK")

    before, begin = used(), time.monotonic()
    time.sleep(SECONDS)
    return (used() - before) / (time.monotonic() - begin)


def _part(took: list[float], share: int) -> float:
    return quantiles(took, n=100)[share - 1]


def _say(what: str, took: list[float]) -> None:
    print(f"{what}: p50 {_part(took, 50):.1f} ms, p99 {_part(took, 99):.1f} ms of {len(took)}")


if __name__ == "__main__":
    main()
