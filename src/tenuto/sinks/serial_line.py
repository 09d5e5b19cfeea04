"""A serial line to your own firmware: the velocity line of docs/protocols.md, or your own template."""

from __future__ import annotations

import math
import string
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from itertools import product
from typing import ClassVar, Literal

from tenuto.basics.errors import SinkError
from tenuto.basics.findings import Finding, error, unexpected
from tenuto.driving.follow import line_plan
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import Telemetry
from tenuto.driving.tick import Tick
from tenuto.kinds.options import option
from tenuto.kinds.quantities import FREQUENCY, TIME
from tenuto.links.black_box import BlackBox
from tenuto.links.key_file import read_key
from tenuto.protocols.answer_line import MOST_NUMBERS
from tenuto.protocols.frames import COMMAND, LENGTHS, SIGNED_COMMAND, VALID_MS, valid_index
from tenuto.protocols.velocity_line import MOST_OUTPUTS, VelocityLine, encode_velocity_line, with_checksum
from tenuto.sinks.answers import Answers
from tenuto.sinks.base import RatedSinkOptions, Sink, metres_wanted
from tenuto.sinks.line_forms import AnswerLines, Frames, LineForm, SignedFrames
from tenuto.sinks.port import OutPort
from tenuto.vehicles.actuators import Wire
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# The number of stops at the end, and the time between them, s: one may be lost.
_STOPS, _APART = 5, 0.02
FORMS = ("text", "binary", "signed")
_CHECKSUM = "{checksum}"
_OWN_LINE = 'write a line of your own under [sinks], such as line = "{left.share:.3f} {right.share:.3f}"'
# The bits of a byte on a serial line, with its start and its stop bit.
_BITS = 10
# A share with many digits: a field without a format sends all of them.
_LONG = 0.987654321987654


class SerialLine(Sink):
    """Writes a line for each tick, or at a limited rate.

    A template is text with fields in braces, as for `str.format`: ``{vx:.3f}``, ``{yaw_rate:.3f}``, the names of the
    actuators, of their numbers on the wire and of the outputs, ``{counter}``, ``{valid_ms}``, ``{power}``, and at the
    end ``{checksum}``.

    Raises:
        SinkError: the port cannot be opened, or disappears.
    """

    def __init__(
        self,
        port: str,
        baud: int = 115_200,
        rate: float | None = None,
        answers: float | None = None,
        line: str = "",
        outputs: tuple[str, ...] = (),
        wheels: tuple[str, ...] = (),
        distances: tuple[str, ...] = (),
        form: str = "text",
        key: str | None = None,
    ) -> None:
        """Open a port.

        Args:
            port: its name. baud: its speed.
            rate: the greatest number of lines per second; None for one per tick.
            answers: the longest permitted silence of the far end, s; None if it sends nothing.
            line: a template; empty for the velocity line. outputs: those whose levels the velocity line has, in this
                order.
            wheels, distances: names for the numbers of an answer line, in its order.
            form: "text", "binary" for short frames, or "signed" for those with a key. key: its file.
        """
        if form not in FORMS or (form == "signed") is not (key is not None) or (form != "text" and (line or outputs)):
            raise SinkError("serial: a key is for the form signed, and a line and outputs of your own are for text")
        self.name = f"serial line on {port}"
        self.period = 1.0 / rate if rate else 0.0
        self._answers, self._template, self._outputs = answers, line, outputs
        self._started: float | None = None
        self._counter = 0
        self._digest = ""
        self._port = OutPort(port, baud)
        self._form: LineForm = TextLine(line, outputs)
        if form != "text":
            self._form = SignedFrames(read_key(key, SinkError), self._now) if key is not None else Frames()
        self._hears = Answers(wheels, distances, self._form.modulo)
        self.says = self._hears.says if answers else frozenset()

    def _now(self) -> float:
        return self.clock.now()

    @property
    def telemetry(self) -> Telemetry:
        """Return the far end's last report."""
        return self._hears.telemetry

    @property
    def problem(self) -> str:
        """Report that the far end is silent although it should answer, or that the line is too slow."""
        heard = max(self._hears.telemetry.time, -math.inf if self._started is None else self._started)
        silent = self.clock.now() - heard
        no_answer = self._answers and self._started is not None and silent > self._answers
        problem = (
            self._form.problem or (f"no answer for {silent:.1f} s" if no_answer else "")
            or self._port.slow or self._another_profile()
        )  # fmt: skip
        return f"{self.name}: {problem}" if problem else ""

    @property
    def emergency(self) -> str:
        """Report that two robots answer, so that the wrong one might be driven."""
        return f"{self.name}: {self._form.emergency}" if self._form.emergency else ""

    def _another_profile(self) -> str:
        """Report that the board's code was made from another profile; empty if it was not."""
        made_from, here = self._hears.made_from, self._digest
        if not made_from or not here or made_from == here:
            return ""
        return (
            f"the board's code was made from another profile ({made_from}; this one is {here}): "
            "generate it again with tenuto firmware --part robot"
        )

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes to a black box from now on."""
        return self._port.record_raw(box)

    def start(self, plan: Plan) -> None:
        """Check that the template can be filled in.

        Raises:
            SinkError: it cannot, or the form sends m/s and the vehicle has no measures.
        """
        if not self._template:
            metres_wanted(self.name, plan, or_else=_OWN_LINE)
        self._started = self.clock.now() if self._started is None else self._started
        self._digest = line_plan(plan).digest() if plan.chassis.units.known else ""
        wrong = outputs_problem(self._outputs, self._template, plan) or template_problem(self._template, plan)
        if wrong:
            raise SinkError(f"{self.name}: {wrong}")

    def write(self, tick: Tick) -> None:
        """Send the command of a tick."""
        now = self.clock.now()
        data = self._port.read_bytes()
        answers = self._form.answers(data)
        # With signed frames only genuine answers count; otherwise any byte shows that the far end is alive.
        heard = bool(answers or (data and not isinstance(self._form, SignedFrames)))
        self._hears.take(answers, heard, now, self._port.free_in(now))
        if tick.send and self._port.free(now):
            self._send(tick)

    def stop(self, tick: Tick) -> None:
        """Send the standstill several times, unless nothing must be sent at all."""
        for _ in range(_STOPS if tick.send else 0):
            self.wait(self._port.free_in(self.clock.now()))
            self._send(tick._replace(command=STANDSTILL))
            self.wait(_APART)

    def _send(self, tick: Tick) -> None:
        data = self._form.command(tick, (self._counter + 1) % 256)
        self._counter, now = (self._counter + 1) % 256, self.clock.now()
        self._port.write(data, now)
        self._hears.way.sent(self._counter, now)

    def close(self) -> None:
        """Close the port, and abort a write that hangs."""
        self._port.close()


class TextLine(AnswerLines, LineForm):
    """The velocity line, or a template."""

    def __init__(self, template: str, outputs: tuple[str, ...]) -> None:
        """See `SerialLine`."""
        super().__init__()
        self._template, self._outputs = template, outputs

    def command(self, tick: Tick, counter: int) -> bytes:
        """Return a line."""
        if not self._template:
            levels = tuple(tick.outputs[name] for name in self._outputs)
            return encode_velocity_line(VelocityLine(counter, tick.command, tick.valid_for, tick.power, levels))
        parts = {**tick.actuators, **tick.wire, **tick.outputs}
        return _filled(self._template, _fields(tick.command, parts, counter, tick.valid_for, tick.power))


def _fields(
    command: VelocityCommand, parts: Mapping[str, float], counter: int, valid_for: float, power: bool
) -> dict[str, float]:
    """Return the fields of a template; ``parts``: actuators, numbers on the wire, and outputs."""
    own = {"counter": counter, "valid_ms": round(1000.0 * valid_for), "power": int(power)}
    return {**command._asdict(), **parts, **own}


def _filled(template: str, fields: Mapping[str, float]) -> bytes:
    """Fill in a template: a field is a name, which may have dots; nothing is evaluated.

    Raises:
        ValueError: a brace is open, a field is unknown, or its format is not one for numbers.
    """
    filled = []
    for text, name, form, conversion in string.Formatter().parse(template.removesuffix(_CHECKSUM)):
        filled.append(text)
        if name is None:
            continue
        if name not in fields:
            raise ValueError(f"its line has a field {name}; there are {', '.join(sorted(fields))}")
        if conversion or "{" in (form or ""):
            raise ValueError(f"the field {name} of its line has a format that is not for a number")
        filled.append(format(fields[name], form or ""))
    line = "".join(filled)
    return with_checksum(line.rstrip().encode()) if template.endswith(_CHECKSUM) else line.encode() + b"\n"


def _examples(plan: Plan) -> Iterator[tuple[VelocityCommand, dict[str, float]]]:
    """Return commands in every direction with their actuators: the longest numbers."""
    speeds = plan.full_speeds()
    ends = [(-_LONG * low, _LONG * high) for low, high in (
        (speeds.backward, speeds.forward), (speeds.sideways, speeds.sideways), (speeds.down, speeds.up),
        (speeds.turn, speeds.turn),
    )]  # fmt: skip
    outputs = dict.fromkeys(plan.output_names(), -_LONG)
    for axes in product(*ends):
        command, _ = plan.chassis.within_reach(VelocityCommand(*axes))
        actuators = plan.chassis.actuators(command)
        yield command, {**actuators, **Wire(plan.actuators).step(actuators, True, outputs), **outputs}


def template_problem(template: str, plan: Plan) -> str:
    """Explain why a template cannot be filled in for a plan; empty if it can."""
    try:
        _longest(template, plan)
    except (ValueError, TypeError) as error:
        return str(error)
    return ""


def outputs_problem(outputs: tuple[str, ...], template: str, plan: Plan) -> str:
    """Explain why the levels of these outputs cannot be sent; empty if they can."""
    if outputs and template:
        return "your own line names its outputs itself: remove outputs"
    if len(outputs) > MOST_OUTPUTS:
        return f"it takes {MOST_OUTPUTS} outputs at most, and there are {len(outputs)}"
    known = plan.output_names()
    unknown = next((name for name in outputs if name not in known), None)
    return f"there is no output {unknown}; there are {', '.join(known) or 'none'}" if unknown is not None else ""


def _longest(template: str, plan: Plan, outputs: int = 0) -> int:
    """Return the length of the longest line of a plan with its end, bytes. Raises as `_filled`."""
    valid, sizes = plan.guard.command_timeout, []
    for command, parts in _examples(plan):
        line = (
            _filled(template, _fields(command, parts, 255, valid, True)) if template
            else encode_velocity_line(VelocityLine(255, command, valid, True, (-1.0,) * outputs))
        )  # fmt: skip
        sizes.append(len(line))
    return max(sizes)


@dataclass(frozen=True, kw_only=True)
class SerialLineOptions(RatedSinkOptions):
    """A line to the builder's own firmware."""

    kind: ClassVar[str] = "serial"
    without_metres: ClassVar[str] = _OWN_LINE
    port: str = option("a serial port, such as /dev/ttyUSB0", word="PORT", place=True)
    baud: int = option("a whole number of baud, such as 115200", 115_200, above=0, word="N")
    rate: float | None = option('a frequency, such as "25 Hz"', None, dimension=FREQUENCY, word="HZ")
    answers: float | None = option('a time, such as "500 ms"', None, dimension=TIME, word="S")
    line: str = option('a line with fields in braces, such as "{vx:.3f} {yaw_rate:.3f}"', "")
    outputs: tuple[str, ...] = option("a list of outputs, whose levels the line carries", (), word="A|B")
    form: Literal["text", "binary", "signed"] = option(
        '"text", "binary" or "signed"', "text", word="text|binary|signed"
    )
    key: str | None = option('a key file, for form = "signed"; see tenuto key', None, word="FILE")
    wheels: tuple[str, ...] = option("a list of names for the wheel speeds of its answers", (), word="A|B")
    distances: tuple[str, ...] = option("a list of names for the distances of its answers", (), word="A|B")

    @property
    def in_metres(self) -> bool:
        """Whether it sends m/s: every form does, except a line of your own."""
        return not self.line

    @property
    def says(self) -> frozenset[str]:
        """Name what an answer line can report, if answers are expected."""
        return Answers.says if self.answers is not None else frozenset()

    @property
    def numbers(self) -> tuple[str, ...]:
        """Name the numbers of an answer: the common ones, wheels and distances."""
        named = [f"wheels.{name}" for name in self.wheels] + [f"distances.{name}" for name in self.distances]
        return (*super().numbers, *named) if self.answers is not None else ()

    def plan_errors(self, plan: Plan) -> Iterator[Finding]:
        """Fill in the line once; check that the port is fast enough for it, and that commands come in time."""
        for key, wrong in (
            ("outputs", outputs_problem(self.outputs, self.line, plan)),
            ("line", template_problem(self.line, plan)),
            ("form", self._form_problem(plan)),
            ("wheels", self._names_problem(self.wheels)),
            ("distances", self._names_problem(self.distances)),
        ):
            if wrong:
                yield error(key, wrong)
                return
        rate = self.per_second(plan)
        size = self._size(plan)
        if size * _BITS * rate > self.baud:
            text = f"{size} bytes {rate:g} times a second need {math.ceil(size * _BITS * rate)} baud"
            yield error("baud", text, "raise it, lower rate, or send less")
        yield from super().plan_errors(plan)

    def errors(self, actions: Collection[str]) -> list[Finding]:
        """Check that a form has its own options, and no others."""
        found = []
        for key, said in (("line", bool(self.line)), ("outputs", bool(self.outputs))):
            if said and self.form != "text":
                found.append(unexpected(key, 'nothing but with form = "text"', f'form "{self.form}"', "remove it"))
        if (self.form == "signed") is not (self.key is not None):
            expected = "a key file" if self.form == "signed" else 'nothing but with form = "signed"'
            found.append(unexpected("key", expected, self.key or "nothing"))
        if self.form == "signed" and self.answers is None:
            found.append(
                unexpected("answers", "a time, for signed commands need answers", "nothing", 'such as "500 ms"')
            )
        return found

    def _size(self, plan: Plan) -> int:
        """Return the greatest length of a command, bytes."""
        if self.form == "text":
            return _longest(self.line, plan, len(self.outputs))
        return LENGTHS[COMMAND if self.form == "binary" else SIGNED_COMMAND]

    def _form_problem(self, plan: Plan) -> str:
        least = VALID_MS[0] / 1000.0
        if self.form != "text" and plan.guard.command_timeout < least:
            return f"a frame is valid for {least:g} s at least, and guard.command_timeout is shorter"
        return ""

    def _names_problem(self, names: tuple[str, ...]) -> str:
        """Describe the errors in the names for the numbers of an answer; empty for none."""
        if names and self.answers is None:
            return "they come in answers: set answers, the longest silence of the far end"
        most = MOST_NUMBERS if self.form == "text" else 2 if names is self.wheels else 1
        return f"an answer in this form has {most} at most" if len(names) > most else ""

    def turns(self, plan: Plan) -> dict[str, bool]:
        """Name the actuators of its line: ``{left.share}`` has the form of [actuators], ``{left}`` has not."""
        try:
            named = {name for _, name, _, _ in string.Formatter().parse(self.line) if name}
        except ValueError:  # `plan_errors` reports it
            return {}
        found = {one: any(name.startswith(f"{one}.") for name in named) for one in plan.chassis.bounds()}
        return {name: formed for name, formed in found.items() if formed or name in named}

    def waits(self, plan: Plan) -> tuple[float, str]:
        """Return how long a command is valid."""
        valid = plan.guard.command_timeout
        if self.form != "text" and valid >= VALID_MS[0] / 1000.0:
            valid = VALID_MS[valid_index(valid)] / 1000.0
        return valid, "guard.command_timeout"

    def open(self) -> Sink:
        """Open the port."""
        return SerialLine(
            self.port, self.baud, self.rate, self.answers, self.line, self.outputs, self.wheels, self.distances,
            self.form, self.key,
        )  # fmt: skip
