"""Properties of measures: in their bounds over a whole run, or over each of many spans of rows."""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language.columns import COMPARES, Evaluator
from larktally.language.durations import with_frames
from larktally.language.function import Property, arguments
from larktally.language.functions.measures import MEASURES
from larktally.language.judgement import Breach, Judgement
from larktally.language.judging import pairs, row_text, waiting_for
from larktally.language.measuring import (
    Spans,
    each_span,
    measured_over_spans,
    measured_row,
    measures_in,
    whole_run,
)
from larktally.language.tree import Call, Compare, to_text
from larktally.language.typecheck import Checker
from larktally.textfmt import shown_value

__all__ = ["COMPARED", "PROPERTIES", "listed_over"]

Floats: TypeAlias = npt.NDArray[np.float64]
Bools: TypeAlias = npt.NDArray[np.bool_]
_MEASURES = {one.name: one for one in MEASURES}


class _Compared:
    """A comparison of measures over some spans: what each side came to, and which of its parts hold."""

    def __init__(self, read: Evaluator, node: Compare, spans: Spans) -> None:
        self.node, self.spans = with_frames(node, read.names), spans
        self.values = [measured_over_spans(read, _MEASURES, arg, spans) for arg in self.node.args]
        self.holds: list[Bools] = []
        with np.errstate(all="ignore"):
            for op, left, right in zip(self.node.ops, self.values, self.values[1:], strict=False):
                # What could not be measured is in no bounds, and not beyond any either.
                known = ~(np.isnan(left) | np.isnan(right))
                self.holds.append(np.asarray(COMPARES[op](left, right)) & known)

    @property
    def kept(self) -> Bools:
        """Of each span, whether all parts hold."""
        return np.asarray(np.logical_and.reduce(self.holds))

    def margin(self, chosen: Bools) -> float | None:
        """The least signed slack of the parts, over the spans chosen; None where one of them is no ordering."""
        if not set(self.node.ops) <= {"<", "<=", ">", ">="} or not chosen.any():
            return None
        found = np.inf
        with np.errstate(all="ignore"):
            for op, left, right in zip(self.node.ops, self.values, self.values[1:], strict=False):
                room = (right - left if op[0] == "<" else left - right)[chosen]
                # The difference of two infinities is none: equal sides have no slack, and no lack.
                same = (left == right)[chosen]
                room = np.where(np.isnan(room), np.where(same, 0.0, -np.inf), room)
                found = min(found, float(room.min()))
        return found

    def failed_measure(self, n: int) -> Call | None:
        """The first measure of the first part that fails in the n-th span."""
        for part, holds in enumerate(self.holds):
            if not holds[n]:
                for side in self.node.args[part : part + 2]:
                    for measure in measures_in(side, _MEASURES):
                        return measure
        return None


def _as_comparison(node: Call) -> Compare:
    """measured(m, low, high) as low <= m <= high; a comparison as it is."""
    if node.name == "measured":
        m, low, high = node.args
        return Compare(("<=", "<="), (low, m, high), node.place)
    found = node.args[0]
    assert isinstance(found, Compare)  # the type check has seen to it
    return found


def _whole(read: Evaluator, node: Call) -> Judgement:
    found = _Compared(read, _as_comparison(node), whole_run(read))
    margin = found.margin(np.ones(1, dtype=np.bool_))
    if found.kept[0]:
        return Judgement(1, slack=margin)
    measure, row = found.failed_measure(0), None
    # Only of a breach: looking for the row costs as much as measuring.
    if measure is not None:
        row = measured_row(read, _MEASURES, measure, found.spans, 0)
    return Judgement(1, 1, (Breach(None, row),), slack=margin)


def _told(read: Evaluator, compared: _Compared, n: int) -> str:
    """What the measures came to in the n-th span, and in which rows."""
    listed = []
    for measure in dict.fromkeys(measures_in(compared.node, _MEASURES)):
        value = float(measured_over_spans(read, _MEASURES, measure, compared.spans)[n])
        if np.isnan(value):
            listed.append(f"{to_text(measure)} found nothing to measure")
            continue
        where = ""
        row = measured_row(read, _MEASURES, measure, compared.spans, n)
        if row is not None:
            where = f" in {row_text(read, row)}"
            if _MEASURES[measure.name].spans:
                where = f" from {row_text(read, row)} on"
        listed.append(f"{to_text(measure)} = {shown_value(value)}{where}")
    return ", ".join(listed)


def _what_was_measured(read: Evaluator, node: Call) -> str:
    told = _told(read, _Compared(read, _as_comparison(node), whole_run(read)), 0)
    if node.name == "measured":
        low, high = (shown_value(read.at(arg, 0)) for arg in node.args[1:])
        if told.endswith("nothing to measure"):
            return f"{told}, where {low}..{high} was claimed"
        return f"{told}, which is not in {low}..{high}"
    return f"{told}, where {to_text(node.args[0])} was claimed"


def _spans_of(read: Evaluator, node: Call) -> Spans:
    return each_span(read, node.args[0], node.option("until"))


def _each(read: Evaluator, node: Call) -> Judgement:
    spans = _spans_of(read, node)
    compared = _Compared(read, _comparison_in(node), spans)
    wrong = spans.there & ~compared.kept
    failed = pairs(spans.starts[wrong], spans.ends[wrong])
    opened = spans.starts[~spans.there]
    # No row is sure to end a span: what it waits for may come at any time.
    waiting = waiting_for(opened, None)
    margin = compared.margin(spans.there)
    return Judgement(len(spans), int(np.count_nonzero(wrong)), failed, len(opened), margin, True, waiting)


def _comparison_in(node: Call) -> Compare:
    found = node.args[1]
    assert isinstance(found, Compare)  # the type check has seen to it
    return found


def listed_over(read: Evaluator, node: Call) -> list[float]:
    """The measure of each span of each(a, m): NaN for one that is open."""
    return [float(one) for one in measured_over_spans(read, _MEASURES, node.args[1], _spans_of(read, node))]


def _what_it_came_to(read: Evaluator, node: Call, breach: Breach) -> str:
    spans = _spans_of(read, node)
    places = np.flatnonzero(spans.starts == breach.trigger)
    if not len(places):
        return ""
    return f": {_told(read, _Compared(read, _comparison_in(node), spans), int(places[0]))}"


def _known_in(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The first row in which a breach is known; of a span that goes on to the end of the run none is."""
    until = node.option("until") is not None
    known = []
    for breach in judgement.breaches:
        if breach.row is not None:
            # Without `until` a span ends with the next one, which the row after it tells.
            known.append(breach.row if until else breach.row + 1)
    return min((row for row in known if row < read.rows), default=None)


def _kind_of_each(checker: Checker, node: Call) -> str:
    if isinstance(node.args[1], Compare):
        return "property"
    return "list"


#: A comparison of measures, which is a claim by itself: it has no name that a text could call.
COMPARED = Property(
    name="compared",
    positional=arguments("p:judged"),
    meaning="a comparison of measures holds",
    judge=_whole,
    reason=_what_was_measured,
)
PROPERTIES = (
    Property(
        name="measured",
        positional=arguments("m:measure low:constant high:constant"),
        meaning="low <= m <= high",
        judge=_whole,
        reason=_what_was_measured,
    ),
    Property(
        name="each",
        positional=arguments("a:flag p:judged"),
        named=arguments("until:flag?"),
        meaning="p, a comparison of measures, over the rows from each a on: to the first later row with b, or up to the next a",
        result=_kind_of_each,
        judge=_each,
        case=("span", "spans"),
        raised_by=lambda node: node.args[0],
        how=_what_it_came_to,
        final=_known_in,
    ),
)
