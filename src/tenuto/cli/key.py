"""``tenuto key``: new keys for two machines, one for all drivers or one for each."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from tenuto.cli.console import results


def key(
    file: Annotated[Path, typer.Argument(help="The file: a new key, or with --driver or --revoke the robot's keys.")],
    driver: Annotated[
        str | None, typer.Option(help="Add a key for a driver of this name, and write it to NAME.key.", metavar="NAME")
    ] = None,
    revoke: Annotated[
        str | None, typer.Option(help="Remove a driver's key from the robot's keys.", metavar="NAME")
    ] = None,
) -> None:
    """Make a key that protects a link: UDP, MQTT, signed MAVLink or a signed radio.

    Both ends need the same key: copy it over a secure channel, such as SSH. With --driver each driver has a separate
    key; the robot, over UDP or MQTT, uses a file with all of them, and notices a change within a second.

    [bold]Examples:[/bold]

      tenuto key orchard.key

      tenuto key robot.keys --driver shed      (and copy shed.key to the driver's machine)

      tenuto key robot.keys --revoke shed
    """
    from tenuto.basics.errors import SinkError
    from tenuto.links.key_file import make_key
    from tenuto.links.key_ring import add_driver, revoke_driver

    if driver is not None and revoke is not None:
        raise typer.BadParameter("give only one of them", param_hint="--driver and --revoke")
    if driver is not None:
        own = add_driver(str(file), driver, SinkError)
        said = f"its machine drives with driver={driver},key={own}"
        text = f"{own} holds the key of {driver}: {said}. The robot takes {file}."
        results.print(text, soft_wrap=True)
    elif revoke is not None:
        revoke_driver(str(file), revoke, SinkError)
        results.print(f"{revoke} has no key in {file} any more.", soft_wrap=True)
    else:
        make_key(str(file), SinkError)
        results.print(f"{file} holds a new key, which only you can read. Both ends need this file.", soft_wrap=True)
