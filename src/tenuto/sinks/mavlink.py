"""An autopilot that speaks MAVLink 2, over UDP or a serial line."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.late import Late
from tenuto.basics.text import readable
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.kinds.options import About, option
from tenuto.kinds.quantities import FREQUENCY, TIME
from tenuto.links.key_file import read_key
from tenuto.links.udp import Address, UdpPort, parse_address
from tenuto.sinks.base import RatedSinkOptions, Sink, metres_wanted
from tenuto.sinks.port import OutPort
from tenuto.sinks.servo_frames import pulses_of, pulses_to_send
from tenuto.vehicles.velocity import STANDSTILL

if TYPE_CHECKING:
    from tenuto.protocols import mavlink
else:
    mavlink = Late("tenuto.protocols.mavlink", SinkError, how_to_get("pymavlink"))

SENDS = ("velocity", "sticks", "channels")
_STOPS, _APART = 5, 0.02
_HEARTBEAT_EVERY = 1.0
# How long an autopilot may be silent before the driver is told, s.
_SILENT_AFTER = 3.0
# A command is sent so often, each time after so long without an answer, s; one under way may take so long in all.
_TRIES, _ANSWER_WITHIN, _DONE_WITHIN = 3, 0.5, 30.0
# How long the driver is told of what went wrong, s.
_TOLD_FOR = 5.0
# A power off that was refused is asked for again after so long, s.
_REFUSED_FOR = 1.0
_POWER_OFF = "power off"
_WARNING = 4  # MAV_SEVERITY: this, and what is lower, is told


@dataclass(frozen=True, slots=True)
class AutopilotCommand:
    """What an action of the profile means to the autopilot.

    Attributes:
        command: its name in the standard, such as ``MAV_CMD_NAV_TAKEOFF``.
        parameters: 1…7 → value; those left out are 0.
        pause: for so long after it, s, no standstill is sent while somebody drives: to some autopilots a standstill
            is a setpoint that breaks a take-off off. A stick that is moved, or let go of everything, ends it.
    """

    command: str
    parameters: Mapping[int, float] = field(default_factory=dict)
    pause: float = 0.0


class _Order(NamedTuple):
    """What the autopilot is told; ``armed`` is what its heartbeat must say before that is done, where it says that."""

    name: str
    number: int
    parameters: Mapping[int, float]
    armed: bool | None = None


class MavlinkSink(Sink):
    """Sends velocities, sticks or channels, a heartbeat each second, and actions as commands.

    The heartbeat leaves only while ticks come, so an autopilot notices a loop that has died. Nothing at all leaves
    while the profile wants silence (`Tick.send`).

    Attributes:
        bad: how many broken, unsigned or wrongly signed messages came back.

    Raises:
        SinkError: the address, the port, the key file or a setting is not good; pymavlink is not installed.
    """

    def __init__(
        self,
        place: str,
        *,
        baud: int = 57_600,
        rate: float = 20.0,
        sends: str = "velocity",
        channels: tuple[str, ...] = (),
        middle: int | None = None,
        yaw: str = "left",
        system: int = 255,
        component: int = 190,
        target_system: int = 1,
        target_component: int = 1,
        key: str | None = None,
        commands: Mapping[str, AutopilotCommand] | None = None,
    ) -> None:
        """Open the way to an autopilot.

        Args:
            place: ``HOST:PORT`` to send there, ``:PORT`` to wait there for the autopilot to speak first, or a serial
                port. baud: of a serial port.
            rate: how many setpoints a second.
            sends: "velocity", "sticks" (shares of the full speeds) or "channels" (pulses of the actuators).
            channels: the actuators from channel 1 on; all that have pulses if none are named.
            middle, yaw: see `tenuto.protocols.mavlink.manual_sticks`; ``middle`` must be said for what climbs.
            system, component: who this is. target_system, target_component: who is spoken to.
            key: a file with the key that messages are signed with, and must be.
            commands: the name of an action → what the autopilot is told.
        """
        if sends not in SENDS:
            raise SinkError(f"mavlink: expected sends to be one of {', '.join(SENDS)}; found {sends}")
        if yaw not in ("left", "right") or middle not in (None, 0, 500):
            raise SinkError("mavlink: expected yaw to be left or right, and middle to be 0 or 500")
        self.name = f"MAVLink at {place}"
        self.period = 1.0 / rate
        self._sends, self._asked, self._names = sends, channels, channels
        self._middle, self._yaw = middle, yaw
        self._target = mavlink.Member(target_system, target_component)
        self._orders = {name: (_order(name, one), one.pause) for name, one in (commands or {}).items()}
        self._mav = mavlink.MavlinkLink(
            mavlink.Member(system, component), read_key(key, SinkError) if key is not None else None
        )
        self._port = _open(place, baud)
        self._waiting: deque[_Order] = deque()
        self._tries = 0
        self._sent_at = self._began_at = 0.0
        self._quiet_until = 0.0
        self._beat_at = -_HEARTBEAT_EVERY
        self._now = 0.0  # all by the loop's clock, as the ticks have it
        self._heard: float | None = None
        self._said: tuple[float, str] = (-_TOLD_FOR, "")
        self._powered = True
        self._armed: bool | None = None
        self._quiet_in = State.DRIVING

    @property
    def bad(self) -> int:
        """How many messages came that do not count."""
        return self._mav.bad

    @property
    def problem(self) -> str:
        """Say that the autopilot is silent, has refused something, or warns."""
        now, heard = self._now, self._heard
        silent = now - (heard or 0.0)
        if silent > _SILENT_AFTER:
            what = "no heartbeat" if heard is not None else "no heartbeat yet"
            wrong = f"; {self.bad} messages do not count: is the key the same at both ends?" if self.bad else ""
            return f"{self.name}: {what} for {silent:.1f} s from system {self._target.system}{wrong}"
        at, text = self._said
        if now - at < _TOLD_FOR:
            return f"{self.name}: {text}"
        if self._armed and not self._powered:
            return f"{self.name}: it is still armed, and its power is to be off"
        return f"{self.name}: {self._port.slow}" if self._port.slow else ""

    def start(self, plan: Plan) -> None:
        """Make sure that the plan has what is to be sent.

        Raises:
            SinkError: it has not.
        """
        if self._sends == "velocity":
            metres_wanted(self.name, plan)
        self._speeds = plan.full_speeds()
        if self._sends == "channels":
            self._names = pulses_of(self.name, plan, self._asked, mavlink.MOST_CHANNELS)
            of_outputs = {output for one in plan.actuators if one.level for output in one.outputs}
            self._rest = {name: value for name, value in plan.wire_at_rest().items() if name not in of_outputs}
        climbs = self._speeds.up > 0.0 or self._speeds.down > 0.0
        if self._sends == "sticks" and climbs and self._middle is None:
            raise SinkError(
                f"{self.name}: say what the middle of the climbing stick is: middle = 500 where the autopilot counts "
                "it from 0 to 1000, as most that hold their height do; 0 where it counts from -1000"
            )

    def write(self, tick: Tick) -> None:
        """Send the setpoint of a tick, the heartbeat when its time has come, and what the driver has asked for."""
        now = self._now = tick.time
        self._listen(now)
        if not tick.send:
            return
        self._beat(now)
        for action in tick.actions:
            if action in self._orders:
                order, pause = self._orders[action]
                self._waiting.append(order)
                self._quiet_until, self._quiet_in = now + pause, tick.guard.state
        self._take_power_off(tick)
        self._command(now)
        if not self._port.free(now):
            return  # a line that is slow has not sent the one before: the next one is newer
        if now >= self._quiet_until:
            self._send(self._setpoint(tick))
        elif (tick.guard.reasons and tick.guard.state is not self._quiet_in) or tick.command != STANDSTILL:
            # After a silence a careful autopilot follows a standstill only, and then the rest.
            self._quiet_until = now
            self._send(self._setpoint(tick, still=True))

    def stop(self, tick: Tick) -> None:
        """Send the standstill several times, unless nothing is to be sent at all."""
        for _ in range(_STOPS if tick.send else 0):
            self.wait(self._port.free_in(self._now))
            self._send(self._setpoint(tick, still=True))
            self.wait(_APART)

    def close(self) -> None:
        """Close the way to the autopilot."""
        self._port.close()

    def _setpoint(self, tick: Tick, still: bool = False) -> Any:
        command = STANDSTILL if still else tick.command
        if self._sends == "velocity":
            return mavlink.velocity_setpoint(self._target, command, int(1000 * tick.time))
        if self._sends == "sticks":
            return mavlink.manual_sticks(self._target, self._speeds.shares(command), self._middle or 0, self._yaw)
        still = still or not tick.power
        wire = {**tick.wire, **self._rest} if still else tick.wire  # outputs keep to their levels
        return mavlink.channel_overrides(self._target, pulses_to_send(wire, self._names))

    def _send(self, message: Any) -> None:
        self._port.write(self._mav.pack(message), self._now)

    def _take_power_off(self, tick: Tick) -> None:
        """Void what was asked for before an emergency stop, or before the power went off, and disarm for the latter."""
        off = not tick.power and self._powered
        self._powered = tick.power
        if off or (tick.guard.state is State.EMERGENCY_STOP and tick.power):
            self._waiting.clear()
            self._tries = 0
        # What says that it is armed after all is told again, whoever armed it.
        armed = self._armed and not tick.power and not any(one.name == _POWER_OFF for one in self._waiting)
        if off or armed:
            self._waiting.append(_Order(_POWER_OFF, *mavlink.POWER_OFF, armed=False))

    def _beat(self, now: float) -> None:
        if now - self._beat_at >= _HEARTBEAT_EVERY:
            self._beat_at = now
            self._send(mavlink.heartbeat_of_station())

    def _command(self, now: float) -> None:
        """Send the command at the head of the queue: once, and again as long as no answer comes."""
        if not self._waiting or (self._tries and now - self._sent_at < _ANSWER_WITHIN):
            return
        order = self._waiting[0]
        if self._tries >= _TRIES:
            text = f'no answer to "{order.name}", which was sent {self._tries} times'
            if order.name != _POWER_OFF:
                self._finish(now, text)
                return
            self._said = (now, text)  # but the power has to go: it is asked for until somebody answers
        self._send(mavlink.command(self._target, order.number, order.parameters, min(self._tries, 255)))
        self._began_at = now if self._tries == 0 else self._began_at
        self._tries, self._sent_at = self._tries + 1, now

    def _finish(self, now: float, text: str = "") -> None:
        """Be done with the command at the head of the queue."""
        self._waiting.popleft()
        self._tries = 0
        if text:
            self._said = (now, text)

    def _listen(self, now: float) -> None:
        for message, answer_to in self._port.read(self._mav, now):
            if mavlink.sender(message) != self._target:
                continue
            kind = message.get_type()
            if kind == "HEARTBEAT":
                self._heard, self._armed = now, mavlink.says_armed(message)
                self._port.answer_to(answer_to, now)
                head = self._waiting[0] if self._waiting and self._tries else None
                if head is not None and head.armed is self._armed and now - self._began_at >= _ANSWER_WITHIN:
                    self._finish(now)  # what was on its way when it was asked for says nothing
            elif kind == "COMMAND_ACK":
                self._answered(message, now)
            elif kind == "STATUSTEXT" and message.severity <= _WARNING:
                self._said = (now, f'it says "{readable(message.text)}"')

    def _answered(self, ack: Any, now: float) -> None:
        """Take the acknowledgement of a command."""
        if not self._waiting or not self._tries or ack.command != self._waiting[0].number:
            return
        if ack.target_system not in (0, self._mav.me.system):
            return
        head = self._waiting[0]
        if ack.result == mavlink.IN_PROGRESS and now - self._began_at < _DONE_WITHIN:
            self._tries, self._sent_at = 1, now
        elif ack.result == mavlink.ACCEPTED and head.armed is False:
            # Its heartbeat has to say so: arm and disarm have one number, and this may be the answer to the other.
            self._tries, self._sent_at = 1, now
        elif ack.result == mavlink.ACCEPTED:
            self._finish(now)
        elif head.name == _POWER_OFF:
            self._said = (now, f'"{head.name}": {mavlink.result_in_words(ack.result)}')
            self._tries, self._sent_at = 1, now + _REFUSED_FOR - _ANSWER_WITHIN
        else:
            self._finish(now, f'"{head.name}": {mavlink.result_in_words(ack.result)}')


class _UdpLink:
    def __init__(self, place: str) -> None:
        host, number = parse_address(place, SinkError)
        self._waits, self._heard = not host, -math.inf
        self._udp = (
            UdpPort(bind=("", number), error=SinkError)
            if self._waits
            else UdpPort(peer=(host, number), error=SinkError)
        )

    slow = ""

    def free(self, now: float) -> bool:
        return True

    def free_in(self, now: float) -> float:
        return 0.0

    def write(self, data: bytes, now: float) -> None:
        self._udp.send(data)

    def read(self, mav: mavlink.MavlinkLink, now: float) -> Iterable[tuple[Any, Address]]:
        # Whoever was waited for and is gone may come back from another port, as a program that was started again does.
        gone = self._waits and now - self._heard > _SILENT_AFTER
        for data, address in self._udp.receive():
            # Where it sends to an address, only what comes from there is heard.
            if gone or self._udp.peer in (None, address):
                yield from ((message, address) for message in mav.feed(data, whole=True))

    def answer_to(self, address: Address, now: float) -> None:
        if self._waits and (self._udp.peer in (None, address) or now - self._heard > _SILENT_AFTER):
            self._udp.peer, self._heard = address, now

    def close(self) -> None:
        self._udp.close()


class _SerialLink(OutPort):
    def read(self, mav: mavlink.MavlinkLink, now: float) -> Iterable[tuple[Any, Address]]:
        return [(message, ("", 0)) for message in mav.feed(self.read_bytes())]

    def answer_to(self, address: Address, now: float) -> None:
        """Answer where it came from: there is only one end."""


def _open(place: str, baud: int) -> _UdpLink | _SerialLink:
    return _SerialLink(place, baud) if "/" in place or ":" not in place else _UdpLink(place)


def _order(action: str, one: AutopilotCommand) -> _Order:
    number = mavlink.command_number(one.command)
    if number is None:
        raise SinkError(f'mavlink: "{action}": {one.command} is no command of the standard, such as MAV_CMD_NAV_LAND')
    if not set(one.parameters) <= set(range(1, 8)):
        raise SinkError(f'mavlink: "{action}": its parameters have the numbers 1 to 7')
    armed = one.parameters.get(1, 0.0) == 1.0 if number == mavlink.POWER_OFF[0] else None
    return _Order(action, number, one.parameters, armed)


@dataclass(frozen=True, kw_only=True)
class CommandOptions:
    """``[sinks.NAME.commands."ACTION"]``: what an action of the profile means to an autopilot."""

    command: str = option("a command of the MAVLink standard, such as MAV_CMD_NAV_TAKEOFF")
    parameters: dict[Literal["1", "2", "3", "4", "5", "6", "7"], float] = field(
        default_factory=dict,
        metadata={"about": About("numbers 1 to 7 and their values, such as { 7 = 2.5 }", nan=True)},
    )
    pause: float = option('a time, such as "5 s"', 0.0, dimension=TIME)


def _no_numbers(one: CommandOptions) -> Iterator[Finding]:
    """Refuse what is no number where the standard gives it no meaning: it is "as now" of a heading or a place."""
    for number, value in one.parameters.items():
        meant = one.command.startswith("MAV_CMD_NAV_") and number in ("4", "5", "6")
        if not (math.isfinite(value) or (math.isnan(value) and meant)):
            expected = "a number, or nan for the heading and place (4, 5, 6) of a MAV_CMD_NAV_ command"
            yield unexpected(f"parameters.{number}", expected, f"{value}")


@dataclass(frozen=True, kw_only=True)
class MavlinkOptions(RatedSinkOptions):
    """An autopilot that speaks MAVLink 2."""

    kind: ClassVar[str] = "mavlink"
    address: str | None = option("an address, such as 127.0.0.1:14550", None, word="HOST:PORT|:PORT|PORT", place=True)
    port: str | None = option("a serial port, such as /dev/ttyUSB0", None)
    baud: int = option("a whole number of baud, such as 57600", 57_600, above=0, word="N")
    rate: float = option('a frequency, such as "25 Hz"', 20.0, dimension=FREQUENCY, word="HZ")
    sends: Literal["velocity", "sticks", "channels"] = option(
        '"velocity", "sticks" or "channels"', "velocity", word="velocity|sticks|channels"
    )
    channels: tuple[str, ...] = option("a list of actuators, from channel 1 on", (), word="A|B")
    middle: Literal[0, 500] | None = option("0 or 500", None, word="0|500")
    yaw: Literal["left", "right"] = option('"left" or "right"', "left", word="left|right")
    system: int = option("a whole number from 1 to 255", 255, low=1, high=255, word="N")
    component: int = option("a whole number from 1 to 255", 190, low=1, high=255, word="N")
    target_system: int = option("a whole number from 1 to 255", 1, low=1, high=255, word="N")
    target_component: int = option("a whole number from 1 to 255", 1, low=1, high=255, word="N")
    key: str | None = option("a key file, see tenuto key", None, word="FILE")
    commands: dict[str, CommandOptions] = field(
        default_factory=dict, metadata={"about": About('tables [sinks.NAME.commands."ACTION"]')}
    )

    @property
    def in_metres(self) -> bool:
        """Whether what it says is in m/s: velocities are; sticks and channels are shares."""
        return self.sends == "velocity"

    def turns(self, plan: Plan) -> dict[str, bool]:
        """Name the actuators that have a channel."""
        named = self.channels or [one.name for one in plan.actuators if one.form == "pulse"]
        return dict.fromkeys(named if self.sends == "channels" else (), True)

    def packages(self) -> tuple[str, ...]:
        """Return the module that speaks it."""
        return ("pymavlink",)

    def open(self) -> Sink:
        """Open the way to the autopilot."""
        commands = {
            name: AutopilotCommand(
                one.command, {int(number): value for number, value in one.parameters.items()}, one.pause
            )
            for name, one in self.commands.items()
        }
        place = self.address or self.port or ""
        return MavlinkSink(
            place, baud=self.baud, rate=self.rate, sends=self.sends, channels=self.channels, middle=self.middle,
            yaw=self.yaw, system=self.system, component=self.component, target_system=self.target_system,
            target_component=self.target_component, key=self.key, commands=commands,
        )  # fmt: skip

    def errors(self, actions: Collection[str]) -> list[Finding]:
        """Ask for one place, and for actions that the profile has."""
        found = []
        if (self.address is None) == (self.port is None):
            both = self.address is not None
            expected = "an address, such as 127.0.0.1:14550, or a serial port, such as /dev/ttyUSB0"
            said, mend = ("address and port", "take one out") if both else ("nothing", "add it")
            found.append(unexpected("address", expected, said, mend))
        for action, one in self.commands.items():
            found += [finding.within(f'commands."{action}"') for finding in _no_numbers(one)]
            if action not in actions:
                known = ", ".join(actions) or "none"
                found.append(unexpected(f'commands."{action}"', f"an action of the profile: {known}", action))
        return found
