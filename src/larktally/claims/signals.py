"""Signals on whole columns: the value of every expression in every row, each computed once."""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Any, TypeAlias, cast

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.claims import spans
from larktally.claims.kinds import setting_value, span_frames, states_below
from larktally.claims.tree import (
    Call,
    ChannelRef,
    Comparison,
    Flag,
    Membership,
    Node,
    Number,
    Operation,
    Text,
    to_text,
)
from larktally.claims.vocabulary import vocabulary_of
from larktally.errors import ClaimError
from larktally.traces.events import said_by
from larktally.traces.trace import Trace

__all__ = ["Reading"]

Array: TypeAlias = npt.NDArray[Any]

_ARITHMETIC: dict[str, Callable[[Any, Any], Any]] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.true_divide,
    "//": np.floor_divide,
    "%": np.mod,
    "**": np.power,
}
_COMPARES: dict[str, Callable[[Any, Any], Any]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "==": operator.eq,
    "!=": operator.ne,
}


class Reading:
    """A trace being read by claims: what one expression cost is not paid again by another.

    Numbers come as float64, conditions as bool, labels as int codes with the tuple they index. `other` is the reading of
    a second trace, which `same` compares with.
    """

    def __init__(self, trace: Trace, other: Trace | None = None) -> None:
        self.trace = trace
        self.other = Reading(other) if other is not None else None
        self.rows = trace.rows
        self.words = vocabulary_of(trace)
        self._known: dict[Node, Array] = {}

    def column(self, node: Node) -> Array:
        """A checked signal's value in every row: an array of R (of strings, where it is a label)."""
        with np.errstate(all="ignore"):
            found = self._full(node)
            labels = self._labels(node)
        return np.array(labels, dtype=object)[found] if labels is not None else found

    def flags(self, node: Node) -> npt.NDArray[np.bool_]:
        """A checked condition in every row."""
        with np.errstate(all="ignore"):
            return self._full(node)

    def numbers(self, node: Node) -> npt.NDArray[np.float64]:
        """A checked number in every row."""
        with np.errstate(all="ignore"):
            return self._full(node)

    def at(self, node: Node, row: int) -> float | bool | str:
        """A checked signal's plain value in one row."""
        return cast("float | bool | str", np.asarray(self.column(node))[row : row + 1].tolist()[0])

    def _full(self, node: Node) -> Array:
        found = self._value(node)
        return found if found.ndim else np.broadcast_to(found, self.rows)

    def _value(self, node: Node) -> Array:
        """The array of a node; a constant's has no rows of its own."""
        if node not in self._known:
            self._known[node] = self._compute(node)
        return self._known[node]

    def _compute(self, node: Node) -> Array:
        match node:
            case Number(value):
                return np.asarray(np.float64(value))
            case Flag(value):
                return np.asarray(np.bool_(value))
            case Text(value):
                return np.asarray(np.int32(0))
            case ChannelRef(name):
                stored = self.trace.columns[name].stored
                return stored.astype(np.float64) if stored.dtype == np.int64 else stored
            case Operation():
                return self._operation(node)
            case Comparison():
                return self._comparison(node)
            case Membership():
                return self._membership(node)
            case Call():
                return _CALLS[node.name](self, node)

    def _labels(self, node: Node) -> tuple[str, ...] | None:
        """The strings that a label's codes index, or None where the node is no label."""
        if isinstance(node, Text):
            return (node.value,)
        if isinstance(node, ChannelRef) and self.words.channels[node.name].kind == "label":
            return self.words.channels[node.name].labels or ("",)
        if isinstance(node, Call) and node.name in ("prev", "seen"):
            return self._labels(node.args[0])
        if isinstance(node, Call) and node.name == "param":
            value = _setting(self, node)
            return (value.value,) if isinstance(value, Text) else None
        return None

    def _operation(self, node: Operation) -> Array:
        values = [self._value(arg) for arg in node.args]
        if node.op == "neg":
            return np.negative(values[0])
        if node.op == "not":
            return np.logical_not(values[0])
        if node.op in ("and", "or"):
            fold = np.logical_and if node.op == "and" else np.logical_or
            out = fold(values[0], values[1])
            for value in values[2:]:
                out = fold(out, value)
            return np.asarray(out)
        return np.asarray(_ARITHMETIC[node.op](*values))

    def _comparison(self, node: Comparison) -> Array:
        out: Array | None = None
        for op, left, right in zip(node.ops, node.args, node.args[1:], strict=False):
            found = self._compare(op, left, right)
            out = found if out is None else np.logical_and(out, found)
        return cast(Array, out)

    def _compare(self, op: str, left: Node, right: Node) -> Array:
        labels = self._labels(left)
        if labels is None:
            return np.asarray(_COMPARES[op](self._value(left), self._value(right)))
        code_of = {label: code for code, label in enumerate(labels)}
        others = np.array([code_of.get(label, -1) for label in self._labels(right) or ()], dtype=np.int64)
        return np.asarray(_COMPARES[op](self._value(left), others[self._value(right)]))

    def _membership(self, node: Membership) -> Array:
        labels = self._labels(node.item)
        if labels is None:
            options = [self._value(option) for option in node.options]
            return np.asarray(np.isin(self._value(node.item), np.array([option.item() for option in options])))
        wanted = {option.value for option in node.options if isinstance(option, Text)}
        return np.array([label in wanted for label in labels])[self._value(node.item)]

    def input(self, node: Node) -> Array:
        """The values of a named action; 0 in every row where the script never named it."""
        name = node.value if isinstance(node, Text) else ""
        return self.trace.inputs.get(name, np.zeros(self.rows))


def _text(node: Node | None) -> str | None:
    return node.value if isinstance(node, Text) else None


def _setting(read: Reading, node: Call) -> Node:
    return setting_value(read.words, _text(node.args[0]) or "")


def _time(read: Reading, node: Call) -> Array:
    rate = read.words.rate
    if rate is None:
        raise ClaimError("time needs a rate")
    return np.arange(read.rows) * float(rate.denominator) / float(rate.numerator)


def _event_counts(read: Reading, node: Call) -> Array:
    return read.trace.events.counts(_text(node.args[0]) or "", _text(node.option("source")), read.rows)


def _data(read: Reading, node: Call) -> Array:
    out = np.full(read.rows, np.nan)
    events, name, field = read.trace.events, _text(node.args[0]), _text(node.args[1]) or ""
    source = _text(node.option("source"))
    for row, said, by, data in zip(events.rows, events.names, events.sources, events.data, strict=True):
        if said == name and said_by(by, source):
            value = msgspec.json.decode(data).get(field) if data else None
            out[row] = float(value) if isinstance(value, int | float) else np.nan
    return out


def _held(read: Reading, node: Call) -> Array:
    return np.asarray(np.abs(read.input(node.args[0])) >= 0.5)


def _pressed(read: Reading, node: Call) -> Array:
    return _began(_held(read, node))


def _released(read: Reading, node: Call) -> Array:
    return _began(~_held(read, node))


def _began(flags: Array) -> Array:
    out = np.zeros(len(flags), dtype=np.bool_)
    out[1:] = flags[1:] & ~flags[:-1]
    return out


def _in_state(read: Reading, node: Call) -> Array:
    labels = read._labels(node.args[0]) or ()
    below = np.zeros(max(len(labels), 1), dtype=np.bool_)
    below[states_below(labels, _text(node.args[1]) or "")] = True
    return np.asarray(below[read._value(node.args[0])])


def _prev(read: Reading, node: Call) -> Array:
    rows = span_frames(node.args[1], read.words) if len(node.args) > 1 else 1
    return spans.earlier(read._full(node.args[0]), rows)


def _seen(read: Reading, node: Call) -> Array:
    name = node.args[0].name if isinstance(node.args[0], ChannelRef) else None
    if name is None:
        raise ClaimError(f"seen takes a channel, not {to_text(node.args[0])}; write seen around each channel")
    noted = read.trace.columns.get(f"seen:{name}")
    if noted is None:
        raise ClaimError(
            f"seen({name}): this trace does not hold what its machines saw; record the sim with seen=True "
            "(a scenario whose claims say seen does so by itself; another subject's rules cannot be watched)"
        )
    return noted.stored.astype(np.float64) if noted.stored.dtype == np.int64 else noted.stored


def _changed(read: Reading, node: Call) -> Array:
    values = read._full(node.args[0])
    out = np.zeros(read.rows, dtype=np.bool_)
    out[1:] = values[1:] != values[:-1]
    return out


def _delta(read: Reading, node: Call) -> Array:
    values = read._full(node.args[0])
    out = np.zeros(read.rows)
    out[1:] = values[1:] - values[:-1]
    return out


def _since(read: Reading, node: Call) -> Array:
    last = spans.last_row(read._full(node.args[0]))
    return np.where(last >= 0, np.arange(read.rows) - last, np.inf)


def _latest(read: Reading, node: Call) -> Array:
    when = node.option("when")
    last = spans.last_row(read._full(cast(Node, when)))
    return np.where(last >= 0, read._full(node.args[0])[last], np.nan) if read.rows else np.zeros(0)


def _width(read: Reading, node: Call) -> int | None:
    last = node.option("last")
    return span_frames(last, read.words) if last else None


def _count(read: Reading, node: Call) -> Array:
    flags, since = read._full(node.args[0]), node.option("since")
    if since is None:
        return spans.window_count(flags, _width(read, node)).astype(np.float64)
    total = np.cumsum(flags, dtype=np.int64)
    start = spans.last_row(read._full(since))
    before = np.where(start > 0, total[np.maximum(start - 1, 0)], 0)
    return (total - before).astype(np.float64)


def _total(read: Reading, node: Call) -> Array:
    values, since = read._full(node.args[0]), node.option("since")
    if since is not None:
        return spans.sum_since(values, read._full(since))
    return spans.window_sum(values, _width(read, node))


def _fold(fold: np.ufunc) -> Callable[[Reading, Call], Array]:
    def folded(read: Reading, node: Call) -> Array:
        return spans.window_fold(read._full(node.args[0]), _width(read, node) or max(read.rows, 1), fold)

    return folded


def _mean(read: Reading, node: Call) -> Array:
    width = _width(read, node)
    counted = np.minimum(np.arange(1, read.rows + 1), width if width is not None else read.rows)
    return spans.window_sum(read._full(node.args[0]), width) / counted


def _per_row(function: Callable[..., Any]) -> Callable[[Reading, Call], Array]:
    return lambda read, node: np.asarray(function(*(read._value(arg) for arg in node.args)))


def _near(x: Array, y: Array, tolerance: Array) -> Array:
    return np.asarray(np.abs(x - y) <= tolerance)


def _param(read: Reading, node: Call) -> Array:
    value = _setting(read, node)
    return read._value(value)


_CALLS: dict[str, Callable[[Reading, Call], Array]] = {
    "param": _param,
    "frame": lambda read, node: np.arange(read.rows, dtype=np.float64),
    "time": _time,
    "abs": _per_row(np.abs),
    "min": _per_row(np.minimum),
    "max": _per_row(np.maximum),
    "near": _per_row(_near),
    "implies": _per_row(lambda p, q: np.logical_or(np.logical_not(p), q)),
    "event": lambda read, node: _event_counts(read, node) > 0,
    "events": lambda read, node: _event_counts(read, node).astype(np.float64),
    "data": _data,
    "held": _held,
    "pressed": _pressed,
    "released": _released,
    "value": lambda read, node: read.input(node.args[0]),
    "in_state": _in_state,
    "prev": _prev,
    "seen": _seen,
    "began": lambda read, node: _began(read._full(node.args[0])),
    "ended": lambda read, node: _began(~read._full(node.args[0])),
    "changed": _changed,
    "delta": _delta,
    "per_second": lambda read, node: _delta(read, node) * float(read.words.rate or 0),
    "lasted": lambda read, node: spans.run_length(read._full(node.args[0])).astype(np.float64),
    "since": _since,
    "latest": _latest,
    "count": _count,
    "total": _total,
    "highest": _fold(np.maximum),
    "lowest": _fold(np.minimum),
    "mean": _mean,
}
