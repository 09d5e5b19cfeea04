"""Makes the shipped recordings of Quince, Sorrel and Damson: the numbers of a pad or a radio.

The motion of the thumbs is given below as key points; noise and steps are added. The same seed makes the same files.

    python scripts/make_courses.py
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import numpy.typing as npt

from tenuto.basics.frame import Frame
from tenuto.sources.recording import write_recording

OUT = Path(__file__).parents[1] / "src/tenuto/data"
SEED, RATE = 11, 25.0
Columns = Mapping[str, npt.NDArray[np.float64]]

# Each row: time in s, then the sticks −1…1 (forward and left positive); a button is held from one time to another.
QUINCE = [
    (0.0, 0.0, 0.0), (1.5, 0.0, 0.0), (2.0, 0.9, 0.0), (5.0, 0.9, 0.0),  # out of the shed
    (5.6, 0.8, 0.8), (8.4, 0.8, 0.8), (9.0, 0.9, 0.0), (11.0, 0.9, 0.0),  # a bend with the front wheels
    (11.5, 0.0, 0.0), (13.0, 0.0, 0.0), (13.5, 0.7, 0.9), (18.0, 0.7, 0.9), (18.5, 0.0, 0.0),  # turn with all four
    (20.0, 0.0, 0.0), (20.5, 0.8, 0.9), (24.0, 0.8, 0.9), (24.5, 0.0, 0.0),  # crab into the next row
    (26.0, 0.0, 0.0), (26.5, 0.8, -0.7), (29.5, 0.8, -0.7), (30.0, 0.0, 0.0),  # swing the stern with the rear wheels
    (30.5, -0.9, 0.0), (33.0, -0.9, 0.0), (33.5, 0.0, 0.0), (35.0, 0.0, 0.0),  # and back to the bin
]  # fmt: skip
QUINCE_BUTTONS = {"left_shoulder": [(1.0, 34.5)], "north": [(12.2, 12.4), (19.2, 19.4), (25.2, 25.4)]}
SORREL = [
    (0.0, 0.0, 0.0, 0.0), (1.5, 0.0, 0.0, 0.0), (2.0, 0.8, 0.0, 0.0), (6.0, 0.8, 0.0, 0.0),
    (6.5, 0.7, 0.6, 0.0), (11.0, 0.7, 0.6, 0.0), (11.5, 0.9, 0.0, 0.0), (15.0, 0.9, 0.0, 0.0),
    (15.5, 0.0, 0.0, 0.0), (17.5, 0.0, 0.0, 0.0), (18.0, -0.8, 0.0, 0.8), (21.5, -0.8, 0.0, 0.8),  # on the spot
    (22.0, 0.8, 0.0, 0.8), (26.0, 0.8, 0.0, 0.8), (26.4, 0.9, 0.0, 0.4), (30.0, 0.9, 0.0, 0.4),
    (30.5, 0.0, 0.0, 0.0), (34.0, 0.0, 0.0, 0.0),
]  # fmt: skip
SORREL_BUTTONS = {"left_shoulder": [(1.0, 32.0)], "west": [(16.4, 16.6)]}
# Sideways, forward, climb, turn; the switches are channels.
DAMSON = [
    (0.0, 0.0, 0.0, 0.0, 0.0), (4.0, 0.0, 0.0, 0.0, 0.0), (4.5, 0.0, 0.0, 0.9, 0.0), (8.5, 0.0, 0.0, 0.9, 0.0),
    (9.0, 0.0, 0.0, 0.0, 0.0), (9.8, 0.0, 0.9, 0.0, 0.0), (12.0, 0.0, 0.9, 0.0, 0.0), (12.5, 0.0, 0.0, 0.0, 0.0),
    (14.0, 0.0, 0.0, 0.0, 0.0), (14.5, 0.0, 0.8, 0.0, 0.6), (20.5, 0.0, 0.8, 0.0, 0.6), (21.0, 0.8, 0.0, 0.0, 0.0),
    (23.0, 0.8, 0.0, 0.0, 0.0), (23.5, 0.0, 0.0, 0.0, 0.0), (25.5, 0.0, 0.0, 0.0, 0.0), (26.0, 0.0, 0.7, 0.0, 0.0),
    (29.0, 0.0, 0.7, -0.6, -0.4), (32.0, 0.0, 0.7, -0.6, -0.4), (32.5, 0.0, 0.0, 0.0, 0.0),
    (33.5, 0.0, 0.0, 0.0, 0.0), (34.0, 0.0, 0.0, -0.9, 0.0), (36.4, 0.0, 0.0, -0.9, 0.0), (36.9, 0.0, 0.0, 0.0, 0.0),
    (40.0, 0.0, 0.0, 0.0, 0.0),
]  # fmt: skip
DAMSON_SWITCHES = {
    "channel_5": [(0.0, 988.0), (13.2, 1500.0), (24.2, 2012.0), (33.0, 988.0)],
    "channel_6": [(0.0, 988.0), (1.0, 2012.0), (39.0, 988.0)],
    "channel_7": [(0.0, 988.0), (2.0, 2012.0), (3.4, 988.0)],
    "channel_8": [(0.0, 988.0), (37.8, 2012.0), (38.2, 988.0)],
}


def times(keys: Sequence[tuple[float, ...]], rng: np.random.Generator) -> npt.NDArray[np.float64]:
    """Return the times of the frames, with a little jitter."""
    count = int(keys[-1][0] * RATE)
    moments = np.arange(count) / RATE + rng.normal(0.0, 0.0005, count)
    return np.asarray(moments - moments[0])


def sticks(keys: Sequence[tuple[float, ...]], time: npt.NDArray[np.float64]) -> list[npt.NDArray[np.float64]]:
    """Return each stick over time; no thumb is quite still while it pushes."""
    table = np.array(keys)
    shake = 0.012 * np.sin(5.3 * time) * np.sin(0.8 * time)
    moved = [np.interp(time, table[:, 0], table[:, column]) for column in range(1, table.shape[1])]
    return [np.clip(stick + shake * (np.abs(stick) > 0.05), -1.0, 1.0) for stick in moved]


def pad(stick: npt.NDArray[np.float64], rng: np.random.Generator) -> npt.NDArray[np.float64]:
    """Return the numbers of a pad of 8 bits: right and down are positive."""
    steps = np.round(np.clip(127.5 - 127.5 * stick + rng.normal(0.0, 0.3, stick.shape), 0.0, 255.0))
    return np.asarray(steps * 257.0 - 32768.0)


def radio(stick: npt.NDArray[np.float64], rng: np.random.Generator) -> npt.NDArray[np.float64]:
    """Return the numbers of a receiver, µs."""
    return np.asarray(np.round(np.clip(1500.0 + 512.0 * stick + rng.normal(0.0, 0.4, stick.shape), 988.0, 2012.0)))


def write(name: str, time: npt.NDArray[np.float64], columns: Columns) -> None:
    """Write a recording."""
    frames = [
        Frame(float(time[row]), {key: float(values[row]) for key, values in columns.items()})
        for row in range(len(time))
    ]
    write_recording(OUT / name, frames)
    print(f"{name}: {len(frames)} frames, {time[-1]:.0f} s")


def held(time: npt.NDArray[np.float64], spans: Sequence[tuple[float, float]]) -> npt.NDArray[np.float64]:
    """Return 1 while a button is held."""
    return np.asarray(np.any([(time >= start) & (time < end) for start, end in spans], axis=0), dtype=float)


def main() -> None:
    """Write the recordings."""
    rng = np.random.default_rng(SEED)
    for name, keys, axes, buttons in (
        ("quince-course.csv", QUINCE, ("left_y", "right_x"), QUINCE_BUTTONS),
        ("sorrel-course.csv", SORREL, ("left_y", "left_x", "right_y"), SORREL_BUTTONS),
    ):
        time = times(keys, rng)
        columns = {axis: pad(stick, rng) for axis, stick in zip(axes, sticks(keys, time), strict=True)}
        unused: dict[str, list[tuple[float, float]]] = (
            {"east": [], "dpad_up": [], "dpad_down": []} if name.startswith("quince") else {}
        )
        columns |= {button: held(time, spans or [(-1.0, -1.0)]) for button, spans in (buttons | unused).items()}
        write(name, time, columns)
    time = times(DAMSON, rng)
    sideways, forward, climb, turn = sticks(DAMSON, time)
    # On the radio right is positive, on the robot left is.
    moved = {"channel_1": -sideways, "channel_2": forward, "channel_3": climb, "channel_4": -turn}
    channels = {name: radio(stick, rng) for name, stick in moved.items()}
    for name, steps in DAMSON_SWITCHES.items():
        places = np.searchsorted([start for start, _ in steps], time, side="right") - 1
        channels[name] = np.array([value for _, value in steps])[places]
    channels["channel_9"] = np.full(len(time), 1500.0)
    write("damson-flight.csv", time, channels)


if __name__ == "__main__":
    main()
