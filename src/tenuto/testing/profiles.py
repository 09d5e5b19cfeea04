"""Random valid profiles: every vehicle and style that fit each other, keys of the guard, limits, modes and outputs."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count
from typing import Any

from hypothesis import assume
from hypothesis import strategies as st

from tenuto.basics.errors import TenutoError
from tenuto.kinds.options import Role, named
from tenuto.outputs.base import OUTPUTS
from tenuto.profile.checks.shares import said_in_metres
from tenuto.profile.profile import Profile
from tenuto.styles.base import STYLES, StyleOptions
from tenuto.switches.base import SWITCHES
from tenuto.testing.anything import any_options
from tenuto.vehicles.base import VEHICLES, VehicleOptions
from tenuto.vehicles.velocity import VelocityCommand

_STICKS = ("left_x", "left_y", "right_x", "right_y", "left_trigger", *(f"axis_{n}" for n in range(8)))
_BUTTONS = ("south", "east", "west", "north", "back", "guide", "start", "left_stick", "right_stick", "left_shoulder",
            "right_shoulder", "dpad_up", "dpad_down", *(f"button_{n}" for n in range(12)))  # fmt: skip
_CHANNELS = [f"channel_{n}" for n in range(1, 5)], [f"channel_{n}" for n in range(5, 15)]
_SOURCES: tuple[dict[str, str], ...] = (
    *[{"kind": "gamepad"}] * 6, *({"kind": kind, "port": "/dev/ttyAMA0"} for kind in ("crsf", "sbus", "ibus")),
)  # fmt: skip
_FULL = VelocityCommand(1.0, 1.0, 1.0, 1.0)


@st.composite
def any_profile(draw: st.DrawFn) -> Profile:
    """Draw a profile that loads: a pad or a radio, any vehicle with a style that fits it, and a guard of any kind."""
    try:
        return _drawn(draw)
    except StopIteration:
        assume(False)  # a radio has fewer channels
        raise


def _drawn(draw: st.DrawFn) -> Profile:
    chassis: VehicleOptions = draw(st.sampled_from(list(VEHICLES.all.values())).flatmap(any_options))
    assume(not any(chassis.errors()))
    style = draw(_any_style(chassis))
    source = draw(st.sampled_from(_SOURCES))
    sticks, buttons = (iter(_STICKS), iter(_BUTTONS)) if source["kind"] == "gamepad" else map(iter, _CHANNELS)
    controls = {name: draw(_any_control(next(sticks))) for name in dict.fromkeys(style.driving().values())}
    controls |= {name: {"reads": next(sticks)} for _, name in named(style, Role.READS) if name not in controls}
    tables: dict[str, Any] = {
        "format": 1, "name": "any", "source": source, "style": style, "chassis": chassis,
        "speeds": draw(_any_speeds(chassis)), "limits": draw(_any_limits(chassis)),
        "guard": draw(_any_guard(source["kind"], buttons)),
        "loop": {"rate": draw(st.sampled_from([20.0, 50.0, 100.0])), "stall_timeout": 0.25},
    }  # fmt: skip
    tables["switches"] = {name: {"kind": "momentary", "reads": next(buttons)} for _, name in named(style, Role.PRESSED)}
    outputs = draw(st.dictionaries(st.sampled_from(["lamp", "winch"]), _any_output(tuple(controls)), max_size=2))
    for output in outputs.values():
        for _, name in named(output, Role.PRESSED):
            tables["switches"].setdefault(name, draw(_any_switch(next(buttons))))
    inhibits = draw(st.dictionaries(st.sampled_from(["bumper", "gate"]), _any_inhibit(), max_size=2))
    tables |= {"controls": controls, "outputs": outputs, "inhibits": inhibits}
    if any(output.kind == "start_warning" for output in outputs.values()):
        tables["guard"]["start_warning"] = draw(st.floats(0.1, 0.6))
    # Distance sensors are drawn separately: few random ones are ever reached by the robot.
    some = draw(st.lists(st.sampled_from(_MORE), unique=True, max_size=5))
    for more in [*sorted(some, key=_MORE.index), *([_add_distances] if draw(st.integers(0, 9)) < 4 else [])]:
        if not chassis.in_shares or more not in (_add_distances, _add_measured):
            more(draw, tables, buttons)
    try:
        return Profile.model_validate(tables)
    except (ValueError, TenutoError) as error:
        # An error in these strategies must not hide a wrong refusal: only documented refusals are skipped.
        assume("expected" not in str(error))
        raise


def _add_modes(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Add a second mode, with its own speeds, limits and outputs."""
    chassis = tables["chassis"]
    without = st.sampled_from([[], *([name] for name in tables["outputs"])])
    brisk = st.fixed_dictionaries(
        {"may_start": st.booleans()},
        optional={"speeds": _any_speeds(chassis), "limits": _any_limits(chassis), "without": without},
    )  # fmt: skip
    tables["modes"] = {"slow": {"fallback": True}, "brisk": draw(brisk)}
    tables["switches"]["mode_button"] = {"kind": "cycle", "reads": next(buttons)}
    tables.setdefault("choose", {})["mode"] = {"switch": "mode_button", "order": ["slow", "brisk"]}


def _add_rates(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Add sets of rates, and speed levels."""
    share = st.floats(0.1, 1.0)
    tables["rates"] = {"fine": {"scale": draw(share), "expo": draw(st.floats(0.0, 1.0))}, "full": {}}
    tables["switches"]["rates_button"] = {"kind": "cycle", "reads": next(buttons)}
    tables.setdefault("choose", {})["rates"] = {"switch": "rates_button", "order": ["fine", "full"]}
    steps = [round(draw(st.floats(0.1, 0.9)), 2), 1.0]
    tables["levels"] = {"steps": steps, "faster": next(buttons), "slower": next(buttons)}


def _add_trim(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Add a trim to a control that drives."""
    name = draw(st.sampled_from(sorted(tables["controls"])))
    tables["trims"] = {name: {"up": next(buttons), "down": next(buttons), "begin": draw(st.floats(-0.1, 0.1))}}


def _add_drivers(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Add a learner with a pad, or a computer that sends velocities, or both."""
    share, time = st.floats(0.2, 1.0), st.floats(0.12, 1.0)
    lines = {"kind": "lines", "port": "/dev/ttyACM0", "columns": ["vx", "yaw_rate"]}
    who: dict[str, dict[str, Any]] = {
        "learner": {"source": tables["source"], "alone": draw(st.booleans())},
        "follower": {"source": lines, "sends": "velocities"},
    }
    able = ["learner"] if tables["chassis"].in_shares else sorted(who)
    tables["drivers"] = {
        name: who[name] | {draw(st.sampled_from(["given_by", "permit"])): next(buttons)}
        | {"speed_share": draw(share), "link_timeout": draw(time)}
        for name in draw(st.lists(st.sampled_from(able), min_size=1, unique=True))
    }  # fmt: skip


def _add_distances(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Add a distance sensor."""
    way = draw(st.sampled_from(["forward"] * 5 + ["backward", "left", "right", "up", "down"]))
    source = {"kind": "lines", "port": "/dev/ttyACM2", "columns": ["front"]}
    sensor = {"reads": "front", "scale": "1 mm", "towards": way, "keep": draw(st.floats(0.1, 2.0)), "source": source}
    tables["distances"] = {"front": sensor | {"timeout": draw(st.floats(0.1, 1.0))}}


def _add_measured(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Add a measured speed."""
    source = {"kind": "lines", "port": "/dev/ttyACM3", "columns": ["speed"]}
    some = st.fixed_dictionaries(
        {"reads": st.just("speed"), "of": st.sampled_from(["forward", "sideways", "up", "turn"]),
         "tolerance": st.floats(0.05, 1.0), "within": st.floats(0.05, 1.0), "timeout": st.floats(0.1, 1.0)},
        optional={"scale": st.sampled_from([0.001, -1.0])},
    )  # fmt: skip
    tables["measured"] = {"wheels": draw(some) | {"source": source}}


def _add_actuators(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Set the form of the numbers for some actuators, axles and outputs."""
    form = st.fixed_dictionaries(
        {"form": st.sampled_from(["share", "duty", "pulse"]), "full": st.floats(0.5, 20.0)},
        optional={"reverse": st.booleans(), "smallest": st.floats(0.01, 0.3), "at_zero": st.just("brake")},
    )
    made = tables["chassis"].chassis(_FULL)
    names = sorted({*made.bounds(), *made.axles(), *tables.get("outputs", {})})
    tables["actuators"] = draw(st.dictionaries(st.sampled_from(names), form, min_size=1))


def _add_enabling(draw: st.DrawFn, tables: dict[str, Any], buttons: Iterator[str]) -> None:
    """Enable it by a switch other than a button, if one is used for that; or let a gesture choose the mode."""
    if "enable" in tables["guard"] and draw(st.booleans()):
        tables["switches"]["sign"] = draw(_any_switch(next(buttons)))
        tables["guard"]["enable"] = "sign"
        return
    names = st.sampled_from(sorted(tables["style"].driving().values()))
    sticks = draw(st.dictionaries(names, st.sampled_from(["low", "high"]), min_size=1, max_size=2))
    tables["switches"]["sign"] = {"kind": "gesture", "sticks": sticks, "time": draw(st.floats(0.1, 0.3))}
    if "enable" in tables["guard"] and ("mode" not in tables.get("choose", {}) or draw(st.booleans())):
        tables["guard"]["enable"] = "sign"
    elif "mode" in tables.get("choose", {}):
        tables["choose"]["mode"]["switch"] = "sign"


_MORE = (_add_modes, _add_rates, _add_trim, _add_drivers, _add_measured, _add_actuators, _add_enabling)


def _any_style(chassis: VehicleOptions) -> st.SearchStrategy[StyleOptions]:
    """Draw a style that fits a vehicle; each of its controls has its own name."""
    made = chassis.chassis(_FULL)
    kinds = [kind for name, kind in STYLES.all.items() if name != "thrusters"]

    def fits(style: StyleOptions) -> bool:
        return style.misfit(made) is None and not (chassis.in_shares and any(said_in_metres(style)))

    return st.sampled_from(kinds).flatmap(any_options).filter(fits)


def _any_control(reads: str) -> st.SearchStrategy[dict[str, Any]]:
    some = st.fixed_dictionaries(
        {"reads": st.just(reads)},
        optional={
            "dead_zone": st.floats(0.0, 0.3), "expo": st.floats(0.0, 1.0), "scale": st.floats(0.2, 1.0),
            "smoothing": st.floats(0.02, 0.3), "ramp_up": st.floats(0.05, 1.0), "reverse": st.booleans(),
            **({} if "trigger" in reads else {"centre": st.just("at start")}),
        },
    )  # fmt: skip
    return some


def _any_speeds(chassis: VehicleOptions) -> st.SearchStrategy[dict[str, Any]]:
    share = st.floats(1.0, 100.0).map(lambda percent: f"{percent:.1f} %")
    speed, turn = (share, share) if chassis.in_shares else (st.floats(0.1, 4.0), st.floats(0.2, 4.0))
    return st.fixed_dictionaries(
        {"forward": speed, "turn": turn},
        optional={"backward": speed, "sideways": speed, "up": speed, "down": speed},
    )


def _any_limits(chassis: VehicleOptions) -> st.SearchStrategy[dict[str, Any]]:
    limit: st.SearchStrategy[Any] = st.floats(0.2, 6.0)
    if chassis.in_shares:
        limit = st.floats(0.1, 4.0).map(lambda seconds: f"{seconds:.2f} s")
    jerk = st.floats(0.5, 30.0)
    jerks = dict.fromkeys(sorted(chassis.chassis(_FULL).jerks), jerk)
    return st.fixed_dictionaries(
        {"acceleration": limit},
        optional={
            "deceleration": limit, "turn_acceleration": limit, "turn_deceleration": limit,
            "vertical_acceleration": limit, **jerks,
        },
    )  # fmt: skip


@st.composite
def _any_guard(draw: st.DrawFn, kind: str, buttons: Iterator[str]) -> dict[str, Any]:
    """Draw how it is enabled, how it stops, and its other conditions."""
    time, deceleration = st.floats(0.12, 1.0), st.floats(0.3, 6.0)
    guard: dict[str, Any] = draw(
        st.fixed_dictionaries(
            {"link_timeout": time},
            optional={
                "stop_deceleration": deceleration, "stop_turn_deceleration": deceleration,
                "stop_vertical_deceleration": deceleration, "grace": time, "link_good_for": time,
                "released_category": st.sampled_from([0, 1, 2]), "fault_category": st.sampled_from([0, 1, 2]),
                "emergency_category": st.sampled_from([0, 1]), "on_link_loss": st.sampled_from(["stop", "silent"]),
                "least_frame_rate": st.floats(2.0, 15.0), "command_timeout": time,
                "attention": st.floats(1.0, 10.0), "test_at_start": st.sampled_from([[], [], [], [], ["link"]]),
            },
        )
    )  # fmt: skip
    ways = draw(st.sampled_from([("hold_to_run",), ("enable",), ("hold_to_run", "enable")]))
    more = draw(st.lists(st.sampled_from(["stop", "takes_over"]), unique=True, max_size=1))
    guard |= {key: next(buttons) for key in (*ways, *more)}
    if draw(st.booleans()):
        guard |= {"emergency_stop": next(buttons), "reset": next(buttons)}
        if draw(st.booleans()):
            guard |= {"emergency_stop_2": next(buttons)}
    if "hold_to_run" in guard:
        lever = "right_trigger" if kind == "gamepad" else next(buttons)
        three = {"hold_to_run": lever, "pressed_through": draw(st.floats(0.6, 1.0))}
        guard |= draw(st.sampled_from([{}, {}, {"hold_to_run_2": next(buttons)}, three]))
    if "hold_to_run_2" in guard or "emergency_stop_2" in guard:
        guard["discrepancy_time"] = draw(st.floats(0.05, 0.5))
    if draw(st.sampled_from([False, False, True])):
        guard["needs"] = draw(_any_needs())
    return guard


def _any_needs() -> st.SearchStrategy[dict[str, Any]]:
    """Draw the requirements of the far end."""
    return st.fixed_dictionaries(
        {},
        optional={
            "answers": st.floats(0.1, 3.0), "armed": st.just(True), "mode": st.sampled_from(["guided", ["a", "b"]]),
            "position": st.just(True), "voltage_above": st.floats(3.0, 50.0), "charge_above": st.floats(0.01, 0.9),
            "height_from": st.floats(0.1, 2.0), "height_below": st.floats(2.5, 50.0), "within": st.floats(1.0, 99.0),
        },
    )  # fmt: skip


def _any_inhibit() -> st.SearchStrategy[dict[str, Any]]:
    """Draw an input with its own source, which stops the robot or slows it down."""
    source = {"kind": "lines", "port": "/dev/ttyACM1", "columns": ["contact"]}
    effect = st.one_of(
        st.sampled_from([0, 1, 2]).map(lambda category: {"stop_category": category}),
        st.floats(0.05, 0.95).map(lambda share: {"speed_share": share}),
    )
    normally = st.sampled_from(["closed", "open"])
    return st.tuples(effect, normally, st.floats(0.1, 1.0)).map(
        lambda drawn: {"source": source, "reads": "contact", **drawn[0], "normally": drawn[1], "timeout": drawn[2]}
    )


def _any_output(controls: tuple[str, ...]) -> st.SearchStrategy[Any]:
    numbers = count()
    kinds = st.sampled_from(list(OUTPUTS.all.values()))

    def named_apart(options: Any) -> Any:
        from dataclasses import replace

        names = {key: f"press_{next(numbers)}" for key, _ in named(options, Role.PRESSED)}
        names |= {key: controls[0] for key, _ in named(options, Role.READS)}
        return replace(options, **names)

    return kinds.flatmap(any_options).map(named_apart).filter(lambda options: not any(options.errors(controls)))


def _any_switch(reads: str) -> st.SearchStrategy[Any]:
    kinds = [kind for name, kind in SWITCHES.all.items() if name != "gesture"]
    return (
        st.sampled_from(kinds)
        .flatmap(lambda kind: any_options(kind, reads=reads))
        .filter(lambda options: not any(options.errors()) and getattr(options, "off_below", 1.0) > 0.0)
    )
