"""The two ends of a network link between a driver's machine and a robot: what counts, and what is sent; sans I/O.

The messages are those of `tenuto.protocols.remote`; what counts is decided by `tenuto.protocols.fresh`.
"""

from __future__ import annotations

import math
import secrets

from tenuto.driving.follow import (
    AXES,
    CLEAR,
    DRIVES,
    EMERGENCY,
    FOLLOWED,
    action_control,
    followed_controls,
    output_control,
    outputs_of,
)
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import NOTHING_HEARD, Telemetry
from tenuto.driving.tick import Tick
from tenuto.protocols.fresh import LET_GO_AFTER, MOST_AGE, Askers, Bond, Challenge
from tenuto.protocols.measured import measured_of, telemetry_of
from tenuto.protocols.remote import (
    ASK_EVERY,
    GONE,
    LONGEST_REASONS,
    MOST_MS,
    MOST_NAMED,
    MOST_REASONS,
    STATE_EVERY,
    Answered,
    DriverGone,
    FiredAction,
    RemoteAsk,
    RemoteCommand,
    RemoteState,
)
from tenuto.protocols.way import Way
from tenuto.vehicles.velocity import STANDSTILL

# A session is renewed after this time, s: 34 days.
_LONGEST_SESSION = 3.0e6
_NOT_GENUINE = "it is not genuine"
_ANOTHER = "another driver has the robot"
# How long the driver is told of rejected commands, s.
_TOLD_FOR = 5.0


class RobotEnd:
    """The robot's end of one link: which commands count, and their values as controls of `tenuto.driving.follow`.

    Attributes:
        controls: those of its frames.
        session: new at each start. driver: who has the robot. refused: reason → number of rejected commands.
        tick: the robot's newest; None before the first.
        stop_asked: somebody who does not drive has requested an emergency stop; False once `values` has reported it.
    """

    def __init__(self) -> None:
        self.stop_asked = False
        self.controls = FOLLOWED
        self.session = secrets.token_hex(8)
        self.driver = ""
        self.refused: dict[str, int] = {}
        self._newest: RemoteCommand | None = None
        self._driver_at = -LET_GO_AFTER
        self._begun = 0.0
        self._clears = False
        self._idle: dict[str, float] = {}
        self._actions: tuple[str, ...] = ()
        self._fired = self._came = 0
        self._alarm = (-math.inf, "")
        self._waiting: list[str] = []
        self._lacks: dict[str, None] = {}
        self._done: tuple[str, ...] = ()
        self.tick: Tick | None = None
        self._shown = 0
        self._askers = Askers()
        self._lives: dict[str, int] = {}

    @property
    def number(self) -> int:
        """The number of the newest command that counted; 0 before the first."""
        return 0 if self._newest is None else self._newest.number

    def prepare(self, plan: Plan) -> None:
        """Set the outputs and actions of a robot, from the plan by which it is driven by hand."""
        self.controls = followed_controls(plan)
        self._idle = {name: output.idle for name, output in outputs_of(plan).items()}
        self._actions = tuple(action.name for action in plan.actions)

    def take(self, command: RemoteCommand, now: float) -> str:
        """Take a command at ``now``, s on the robot's clock; return why it does not count, empty if it does."""
        why = self._why_not(command, now)
        self._note(command, now)
        if why == _ANOTHER and command.emergency:
            self.stop_asked = True  # everybody who may send to it may stop it
        if why:
            self.refused[why] = self.refused.get(why, 0) + 1
            return why
        before = self._newest
        # A driver's machine that was restarted is treated as another one.
        same = before is not None and _program(command) == _program(before)
        # Only a driver who had the emergency stop on, and resets it, can lift it.
        self._clears = same and before is not None and (before.emergency or self._clears) and not command.emergency
        if not same:
            self._fired, self._lacks, self._came = 0, {}, 0
        self._came += 1
        sent = (*command.outputs, *(one.name for one in command.actions))
        self._lacks |= dict.fromkeys(name for name in sent if name not in self._idle and name not in self._actions)
        if not same or now - self._driver_at > MOST_AGE:
            self._waiting.clear()  # what was fired that long ago must not be done now
        self._waiting += [one.name for one in command.actions if one.number > self._fired and one.name in self._actions]
        self._fired = max((self._fired, *(one.number for one in command.actions)))
        self.driver, self._driver_at, self._newest = command.driver, now, command
        return ""

    def answer(self, ask: RemoteAsk, now: float) -> None:
        """Take the request for a state. The next state repeats its numbers."""
        self._note(ask, now)

    def values(self) -> dict[str, float]:
        """Return the newest command as the values of a frame. An action is in one frame only."""
        command = self._newest
        if command is None:
            return {}
        values = {axis: getattr(command, axis) for axis in AXES}
        emergency, self.stop_asked = command.emergency or self.stop_asked, False
        values |= {DRIVES: float(command.drives), EMERGENCY: float(emergency), CLEAR: float(self._clears)}
        values |= {output_control(name): command.outputs.get(name, idle) for name, idle in self._idle.items()}
        # Fired twice at once, it is off in the frame between.
        fired = tuple(dict.fromkeys(name for name in self._waiting if name not in self._done))
        for name in fired:
            self._waiting.remove(name)
        self._done = fired
        return values | {action_control(name): float(name in fired) for name in self._actions}

    def warn(self, what: str, now: float) -> None:
        """Tell the driver about a rejected command, for a while; ``now`` in s."""
        self.refused[_NOT_GENUINE] = self.refused.get(_NOT_GENUINE, 0) + 1
        self._alarm = (now, f"it was sent {what}")

    def gone(self, will: DriverGone, now: float) -> bool:
        """Note that a driver's machine is gone; return whether it was the one that has the robot.

        Each last will counts once. It opens the robot for another driver, but not before what the last one has sent
        is too old; and a number that was used stays used.
        """
        newest = self._newest
        if newest is None or (will.driver, will.run) != _program(newest) or will.life <= self._lives.get(will.run, 0):
            return False
        self._lives = {will.run: will.life}
        self._driver_at = min(self._driver_at, now - LET_GO_AFTER + MOST_AGE)
        return True

    def tell(self, tick: Tick) -> None:
        """Take the robot's newest tick, which has used the newest command that counted."""
        self.tick, self._shown = tick, self.number

    def state(self, now: float) -> RemoteState:
        """Describe the robot."""
        if now - self._begun > _LONGEST_SESSION:
            # The numbers in the messages are bounded. A new session drops what is on its way, and so stops the robot.
            self.session, self._begun = secrets.token_hex(8), now
        tick = self.tick
        command = STANDSTILL if tick is None else tick.command
        status = None if tick is None else tick.guard
        said = () if tick is None else (*tick.guard.reasons, *tick.notices)
        return RemoteState(
            session=self.session, time=max(now - self._begun, 0.0), state=str(status.state) if status else "starting",
            reasons=_short([reason.text for reason in said]), driver=self.driver, number=self._shown,
            vx=command.vx, vy=command.vy, vz=command.vz, yaw_rate=command.yaw_rate,
            power=tick.power if tick is not None else False,
            outputs=dict(tick.outputs) if tick is not None else {}, lacks=[*self._lacks][: 2 * MOST_NAMED],
            alarm=self._alarm[1][:200] if now - self._alarm[0] < _TOLD_FOR else "",
            came=self._came, measured=measured_of(tick.far) if tick is not None else None,
            run=None if self._newest is None else self._newest.run,
            answers=[
                Answered(driver=driver, run=run, number=number)
                for (driver, run), number in self._askers.newest(now).items()
            ],
        )  # fmt: skip

    def last_will(self, life: int) -> RemoteState:
        """Describe the robot as gone, for the broker to publish: ``life`` is the number of the connection.

        The thread of the connection calls this: it reads nothing that changes while commands come.
        """
        return RemoteState(
            session=self.session, time=0.0, state=GONE, reasons=[], driver="", number=0,
            **STANDSTILL._asdict(), power=False, life=life,
        )  # fmt: skip

    def _note(self, message: RemoteCommand | RemoteAsk, now: float) -> None:
        proven = message.session == self.session and 0.0 <= now - self._begun - message.heard <= MOST_AGE
        self._askers.note(message.driver, Challenge(message.run, message.number), now, proven=proven)

    def _why_not(self, command: RemoteCommand, now: float) -> str:
        newest = self._newest
        if command.session != self.session:
            return "it is for an earlier session"
        if not 0.0 <= now - self._begun - command.heard <= MOST_AGE:
            return "it is too old"
        if newest is None:
            return ""
        if _program(command) == _program(newest):
            return "a later one came before it" if command.number <= newest.number else ""
        return _ANOTHER if now - self._driver_at < LET_GO_AFTER else ""


def _program(command: RemoteCommand) -> tuple[str, str]:
    """Name the program of a command."""
    return command.driver, command.run


class DriverEnd:
    """The driver's end of one link: makes commands from ticks, once the robot has answered it.

    Attributes:
        robot: its newest state; None before the first. heard_at: when that came, s on the driver's clock.
        run: the number of this program. is_gone: its last will came after its newest state.
    """

    def __init__(self, name: str, run: str = "") -> None:
        """Take the driver's name, and the number of this program, which is random if none is given."""
        self.name = name
        self.robot: RemoteState | None = None
        self.heard_at = -1.0
        self._bond = Bond(run)
        self.run = self._bond.run
        self._emergency = False
        self._way = Way()
        # The first command without the emergency stop, after one with it.
        self._lifted_by = 0
        self._actions: list[tuple[float, FiredAction]] = []
        self._fired = self._gone_life = 0
        self.is_gone = False
        self._asked_at = -math.inf

    def hear(self, state: RemoteState, now: float) -> bool:
        """Take an authentic state that came at ``now``; return whether it counts: it answers this program, and is new.

        A last will counts once, and only that of the session that was heard.
        """
        known = self.robot
        same = known is not None and state.session == known.session
        if state.state == GONE:
            if same and state.life > self._gone_life:
                self.is_gone, self._gone_life = True, state.life
            return False
        newer = known is None or state.time > known.time
        answers = [Challenge(one.run, one.number) for one in state.answers if one.driver == self.name]
        if not self._bond.believes(state.session, newer, answers, now):
            return False
        if not same:
            self._way, self._gone_life = Way(), 0
        self.robot, self.heard_at, self.is_gone = state, now, False
        if self._has_it:
            self._way.answered(state.number, state.came, now)
        return True

    def ask(self, now: float) -> RemoteAsk | None:
        """Ask for a state, if it is time for that: at fixed intervals while no command is sent."""
        if now - self._asked_at < ASK_EVERY:
            return None
        self._asked_at, robot = now, self.robot
        return RemoteAsk(
            driver=self.name, run=self.run, number=self._bond.next(now),
            session=None if robot is None else robot.session, heard=0.0 if robot is None else robot.time,
        )  # fmt: skip

    @property
    def number(self) -> int:
        """The number of the newest message."""
        return self._bond.number

    @property
    def _has_it(self) -> bool:
        return self.robot is not None and (self.robot.driver, self.robot.run) == (self.name, self.run)

    def telemetry(self) -> Telemetry:
        """Describe the robot; the time it was heard is that of `hear`."""
        robot = self.robot
        if robot is None:
            return NOTHING_HEARD
        moves = robot.state in (State.DRIVING, State.STOPPING) and not self.is_gone
        return telemetry_of(robot.measured)._replace(
            time=self.heard_at, follows=moves and self._has_it, state=GONE if self.is_gone else robot.state,
            reasons=tuple(robot.reasons), round_trip=self._way.round_trip, loss=self._way.loss,
        )  # fmt: skip

    def emergency(self, now: float) -> str:
        """Describe why an emergency stop is due: the robot is in one (and no reset is on its way), or there are two."""
        if double := self._bond.double(now):
            return double
        robot = self.robot
        if robot is None or robot.state != State.EMERGENCY_STOP:
            return ""
        knows = self._has_it and robot.number >= self._lifted_by
        return "it is in an emergency stop" if knows or not self._lifted_by else ""

    def command(self, tick: Tick, now: float | None = None, *, still: bool = False) -> RemoteCommand | None:
        """Make the command of a tick, or a standstill; None if there is nothing to send, or no robot was heard.

        ``now`` is s on the clock of `hear`; the time of the tick if none is given.
        """
        self._remember(tick)
        now = tick.time if now is None else now
        if self.robot is None or not tick.send:
            return None
        still = still or bool(self._bond.double(now))
        number, self._asked_at = self._bond.next(now), now
        self._way.sent(number, now)
        state = tick.guard.state
        velocity = STANDSTILL if still else tick.command
        # A stop is followed as well, for a drone may be descending in it.
        moves = state is State.DRIVING or (state is State.STOPPING and velocity != STANDSTILL)
        drives = moves and tick.power and not still
        emergency = state is State.EMERGENCY_STOP
        if emergency != self._emergency:
            self._emergency, self._lifted_by = emergency, 0 if emergency else number
        return RemoteCommand(
            session=self.robot.session, heard=self.robot.time, run=self.run, number=number, driver=self.name,
            drives=drives, emergency=emergency,
            **velocity._asdict(), valid_ms=int(min(max(1000.0 * tick.valid_for, 1.0), MOST_MS)),
            outputs=dict(tick.outputs), actions=[action for _, action in self._actions],
        )  # fmt: skip

    def emergency_stop(self, now: float, state: RemoteState | None = None) -> RemoteCommand | None:
        """Make a command that requests an emergency stop and nothing else; None if no robot was heard yet.

        ``state``: of the robot, where none has answered this program: what it holds moves nothing.
        """
        heard = self.robot if state is None else state
        if heard is None:
            return None
        self._emergency, self._lifted_by = True, 0
        return RemoteCommand(
            session=heard.session, heard=heard.time, run=self.run, number=self._bond.next(now), driver=self.name,
            drives=False, emergency=True, **STANDSTILL._asdict(), valid_ms=1,
        )  # fmt: skip

    def problem(self, now: float, silent_after: float = 5 * STATE_EVERY) -> str:
        """Describe what the driver should know about the robot: that it is silent or gone, or what it lacks."""
        robot, silent = self.robot, now - self.heard_at
        if self.is_gone:
            return "it is gone: its program has ended, or its line is cut"
        if why := self._bond.problem(now):
            return why
        if robot is None or silent > silent_after:
            return f"nothing heard of it for {silent:.1f} s"
        if robot.alarm:
            return robot.alarm
        lacks = ", ".join(robot.lacks)
        return f"it has no output or action {lacks}: define them in the robot's own profile" if lacks else ""

    def _remember(self, tick: Tick) -> None:
        """Repeat an action as long as its command would be valid, because one may be lost."""
        if not tick.actions and not self._actions:
            return
        self._actions = [one for one in self._actions if 0.0 <= tick.time - one[0] <= tick.valid_for]
        for name in tick.actions:
            self._fired += 1
            self._actions.append((tick.time, FiredAction(name=name, number=self._fired)))
        del self._actions[:-MOST_NAMED]


def _short(reasons: list[str]) -> list[str]:
    """Cut reasons short enough for one datagram."""
    kept, left = [], LONGEST_REASONS
    for reason in reasons[:MOST_REASONS]:
        cut = reason.encode()[:left].decode(errors="ignore")
        left -= len(cut.encode())
        if cut:
            kept.append(cut)
    return kept
