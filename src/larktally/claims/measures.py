"""Measures: one number read off a whole trace. NaN stands for what never happened."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.claims import spans
from larktally.claims.kinds import check_tree
from larktally.claims.signals import Reading
from larktally.claims.text import parse
from larktally.claims.tree import Call, ChannelRef, Node, Text
from larktally.errors import ClaimError
from larktally.traces.trace import Trace

__all__ = ["measure", "measured_in", "measured_over"]

Array: TypeAlias = npt.NDArray[Any]


def measure(trace: Trace | Reading, that: str | Node) -> float:
    """The value of a measure, such as "apex('wick.y')" or "longest(in_state(wick.gait, 'airborne'))", over a trace.

    Rows for what is counted in rows, seconds for times, the channel's own unit else; NaN where there is nothing to
    measure. Raises ClaimError for what is no measure.
    """
    read = trace if isinstance(trace, Reading) else Reading(trace)
    node = parse(that) if isinstance(that, str) else that
    if check_tree(node, read.words, that if isinstance(that, str) else None) != "measure" or not isinstance(node, Call):
        raise ClaimError(f"{that} is no measure; measures are {', '.join(_MEASURES)}")
    with np.errstate(all="ignore"):
        return float(_MEASURES[node.name](read, *(_values(read, arg) for arg in node.args))) if read.rows else np.nan


def measured_in(read: Reading, node: Node) -> int | None:
    """The row that a measure's number was read off, or in which the stretch or gap that it is begins; None where no single
    row has it."""
    if not isinstance(node, Call) or node.name not in _ROWS or not read.rows:
        return None
    with np.errstate(all="ignore"):
        return _ROWS[node.name](*(_values(read, arg) for arg in node.args))


def measured_over(traces: Mapping[str, Trace], measures: Sequence[str]) -> dict[str, dict[str, float]]:
    """Several measures over several traces: {trace's name: {measure: value}}."""
    readings = {name: Reading(trace) for name, trace in traces.items()}
    return {name: {that: measure(read, that) for that in measures} for name, read in readings.items()}


def _values(read: Reading, node: Node) -> Array:
    return np.asarray(read.column(ChannelRef(node.value) if isinstance(node, Text) else node))


def _first(read: Reading, flags: Array) -> float:
    return float(flags.argmax()) if flags.any() else np.nan


def _last(read: Reading, flags: Array) -> float:
    return float(len(flags) - 1 - flags[::-1].argmax()) if flags.any() else np.nan


def _stretches(flags: Array) -> Array:
    runs = spans.run_length(np.asarray(flags))
    ends = np.append(flags[:-1] & ~flags[1:], flags[-1:])
    return np.asarray(runs[ends])


def _least(values: Array) -> float:
    return float(values.min()) if len(values) else np.nan


def _most(values: Array) -> float:
    return float(values.max()) if len(values) else np.nan


def _gaps(flags: Array) -> Array:
    return np.diff(np.flatnonzero(flags))


def _settling(read: Reading, x: Array, tolerance: Array) -> float:
    away = np.flatnonzero(~(np.abs(x - x[-1]) <= tolerance))
    return float(away[-1] + 1) if len(away) else 0.0


def _seconds(read: Reading) -> float:
    if read.words.rate is None:
        raise ClaimError("a time needs a rate, and none is known here; give one (--rate)")
    return float(1 / read.words.rate)


_MEASURES: dict[str, Callable[..., float]] = {
    "apex": lambda read, x: x.max() - x[0],
    "reach": lambda read, x: np.abs(x - x[0]).max(),
    "greatest": lambda read, x: x.max(),
    "smallest": lambda read, x: x.min(),
    "area": lambda read, x: x.sum() * _seconds(read),
    "settling": _settling,
    "value_when": lambda read, x, p: x[p.argmax()] if p.any() else np.nan,
    "first_row": _first,
    "last_row": _last,
    "time_to": lambda read, p: _first(read, p) * _seconds(read),
    "rows_with": lambda read, p: float(np.count_nonzero(p)),
    "air_time": lambda read, p: _most(np.append(_stretches(~p), 0)),
    "longest": lambda read, p: _most(np.append(_stretches(p), 0)),
    "shortest": lambda read, p: _least(_stretches(p)),
    "longest_gap": lambda read, p: _most(_gaps(p)),
    "shortest_gap": lambda read, p: _least(_gaps(p)),
}


def _start_of(pick: Callable[[Array], Any], flags: Array) -> int | None:
    """The first row of the stretch that `pick` chooses by its length."""
    lengths = _stretches(flags)
    if not len(lengths):
        return None
    begins = np.flatnonzero(np.diff(np.concatenate([[False], flags]).astype(np.int8)) == 1)
    return int(begins[pick(lengths)])


def _gap_from(pick: Callable[[Array], Any], flags: Array) -> int | None:
    """The row from which the gap that `pick` chooses goes on."""
    rows = np.flatnonzero(flags)
    return int(rows[pick(np.diff(rows))]) if len(rows) > 1 else None


_ROWS: dict[str, Callable[..., int | None]] = {
    "apex": lambda x: int(x.argmax()),
    "reach": lambda x: int(np.abs(x - x[0]).argmax()),
    "greatest": lambda x: int(x.argmax()),
    "smallest": lambda x: int(x.argmin()),
    "value_when": lambda x, p: int(p.argmax()) if p.any() else None,
    "air_time": lambda p: _start_of(np.argmax, ~p),
    "longest": lambda p: _start_of(np.argmax, p),
    "shortest": lambda p: _start_of(np.argmin, p),
    "longest_gap": lambda p: _gap_from(np.argmax, p),
    "shortest_gap": lambda p: _gap_from(np.argmin, p),
}
