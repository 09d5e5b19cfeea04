"""``tenuto check``: read a profile as a careful colleague would."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from tenuto.cli.console import results


def check(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    source: Annotated[str | None, typer.Option(help="Compare it with this device too, such as gamepad.")] = None,
    calibration: Annotated[
        Path | None, typer.Option(exists=True, dir_okay=False, help="Use this calibration; else the one beside it.")
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the list as JSON.")] = False,
) -> None:
    """List problems and doubts of a profile, with line numbers. Exit status 1 when there is a problem.

    [bold]Examples:[/bold]

      tenuto check medlar.toml

      tenuto check medlar.toml --source gamepad
    """
    import tenuto
    from tenuto.calibration.store import Calibration, find_calibration
    from tenuto.profile.advice import Advice, advise, line_of, stopping_distance

    text = profile.read_text(encoding="utf-8", errors="replace")
    notes: list[str] = []
    try:
        loaded = tenuto.load_profile(profile)
    except tenuto.ProfileError as error:
        remarks = [
            Advice(problem.key, True, str(problem).removeprefix(f"{problem.key}: ")) for problem in error.problems
        ]
    else:
        controls, identity = None, ""
        if source is not None:
            with tenuto.open_source(source) as opened:
                controls, identity = tuple(info.name for info in opened.controls()), opened.identity
        found = Calibration.load(calibration) if calibration is not None else None
        if found is None and (kept := find_calibration(profile, identity, controls or ())) is not None:
            found = kept[0]
        remarks = advise(loaded, found, controls)
        unnoticed, standing = stopping_distance(loaded.plan(found))
        notes.append(
            f"quiet link at full speed: {unnoticed:.2f} m until it is noticed, standing after {standing:.2f} m"
        )
        notes.append("calibrated" if found is not None else "not compared with a calibration")
    if as_json:
        rows = [{"line": line_of(text, remark.key), **asdict(remark)} for remark in remarks]
        typer.echo(json.dumps({"remarks": rows, "notes": notes}, indent=2))
    else:
        for remark in remarks:
            style, word = ("bold red", "problem") if remark.problem else ("yellow", "doubt")
            where = f"{profile}:{line_of(text, remark.key)}: {remark.key}"
            results.print(Text.assemble(f"{where}: ", (word, style), f": {remark.text}"), soft_wrap=True)
        for note in notes:
            results.print(note, style="dim", soft_wrap=True)
        problems = sum(remark.problem for remark in remarks)
        results.print(f"{problems} problems, {len(remarks) - problems} doubts")
    if any(remark.problem for remark in remarks):
        raise typer.Exit(1)
