"""``tenuto doctor``: what prevents this computer from driving a robot, and what to do."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table
from rich.text import Text

from tenuto.cli.console import counted, print_json, results


def doctor(
    profile: Annotated[
        Path | None, typer.Argument(exists=True, dir_okay=False, help="A profile: check what it needs too.")
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print what was found as JSON.")] = False,
) -> None:
    """Check this computer: permissions, ports, pads, clocks, files and packages.

    It changes nothing. Each finding says what to do.

    [bold]Examples:[/bold]

      tenuto doctor

      tenuto doctor medlar.toml --json
    """
    import tenuto
    from tenuto.health.checks import CHECKS, OF_A_PROFILE
    from tenuto.health.system import this_system

    loaded = tenuto.load_profile(profile) if profile is not None else None
    system = this_system()
    checks = CHECKS | OF_A_PROFILE if loaded is not None else CHECKS
    found = {name: list(check(system, loaded)) for name, check in checks.items()}
    everything = [finding for findings in found.values() for finding in findings]
    errors = sum(finding.is_error for finding in everything)
    if as_json:
        print_json("doctor", {"checks": {name: [asdict(one) for one in findings] for name, findings in found.items()}})
    else:
        table = Table.grid(padding=(0, 2))
        table.add_column(no_wrap=True)
        table.add_column(overflow="fold")
        for name, findings in found.items():
            table.add_row(Text(name, "bold cyan"), Text("fine", "green") if not findings else "")
            for finding in findings:
                style = "bold red" if finding.is_error else "yellow"
                table.add_row(Text(f"  {finding.severity}", style), Text(f"{finding.where}: {finding.text}"))
                if finding.hint:
                    table.add_row("", Text(finding.hint, "dim"))
        results.print(table)
        results.print(f"{counted(errors, 'error')}, {counted(len(everything) - errors, 'warning')}")
    if errors:
        raise typer.Exit(1)
