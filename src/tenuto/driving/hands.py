"""The controls that a tick shows where a robot has several drivers: the same names and order, whoever drives."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import NamedTuple

from tenuto.driving.driver import StickDriver
from tenuto.driving.selection import Chosen


class Shown(NamedTuple):
    """What a tick shows of the controls; see `tenuto.driving.tick.Tick`."""

    raw: Mapping[str, float]
    positions: Mapping[str, float]
    shaped: Mapping[str, float]
    chosen: Chosen


class _Owners(NamedTuple):
    """Each name, and the driver whose value is shown."""

    raw: tuple[tuple[str, StickDriver], ...]
    controls: tuple[tuple[str, StickDriver], ...]
    switches: tuple[tuple[str, StickDriver], ...]


class AllHands:
    """The controls of all drivers: those of the present driver, and from the others what the present driver lacks.

    A permit, for example, is a control of the first in rank. It is shown while a learner drives too, as a log has one
    heading.
    """

    def __init__(self, drivers: Sequence[StickDriver]) -> None:
        """Take all drivers with sticks, by rank."""
        raw, controls, switches = (
            _names(drivers, of)
            for of in (
                lambda one: one.reader.raw,
                lambda one: one.reader.positions,
                lambda one: one.selection.switches,
            )
        )
        # None for a driver who has everything, and in the same order.
        self._owners: dict[str, _Owners | None] = {}
        for hand in drivers:
            owners = _Owners(*(_owners(hand, names) for names in (raw, controls, switches)))
            whole = all(one is hand for each in owners for _, one in each)
            ordered = tuple(name for name, _ in owners.raw) == tuple(hand.reader.raw)
            self._owners[hand.name] = None if whole and ordered else owners

    def shown(self, hand: StickDriver) -> Shown:
        """Return what a tick shows while the controls of a driver count."""
        owners, chosen = self._owners[hand.name], hand.selection.chosen
        if owners is None:
            return Shown(hand.reader.raw, hand.reader.positions, hand.shaped, chosen)
        switches = {name: one.selection.switches[name].position for name, one in owners.switches}
        return Shown(
            {name: one.reader.raw[name] for name, one in owners.raw},
            {name: one.reader.positions[name] for name, one in owners.controls},
            {name: one.shaped[name] for name, one in owners.controls},
            chosen._replace(switches=switches),
        )


def _names(
    drivers: Sequence[StickDriver], of: Callable[[StickDriver], Collection[str]]
) -> dict[str, list[StickDriver]]:
    """Return every name, by rank of its first owner, and who has it."""
    names: dict[str, list[StickDriver]] = {}
    for one in drivers:
        for name in of(one):
            names.setdefault(name, []).append(one)
    return names


def _owners(hand: StickDriver, names: Mapping[str, list[StickDriver]]) -> tuple[tuple[str, StickDriver], ...]:
    return tuple((name, hand if hand in having else having[0]) for name, having in names.items())
