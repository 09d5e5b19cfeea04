"""``tenuto check``: errors, warnings and stops of a profile."""

from __future__ import annotations

from contextlib import nullcontext
from dataclasses import asdict
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.table import Table
from rich.text import Text

from tenuto.cli.console import counted, print_json, results
from tenuto.files import MOST_TOML, UnreadableError, read_text
from tenuto.vehicles.units import METRIC, NO_METRES

if TYPE_CHECKING:
    from tenuto.basics.findings import Finding
    from tenuto.driving.losses import Losses
    from tenuto.driving.plan import Plan, Planned
    from tenuto.driving.stopping import Stage
    from tenuto.sim.truth import TruthTable
    from tenuto.sim.truth_rows import TruthRow
    from tenuto.sim.worst import Worst
    from tenuto.vehicles.units import Units


def check(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    source: Annotated[str | None, typer.Option(help="Check it against this device too, such as gamepad.")] = None,
    calibration: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Use this calibration; by default the one beside the profile."),
    ] = None,
    worst: Annotated[
        bool, typer.Option("--worst", help="Simulate every fault, and print the longest stopping distance.")
    ] = False,
    table: Annotated[
        bool,
        typer.Option("--table", help="Print the effect of each control, each switch and a link loss."),
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print the list as JSON.")] = False,
) -> None:
    """List errors and warnings of a profile, with line numbers. Exit status 1 when there is an error.

    [bold]Examples:[/bold]

      tenuto check medlar.toml

      tenuto check medlar.toml --source gamepad

      tenuto check medlar.toml --table

      tenuto check medlar.toml --worst
    """
    import tenuto
    from tenuto.driving.stopping import far_end_stages, link_loss_stages, silent_far_end_stages
    from tenuto.profile.checks.advice import advise
    from tenuto.profile.checks.losses import link_losses
    from tenuto.profile.lines import line_of
    from tenuto.profile.prepare import prepare_profile
    from tenuto.sim.truth import TruthTable

    text = _text_of(profile)
    notes: list[str] = []
    stages: list[Stage] = []
    faults: list[Worst] = []
    borne: list[Losses] = []
    dead: list[Stage] = []
    silent: list[Stage] = []
    truths, prepared = TruthTable((), ()), None
    try:
        loaded = tenuto.load_profile(profile)
    except tenuto.ProfileError as error:
        findings = error.findings
    else:
        with nullcontext() if source is None else tenuto.open_source(source) as opened:
            controls = tuple(info.name for info in opened.controls()) if opened is not None else None
            prepared = prepare_profile(loaded, opened, calibration=calibration)
        truths = _truths(prepared, notes)
        findings = [*advise(loaded, prepared.calibration, controls), *truths.findings]
        stages, borne = link_loss_stages(prepared.plan()), link_losses(loaded)
        dead, silent = far_end_stages(prepared.plan()), silent_far_end_stages(prepared.plan())
        faults = _faults(prepared.plan(), notes) if worst else []
        calibrated = ", ".join(map(str, prepared.files))
        notes.append(f"calibrated by {calibrated}" if calibrated else "not compared with a calibration")
    if as_json:
        known = prepared is None or not prepared.profile.chassis.in_shares
        more = _driven_as_json(stages, silent, dead, faults if worst else None, borne, known)
        more |= {"truth": [_row_as_dict(row) for row in truths.rows]} if table else {}
        print_json("check", _as_json(text, findings, notes) | more)
    else:
        for finding in findings:
            style = "bold red" if finding.is_error else "yellow"
            where = f"{profile}:{finding.line or line_of(text, finding.where)}: {finding.where}"
            hint = f" ({finding.hint})" if finding.hint else ""
            results.print(
                Text.assemble(f"{where}: ", (finding.severity, style), f": {finding.text}{hint}"), soft_wrap=True
            )
        if table and prepared is not None:
            results.print(_truth_table(truths, prepared.plan()))
        _print_stops(prepared.plan() if prepared is not None else None, stages, silent, dead, faults)
        _print_losses(borne)
        for note in notes:
            results.print(note, style="dim", soft_wrap=True)
        errors = sum(finding.is_error for finding in findings)
        results.print(f"{counted(errors, 'error')}, {counted(len(findings) - errors, 'warning')}")
    if any(finding.is_error for finding in findings):
        raise typer.Exit(1)


def _print_stops(
    plan: Plan | None, stages: list[Stage], silent: list[Stage], dead: list[Stage], faults: list[Worst]
) -> None:
    """Print how far the robot goes after a loss of the link or the program, and optionally after every fault."""
    from tenuto.driving.stopping import whose_link

    units = plan.chassis.units if plan is not None else METRIC
    if plan is not None and stages:
        results.print(f"When {whose_link(plan)} goes quiet at full speed:")
        results.print(_table(stages, units))
        if silent:
            results.print("When a far end falls silent at full speed (guard.needs.answers):")
            results.print(_table(silent, units))
        results.print("When the program, or its line to the robot, dies at full speed:")
        results.print(_table(dead, units))
        if not units.known:
            results.print(f"{NO_METRES}: measure its full speed to get the distance", style="dim", soft_wrap=True)
    if faults:
        results.print("The worst case of each fault: the command as promised and as driven, then the simulated robot:")
        results.print(_worst_table(faults, units))


def _print_losses(borne: list[Losses]) -> None:
    """Print the share of lost frames that each link tolerates."""
    from tenuto.driving.losses import SELDOM

    for one in borne:
        lost = f"{one.link}: of {one.rate:.0f} frames a second {100 * one.share:.0f} % may be lost at random:"
        results.print(
            f"{lost} {one.timeout:g} s of silence then stops the robot every {SELDOM / 60:.0f} min on average",
            soft_wrap=True,
        )


def _text_of(profile: Path) -> str:
    """Return the tables of a profile; none if it cannot be read, which is reported elsewhere."""
    try:
        return read_text(profile, MOST_TOML)
    except UnreadableError:
        return ""


def _as_json(text: str, findings: list[Finding], notes: list[str]) -> dict[str, Any]:
    from tenuto.profile.lines import line_of

    rows = [asdict(finding) | {"line": finding.line or line_of(text, finding.where)} for finding in findings]
    return {"findings": rows, "notes": notes}


def _driven_as_json(
    stages: list[Stage],
    silent: list[Stage],
    dead: list[Stage],
    faults: list[Worst] | None,
    borne: list[Losses],
    known: bool,
) -> dict[str, Any]:
    found: dict[str, Any] = {"link_loss": _stages_as_json(stages, known), "far_end": _stages_as_json(dead, known)}
    found |= {"far_end_silent": _stages_as_json(silent, known)} if silent else {}
    found |= {"losses": [one._asdict() for one in borne]}
    return found if faults is None else found | {"worst": [_as_dict(fault, known) for fault in faults]}


def _stages_as_json(stages: list[Stage], known: bool) -> list[dict[str, Any]]:
    """Return the stages as plain data; metres are None for a vehicle without measures."""
    from tenuto.driving.stopping import since_the_loss

    found = []
    for stage in since_the_loss(stages):
        metres = {} if known and stage.known else {"metres": None} if known else {"metres": None, "sinks": None}
        found.append(stage._asdict() | {"seconds": stage.seconds if isfinite(stage.seconds) else None} | metres)
    return found


def _truths(profile: Planned, notes: list[str]) -> TruthTable:
    """Drive the controls; report if the robot cannot be driven by sticks alone."""
    from tenuto.sim.truth import truth_table

    truths = truth_table(profile)
    if not truths.rows:
        notes.append("the controls were not driven: no sticks drive this robot")
    return truths


def _row_as_dict(row: TruthRow) -> dict[str, Any]:
    second = row.second._asdict() if row.second is not None else None
    return row._asdict() | {"command": row.command._asdict(), "rest": row.rest._asdict(), "second": second}


def _truth_table(truths: TruthTable, plan: Plan) -> Table:
    """Show the effect of each control alone."""
    from tenuto.cli.words import truth_in_words

    shown = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    modes = any(row.mode for row in truths.rows)
    for name in (*(("mode",) if modes else ()), "control", "robot", "actuators"):
        shown.add_column(name, overflow="fold")
    for row in truths.shown():
        mode, *cells = truth_in_words(row, plan.chassis)
        shown.add_row(*((mode,) if modes else ()), *cells)
    return shown


def _faults(plan: Plan, notes: list[str]) -> list[Worst]:
    """Drive the faults; report if the robot cannot be driven by sticks alone."""
    from tenuto.sim.worst import worst_of

    found = worst_of(plan)
    if not found:
        notes.append("the faults were not driven: no sticks drive this robot")
    return found


def _as_dict(fault: Worst, known: bool) -> dict[str, Any]:
    metres = {} if known else {"metres": None, "robot_metres": None}
    promise = {"seconds": fault.promise.seconds, "metres": fault.promise.metres if known else None}
    return {**fault._asdict(), **metres, "promise": promise, "velocity": fault.velocity._asdict()}


def _worst_table(faults: list[Worst], units: Units) -> Table:
    """Show the promise for each fault, the simulated result, and its velocity."""
    from tenuto.cli.words import command_in_words
    from tenuto.driving.stopping import at_most

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    table.add_column("  fault", no_wrap=True)
    for name in ("promised", "driven", *(("robot",) if units.known else ())):
        table.add_column(name, justify="right", no_wrap=True)
    table.add_column("from")
    before = None
    for fault in faults:
        promised = at_most(fault.promise.seconds), at_most(fault.promise.metres)
        driven = f"{fault.seconds:.2f}", f"{fault.metres:.2f}"
        cells = [f"{time} s {way:>5} m" if units.known else f"{time} s" for time, way in (promised, driven)]
        cells += [f"{fault.robot_metres:.2f} m"] if units.known else []
        where = command_in_words(fault.velocity, units) if fault.velocity != before else "as above"
        before = fault.velocity
        table.add_row(f"  {fault.fault}", *cells, where)
    return table


def _table(stages: list[Stage], units: Units) -> Table:
    """Show the stages, with the time and the distance from the last frame to the end of each."""
    from tenuto.driving.stopping import at_most, since_the_loss

    grid = Table.grid(padding=(0, 2))
    for justify in ("left", "right", "right", "right"):
        grid.add_column(justify=justify, no_wrap=True)
    before = 0.0
    for stage in since_the_loss(stages):
        down = f"{at_most(stage.sinks, 1)} m down" if stage.sinks > before and units.known else ""
        before = stage.sinks
        when = f"until {at_most(stage.seconds)} s" if isfinite(stage.seconds) else "from then on"
        way = f"{at_most(stage.metres)} m" if stage.known and units.known else "not known" if units.known else ""
        grid.add_row(f"  {stage.what}", when, way, down)
    return grid
