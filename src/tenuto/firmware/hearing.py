"""How sticks come to a board: bytes of a receiver, lines of numbers, or edges of pulses; and what reads each."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from tenuto.basics.findings import Finding, error
from tenuto.driving.plan import Plan
from tenuto.firmware.pieces import piece_file
from tenuto.profile.profile import Profile
from tenuto.protocols import LineDecoder, PpmDecoder, PwmDecoder
from tenuto.protocols.radio.base import RADIOS


@dataclass(frozen=True, kw_only=True)
class Hearing:
    """What reads the sticks of a board.

    Attributes:
        kind: of the source. decoder: the class with the piece of code beside it. baud, parity, stop_bits: of a serial
            line; a baud of 0 without one. columns, checksum: of lines of numbers. wires: of pulses, one for PPM.
    """

    kind: str
    decoder: Any
    baud: int = 0
    parity: str = "N"
    stop_bits: int = 1
    columns: tuple[str, ...] = ()
    checksum: bool = False
    wires: int = 0

    def channels(self, inputs: list[str]) -> list[tuple[int, str]]:
        """Return the place of each input in a frame, from 1, and its name."""
        if self.columns:
            return [(self.columns.index(name) + 1, name) for name in inputs]
        return [(int(name.removeprefix("channel_")), name) for name in inputs]

    @property
    def words(self) -> str:
        """Describe its serial line."""
        return f"{self.baud} baud, 8{self.parity}{self.stop_bits}" if self.baud else ""


def hearing_of(profile: Profile, plan: Plan, part: str, lines: str = "pins") -> Hearing | None:
    """Describe what reads the sticks; None if the program sets raw numbers, such as those of pins that measure.

    Args:
        profile, plan: of the robot. part: "whole", "sticks" or "robot", which reads velocity lines only.
        lines: for a source of the kind "lines": "pins" measures its columns, "serial" reads lines.
    """
    source: Any = profile.source
    if part == "robot":
        return None
    if source.kind == "lines" and lines == "serial":
        return Hearing(
            kind="lines", decoder=LineDecoder(), baud=source.baud, columns=source.columns, checksum=source.checksum
        )
    if source.kind == "ppm":
        return Hearing(kind="ppm", decoder=PpmDecoder(), wires=1)
    if source.kind == "pwm":
        return Hearing(kind="pwm", decoder=PwmDecoder(1), wires=len(source.line) or _last_channel(plan))
    radio = RADIOS.find(source.kind)
    if radio is None or piece_file(radio) is None:
        return None
    return Hearing(kind=radio.kind, decoder=radio(), baud=radio.baud, parity=radio.parity, stop_bits=radio.stop_bits)


def _last_channel(plan: Plan) -> int:
    reads = {name for control in plan.controls for name in control.all_reads}
    return max((int(name.removeprefix("channel_")) for name in reads if name.startswith("channel_")), default=1)


def _without_resistor(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Refuse a hold-to-run or a lever that enables, whose open wire may read anything."""
    for name in plan.permitting_controls():
        if profile.controls[name].pull is None:
            text = "what permits driving is measured at a pin, and an open wire may read as held"
            yield error(
                f"controls.{name}.pull", text, 'connect a resistor that releases it, and add pull = "down" or "up"'
            )


def wrong_hearing(profile: Profile, plan: Plan, part: str, lines: str) -> list[Finding]:
    """Refuse lines of numbers that a board cannot read, and channels that have no wire."""
    if lines == "pins":
        hearing = hearing_of(profile, plan, part)
        if hearing is not None and hearing.kind == "pwm" and _last_channel(plan) > hearing.wires:
            text = f"a control reads channel_{_last_channel(plan)}, and there are {hearing.wires} wires"
            return [error("source.line", text, "name a line for each channel up to it")]
        if profile.source.kind == "lines" and part != "robot":
            return [*_without_resistor(profile, plan)]
        return []
    source: Any = profile.source
    if source.kind != "lines" or part == "robot":
        found = "a board of the part robot hears velocity lines" if part == "robot" else f'found "{source.kind}"'
        return [error("source.kind", f'only lines of a source of the kind "lines" can be read: {found}',
                      "leave out --lines")]  # fmt: skip
    if not source.columns:
        return [error("source.columns", "a board cannot wait for a header", "name the columns")]
    return []
