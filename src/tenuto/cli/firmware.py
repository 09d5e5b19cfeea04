"""``tenuto firmware``: the same profile as code for a microcontroller."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated, Literal

import typer
from rich.text import Text

from tenuto.cli.console import counted, print_json, results


def firmware(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    out: Annotated[Path, typer.Option(file_okay=False, help="Write the code to this folder.")],
    language: Annotated[
        Literal["c", "micropython"], typer.Option("--for", help="C99, which also compiles as C++11; or MicroPython.")
    ] = "c",
    part: Annotated[
        Literal["whole", "sticks", "robot"],
        typer.Option(help="All on one board; the sender of lines; the board that reads them."),
    ] = "whole",
    real: Annotated[
        Literal["float", "double"], typer.Option(help="The type of its numbers in C; double is slow on most boards.")
    ] = "float",
    lines: Annotated[
        Literal["pins", "serial"],
        typer.Option(help='Of a source of the kind "lines": pins measure its columns, or a serial line brings them.'),
    ] = "pins",
    calibration: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Use this calibration; by default the one beside the profile."),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the list of files as JSON.")] = False,
) -> None:
    """Generate the code of a board that behaves like this profile, from the sticks to the motors, including the guard.

    A setting that a board cannot provide is refused with its key, and exit status 1.

    [bold]Examples:[/bold]

      tenuto firmware medlar.toml --out board

      tenuto firmware sender.toml --part sticks --out sender

      tenuto firmware sender.toml --for micropython --out board

      make -C board/desktop && board/desktop/replay < recording.csv
    """
    import tenuto
    from tenuto.firmware.generate import make_firmware
    from tenuto.firmware.refusals import passed_over
    from tenuto.profile.prepare import prepare_profile

    prepared = prepare_profile(profile, calibration=calibration)
    made = make_firmware(prepared.profile, prepared.plan(), language=language, part=part, real=real, lines=lines)
    try:
        written = made.write(out)
    except OSError as error:
        raise tenuto.TenutoError(f"{out}: cannot write the code: {error.strerror or error}") from error
    unread = passed_over(prepared.profile, prepared.plan(), part)
    if as_json:
        said: dict[str, object] = {"robot": prepared.profile.name, "digest": made.digest}
        said |= {"files": [str(path) for path in written], "misfits": made.misfits, "unread": unread}
        said["longest_step"] = None if math.isnan(made.longest_step) else made.longest_step
        print_json("firmware", said)
        return
    results.print(
        Text.assemble((prepared.profile.name, "bold"), f": code of the profile with the digest {made.digest}")
    )
    for path, text in zip(written, made.files.values(), strict=True):
        results.print(f"  {path}  {counted(len(text.splitlines()), 'line')}", soft_wrap=True)
    for target, why in made.misfits.items():
        results.print(f"  no {target}: {why}", soft_wrap=True)
    if made.longest_step <= prepared.plan().period:
        took, period = 1000.0 * made.longest_step, 1000.0 * prepared.plan().period
        results.print(f"  a step takes up to {took:.1f} ms of {period:g} ms on an ATmega328P at 16 MHz", soft_wrap=True)
    for text in unread:
        results.print(f"  ignored on a board: {text}", style="yellow", soft_wrap=True)
    ready = f"make -C {out / 'desktop'}, then read {out / 'robot_board.h'}"
    if language == "micropython":
        complete = any(path.name == "main.py" for path in written)
        then = "put robot_board.py and main.py on the board"
        if not complete:
            then = "read robot_board.py: a main.py of your own calls it"
        ready = f"micropython {out / 'replay.py'} < recording.csv, then {then}"
    results.print(f"Next: {ready}", soft_wrap=True)
