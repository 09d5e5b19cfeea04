"""Weak links: grace, too few frames, the stages until the robot stands, and the line to its far end."""

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, pad, run
from tenuto import State, VelocityCommand
from tenuto.data import shipped
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder, encode_velocity_line
from tenuto.sim.far_end import FarEnd
from tenuto.vehicles.velocity import STANDSTILL


def medlar(**guard: object) -> tenuto.Profile:
    return MEDLAR.model_copy(update={"guard": MEDLAR.guard.model_copy(update=guard)})


@given(
    st.floats(0.1, 0.6), st.floats(0.05, 0.6), st.lists(st.floats(0.005, 0.19), min_size=60, max_size=60),
)  # fmt: skip
def test_no_command_holds_longer_than_timeout_and_grace(timeout: float, grace: float, steps: list[float]) -> None:
    bench = Bench(medlar(grace=grace, link_timeout=timeout))
    bench.drive(1.0)
    heard, moved = bench.now, 0.0
    for dt in steps:
        tick = bench.step(None, dt)
        if tick.guard.state is State.DRIVING:
            moved = tick.time - heard
    assert min(timeout, sum(steps)) - max(steps) - 1e-9 <= moved <= timeout + grace + 1e-9


def test_grace_bridges_a_lost_link_but_no_broken_number() -> None:
    bench, forward = Bench(medlar(grace=0.4)), pad(1.0, held=True)
    full = bench.drive(2.5).command
    failsafe = [bench.step(forward, link_good=False, note="failsafe") for _ in range(15)]
    assert all(tick.command == full for tick in failsafe)
    assert failsafe[-1].notices[0].text == "failsafe: the last command holds for 0.10 s more"
    assert bench.run(1.0, forward).command == full  # heard again in time: no effect
    bench.run(0.68, None)  # 0.3 s until the detection, plus the grace time
    assert bench.ticks[-1].command == full
    stopping = bench.run(0.06, None)
    assert stopping.guard.state is State.STOPPING
    assert bench.run(2.0, forward).command == STANDSTILL
    bench.drive(1.0)
    assert bench.step(forward | {"left_y": float("nan")}).guard.state is State.STOPPING


@pytest.mark.long
@given(st.floats(5.0, 40.0), st.floats(5.0, 40.0))
def test_too_few_frames_in_a_second_are_no_link(rate: float, least: float) -> None:
    bench = Bench(medlar(least_frame_rate=least))
    bench.drive(0.5)
    sent, states = 0.0, []
    for _ in range(150):
        due = bench.now + 0.02 >= sent + 1.0 / rate
        sent = bench.now + 0.02 if due else sent
        states.append(bench.step(pad(1.0, held=True) if due else None).guard.state)
    came = 50.0 / -(-50.0 // rate)  # frames come with ticks, at most at the tick rate
    if came > least + 2.0:
        assert set(states) == {State.DRIVING}
    elif came < least - 2.0:
        assert states[-1] is State.FAULT
        codes = {reason.code for tick in bench.ticks for reason in tick.guard.reasons}
        assert "link_sparse" in codes


def test_the_stages_of_a_lost_link_are_told(tmp_path: Path) -> None:
    text = shipped("medlar.toml").read_text()
    (tmp_path / "mine.toml").write_text(text.replace("[guard]", '[guard]\ngrace = "0.1 s"\nfault_category = 1'))
    told = json.loads(run("check", "mine.toml", "--json", cwd=tmp_path).stdout)["link_loss"]
    assert [stage["seconds"] for stage in told] == pytest.approx([0.32, 0.44, 1.24, None])
    assert [stage["metres"] for stage in told] == pytest.approx([0.384, 0.528, 1.008, 1.008])  # a tick each, v²/2a
    assert told[-1]["what"] == "the power is off"
    bench = Bench(tenuto.load_profile(tmp_path / "mine.toml"))
    bench.drive(3.0)
    way, gone = 0.0, []
    for _ in range(150):
        way += bench.step(None).command.vx * 0.02
        gone.append(way)
    for stage in told[:3]:
        within = round(stage["seconds"] / 0.02)
        assert stage["metres"] - 0.1 < gone[within - 1] <= stage["metres"], "what the drive has done until then"


speeds = st.floats(-30.0, 30.0)
lines = st.builds(
    VelocityLine, st.integers(0, 255), st.builds(VelocityCommand, speeds, speeds, speeds, speeds),
    st.floats(0.0, 60.0), st.booleans(), st.lists(st.floats(-1.0, 1.0), max_size=8).map(tuple),
)  # fmt: skip


@given(st.lists(lines, max_size=6, unique_by=lambda line: line.counter), st.binary(max_size=40), st.data())
def test_a_line_is_read_back_and_a_broken_one_never_is(
    sent: list[VelocityLine], noise: bytes, data: st.DataObject
) -> None:
    decoder = VelocityLineDecoder()
    stream = noise.replace(b"V", b"v") + b"\n" + b"".join(map(encode_velocity_line, sent))
    cut = data.draw(st.integers(0, len(stream)))
    read = decoder.feed(stream[:cut]) + decoder.feed(stream[cut:])
    assert [line.counter for line in read] == [line.counter for line in sent]
    for ours, theirs in zip(sent, read, strict=True):
        assert theirs.command == pytest.approx(ours.command, abs=0.0005001)
        assert theirs.valid_for == pytest.approx(ours.valid_for, abs=0.0005001)
        assert theirs.power is ours.power
        assert theirs.outputs == pytest.approx(ours.outputs, abs=0.0005001)
    for line in map(encode_velocity_line, sent):
        place = data.draw(st.integers(0, len(line) - 2))
        broken = bytearray(line)
        broken[place] ^= 1 << data.draw(st.integers(0, 7))
        assert VelocityLineDecoder().feed(bytes(broken)) == []


def test_the_example_in_the_docs_is_a_good_line() -> None:
    assert encode_velocity_line(VelocityLine(17, VelocityCommand(0.42, 0.0, 0.0, -0.1), 0.2, True)) in {
        line.encode() + b"\n" for line in (Path(__file__).parents[1] / "docs/protocols.md").read_text().splitlines()
    }


def test_a_template_is_checked_before_anything_moves(tmp_path: Path) -> None:
    from tenuto.sinks.serial_line import SerialLine

    with FarEnd(MEDLAR) as far_end:
        known = "has a field speed; there are counter, left_wheel, power"
        with SerialLine(far_end.port, line="{speed}") as sink, pytest.raises(tenuto.SinkError, match=known):
            sink.start(MEDLAR.plan())
        with SerialLine(far_end.port, line="W {left_wheel:.2f} {right_wheel:.2f} {checksum}") as sink:
            sink.start(MEDLAR.plan())
            sink.write(Bench().drive(0.5))
        far_end.hear()
        assert far_end.decoder.counts.bad == 1  # the checksum is correct, but it is not a velocity line
        assert far_end.robot.standing
    with pytest.raises(tenuto.SinkError, match="cannot be opened: No such file"):
        tenuto.open_sink(f"serial:{tmp_path}/none")
