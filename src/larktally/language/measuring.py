"""Reading a measure off a trace: its number, and the row that it was read off."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from larktally.errors import ClaimError
from larktally.language.columns import Array, Evaluator
from larktally.language.function import Measure
from larktally.language.tree import Call, ChannelRef, Node, Text, to_text

__all__ = ["measured", "measured_row"]


def measured(read: Evaluator, measures: Mapping[str, Measure], node: Node) -> float:
    """The number of a checked measure over the whole trace; NaN where there is nothing to measure."""
    found = _measure_of(measures, node)
    if not read.rows:
        return np.nan
    with np.errstate(all="ignore"):
        value = float(found.value(*_arguments(read, node)))
    if found.per_second:
        return value * _seconds(read)
    return value


def measured_row(read: Evaluator, measures: Mapping[str, Measure], node: Node) -> int | None:
    """The row that a measure's number was read off, or in which the stretch or gap that it is begins; None where no single
    row has it."""
    found = _measure_of(measures, node)
    if found.row is None or not read.rows:
        return None
    with np.errstate(all="ignore"):
        return found.row(*_arguments(read, node))


def _measure_of(measures: Mapping[str, Measure], node: Node) -> Measure:
    if not isinstance(node, Call) or node.name not in measures:
        raise ClaimError(f"{to_text(node)} is no measure; measures are {', '.join(measures)}")
    return measures[node.name]


def _arguments(read: Evaluator, node: Node) -> list[Array]:
    if isinstance(node, Call):
        args = node.args
    else:
        args = ()
    found: list[Array] = []
    for arg in args:
        found.append(np.asarray(read.column(ChannelRef(arg.value) if isinstance(arg, Text) else arg)))
    return found


def _seconds(read: Evaluator) -> float:
    if read.names.rate is None:
        raise ClaimError("a time needs a rate, and none is known here; give one (--rate)")
    return float(1 / read.names.rate)
