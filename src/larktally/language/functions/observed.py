"""Signals read off the events of a row."""

from __future__ import annotations

import ast

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.language.columns import Array, Evaluator, text_of
from larktally.language.function import Signal, arguments
from larktally.language.rows import RowCompiler
from larktally.language.tree import Call
from larktally.traces.events import comes_from

__all__ = ["SIGNALS"]


def _source(node: Call) -> str | None:
    """The part that an event has to come from; None for any."""
    given = node.option("source")
    if given is None:
        return None
    return text_of(given)


def _event_counts(read: Evaluator, node: Call) -> npt.NDArray[np.int64]:
    return read.trace.events.counts(text_of(node.args[0]), _source(node), read.rows)


def _events_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return compiler.count_events(text_of(node.args[0]), _source(node))


def _event_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return ast.Compare(_events_on_row(compiler, node), [ast.Gt()], [ast.Constant(0)])


def _data(read: Evaluator, node: Call) -> Array:
    out = np.full(read.rows, np.nan)
    events, wanted, field = read.trace.events, text_of(node.args[0]), text_of(node.args[1])
    source = _source(node)
    for row, name, by, data in events.fields():
        if name == wanted and comes_from(by, source):
            value = None
            if data:
                value = msgspec.json.decode(data).get(field)
            out[row] = np.nan
            if isinstance(value, int | float):
                out[row] = float(value)
    return out


SIGNALS = (
    Signal(
        name="event",
        positional=arguments("name:event"),
        named=arguments("source:text?"),
        result="flag",
        meaning="it happened in this row",
        columns=lambda read, node: np.asarray(_event_counts(read, node) > 0),
        row=_event_on_row,
        observed=True,
    ),
    Signal(
        name="events",
        positional=arguments("name:event"),
        named=arguments("source:text?"),
        result="number",
        meaning="how many of them in this row",
        columns=lambda read, node: _event_counts(read, node).astype(np.float64),
        row=_events_on_row,
        observed=True,
    ),
    Signal(
        name="data",
        positional=arguments("name:event field:text"),
        named=arguments("source:text?"),
        result="number",
        meaning="the number that the row's last such event carried; NaN without one",
        columns=_data,
        observed=True,
    ),
)
