"""Coverage-guided fuzzing of all parsers: profiles, scripts, calibrations, logs, recordings, protocols.

    pip install atheris && python scripts/fuzz_parsers.py -max_total_time=3600

A finding is an exception other than Tenuto's own; its input is kept as a small test.
"""

from __future__ import annotations

import sys
import tempfile
import warnings
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["tenuto"]):
    import tenuto
    from tenuto.calibration.store import Calibration
    from tenuto.data import shipped
    from tenuto.kinds.quantities import SPEED, parse_quantity
    from tenuto.kinds.texts import read_text
    from tenuto.links.black_box import read_black_box
    from tenuto.profile.script import load_script
    from tenuto.protocols import LineDecoder, PpmDecoder
    from tenuto.protocols.answer_line import read_answer
    from tenuto.protocols.frames import COMMAND, FrameFinder
    from tenuto.protocols.marks import Unmarker
    from tenuto.protocols.mavlink import MavlinkLink, Member
    from tenuto.protocols.radio.base import RADIOS
    from tenuto.protocols.remote import MESSAGES, other_form, read_json
    from tenuto.protocols.velocity_line import VelocityLineDecoder
    from tenuto.sinks.base import SINKS
    from tenuto.sources import source_options
    from tenuto.sources.recording import read_recording

FOLDER = Path(tempfile.mkdtemp())
MEDLAR = shipped("medlar.toml").read_bytes()


def _file(read: Callable[[Path], object], name: str) -> Callable[[bytes], object]:
    def test(data: bytes) -> None:
        (FOLDER / name).write_bytes(data)
        read(FOLDER / name)

    return test


def _profile(data: bytes) -> None:
    """Return a profile with some changed bytes."""
    at = data[0] * 6 % len(MEDLAR) if data else 0
    (FOLDER / "p.toml").write_bytes(MEDLAR[:at] + data[1:] + MEDLAR[at + data[1] % 60 if len(data) > 1 else at :])
    tenuto.load_profile(FOLDER / "p.toml").plan()


def _text(read: Callable[[str], object]) -> Callable[[bytes], object]:
    return lambda data: read(data.decode("utf-8", "replace"))


def _quantity(text: str) -> None:
    with suppress(ValueError):
        parse_quantity(text, SPEED)


TARGETS: list[Callable[[bytes], object]] = [
    _profile,
    _file(tenuto.load_profile, "q.toml"),
    _file(load_script, "s.toml"),
    _file(Calibration.load, "c.toml"),
    *(_file(tenuto.load_log, f"l.{form}") for form in ("csv", "jsonl", "mcap")),
    _file(read_black_box, "b.mcap"),
    _file(read_recording, "r.csv"),
    _text(lambda text: read_text(text, SINKS, tenuto.SinkError)),
    _text(source_options),
    _text(_quantity),
    *(lambda data, radio=radio: radio.decoder().feed(data[1:], damaged=(data[0],) if data else (), pause=True)
      for radio in RADIOS.all.values()),
    lambda data: LineDecoder().feed(data),
    lambda data: VelocityLineDecoder().feed(data),
    lambda data: FrameFinder(COMMAND).feed(data),
    lambda data: Unmarker().feed(data),
    lambda data: MavlinkLink(Member(255, 190)).feed(data),
    lambda data: PpmDecoder().feed(byte * 1e-4 for byte in data),
    lambda data: read_answer(data),
    *(lambda data, kind=kind: read_json(kind, data) for kind in MESSAGES.values()),
    other_form,
]  # fmt: skip


def one(data: bytes) -> None:
    """Pass the bytes after the first to the parser that the first one selects."""
    if data:
        with suppress(tenuto.TenutoError):
            TARGETS[data[0] % len(TARGETS)](data[1:])


if __name__ == "__main__":
    warnings.simplefilter("ignore")
    corpus = FOLDER / "corpus"
    corpus.mkdir()
    for number, name in enumerate(("medlar.toml", "round-the-tree.toml", "quince.toml")):
        for target in range(4):
            (corpus / f"{number}-{target}").write_bytes(bytes((target,)) + shipped(name).read_bytes()[:1500])
    atheris.Setup([*sys.argv, f"-artifact_prefix={FOLDER}/", "-timeout=5", "-max_len=2000", str(corpus)], one)
    atheris.Fuzz()
