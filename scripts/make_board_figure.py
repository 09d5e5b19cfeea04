"""Makes the picture of one drive by the pipeline and by the simulated chip, one over the other.

python scripts/make_board_figure.py          (needs avr-gcc and simavr; about a minute)
"""

from __future__ import annotations

import subprocess
from pathlib import Path
from tempfile import TemporaryDirectory

from matplotlib.figure import Figure

from tenuto import Frame, Pipeline, load_profile
from tenuto.data import shipped
from tenuto.figures import save_figure
from tenuto.firmware.generate import make_firmware
from tenuto.protocols.radio.base import channel_values
from tenuto.protocols.radio.sbus import SbusDecoder, encode_sbus
from tenuto.sources.recording import read_recording
from tenuto.sticks.reading import Reader

ROOT = Path(__file__).parents[1]
BOARD = ROOT / "examples/boards/medlar-board.toml"
# The recording is that of a pad; a radio would send these pulses for the same sticks, in frames every 14 ms.
FRAME, WHEELS = 0.014, ("left_wheel", "right_wheel")
BLUE, GREY, RED = "#0072b2", "#b8b8b8", "#b5122b"


def pulses() -> list[tuple[float, bytes]]:
    """Return the frames of a radio for the sticks of the shipped recording: time, s, and bytes."""
    reader = Reader(load_profile(shipped("medlar.toml")).plan().controls, 0.02)
    frames, sent, at = read_recording(shipped("orchard-row.csv")), list[tuple[float, bytes]](), 0.1
    for frame, after in zip(frames, [*frames[1:], frames[-1]], strict=True):
        reader.take(frame, frame.time)
        where = reader.positions
        while at < after.time + 0.1:
            silent = after.time - frame.time > 0.3  # the pad was unplugged
            if not silent:
                channels = [1500.0 - 512.0 * where["steer"], 1500.0 + 512.0 * where["drive"], 1500.0, 1500.0]
                channels += [2000.0 if where["left_shoulder"] >= 0.5 else 1000.0] + [1500.0] * 11
                sent.append((at, encode_sbus(channels)))
            at += FRAME
    return sent


def by_chip(sent: list[tuple[float, bytes]], seconds: float) -> dict[str, list[tuple[float, float]]]:
    """Return the duty of each wheel at the pins, −1…1, at each change."""
    events = [f"U {1e6 * at + 120 * n:.0f} {byte}" for at, data in sent for n, byte in enumerate(data)]
    with TemporaryDirectory() as folder:
        make_firmware(load_profile(BOARD)).write(folder)
        subprocess.run(["make", "-s", "-C", f"{folder}/avr", "main.elf", "bench"], check=True)
        command = [f"{folder}/avr/bench", f"{folder}/avr/main.elf"]
        said = "\n".join([*events, f"E {1e6 * seconds:.0f}"])
        out = subprocess.run(command, input=said, capture_output=True, text=True, check=True).stdout
    found: dict[str, list[tuple[float, float]]] = {wheel: [(0.0, 0.0)] for wheel in WHEELS}
    back = {"13": "left_wheel", "5": "right_wheel"}
    duty, sides = {"11": "left_wheel", "3": "right_wheel"}, dict.fromkeys(WHEELS, 1.0)
    for kind, time, pin, level in (line.split() for line in out.splitlines() if line[:2] in ("P ", "D ")):
        if kind == "P" and pin in back:
            sides[back[pin]] = -1.0 if level == "1" else 1.0
        if kind == "D" and pin in duty:
            found[duty[pin]].append((float(time) / 1e6, sides[duty[pin]] * float(level) / 255.0))
    return found


def by_pipeline(sent: list[tuple[float, bytes]], seconds: float) -> list[tuple[float, dict[str, float], str]]:
    """Return the duty of each wheel by the pipeline, and the state of the guard, a row per tick."""
    pipeline, decoder, rows = Pipeline(load_profile(BOARD)), SbusDecoder(), []
    waiting = list(sent)
    for tick_number in range(1, int(seconds / 0.02)):
        now, frame = 0.02 * tick_number, None
        while waiting and waiting[0][0] + 0.003 <= now:
            at, data = waiting.pop(0)
            for heard in decoder.feed(data, pause=True):
                frame = Frame(at + 0.003, channel_values(heard))
        tick = pipeline.step(frame, now)
        duties = {w: tick.wire[f"{w}.duty"] * tick.wire[f"{w}.direction"] / 255.0 for w in WHEELS}
        rows.append((now, duties, str(tick.guard.state)))
    return rows


def main() -> None:
    """Draw it."""
    sent = pulses()
    seconds = sent[-1][0] + 2.0
    chip, here = by_chip(sent, seconds), by_pipeline(sent, seconds)
    figure = Figure(figsize=(12.8, 7.2), dpi=100, layout="constrained")
    axes = figure.subplots(2, 1, sharex=True)
    for ax, wheel in zip(axes, WHEELS, strict=True):
        times = [now for now, _, _ in here]
        ax.step(
            times, [duties[wheel] for _, duties, _ in here], where="post", color=GREY, lw=5, label="tenuto, on the desk"
        )
        ends = [*chip[wheel], (seconds, chip[wheel][-1][1])]
        ax.step(*zip(*ends, strict=True), where="post", color=BLUE, lw=1.3, label="pins of the simulated ATmega328P")
        for (now, _, state), (_, _, before) in zip(here[1:], here, strict=False):
            if state != before and state in ("stopping", "driving"):
                ax.axvline(now, color=RED if state == "stopping" else GREY, lw=0.9, ls=":")
        ax.set_ylabel(f"duty of {wheel.replace('_', ' ')}")
        ax.set_ylim(-0.6, 1.1)
        ax.grid(alpha=0.25)
    axes[0].legend(loc="upper right")
    axes[1].set_xlabel("s; dotted: it begins to drive, or to stop (red)")
    figure.suptitle("Medlar's row by radio: the same profile here, and as tenuto firmware's code on a chip")
    save_figure(figure, ROOT / "docs/screenshots/firmware.png")


if __name__ == "__main__":
    main()
