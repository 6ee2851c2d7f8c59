"""Signals over many of a kind: how many, whether all or any, the least and the greatest. An absent slot of a pool counts not."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from larktally.language.columns import Array, Evaluator, text_of
from larktally.language.function import Signal, arguments
from larktally.language.names import Names, matching_names
from larktally.language.rows import RowCompiler
from larktally.language.tree import IT, Call, ChannelRef, Compare, Membership, Node, Operation, Text, to_text, walk
from larktally.language.typecheck import Checker
from larktally.names import did_you_mean
from larktally.textfmt import shown_value

__all__ = ["SIGNALS"]


class _One(NamedTuple):
    """One of the many: its name, what is asked of it, and the channel that says whether it is there, if any does."""

    name: str
    node: Node
    present: ChannelRef | None


def _each_of(names: Names, node: Call) -> list[_One]:
    found = []
    for name in matching_names(text_of(node.args[0]), names.channels):
        found.append(_One(name, _filled_in(node.args[1], name), _presence(names, name)))
    return found


def _presence(names: Names, name: str) -> ChannelRef | None:
    """The channel that says whether a slot is taken: its own, or that of the slot that it is a part of."""
    segments = name.split(".")
    for n in range(len(segments), 0, -1):
        channel = ".".join([*segments[:n], "present"])
        if channel in names.channels and names.channels[channel].kind == "flag":
            return ChannelRef(channel)
    return None


def _filled_in(node: Node, name: str) -> Node:
    """A tree with a name in place of {it}, in channels and in texts."""

    def filled(one: Node) -> Node:
        return _filled_in(one, name)

    match node:
        case ChannelRef(channel):
            return ChannelRef(channel.replace(IT, name), node.place)
        case Text(value):
            return Text(value.replace(IT, name), node.place)
        case Operation(op, args):
            return Operation(op, tuple(map(filled, args)), node.place)
        case Compare(ops, args):
            return Compare(ops, tuple(map(filled, args)), node.place)
        case Membership(item, options):
            return Membership(filled(item), tuple(map(filled, options)), node.place)
        case Call(called, args, named):
            in_order = tuple((key, filled(value)) for key, value in named)
            return Call(called, tuple(map(filled, args)), in_order, node.place)
    return node


def _fits(wanted: str) -> Callable[[Checker, Call], None]:
    def fits(checker: Checker, node: Call) -> None:
        pattern, template = node.args
        matching = matching_names(text_of(pattern), checker.names.channels)
        if not matching:
            parts = {name.rpartition(".")[0] for name in checker.names.channels}
            near = did_you_mean(text_of(pattern), parts)
            checker.fail(pattern, f"{text_of(pattern)!r} matches nothing in {checker.names.where}{near}")
        if not any(
            IT in one.name if isinstance(one, ChannelRef) else isinstance(one, Text) and IT in one.value
            for one in walk(template)
        ):
            checker.fail(template, f"{to_text(template)} says the same of each: one of them is written {IT}")
        if any(isinstance(one, Call) and one.name in _NAMES for one in walk(template)):
            checker.fail(template, f"what is asked of each asks of many in turn; {IT} would be either")
        for one in _each_of(checker.names, node):
            checker.want(one.node, wanted, node.name)

    return fits


def _there(read: Evaluator, one: _One) -> npt.NDArray[np.bool_]:
    if one.present is None:
        return np.ones(read.rows, dtype=np.bool_)
    return read.flags(one.present)


def _holding(read: Evaluator, node: Call) -> list[npt.NDArray[np.bool_]]:
    """For each of them the rows in which it is there and p holds of it."""
    return [_there(read, one) & read.flags(one.node) for one in _each_of(read.names, node)]


def _how_many(read: Evaluator, node: Call) -> Array:
    return np.asarray(np.sum(_holding(read, node), axis=0), dtype=np.float64)


def _any_of(read: Evaluator, node: Call) -> Array:
    return np.asarray(np.logical_or.reduce(_holding(read, node)))


def _all_of(read: Evaluator, node: Call) -> Array:
    kept = [~_there(read, one) | read.flags(one.node) for one in _each_of(read.names, node)]
    return np.asarray(np.logical_and.reduce(kept))


def _extreme(fold: np.ufunc, beyond: float) -> Callable[[Evaluator, Call], Array]:
    def extreme(read: Evaluator, node: Call) -> Array:
        out, some = np.full(read.rows, beyond), np.zeros(read.rows, dtype=np.bool_)
        for one in _each_of(read.names, node):
            there = _there(read, one)
            some |= there
            out = np.where(there, fold(out, read.numbers(one.node)), out)
        return np.where(some, out, np.nan)

    return extreme


def _present_on_row(compiler: RowCompiler, one: _One) -> ast.expr | None:
    if one.present is None:
        return None
    return compiler.make(one.present)


def _holding_on_row(compiler: RowCompiler, node: Call) -> list[ast.expr]:
    tests: list[ast.expr] = []
    for one in _each_of(compiler.names, node):
        present, test = _present_on_row(compiler, one), compiler.make(one.node)
        tests.append(test if present is None else ast.BoolOp(ast.And(), [present, test]))
    return tests


def _how_many_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return compiler.call(_counted, *_holding_on_row(compiler, node))


def _counted(*tests: object) -> float:
    return float(sum(map(bool, tests)))


def _either(tests: list[ast.expr], op: ast.boolop) -> ast.expr:
    if len(tests) == 1:
        return tests[0]
    return ast.BoolOp(op, tests)


def _any_of_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return _either(_holding_on_row(compiler, node), ast.Or())


def _all_of_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    tests: list[ast.expr] = []
    for one in _each_of(compiler.names, node):
        present, test = _present_on_row(compiler, one), compiler.make(one.node)
        if present is not None:
            test = ast.BoolOp(ast.Or(), [ast.UnaryOp(ast.Not(), present), test])
        tests.append(test)
    return _either(tests, ast.And())


def _extreme_on_row(pick: Callable[..., float]) -> Callable[[RowCompiler, Call], ast.expr]:
    def on_row(compiler: RowCompiler, node: Call) -> ast.expr:
        values: list[ast.expr] = []
        for one in _each_of(compiler.names, node):
            present, value = _present_on_row(compiler, one), compiler.number(one.node)
            values.append(value if present is None else ast.IfExp(present, value, ast.Constant(None)))
        return compiler.call(pick, *values)

    return on_row


def _known(values: Sequence[float | None]) -> list[float]:
    """The values of those that are there; NaN alone where one of them is NaN, or none is there."""
    found = [float(value) for value in values if value is not None]
    if not found or any(value != value for value in found):
        return [math.nan]
    return found


def _least(*values: float | None) -> float:
    return min(_known(values))


def _greatest(*values: float | None) -> float:
    return max(_known(values))


def _which_hold(wanted: bool) -> Callable[[Evaluator, Call, int], str]:
    """Those of which p holds in a row, or does not."""

    def which(read: Evaluator, node: Call, row: int) -> str:
        named = []
        for one in _each_of(read.names, node):
            if _there(read, one)[row] and bool(read.flags(one.node)[row]) is wanted:
                named.append(one.name)
        return ", ".join(named) or "none"

    return which


def _which_is(read: Evaluator, node: Call, row: int) -> str:
    """Which of them has the value."""
    value = read.at(node, row)
    for one in _each_of(read.names, node):
        if _there(read, one)[row] and read.at(one.node, row) == value:
            return one.name
    return f"of {shown_value(value)} none"


_NAMES = ("how_many", "all_of", "any_of", "least_of", "greatest_of")
SIGNALS = (
    Signal(
        name="how_many",
        positional=arguments("pattern:text p:template"),
        result="number",
        meaning="of how many parts or channels that match p holds; {it} in p is one of them",
        fits=_fits("flag"),
        columns=_how_many,
        row=_how_many_on_row,
        which=_which_hold(True),
        observed=True,
    ),
    Signal(
        name="all_of",
        positional=arguments("pattern:text p:template"),
        result="flag",
        meaning="p holds of each of them that is there",
        fits=_fits("flag"),
        columns=_all_of,
        row=_all_of_on_row,
        which=_which_hold(False),
        observed=True,
    ),
    Signal(
        name="any_of",
        positional=arguments("pattern:text p:template"),
        result="flag",
        meaning="p holds of one of them at least",
        fits=_fits("flag"),
        columns=_any_of,
        row=_any_of_on_row,
        which=_which_hold(True),
        observed=True,
    ),
    Signal(
        name="least_of",
        positional=arguments("pattern:text x:template"),
        result="number",
        meaning="the least x of those that are there; NaN where none is",
        fits=_fits("number"),
        columns=_extreme(np.minimum, np.inf),
        row=_extreme_on_row(_least),
        which=_which_is,
        observed=True,
    ),
    Signal(
        name="greatest_of",
        positional=arguments("pattern:text x:template"),
        result="number",
        meaning="the greatest x of those that are there; NaN where none is",
        fits=_fits("number"),
        columns=_extreme(np.maximum, -np.inf),
        row=_extreme_on_row(_greatest),
        which=_which_is,
        observed=True,
    ),
)
