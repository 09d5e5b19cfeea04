"""``tenuto follow``: the robot's end of a link; it follows velocities from another machine, with a guard of its own."""

from __future__ import annotations

import math
from contextlib import ExitStack
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from tenuto.cli.clock import loop_clock, the_clock
from tenuto.cli.console import print_json, results
from tenuto.cli.live import until
from tenuto.cli.opened import say_of_pages
from tenuto.cli.status import StatusLine
from tenuto.cli.words import named_texts, report_in_words


def follow(
    profile: Annotated[
        Path,
        typer.Argument(exists=True, dir_okay=False, help="The robot's own profile, a TOML file.", show_default=False),
    ],
    source: Annotated[
        str,
        typer.Option(help="The source of commands: mqtt:HOST/ROBOT, or udp::PORT,key=FILE.", show_default=False),
    ],
    to: Annotated[
        list[str] | None,
        typer.Option(
            help="A sink of the robot: simulated, serial:PORT, … May be given several times.",
            show_default=False,
        ),
    ] = None,
    other: Annotated[
        list[str] | None,
        typer.Option(help="Another source for a distance sensor: NAME=SOURCE.", show_default=False),
    ] = None,
    seconds: Annotated[
        float,
        typer.Option(min=0.1, help="Stop the robot and end after this time; by default at Ctrl-C.", show_default=False),
    ] = math.inf,
    as_json: Annotated[bool, typer.Option("--json", help="Print how the loop went as JSON at the end.")] = False,
) -> None:
    """Run at the robot: follow the commands of a driver's machine, and stop if they are missing, late or ended.

    The driver's machine runs tenuto drive with a sink of the same kind. Chassis, actuators, stops, timeouts and sinks
    are those of the robot's own profile, except for sinks that lead to another machine.

    [bold]Examples:[/bold]

      tenuto follow medlar.toml --source mqtt:localhost/medlar --to serial:/dev/ttyUSB0

      tenuto drive medlar.toml --to mqtt:localhost/medlar       (at the driver's machine)
    """
    import tenuto
    from tenuto.sinks import open_as_said, open_sinks
    from tenuto.sources import open_others

    loaded = tenuto.load_profile(profile)
    own = {name: one for name, one in loaded.sinks.items() if not one.elsewhere}
    loaded = loaded.model_copy(update={"sinks": own, "drivers": {}})
    clock = the_clock.get()
    with ExitStack() as stack:
        opened = stack.enter_context(tenuto.open_source(source, clock=clock))
        others = open_others(loaded, named_texts(other or [], "--other"), clock=clock)
        sinks = open_as_said(to, loaded) if to else open_sinks(loaded) or [tenuto.open_sink("simulated")]
        for one in (*others.values(), *sinks):
            stack.enter_context(one)
        if not as_json:
            names = ", ".join(sink.name for sink in sinks)
            said = f" follows {opened.name} → {names}. Ctrl-C stops it."
            results.print(Text.assemble((loaded.name, "bold"), said), soft_wrap=True)
        say_of_pages(sinks)
        with StatusLine(loaded.plan().chassis.units, quiet=as_json) as status:
            report = tenuto.follow(
                loaded, opened, sinks, others=others, clock=loop_clock(), on_tick=until(seconds, status.show)
            )
    if as_json:
        print_json("follow", asdict(report))
    else:
        results.print(report_in_words(report), soft_wrap=True)
