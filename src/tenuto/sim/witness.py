"""A second watcher of a drive: it knows the profile by its TOML alone, and the robot by its input and output.

`Watcher` reads plans, as the pipeline does: an error on the way from the file to the plan misleads both. This
one shares nothing with them but the names of the device's buttons. It judges only what is certain.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from typing import Any

from tenuto.basics.frame import Frame
from tenuto.driving.tick import Tick
from tenuto.sources.gamepad import GamepadOptions

_SLACK = 1e-9
# A number that moved by less than this share of the device's range was certainly not moved by a hand.
_MOVED = 0.01
_DEVICE = {control.name: control for control in GamepadOptions.layout}
# The middle and the end of a radio's channels, µs, and the kinds of source with known numbers.
_MIDDLE, _END = 1500.0, 2012.0
KNOWN = ("gamepad", "crsf", "sbus", "ibus")
# No stick sends a number as large as this.
_ABSURD = 1e6
_WAYS = {"forward": (0, 1.0), "backward": (0, -1.0), "left": (1, 1.0), "right": (1, -1.0), "up": (2, 1.0),
         "down": (2, -1.0)}  # fmt: skip


def _texts(value: Any) -> Iterator[str]:
    """Return every text in a table."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, (list, dict)):
        for one in value.values() if isinstance(value, dict) else value:
            yield from _texts(one)


def _is_number(value: object) -> bool:
    return isinstance(value, (int, float)) and abs(value) < _ABSURD


def _travel(name: str) -> tuple[float, float]:
    """Return the number that a control sends at rest, and the largest it does; unnamed buttons send 1."""
    if name.startswith("channel"):
        return _MIDDLE, _END
    known = _DEVICE.get(name)
    return 0.0, known.high if known is not None else 32767.0 if name.startswith("axis") else 1.0


def _share(name: str, value: object) -> float:
    """Return the position of a control between rest and its end; NaN for a NaN."""
    rest, most = _travel(name)
    return (value - rest) / (most - rest) if isinstance(value, (int, float)) else math.nan


class _Pad:
    """The values that one gamepad or radio has sent."""

    def __init__(self, names: frozenset[str], sure: frozenset[str], timeout: float) -> None:
        """Set what may be read of it, what certainly is, and how old that may be, s."""
        self.names, self._sure, self.timeout = names, sure, timeout
        self.values: Mapping[str, float] = {}
        self.newest: Mapping[str, float] = {}
        self.fresh = self.bad = False
        # The numbers of all frames since the last tick, the newest one last.
        self.all: list[Mapping[str, float]] = []
        self.came: float | None = None
        self.sent = math.inf

    def see(self, frame: Frame | None, now: float) -> None:
        """Take a frame, or None if nothing came."""
        self.fresh = self.bad = False
        self.newest = frame.values if frame is not None else {}
        self.all = [one[1] for one in (*frame.earlier, frame)] if frame is not None else []
        if frame is None:
            return
        wrong = {name for name in self.names if not _is_number(frame.values.get(name))}
        self.bad = bool(wrong & self._sure) or not frame.link_good
        self.fresh = not wrong and frame.link_good and now - frame.time <= self.timeout + _SLACK
        if self.fresh:
            self.values, self.came = {name: frame.values[name] for name in self.names}, now
            self.sent = frame.time
        elif not wrong and math.isinf(self.sent):
            self.sent = frame.time  # the first one is already late: that is a loss too

    def let_go(self, name: str) -> bool:
        """Return whether a control was certainly off in some frame since the last tick, whatever else is in it."""
        return any(_is_number(one.get(name)) and -0.01 <= _share(name, one[name]) < 0.4 for one in self.all)

    def pushed(self, name: str | None) -> bool:
        """Return whether a control was certainly on in some frame since the last tick, whatever else is in it."""
        return name is not None and any(0.99 <= _share(name, one.get(name)) <= 1.01 for one in self.all)

    def on(self, name: str | None) -> bool:
        """Return whether a button, a trigger or a switch of a radio is pressed by half."""
        return name is not None and name in self.values and _share(name, self.values[name]) >= 0.5


class Witness:
    """Watches the input and output of a pipeline, for a profile whose drivers hold gamepads or radios."""

    def __init__(self, tables: Mapping[str, Any], before: Witness | None = None) -> None:
        """Take the tables of a profile, as `tomllib` reads them, and the observations of the previous witness."""
        self._tables, self._guard = tables, tables["guard"]
        guard = self._guard
        self._first = tables["source"].get("driver", "driver")
        # A stick of a radio may have the same name as one of a pad.
        pad = tables["source"].get("kind", "gamepad") == "gamepad"
        names = frozenset(
            one for one in _texts(tables) if (pad and one in _DEVICE) or re.fullmatch(r"(axis|button|channel)_\d+", one)
        )
        holds = {guard[key] for key in ("hold_to_run", "hold_to_run_2") if key in guard}
        sure = names & ({table["reads"] for table in tables["controls"].values()} | holds)
        self._lower = tables.get("drivers", {})
        self._pads = {self._first: _Pad(names, sure, guard["link_timeout"])}
        self._pads |= {
            name: _Pad(names, sure, one.get("link_timeout", guard["link_timeout"]))
            for name, one in self._lower.items() if one.get("sends", "sticks") == "sticks"
        }  # fmt: skip
        self._period = 1.0 / tables.get("loop", {}).get("rate", 50.0)
        self._inputs: dict[str, tuple[float, float]] = {}
        # The inputs that inhibited in a frame before the newest one of this tick.
        self._opened: dict[str, bool] = {}
        self._measured: Mapping[str, Any] = tables.get("measured", {})
        self._moved_at, self._reference = 0.0, dict[str, float]()
        self._lost: bool = before is not None and before._lost
        self._began: float | None = None
        self._before: Tick | None = None
        # Every command of the last seconds, and its time; the oldest is as old as may still be followed.
        self._told: list[tuple[float, tuple[float, ...]]] = [(-math.inf, (0.0,) * 4)]

    def see(self, frame: Frame | None, others: Mapping[str, Frame], tick: Tick) -> list[str]:
        """Return what is broken at this tick, as text; nothing if all holds."""
        now, before = tick.time, self._before
        for name, pad in self._pads.items():
            pad.see(frame if name == self._first else others.get(name), now)
        if before is not None and now <= before.time:
            self._inputs = {name: one for name, one in self._inputs.items() if name not in self._measured}
            # A clock that goes back makes no command older: its age is that of the ticks.
            back = now - before.time - tick.dt
            self._told = [(time + back, velocity) for time, velocity in self._told]
        self._hear(others)
        self._look(now)
        if before is not None and not 0.0 < now - before.time < 1.0:
            # After a jump of the clock, no duration and no age is known.
            self._moved_at, self._began, self._lost = now, None, True
        drives = tick.guard.state == "driving"
        found = [*self._stopped_by_hand(tick), *self._inhibited(tick), *self._slowed(tick), *self._sped(tick)]
        if drives:
            found += [*self._held(tick), *self._attended(tick), *self._tested(tick), *self._needed(tick)]
        found += [*self._warned(tick, drives), *self._as_told(tick)]
        first = self._pads[self._first]
        self._lost = self._lost or first.bad or now - first.sent > first.timeout - _SLACK
        self._before = tick
        return [f"at {now:.3f} s, by the file: {what}" for what in found]

    def _look(self, now: float) -> None:
        """Detect whether a hand moves anything on the first pad."""
        pad, was = self._pads[self._first], self._reference
        # However late it comes: within the grace time a lost link still drives.
        newest = {name: value for name, value in pad.newest.items() if name in pad.names and _is_number(value)}
        moved = (abs(_share(name, value) - was.get(name, math.inf)) > _MOVED for name, value in newest.items())
        if not pad.bad and any(moved):
            self._reference, self._moved_at = was | {name: _share(name, one) for name, one in newest.items()}, now

    def _hear(self, others: Mapping[str, Frame]) -> None:
        """Keep the newest number of each input, and its time; NaN counts as silence."""
        for table in ("inhibits", "distances", "measured"):
            for name, one in self._tables.get(table, {}).items():
                frame = others.get(one.get("source_of", name))
                if frame is not None:
                    value = frame.values.get(one["reads"], math.nan)
                    good = frame.link_good and math.isfinite(value) and (table != "distances" or value >= 0.0)
                    if good or table != "distances":
                        self._inputs[name] = (value, frame.time if good else -math.inf)
                if table == "inhibits":
                    self._opened[name] = any(
                        (before[1][one["reads"]] >= one.get("on_from", 0.5)) is not (one.get("normally") != "open")
                        for before in (frame.earlier if frame is not None else ())
                    )

    def _held(self, tick: Tick) -> Iterator[str]:
        """Drivers who must hold do, with both hands if the file requires it, and are heard."""
        guard, lower = self._guard, self._lower.get(tick.driver)
        needed = [self._first] if not (lower or {}).get("alone") else []
        needed += [tick.driver] if tick.driver in self._pads and tick.driver != self._first else []
        for name in needed:
            pad = self._pads[name]
            if pad.bad and not guard.get("grace"):
                yield f"{name} sends what cannot be, and it drives"
            holds = [guard[key] for key in ("hold_to_run", "hold_to_run_2") if key in guard]
            if (pad.fresh and not all(map(pad.on, holds))) or any(map(pad.let_go, holds)):
                yield f"{name} holds {' and '.join(holds)} no longer, and it drives"
            through = guard.get("pressed_through")
            if pad.fresh and through and _share(holds[0], pad.values[holds[0]]) > through + _MOVED:
                yield f"{name} presses {holds[0]} through, and it drives"
            silent = tick.time - pad.came if pad.came is not None else 0.0
            if silent > pad.timeout + guard.get("grace", 0.0) + 2.0 * max(self._period, tick.dt):
                yield f"{name} was last heard {silent:.2f} s ago, and it drives"

    def _needed(self, tick: Tick) -> Iterator[str]:
        """The file's requirements of a far end are met."""
        needs = self._guard.get("needs", {})
        modes = needs.get("mode", [])
        for name, one in tick.far.items():
            wrong = {
                "arming": needs.get("armed") and one.armed is not True,
                "mode": modes and one.mode not in modes,
                "voltage": "voltage_above" in needs and not one.voltage >= needs["voltage_above"],
                "charge": "charge_above" in needs and not one.charge >= needs["charge_above"],
                "position": needs.get("position") and not math.isfinite(one.x + one.y),
            }
            yield from (f"the {what} of {name} is not as needed, and it drives" for what, bad in wrong.items() if bad)

    def _stopped_by_hand(self, tick: Tick) -> Iterator[str]:
        """An active emergency stop takes effect, whoever presses it, and so does the stop switch."""
        guard = self._guard
        for name, pad in self._pads.items():
            for key in ("emergency_stop", "emergency_stop_2"):
                # It counts even if the rest of the frame is bad.
                if pad.pushed(guard.get(key)) and tick.guard.state != "emergency stop":
                    yield f"{name} presses {guard[key]}, and it is {tick.guard.state}"
            stops = pad.pushed(guard.get("stop")) or (pad.fresh and pad.on(guard.get("stop")))
            if stops and tick.guard.state == "driving":
                yield f"{name} has {guard['stop']} on, and it drives"
        halts = tick.guard.state == "emergency stop" and guard.get("emergency_category", 0) == 0
        if halts and (tick.power or any(tick.command)):
            yield "an emergency stop of category 0 leaves the power on, or a command"

    def _inhibits(self, one: Mapping[str, Any], name: str, now: float) -> bool:
        """Return whether an input certainly inhibits."""
        value, came = self._inputs.get(name, (math.nan, -math.inf))
        timeout = one.get("timeout", self._guard["link_timeout"])
        on = value >= one.get("on_from", 0.5)
        return now - came > timeout + _SLACK or on is not (one.get("normally", "closed") == "closed")

    def _inhibited(self, tick: Tick) -> Iterator[str]:
        """An input that inhibits stops it, and one of category 0 at once."""
        for name, one in self._tables.get("inhibits", {}).items():
            if "speed_share" in one or not (self._inhibits(one, name, tick.time) or self._opened.get(name)):
                continue
            if tick.guard.state == "driving":
                yield f"{name} inhibits, and it drives"
            if one.get("stop_category") == 0 and any(tick.command):
                yield f"{name} inhibits with category 0, and it moves"

    def _as_told(self, tick: Tick) -> Iterator[str]:
        """A robot that deviates from its command loses its power, and one that cannot be measured does not drive."""
        now, powered = tick.time, self._before is not None and self._before.power
        for name, one in self._measured.items():
            value, came = self._inputs.get(name, (math.nan, -math.inf))
            silent = now - came > one.get("timeout", self._guard["link_timeout"]) + _SLACK
            if silent and tick.guard.state == "driving":
                yield f"{name} measures nothing, and it drives"
            axis = ("forward", "sideways", "up", "turn").index(one.get("of", "forward"))
            told, held_until, since = [], math.inf, now - one.get("within", 0.5) - _SLACK
            for time, velocity in reversed(self._told):
                if held_until <= since:
                    break
                told.append(velocity[axis])
                held_until = time
            far = one["tolerance"] + _SLACK
            wrong = all(abs(value * one.get("scale", 1.0) - speed) > far for speed in (*told, min(told), max(told)))
            between = min(told) < value * one.get("scale", 1.0) < max(told)
            if powered and not silent and wrong and not between and (tick.power or any(tick.command)):
                yield f"{name} measures {value:g} where {min(told):.2f} to {max(told):.2f} was told, and it has power"
        self._told.append((now, tuple(tick.command)))
        while len(self._told) > 1 and self._told[1][0] <= now - 20.0:  # the previous one held until then
            self._told.pop(0)

    def _slowed(self, tick: Tick) -> Iterator[str]:
        """Nothing speeds up beyond the share that an input permits, or towards the range of a silent sensor."""
        before = self._before.command if self._before is not None else (0.0,) * 4
        speeds = [self._tables["speeds"], *(mode.get("speeds", {}) for mode in self._tables.get("modes", {}).values())]
        for name, one in self._tables.get("inhibits", {}).items():
            if "speed_share" not in one:
                continue
            most = max(max(table.get("forward", 0.0), table.get("backward", 0.0)) for table in speeds)
            faster = abs(tick.command[0]) > max(abs(before[0]), one["speed_share"] * most) + _SLACK
            if faster and self._inhibits(one, name, tick.time):
                yield f"{name} inhibits, and it speeds up to {tick.command[0]:.2f} m/s"
        for name, one in self._tables.get("distances", {}).items():
            axis, side = _WAYS[one.get("towards", "forward")]
            _, came = self._inputs.get(name, (math.nan, -math.inf))
            silent = tick.time - came > one.get("timeout", self._guard["link_timeout"]) + _SLACK
            if silent and tick.command[axis] * side > max(before[axis] * side, 0.0) + _SLACK:
                yield f"{name} is silent, and it speeds up towards there"

    def _attended(self, tick: Tick) -> Iterator[str]:
        """A driver moves a control within the time limit; checked for one driver only."""
        longest = self._guard.get("attention")
        if longest is None or self._lower:
            return
        if self._before is None or self._before.guard.state != "driving":
            self._moved_at = tick.time  # it counts from the start of driving
        still = tick.time - self._moved_at
        if still > longest + 2.0 * max(self._period, tick.dt):
            yield f"no control was moved for {still:.2f} s, and it drives"

    def _tested(self, tick: Tick) -> Iterator[str]:
        # A link that is only sparse was lost too, which is not counted here.
        counts = "least_frame_rate" in self._guard or self._lost
        if "link" in self._guard.get("test_at_start", ()) and not counts:
            yield "its link was never seen to be lost, and it drives"

    def _warned(self, tick: Tick, drives: bool) -> Iterator[str]:
        """The warning outputs are on for the required time before it drives."""
        seconds = self._guard.get("start_warning")
        if not seconds:
            return
        horns = [name for name, one in self._tables["outputs"].items() if one["kind"] == "start_warning"]
        begins = drives and (self._before is None or self._before.guard.state != "driving")
        if begins and (self._began is None or tick.time - self._began < seconds - 1e-6):
            yield f"it drives without a warning of {seconds:g} s"
        sounds = all(tick.outputs[name] for name in horns) and not drives
        self._began = (tick.time if self._began is None else self._began) if sounds else None

    def _sped(self, tick: Tick) -> Iterator[str]:
        """Its forward speed exceeds no mode's, and no velocity changes faster than any limit in the file."""
        tables = self._tables
        modes = list(tables.get("modes", {}).values())
        speeds = [tables["speeds"], *(mode.get("speeds", {}) for mode in modes)]
        most = max(max(table.get("forward", 0.0), table.get("backward", 0.0)) for table in speeds)
        if not self._lower and abs(tick.command[0]) > most + _SLACK:
            yield f"it goes at {tick.command[0]:.2f} m/s, and the file says {most:.2f}"
        limits = [tables["limits"], *(mode.get("limits", {}) for mode in modes)]
        before = self._before.command[0] if self._before is not None else 0.0
        grow = max(one.get("acceleration", 0.0) for one in limits)
        shrink = max(one.get("deceleration", one.get("acceleration", 0.0)) for one in limits)
        styles = [tables["style"], *(mode.get("style", {}) for mode in modes)]
        if any(style.get("kind") == "tank" for style in styles) or before * tick.command[0] < 0.0:
            grow = shrink = max(grow, shrink)  # of each side, and of both ways
        # A stop by the guard slows down as its own key says, or as the larger of both.
        stop = max(shrink, self._guard.get("stop_deceleration", max(grow, shrink)))
        shrink = shrink if tick.guard.state == "driving" else stop
        level = grow if abs(tick.command[0]) > abs(before) else shrink
        halted = not any(tick.command) and (not tick.power or not tick.send or tick.dt == 0.0)
        if abs(tick.command[0] - before) > level * (tick.dt + 1e-6) + 1e-6 and not halted:
            yield f"its speed ahead changes by {abs(tick.command[0] - before):.3f} m/s in {tick.dt:.3f} s"
