"""The commands in groups, each with one line of help. The module of a command is loaded when it is called."""

from __future__ import annotations

import math
from collections.abc import Callable
from importlib import import_module
from typing import Any

import typer
from rich.console import Console
from rich.table import Table
from typer.core import TyperGroup

# Group → command → its help. A command is the function of its name in the module of its name.
COMMANDS: dict[str, dict[str, str]] = {
    "set up": {
        "begin": "Set up a robot by questions, or change its sticks",
        "devices": "List connected devices and their texts for a profile",
        "doctor": "Check this computer: permissions, ports, pads, clocks",
        "watch": "Show live what a controller sends",
        "calibrate": "Measure the sticks: rest, ends, noise, return",
        "check": "List errors and warnings of a profile, and its stops",
        "curve": "Draw each stick's response, raw to shaped",
        "key": "Make a key that protects a link",
        "service": "Drive or follow from boot: a systemd unit",
        "firmware": "Generate code for a microcontroller",
    },
    "drive": {
        "preflight": "Check that everything is ready for a drive",
        "drive": "Drive a robot as its profile says",
        "page": "Drive and see from a browser, or from a phone",
        "script": "Show a scripted motion, or drive it",
        "follow": "Run at the robot: follow a driver's machine",
        "station": "Show every robot at a broker, and why it stands",
    },
    "explain": {
        "why": "Explain one moment of a drive, stage by stage",
        "report": "Write a report of a drive, with figures",
        "compare": "Compare two profiles with the same sticks",
        "measure": "Compare commands with measured motion",
        "tune": "Propose dead zones, expo and limits",
    },
    "try": {
        "demo": "Drive a shipped recording, and show why it stopped",
        "robot": "Simulate a robot on a serial line or MAVLink",
        "soak": "Simulate thousands of drives with faults",
    },
}
EXIT_STATUS = "Exit: 0 fine, 1 a problem, 2 used wrongly."


# Both request the help of any command.
HELP = {"help_option_names": ["-h", "--help"]}


class Commands(TyperGroup):
    """Loads the module of a command when it is called, and lists all of them on one screen of 80 x 24."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Load the command that is called."""
        name = args[0] if args else ""
        if any(name in group for group in COMMANDS.values()):
            alone = typer.Typer(
                add_completion=False, rich_markup_mode="rich", pretty_exceptions_enable=False, context_settings=HELP
            )
            alone.command(name, cls=WithoutNan)(getattr(import_module(f"tenuto.cli.{name}"), name))
            self.commands[name] = typer.main.get_command(alone)
        return super().resolve_command(ctx, args)

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Print a line per command."""
        console = Console(highlight=False, markup=False)
        console.print(f"Usage: tenuto COMMAND [--help]. {EXIT_STATUS}", no_wrap=True, overflow="ellipsis")
        grid = Table.grid(padding=(0, 2))
        for style in ("dim", "bold cyan", ""):
            grid.add_column(style=style, no_wrap=True)
        for group, commands in COMMANDS.items():
            for number, (name, line) in enumerate(_rows(commands)):
                grid.add_row(group if number == 0 else "", name, line)
        console.print(grid)


class WithoutNan(typer.core.TyperCommand):
    """A command that refuses NaN for its options: NaN passes every limit, and a duration of NaN never ends."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Refuse NaN. Raises `typer.BadParameter`."""
        rest: list[str] = super().parse_args(ctx, args)
        for one in self.params:
            value = ctx.params.get(one.name)
            if isinstance(value, float) and math.isnan(value):
                raise typer.BadParameter("expected a number, found nan", ctx=ctx, param_hint=one.opts[0])
        return rest


def _rows(commands: dict[str, str]) -> list[tuple[str, str]]:
    """Return a row per command, except for those that share one: there are more commands than rows."""
    shared = {
        "key": ("key / service", "Make a key for a link / drive from boot"),
        "service": None,
        "robot": ("robot / soak", "Simulate a robot / simulate faulty drives"),
        "soak": None,
    }
    rows = [shared.get(name, (name, line)) for name, line in commands.items()]
    return [row for row in rows if row is not None]


def stub(name: str) -> Callable[[], None]:
    """Return the placeholder of a command whose module is not loaded."""

    def stand_in() -> None:
        raise AssertionError(f"{name} was not loaded")

    stand_in.__name__ = name
    return stand_in
