"""Drives many random schedules through the pipeline and through generated C, and reports where they differ.

python scripts/prove_boards.py 10000          (needs gcc; half an hour)

The profile of the last difference is stored in board-differs.toml.

A third of them use the shipped profiles that fit a board, the others random sticks and random valid profiles.
"""

from __future__ import annotations

import random
import subprocess
import sys
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

from hypothesis import HealthCheck, Phase, given, seed, settings

from tenuto import Profile, load_profile
from tenuto.data import shipped
from tenuto.firmware.generate import make_firmware
from tenuto.firmware.refusals import refusals
from tenuto.profile.text import profile_text
from tenuto.testing.board import any_schedule, by_pipeline, by_program, difference
from tenuto.testing.profiles import any_profile

SHIPPED = ("medlar", "medlar-lift", "medlar-keyboard", "quince", "damson")
# The number of schedules per program; the clock of every other one wraps.
EACH, WRAPS = 50, 2**32 - 4000


# The number of a thousand schedules in float that may differ by rounding: a stop that ends a tick earlier or later.
ROUNDED = 5


def built(profile: Profile, real: str, folder: str) -> Path:
    """Build the program of a profile, with numbers in float or double."""
    make_firmware(profile, real=real, timed=False).write(f"{folder}/{real}")
    program = Path(folder) / real / "replay"
    sources = [f"{folder}/{real}/desktop/replay.c", f"{folder}/{real}/robot_board.c"]
    subprocess.run(["gcc", "-std=c99", "-O1", *sources, "-o", str(program), "-lm"], check=True)
    return program


def prove(profile: Profile, seeds: range, counts: Counter[str]) -> None:
    """Drive some seeds through both; add to the counts, and print the differences.

    A difference in float that double does not have is rounding.
    """
    plan = profile.plan()
    with TemporaryDirectory() as folder:
        program = built(profile, "float", folder)
        for number in seeds:
            rows = any_schedule(plan, number)
            here, begins = by_pipeline(plan, rows), WRAPS * (number % 2)
            said = difference(plan, here, by_program([program], plan, rows, begins))
            counts.update(schedules=1, ticks=len(rows), driving=sum(one.state == "driving" for one in here))
            if not said:
                continue
            in_double = difference(plan, here, by_program([built(profile, "double", folder)], plan, rows, begins))
            counts["differ" if in_double else "rounded"] += 1
            print(f"{profile.name}, seed {number}: {in_double or f'rounded: {said}'}", flush=True)
            if in_double:
                Path("board-differs.toml").write_text(profile_text(profile), encoding="utf-8")


def main(wanted: int) -> int:
    """Drive this number of schedules; return 0 if both sides agree in all of them."""
    counts, began, since = Counter[str](), time.monotonic(), random.randrange(10**6)
    print(f"first seed {since}", flush=True)
    for number, name in enumerate(SHIPPED):
        many = wanted // 3 // len(SHIPPED)
        prove(load_profile(shipped(f"{name}.toml")), range(since + number * many, since + (number + 1) * many), counts)
        counts["profiles"] += 1
        print(f"{name}: {counts['schedules']} schedules, {counts['differ']} differ", flush=True)

    @seed(since)
    @settings(
        max_examples=10**6,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(any_profile())
    def others(drawn: Profile) -> None:
        bare = drawn.model_copy(update={key: {} for key in ("drivers", "distances", "inhibits", "measured")})
        if counts["schedules"] < wanted and not refusals(bare, bare.plan()):
            first = since + counts["schedules"]
            prove(bare, range(first, first + min(EACH, wanted - counts["schedules"])), counts)
            counts["profiles"] += 1
        elif counts["schedules"] >= wanted:
            raise KeyboardInterrupt

    with suppress(KeyboardInterrupt):
        others()
    lasted = time.monotonic() - began
    print(
        f"{counts['schedules']} schedules of {counts['profiles']} profiles, {counts['ticks']} ticks, "
        f"{counts['driving']} of them driving; {counts['differ']} differ, "
        f"{counts['rounded']} by rounding only; {lasted:.0f} s"
    )
    return int(counts["differ"] > 0 or counts["rounded"] > max(1.0, ROUNDED * counts["schedules"] / 1000))


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1])))
