"""Signals read off the events of a row."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.language.columns import Array, Evaluator, text_of
from larktally.language.function import Signal, arguments
from larktally.language.rows import RowCompiler, Where
from larktally.language.tree import Call
from larktally.language.typecheck import literal_of
from larktally.traces.events import carries, comes_from

__all__ = ["SIGNALS", "fields_wanted"]


def _source(node: Call) -> str | None:
    """The part that an event has to come from; None for any."""
    given = node.option("source")
    if given is None:
        return None
    return text_of(given)


def fields_wanted(node: Call) -> Where:
    """What the data of an event have to say: fields and values."""
    found = []
    for name, value in node.named:
        if name != "source":
            found.append((name, literal_of(value)))
    return tuple(found)


def _found(read: Evaluator, node: Call) -> Iterator[tuple[int, Mapping[str, Any]]]:
    """The row and data of each event that is meant, in order."""
    wanted, source, where = text_of(node.args[0]), _source(node), fields_wanted(node)
    # Most events of a name say the same few things: each text is read once.
    known: dict[str, dict[str, Any]] = {"": {}}
    for row, name, by, text in read.trace.events.fields():
        if name == wanted and comes_from(by, source):
            data = known.get(text)
            if data is None:
                data = known[text] = msgspec.json.decode(text)
            if carries(data, where):
                yield row, data


def _event_rows(read: Evaluator, node: Call) -> npt.NDArray[np.int64]:
    """The row of each event that is meant, in order."""
    if not fields_wanted(node):
        return read.trace.events.rows_named(text_of(node.args[0]), _source(node))
    return np.array([row for row, _ in _found(read, node)], dtype=np.int64)


def _events(read: Evaluator, node: Call) -> Array:
    return np.bincount(_event_rows(read, node), minlength=read.rows)[: read.rows].astype(np.float64)


def _event(read: Evaluator, node: Call) -> Array:
    out, rows = np.zeros(read.rows, dtype=np.bool_), _event_rows(read, node)
    out[rows[rows < read.rows]] = True
    return out


def _data_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return compiler.data_of_events(text_of(node.args[0]), _source(node), fields_wanted(node))


def _events_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    if not fields_wanted(node):
        return compiler.count_events(text_of(node.args[0]), _source(node))
    return compiler.call(len, _data_on_row(compiler, node))


def _event_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return ast.Compare(_events_on_row(compiler, node), [ast.Gt()], [ast.Constant(0)])


def _data(read: Evaluator, node: Call) -> Array:
    out, field = np.full(read.rows, np.nan), text_of(node.args[1])
    for row, data in _found(read, node):
        out[row] = _number(data, field)
    return out


def _number(data: Mapping[str, Any], field: str) -> float:
    value = data.get(field)
    if isinstance(value, int | float):
        return float(value)
    return float("nan")


def _string(data: Mapping[str, Any], field: str) -> str:
    value = data.get(field)
    if isinstance(value, str):
        return value
    return ""


def _last_number(listed: Sequence[Mapping[str, Any]], field: str) -> float:
    return _number(listed[-1] if listed else {}, field)


def _last_string(listed: Sequence[Mapping[str, Any]], field: str) -> str:
    return _string(listed[-1] if listed else {}, field)


def _strings(read: Evaluator, node: Call) -> tuple[str, ...]:
    """ "", and each string that was carried, in the order in which it was first seen."""
    field = text_of(node.args[1])
    return tuple(dict.fromkeys(["", *(_string(data, field) for _, data in _found(read, node))]))


def _text(read: Evaluator, node: Call) -> Array:
    out, field = np.zeros(read.rows, dtype=np.int32), text_of(node.args[1])
    codes: dict[str, int] = {"": 0}
    for row, data in _found(read, node):
        out[row] = codes.setdefault(_string(data, field), len(codes))
    return out


SIGNALS = (
    Signal(
        name="event",
        positional=arguments("name:event"),
        named=arguments("source:text?"),
        by_data=True,
        result="flag",
        meaning="it happened in this row, with these data",
        columns=_event,
        row=_event_on_row,
        observed=True,
    ),
    Signal(
        name="events",
        positional=arguments("name:event"),
        named=arguments("source:text?"),
        by_data=True,
        result="number",
        meaning="how many of them in this row",
        columns=_events,
        row=_events_on_row,
        observed=True,
    ),
    Signal(
        name="data",
        positional=arguments("name:event field:text"),
        named=arguments("source:text?"),
        by_data=True,
        result="number",
        meaning="the number that the row's last such event carried; NaN without one",
        columns=_data,
        row=lambda compiler, node: compiler.call(
            _last_number, _data_on_row(compiler, node), ast.Constant(text_of(node.args[1]))
        ),
        observed=True,
    ),
    Signal(
        name="text",
        positional=arguments("name:event field:text"),
        named=arguments("source:text?"),
        by_data=True,
        result="label",
        meaning="the string that the row's last such event carried; '' without one",
        columns=_text,
        strings=_strings,
        row=lambda compiler, node: compiler.call(
            _last_string, _data_on_row(compiler, node), ast.Constant(text_of(node.args[1]))
        ),
        observed=True,
    ),
)
