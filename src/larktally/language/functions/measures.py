"""Measures: one number read off a whole trace. NaN stands for what never happened."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language import rolling
from larktally.language.function import Measure, arguments

__all__ = ["MEASURES"]

Flags: TypeAlias = npt.NDArray[np.bool_]
Numbers: TypeAlias = npt.NDArray[np.float64]
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
    return runs[ends]


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


def _travelled(x: Numbers, p: Flags) -> float:
    if p.any():
        return float(np.diff(x)[p[1:]].sum())
    return np.nan


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
        meaning="how far x rose above its row-0 value",
        value=lambda x: x.max() - x[0],
        row=lambda x: int(x.argmax()),
    ),
    Measure(
        name="reach",
        positional=arguments("x:quantity"),
        meaning="how far x came from its row-0 value, either way",
        value=lambda x: np.abs(x - x[0]).max(),
        row=lambda x: int(np.abs(x - x[0]).argmax()),
    ),
    Measure(
        name="greatest",
        positional=arguments("x:quantity"),
        meaning="the greatest x",
        value=lambda x: x.max(),
        row=lambda x: int(x.argmax()),
    ),
    Measure(
        name="smallest",
        positional=arguments("x:quantity"),
        meaning="the smallest x",
        value=lambda x: x.min(),
        row=lambda x: int(x.argmin()),
    ),
    Measure(
        name="area",
        positional=arguments("x:quantity"),
        meaning="the sum of x over all rows, times the length of a frame in seconds",
        value=lambda x: x.sum(),
        per_second=True,
    ),
    Measure(
        name="travelled",
        positional=arguments("x:quantity p:flag"),
        meaning="how far x came in the rows with p, signed; NaN where p never holds",
        value=_travelled,
        row=lambda x, p: _row_of(_last(p)),
    ),
    Measure(
        name="settling",
        positional=arguments("x:quantity tol:number"),
        meaning="the row from which x stays within tol of its last value",
        value=_settling,
        row=lambda x, tolerance: _row_of(_settling(x, tolerance)),
    ),
    Measure(
        name="value_when",
        positional=arguments("x:quantity p:flag"),
        meaning="x in the first row with p",
        value=_value_when,
        row=_row_when,
    ),
    Measure(
        name="first_row",
        positional=arguments("p:flag"),
        meaning="the first row with p",
        value=_first,
        row=lambda p: _row_of(_first(p)),
    ),
    Measure(
        name="last_row",
        positional=arguments("p:flag"),
        meaning="the last row with p",
        value=_last,
        row=lambda p: _row_of(_last(p)),
    ),
    Measure(
        name="time_to",
        positional=arguments("p:flag"),
        meaning="the time of the first row with p, in seconds",
        value=_first,
        row=lambda p: _row_of(_first(p)),
        per_second=True,
    ),
    Measure(
        name="rows_with",
        positional=arguments("p:flag"),
        meaning="how many rows have p",
        value=lambda p: float(np.count_nonzero(p)),
    ),
    Measure(
        name="air_time",
        positional=arguments("grounded:flag"),
        meaning="rows of the longest stretch off the ground",
        value=lambda grounded: _longest(_off_the_ground(grounded)),
        row=lambda grounded: _start_of(np.argmax, _off_the_ground(grounded)),
        spans=True,
    ),
    Measure(
        name="longest",
        positional=arguments("p:flag"),
        meaning="rows of the longest unbroken stretch of p",
        value=_longest,
        row=lambda p: _start_of(np.argmax, p),
        spans=True,
    ),
    Measure(
        name="shortest",
        positional=arguments("p:flag"),
        meaning="rows of the shortest unbroken stretch of p",
        value=lambda p: _least(_stretches(p)),
        row=lambda p: _start_of(np.argmin, p),
        spans=True,
    ),
    Measure(
        name="longest_gap",
        positional=arguments("p:flag"),
        meaning="the most rows from one row with p to the next",
        value=lambda p: _most(_gaps(p)),
        row=lambda p: _gap_from(np.argmax, p),
        spans=True,
    ),
    Measure(
        name="shortest_gap",
        positional=arguments("p:flag"),
        meaning="the fewest rows from one row with p to the next",
        value=lambda p: _least(_gaps(p)),
        row=lambda p: _gap_from(np.argmin, p),
        spans=True,
    ),
)
