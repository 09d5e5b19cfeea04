"""The boards that a whole program is made for: which pins do what, and why a profile does not fit one."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from tenuto.driving.plan import Plan
from tenuto.firmware.pieces import piece_file
from tenuto.profile.profile import Profile
from tenuto.protocols.radio.base import RADIOS


@dataclass(frozen=True)
class Pin:
    """A pin of the ATmega328P, by the number that its boards print."""

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
    def words(self) -> str:
        """What the board prints beside it."""
        return f"A{self.number - 14}" if self.number >= 14 else f"{self.number}"


# Of each H-bridge: the pin with the duty and its half of timer 2, the pin that is on ahead, and that on backwards.
_BRIDGES = (("A", Pin(11), Pin(12), Pin(13)), ("B", Pin(3), Pin(4), Pin(5)))
_SERVOS = tuple(map(Pin, (6, 7, 8, 9, 10)))
_SWITCHED = tuple(map(Pin, (14, 15, 16, 17, 18, 19)))
# The clock of the chip, and how far off a baud rate may be: half a bit in the last of eleven.
_CLOCK, _OFF = 16_000_000, 0.025


def avr_misfit(profile: Profile, plan: Plan) -> str:
    """Say why a profile has no program for the ATmega328P; empty where it has."""
    radio = RADIOS.find(profile.source.kind)
    if radio is None or piece_file(radio) is None:
        return f'source.kind: its pins read a radio receiver, not "{profile.source.kind}"'
    if abs(_CLOCK / 8 / (_divider(radio.baud) + 1) / radio.baud - 1.0) > _OFF:
        return f"source.kind: its clock of 16 MHz makes no {radio.baud} baud"
    told = {name for one in plan.actuators for name in (one.of or (one.name,))}
    silent = [name for name in plan.chassis.bounds() if name not in told]
    if silent:
        return f"actuators.{silent[0]}: its pins need a form: duty, pulse or contacts"
    for one in plan.actuators:
        if one.form not in ("duty", "pulse", "contacts"):
            return f'actuators.{one.name}.form: its pins do duty, pulse and contacts, not "{one.form}"'
    for form, most in (("duty", len(_BRIDGES)), ("pulse", len(_SERVOS))):
        if sum(one.form == form for one in plan.actuators) > most:
            return f"actuators: it has pins for {most} of the form {form}"
    if len(_contacts(plan)) > len(_SWITCHED):
        return f"actuators and outputs: it has {len(_SWITCHED)} pins that switch"
    return ""


def _divider(baud: int) -> int:
    return round(_CLOCK / 8 / baud) - 1


def _contacts(plan: Plan) -> list[dict[str, Any]]:
    """List what a pin switches: contacts of actuators, and outputs that have no form of their own."""
    found = [
        {"get": name, "level": False}
        for one in plan.actuators if one.form == "contacts" for name in one.outputs
    ]  # fmt: skip
    formed = {one.name for one in plan.actuators}
    return found + [{"get": name, "level": True} for name in plan.output_names() if name not in formed]


def avr_board(profile: Profile, plan: Plan) -> dict[str, Any]:
    """Say which pins do what, for the templates of the ATmega328P; of a profile that fits it."""
    radio = RADIOS.all[profile.source.kind]
    bridged = [one for one in plan.actuators if one.form == "duty"]
    duties = [
        {"name": one.name, "bits": one.bits, "timer": timer, "ahead": ahead, "back": back}
        for one, (timer, _, ahead, back) in zip(bridged, _BRIDGES, strict=False)
    ]
    servos = list(zip([one for one in plan.actuators if one.form == "pulse"], _SERVOS, strict=False))
    switched = list(zip(_contacts(plan), _SWITCHED, strict=False))
    said, used = [], []
    for one, (_, pwm, ahead, back) in zip(bridged, _BRIDGES, strict=False):
        said.append(f"Pins {pwm.words}, {ahead.words}, {back.words}: the duty, ahead and back of {one.name}.")
        used += [pwm, ahead, back]
    for servo, pin in servos:
        said.append(f"Pin {pin.words}: the pulse of {servo.name}.")
        used.append(pin)
    for contact, pin in switched:
        said.append(f"Pin {pin.words}: on while {contact['get']} is.")
        used.append(pin)
    masks = {name: sum(1 << pin.bit for pin in used if pin.port == name) for name in "BCD"}
    parity = {"N": "0", "E": "1 << UPM01", "O": "1 << UPM01 | 1 << UPM00"}[radio.parity]
    return {
        "duties": duties, "pins": said,
        "pulses": [{"name": one.name, "level": one.level, "port": pin.port, "bit": pin.bit} for one, pin in servos],
        "contacts": [one | {"port": pin.port, "bit": pin.bit} for one, pin in switched],
        "ports": [{"name": name, "mask": f"0x{mask:02X}"} for name, mask in masks.items() if mask],
        "ubrr": _divider(radio.baud),
        "frame_bits": f"{parity} | {'1 << USBS0 | ' if radio.stop_bits == 2 else ''}1 << UCSZ01 | 1 << UCSZ00",
    }  # fmt: skip
