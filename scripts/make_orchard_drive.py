"""Makes the shipped drive of Medlar through the orchard: the numbers of an inexpensive pad.

The motion of the thumbs is given below as key points; the pad adds a middle that is 3 % off, travel that
ends at 93 % of the range, 8-bit steps, noise and a little jitter in time. Then the radio goes silent for
a while. The same seed makes the same file.

    python scripts/make_orchard_drive.py
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import numpy.typing as npt

from tenuto.basics.frame import Frame
from tenuto.sources.recording import write_recording

OUT = Path(__file__).parents[1] / "src/tenuto/data/orchard-row.csv"
SEED = 7
SECONDS, RATE = 40.0, 50.0
SILENCE = (26.0, 27.2)

# time in s, stick forward −1…1, stick left −1…1, left shoulder held
KEYS = np.array(
    [
        (0.0, 0.0, 0.0, 0),
        (1.0, 0.0, 0.0, 1),  # press to enable, sticks at rest
        (1.6, 0.0, 0.0, 1),
        (2.0, 0.86, 0.02, 1),  # down the row
        (6.0, 0.88, -0.03, 1),
        (9.6, 0.84, 0.03, 1),
        (10.2, 0.58, 0.0, 1),
        (10.7, 0.58, 0.64, 1),  # half a turn at the end
        (14.75, 0.57, 0.66, 1),
        (15.2, 0.36, 0.0, 1),  # creep between the trees
        (16.4, 0.36, 0.24, 1),
        (17.4, 0.34, -0.26, 1),
        (18.4, 0.36, -0.26, 1),
        (19.4, 0.36, 0.25, 1),
        (20.4, 0.34, 0.12, 1),
        (20.9, 0.0, 0.0, 1),
        (21.6, 0.0, 0.0, 1),
        (21.9, 0.02, -0.7, 1),  # turn on the spot
        (23.5, 0.02, -0.7, 1),
        (23.8, 0.0, 0.0, 1),
        (24.3, 0.0, 0.0, 1),
        (24.7, 0.82, 0.0, 1),  # across to the next row; here the radio goes silent
        (28.6, 0.82, 0.02, 1),
        (29.0, 0.0, 0.0, 1),  # the driver reacts: releases the stick,
        (29.6, 0.0, 0.0, 0),  # releases the shoulder,
        (30.4, 0.0, 0.0, 1),  # presses it again,
        (31.0, 0.0, 0.0, 1),
        (31.4, 0.72, 0.0, 1),  # and finishes the drive
        (32.4, 0.6, 0.6, 1),
        (34.3, 0.6, 0.6, 1),
        (34.8, 0.9, 0.0, 1),
        (37.4, 0.9, -0.02, 1),
        (38.0, 0.0, 0.0, 1),
        (38.9, 0.0, 0.0, 0),
        (40.0, 0.0, 0.0, 0),
    ]
)

STEP = 257.0  # one of the pad's 256 steps, in SDL's numbers
MIDDLE = 127.5 * 1.03
LOWEST, HIGHEST = 127.5 * (1 - 0.93), 127.5 * (1 + 0.93)


def pad(position: npt.NDArray[np.float64], rng: np.random.Generator) -> npt.NDArray[np.float64]:
    """Return the pad's number for a stick at −1…1, left and up positive; on the pad right and down are positive."""
    counts = MIDDLE - np.where(position > 0, position * (MIDDLE - LOWEST), position * (HIGHEST - MIDDLE))
    steps = np.round(np.clip(counts + rng.normal(0.0, 0.5, position.shape), LOWEST, HIGHEST))
    return np.asarray(steps * STEP - 32768.0, dtype=np.float64)


def main() -> None:
    """Write the recording."""
    rng = np.random.default_rng(SEED)
    count = int(SECONDS * RATE)
    time = np.arange(count) / RATE + rng.normal(0.0, 0.0004, count)
    time -= time[0]
    thumb = 0.012 * np.sin(time * 5.1) * np.sin(time * 0.7)  # no thumb is quite still
    moving = np.interp(time, KEYS[:, 0], (np.abs(KEYS[:, 1:3]).max(axis=1) > 0.05).astype(float)) > 0.99
    forward = np.interp(time, KEYS[:, 0], KEYS[:, 1]) + thumb * moving
    left = np.interp(time, KEYS[:, 0], KEYS[:, 2]) - thumb * moving
    held = KEYS[np.searchsorted(KEYS[:, 0], time, side="right") - 1, 3]
    nothing = np.zeros(count)
    columns = {
        "left_x": pad(nothing + 0.4 * thumb * moving, rng),
        "left_y": pad(forward, rng),
        "right_x": pad(left, rng),
        "right_y": pad(nothing, rng),
        "left_trigger": nothing,
        "right_trigger": nothing,
        "south": nothing,
        "left_shoulder": held,
        "right_shoulder": nothing,
    }
    heard = (time < SILENCE[0]) | (time >= SILENCE[1])
    frames = [
        Frame(float(time[row]), {name: float(column[row]) for name, column in columns.items()})
        for row in np.flatnonzero(heard)
    ]
    write_recording(OUT, frames)
    print(f"{OUT.name}: {len(frames)} frames, silent from {SILENCE[0]} s to {SILENCE[1]} s")


if __name__ == "__main__":
    main()
