"""Measures: one number read off a whole trace. NaN stands for what never happened."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language import rolling
from larktally.language.columns import Array, Evaluator
from larktally.language.function import Measure, arguments
from larktally.language.names import wraps_of
from larktally.language.tree import Call, ChannelRef, Text
from larktally.turning import turned

__all__ = ["MEASURES"]

#: Over which rows: from the first with `since` to the first later one with `until`.
WINDOW = "since:flag? until:flag?"

Flags: TypeAlias = npt.NDArray[np.bool_]
Numbers: TypeAlias = npt.NDArray[np.float64]
Rows: TypeAlias = npt.NDArray[np.int64]
Many: TypeAlias = "Callable[[list[Any], Rows, Rows], Numbers]"
Pick: TypeAlias = Callable[[npt.NDArray[np.int64]], np.int64]


def _first(flags: Flags) -> float:
    if flags.any():
        return float(flags.argmax())
    return np.nan


def _row_of(value: float) -> int | None:
    """A measure that is a row, as that row."""
    if np.isnan(value):
        return None
    return int(value)


def _last(flags: Flags) -> float:
    if flags.any():
        return float(len(flags) - 1 - flags[::-1].argmax())
    return np.nan


def _stretches(flags: Flags) -> npt.NDArray[np.int64]:
    """The length of each unbroken stretch."""
    runs = rolling.run_length(flags)
    # A stretch that the run's end cuts off counts as long as it was.
    ends = np.append(flags[:-1] & ~flags[1:], flags[-1:])
    return runs[ends].astype(np.int64)


def _gaps(flags: Flags) -> npt.NDArray[np.int64]:
    return np.diff(np.flatnonzero(flags))


def _least(values: npt.NDArray[np.int64]) -> float:
    if len(values):
        return float(values.min())
    return np.nan


def _most(values: npt.NDArray[np.int64]) -> float:
    if len(values):
        return float(values.max())
    return np.nan


def _longest(flags: Flags) -> float:
    # No stretch at all is one of no rows, not something that never happened.
    return _most(np.append(_stretches(flags), 0))


def _settling(x: Numbers, tolerance: Numbers) -> float:
    # What ends as NaN is near nothing, itself included.
    if np.isnan(x[-1]):
        return np.nan
    # Of an infinite last value only the same is near: the difference of the two is NaN.
    near = (np.abs(x - x[-1]) <= tolerance) | (x == x[-1])
    away = np.flatnonzero(~near)
    if len(away):
        return float(away[-1] + 1)
    return 0.0


def _steps(read: Evaluator, node: Call) -> list[Array]:
    """How far x came in each row, of an angle the short way, and the rows that count."""
    x, p = node.args
    if isinstance(x, Text):
        x = ChannelRef(x.value)
    values = read.numbers(x)
    out = np.zeros(read.rows)
    out[1:] = turned(values[1:] - values[:-1], wraps_of(x, read.names))
    return [out, read.flags(p)]


def _travelled(steps: Numbers, p: Flags) -> float:
    if p.any():
        # What led into the first row is not of these rows.
        return float(steps[1:][p[1:]].sum())
    return np.nan


def _many_travelled(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    steps, p = arrays
    moved = np.where(p, steps, 0.0)
    # The first row of each is left out; one that has no other came nowhere.
    later = np.minimum(starts + 1, ends)
    found = rolling.fold_between(moved, later, ends, np.add)
    found = np.where(ends > starts, found, 0.0)
    return np.where(rolling.next_row(p)[starts] <= ends, found, np.nan)


def _many(fold: np.ufunc) -> Many:
    return lambda arrays, starts, ends: rolling.fold_between(arrays[0], starts, ends, fold)


def _many_apex(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    (x,) = arrays
    return np.asarray(rolling.fold_between(x, starts, ends, np.maximum) - x[starts])


def _many_reach(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    (x,) = arrays
    high, low = (rolling.fold_between(x, starts, ends, fold) for fold in (np.maximum, np.minimum))
    return np.asarray(np.maximum(high - x[starts], x[starts] - low))


def _many_first(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    row = rolling.next_row(arrays[0])[starts]
    return np.where(row <= ends, row - starts, np.nan)


def _many_last(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    row = rolling.last_row(arrays[0])[ends]
    return np.where(row >= starts, row - starts, np.nan)


def _many_values(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    x, p = arrays
    row = rolling.next_row(p)[starts]
    return np.where(row <= ends, np.append(x, np.nan)[row], np.nan)


def _many_counts(arrays: list[Any], starts: Rows, ends: Rows) -> Numbers:
    count = np.append(0, np.cumsum(arrays[0]))
    return np.asarray(count[ends + 1] - count[starts], dtype=np.float64)


def _from_each(values: npt.NDArray[Any], fold: np.ufunc) -> npt.NDArray[Any]:
    """For each row fold over it and all later ones."""
    return np.asarray(fold.accumulate(values[::-1])[::-1])


def _left_of_stretch(flags: Flags) -> npt.NDArray[np.int64]:
    """For how many rows each holds from itself on."""
    return rolling.run_length(flags[::-1])[::-1].astype(np.int64)


def _ahead_longest(flags: Flags) -> Numbers:
    # From inside of a stretch only its rest counts, which is what each of its rows has.
    return _from_each(_left_of_stretch(flags), np.maximum).astype(np.float64)


def _ahead_shortest(flags: Flags) -> Numbers:
    left = _left_of_stretch(flags).astype(np.float64)
    begins = flags & ~np.append(False, flags[:-1])
    later = _from_each(np.append(np.where(begins, left, np.inf)[1:], np.inf), np.minimum)
    found = np.minimum(np.where(flags, left, np.inf), later)
    return np.where(np.isinf(found), np.nan, found)


def _ahead_gap(fold: np.ufunc, nothing: float) -> Callable[[Flags], Numbers]:
    def ahead(flags: Flags) -> Numbers:
        rows = np.flatnonzero(flags)
        gaps = np.full(len(flags), nothing)
        gaps[rows[:-1]] = np.diff(rows)
        found = _from_each(gaps, fold)
        return np.where(np.isinf(found), np.nan, found)

    return ahead


def _ahead_settling(x: Numbers, tolerance: Numbers) -> Numbers:
    if np.isnan(x[-1]):
        return np.full(len(x), np.nan)
    away = np.flatnonzero(~((np.abs(x - x[-1]) <= tolerance) | (x == x[-1])))
    settled = 0
    if len(away):
        settled = away[-1] + 1
    return np.maximum(settled - np.arange(len(x)), 0).astype(np.float64)


def _value_when(x: Numbers, p: Flags) -> float:
    if p.any():
        return float(x[p.argmax()])
    return np.nan


def _row_when(x: Numbers, p: Flags) -> int | None:
    if p.any():
        return int(p.argmax())
    return None


def _start_of(pick: Pick, flags: Flags) -> int | None:
    """The first row of the stretch that `pick` chooses by its length."""
    lengths = _stretches(flags)
    if not len(lengths):
        return None
    begins = np.flatnonzero(np.diff(np.concatenate([[False], flags]).astype(np.int8)) == 1)
    return int(begins[pick(lengths)])


def _gap_from(pick: Pick, flags: Flags) -> int | None:
    """The row from which the gap that `pick` chooses goes on."""
    rows = np.flatnonzero(flags)
    if len(rows) > 1:
        return int(rows[pick(np.diff(rows))])
    return None


def _off_the_ground(grounded: Flags) -> Flags:
    return np.logical_not(grounded)


MEASURES = (
    Measure(
        name="apex",
        positional=arguments("x:quantity"),
        named=arguments(WINDOW),
        meaning="how far x rose above its row-0 value",
        value=lambda x: x.max() - x[0],
        row=lambda x: int(x.argmax()),
        over_spans=_many_apex,
    ),
    Measure(
        name="reach",
        positional=arguments("x:quantity"),
        named=arguments(WINDOW),
        meaning="how far x came from its row-0 value, either way",
        value=lambda x: np.abs(x - x[0]).max(),
        row=lambda x: int(np.abs(x - x[0]).argmax()),
        over_spans=_many_reach,
    ),
    Measure(
        name="greatest",
        positional=arguments("x:quantity"),
        named=arguments(WINDOW),
        meaning="the greatest x",
        value=lambda x: x.max(),
        row=lambda x: int(x.argmax()),
        over_spans=_many(np.maximum),
    ),
    Measure(
        name="smallest",
        positional=arguments("x:quantity"),
        named=arguments(WINDOW),
        meaning="the smallest x",
        value=lambda x: x.min(),
        row=lambda x: int(x.argmin()),
        over_spans=_many(np.minimum),
    ),
    Measure(
        name="area",
        positional=arguments("x:quantity"),
        named=arguments(WINDOW),
        meaning="the sum of x over all rows, times the length of a frame in seconds",
        value=lambda x: x.sum(),
        per_second=True,
        over_spans=_many(np.add),
    ),
    Measure(
        name="travelled",
        positional=arguments("x:quantity p:flag"),
        named=arguments(WINDOW),
        meaning="how far x came in the rows with p, signed; NaN where p never holds",
        value=_travelled,
        row=lambda x, p: _row_of(_last(p)),
        arrays=_steps,
        over_spans=_many_travelled,
    ),
    Measure(
        name="settling",
        positional=arguments("x:quantity tol:number"),
        named=arguments(WINDOW),
        meaning="the row from which x stays within tol of its last value",
        value=_settling,
        row=lambda x, tolerance: _row_of(_settling(x, tolerance)),
        ahead=_ahead_settling,
    ),
    Measure(
        name="value_when",
        positional=arguments("x:quantity p:flag"),
        named=arguments(WINDOW),
        meaning="x in the first row with p",
        value=_value_when,
        row=_row_when,
        over_spans=_many_values,
    ),
    Measure(
        name="first_row",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="the first row with p",
        value=_first,
        row=lambda p: _row_of(_first(p)),
        over_spans=_many_first,
    ),
    Measure(
        name="last_row",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="the last row with p",
        value=_last,
        row=lambda p: _row_of(_last(p)),
        over_spans=_many_last,
    ),
    Measure(
        name="time_to",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="the time of the first row with p, in seconds",
        value=_first,
        row=lambda p: _row_of(_first(p)),
        per_second=True,
        over_spans=_many_first,
    ),
    Measure(
        name="rows_with",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="how many rows have p",
        value=lambda p: float(np.count_nonzero(p)),
        over_spans=_many_counts,
    ),
    Measure(
        name="air_time",
        positional=arguments("grounded:flag"),
        named=arguments(WINDOW),
        meaning="rows of the longest stretch off the ground",
        value=lambda grounded: _longest(_off_the_ground(grounded)),
        row=lambda grounded: _start_of(np.argmax, _off_the_ground(grounded)),
        spans=True,
        ahead=lambda grounded: _ahead_longest(_off_the_ground(grounded)),
    ),
    Measure(
        name="longest",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="rows of the longest unbroken stretch of p",
        value=_longest,
        row=lambda p: _start_of(np.argmax, p),
        spans=True,
        ahead=_ahead_longest,
    ),
    Measure(
        name="shortest",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="rows of the shortest unbroken stretch of p",
        value=lambda p: _least(_stretches(p)),
        row=lambda p: _start_of(np.argmin, p),
        spans=True,
        ahead=_ahead_shortest,
    ),
    Measure(
        name="longest_gap",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="the most rows from one row with p to the next",
        value=lambda p: _most(_gaps(p)),
        row=lambda p: _gap_from(np.argmax, p),
        spans=True,
        ahead=_ahead_gap(np.maximum, -np.inf),
    ),
    Measure(
        name="shortest_gap",
        positional=arguments("p:flag"),
        named=arguments(WINDOW),
        meaning="the fewest rows from one row with p to the next",
        value=lambda p: _least(_gaps(p)),
        row=lambda p: _gap_from(np.argmin, p),
        spans=True,
        ahead=_ahead_gap(np.minimum, np.inf),
    ),
)
