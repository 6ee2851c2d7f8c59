"""Measures by their text, over one trace or several."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from larktally.errors import ClaimError
from larktally.language.columns import Evaluator
from larktally.language.functions import MEASURES
from larktally.language.measuring import measured
from larktally.language.reading import evaluator, typecheck
from larktally.language.text import parse
from larktally.traces.trace import Trace

__all__ = ["measure", "measured_over"]


def measure(trace: Trace, that: str) -> float:
    """The value of a measure, such as "apex('wick.y')" or "longest(in_state(wick.gait, 'airborne'))", over a trace.

    Rows for what is counted in rows, seconds for times, the channel's own unit else; NaN where there is nothing to
    measure. Raises ClaimError for what is no measure.
    """
    return _measure(evaluator(trace), that)


def measured_over(traces: Mapping[str, Trace], measures: Sequence[str]) -> dict[str, dict[str, float]]:
    """Several measures over several traces: {trace's name: {measure: value}}."""
    readings = {}
    for name, trace in traces.items():
        readings[name] = evaluator(trace)
    found: dict[str, dict[str, float]] = {}
    for name, read in readings.items():
        found[name] = {that: _measure(read, that) for that in measures}
    return found


def _measure(read: Evaluator, that: str) -> float:
    node = parse(that)
    if typecheck(node, read.names, that) != "measure":
        raise ClaimError(f"{that} is no measure; measures are {', '.join(MEASURES)}")
    return measured(read, MEASURES, node)
