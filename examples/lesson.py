"""A lesson in simulated time: an instructor, a learner, a computer that follows the row, and a sensor in front.

Prints who drives, and why the robot slows down or stops.
"""

import tenuto
from tenuto import Tick
from tenuto.data import shipped
from tenuto.sources.function import FunctionSource

PAD = ("left_y", "right_x", "left_shoulder", "right_shoulder", "north", "east", "start", "right_trigger")
FORWARD = -32768.0  # the number of a pad decreases as its stick goes forward


def pad(now: float, **moved: tuple[float, float, float]) -> dict[str, float]:
    """A pad on which each named control is moved to a number from one moment to another."""
    values = dict.fromkeys(PAD, 0.0) | {"left_shoulder": float(now > 0.5)}
    return values | {name: number for name, (number, begin, end) in moved.items() if begin <= now < end}


def instructor(now: float) -> dict[str, float]:
    """Hands over to the learner at 1 s, takes over at 6 s by the stick, hands over to the computer at 9 s."""
    values = pad(now, north=(1.0, 1.0, 1.3), left_y=(0.5 * FORWARD, 6.0, 7.5), right_trigger=(32767.0, 9.0, 14.0))
    return values | {"left_shoulder": float(0.5 < now < 17.0)}


def learner(now: float) -> dict[str, float]:
    """Pushes the stick all the way, also after the instructor has taken over."""
    return pad(now, left_y=(FORWARD, 2.0, 20.0))


def row_follower(now: float) -> dict[str, float]:
    """Follows a gentle bend."""
    return {"vx": 0.5, "yaw_rate": 0.15}


def front(now: float) -> dict[str, float]:
    """A crate comes nearer while the computer drives."""
    return {"front": 5000.0 if now < 10.5 else max(300.0, 3000.0 - 1000.0 * (now - 10.5))}


told = ""


def tell(tick: Tick) -> str | None:
    """Print a line when something changes."""
    global told
    why = [reason.text for reason in (*tick.guard.reasons, *tick.notices)]
    now = f"{tick.driver:12} {tick.guard.state:12} {why[0].split(',')[0].split(':')[0] if why else ''}"
    if now != told:
        told = now
        print(f"{tick.time:5.2f} s  {tick.command.vx:5.2f} m/s  {now}")
    return "the lesson is over" if tick.time > 18.5 else None


profile = tenuto.load_profile(shipped("medlar-lesson.toml"))
others = {
    "learner": FunctionSource("learner", PAD, learner),
    "row_follower": FunctionSource("row follower", ("vx", "yaw_rate"), row_follower),
    "front": FunctionSource("front sensor", ("front",), front),
}
source = FunctionSource("instructor", PAD, instructor)
report = tenuto.drive(profile, source, others=others, clock=tenuto.SimulatedClock(), on_tick=tell)
print(f"{report.ticks} ticks; {report.ended}")
