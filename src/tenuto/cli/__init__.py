"""The command ``tenuto``. Each command is a few lines that call the library."""

from __future__ import annotations

import sys
from collections.abc import Sequence

import typer

from tenuto.cli.bind import bind
from tenuto.cli.calibrate import calibrate
from tenuto.cli.check import check
from tenuto.cli.clock import the_clock
from tenuto.cli.compare import compare
from tenuto.cli.console import problems
from tenuto.cli.curve import curve
from tenuto.cli.demo import demo
from tenuto.cli.devices import devices
from tenuto.cli.drive import drive
from tenuto.cli.follow import follow
from tenuto.cli.key import key
from tenuto.cli.measure import measure
from tenuto.cli.report import report
from tenuto.cli.robot import robot
from tenuto.cli.script import script
from tenuto.cli.soak import soak
from tenuto.cli.station import station
from tenuto.cli.tune import tune
from tenuto.cli.watch import watch
from tenuto.cli.why import why
from tenuto.clock import REAL, Timer
from tenuto.core.errors import TenutoError

__all__ = ["app", "main"]

app = typer.Typer(
    name="tenuto",
    help="From a stick to a moving robot: calibrated, shaped, limited, guarded, and explained.",
    epilog="Exit status: 0 fine, 1 found a problem, 2 used wrongly.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode="rich",
    pretty_exceptions_enable=False,
)
for command in (
    demo,
    devices,
    watch,
    bind,
    calibrate,
    check,
    compare,
    curve,
    drive,
    follow,
    key,
    measure,
    report,
    robot,
    script,
    soak,
    station,
    tune,
    why,
):
    app.command()(command)


@app.callback()
def _options(
    version: bool = typer.Option(False, "--version", help="Show the version and leave.", is_eager=True),
) -> None:
    if version:
        import tenuto

        typer.echo(f"tenuto {tenuto.__version__}")
        raise typer.Exit


def main(arguments: Sequence[str] | None = None, clock: Timer = REAL) -> None:
    """Run the command; Tenuto's own errors become one message and exit status 1.

    Args:
        arguments: without the program's name; those of the process if not given.
        clock: what the command lives by. On a `tenuto.SimulatedClock` nobody waits.

    Raises:
        SystemExit: always, with the exit status.
    """
    chosen = the_clock.set(clock)
    try:
        app(arguments)
    except TenutoError as error:
        problems.print(f"tenuto: {error}", style="bold red", soft_wrap=True)
        sys.exit(1)
    except KeyboardInterrupt:
        problems.print("tenuto: broken off", style="bold red")
        sys.exit(130)
    finally:
        the_clock.reset(chosen)
