"""The boards of complete programs: the functions of their pins, and why a profile does not fit one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from tenuto.driving.plan import Plan
from tenuto.firmware.constants import LINE_SPEED
from tenuto.firmware.facts import axes_of, centre_numbers
from tenuto.firmware.hearing import Hearing
from tenuto.firmware.refusals import steps_averaged
from tenuto.profile.profile import Profile


@dataclass(frozen=True)
class Pin:
    """A pin of the ATmega328P, by the number that is printed on its boards."""

    number: int

    @property
    def port(self) -> str:
        """Its port: B, C or D."""
        return "D" if self.number < 8 else "B" if self.number < 14 else "C"

    @property
    def bit(self) -> int:
        """Its bit of the port."""
        return self.number - {"D": 0, "B": 8, "C": 14}[self.port]

    @property
    def said(self) -> dict[str, Any]:
        """Return it as the templates name it."""
        return {"pin": self.words, "port": self.port, "bit": self.bit}

    @property
    def words(self) -> str:
        """The label on the board."""
        return f"A{self.number - 14}" if self.number >= 14 else f"{self.number}"


# For each H-bridge: the pin with the duty and its half of timer 2, the pin for forward, and the one for backward.
_BRIDGES = (("A", Pin(11), Pin(12), Pin(13)), ("B", Pin(3), Pin(4), Pin(5)))
_SERVOS = tuple(map(Pin, (6, 7, 8, 9, 10)))
# The pin with its own interrupt, for all channels on one wire.
_ONE_WIRE = Pin(2)
# Pins for measuring, and those for switching if nothing is measured at them.
_ANALOG = tuple(map(Pin, (14, 15, 16, 17, 18, 19)))
# The clock of the chip, and the permitted error of a baud rate: half a bit in the last of eleven.
CLOCK, _OFF = 16_000_000, 0.025
# The timeout of the chip's watchdog, and of that of a board with MicroPython, ms; a step itself
# takes some of it.
CHIP_WATCHDOG, BOARD_WATCHDOG = 120, 500
_FOR_A_STEP = 20
# Bytes of the ATmega328P for an S-curve, and for centres that are taken at start.
_FOR_ARRAYS = 1200


def misfits(profile: Profile, plan: Plan, part: str, hearing: Hearing | None) -> dict[str, str]:
    """Describe the targets for which a profile has no program, and why: target → reason."""
    both = no_input(profile, part, hearing, len(_ANALOG), len(_ANALOG)) or _no_output(profile, plan, part, hearing)
    wires = "source.kind: a sketch has an interrupt at two of its pins only; avr/ reads the wires"
    found = {
        "avr": both or too_slow(plan, CHIP_WATCHDOG) or _not_at_16_mhz(part, hearing) or _too_large(plan),
        "sketch": both or (wires if hearing is not None and hearing.kind == "pwm" else ""),
    }
    return {target: why for target, why in found.items() if why}


def _too_large(plan: Plan) -> str:
    """Explain what takes too much of the memory of an ATmega328P; the rest of a program fits."""
    curve = 4 * steps_averaged(plan) * (len(axes_of(plan.chassis)) + 1)
    centred = [control.name for control in plan.controls if control.centre_at_start]
    centring = 4 * centre_numbers(plan) * (2 * len(centred) + 1) if centred else 0
    if curve + centring <= _FOR_ARRAYS:
        return ""
    room = f"it has room for {_FOR_ARRAYS}"
    if curve >= centring:
        return f"limits.jerk: the S-curve takes {curve} bytes, and {room}: raise the jerk, or lower loop.rate"
    taken = f"controls.{centred[0]}.centre: taking centres at the start needs {centring} bytes"
    return f"{taken}, and {room}: lower loop.rate, or measure the centre"


def no_main(profile: Profile, plan: Plan, part: str, hearing: Hearing | None) -> str:
    """Explain why there is no program for a board with MicroPython; empty if there is one."""
    short = no_input(profile, part, hearing, len(_ANALOG), len(_ANALOG)) or _no_output(profile, plan, part, hearing)
    return short or too_slow(plan, BOARD_WATCHDOG)


def too_slow(plan: Plan, watchdog: int) -> str:
    """Explain why a loop is too slow for a watchdog with this timeout, ms; empty if it is not."""
    longest = watchdog - _FOR_A_STEP
    if 1000.0 * plan.period <= longest:
        return ""
    return f"loop.rate: its watchdog resets it after {watchdog} ms without a step: {1000 / longest:.1f} Hz at least"


def no_input(profile: Profile, part: str, hearing: Hearing | None, wires: int, measured: int) -> str:
    """Explain why the pins of a board cannot read the source; empty if they can.

    Args:
        wires, measured: the number of its pins for a receiver's pulses, and of those that measure a voltage.
    """
    if hearing is not None:
        return "" if hearing.wires <= wires else f"source.line: it has pins for {wires} wires"
    if part == "robot":
        return ""  # it reads lines
    columns = columns_of(profile, part, hearing)
    if columns:
        return "" if len(columns) <= measured else f"source.columns: it has {measured} pins that measure"
    if profile.source.kind == "lines":
        return "source.columns: name what each pin measures"
    return f'source.kind: its pins read a receiver, or potentiometers as of "lines", not "{profile.source.kind}"'


def inputs_said(
    hearing: Hearing | None, wires: Iterable[str], measured: Iterable[tuple[str, str]], volts: str
) -> list[str]:
    """Describe the input pins, for the head of a program.

    Args:
        wires: the pins of a receiver's pulses. measured: a pin and what it measures. volts: the range.
    """
    said = [f"{pin}: {name}, a voltage from 0 to {volts}." for pin, name in measured]
    for number, pin in enumerate(wires, 1):
        together = hearing is not None and hearing.kind == "ppm"
        channels = "pulses, all channels on one wire" if together else f"channel {number}"
        said.append(f"{pin}: the receiver's {channels}.")
    return said


def _not_at_16_mhz(part: str, hearing: Hearing | None) -> str:
    """Explain why an ATmega328P cannot read the source: its clock, or its one serial port."""
    if hearing is None or not hearing.baud:
        return ""
    if abs(CLOCK / 8 / (_divider(hearing.baud) + 1) / hearing.baud - 1.0) > _OFF:
        return f"source: its clock of 16 MHz makes no {hearing.baud} baud"
    if part == "sticks" and hearing.words != f"{LINE_SPEED} baud, 8N1":
        return "source.kind: its one serial port cannot read a receiver and write lines at another speed"
    return ""


def _no_output(profile: Profile, plan: Plan, part: str, hearing: Hearing | None) -> str:
    """Explain why its pins cannot drive the actuators and outputs."""
    if part == "sticks":
        return ""
    return pins_short(plan, len(_BRIDGES), len(_SERVOS), len(_ANALOG) - _pins_read(profile, part, hearing))


def pins_short(plan: Plan, bridges: int, servos: int, switched: int) -> str:
    """Explain why these numbers of pins cannot drive the actuators and outputs; empty if they can.

    Args:
        plan: of the robot. bridges, servos, switched: number of H-bridges, of pins with pulses, of pins that switch.
    """
    told = {name for one in plan.actuators for name in (one.of or (one.name,))}
    silent = [name for name in plan.chassis.bounds() if name not in told]
    if silent:
        return f"actuators.{silent[0]}: its pins need a form: duty, pulse or contacts"
    for one in plan.actuators:
        if one.form not in ("duty", "pulse", "contacts"):
            return f'actuators.{one.name}.form: its pins do duty, pulse and contacts, not "{one.form}"'
    for form, most in (("duty", bridges), ("pulse", servos)):
        if sum(one.form == form for one in plan.actuators) > most:
            return f"actuators: it has pins for {most} of the form {form}"
    return f"actuators and outputs: {switched} of its pins switch" if len(contacts_of(plan)) > switched else ""


def columns_of(profile: Profile, part: str, hearing: Hearing | None) -> tuple[str, ...]:
    """Return the columns that the pins of a board measure; a board prints them on the desk too."""
    if hearing is not None or part == "robot" or profile.source.kind != "lines":
        return ()
    return tuple(getattr(profile.source, "columns", ()))


def _wires(hearing: Hearing | None) -> list[Pin]:
    """Return the pins for the wires of a receiver."""
    if hearing is None or not hearing.wires:
        return []
    return [_ONE_WIRE] if hearing.kind == "ppm" else list(_ANALOG[: hearing.wires])


def _pins_read(profile: Profile, part: str, hearing: Hearing | None) -> int:
    """Count the pins, from A0 on, that are inputs."""
    return len(columns_of(profile, part, hearing)) + sum(pin in _ANALOG for pin in _wires(hearing))


def _divider(baud: int) -> int:
    return round(CLOCK / 8 / baud) - 1


def contacts_of(plan: Plan) -> list[dict[str, Any]]:
    """List what a pin switches: contacts of actuators, and outputs without a form of their own."""
    found = [
        {"output": name, "level": False}
        for one in plan.actuators if one.form == "contacts" for name in one.outputs
    ]  # fmt: skip
    formed = {one.name for one in plan.actuators}
    return found + [{"output": name, "level": True} for name in plan.output_names() if name not in formed]


def _serial(hearing: Hearing | None) -> dict[str, Any]:
    """Describe the settings of its serial port: those of the receiver, or of lines."""
    baud, parity, stop_bits = LINE_SPEED, "N", 1
    if hearing is not None and hearing.baud:
        baud, parity, stop_bits = hearing.baud, hearing.parity, hearing.stop_bits
    bits = {"N": [], "E": ["UPM01"], "O": ["UPM01", "UPM00"]}[parity] + ["USBS0"] * (stop_bits == 2)
    return {
        "baud": baud,
        "ubrr": _divider(baud),
        "frame_bits": " | ".join(f"1 << {bit}" for bit in (*bits, "UCSZ01", "UCSZ00")),
    }


def board_of(profile: Profile, plan: Plan, part: str, hearing: Hearing | None) -> dict[str, Any]:
    """Describe the functions of the pins, for the templates of a board; for a profile that fits one."""
    columns, wires = columns_of(profile, part, hearing), _wires(hearing)
    whole = part != "sticks"
    bridged = [one for one in plan.actuators if one.form == "duty" and whole]
    servos = list(zip([one for one in plan.actuators if one.form == "pulse" and whole], _SERVOS, strict=False))
    switched = list(
        zip(contacts_of(plan) if whole else [], _ANALOG[_pins_read(profile, part, hearing) :], strict=False)
    )
    measured = [(f"Pin {pin.words}", name) for name, pin in zip(columns, _ANALOG, strict=False)]
    said = inputs_said(hearing, [f"Pin {pin.words}" for pin in wires], measured, "that of the board")
    hears = part == "robot" or (hearing is not None and hearing.baud > 0)
    uart = ["1 << RXEN0", "1 << RXCIE0"] * hears + ["1 << TXEN0"] * (part != "whole")
    used = list[Pin]()
    for one, (_, pwm, ahead, back) in zip(bridged, _BRIDGES, strict=False):
        said.append(f"Pins {pwm.words}, {ahead.words}, {back.words}: the duty, ahead and back of {one.name}.")
        used += [pwm, ahead, back]
    said += [f"Pin {pin.words}: the pulse of {servo.name}." for servo, pin in servos]
    said += [f"Pin {pin.words}: on while {contact['output']} is." for contact, pin in switched]
    used += [pin for _, pin in (*servos, *switched)]
    masks = {name: sum(1 << pin.bit for pin in used if pin.port == name) for name in "BCD"}
    return {
        "pins": said, "analog": columns, **_serial(hearing),
        "watchdog": BOARD_WATCHDOG, "chip_watchdog": CHIP_WATCHDOG, "hears": hears,
        "uart": " | ".join(uart) or "0", "edge_pins": [pin.said for pin in wires],
        "duties": [
            {"name": one.name, "bits": one.bits, "timer": timer, "ahead": ahead, "back": back,
             "pins": [pin.words for pin in (duty, ahead, back)]}
            for one, (timer, duty, ahead, back) in zip(bridged, _BRIDGES, strict=False)
        ],
        "pulses": [{"name": one.name, "level": one.level} | pin.said for one, pin in servos],
        "contacts": [one | pin.said for one, pin in switched],
        "ports": [{"name": name, "mask": f"0x{mask:02X}"} for name, mask in masks.items() if mask],
    }  # fmt: skip
