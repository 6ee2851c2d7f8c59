"""Reading measures off a trace: over the whole of it or over spans of its rows, with arithmetic, and the row that one was read
off."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator, Mapping
from typing import TypeAlias

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import ClaimError
from larktally.language import rolling
from larktally.language.columns import Array, Evaluator
from larktally.language.function import Measure
from larktally.language.tree import Call, ChannelRef, Node, Operation, Text, children, to_text

__all__ = ["Spans", "each_span", "measured", "measured_over_spans", "measured_row", "measures_in", "whole_run"]

Rows: TypeAlias = npt.NDArray[np.int64]
Floats: TypeAlias = npt.NDArray[np.float64]
_ARITHMETIC: Mapping[str, Callable[[Floats, Floats], Floats]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
}


class Spans(msgspec.Struct, frozen=True):
    """Rows starts..ends of several spans, both included; where `there` is false there is no such span."""

    starts: Rows
    ends: Rows
    there: npt.NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.starts)


def whole_run(read: Evaluator) -> Spans:
    """All rows, as the only span; none where there are no rows."""
    return Spans(np.array([0]), np.array([read.rows - 1]), np.array([read.rows > 0]))


def each_span(read: Evaluator, a: Node, until: Node | None) -> Spans:
    """For each row k with a the rows k..e: e is the first row later than k with `until`, or, without one, the row before the
    next row with a, or the last. Where no such row comes there is no span."""
    starts = np.flatnonzero(read.flags(a))
    if until is None:
        ends = np.append(starts[1:] - 1, read.rows - 1)[: len(starts)]
        return Spans(starts, ends, np.ones(len(starts), dtype=np.bool_))
    ends = _first_later(read, until, starts)
    return Spans(starts, ends, ends < read.rows)


def measured(read: Evaluator, measures: Mapping[str, Measure], node: Node) -> float:
    """The number of a checked measure, or of arithmetic with such, over the whole trace; NaN where there is nothing to
    measure."""
    return float(measured_over_spans(read, measures, node, whole_run(read))[0])


def measured_over_spans(read: Evaluator, measures: Mapping[str, Measure], node: Node, spans: Spans) -> Floats:
    """The number of a checked measure in each span: float64, NaN where there is nothing to measure.

    Of every span the first row stands in place of row 0: what rose above it, and rows that are counted, go by it.
    """
    if isinstance(node, Call) and node.name in measures:
        return _over_spans(read, measures[node.name], node, spans)
    if isinstance(node, Operation) and measures_in(node, measures):
        values = [measured_over_spans(read, measures, arg, spans) for arg in node.args]
        with np.errstate(all="ignore"):
            if node.op == "neg":
                return np.negative(values[0])
            return np.asarray(_ARITHMETIC[node.op](*values))
    # A number, or one of the model's.
    return np.full(len(spans), float(read.at(node, 0)) if read.rows else np.nan)


def measured_row(read: Evaluator, measures: Mapping[str, Measure], node: Node, spans: Spans, n: int) -> int | None:
    """The row that the n-th span's number was read off, or in which the stretch or gap that it is begins; None where no single
    row has it."""
    if not isinstance(node, Call) or node.name not in measures:
        raise ClaimError(f"{to_text(node)} is no measure; measures are {', '.join(measures)}")
    found = measures[node.name]
    inner = _windows(read, node, spans)
    if found.row is None or not inner.there[n]:
        return None
    first, last = int(inner.starts[n]), int(inner.ends[n])
    with np.errstate(all="ignore"):
        row = found.row(*_cut(_arguments(read, found, node), first, last))
    if row is None:
        return None
    return first + row


def measures_in(node: Node, measures: Mapping[str, Measure]) -> list[Call]:
    """The measures in a node, from left to right; not those inside of their own arguments, where none can be."""
    if isinstance(node, Call):
        if node.name in measures:
            return [node]
        return []
    found: list[Call] = []
    for child in children(node):
        found += measures_in(child, measures)
    return found


def _over_spans(read: Evaluator, found: Measure, node: Call, spans: Spans) -> Floats:
    spans = _windows(read, node, spans)
    out = np.full(len(spans), np.nan)
    chosen = np.flatnonzero(spans.there)
    if not len(chosen):
        return out
    starts, ends = spans.starts[chosen], spans.ends[chosen]
    arrays = _arguments(read, found, node)
    with np.errstate(all="ignore"):
        if len(chosen) == 1:
            out[chosen] = found.value(*_cut(arrays, int(starts[0]), int(ends[0])))
        elif found.over_spans is not None:
            out[chosen] = found.over_spans(arrays, starts, ends)
        else:
            for places, first, last in _groups(starts, ends):
                # Spans that end together are read in one go, from their common end on: their rows are gone through once.
                cut = _cut(arrays, first, last)
                if len(places) > 1 and found.ahead is not None:
                    out[chosen[places]] = found.ahead(*cut)[starts[places] - first]
                else:
                    for place in places:
                        out[chosen[place]] = found.value(*_cut(arrays, int(starts[place]), last))
    if found.per_second:
        out *= _seconds(read)
    return out


def _groups(starts: Rows, ends: Rows) -> Iterator[tuple[Rows, int, int]]:
    """The spans by their last row: the places of those that share one, the first row of any of them, and that last row."""
    order = np.argsort(ends, kind="stable")
    for places in np.split(order, np.flatnonzero(np.diff(ends[order])) + 1):
        yield places, int(starts[places].min()), int(ends[places[0]])


def _windows(read: Evaluator, node: Call, spans: Spans) -> Spans:
    """The rows of each span from the first with `since` to the first later one with `until`."""
    since, until = node.option("since"), node.option("until")
    starts, ends, there = spans.starts, spans.ends, spans.there
    # Row R stands for "never", and a span that is none may have any rows.
    if since is not None:
        starts = np.append(rolling.next_row(read.flags(since)), read.rows)[np.clip(starts, 0, read.rows)]
        there = there & (starts <= ends)
    if until is not None:
        over = _first_later(read, until, starts)
        there = there & (over <= ends)
        ends = over
    return Spans(starts, ends, there)


def _first_later(read: Evaluator, condition: Node, rows: Rows) -> Rows:
    """The first row later than each in which a condition holds; R where there is none."""
    following = np.append(rolling.next_row(read.flags(condition)), [read.rows, read.rows])
    return np.asarray(following[np.clip(rows, 0, read.rows) + 1])


def _arguments(read: Evaluator, found: Measure, node: Call) -> list[Array]:
    if found.arrays is not None:
        return found.arrays(read, node)
    listed: list[Array] = []
    for arg in node.args:
        listed.append(np.asarray(read.column(ChannelRef(arg.value) if isinstance(arg, Text) else arg)))
    return listed


def _cut(arrays: list[Array], first: int, last: int) -> list[Array]:
    return [array[first : last + 1] for array in arrays]


def _seconds(read: Evaluator) -> float:
    if read.names.rate is None:
        raise ClaimError("a time needs a rate, and none is known here; give one (--rate)")
    return float(1 / read.names.rate)
