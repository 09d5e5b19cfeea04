"""Allocation of a wanted force to thrusters with limits: bounded least squares, exact, in plain floats."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import combinations
from operator import mul
from typing import NamedTuple

import numpy as np

Row = tuple[float, ...]
_SMALL = 1e-9
# The cost of thrust relative to missing the wanted force: only enough to choose among equal solutions.
_EFFORT = 1e-5
# The solutions of this many sets of thrusters are cached.
_KEPT = 1024


class _Gains(NamedTuple):
    """Matrices from a force to thrusts: those of the least cost, and the least ones that make it exactly."""

    least: tuple[Row, ...]
    exact: tuple[Row, ...]


class Allocation:
    """Finds thrusts u with B·u = f and low ≤ u ≤ high, and the share of f that is possible if all of it is not.

    The possible forces are a zonotope: the sum of the segments from low to high along each column of B. Its facets are
    computed once, so the largest possible share of f, in the direction of f, takes a few products. See
    G. M. Ziegler, "Lectures on Polytopes", Springer, lecture 7. Within it the smallest thrusts are found by the
    active-set method for bounded least squares: P. B. Stark and R. L. Parker, "Bounded-variable least-squares",
    Computational Statistics 10 (1995).

    Attributes:
        facets: n and d of each facet: a possible force f has n·f ≤ d.
        never: rows whose product with a possible force is 0.
    """

    def __init__(self, matrix: Sequence[Sequence[float]], low: Sequence[float], high: Sequence[float]) -> None:
        """Compute everything that does not depend on the force.

        Args:
            matrix: B, a row a force or moment, a column a thruster.
            low, high: the bounds of each thrust, low ≤ 0 ≤ high.
        """
        self._low, self._high = tuple(low), tuple(high)
        whole = np.array(matrix, dtype=float)
        self._rows = _as_rows(whole)
        self._columns = tuple(zip(*self._rows, strict=True))
        # A force that no thruster makes is left out, and reported by `reachable`.
        _, sizes, axes = np.linalg.svd(whole.T, full_matrices=False)
        kept = axes[sizes > _SMALL * max(float(sizes.max()), 1.0)]
        self._space = _as_rows(kept)
        self._pinv = _as_rows(np.linalg.pinv(whole))
        self._facets = _facets(kept @ whole, np.array(low, dtype=float), np.array(high, dtype=float))
        # The facets as rows for a complete force, and the rows that must be 0 for a possible force.
        self.facets = tuple(
            (tuple(float(cell) for cell in np.array(normal) @ kept), distance) for normal, distance in self._facets
        )
        rest = np.eye(len(whole)) - kept.T @ kept
        self.never = _as_rows(rest[np.abs(rest).max(axis=1) > _SMALL])
        # The products of the columns with each other, for the normal equations.
        self._products = tuple(tuple(dot(a, b) for b in self._columns) for a in self._columns)
        self._cost = _EFFORT * (math.sqrt(float((whole * whole).sum())) or 1.0)
        self._gains: dict[tuple[int, ...], _Gains] = {}

    def reachable(self, force: Sequence[float]) -> Row:
        """Return the part of a force in the directions in which the thrusters can push at all."""
        if len(self._space) == len(self._rows):
            return tuple(force)
        parts = [dot(axis, force) for axis in self._space]
        return tuple(
            sum(part * axis[row] for part, axis in zip(parts, self._space, strict=True))
            for row in range(len(self._rows))
        )

    def load(self, force: Sequence[float]) -> float:
        """Return a force as a share of the most that is possible in its direction; inf for an impossible direction."""
        inside = [dot(axis, force) for axis in self._space]
        # A force along a facet, up to rounding, does not push against it.
        slack = _SMALL * math.sqrt(dot(inside, inside))
        most = 0.0
        for normal, offset in self._facets:
            along = dot(normal, inside)
            if along > slack:
                most = max(most, along / offset if offset > _SMALL else math.inf)
        return most

    def thrusts(self, force: Sequence[float]) -> Row:
        """Return the smallest thrusts that make a possible force; for another force, those that come nearest."""
        plain = tuple(dot(row, force) for row in self._pinv)
        if all(low <= u <= high for low, u, high in zip(self._low, plain, self._high, strict=True)):
            return plain
        return self._bounded(force, plain)

    def _bounded(self, force: Sequence[float], plain: Row) -> Row:
        """Free thrusters one after another that should leave their bound; fix those that reach one."""
        count = len(self._low)
        # Where the unbounded solution nearly violates a bound, the bounded one often reaches it.
        u = [min(max(x, low), high) for low, x, high in zip(self._low, plain, self._high, strict=True)]
        free = {i for i in range(count) if self._low[i] < u[i] < self._high[i]}
        self._settle(u, free, force)
        for _ in range(8 * count):
            pulls = [(i, self._pull(i, u, force)) for i in range(count) if i not in free]
            wish = [
                (abs(pull), i) for i, pull in pulls
                if (pull > _SMALL and u[i] < self._high[i]) or (pull < -_SMALL and u[i] > self._low[i])
            ]  # fmt: skip
            if not wish:
                break
            free.add(max(wish)[1])
            self._settle(u, free, force)
        self._refine(u, free, force)
        return tuple(u)

    def _refine(self, u: list[float], free: set[int], force: Sequence[float]) -> None:
        """Make up for what the cost of thrust took from the wanted force: much, where a lever is short."""
        if not free:
            return
        left = [f - dot(row, u) for f, row in zip(force, self._rows, strict=True)]
        chosen = tuple(sorted(free))
        changes = [dot(row, left) for row in self._gains_of(chosen).exact]
        ends = [self._high[i] if change > 0.0 else self._low[i] for i, change in zip(chosen, changes, strict=True)]
        room = [(end - u[i]) / by for i, end, by in zip(chosen, ends, changes, strict=True) if by]
        share = max(0.0, min([1.0, *room]))
        for i, change in zip(chosen, changes, strict=True):
            u[i] += share * change

    def _pull(self, i: int, u: list[float], force: Sequence[float]) -> float:
        """Return the improvement per unit of one thrust."""
        return dot(self._columns[i], force) - dot(self._products[i], u) - self._cost * self._cost * u[i]

    def _settle(self, u: list[float], free: set[int], force: Sequence[float]) -> None:
        """Go to the best point of the free thrusters; fix those that meet a bound on the way.

        Args:
            u: the thrusts, changed here. free: those that may change. force: the wanted one.
        """
        while free:
            chosen = tuple(sorted(free))
            best = self._best_of(u, chosen, force)
            step, stopped = 1.0, -1
            for i, value in zip(chosen, best, strict=True):
                bound = self._high[i] if value > self._high[i] else self._low[i] if value < self._low[i] else None
                if bound is not None:
                    part = (bound - u[i]) / (value - u[i]) if value != u[i] else 0.0
                    if part < step:
                        step, stopped = part, i
            for i, value in zip(chosen, best, strict=True):
                u[i] += step * (value - u[i])
            if stopped < 0:
                return
            u[stopped] = self._high[stopped] if best[chosen.index(stopped)] > u[stopped] else self._low[stopped]
            free.discard(stopped)

    def _best_of(self, u: list[float], chosen: tuple[int, ...], force: Sequence[float]) -> list[float]:
        """Return the best thrusts of the chosen thrusters, with the others fixed; bounds are ignored."""
        left = force
        for i, x in enumerate(u):
            if x and i not in chosen:
                left = [f - part * x for f, part in zip(left, self._columns[i], strict=True)]
        return [dot(row, left) for row in self._gains_of(chosen).least]

    def _gains_of(self, chosen: tuple[int, ...]) -> _Gains:
        """Return the matrices from a force to the thrusts of some thrusters; there are few such sets."""
        found = self._gains.get(chosen)
        if found is None:
            if len(self._gains) >= _KEPT:
                self._gains.clear()
            left, sizes, right = np.linalg.svd(np.array([self._columns[i] for i in chosen]).T, full_matrices=False)
            made = sizes > _SMALL * max(float(sizes.max()), 1.0)
            least = (right.T * (sizes / (sizes**2 + self._cost**2))) @ left.T
            exact = (right.T * np.where(made, 1.0 / np.where(made, sizes, 1.0), 0.0)) @ left.T
            found = self._gains[chosen] = _Gains(_as_rows(least), _as_rows(exact))
        return found


def dot(a: Sequence[float], b: Sequence[float]) -> float:
    """Return the sum of the products of two rows."""
    total: float = sum(map(mul, a, b))
    return total


def _as_rows(matrix: np.ndarray) -> tuple[Row, ...]:
    return tuple(tuple(float(cell) for cell in row) for row in matrix)


def _facets(matrix: np.ndarray, low: np.ndarray, high: np.ndarray) -> tuple[tuple[Row, float], ...]:
    """List the facets of the possible forces, as normals and distances from the origin: n·f ≤ distance.

    Every facet is spanned by columns of the matrix, one fewer than it has rows.
    """
    size, count = matrix.shape
    found: list[tuple[Row, float]] = []
    for columns in combinations(range(count), size - 1):
        spanned = matrix[:, list(columns)]
        if size > 1:
            left, sizes, _ = np.linalg.svd(spanned)
            if sizes.min() < _SMALL * max(1.0, float(sizes.max())):
                continue
            normal = left[:, -1]
        else:
            normal = np.ones(1)
        for side in (normal, -normal):
            along = side @ matrix
            distance = float(np.maximum(along * low, along * high).sum())
            found.append((tuple(float(cell) for cell in side), distance))
    return tuple(found)
