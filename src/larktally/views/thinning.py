"""Millions of rows in a picture of a thousand pixels: what is drawn of them so that nothing that would be seen is left out.

Up to PLACES rows everything is drawn as it is. Above that neighbouring rows share a place: of a line the least and the greatest
value of each place, of states the share of the place's rows that each state has, of a path each point of a fine grid once.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

__all__ = ["PLACES", "grid_points", "line_points", "path_points", "shares", "spread"]

# Three times the pixels of a picture: sharp on any screen, and drawn in a blink.
PLACES = 4000
Numbers = npt.NDArray[np.float64]


def _starts(count: int) -> npt.NDArray[np.int64]:
    """Where each of at most PLACES places begins among so many rows."""
    return np.unique(np.linspace(0, count, min(PLACES, count), endpoint=False).astype(np.int64))


def line_points(x: range, values: Numbers) -> tuple[npt.NDArray[Any], Numbers]:
    """The points of a line that are drawn: all of them, or of each place the least and the greatest, in their order.

    >>> rows, drawn = line_points(range(1_000_000), np.eye(1, 1_000_000, 7)[0])
    >>> len(rows) <= 2 * PLACES, drawn.max(), rows[drawn.argmax()]
    (True, np.float64(1.0), np.int64(7))
    """
    # Of a range NumPy makes a list first.
    rows = np.arange(x.start, x.stop)
    if len(values) <= 2 * PLACES:
        return rows, values
    chosen = [np.array([0, len(values) - 1])]
    starts = _starts(len(values))
    for start, end in zip(starts.tolist(), [*starts[1:].tolist(), len(values)], strict=True):
        place = values[start:end]
        # Where all are NaN there is a gap, and its first row says so.
        known = np.flatnonzero(~np.isnan(place))
        if not len(known):
            chosen.append(np.array([start]))
            continue
        chosen.append(start + known[[place[known].argmin(), place[known].argmax()]])
    at = np.unique(np.concatenate(chosen))
    return rows[at], values[at]


def shares(flags: npt.NDArray[np.bool_]) -> tuple[npt.NDArray[np.int64], Numbers]:
    """Where each place begins, and the share of its rows in which a flag holds, from 0 to 1."""
    starts = _starts(len(flags))
    held = np.add.reduceat(flags.astype(np.int64), starts)
    return starts, held / np.diff(np.append(starts, len(flags)))


def grid_points(x: Numbers, y: Numbers) -> npt.NDArray[np.int64]:
    """Which points are drawn: all of them, or the first in each cell of a grid finer than a picture's pixels."""
    if len(x) <= 2 * PLACES:
        return np.arange(len(x))
    there = np.flatnonzero(np.isfinite(x) & np.isfinite(y))
    return there[_first_of_each(_cells(x[there], y[there]))]


def path_points(x: Numbers, y: Numbers) -> tuple[Numbers, Numbers]:
    """The points of a path drawn as a line: all of them, or each way from a cell to the next once, with a gap behind it."""
    if len(x) <= 2 * PLACES:
        return x, y
    there = np.flatnonzero(np.isfinite(x) & np.isfinite(y))
    cells = _cells(x[there], y[there])
    # A gap in the path stays one: only steps from a row to the very next are ways.
    steps = np.flatnonzero((np.diff(there) == 1) & (np.diff(cells) != 0))
    ways = cells[steps].astype(np.float64) * (PLACES + 1) ** 2 + cells[steps + 1]
    steps = there[steps[_first_of_each(ways)]]
    gaps = np.full(len(steps), np.nan)
    across = np.column_stack([x[steps], x[steps + 1], gaps]).ravel()
    up = np.column_stack([y[steps], y[steps + 1], gaps]).ravel()
    return across, up


def _cells(x: Numbers, y: Numbers) -> npt.NDArray[np.int64]:
    """A number for the cell of each point, in a grid of PLACES by PLACES."""
    found = np.zeros(len(x), dtype=np.int64)
    for values in (x, y):
        if len(values):
            span = float(np.ptp(values)) or 1.0
            found = found * (PLACES + 1) + ((values - values.min()) / span * PLACES).astype(np.int64)
    return found


def _first_of_each(keys: npt.NDArray[Any]) -> npt.NDArray[np.int64]:
    """Where each key stands for the first time, in order."""
    _, first = np.unique(keys, return_index=True)
    return np.sort(first)


def spread(rows: Sequence[int], count: int) -> list[int]:
    """Of marks at these rows, among `count` of them, the first in each place."""
    if len(rows) <= PLACES:
        return list(rows)
    at = np.asarray(rows)
    kept: list[int] = at[_first_of_each(at * PLACES // max(count, 1))].tolist()
    return kept
