"""Decoders: bytes worked out by hand, round trips, and garbage, which neither stops them nor raises."""

import math
import random
from bisect import bisect_right
from collections.abc import Callable

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from helpers import examples
from tenuto.basics.frame import Signal
from tenuto.protocols import (
    CrsfDecoder,
    Decoder,
    IbusDecoder,
    LineDecoder,
    PpmDecoder,
    PwmDecoder,
    SbusDecoder,
    encode_crsf_channels,
    encode_crsf_link,
    encode_ibus,
    encode_ppm,
    encode_pwm,
    encode_sbus,
)
from tenuto.protocols.diagnosis import Diagnosis
from tenuto.protocols.marks import Unmarker
from tenuto.protocols.radio.base import RADIOS, channel_values
from tenuto.protocols.radio.crsf import crc8
from tenuto.protocols.uart import Levels, LineSettings, levels_of, read_levels
from tenuto.protocols.velocity_line import with_checksum

# Sixteen times 992 = 0b01111100000, eleven bits each, the lowest first: worked out on paper, 11 bytes repeat.
CENTRED = bytes.fromhex("e0031ff8c0073ef0810f7c") * 2
KNOWN: list[tuple[type[Decoder], bytes, int]] = [
    (SbusDecoder, b"\x0f" + CENTRED + b"\x00\x00", 16),
    # Of 24 bytes after the length: type 0x16, and 0xAD, by long division with x⁸+x⁷+x⁶+x⁴+x²+1.
    (CrsfDecoder, b"\xc8\x18\x16" + CENTRED + b"\xad", 16),
    # 1500 = 0x05DC; 0xFFFF − (0x20 + 0x40 + 14·(0xDC + 0x05)) = 0xF351.
    (IbusDecoder, b"\x20\x40" + b"\xdc\x05" * 14 + b"\x51\xf3", 14),
]
ENCODERS: dict[type[Decoder], Callable[[list[float]], bytes]] = {
    SbusDecoder: encode_sbus,
    CrsfDecoder: encode_crsf_channels,
    IbusDecoder: lambda channels: encode_ibus(channels[:14]),
}
kinds = st.sampled_from(list(ENCODERS))
counts = st.lists(st.integers(0, 2047), min_size=16, max_size=16)


def pulses(counted: list[int]) -> list[float]:
    return [988 + (2012 - 988) / (1811 - 172) * (count - 172) for count in counted]


@pytest.mark.parametrize(("decoder", "data", "channels"), KNOWN)
def test_known_bytes(decoder: type[Decoder], data: bytes, channels: int) -> None:
    # Three times: SBUS has no checksum, and its decoder requires consecutive frames.
    frames = decoder().feed(data * 3)
    assert [frame.channels for frame in frames] == [(1500.0,) * channels] * 3
    assert ENCODERS[decoder]([1500.0] * 16) == data


@given(kinds, counts, st.lists(st.booleans(), min_size=2, max_size=2))
def test_round_trip_of_all_values(kind: type[Decoder], counted: list[int], switches: list[bool]) -> None:
    def encode(channels: list[float]) -> bytes:
        return encode_sbus(channels, switches) if kind is SbusDecoder else ENCODERS[kind](channels)

    centred = ENCODERS[kind]([1500.0] * 16)  # after it, so that no other position fits by chance
    frames = kind().feed(encode(pulses(counted)) + centred * 3)
    assume(len(frames) == 4)
    received = list(frames[0].channels)
    # µs are rounded to 1 by iBUS, and to the nearest of 2048 steps of 0.625 by the others; and 5/8 is itself
    # the trade's rounding of 1024/1639, half a µs off at the ends.
    assert received == pytest.approx(pulses(counted)[: len(received)], abs=1.0)
    assert list(frames[0].switches) == (switches if kind is SbusDecoder else [])
    again = kind().feed(encode((received + [1500.0] * 2)[:16]) + centred * 3)
    assert again[0] == frames[0]


@given(kinds, st.lists(st.one_of(st.binary(max_size=60), counts), max_size=8), st.data())
def test_any_cutting_gives_the_same_and_nothing_raises(
    kind: type[Decoder], parts: list[bytes | list[int]], data: st.DataObject
) -> None:
    stream = bytearray()
    for part in parts:
        stream += part if isinstance(part, bytes) else ENCODERS[kind](pulses(part)) * 3
    for _ in range(data.draw(st.integers(0, 5)) if stream else 0):
        stream[data.draw(st.integers(0, len(stream) - 1))] ^= 1 << data.draw(st.integers(0, 7))
    whole, cut = kind(), kind()
    expected = whole.feed(bytes(stream))
    found = []
    at = 0
    while at < len(stream):
        step = data.draw(st.integers(1, 40))
        found += cut.feed(bytes(stream[at : at + step]))
        at += step
    assert (found, cut.counts) == (expected, whole.counts)
    # After any garbage a decoder recovers within a few good frames: the last one is correct.
    good = pulses([992, 172, 1811, 500, *range(600, 612)])
    last = cut.feed(ENCODERS[kind](good) * 12)[-1]
    assert last.channels == pytest.approx(good[: len(last.channels)], abs=1.0)


def test_what_the_receiver_says_of_its_link() -> None:
    centred = [1500.0] * 16
    lost, failsafe = encode_sbus(centred, lost=True), encode_sbus(centred, lost=True, failsafe=True)
    frames = SbusDecoder().feed(encode_sbus(centred, (True, False)) + lost * 2 + failsafe)
    assert [(f.switches, f.lost, f.failsafe) for f in frames] == [
        ((True, False), False, False), ((False, False), True, False),
        ((False, False), True, False), ((False, False), True, True),
    ]  # fmt: skip
    decoder = CrsfDecoder()
    assert decoder.feed(encode_crsf_channels(centred))[0].signal is None
    # By hand: −0x46 and −0x3c dBm, 99 %, −4 dB, antenna 1 active, then rate, power and the downlink.
    payload = bytes((0x14, 0x46, 0x3C, 99, 0xFC, 1, 2, 3, 0x50, 98, 5))
    crc = 0
    for bit in (payload[n // 8] >> (7 - n % 8) & 1 for n in range(8 * len(payload))):
        crc = ((crc << 1) ^ (0xD5 if (crc >> 7) ^ bit else 0)) & 0xFF
    decoder.feed(b"\xc8\x0c" + payload + bytes((crc,)))
    assert decoder.signal == Signal(quality=99.0, rssi=-60.0, snr=-4.0)
    assert not decoder.feed(encode_crsf_channels(centred))[0].failsafe
    assert decoder.feed(encode_crsf_link(Signal(0, -120, -20)) + encode_crsf_channels(centred))[0].failsafe


@given(counts, st.integers(0, 24 * 11 - 1), st.integers(0, 24))
def test_sbus_with_parity_takes_no_frame_with_one_flipped_bit(counted: list[int], bit: int, first: int) -> None:
    """The line has a parity bit: the port reports every byte with one wrong bit."""
    decoder, frame = SbusDecoder(), encode_sbus(pulses(counted))
    decoder.feed(encode_sbus([1500.0] * 16) * 3)
    before = decoder.counts.good
    place, wrong = divmod(bit, 11)
    broken = bytearray(frame)
    broken[place] ^= 1 << wrong % 8
    # In two pieces, the position of the damage counts from the beginning of its piece.
    pieces = [(bytes(broken[:first]), [place] if place < first else []),
              (bytes(broken[first:]) + frame, [place - first] if place >= first else [])]  # fmt: skip
    found = [one for data, damaged in pieces for one in decoder.feed(data, damaged=damaged)]
    found += decoder.feed(frame)
    assert {one.channels for one in found} <= {SbusDecoder().feed(frame * 4)[0].channels} or counted == [992] * 16
    assert decoder.counts.good - before == 2


noises = st.sampled_from(("before", "after", "telemetry"))


@given(st.lists(st.tuples(counts, noises, st.binary(min_size=1, max_size=3)), min_size=3, max_size=8), st.booleans())
def test_sbus_finds_its_frames_by_the_pauses_of_the_line(sent: list[tuple[list[int], str, bytes]], told: bool) -> None:
    """A byte of noise at every frame, or a receiver's telemetry between frames."""
    decoder, expected, found = SbusDecoder(), [], []
    for counted, noise, more in sent:
        frame = encode_sbus(pulses(counted))
        expected.append(tuple(pulses(counted)))
        early = more.replace(b"\x0f", b"\x0e") if noise == "before" else b""
        found += decoder.feed(early + frame + (more if noise == "after" else b""), pause=told)
        if noise == "telemetry":
            found += decoder.feed(more, pause=told)
    if told:
        assert [one.channels for one in found] == [pytest.approx(one, abs=1.0) for one in expected]


def test_what_a_sender_of_eighteen_channels_hides_in_the_upper_bits() -> None:
    # By hand: channel 15 of 0x7D0 µs puts 0, 0xD and 7 above the first three words, the next one above three more.
    words = [0x05DC] * 14
    for channel, value in enumerate((0x7D0, 0x3E8, 0x5DC, 0x4B0)):  # 2000, 1000, 1500, 1200 µs
        for part in range(3):
            words[3 * channel + part] |= (value >> 4 * part & 0xF) << 12
    body = b"\x20\x40" + b"".join(word.to_bytes(2, "little") for word in words)
    data = body + (0xFFFF - sum(body)).to_bytes(2, "little")
    assert IbusDecoder().feed(data)[0].channels == (1500.0,) * 14 + (2000.0, 1000.0, 1500.0, 1200.0)
    assert encode_ibus([1500.0] * 14 + [2000.0, 1000.0, 1500.0, 1200.0]) == data
    assert len(IbusDecoder().feed(encode_ibus([1500.0] * 14))[0].channels) == 14


@examples(60)
@given(st.integers(0, 12), st.sampled_from((10, 11, 12, 13)), st.lists(st.floats(0.0, 1.0), min_size=1, max_size=4))
def test_crsf_frames_of_some_channels(first: int, width: int, shares: list[float]) -> None:
    values = [round(share * (2**width - 1)) for share in shares]
    # The bits in sequence, each channel with its lowest bit first, cut into bytes.
    bits = "".join(f"{value:0{width}b}"[::-1] for value in values)
    bits += "0" * (-len(bits) % 8)
    packed = bytes(int(bits[n : n + 8][::-1], 2) for n in range(0, len(bits), 8))
    payload = bytes((0x17, first | (width - 10) << 5)) + packed
    data = bytes((0xC8, len(payload) + 1)) + payload + bytes((crc8(payload),))
    decoder = CrsfDecoder()
    frame = decoder.feed(data)[0]
    heard = 8 * len(packed) // width  # the padding of the last byte may be as long as a channel
    named = channel_values(frame)
    assert list(named)[: len(values)] == [f"channel_{first + n + 1}" for n in range(len(values))]
    assert list(named.values())[: len(values)] == pytest.approx(
        [988.0 + value * 2.0 ** (10 - width) for value in values]
    )
    assert len(named) == min(heard, 16 - first)
    decoder.feed(encode_crsf_channels([1600.0] * 16))
    for _ in range(24):
        assert len(channel_values(decoder.feed(data)[0])) == 16
    assert len(channel_values(decoder.feed(data)[0])) == len(named), "the others were not heard of for 25 frames"
    odd = bytes((0x29, 1, 2))
    assert decoder.feed(bytes((0xC8, 4)) + odd + bytes((crc8(odd),))) == []
    assert decoder.passed_over == {"type 0x29": 1}


def test_sbus_does_not_lock_onto_the_middle_of_frames() -> None:
    # Channels chosen so that every frame contains an end and a header 9 bytes after its start.
    bits = int.from_bytes(CENTRED, "little")
    inside = bytearray(bits.to_bytes(22, "little"))
    inside[6:9] = b"\x00\x00\x0f"
    frame = b"\x0f" + bytes(inside) + b"\x00\x00"
    stuck = SbusDecoder()
    assert stuck.feed((frame * 20)[12:]) == []  # two positions fit: no frame is better than a wrong one
    moved = stuck.feed((b"\x0f" + CENTRED + b"\x00\x00") * 10)
    assert moved[-1].channels == (1500.0,) * 16


@given(st.lists(st.floats(701, 2299), min_size=4, max_size=12), st.floats(0.0028, 0.02), st.integers(0, 3))
def test_ppm_by_its_gaps(channels: list[float], gap: float, broken: int) -> None:
    decoder, edges, now = PpmDecoder(), list[float](), 1.0
    for number in range(8):
        edges += encode_ppm(now, [*channels[:-1], 5.0] if number == 3 + broken else channels)
        now = edges[-1] + gap
    found = decoder.feed([*edges[2:], math.nan, -1.0])  # begins in the middle of frame 0; frame 7 never ends
    # One of frames 1 to 6 is broken, and two equal ones come before the third fixes the number of channels.
    assert len(found) == 5 - 2
    assert decoder.counts.bad == 1 + 2
    for _, frame in found:
        assert frame.channels == pytest.approx(channels, abs=1e-3)


@examples(60)
@given(st.lists(st.floats(988, 1110), min_size=6, max_size=9), st.data())
def test_ppm_with_an_edge_too_few_or_too_many_is_no_frame(channels: list[float], data: st.DataObject) -> None:
    """Two short pulses together are a possible pulse: only the number of pulses shows the error."""
    decoder, right, found = PpmDecoder(), 0, []
    for number in range(40):
        edges = encode_ppm(number * 0.02, channels)
        what = data.draw(st.sampled_from(("whole", "whole", "lost", "noise"))) if number > 3 else "whole"
        at = data.draw(st.integers(1, len(channels) - 1))
        if what == "lost":
            del edges[at]
        elif what == "noise":
            edges.insert(at, edges[at] - 250e-6)
        right += what == "whole" and 0 < number < 39  # the start of the first and the end of the last are unknown
        found += decoder.feed(edges)
    assert len(found) == right - 2, "but for the two that fix their number"
    for _, frame in found:
        assert frame.channels == pytest.approx(channels, abs=1e-3)


def test_pwm_wants_every_wire() -> None:
    decoder, edges = PwmDecoder(3), []
    for number in range(4):
        edges += encode_pwm(number * 0.02, [1000.0, 1500.0, 2000.0])
    assert [frame.channels for _, frame in decoder.feed(edges)] == [pytest.approx((1000, 1500, 2000))] * 4
    assert decoder.feed([edge for edge in edges if edge[1] != 1]) == []  # a wire is disconnected
    assert decoder.feed([(9.0, 7, True), (9.0, 0, True), (9.1, 0, False), (math.nan, 0, False)]) == []
    assert decoder.counts.bad == 2


LINES = [
    (b"12,34\n56,78\n9,10\n", (), [(56, 78), (9, 10)]),  # the first line may be incomplete
    (b"x;y\r\n1;2\r\n", (), [(1, 2)]),  # but a header is a header
    (b"junk\x00\xff\n1 2\n3\n4 x\nnan 5\n1e400 2\n 6\t7 \n", ("a", "b"), [(1, 2), (6, 7)]),
    (b"a,b\n1,2\nb,a\n3,4\n", (), [(1, 2), (3, 4)]),
    (b"x" * 5000 + b"\n1,2\n", ("a", "b"), [(1, 2)]),
]


@pytest.mark.parametrize(("data", "columns", "expected"), LINES)
def test_lines(data: bytes, columns: tuple[str, ...], expected: list[tuple[float, ...]]) -> None:
    for step in (1, 7, len(data)):
        decoder = LineDecoder(columns)
        found = [row for at in range(0, len(data), step) for row in decoder.feed(data[at : at + step])]
        assert [tuple(row.values()) for row in found] == expected
        assert decoder.counts.good == len(expected)


@given(st.binary(max_size=300))
def test_lines_never_raise(data: bytes) -> None:
    for row in LineDecoder().feed(data):
        assert all(map(math.isfinite, row.values()))


@examples(60)
@given(st.lists(st.floats(-1e4, 1e4), min_size=2, max_size=6), st.data())
def test_a_line_with_a_checksum_is_read_and_a_changed_digit_is_not(values: list[float], data: st.DataObject) -> None:
    text = ",".join(f"{value:.3f}" for value in values).encode()
    line = with_checksum(text)
    columns = [f"c{number}" for number in range(len(values))]
    assert LineDecoder(columns, checksum=True).feed(line)[0] == {
        name: float(f"{value:.3f}") for name, value in zip(columns, values, strict=True)
    }  # the first line too: its checksum shows that it is complete
    place, digit = data.draw(st.integers(0, len(text) - 1)), data.draw(st.sampled_from(b"0123456789.,-"))
    changed = text[:place] + bytes([digit]) + text[place + 1 :]
    decoder = LineDecoder(columns, checksum=True)
    assert (decoder.feed(changed + line[len(text) :]) == []) is (changed != text)
    assert decoder.feed(text + b"\n") == []


lines = st.builds(
    LineSettings, st.sampled_from((9600, 100_000, 115_200, 420_000)), st.sampled_from("NEO"), st.sampled_from((1, 2)),
    st.booleans(),
)  # fmt: skip


@given(lines, st.lists(st.binary(min_size=1, max_size=20), min_size=1, max_size=4), st.data())
def test_what_goes_over_a_line_is_read_and_a_wrong_bit_is_seen(
    line: LineSettings, sent: list[bytes], data: st.DataObject
) -> None:
    bursts = [(number * 0.1, one) for number, one in enumerate(sent)]
    levels = levels_of(bursts, line)
    assert read_levels(levels, line) == (b"".join(sent), ())
    # By hand: 0x55 under 8N1 goes up and down with every bit: a start, eight bits, a stop.
    first = levels_of([(0.0, b"\x55")], LineSettings(10_000))
    assert first.times[1:] == pytest.approx([number / 10_000 for number in range(10)])
    assert first.high == [True, *[False, True] * 5]
    # A spike in the middle of one of the eight bits of a byte inverts that bit; a parity bit shows it.
    burst = data.draw(st.integers(0, len(sent) - 1))
    byte, bit = data.draw(st.integers(0, len(sent[burst]) - 1)), data.draw(st.integers(0, 7))
    middle = 0.1 * burst + byte * line.byte_time + (bit + 1.5) / line.baud
    place = bisect_right(levels.times, middle)
    there = levels.high[place - 1]
    spiked = Levels(
        [*levels.times[:place], middle - 0.2 / line.baud, middle + 0.2 / line.baud, *levels.times[place:]],
        [*levels.high[:place], not there, there, *levels.high[place:]],
    )
    found, damaged = read_levels(spiked, line)
    wrong = sum(map(len, sent[:burst])) + byte
    right = b"".join(sent)
    assert found == right[:wrong] + bytes((right[wrong] ^ 1 << bit,)) + right[wrong + 1 :]
    assert damaged == (() if line.parity == "N" else (wrong,))


@given(st.binary(max_size=40), st.sets(st.integers(0, 39)), st.data())
def test_the_marks_of_a_port_are_taken_out_however_they_are_cut(
    sent: bytes, bad: set[int], data: st.DataObject
) -> None:
    bad = {place for place in bad if place < len(sent)}
    raw = b"".join(
        b"\xff\x00" + sent[n : n + 1] if n in bad else b"\xff\xff" if sent[n] == 255 else sent[n : n + 1]
        for n in range(len(sent))
    )
    marks, found, damaged = Unmarker(), b"", list[int]()
    while raw:
        cut = data.draw(st.integers(1, len(raw)))
        more, places = marks.feed(raw[:cut])
        damaged += [len(found) + place for place in places]
        found, raw = found + more, raw[cut:]
    assert (found, damaged) == (sent, sorted(bad))


SBUS, IBUS, CRSF = LineSettings(100_000, "E", 2), LineSettings(115_200), LineSettings(420_000)
SENDERS = {"sbus": SBUS, "ibus": IBUS, "crsf": CRSF, "lines": LineSettings(115_200)}


@pytest.mark.long
@examples(20)
@given(
    st.sampled_from(list(SENDERS)), st.sampled_from(list(SENDERS)), st.booleans(),
    st.lists(st.floats(1000.0, 2000.0), min_size=2, max_size=2), st.integers(0, 1000), st.booleans(),
)  # fmt: skip
def test_the_line_s_doctor_names_who_sends(
    port: str, sender: str, inverted: bool, sticks: list[float], seed: int, tells: bool
) -> None:
    dice = random.Random(seed)
    line = SENDERS[sender]._replace(inverted=inverted)
    now, bursts = 0.0, []
    for _ in range(150):
        channels = [one + dice.uniform(-1.0, 1.0) for one in (*sticks, *[1500.0] * 10, 988.0, 2012.0, 1500.0, 1500.0)]
        text = b"%d,%d,%d,%d\r\n" % tuple((one - 988) / 1024 * 1023 for one in channels[:4])
        data = text if sender == "lines" else RADIOS.all[sender].encode(channels[: 14 if sender == "ibus" else 16])
        bursts.append((now, data))
        now += len(data) * line.byte_time + dice.uniform(0.003, 0.009)
    found, damaged = read_levels(levels_of(bursts, line), SENDERS[port])
    damaged = damaged if tells else ()  # a port need not report damaged bytes
    decoder = RADIOS.all[port].decoder() if port != "lines" else None
    doctor = Diagnosis(port, SENDERS[port])
    doctor.take(found, damaged, decoder.feed(found, damaged=damaged) if decoder is not None else ())
    said = doctor.findings(decoder, 0 if (sender, inverted) != (port, False) else 150)
    if (sender, inverted) == (port, False):
        assert said == []
    elif sender == port:
        assert any("looks inverted" in one or ", inverted" in one for one in said)
    else:
        turned = ", inverted" if inverted else ""
        assert any(f"{sender} at {line.baud} baud{turned}" in one for one in said)


def test_the_doctor_says_what_to_do_where_frames_fit_at_two_places() -> None:
    decoder, doctor = SbusDecoder(), Diagnosis("sbus", SBUS)
    bits = bytearray(CENTRED)
    bits[6:9] = b"\x00\x00\x0f"
    data = (b"\x0f" + bytes(bits) + b"\x00\x00") * 40
    doctor.take(data, (), decoder.feed(data))
    assert decoder.counts.good == 0
    assert doctor.findings(decoder) == [
        "this may be sbus at 100000 baud, but almost no frame is complete: move a stick; otherwise it is noise"
    ]


def test_slots_for_telemetry_are_told() -> None:
    decoder, doctor = SbusDecoder(), Diagnosis("sbus", SBUS)
    for end in (0x04, 0x14, 0x24, 0x34) * 5:  # every fourth frame is followed by the slots that its last byte names
        data = encode_sbus([1500.0] * 16)[:-1] + bytes((end,))
        doctor.take(data, (), decoder.feed(data, pause=True) + decoder.feed(b"\x03\xc0\x12", pause=True))
    assert decoder.counts.good == 20
    assert doctor.findings(decoder) == ["ignored: slots for telemetry, 20 times"]


def test_two_senders_on_one_line_are_told() -> None:
    decoder, doctor = SbusDecoder(), Diagnosis("sbus", SBUS)
    for _ in range(30):
        data = encode_sbus([1500.0] * 16) + encode_sbus([1100.0, 1900.0, *[1500.0] * 14])
        doctor.take(data, (), decoder.feed(data))
    assert doctor.findings(decoder) == ["two senders on one line: every other frame has other channels"]
