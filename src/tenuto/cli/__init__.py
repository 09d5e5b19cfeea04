"""The command ``tenuto``. Each command is a few lines that call the library."""

from __future__ import annotations

import sys
import unicodedata
import warnings
from collections.abc import Sequence
from io import TextIOWrapper
from typing import NoReturn

import typer

from tenuto.basics.errors import CutOffWarning, TenutoError
from tenuto.basics.extras import said_of
from tenuto.basics.text import shortened
from tenuto.cli.clock import the_clock
from tenuto.cli.commands import COMMANDS, HELP, Commands, stub
from tenuto.cli.console import print_json, problems
from tenuto.clock import REAL, Timer

# The greatest length of a path.
_LONGEST = 4096
# The greatest length of one line of a message.
_LONG_LINE = 1000

__all__ = ["app", "main"]

app = typer.Typer(
    name="tenuto",
    cls=Commands,
    help="From stick to moving robot.",
    rich_markup_mode="rich",
    pretty_exceptions_enable=False,
    context_settings=HELP,
)
for group in COMMANDS.values():
    for name, line in group.items():
        app.command(name, help=line)(stub(name))


@app.callback(invoke_without_command=True)
def _options(
    context: typer.Context,
    version: bool = typer.Option(False, "--version", help="Show the version and exit.", is_eager=True),
) -> None:
    if version:
        import tenuto

        typer.echo(f"tenuto {tenuto.__version__}")
        raise typer.Exit
    if context.invoked_subcommand is None:
        context.get_help()
        raise typer.Exit(2)


def _remark(
    message: Warning | str, category: type[Warning], filename: str, lineno: int, line: str | None = None
) -> str:
    """Format our own warnings as one line, and others as Python does."""
    if issubclass(category, CutOffWarning):
        return f"tenuto: {message}\n"
    return f"{filename}:{lineno}: {category.__name__}: {message}\n"


def _readable(arguments: Sequence[str]) -> Sequence[str]:
    """Refuse an argument that would change the terminal, or fill it, when it is shown again. Ends the program."""
    for one in arguments:
        if any(unicodedata.category(letter) in ("Cc", "Cs") for letter in one) or len(one) > _LONGEST:
            problems.print(f"tenuto: expected readable text; found {shortened(one)}", soft_wrap=True)
            sys.exit(2)
    return arguments


def _end(text: str, status: int, arguments: Sequence[str] | None) -> NoReturn:
    """End the program with an error."""
    problems.print(f"tenuto: {text}", style="bold red", soft_wrap=True)
    _print_error(text, status, arguments)
    sys.exit(status)


def _print_error(text: str, status: int, arguments: Sequence[str] | None) -> None:
    """Report an error as JSON, for a program."""
    words = sys.argv[1:] if arguments is None else arguments
    if "--json" in words:
        command = next((word for word in words if not word.startswith("-")), "")
        print_json(command, {"error": {"text": text, "status": status}})


def _for_any_terminal() -> None:
    """Let a terminal that has no such character show "?" for it: a word that cannot be printed must stop no robot."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper) and stream.errors == "strict":
            stream.reconfigure(errors="replace")


def main(arguments: Sequence[str] | None = None, clock: Timer = REAL) -> None:
    """Run the command; Tenuto's own errors become one message and exit status 1.

    Args:
        arguments: without the program's name; by default those of the process.
        clock: for the command. On a `tenuto.SimulatedClock` nothing waits.

    Raises:
        SystemExit: always, with the exit status.
    """
    chosen = the_clock.set(clock)
    _for_any_terminal()
    try:
        arguments = _readable(sys.argv[1:] if arguments is None else arguments)
        with warnings.catch_warnings():
            warnings.simplefilter("always", CutOffWarning)
            warnings.formatwarning = _remark
            app(arguments, prog_name="tenuto")
    except TenutoError as error:
        lines = (shortened(line, _LONG_LINE) for line in str(error).split("\n"))
        _end("\n".join(lines), 1, arguments)
    except ImportError as error:
        said = said_of(error)
        if said is None:
            raise
        _end(said, 1, arguments)
    except KeyboardInterrupt:
        _end("interrupted", 130, arguments)
    except SystemExit as ended:
        usage = getattr(ended.__context__, "format_message", None)  # it is shown already
        if usage is not None:
            _print_error(usage(), 2, arguments)
        raise
    finally:
        the_clock.reset(chosen)
