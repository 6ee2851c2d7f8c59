"""A run that is late by a constant number of frames, or was made at another rate: found by correlation, then checked.

From the first row that differs, the two are correlated over a span of lags; one of the best counts only where, from
some row on, every row agrees once it is shifted, and where so much agreement would hardly be luck.
"""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.comparing.tolerance import Tolerance, differing
from larktally.textfmt import plural
from larktally.traces.columns import Column

__all__ = ["Lag", "lag_of", "stretch_of", "MOST_FRAMES"]

MOST_FRAMES = 120
# A channel that changes once is early or late by nothing: it changed at another time.
LEAST_CHANGES = 3
# A few rows agree with any others at some pace.
LEAST_ROWS = 12
# The chance, estimated from how often the values change, that so much agreement means nothing.
MOST_LUCK = 0.01
# Enough to rank the lags; the best are then checked over all rows.
WINDOW = 4096
_STRETCHES = [
    Fraction(n, m) for n, m in ((1, 2), (2, 1), (1, 3), (3, 1), (2, 3), (3, 2), (1, 4), (4, 1), (5, 6), (6, 5))
]


class Lag(msgspec.Struct, frozen=True):
    """A channel is `frames` late (early where negative) from `row` on, up to the end; `changes` of it say so."""

    channel: str
    frames: int
    row: int
    changes: int

    def __str__(self) -> str:
        return f"{self.channel!r} is {late(self.frames)} from row {self.row} on"


def late(frames: int) -> str:
    """1 frame late, 2 frames early."""
    return f"{plural(abs(frames), 'frame')} {'late' if frames > 0 else 'early'}"


def lag_of(a: Column, b: Column, tolerance: Tolerance, most: int = MOST_FRAMES) -> Lag | None:
    """By how many frames `b` runs behind `a`, and from which row on; None where no constant lag explains what differs."""
    rows = min(len(a.stored), len(b.stored))
    wrong = differing(a, b, slice(0, rows), slice(0, rows), tolerance)
    if rows < 4 or not wrong.any():
        return None
    first = int(wrong.argmax())
    most = min(most, (rows - first) // 2)
    # By size, a lag before a lead: of equally good ones the smallest counts.
    lags = [sign * lag for lag in range(1, most + 1) for sign in (1, -1)]
    scores = {lag: _agreement(a, b, lag, first, min(rows, first + WINDOW), tolerance) for lag in lags}
    best = sorted(lags, key=lambda lag: (-scores[lag], abs(lag)))[:3]
    found = []
    for lag in best:
        agreeing = _from_some_row_on(a, b, lag, rows, tolerance)
        # From where the two part: a run that parted may come to look like the other's past much later, and is not late.
        if agreeing is not None and agreeing[0] <= first + abs(lag) + 1:
            found.append(agreeing)
    if not found:
        return None
    row, lag = min(found, key=lambda one: (one[0], abs(one[1])))
    changed, last = _changes(b, rows), min(rows, rows + lag)
    moved, after = int(np.count_nonzero(changed[row + 1 : last])), last - row
    # How well any lag does: a channel that hardly moves agrees with itself shifted by anything.
    usual = float(np.median(list(scores.values())))
    luck = len(lags) * min(usual**after, max(float(changed.mean()), 1 / rows) ** moved)
    if moved < LEAST_CHANGES or luck > MOST_LUCK or not wrong[row:].any() or _only_counts(b, row, last):
        return None
    return Lag(b.channel.name, lag, row, moved)


def _only_counts(column: Column, row: int, last: int) -> bool:
    """Whether it goes up by the same amount in every row: then a lag and a different start are the same thing."""
    if column.channel.kind not in ("number", "count"):
        return False
    steps = np.diff(column.stored[row:last])
    # A straight line that is late is one that is lower: nothing tells the two apart.
    return bool(len(steps)) and bool((steps == steps[0]).all())


def _agreement(a: Column, b: Column, lag: int, first: int, stop: int, tolerance: Tolerance) -> float:
    """The share of rows of a window in which the two agree once `b` is moved: how well they correlate at that lag."""
    start, stop = max(first, lag), min(stop, len(a.stored) + lag)
    if stop - start < 2:
        return 0.0
    return 1.0 - float(differing(a, b, slice(start - lag, stop - lag), slice(start, stop), tolerance).mean())


def _from_some_row_on(a: Column, b: Column, lag: int, rows: int, tolerance: Tolerance) -> tuple[int, int] | None:
    """The row from which all rows agree at a lag, with the lag; None where the last row does not."""
    start, stop = max(lag, 0), min(rows, rows + lag)
    wrong = np.flatnonzero(differing(a, b, slice(start - lag, stop - lag), slice(start, stop), tolerance))
    row = start + (int(wrong[-1]) + 1 if len(wrong) else 0)
    if row < stop - 1:
        return (row, lag)
    return None


def stretch_of(pairs: Iterable[tuple[Column, Column, Tolerance]]) -> Fraction | None:
    """The factor by which the second of each pair runs through the same values: 1/2 where it has half of the frames.

    None where no usual factor fits every channel in every row that the two have in common.
    """
    listed = list(pairs)
    moving = []
    for one in listed:
        if int(np.count_nonzero(_changes(one[0], len(one[0].stored)))) >= LEAST_CHANGES:
            moving.append(one)
    if not moving:
        return None
    for factor in _STRETCHES:
        if all(_stretched(a, b, tolerance, factor) for a, b, tolerance in moving):
            return factor
    return None


def _stretched(a: Column, b: Column, tolerance: Tolerance, factor: Fraction) -> bool:
    """Whether the rows at the same place of both agree, where there are enough of them that it says something."""
    count = min((len(a.stored) - 1) // factor.denominator, (len(b.stored) - 1) // factor.numerator) + 1
    if count < LEAST_ROWS:
        return False
    at_a, at_b = np.arange(count) * factor.denominator, np.arange(count) * factor.numerator
    met = a.stored[at_a]
    if int(np.count_nonzero(met[1:] != met[:-1])) < LEAST_CHANGES:
        return False
    return not differing(a, b, at_a, at_b, tolerance).any()


def _changes(column: Column, rows: int) -> npt.NDArray[np.bool_]:
    """Whether each row differs from the one before."""
    stored = column.stored[:rows]
    out = np.zeros(rows, dtype=np.bool_)
    out[1:] = stored[1:] != stored[:-1]
    return out
