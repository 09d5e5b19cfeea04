"""``tenuto soak``: thousands of faults in simulated time."""

from __future__ import annotations

import json
import time
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.progress import Progress
from rich.table import Table
from rich.text import Text

from tenuto.basics.errors import RecordingError, TenutoError
from tenuto.basics.extras import how_to_get
from tenuto.basics.json_in import read_json
from tenuto.cli.console import counted, print_json, problems, results
from tenuto.cli.signals import ctrl_c
from tenuto.files import MOST_TOML, read_text, write_atomically

if TYPE_CHECKING:
    from tenuto.profile import Profile
    from tenuto.sim.soak import Episode, Outcome


def soak(
    profile: Annotated[
        Path | None, typer.Argument(exists=True, dir_okay=False, help="A profile; by default all shipped robots.")
    ] = None,
    runs: Annotated[int, typer.Option(min=1, max=1_000_000, help="The number of simulated drives per profile.")] = 1000,
    seed: Annotated[int, typer.Option(min=0, max=2**62, help="The first seed; each seed gives the same drives.")] = 0,
    keep: Annotated[Path, typer.Option(dir_okay=False, help="The file for a drive that breaks a promise.")] = Path(
        "soak-failure.json"
    ),
    again: Annotated[
        Path | None, typer.Option("--replay", exists=True, dir_okay=False, help="Play a kept drive again.")
    ] = None,
    any_profile: Annotated[
        bool, typer.Option("--any", help="A random valid profile for each drive, of any vehicle and guard.")
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print the figures as JSON.")] = False,
) -> None:
    """Simulate careless drivers and faulty links, clocks and devices, and check the promises at every tick.

    A drive that breaks a promise is shortened and kept, and the exit status is 1. Ctrl-C ends it and prints the
    figures so far.

    [bold]Examples:[/bold]

      tenuto soak --runs 2000

      tenuto soak --any --runs 5000

      tenuto soak mine.toml --replay soak-failure.json
    """
    if any_profile:
        if profile is not None or again is not None:
            raise TenutoError("--any makes its own profiles: leave out the profile and --replay")
        _soak_any(runs, seed, keep, as_json)
        return
    import tenuto
    from tenuto.data import shipped
    from tenuto.sim.soak import Outcome, play, shrink
    from tenuto.sim.soak import soak as soak_runs

    shown = ("medlar", "medlar-lift", "medlar-lesson", "quince", "sorrel", "damson")
    files = [profile] if profile is not None else [shipped(f"{name}.toml") for name in shown]
    total, began = Outcome(), time.perf_counter()
    robots: dict[str, Outcome] = {}
    quiet = as_json or not problems.is_terminal
    with ctrl_c() as stopped, Progress(console=problems, transient=True, disable=quiet) as progress:
        task = progress.add_task("soaking", total=len(files) * (1 if again else runs))
        for file in files:
            loaded = tenuto.load_profile(file)
            own = robots.setdefault(file.stem, Outcome())
            stories = [play(loaded, _load(again))] if again else soak_runs(loaded, range(seed, seed + runs))
            for outcome in stories:
                if stopped:
                    break
                progress.advance(task)
                first = outcome.broken and not total.broken
                own.add(outcome)
                total.add(outcome)
                if first and not again:
                    total.story = shrink(loaded, outcome.story)
                    _keep(keep, file, total.story, play(loaded, total.story).broken)
    took = time.perf_counter() - began
    if as_json:
        _print_json(total, took)
    else:
        _print(total, took, robots)
        if total.broken and not again:
            results.print(
                f"The shortest form that fails is saved in {keep}: tenuto soak PROFILE --replay {keep}", soft_wrap=True
            )
    if total.broken:
        raise typer.Exit(1)


def _soak_any(runs: int, seed: int, keep: Path, as_json: bool) -> None:
    """Soak random profiles; a failure is kept with its profile beside it."""
    try:
        from tenuto.testing.campaign import soak_any
    except ImportError as error:
        raise TenutoError(how_to_get("hypothesis")) from error
    from tenuto.profile.text import profile_text
    from tenuto.sim.soak import Outcome

    total, vehicles, began = Outcome(), dict[str, Outcome](), time.perf_counter()
    quiet = as_json or not problems.is_terminal
    with ctrl_c() as stopped, Progress(console=problems, transient=True, disable=quiet) as progress:
        task = progress.add_task("soaking", total=runs)

        def seen(profile: Profile, outcome: Outcome) -> None:
            if stopped:
                raise KeyboardInterrupt  # only this ends a random test early
            progress.advance(task)
            vehicles.setdefault(profile.chassis.kind, Outcome()).add(outcome)
            total.add(outcome)

        try:
            failed = soak_any(runs, seed, seen)
        except KeyboardInterrupt:
            failed = None
    took, place = time.perf_counter() - began, keep.with_suffix(".toml")
    if failed is not None:
        profile, outcome = failed
        total.broken, total.story = outcome.broken, outcome.story
        try:
            write_atomically(place, profile_text(profile))
        except OSError as error:
            problems.print(f"{place}: cannot keep it there: {error.strerror or error}\n{profile_text(profile)}")
        _keep(keep, place, outcome.story, outcome.broken)
    if as_json:
        _print_json(total, took)
    else:
        _print(total, took, vehicles, "vehicle")
        if failed is not None:
            results.print(f"Kept: tenuto soak {place} --replay {keep}", soft_wrap=True)
    if failed is not None:
        raise typer.Exit(1)


def _print_json(total: Outcome, took: float) -> None:
    figures = {name: getattr(total, name) for name in ("runs", "ticks", "seconds", "driven", "worst_time",
               "promise_time", "worst_distance", "promise_distance", "broken")}  # fmt: skip
    story = [asdict(episode) for episode in total.story]
    more = {"by": dict(total.by), "faults": dict(total.faults), "story": story, "took": took}
    print_json("soak", figures | more)


def _print(total: Outcome, took: float, robots: dict[str, Outcome], of: str = "profile") -> None:
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style="bold cyan", no_wrap=True)
    grid.add_column()
    speed = f"{total.seconds / took:.0f} × real time"
    much = f"{counted(total.runs, 'drive')} with {counted(len(robots), of)}"
    grid.add_row("simulated", f"{much}, {total.seconds / 3600.0:.1f} h: {speed}")
    grid.add_row("driven", f"{total.driven / 3600.0:.2f} h, between {sum(total.faults.values())} stops on the way")
    if len(total.by) > 1:
        grid.add_row("", ", ".join(f"{name} {seconds / 60.0:.1f} min" for name, seconds in total.by.most_common()))
    for code, count in total.faults.most_common():
        grid.add_row("", f"{count:>8}  {code.replace('_', ' ')}")
    for number, (name, own) in enumerate(robots.items() if of == "profile" else ()):
        worst = f"{name}: {own.worst_time:.2f} s of {own.promise_time:.2f} s, "
        worst += f"{own.worst_distance:.2f} m of {own.promise_distance:.2f} m promised"
        grid.add_row("worst stop" if number == 0 else "", worst)
    results.print(grid)
    if total.broken:
        results.print(Text(f"BROKEN: {'; '.join(total.broken)}", style="bold red"), soft_wrap=True)
    else:
        results.print(f"No promise was broken in {total.ticks} ticks.")


def _keep(path: Path, profile: Path, story: list[Episode], broken: list[str]) -> None:
    text = json.dumps(
        {"profile": profile.name, "broken": broken, "story": [asdict(episode) for episode in story]}, indent=2
    )
    try:
        write_atomically(path, text + "\n")
    except OSError as error:
        problems.print(f"{path}: cannot keep it there: {error.strerror or error}\n{text}")


def _load(path: Path) -> list[Episode]:
    from pydantic import TypeAdapter, ValidationError

    from tenuto.sim.soak import Episode

    try:
        return TypeAdapter(list[Episode]).validate_python(read_json(read_text(path, MOST_TOML))["story"])
    except (ValueError, KeyError, TypeError, ValidationError) as error:
        raise RecordingError(f"{path}: expected a drive kept by tenuto soak: {error}") from error
