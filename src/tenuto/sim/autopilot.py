"""A simulated autopilot: it speaks MAVLink 2 over UDP, flies a simulated aircraft, and has its own failsafe."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from pymavlink.dialects.v20 import common as dialect

from tenuto.basics.closing import Closing
from tenuto.basics.errors import SourceError
from tenuto.clock import REAL, Clock
from tenuto.driving.plan import Planned
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.links.udp import Address, UdpPort, parse_address
from tenuto.protocols.mavlink import MavlinkLink, Member, sender
from tenuto.sim.bad_line import BadLine
from tenuto.sim.far_end import STEP
from tenuto.sim.robots import PathPoint, Physics, simulated_robot
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Timeouts, s: without a setpoint it holds its position; without a heartbeat it lands.
SETPOINT_TIMEOUT, STATION_TIMEOUT = 0.5, 3.0
_BEAT_EVERY, _POSITION_EVERY = 1.0, 0.1
# Speed of its own take-off and landing, m/s, and the height below which it has landed, m.
_RISE, _SINK, _LANDED = 1.0, 0.5, 0.02
_NOTICE, _WARNING = dialect.MAV_SEVERITY_NOTICE, dialect.MAV_SEVERITY_WARNING


class Autopilot(Closing):
    """The stand-in for a drone's flight controller.

    It follows setpoints only when it is armed and in the air. A velocity setpoint aborts a take-off, and does
    not abort a landing. After its failsafe it follows setpoints only once a standstill came.
    Sticks and channels are shares of the full speeds of the chassis, channels in the usual order: roll right, nose
    up, throttle, turn right.

    Attributes:
        robot: the simulated aircraft. armed: its rotors turn. doing: "on the ground", "taking off", "flying",
            "landing".
        address: where it listens. link: with the count of rejected messages.
        good: number of good messages, without heartbeats.
        mode: the number of its mode. takes_in: the mode in which setpoints count; None for any.
        refuses: commands that it answers with "temporarily rejected". voltage: of its battery, V.
        speaks: it sends anything at all.
    """

    takes_in: int | None

    def __init__(
        self,
        profile: Planned,
        address: str = "127.0.0.1:0",
        *,
        key: bytes | None = None,
        physics: Physics | None = None,
        speaks_to: str | None = None,
        loss: float = 0.0,
        delay: float = 0.0,
    ) -> None:
        """Place it on the ground at the origin.

        Args:
            profile: the aircraft has its chassis. address: where to listen. key: for signed messages.
            physics: the deviation of the aircraft from the ideal.
            speaks_to: an address to which it sends before anyone has sent to it.
            loss: the share of lost datagrams, 0…1. delay: of each datagram, s.
        """
        plan = profile.plan()
        self._chassis, self._speeds = plan.chassis, plan.full_speeds()
        self.robot = simulated_robot(plan.chassis, physics)
        self._udp = UdpPort(bind=parse_address(address, SourceError), error=SourceError)
        self.address = self._udp.address
        self._udp.peer = parse_address(speaks_to, SourceError) if speaks_to else None
        self.link = MavlinkLink(Member(1, 1), key)
        self._to_it = BadLine[tuple[bytes, Address]](loss, delay, 1)
        self._from_it = BadLine[bytes](loss, delay, 2)
        self.armed, self.doing, self.good = False, "on the ground", 0
        self.mode, self.refuses = 0, frozenset[int]()
        self.takes_in: int | None = None
        self.voltage, self.speaks = 12.4, True
        self._velocity = STANDSTILL
        self._watchdog = CommandWatchdog()
        self._held = True  # by the failsafe, or before the first setpoint
        self._station_heard = -math.inf
        self._height = 0.0
        self._beat_at = self._position_at = -math.inf

    def run(self, clock: Clock = REAL) -> Iterator[PathPoint]:
        """Run by a clock, and yield the aircraft's position a hundred times a second."""
        before = clock.now()
        while True:
            clock.sleep_until(before + STEP)
            now = clock.now()
            self.step(now - before)
            before = now
            yield self.robot.now

    def step(self, seconds: float) -> None:
        """Take the messages that came, and fly on for this time."""
        for came in self._udp.receive():
            self._to_it.put(came, self._now)
        for data, address in self._to_it.take(self._now):
            for message in self.link.feed(data):
                self._udp.peer = address
                self._take(message)
        self._guard()
        command = self._flight()
        reached, _ = self._chassis.within_reach(command)
        self.robot.command(self._chassis.actuators(reached))
        self.robot.advance(seconds)
        self._land()
        self._speak()
        for data in self._from_it.take(self._now):
            self._udp.send(data)

    def close(self) -> None:
        """Close the socket."""
        self._udp.close()

    def summary(self) -> str:
        """Describe the messages that came, as text."""
        armed = "armed" if self.armed else "not armed"
        return f"{self.doing}, {armed}; {self.good} good messages, {self.link.bad} that do not count"

    @property
    def _now(self) -> float:
        return self.robot.now.time

    def _take(self, message: Any) -> None:
        kind = message.get_type()
        if kind == "HEARTBEAT":
            self._station_heard = self._now
            return
        target = getattr(message, "target_system", getattr(message, "target", 0))
        take = _TAKES.get(kind)
        if take is None or target not in (0, self.link.me.system):
            return
        self.good += 1
        take(self, message)

    def _take_velocity(self, message: Any) -> None:
        ahead, right = message.vx, message.vy
        if message.coordinate_frame == dialect.MAV_FRAME_LOCAL_NED:
            c, s = math.cos(self.robot.now.heading), math.sin(self.robot.now.heading)
            ahead, right = ahead * c - right * s, right * c + ahead * s
        if message.coordinate_frame in _FRAMES and message.type_mask == 0b0101_1100_0111:
            self._follow(VelocityCommand(ahead, -right, -message.vz, -message.yaw_rate))

    def _take_sticks(self, message: Any) -> None:
        # This one counts its throttle from 0: 500 holds the height.
        self._follow(self._speeds_at(message.x, -message.y, 2 * (message.z - 500), message.r, 1000.0))

    def _take_channels(self, message: Any) -> None:
        pulses = (message.chan1_raw, message.chan2_raw, message.chan3_raw, message.chan4_raw)
        if all(800 <= pulse <= 2200 for pulse in pulses):
            right, nose_up, up, turn_right = (pulse - 1500 for pulse in pulses)
            self._follow(self._speeds_at(-nose_up, -right, up, -turn_right, 500.0))

    def _speeds_at(self, forward: float, left: float, up: float, turn: float, full: float) -> VelocityCommand:
        s = self._speeds
        return VelocityCommand(
            forward / full * (s.forward if forward > 0 else s.backward), left / full * s.sideways,
            up / full * (s.up if up > 0 else s.down), turn / full * s.turn,
        )  # fmt: skip

    def _follow(self, velocity: VelocityCommand) -> None:
        """Take a setpoint."""
        if self.takes_in not in (None, self.mode):
            return
        self._velocity = velocity
        self._watchdog.feed(self._now, SETPOINT_TIMEOUT, velocity == STANDSTILL)
        if self.doing == "taking off":
            self._begin("flying", "take-off broken off by a setpoint")

    def _take_command(self, message: Any) -> None:
        """Obey a command, and acknowledge it."""
        obey = _OBEYS.get(message.command)
        result = dialect.MAV_RESULT_UNSUPPORTED if obey is None else _REJECTED
        if obey is not None and message.command not in self.refuses:
            result = obey(self, message)
        self._send(dialect.MAVLink_command_ack_message(message.command, result, 0, 0, *sender(message)))

    def _arm(self, message: Any) -> int:
        arm, forced = message.param1 == 1.0, message.param2 == 21196.0
        if not arm and self.doing != "on the ground" and not forced:
            return _DENIED
        self.armed = arm
        if not arm:
            self.doing = "on the ground"
        return _ACCEPTED

    def _take_off(self, message: Any) -> int:
        if not self.armed or self.doing != "on the ground" or not message.param7 > 0.0:
            return _DENIED
        self._height = message.param7
        self._begin("taking off")
        return _ACCEPTED

    def _go_down(self, message: Any) -> int:
        if self.doing == "on the ground":
            return _DENIED
        self._begin("landing")
        return _ACCEPTED

    def _set_home(self, message: Any) -> int:
        return _ACCEPTED

    def _set_mode(self, message: Any) -> int:
        self.mode = int(message.param2)
        return _ACCEPTED

    def _set_interval(self, message: Any) -> int:
        return _ACCEPTED  # it sends them anyway

    def _take_sync(self, message: Any) -> None:
        if not message.tc1:
            self._send(dialect.MAVLink_timesync_message(int(self._now * 1e9) + 1, message.ts1))

    def _begin(self, what: str, why: str = "") -> None:
        self.doing = what
        if why:
            self._tell(_WARNING, why)

    def _guard(self) -> None:
        """Hold the position without setpoints, and land without a station."""
        if self.doing == "on the ground":
            return
        held = not self._watchdog.may_move(self._now)
        if held and not self._held and self.doing == "flying":
            self._tell(_WARNING, "failsafe: no setpoint, holding")
        self._held = held
        if self._now - self._station_heard > STATION_TIMEOUT and self.doing != "landing":
            self._begin("landing", "failsafe: no station, landing")

    def _flight(self) -> VelocityCommand:
        """Return the velocity to fly at."""
        if self.doing == "taking off":
            if self.robot.now.z >= self._height:
                self._begin("flying")
                return STANDSTILL
            return VelocityCommand(vz=_RISE)
        if self.doing == "landing":
            return VelocityCommand(vz=-_SINK)
        if self.doing == "flying" and not self._held:
            return self._velocity
        return STANDSTILL

    def _land(self) -> None:
        """Touch down, and switch the rotors off."""
        if self.doing in ("landing", "flying") and self.robot.now.z <= _LANDED:
            self.armed, self.doing = False, "on the ground"
            self.robot.touch_down()
            self._tell(_NOTICE, "landed")

    def _speak(self) -> None:
        """Send the heartbeat and the position, each at its time."""
        now, here = self._now, self.robot.now
        if now - self._beat_at >= _BEAT_EVERY:
            self._beat_at = now
            mode = dialect.MAV_MODE_FLAG_GUIDED_ENABLED if self.takes_in in (None, self.mode) else 0
            mode |= dialect.MAV_MODE_FLAG_CUSTOM_MODE_ENABLED
            mode |= dialect.MAV_MODE_FLAG_SAFETY_ARMED if self.armed else 0
            state = dialect.MAV_STATE_STANDBY if self.doing == "on the ground" else dialect.MAV_STATE_ACTIVE
            kinds = dialect.MAV_TYPE_QUADROTOR, dialect.MAV_AUTOPILOT_GENERIC
            self._send(dialect.MAVLink_heartbeat_message(*kinds, mode, self.mode, state, 3))
            self._send(dialect.MAVLink_sys_status_message(
                0, 0, 0, 0, int(1000 * self.voltage), -1, round(min(max((self.voltage - 9.0) / 0.036, 0.0), 100.0)),
                0, 0, 0, 0, 0, 0,
            ))  # fmt: skip
            landed = _LANDED_STATES[self.doing]
            self._send(dialect.MAVLink_extended_sys_state_message(0, landed))
        if now - self._position_at >= _POSITION_EVERY:
            self._position_at = now
            c, s = math.cos(here.heading), math.sin(here.heading)
            ahead, left = here.vx * c - here.vy * s, here.vx * s + here.vy * c
            # It started facing north: west is to the left, and up is minus down.
            self._send(dialect.MAVLink_local_position_ned_message(
                int(1000 * now), here.x, -here.y, -here.z, ahead, -left, -here.vz
            ))  # fmt: skip
            yaw = math.remainder(-here.heading, math.tau)
            self._send(dialect.MAVLink_attitude_message(int(1000 * now), 0.0, 0.0, yaw, 0.0, 0.0, -here.yaw_rate))

    def _tell(self, severity: int, text: str) -> None:
        self._send(dialect.MAVLink_statustext_message(severity, text.encode()))

    def _send(self, message: Any) -> None:
        if self._udp.peer is not None and self.speaks:
            self._from_it.put(self.link.pack(message), self._now)


_ACCEPTED: int = dialect.MAV_RESULT_ACCEPTED
_DENIED: int = dialect.MAV_RESULT_DENIED
_REJECTED: int = dialect.MAV_RESULT_TEMPORARILY_REJECTED
_FRAMES = (dialect.MAV_FRAME_BODY_NED, dialect.MAV_FRAME_BODY_OFFSET_NED, dialect.MAV_FRAME_BODY_FRD,
           dialect.MAV_FRAME_LOCAL_NED)  # fmt: skip
_LANDED_STATES = {
    "on the ground": dialect.MAV_LANDED_STATE_ON_GROUND, "taking off": dialect.MAV_LANDED_STATE_TAKEOFF,
    "flying": dialect.MAV_LANDED_STATE_IN_AIR, "landing": dialect.MAV_LANDED_STATE_LANDING,
}  # fmt: skip
_TAKES: Mapping[str, Callable[[Autopilot, Any], None]] = {
    "SET_POSITION_TARGET_LOCAL_NED": Autopilot._take_velocity,
    "MANUAL_CONTROL": Autopilot._take_sticks,
    "RC_CHANNELS_OVERRIDE": Autopilot._take_channels,
    "COMMAND_LONG": Autopilot._take_command,
    "TIMESYNC": Autopilot._take_sync,
}
_OBEYS: Mapping[int, Callable[[Autopilot, Any], int]] = {
    dialect.MAV_CMD_COMPONENT_ARM_DISARM: Autopilot._arm,
    dialect.MAV_CMD_NAV_TAKEOFF: Autopilot._take_off,
    dialect.MAV_CMD_NAV_LAND: Autopilot._go_down,
    dialect.MAV_CMD_DO_SET_HOME: Autopilot._set_home,
    dialect.MAV_CMD_DO_SET_MODE: Autopilot._set_mode,
    dialect.MAV_CMD_SET_MESSAGE_INTERVAL: Autopilot._set_interval,
}
