"""Measures by their text, over one trace or several."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from larktally.errors import ClaimError
from larktally.language.columns import Evaluator
from larktally.language.functions import MEASURES
from larktally.language.functions.bounds import listed_over
from larktally.language.measuring import measured
from larktally.language.parsing import parse
from larktally.language.reading import evaluator, typecheck
from larktally.language.tree import Call
from larktally.traces.trace import Trace

__all__ = ["measure", "measured_over", "reading"]


def measure(trace: Trace, that: str) -> float:
    """The value of a measure, such as "apex('wick.y')" or "apex(wick.y, since=event('hop')) - 1", over a trace.

    Rows for what is counted in rows, seconds for times, the channel's own unit else; NaN where there is nothing to
    measure. Raises ClaimError for what is no measure.
    """
    found = reading(evaluator(trace), that)
    if isinstance(found, list):
        raise ClaimError(f"{that} is a measure of each span; measured_over lists them")
    return found


def measured_over(traces: Mapping[str, Trace], measures: Sequence[str]) -> dict[str, dict[str, float | list[float]]]:
    """Several measures over several traces: {trace's name: {measure: value}}.

    Of "each(a, m)" and "each(a, m, until=b)" the value is a list, a number for each row with a; NaN for a span that is open.
    """
    readings = {}
    for name, trace in traces.items():
        readings[name] = evaluator(trace)
    found: dict[str, dict[str, float | list[float]]] = {}
    for name, read in readings.items():
        found[name] = {that: reading(read, that) for that in measures}
    return found


def reading(read: Evaluator, that: str) -> float | list[float]:
    """The number of a measure, or a number for each span of one that is read off each."""
    node = parse(that)
    kind = typecheck(node, read.names, that)
    if kind == "list" and isinstance(node, Call):
        return listed_over(read, node)
    if kind != "measure":
        raise ClaimError(f"{that} is no measure; measures are {', '.join(MEASURES)}")
    return measured(read, MEASURES, node)
