"""The pins of a complete program for a Cortex-M, on an LM3S6965: a chip that qemu simulates with its pins."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from tenuto.driving.plan import Plan
from tenuto.firmware.boards import CHIP_WATCHDOG, columns_of, contacts_of, inputs_said, no_input, pins_short, too_slow
from tenuto.firmware.constants import LINE_SPEED
from tenuto.firmware.hearing import Hearing
from tenuto.profile.profile import Profile


@dataclass(frozen=True)
class PortPin:
    """A pin by its port and bit, as in the chip's manual."""

    port: str
    bit: int

    @property
    def mask(self) -> str:
        """Its bit as a mask in C."""
        return f"0x{1 << self.bit:02X}"

    @property
    def words(self) -> str:
        """Its name in the manual."""
        return f"P{self.port}{self.bit}"


# For each H-bridge: the pins with the duty, for forward and for backward.
_BRIDGES = tuple(tuple(PortPin("B", bit) for bit in bits) for bits in ((0, 1, 2), (3, 4, 5)))
_SERVOS = tuple(PortPin("A", bit) for bit in range(2, 7))
_CONTACTS = (*(PortPin("C", bit) for bit in range(4, 8)), PortPin("D", 4), PortPin("D", 5))
# The wires of a receiver with pulses; and the pins that measure, which do nothing else.
_WIRES = tuple(PortPin("D", bit) for bit in (0, 1, 2, 3, 6, 7))
_MEASURED = ("ADC0", "ADC1", "ADC2", "ADC3")
# A serial port: the port of its pins, and those pins.
_UARTS = {"UART_0": ("A", 0, 1), "UART_1": ("D", 2, 3)}
_UART_BASES = {"UART_0": "0x4000C000", "UART_1": "0x4000D000"}
_BASES = {"A": "0x40004000", "B": "0x40005000", "C": "0x40006000", "D": "0x40007000"}
_CLOCK = 50_000_000
# Places in the table of interrupts: the ticks of the core, the serial ports, timers 0 and 1, port D, the converter.
_TICK, _BYTES, _DUTY, _SERVO, _EDGE, _CONVERTED, _VECTORS = 15, {"UART_0": 21, "UART_1": 22}, 35, 37, 19, 33, 60


def cortex_misfit(profile: Profile, plan: Plan, part: str, hearing: Hearing | None) -> str:
    """Explain why there is no complete program for a Cortex-M; empty if there is one."""
    wrong = no_input(profile, part, hearing, len(_WIRES), len(_MEASURED))
    short = "" if part == "sticks" else pins_short(plan, len(_BRIDGES), len(_SERVOS), len(_CONTACTS))
    return wrong or short or too_slow(plan, CHIP_WATCHDOG)


def cortex_of(profile: Profile, plan: Plan, part: str, hearing: Hearing | None) -> dict[str, Any]:
    """Describe the functions of the pins, for the templates; for a profile that fits."""
    whole = part != "sticks"
    formed = {form: [one for one in plan.actuators if one.form == form and whole] for form in ("duty", "pulse")}
    bridges = [
        {"name": one.name, "bits": one.bits, "duty": duty, "ahead": ahead, "back": back}
        for one, (duty, ahead, back) in zip(formed["duty"], _BRIDGES, strict=False)
    ]
    servos = [
        {"name": one.name, "level": one.level, "pin": pin} for one, pin in zip(formed["pulse"], _SERVOS, strict=False)
    ]
    contacts = [one | {"pin": pin} for one, pin in zip(contacts_of(plan) if whole else [], _CONTACTS, strict=False)]
    uarts = []
    wires = list(_WIRES[: hearing.wires]) if hearing is not None else []
    measured = columns_of(profile, part, hearing)
    if hearing is not None and hearing.baud:
        uarts.append(_uart("UART_1", hearing.baud, hearing.parity, hearing.stop_bits))
    if part != "whole":
        uarts.append(_uart("UART_0", LINE_SPEED, "N", 1))
    said = inputs_said(hearing, [pin.words for pin in wires], zip(_MEASURED, measured, strict=False), "3 V")
    said += _said(part, hearing, bridges, servos, contacts)
    used: list[Any] = [one[of] for one in bridges for of in ("duty", "ahead", "back")]
    used += [one["pin"] for one in (*servos, *contacts)]
    ports = {port: sum(1 << pin.bit for pin in used if pin.port == port) for port in _BASES}
    hears = part == "robot" or bool(hearing is not None and hearing.baud)
    heard = _BYTES["UART_0" if part == "robot" else "UART_1"]
    there = {_TICK: "on_tick"} | ({heard: "on_byte"} if hears else {})
    there |= ({_DUTY: "on_duty"} if bridges else {}) | ({_SERVO: "on_servo"} if servos else {})
    there |= ({_EDGE: "on_edge"} if wires else {}) | ({_CONVERTED: "on_measured"} if measured else {})
    return {
        "wire_pins": wires, "edge_mask": f"0x{sum(1 << pin.bit for pin in wires):02X}", "edge_bit": _EDGE - 16,
        "measured": measured,
        "hears": hears, "bridges": bridges, "servo_pins": servos, "contact_pins": contacts, "uarts": uarts,
        "cortex_pins": said,
        "in_uart": "UART_0" if part == "robot" else "UART_1", "in_bit": heard - 16,
        "bases": _BASES, "uart_bases": _UART_BASES,
        "mhz": _CLOCK // 1_000_000, "chip_watchdog": CHIP_WATCHDOG,
        "cortex_ports": [
            {"name": port, "mask": f"0x{mask:02X}", "base": _BASES[port]} for port, mask in ports.items() if mask
        ],
        "handlers": [there.get(number, "on_error") for number in range(2, _VECTORS)],
    }  # fmt: skip


def _said(part: str, hearing: Hearing | None, bridges: list[Any], servos: list[Any], contacts: list[Any]) -> list[str]:
    """Describe each pin, for the head of the program."""
    said = []
    if hearing is not None and hearing.baud:
        inverted = " Its line is inverted: connect an inverter." if hearing.kind == "sbus" else ""
        what = "lines of numbers" if hearing.kind == "lines" else f"the receiver, {hearing.kind}"
        said.append(f"PD2: {what}, {hearing.words}.{inverted}")
    if part == "robot":
        said.append(f"PA0, PA1: velocity lines, and the answers to them, {LINE_SPEED} baud.")
    if part == "sticks":
        said.append(f"PA1: velocity lines to the board of the robot, {LINE_SPEED} baud.")
    for one in bridges:
        pins = ", ".join(one[of].words for of in ("duty", "ahead", "back"))
        said.append(f"{pins}: the duty, ahead and back of {one['name']}.")
    said += [f"{one['pin'].words}: the pulse of {one['name']}." for one in servos]
    return said + [f"{one['pin'].words}: on while {one['output']} is." for one in contacts]


def _uart(name: str, baud: int, parity: str, stop_bits: int) -> dict[str, Any]:
    """Describe the settings of a serial port: its divider in 64ths, and its bits."""
    port, *bits = _UARTS[name]
    divider = round(64 * _CLOCK / 16 / baud)
    parity_bits = {"N": 0x00, "E": 0x06, "O": 0x02}[parity]
    return {
        "name": name, "port": port, "mask": f"0x{sum(1 << bit for bit in bits):02X}",
        "whole": divider // 64, "parts": divider % 64,
        "bits": f"0x{0x70 | parity_bits | (0x08 if stop_bits == 2 else 0):02X}",
        "words": f"{baud} baud, 8{parity}{stop_bits}",
    }  # fmt: skip
