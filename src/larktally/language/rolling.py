"""Whole-column arithmetic over spans of rows, each in O(rows) whatever the span's length.

All take and return arrays of R rows. `flags` are bool arrays, `values` float64.
"""

from __future__ import annotations

import math
from typing import TypeAlias, TypeVar

import numpy as np
import numpy.typing as npt

__all__ = [
    "began",
    "earlier",
    "next_row",
    "last_row",
    "run_length",
    "window_fold",
    "window_count",
    "window_sum",
    "fold_between",
    "fold_since",
    "look_ahead",
]

Kept = TypeVar("Kept", bound=np.generic)
Bools: TypeAlias = npt.NDArray[np.bool_]
Floats: TypeAlias = npt.NDArray[np.float64]
Rows: TypeAlias = npt.NDArray[np.int64]


def began(flags: Bools) -> Bools:
    """Whether each holds and the one before did not; false in row 0.

    >>> began(np.array([True, False, True, True])).tolist()
    [False, False, True, False]
    """
    out = np.zeros(len(flags), dtype=np.bool_)
    out[1:] = flags[1:] & ~flags[:-1]
    return out


def earlier(values: npt.NDArray[Kept], rows: int) -> npt.NDArray[Kept]:
    """Each row's value `rows` rows before; row 0's before that.

    >>> earlier(np.array([5, 6, 7, 8]), 2).tolist()
    [5, 5, 5, 6]
    """
    if rows == 0 or len(values) == 0:
        return values
    # `prev(x, 500)` in a run of 20 rows is row 0's value in all of them.
    rows = min(rows, len(values))
    out = np.empty_like(values)
    out[:rows] = values[0]
    out[rows:] = values[: len(values) - rows]
    return out


def next_row(flags: Bools) -> Rows:
    """The first row at or after each that holds; R where there is none.

    >>> next_row(np.array([False, True, False])).tolist()
    [1, 1, 3]
    """
    numbers = _row_numbers(len(flags))
    marked = np.where(flags, numbers, numbers.dtype.type(len(flags)))[::-1]
    return np.minimum.accumulate(marked, out=marked)[::-1].astype(np.int64)


def last_row(flags: Bools) -> Rows:
    """The last row at or before each that holds; -1 where there is none.

    >>> last_row(np.array([False, True, False])).tolist()
    [-1, 1, 1]
    """
    return _last_of(flags, _row_numbers(len(flags))).astype(np.int64)


def run_length(flags: Bools) -> npt.NDArray[np.int32] | Rows:
    """For how many rows each has held up to and including it; 0 where it does not.

    >>> run_length(np.array([True, True, False, True])).tolist()
    [1, 2, 0, 1]
    """
    numbers = _row_numbers(len(flags))
    numbers -= _last_of(~flags, numbers)
    return numbers


def _last_of(flags: Bools, numbers: npt.NDArray[np.int32] | Rows) -> npt.NDArray[np.int32] | Rows:
    """The last row at or before each that holds, in the kind of integer that the numbers of the rows have."""
    marked = np.where(flags, numbers, numbers.dtype.type(-1))
    np.maximum.accumulate(marked, out=marked)
    return marked


def _row_numbers(rows: int) -> npt.NDArray[np.int32] | Rows:
    """0, 1, 2, …: int32 as long as the number of rows fits, since what goes over them costs by their bytes."""
    if rows < 2**31:
        return np.arange(rows, dtype=np.int32)
    return np.arange(rows)


def window_fold(values: Floats, width: int, fold: np.ufunc) -> Floats:
    """fold (np.minimum, np.maximum, np.add) over the last `width` rows of each, over the rows there are.

    Blocks of `width` rows are folded from both ends; a window is the end of one block and the start of the next
    (van Herk 1992; Gil and Werman 1993). Nothing is subtracted, so that sums lose nothing and infinities do not spread.

    >>> window_fold(np.array([1.0, 5.0, 2.0, 0.0]), 2, np.maximum).tolist()
    [1.0, 5.0, 5.0, 2.0]
    """
    rows = len(values)
    if width >= rows:
        if rows:
            return np.asarray(fold.accumulate(values))
        return values
    if width == 1:
        return values
    whole = rows // width * width
    head = np.empty(rows)
    tail = np.empty(rows)
    # A view: nothing is copied until the folds are written out.
    blocks = values[:whole].reshape(-1, width)
    fold.accumulate(blocks, axis=1, out=head[:whole].reshape(-1, width))
    fold.accumulate(blocks[:, ::-1], axis=1, out=tail[:whole].reshape(-1, width)[:, ::-1])
    if whole < rows:
        head[whole:] = fold.accumulate(values[whole:])
    out = head.copy()
    starts = tail[1 : rows - width + 1]
    fold(starts, head[width:], out=out[width:])
    out[width - 1 :: width] = head[width - 1 :: width]
    return out


def window_count(flags: Bools, width: int | None) -> Rows:
    """How many hold of the last `width` rows of each, or of all rows so far."""
    total = np.cumsum(flags, dtype=np.int64)
    if width is not None and width < len(flags):
        # Whole numbers, so that subtracting loses nothing; the copy because the two overlap.
        total[width:] -= total[:-width].copy()
    return total


def window_sum(values: Floats, width: int | None) -> Floats:
    """The sum of the last `width` rows of each, or of all rows so far."""
    if width is None:
        return np.cumsum(values)
    return window_fold(values, width, np.add)


def fold_since(values: Floats, flags: Bools, fold: np.ufunc) -> Floats:
    """fold (np.add, np.maximum, np.minimum) from the last row that holds on, that row included; over all rows so far, before
    the first.

    >>> fold_since(np.array([4.0, 1.0, 3.0]), np.array([False, True, False]), np.add).tolist()
    [4.0, 1.0, 4.0]

    Folds each stretch from its own start, first row to last. Long stretches are folded one by one, and short ones all
    together, offset by offset: at most about 2·sqrt(R) array operations, and O(R) work in all.
    """
    rows = len(values)
    out = np.array(values, dtype=np.float64)
    starts = np.flatnonzero(flags)
    if rows and (len(starts) == 0 or starts[0] != 0):
        starts = np.concatenate([[0], starts]).astype(np.int64)
    lengths = np.diff(np.append(starts, rows))
    # As many offsets as there can be long stretches: neither loop is longer than about sqrt(R).
    limit = max(math.isqrt(rows), 1)
    for start, length in zip(starts[lengths > limit], lengths[lengths > limit], strict=True):
        fold.accumulate(values[start : start + length], out=out[start : start + length])
    short = lengths <= limit
    starts, lengths = starts[short], lengths[short]
    for offset in range(1, int(lengths.max(initial=0))):
        starts = starts[lengths > offset]
        lengths = lengths[lengths > offset]
        out[starts + offset] = fold(out[starts + offset - 1], out[starts + offset])
    return out


def fold_between(values: npt.NDArray[Kept], starts: Rows, ends: Rows, fold: np.ufunc) -> npt.NDArray[Kept]:
    """fold over rows starts..ends of each of some spans, both included, at least one row each.

    Spans that hardly overlap are folded as they stand. Of spans that end together each is folded from their common end on, so
    that both cost O(rows + spans).

    >>> fold_between(np.array([4.0, 1.0, 3.0]), np.array([0, 1]), np.array([1, 2]), np.maximum).tolist()
    [4.0, 3.0]
    """
    if int((ends - starts + 1).sum()) <= 4 * len(values):
        # Each span, and what lies between it and the next; a row more, since the last may end with the last row.
        places = np.stack([starts, ends + 1], axis=1).ravel()
        return np.asarray(fold.reduceat(np.append(values, values[-1:]), places)[::2])
    out = np.empty(len(starts), dtype=values.dtype)
    order = np.argsort(ends, kind="stable")
    for places in np.split(order, np.flatnonzero(np.diff(ends[order])) + 1):
        first, last = int(starts[places].min()), int(ends[places[0]])
        ahead = fold.accumulate(values[first : last + 1][::-1])[::-1]
        out[places] = ahead[starts[places] - first]
    return out


def look_ahead(values: Floats, first: int, last: int, fold: np.ufunc) -> Floats:
    """fold over rows k+first..k+last of each row k, over the rows there are; NaN where there is none of them."""
    rows = len(values)
    out = np.full(rows, np.nan)
    if first >= rows:
        return out
    width = min(last, rows - 1) - first + 1
    out[: rows - first] = window_fold(np.ascontiguousarray(values[first:][::-1]), width, fold)[::-1]
    return out
