"""What an autopilot says of itself over MAVLink, message by message, as telemetry; sans I/O."""

from __future__ import annotations

import math
import secrets
from collections import deque
from collections.abc import Callable, Mapping
from typing import Any

from pymavlink.dialects.v20 import common as dialect

from tenuto.basics.text import readable
from tenuto.driving.telemetry import Telemetry
from tenuto.protocols.mavlink import order_number, says_armed, signed_at

# Timeouts, s: of a heartbeat, of messages that come ten times a second, and of the battery.
SILENT_AFTER = 3.0
_STALE, _BATTERY_STALE = 1.0, 10.0
# A signed message that is later than this does not count, s: a slow radio needs a part of it.
LATEST = 2.0
# Loss is counted over this time, s, and over this number of messages at least.
_WINDOW, _FEWEST = 5.0, 5
# What is requested if it does not come by itself: message → interval, µs.
WANTED: Mapping[str, tuple[int, int]] = {
    "LOCAL_POSITION_NED": (dialect.MAVLINK_MSG_ID_LOCAL_POSITION_NED, 100_000),
    "ATTITUDE": (dialect.MAVLINK_MSG_ID_ATTITUDE, 100_000),
    "SYS_STATUS": (dialect.MAVLINK_MSG_ID_SYS_STATUS, 1_000_000),
    "EXTENDED_SYS_STATE": (dialect.MAVLINK_MSG_ID_EXTENDED_SYS_STATE, 500_000),
}
_IN_THE_AIR = (dialect.MAV_LANDED_STATE_IN_AIR, dialect.MAV_LANDED_STATE_TAKEOFF, dialect.MAV_LANDED_STATE_LANDING)


class AutopilotSays:
    """Collects what one autopilot reports.

    Attributes:
        armed, mode: as its newest heartbeat has them; None before the first.
    """

    def __init__(self, modes: Mapping[str, int], takes_in: str, *, guided: bool) -> None:
        """Set the names of its modes.

        Args:
            modes: name → number, as its heartbeat has them. takes_in: the mode in which it accepts our commands;
                empty if that is not known.
            guided: if that is not known, its heartbeat must have the flag of a guided mode.
        """
        self._names = {number: name for name, number in modes.items()}
        self._takes_in, self._guided = takes_in, guided
        self.armed: bool | None = None
        self.mode: int | None = None
        self._base, self._system = 0, 0
        self._at: dict[str, float] = {}
        self._said = Telemetry()
        self._yaw = math.nan
        self._order: int | None = None
        self._gaps: deque[tuple[float, int]] = deque()
        self._asked: dict[int, float] = {}
        # Nobody has an answer to these from an earlier day.
        self._stamps_from = secrets.randbits(60)

    def take(self, message: Any, now: float) -> None:
        """Take a message of the autopilot, at ``now``, s."""
        kind = message.get_type()
        self._at[kind] = now
        self._said = self._said._replace(time=now)
        self._count(order_number(message), now)
        reader = _READERS.get(kind)
        if reader is not None:
            reader(self, message, now)

    def pass_over(self, message: Any, now: float) -> None:
        """Note that a message outside the dialect came, so that it is not counted as lost. Its content is not used."""
        self._count(order_number(message), now)

    def telemetry(self, now: float) -> Telemetry:
        """Return all that is known at ``now``, s; values that timed out are left out."""
        said, nan = self._said, math.nan
        if self._older("LOCAL_POSITION_NED", _STALE, now):
            said = said._replace(x=nan, y=nan, height=nan, vx=nan, vy=nan, vz=nan)
        if self._older("ATTITUDE", _STALE, now):
            said = said._replace(heading=nan, yaw_rate=nan, vx=nan, vy=nan)
        if self._older("SYS_STATUS", _BATTERY_STALE, now):
            said = said._replace(voltage=nan, charge=nan)
        if self._older("EXTENDED_SYS_STATE", SILENT_AFTER, now):
            said = said._replace(flying=None)
        lost = sum(gap for _, gap in self._gaps)
        if len(self._gaps) >= _FEWEST:
            said = said._replace(loss=lost / (lost + len(self._gaps)))
        if self._older("HEARTBEAT", SILENT_AFTER, now):
            return said._replace(follows=None, state="", armed=None, mode="")
        why = self._why_not()
        state = dialect.enums["MAV_STATE"].get(self._system)
        words = state.name.removeprefix("MAV_STATE_").lower() if state is not None else ""
        return said._replace(follows=not why, reasons=why, state=words, armed=self.armed, mode=self.mode_in_words())

    def mode_in_words(self) -> str:
        """Return the name of its mode, or its number; empty before the first heartbeat."""
        return "" if self.mode is None else self._names.get(self.mode, str(self.mode))

    def sync(self, now: float) -> int:
        """Return the time stamp of a TIMESYNC to send at ``now``, s: its answer shows the round-trip time."""
        stamp = self._stamps_from + int(now * 1e9) + 1
        self._asked[stamp] = now
        while len(self._asked) > 10:
            self._asked.pop(next(iter(self._asked)))
        return stamp

    def answers(self, message: Any, now: float) -> bool:
        """Return whether a message answers a TIMESYNC that was sent a moment ago."""
        asked = self._asked.get(message.ts1) if message.get_type() == "TIMESYNC" and message.tc1 else None
        return asked is not None and 0.0 <= now - asked <= LATEST

    def unheard(self, now: float) -> list[tuple[int, int]]:
        """List the messages that are needed and do not come, and their intervals, µs."""
        return [what for kind, what in WANTED.items() if self._older(kind, SILENT_AFTER, now)]

    def _older(self, kind: str, than: float, now: float) -> bool:
        return now - self._at.get(kind, -math.inf) > than

    def _why_not(self) -> tuple[str, ...]:
        why = () if self.armed else ("it is not armed",)
        if self._takes_in and self.mode_in_words() != self._takes_in:
            return (*why, f"its mode is {self.mode_in_words()}, and it takes our commands in {self._takes_in}")
        flags = dialect.MAV_MODE_FLAG_GUIDED_ENABLED | dialect.MAV_MODE_FLAG_AUTO_ENABLED
        if not self._takes_in and self._guided and not self._base & flags:
            return (*why, "its mode takes no velocities: its heartbeat does not say that it is guided")
        return why

    def _count(self, order: int, now: float) -> None:
        if self._order is not None:
            self._gaps.append((now, (order - self._order - 1) % 256))
            if self._gaps[-1][1] > 128:
                self._gaps.clear()  # it was restarted
        self._order = order
        while self._gaps and self._gaps[0][0] < now - _WINDOW:
            self._gaps.popleft()

    def _heartbeat(self, message: Any, now: float) -> None:
        self.armed, self.mode = says_armed(message), message.custom_mode
        self._base, self._system = message.base_mode, message.system_status

    def _position(self, message: Any, now: float) -> None:
        c, s = math.cos(self._yaw), math.sin(self._yaw)
        ahead, right = message.vx * c + message.vy * s, message.vy * c - message.vx * s
        self._said = self._said._replace(
            x=message.x, y=-message.y, height=-message.z, vx=ahead, vy=0.0 - right, vz=0.0 - message.vz
        )

    def _attitude(self, message: Any, now: float) -> None:
        self._yaw = message.yaw
        self._said = self._said._replace(heading=0.0 - message.yaw, yaw_rate=0.0 - message.yawspeed)

    def _battery(self, message: Any, now: float) -> None:
        known = message.voltage_battery not in (0, 65535)
        left = message.battery_remaining
        self._said = self._said._replace(
            voltage=message.voltage_battery / 1000.0 if known else math.nan,
            charge=left / 100.0 if 0 <= left <= 100 else math.nan,
        )

    def _landed(self, message: Any, now: float) -> None:
        known = message.landed_state != dialect.MAV_LANDED_STATE_UNDEFINED
        self._said = self._said._replace(flying=message.landed_state in _IN_THE_AIR if known else None)

    def _synced(self, message: Any, now: float) -> None:
        asked = self._asked.pop(message.ts1, None) if message.tc1 else None
        if asked is not None:
            self._said = self._said._replace(round_trip=now - asked)


class Proof:
    """Whether signed messages are new: their sender has answered a TIMESYNC of ours, and its clock goes on from there.

    A signature alone does not show this: a recording of yesterday is signed too.
    """

    def __init__(self) -> None:
        self._base: tuple[float, float] | None = None

    @property
    def given(self) -> bool:
        """Whether the sender has ever answered."""
        return self._base is not None

    def answered(self, message: Any, now: float) -> None:
        """Take the answer to a TIMESYNC that was just sent."""
        self._base = (now, signed_at(message))

    def is_new(self, message: Any, now: float) -> bool:
        """Return whether a signed message was sent a moment ago. A clock that is set forward is no fault."""
        if self._base is None:
            return False
        ours, theirs = self._base
        return (now - ours) - (signed_at(message) - theirs) <= LATEST


_READERS: Mapping[str, Callable[[AutopilotSays, Any, float], None]] = {
    "HEARTBEAT": AutopilotSays._heartbeat,
    "LOCAL_POSITION_NED": AutopilotSays._position,
    "ATTITUDE": AutopilotSays._attitude,
    "SYS_STATUS": AutopilotSays._battery,
    "EXTENDED_SYS_STATE": AutopilotSays._landed,
    "TIMESYNC": AutopilotSays._synced,
}


def warning_in(message: Any) -> str:
    """Return the warning in a STATUSTEXT, safe for a terminal; empty if it is not a warning."""
    return readable(message.text) if message.severity <= dialect.MAV_SEVERITY_WARNING else ""
