"""``tenuto devices``: the connected devices, and their names for a profile."""

from __future__ import annotations

import sys
from contextlib import ExitStack
from dataclasses import asdict, dataclass
from typing import Annotated

import typer
from rich.table import Table
from rich.text import Text

from tenuto.basics.layouts import ControlInfo
from tenuto.cli.console import print_json, results
from tenuto.sources.base import SOURCES


@dataclass(frozen=True, slots=True)
class Device:
    """A device for a source.

    Attributes:
        what: "gamepad", "serial port" or "keyboard".
        name, identity: see `tenuto.Source`.
        place: where it is plugged in, if the system reports it.
        open_as: the short texts that open it.
        profile: the lines for a profile.
        controls: with raw range and rest; empty if they depend on what is connected to it.
    """

    what: str
    name: str
    identity: str
    place: str
    open_as: tuple[str, ...]
    profile: str
    controls: tuple[ControlInfo, ...]


def find_devices() -> list[Device]:
    """List the present gamepads, serial ports and keyboard."""
    return [*_gamepads(), *_serial_ports(), *_keyboard()]


def _gamepads() -> list[Device]:
    from tenuto.sources.gamepad import Gamepad, connected_gamepads

    devices = []
    found = connected_gamepads()
    with ExitStack() as stack:
        for one in found:
            source = stack.enter_context(Gamepad(one.identity))
            controls = source.controls()
            twins = sum(other.identity == one.identity for other in found) > 1
            key = one.path if twins and one.path else one.identity
            devices.append(
                Device("gamepad", one.name, one.identity, one.path, (f"gamepad:{key}",),
                       f'[source]\nkind = "gamepad"\ndevice = "{key}"', controls)
            )  # fmt: skip
    return devices


def _serial_ports() -> list[Device]:
    from serial.tools.list_ports import comports

    devices = []
    kinds = [name for name, options in SOURCES.all.items() if options.on_serial_port]
    for port in sorted(comports()):
        open_as = tuple(f"{kind}:{port.device}" for kind in kinds)
        identity = f"{port.vid:04x}:{port.pid:04x}:{port.serial_number or ''}" if port.vid else ""
        profile = f'[source]\nkind = "{kinds[0]}"    # or {", ".join(kinds[1:])}\nport = "{port.device}"'
        name = port.description if port.description != "n/a" else port.device
        devices.append(Device("serial port", name, identity, port.device, open_as, profile, ()))
    return devices


def _keyboard() -> list[Device]:
    if not sys.stdin.isatty():
        return []
    profile = '[source]\nkind = "keyboard"'
    return [Device("keyboard", "this terminal", "keyboard", "", ("keyboard",), profile, SOURCES.all["keyboard"].layout)]


def devices(
    simulated: Annotated[
        bool, typer.Option("--simulated", help="Attach simulated devices too, as an example.")
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print the list as JSON.")] = False,
) -> None:
    """List what is connected: identity, controls, and how to name it in a profile.

    [bold]Example:[/bold]  tenuto devices --json
    """
    with ExitStack() as stack:
        if simulated:
            from tenuto.sim.gamepad import VirtualGamepad

            stack.enter_context(VirtualGamepad())
            stack.enter_context(VirtualGamepad(name="Virtual flight stick", numbered=True))
        found = find_devices()
    if as_json:
        print_json("devices", {"devices": [asdict(device) for device in found]})
        return
    for device in found:
        _print(device)
    if not any(device.what == "gamepad" for device in found):
        results.print("No gamepad or joystick is connected. Plug one in and try again.")
    if not any(device.what == "serial port" for device in found):
        results.print("No serial port was found. A receiver needs one: a USB adapter, or a UART of the board.")
    results.print("Watch one with:  tenuto watch TEXT", soft_wrap=True)
    results.print("Without a device:  tenuto watch simulated:gamepad", soft_wrap=True)


def _print(device: Device) -> None:
    results.print(Text.assemble((device.what, "bold cyan"), "  ", (device.name, "bold")), soft_wrap=True)
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style="dim", no_wrap=True)
    grid.add_column(overflow="fold")
    rows = {
        "  identity": device.identity,
        "  plugged in": device.place if device.place != device.name else "",
        "  open as": "  ".join(device.open_as),
        "  controls": " ".join(info.name for info in device.controls),
        "  in a profile": device.profile,
    }
    for label, text in rows.items():
        if text:
            grid.add_row(label, Text(text))
    results.print(grid)
    results.print()
