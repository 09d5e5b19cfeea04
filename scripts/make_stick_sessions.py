"""Makes the shipped sessions for ``--from`` of tenuto calibrate (a worn pad, a clean transmitter) and of tenuto begin.

python scripts/make_stick_sessions.py
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from tenuto.basics.frame import Frame
from tenuto.sim.sticks import StickTruth, measured_session
from tenuto.sources.gamepad import GamepadOptions
from tenuto.sources.recording import write_recording

RATE, STIR_SECONDS = 50.0, 6.0
OUT = Path(__file__).parents[1] / "src/tenuto/data"
WORN = {
    "left_x": StickTruth(-30455, 1200, 30455, noise=150, scatter=700, play=300, step=257),
    "left_y": StickTruth(-30455, 983, 30455, noise=150, scatter=900, play=500, step=257),
    "right_x": StickTruth(-30455, 983, 30455, noise=150, scatter=350, step=257),
    "right_y": StickTruth(-30455, 983, 30455, noise=150, scatter=350, step=257, spikes=0.012),
    "right_trigger": StickTruth(0, 0, 32640, noise=20, step=128),
}
CLEAN = {
    "channel_1": StickTruth(988, 1500, 2012, noise=0.4, scatter=1.2, step=0.625),
    "channel_2": StickTruth(988, 1500, 2012, noise=0.4, scatter=1.2, step=0.625),
    "channel_3": StickTruth(988, 988, 2012, noise=0.4, step=0.625),
    "channel_4": StickTruth(988, 1501, 2012, noise=0.4, scatter=1.5, step=0.625),
}


def session(sticks: dict[str, StickTruth], seed: int, buttons: tuple[str, ...]) -> list[Frame]:
    """Return the frames of a session that measures one control after the other, and then stirs both sticks."""
    rng = np.random.default_rng(seed)
    made = {
        name: measured_session(truth, rng, returns=10, start=2.5 + 15.0 * number)[1]
        for number, (name, truth) in enumerate(sticks.items())
    }
    longest = max(map(len, made.values())) + round(STIR_SECONDS * RATE)
    columns: dict[str, list[float]] = {}
    for name, raw in made.items():
        truth = sticks[name]
        after = np.full(longest - len(raw), float(truth.centre))
        if name.endswith(("_x", "_y")):
            turn = np.linspace(0.0, 6.0 * np.pi, round(STIR_SECONDS * RATE))
            swing = np.cos(turn) if name.endswith("_x") else np.sin(turn)
            after[-len(turn) :] += np.where(swing > 0, truth.high - truth.centre, truth.centre - truth.low) * swing
        after += truth.noise * rng.standard_normal(len(after))
        columns[name] = [*raw, *(np.round(after / truth.step) * truth.step)]
    for name in buttons:
        columns[name] = [float(row % 400 > 370 and row > 200) for row in range(longest)]
    return [Frame(row / RATE, {name: float(raw[row]) for name, raw in columns.items()}) for row in range(longest)]


def gestures() -> list[Frame]:
    """Return the frames of the answers to tenuto begin: forward, left, hold-to-run, stop."""
    rest = {
        info.name: info.rest for info in GamepadOptions.layout if not info.name.startswith(("misc", "paddle", "touch"))
    }
    frames = []
    for number, (name, raw) in enumerate(
        (("left_y", -31000.0), ("right_x", -31000.0), ("left_shoulder", 1.0), ("east", 1.0))
    ):
        for row in range(85):
            moved = {name: raw} if 30 <= row < 55 else {}
            frames.append(Frame(2.0 * number + row / RATE, rest | moved))
    return frames


def main() -> None:
    """Write the recordings."""
    write_recording(OUT / "pad-gestures.csv", gestures())
    write_recording(OUT / "worn-pad.csv", session(WORN, 5, ("left_shoulder", "south")))
    write_recording(OUT / "clean-transmitter.csv", session(CLEAN, 6, ()))


if __name__ == "__main__":
    main()
