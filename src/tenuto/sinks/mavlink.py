"""An autopilot that speaks MAVLink 2, over UDP or a serial line."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.basics.findings import Finding, error, unexpected, warning
from tenuto.basics.late import Late
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import EVERYTHING, NOTHING_HEARD, SILENT_AFTER, Telemetry
from tenuto.driving.tick import Tick
from tenuto.kinds.options import About, option
from tenuto.kinds.quantities import FREQUENCY, TIME
from tenuto.links.black_box import BlackBox
from tenuto.links.key_file import read_key
from tenuto.links.udp import Address
from tenuto.sinks.base import RatedSinkOptions, Sink, metres_wanted
from tenuto.sinks.orders import POWER_OFF, AutopilotCommand, Order, Orders, order_of, order_of_mode
from tenuto.sinks.servo_frames import pulses_of, pulses_to_send
from tenuto.sinks.ways import way_to
from tenuto.vehicles.velocity import STANDSTILL

if TYPE_CHECKING:
    from tenuto.protocols import autopilot, mavlink
else:
    autopilot = Late("tenuto.protocols.autopilot", SinkError, how_to_get("pymavlink"))
    mavlink = Late("tenuto.protocols.mavlink", SinkError, how_to_get("pymavlink"))

SENDS = ("velocity", "sticks", "channels")
_STOPS, _APART = 5, 0.02
_HEARTBEAT_EVERY = 1.0
# The most senders that are asked in a second to prove that their signed messages are new.
_MOST_UNPROVEN = 4
_SAYS = EVERYTHING - {"wheels", "distances"}
# How a vehicle without measures is sent.
_SHARES = 'set sends = "sticks" or "channels", which are shares'


class MavlinkSink(Sink):
    """Sends velocities, sticks or channels, a heartbeat every second, and actions as commands.

    The heartbeat is sent only while ticks come, so an autopilot detects a loop that has died. Nothing at all is sent
    while `Tick.send` is false.

    Attributes:
        bad: the number of received messages that were broken, unsigned or wrongly signed.

    Raises:
        SinkError: the address, the port, the key file or a setting is invalid; pymavlink is not installed.
    """

    says = _SAYS

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
        frame: str = "body_ned",
        modes: Mapping[str, int] | None = None,
        mode: str = "",
        mode_switch: str = "",
        mode_order: tuple[str, ...] = (),
        only: str = "",
    ) -> None:
        """Open the link to an autopilot.

        Args:
            place: ``HOST:PORT`` to send there, ``:PORT`` to wait there for the autopilot's first message, or a serial
                port. baud: of a serial port.
            rate: setpoints per second.
            sends: "velocity", "sticks" (shares of the full speeds) or "channels" (pulses of the actuators).
            channels: the actuators from channel 1 on; all that have pulses if none are named.
            middle, yaw: see `tenuto.protocols.mavlink.manual_sticks`; ``middle`` is required for a vehicle that climbs.
            system, component: our own ids. target_system, target_component: those of the autopilot.
            key: a file with the key for signed messages; the autopilot's must then be signed too.
            commands: the name of an action → the autopilot's command.
            frame: of the velocities, one of `tenuto.protocols.mavlink.FRAMES`.
            modes: name → the autopilot's number for it. mode: the one in which it follows our commands, if it is known.
            mode_switch, mode_order: a switch whose positions request these modes.
            only: the host of the autopilot, if we wait for its first message.
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
        self._by_action = {name: (order_of(name, one), one.pause) for name, one in (commands or {}).items()}
        self._frame, self._modes = frame, dict(modes or {})
        self._mode_switch, self._mode_order = mode_switch, tuple(mode_order)
        self._position: int | None = None
        self._mav = mavlink.MavlinkLink(
            mavlink.Member(system, component), read_key(key, SinkError) if key is not None else None
        )
        self._proof = autopilot.Proof() if key is not None else None
        self._unproven: dict[Address, float] = {}
        self._port = way_to(place, baud, only, target_system)
        self._orders = Orders()
        self._says = autopilot.AutopilotSays(self._modes, mode, guided=sends == "velocity")
        self._telemetry = NOTHING_HEARD
        self._lacks_heading = False
        self._quiet_until, self._stills = 0.0, 0
        self._beat_at, self._beats = -_HEARTBEAT_EVERY, 0
        self._now = 0.0  # on the loop's clock, as in the ticks
        self._heard: float | None = None
        self._powered = True
        self._quiet_in = State.DRIVING

    @property
    def bad(self) -> int:
        """The number of rejected messages."""
        return self._mav.bad

    @property
    def telemetry(self) -> Telemetry:
        """Return the autopilot's last report."""
        return self._telemetry

    @property
    def problem(self) -> str:
        """Report that the autopilot is silent, has refused a command, or warns."""
        now, heard = self._now, self._heard
        silent = now - (heard or 0.0)
        if silent > SILENT_AFTER:
            what = "no heartbeat" if heard is not None else "no heartbeat yet"
            wrong = f"; {self.bad} messages do not count: is the key the same at both ends?" if self.bad else ""
            if self._unproven:
                wrong = (
                    "; signed messages come, and their sender does not answer a TIMESYNC: they may be a recording. "
                    "With a key the autopilot has to answer it"
                )
            return f"{self.name}: {what} for {silent:.1f} s from system {self._target.system}{wrong}"
        if text := self._orders.told(now):
            return f"{self.name}: {text}"
        if self._says.armed and not self._powered:
            return f"{self.name}: it is still armed, and it should be off"
        if self._lacks_heading:
            return f"{self.name}: its heading is not known, so a velocity over the ground cannot be sent"
        return f"{self.name}: {self._port.slow}" if self._port.slow else ""

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes to a black box from now on."""
        return self._port.record_raw(box)

    def start(self, plan: Plan) -> None:
        """Check that the plan has everything that is sent.

        Raises:
            SinkError: it has not.
        """
        if self._sends == "velocity":
            metres_wanted(self.name, plan, or_else=_SHARES)
        self._speeds = plan.full_speeds()
        if self._sends == "channels":
            self._names = pulses_of(self.name, plan, self._asked, mavlink.MOST_CHANNELS)
            of_outputs = {output for one in plan.actuators if one.level for output in one.outputs}
            self._rest = {name: value for name, value in plan.wire_at_rest().items() if name not in of_outputs}
        climbs = self._speeds.up > 0.0 or self._speeds.down > 0.0
        if self._sends == "sticks" and climbs and self._middle is None:
            raise SinkError(
                f"{self.name}: set the middle of the climbing stick: middle = 500 where the autopilot counts "
                "it from 0 to 1000, as most that hold their height do; 0 where it counts from -1000"
            )

    def write(self, tick: Tick) -> None:
        """Send the setpoint of a tick, the heartbeat when it is due, and the driver's commands."""
        now = self._now = tick.time
        self._listen(now)
        if not tick.send:
            return
        self._beat(now)
        for action in tick.actions:
            if action in self._by_action:
                order, pause = self._by_action[action]
                self._orders.add(order)
                self._quiet_until, self._quiet_in = now + pause, tick.guard.state
                self._stills = _STOPS if pause > 0.0 else self._stills
        if not self.only_looks:
            self._take_mode(tick)
            self._take_power_off(tick)
        self._command(now)
        if not self._port.free(now):
            return  # a slow line is still sending the last one: the next one is newer
        if now < self._quiet_until:
            if not (tick.guard.reasons and tick.guard.state is not self._quiet_in) and tick.command == STANDSTILL:
                return
            self._quiet_until = now
        # After a silence an autopilot may first require a standstill, and one may be lost.
        self._send(self._setpoint(tick, still=self._stills > 0))
        self._stills -= self._stills > 0

    def stop(self, tick: Tick) -> None:
        """Send the standstill several times, unless nothing must be sent at all."""
        for _ in range(_STOPS if tick.send else 0):
            self.wait(self._port.free_in(self._now))
            self._send(self._setpoint(tick, still=True))
            self.wait(_APART)

    def close(self) -> None:
        """Close the link to the autopilot."""
        self._port.close()

    def _setpoint(self, tick: Tick, still: bool = False) -> Any:
        command = STANDSTILL if still else tick.command
        if self._sends == "velocity":
            heading = self._telemetry.heading
            self._lacks_heading = self._frame == "local_ned" and math.isnan(heading)
            if self._lacks_heading:
                command, heading = command._replace(vx=0.0, vy=0.0), 0.0
            return mavlink.velocity_setpoint(self._target, command, int(1000 * tick.time), self._frame, heading)
        if self._sends == "sticks":
            return mavlink.manual_sticks(self._target, self._speeds.shares(command), self._middle or 0, self._yaw)
        still = still or not tick.power
        wire = {**tick.wire, **self._rest} if still else tick.wire  # outputs keep their levels
        return mavlink.channel_overrides(self._target, pulses_to_send(wire, self._names))

    def _send(self, message: Any) -> None:
        self._port.write(self._mav.pack(message), self._now)

    def _take_power_off(self, tick: Tick) -> None:
        """Drop earlier requests at an emergency stop and when the power goes off; disarm for the latter."""
        off = not tick.power and self._powered
        self._powered = tick.power
        if off or (tick.guard.state is State.EMERGENCY_STOP and tick.power):
            self._orders.clear()
        # An autopilot that reports armed nevertheless is disarmed again, whoever armed it.
        if off or (self._says.armed and not tick.power):
            self._orders.add(Order(POWER_OFF, *mavlink.POWER_OFF, armed=False, lasts=True))

    def _take_mode(self, tick: Tick) -> None:
        """Request the mode of a switch after it was moved. Its position at the start is not a move."""
        if not self._mode_order:
            return
        position = tick.chosen.switches.get(self._mode_switch)
        if self._position is not None and position is not None and position != self._position:
            name = self._mode_order[min(position, len(self._mode_order) - 1)]
            self._orders.add(order_of_mode(name, self._modes[name]))
        self._position = position if position is not None else self._position

    def _beat(self, now: float) -> None:
        """Send the heartbeat, and request the messages that are needed."""
        if now - self._beat_at < _HEARTBEAT_EVERY:
            return
        self._beat_at = now
        self._send(mavlink.heartbeat_of_station())
        if self._heard is not None:
            self._send(mavlink.sync_request(self._says.sync(now)))
            if unheard := self._says.unheard(now):
                # One at a time, in turn: a radio is slow, and an autopilot may not know some of them.
                self._beats += 1
                self._send(mavlink.wants(self._target, *unheard[self._beats % len(unheard)]))

    def _command(self, now: float) -> None:
        """Send the command that is due, and repeat it until an answer comes."""
        due = self._orders.due(now)
        if due is not None:
            order, times = due
            self._send(mavlink.command(self._target, order.number, order.parameters, times))

    def _listen(self, now: float) -> None:
        for message, answer_to in self._port.read(self._mav, now):
            if mavlink.sender(message) != self._target:
                continue
            if self._proof is not None and not self._is_proven(message, answer_to, now):
                continue
            if not mavlink.is_known(message):
                self._says.pass_over(message, now)
                continue
            self._says.take(message, now)
            kind = message.get_type()
            if kind == "HEARTBEAT":
                self._heard = now
                self._port.answer_to(answer_to, now)
                self._orders.seen(self._says.armed, self._says.mode, now)
            elif kind == "COMMAND_ACK" and message.target_system in (0, self._mav.me.system):
                self._orders.answered(message.command, message.result, now)
            elif kind == "STATUSTEXT" and (warning := autopilot.warning_in(message)):
                self._orders.say(now, f'it says "{warning}"')
        if self._port.stranger:
            what = "use a key" if self._proof is None else "it does not count"
            text = f"another sender uses system {self._target.system}, from {self._port.stranger}: {what}"
            self._orders.say(now, text)
            self._port.stranger = ""
        said = self._says.telemetry(now)._replace(waiting=self._port.free_in(now))
        # The time of a report is on the sink's own clock, and the ticks may have another.
        self._telemetry = said._replace(time=self.clock.now() - (now - said.time))

    def _is_proven(self, message: Any, address: Address, now: float) -> bool:
        """Return whether a signed message is new. Whoever sends heartbeats is asked for a proof, a few at a time."""
        proof = self._proof
        assert proof is not None
        if not mavlink.is_known(message):
            return bool(proof.given)  # its content is not used
        if self._says.answers(message, now):
            proof.answered(message, now)
            self._unproven.clear()
            return True
        if proof.is_new(message, now):
            return True
        self._unproven = {place: at for place, at in self._unproven.items() if now - at < _HEARTBEAT_EVERY}
        if message.get_type() == "HEARTBEAT" and len(self._unproven) < _MOST_UNPROVEN and address not in self._unproven:
            self._unproven[address] = now
            self._port.write_to(self._mav.pack(mavlink.sync_request(self._says.sync(now))), address, now)
        return False


@dataclass(frozen=True, kw_only=True)
class CommandOptions:
    """``[sinks.NAME.commands."ACTION"]``: the autopilot's command for an action of the profile."""

    command: str = option("a command of the MAVLink standard, such as MAV_CMD_NAV_TAKEOFF")
    parameters: dict[Literal["1", "2", "3", "4", "5", "6", "7"], float] = field(
        default_factory=dict,
        metadata={"about": About("numbers 1 to 7 and their values, such as { 7 = 2.5 }", nan=True)},
    )
    pause: float = option('a time, such as "5 s"', 0.0, dimension=TIME)


def _no_numbers(one: CommandOptions) -> Iterator[Finding]:
    """Refuse NaN for a parameter that must be a number: the standard permits it for a heading or a place only."""
    for number, value in one.parameters.items():
        meant = one.command.startswith("MAV_CMD_NAV_") and number in ("4", "5", "6")
        if not (math.isfinite(value) or (math.isnan(value) and meant)):
            expected = "a number, or nan for the heading and place (4, 5, 6) of a MAV_CMD_NAV_ command"
            yield unexpected(f"parameters.{number}", expected, f"{value}")


@dataclass(frozen=True, kw_only=True)
class MavlinkOptions(RatedSinkOptions):
    """An autopilot that speaks MAVLink 2."""

    kind: ClassVar[str] = "mavlink"
    without_metres: ClassVar[str] = _SHARES
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
    only: str = option("the host that may speak first, such as 192.168.1.20", "", word="HOST")
    frame: Literal["body_ned", "body_offset_ned", "body_frd", "local_ned"] = option(
        '"body_ned", "body_offset_ned", "body_frd" or "local_ned"', "body_ned",
        word="body_ned|body_offset_ned|body_frd|local_ned",
    )  # fmt: skip
    modes: dict[str, int] = field(
        default_factory=dict,
        metadata={"about": About("modes of the autopilot and their numbers, such as { guided = 4 }")},
    )
    mode: str = option("one of modes: the mode in which it accepts commands", "")
    mode_switch: str = option("a switch that selects the mode", "")
    mode_order: tuple[str, ...] = option("a list of modes, one for each position of mode_switch", ())
    commands: dict[str, CommandOptions] = field(
        default_factory=dict, metadata={"about": About('tables [sinks.NAME.commands."ACTION"]')}
    )

    @property
    def in_metres(self) -> bool:
        """Whether it sends m/s: velocities are in m/s; sticks and channels are shares."""
        return self.sends == "velocity"

    @property
    def says(self) -> frozenset[str]:
        """Name what an autopilot can report."""
        return _SAYS

    @property
    def mode_names(self) -> tuple[str, ...]:
        """Name the modes of the autopilot."""
        return tuple(self.modes)

    def positions_used(self, switch: str) -> int:
        """Return how many positions of a switch request a mode."""
        return len(self.mode_order) if switch == self.mode_switch else 0

    def plan_errors(self, plan: Plan) -> Iterator[Finding]:
        """Check that the switch for the modes has as many positions."""
        switch = next((one for one in plan.selection.switches if one.name == self.mode_switch), None)
        if self.mode_switch and switch is None:
            known = ", ".join(one.name for one in plan.selection.switches) or "none"
            yield unexpected("mode_switch", f"a switch of the profile: {known}", self.mode_switch)
        if switch is not None and switch.count != len(self.mode_order):
            text = f"{self.mode_switch} has {switch.count} positions, and there are {len(self.mode_order)} modes"
            yield error("mode_order", text, "name a mode for each")
        if (self.address or "").startswith(":") and self.key is None and not self.only:
            text = "the link is not signed: the first host that uses this system number controls it"
            yield warning("address", text, "set key, or set only to the host that may send")
        yield from super().plan_errors(plan)

    def turns(self, plan: Plan) -> dict[str, bool]:
        """Name the actuators that have a channel."""
        named = self.channels or [one.name for one in plan.actuators if one.form == "pulse"]
        return dict.fromkeys(named if self.sends == "channels" else (), True)

    def packages(self) -> tuple[str, ...]:
        """Return the module of the protocol."""
        return ("pymavlink",)

    def open(self) -> Sink:
        """Open the link to the autopilot."""
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
            target_component=self.target_component, key=self.key, commands=commands, frame=self.frame,
            modes=self.modes, mode=self.mode, mode_switch=self.mode_switch, mode_order=self.mode_order, only=self.only,
        )  # fmt: skip

    def errors(self, actions: Collection[str]) -> list[Finding]:
        """Require one place, and actions that the profile has."""
        found = []
        if (self.address is None) == (self.port is None):
            both = self.address is not None
            expected = "an address, such as 127.0.0.1:14550, or a serial port, such as /dev/ttyUSB0"
            said, mend = ("address and port", "remove one") if both else ("nothing", "add it")
            found.append(unexpected("address", expected, said, mend))
        known = ", ".join(self.modes) or "none"
        for key, names in (("mode", (self.mode,)), ("mode_order", self.mode_order)):
            found += [
                unexpected(key, f"one of modes: {known}", name) for name in names if name and name not in self.modes
            ]
        for name, number in self.modes.items():
            if not 0 <= number < 2**32:
                found.append(unexpected(f"modes.{name}", "the autopilot's number for it, 0 or more", f"{number}"))
        if bool(self.mode_switch) is not bool(self.mode_order):
            found.append(unexpected("mode_switch", "mode_switch and mode_order, or neither", "one of them"))
        if self.frame != "body_ned" and self.sends != "velocity":
            found.append(unexpected("frame", 'sends = "velocity", for other than velocities have no frame', self.sends))
        if self.only and not (self.address or "").startswith(":"):
            found.append(
                unexpected("only", "an address without a host, such as :14550", self.address or self.port or "")
            )
        for action, one in self.commands.items():
            found += [finding.within(f'commands."{action}"') for finding in _no_numbers(one)]
            if action not in actions:
                known = ", ".join(actions) or "none"
                found.append(unexpected(f'commands."{action}"', f"an action of the profile: {known}", action))
        return found
