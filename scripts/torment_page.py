"""Drives from real pages, closes, hides, freezes and reloads them at random, and checks every tick.

``python scripts/torment_page.py SECONDS [SEED]``. The exit status is 1 if an invariant broke, if the robot moved
without hold-to-run, or if the server's memory grew.
"""

from __future__ import annotations

import random
import sys
import time
from collections import Counter
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from browsers import PageDrive, chromium
from helpers import MEDLAR
from tenuto import Tick
from tenuto.driving.guard import State
from tenuto.sim.invariants import Watcher

# The faults of a page, and the time until each counts, s: the timeout of the link, plus the delay of a busy machine.
PLAN = MEDLAR.with_(**{"guard.link_timeout": "400 ms", "loop.stall_timeout": "1 s"})
HIDE = 'Object.defineProperty(document, "hidden", {value: true, configurable: true});'
FAULTS = {
    "hidden": f'{HIDE} document.dispatchEvent(new Event("visibilitychange"))',
    "blurred": 'window.dispatchEvent(new Event("blur"))',
    "frozen": 'document.dispatchEvent(new Event("freeze"))',
    "hangs": "const end = Date.now() + 900; while (Date.now() < end);",
    "left": 'window.dispatchEvent(new Event("pagehide"))',
}
BACK = (
    'delete document.hidden; document.dispatchEvent(new Event("visibilitychange")); dispatchEvent(new Event("focus"))'
)
# The permitted growth of the server's memory, kB: Python keeps some memory that it has used.
MOST_GROWTH = 8000


class Judge:
    """Checks every tick of the robot."""

    def __init__(self) -> None:
        self._watcher = Watcher(PLAN.plan())
        self.wrong: list[str] = []
        self.states: Counter[str] = Counter()
        self.dead_since: float | None = None

    def see(self, tick: Tick) -> None:
        """Check one tick."""
        self.wrong += self._watcher.see(tick)
        self.states[str(tick.guard.state)] += 1
        dead = self.dead_since
        if dead is not None and time.monotonic() - dead > 1.5 and tick.guard.state is State.DRIVING:
            self.wrong.append(f"{tick.time:.2f} s: it is driven though its page has been dead for 1.5 s")


def main(seconds: float, seed: int) -> int:
    """Torment the page; print the faults and the results."""
    dice, judge, done = random.Random(seed), Judge(), Counter[str]()
    drive = PageDrive(PLAN)
    drive.on_tick = judge.see
    with chromium() as browser, drive:
        context = browser.new_context(viewport={"width": 900, "height": 700})
        page, end, sizes = _page(context, drive), time.monotonic() + seconds, list[int]()
        while time.monotonic() < end and not judge.wrong:
            _drive(page, drive, dice, done)
            what = dice.choice([*FAULTS, "reload", "close", "let go", "emergency stop"])
            done[what] += 1
            judge.dead_since = time.monotonic() if what in ("close", "reload", "hidden", "blurred", "left") else None
            if what == "close":
                page.close()
                time.sleep(dice.uniform(0.0, 2.0))
                judge.dead_since = None
                page = _page(context, drive)
            elif what == "reload":
                page.reload()
                time.sleep(dice.uniform(0.0, 2.0))
                judge.dead_since = None
                _sit(page)
            elif what in FAULTS:
                page.evaluate(f"setTimeout(() => {{ {FAULTS[what]} }}, 0)")
                page.wait_for_timeout(1000.0 * dice.uniform(0.0, 2.0))
                judge.dead_since = None
                page.evaluate(BACK)
            elif what == "emergency stop":
                page.keyboard.press("x")
            _let_go(page)
            sizes.append(_memory(drive))
    settled = sizes[len(sizes) // 5 :] or [0]
    grown = max(settled[-3:]) - settled[0]
    if grown > MOST_GROWTH:
        judge.wrong.append(f"the server's memory has grown by {grown} kB")
    print(f"{sum(done.values())} faults in {seconds:.0f} s: " + ", ".join(f"{n} {what}" for what, n in done.items()))
    print("ticks: " + ", ".join(f"{n} {state}" for state, n in judge.states.items()))
    print(f"the server's memory: {settled[0]} kB after a fifth, {settled[-1]} kB at the end")
    print("\n".join(judge.wrong[:5]) or "nothing broke")
    return 1 if judge.wrong or not judge.states["driving"] else 0


def _page(context: Any, drive: PageDrive) -> Any:
    page = context.new_page()
    page.goto(drive.url)
    _sit(page)
    return page


def _sit(page: Any) -> None:
    page.locator("#take:visible").click()
    page.locator("#hold:visible").wait_for()


def _drive(page: Any, drive: PageDrive, dice: random.Random, done: Counter[str]) -> None:
    """Hold, push keys, and drive for a moment."""
    page.wait_for_timeout(600)
    drive.handle.reset()  # in case the emergency stop is on
    page.wait_for_timeout(100)
    page.keyboard.down("Space")
    page.wait_for_timeout(150)
    for key in dice.sample(["KeyW", "KeyS", "KeyA", "KeyD"], dice.randint(1, 2)):
        page.keyboard.down(key)
    page.wait_for_timeout(1000.0 * dice.uniform(0.1, 1.5))
    done["drives"] += drive.state == "driving"


def _let_go(page: Any) -> None:
    for key in ("Space", "KeyW", "KeyS", "KeyA", "KeyD"):
        page.keyboard.up(key)


def _memory(drive: PageDrive) -> int:
    status = Path(f"/proc/{drive.source.server._process.pid}/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0])


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0))
