"""In which row of the trace a line of a log belongs: by a counter of frames, or by times and how far they may be off."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from larktally.errors import TraceError
from larktally.timing import Rate, exact_seconds
from larktally.traces.columns import check_size
from larktally.traces.formats.logs.log_tables import Array
from larktally.traces.formats.logs.mapping import HELD_ROW, LogMapping
from larktally.traces.formats.logs.told import cell

__all__ = ["Counted", "check_counts", "inferred_rate", "positions", "rows_held"]

# Of a frame: times of a table are written with as many digits as somebody thought of.
SLACK_OF_TABLE = 0.25
# Of a frame: what a time in a double is off by.
SLACK_OF_DOUBLES = 1e-6


class Counted(NamedTuple):
    """The row of each line, what row 0 is in the log's own counting, and the rate."""

    rows: Array
    first: float
    rate: Rate | None


def check_counts(column: str, values: Array, place: Callable[[int], str]) -> None:
    """Raises TraceError with the first cell that is no finite number."""
    if values.dtype.kind in "iu":
        return
    row = first_that_is_no_number(values)
    if row is not None:
        raise TraceError(f"{place(row)}: column {column!r} counts, so it holds numbers, not {cell(values[row])}")


def first_that_is_no_number(values: Array) -> int | None:
    """The row of the first cell that is no finite number; of a column of texts the first that does not read as one."""
    if values.dtype.kind == "f":
        wrong = ~np.isfinite(values)
        return int(wrong.argmax()) if wrong.any() else None
    for row, value in enumerate(values.tolist()):
        try:
            fits = not isinstance(value, bool) and np.isfinite(float(value))
        # A moment of a calendar is a TypeError.
        except (TypeError, ValueError):
            fits = False
        if not fits:
            return row
    # Each reads as a number, and the column is text all the same: it stood in quotes.
    if values.dtype.kind == "O":
        return 0
    return None


def positions(
    rules: LogMapping, values: Array, place: Callable[[int], str], rate: Rate | None, first: float | None = None
) -> Counted:
    """The row of each line by its own counter or time; `first` is what row 0 is there, where another log says so.

    Lines go forward; raises TraceError with the place of one that goes back, or stands between two rows.
    """
    check_counts(rules.counting, values, place)
    if rules.frame:
        numbers = _unwrapped(rules, values, place)
        if first is None:
            first = rules.first if rules.first is not None else float(numbers[0])
        offsets = (numbers - first) / rules.every
        rows = np.rint(offsets)
        _check_whole(rules, offsets, rows, values, place, 0.0, rules.every)
        return Counted(rows.astype(np.int64), first, rate)
    times = values.astype(np.float64)
    if rate is None and len(times) > 1:
        rate = inferred_rate(rules, times, place)
    if rate is None:
        raise TraceError(f"{place(0)}: one time gives no rate; say rate = … in the mapping")
    if first is None:
        first = float(rules.first) if rules.first is not None else float(times[0])
    # Of a thinned log, a row is so many frames.
    offsets = (times - first) * rules.seconds(float(rate)) / rules.every
    if rules.kind == "table":
        # Row by row: what a clock is off by adds up over a long log, and is no row.
        steps = np.diff(offsets)
        offsets[1:] = np.rint(offsets[0]) + np.cumsum(np.rint(steps)) + (steps - np.rint(steps))
    rows = np.rint(offsets)
    _check_whole(rules, offsets, rows, values, place, _slack(rules, rate), rules.in_log(rules.every / rate))
    return Counted(rows.astype(np.int64), first, rate)


def _slack(rules: LogMapping, rate: Rate) -> float:
    """How far from a row a time may be, in rows."""
    if rules.tolerance is not None:
        return (
            float(exact_seconds(rules.tolerance, None, what="tolerance:") * Fraction(rate)) / rules.every
            + SLACK_OF_DOUBLES
        )
    return SLACK_OF_TABLE if rules.kind == "table" else SLACK_OF_DOUBLES


def _unwrapped(rules: LogMapping, values: Array, place: Callable[[int], str]) -> Array:
    """A frame counter that starts again from 0, as one that does not."""
    numbers: Array = values.astype(np.float64)
    if rules.frame_wraps is None:
        return numbers
    wrong = (numbers < 0) | (numbers >= rules.frame_wraps)
    if wrong.any():
        row = int(wrong.argmax())
        raise TraceError(
            f"{place(row)}: column {rules.frame!r} is {cell(values[row])}, where a counter of {rules.frame_wraps} frames has "
            f"0 to {rules.frame_wraps - 1}"
        )
    # It goes back by more than half of its range only where it starts again.
    turns = np.cumsum(np.diff(numbers, prepend=numbers[:1]) < -rules.frame_wraps / 2)
    unwrapped: Array = numbers + turns * rules.frame_wraps
    return unwrapped


def _check_whole(
    rules: LogMapping,
    offsets: Array,
    rows: Array,
    values: Array,
    place: Callable[[int], str],
    slack: float,
    step: float,
) -> None:
    """Raises TraceError for a line that stands between two rows, before row 0, or behind the line before."""
    column = rules.counting
    if not bool((np.abs(offsets) < 2**53).all()):
        raise TraceError(f"{place(0)}: column {column!r} counts beyond what a double holds")
    back = np.diff(rows) < 0
    if back.any():
        row = int(back.argmax()) + 1
        raise TraceError(
            f"{place(row)}: a frame is uneven: column {column!r} goes back from {_number(values[row - 1])} to "
            f"{_number(values[row])}, where each frame is {step:g}{_wraps_perhaps(rules, values, row)}"
        )
    off = np.abs(offsets - rows)
    wrong = ~(off <= slack)
    if wrong.any():
        row = int(wrong.argmax())
        raise TraceError(_between(rules, offsets, row, values, place(row), step))
    if rows[0] < 0:
        raise TraceError(f"{place(0)}: column {column!r} is {_number(values[0])} there, before row 0, which first says")


def _wraps_perhaps(rules: LogMapping, values: Array, row: int) -> str:
    """How a counter that starts again is said, where it looks like one."""
    if rules.frame and rules.frame_wraps is None and values[row] == 0:
        return f"; a counter that starts again is said by frame_wraps = {int(values[row - 1]) + 1}"
    return ""


def _between(rules: LogMapping, offsets: Array, row: int, values: Array, place: str, step: float) -> str:
    column = rules.counting
    where = f"column {column!r} is {_number(values[row])}, where each frame is {step:g}"
    if rules.kind == "table" and row:
        return (
            f"{place}: a frame is uneven: column {column!r} goes up by {float(values[row]) - float(values[row - 1]):g} from "
            f"{_number(values[row - 1])} to {_number(values[row])}, where each frame is {step:g}"
        )
    nearest = round(float(offsets[row]))
    off = abs(float(offsets[row]) - nearest)
    if rules.frame:
        return f"{place}: {where}: that is no frame of its own"
    return (
        f"{place}: {where}: that is {off:.3g} frames from row {nearest}; to take the nearest row, say how far it may be: "
        "tolerance = '2ms'"
    )


def _number(value: object) -> str:
    return f"{float(value):g}" if not isinstance(value, str) else value  # type: ignore[arg-type]


def inferred_rate(rules: LogMapping, times: Array, place: Callable[[int], str]) -> Rate:
    """The rate whose even frames lie closest to the times: whole, or a whole one times 1000/1001."""
    column = rules.time
    if rules.kind != "table":
        raise TraceError(f"{place(0)}: the times of single events give no rate; say rate = … in the mapping")
    steps = np.diff(times) * rules.seconds(1.0) / rules.every
    middle = float(np.median(steps))
    if not middle > 0:
        raise TraceError(
            f"{place(0)}: column {column!r} does not rise, so it gives no rate; say rate = … in the mapping"
        )
    pace = float(times[-1] - times[0]) * rules.seconds(1.0) / rules.every / (len(times) - 1)
    if rules.gaps == "hold":
        # Where rows are missing the mean says nothing of the rate.
        pace = middle
    near = [Fraction(round(1 / middle)), Fraction(round(1 / middle * 1.001)) * Fraction(1000, 1001)]
    best = min((one for one in near if one > 0), key=lambda one: abs(float(1 / one) - pace), default=None)
    if best is None or abs(float(1 / best) - middle) > 0.02 * middle:
        raise TraceError(
            f"{place(0)}: column {column!r} has steps of {middle:g} s, which is no usual rate; say rate = …"
        )
    return Rate(best)


def rows_held(
    rules: LogMapping, counted: Counted, values: Array, place: Callable[[int], str], rows: int | None = None
) -> tuple[Sequence[int] | Array, Array]:
    """For each row of the trace the line that it is read from, and whether that is the line of an earlier one.

    Raises TraceError for a row that has two lines, and, where gaps are refused, for one that has none.
    """
    at = counted.rows
    twice = np.diff(at) == 0
    if twice.any():
        row = int(twice.argmax()) + 1
        raise TraceError(
            f"{place(row)}: a frame is doubled: column {rules.counting!r} stands still from {_number(values[row - 1])} to "
            f"{_number(values[row])}, where each frame is {_step(rules, counted.rate):g}"
        )
    count = int(at[-1]) + 1 if rows is None else rows
    missing = np.diff(at) > 1
    if missing.any() and rules.gaps != "hold":
        row = int(missing.argmax()) + 1
        raise TraceError(
            f"{place(row)}: a frame is missing: column {rules.counting!r} goes up by "
            f"{float(values[row]) - float(values[row - 1]):g} from {_number(values[row - 1])} to {_number(values[row])}, where "
            f"each frame is {_step(rules, counted.rate):g}; gaps = 'hold' holds what was before, and says so in '{HELD_ROW}'"
        )
    check_size(place(0), count, 1)
    if at[0] > 0:
        raise TraceError(
            f"{place(0)}: its first line belongs to row {at[0]}, and nothing says what rows 0 to {at[0] - 1} are"
        )
    if rows is not None and at[-1] > rows - 1:
        row = int((at > rows - 1).argmax())
        raise TraceError(f"{place(row)}: it belongs to row {at[row]}, and the other log ends with row {rows - 1}")
    if rows is not None and at[-1] < rows - 1 and rules.gaps != "hold":
        raise TraceError(
            f"{place(len(at) - 1)}: it ends with row {at[-1]}, and the other log goes on to row {rows - 1}"
        )
    every = np.arange(count)
    source = np.searchsorted(at, every, side="right") - 1
    return source, at[source] != every


def _step(rules: LogMapping, rate: Rate | None) -> float:
    if rules.frame or rate is None:
        return float(rules.every)
    return rules.in_log(rules.every / rate)
