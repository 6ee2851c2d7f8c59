"""Evaluation on columns: the value of every expression in every row of a trace, each computed once.

`rows.py` computes the same per-row functions for a single frame, for guards; a differential test holds the two equal.
"""

from __future__ import annotations

import operator
from collections.abc import Callable, Container, Mapping
from typing import Protocol, TypeAlias, cast

import numpy as np
import numpy.typing as npt

from larktally.language.durations import frames_of, with_frames
from larktally.language.names import Names, names_of
from larktally.language.tree import Call, ChannelRef, Compare, Flag, Membership, Node, Number, Operation, Text, is_small
from larktally.traces.trace import Trace

__all__ = ["COMPARES", "Array", "ColumnFunction", "Evaluator", "Labels", "as_numbers", "text_of"]

Array: TypeAlias = npt.NDArray[np.generic]
Labels: TypeAlias = "tuple[str, ...] | None"


class ColumnFunction(Protocol):
    """What the evaluator needs of a function of the language."""

    def on_columns(self, read: Evaluator, node: Call) -> Array: ...
    def labels_of(self, names: Names, node: Call, inner: Callable[[Node], Labels]) -> Labels: ...
    def strings_of(self, read: Evaluator, node: Call) -> Labels: ...
    def slack_of(self, read: Evaluator, node: Call) -> npt.NDArray[np.float64] | None: ...


# float_power and not power: the latter takes the square root for x ** 0.5, and IEEE 754 wants another answer for -inf and -0.
_ARITHMETIC: dict[str, np.ufunc] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.true_divide,
    "//": np.floor_divide,
    "%": np.mod,
    "**": np.float_power,
}
COMPARES: dict[str, Callable[[Array, Array], object]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "==": operator.eq,
    "!=": operator.ne,
}


class Evaluator:
    """A trace being read by claims: what one expression cost is not paid again by another.

    Numbers come as float64, conditions as bool, labels as int codes with the tuple they index. `other` is the evaluator of
    a second trace, which `same` compares with; `functions` are those of the language, and `check` its type check.
    """

    def __init__(
        self,
        trace: Trace,
        functions: Mapping[str, ColumnFunction],
        check: Callable[[Node, Names], str],
        other: Trace | None = None,
    ) -> None:
        self.trace = trace
        self.functions = functions
        self.other = None
        if other is not None:
            self.other = Evaluator(other, functions, check)
        self.rows = trace.rows
        self.names = names_of(trace)
        self._check = check
        # By the tree itself, which compares by what it says: `wick.y > 16` in two claims is computed once.
        self._known: dict[Node, Array] = {}
        self._counted: dict[Node, int] = {}

    def kind(self, node: Node) -> str:
        """The kind of a tree that was checked against another trace only; raises ClaimError where it does not fit this one."""
        return self._check(node, self.names)

    def column(self, node: Node) -> Array:
        """A checked signal's value in every row: an array of R (of strings, where it is a label)."""
        with np.errstate(all="ignore"):
            found = self.full(node)
            labels = self.labels(node)
        if labels is None:
            return found
        return np.array(labels, dtype=object)[as_codes(found)]

    def flags(self, node: Node) -> npt.NDArray[np.bool_]:
        """A checked condition in every row."""
        with np.errstate(all="ignore"):
            return cast("npt.NDArray[np.bool_]", self.full(node))

    def count(self, node: Node) -> int:
        """In how many rows a checked condition holds: asked by every claim that shares it."""
        found = self._counted.get(node)
        if found is None:
            found = self._counted[node] = int(np.count_nonzero(self.flags(node)))
        return found

    def numbers(self, node: Node) -> npt.NDArray[np.float64]:
        """A checked number in every row."""
        with np.errstate(all="ignore"):
            return cast("npt.NDArray[np.float64]", self.full(node))

    def at(self, node: Node, row: int) -> float | bool | str:
        """A checked signal's plain value in one row."""
        return cast("float | bool | str", np.asarray(self.column(node))[row : row + 1].tolist()[0])

    def full(self, node: Node) -> Array:
        """The array of a node with all its rows, numbers or codes as they are."""
        found = self.value(node)
        # A constant has no rows of its own until someone needs them.
        if found.ndim:
            return found
        return np.broadcast_to(found, self.rows)

    def value(self, node: Node) -> Array:
        """The array of a node; a constant's has no rows of its own."""
        if node not in self._known:
            self._known[node] = self._compute(node)
        return self._known[node]

    def let_go(self, all_but: Container[Node]) -> None:
        """Drops the values of nodes that are not asked for any more; one that is after all is computed again."""
        for node in list(self._known):
            if node not in all_but:
                del self._known[node]

    def labels(self, node: Node) -> Labels:
        """The strings that a label's codes index, or None where the node is no label."""
        match node:
            case Text(value):
                return (value,)
            case ChannelRef(name):
                channel = self.names.channels[name]
                if channel.kind == "label":
                    return channel.labels or ("",)
                return None
            case Call(name):
                seen = self.functions[name].strings_of(self, node)
                if seen is not None:
                    return seen
                return self.functions[name].labels_of(self.names, node, self.labels)
        return None

    def frames(self, duration: Node) -> int:
        """The frames of a duration that was checked."""
        return frames_of(duration, self.names)

    def option_frames(self, node: Call, name: str) -> int | None:
        """The frames of a named argument, None where it is left out."""
        given = node.option(name)
        if given is None:
            return None
        return self.frames(given)

    def input(self, node: Node) -> npt.NDArray[np.float64]:
        """The values of a named action; 0 in every row where the script never named it."""
        return self.trace.inputs.get(text_of(node), np.zeros(self.rows))

    def _compute(self, node: Node) -> Array:
        match node:
            case Number(value):
                return np.asarray(np.float64(value))
            case Flag(value):
                return np.asarray(np.bool_(value))
            # A text compared with a label becomes a code; alone it is the one label of its own list.
            case Text():
                return np.asarray(np.int32(0))
            case ChannelRef(name):
                return as_numbers(self.trace.columns[name].stored)
            case Operation():
                return self._operation(node)
            case Compare():
                return self._comparison(node)
            case Membership():
                return self._membership(node)
            case Call(name):
                return self.functions[name].on_columns(self, node)

    def _operation(self, node: Operation) -> Array:
        values = [self.value(arg) for arg in node.args]
        if node.op == "neg":
            return np.asarray(np.negative(values[0]))
        if node.op == "not":
            return np.asarray(np.logical_not(values[0]))
        if node.op in ("and", "or"):
            fold: np.ufunc = np.logical_or
            if node.op == "and":
                fold = np.logical_and
            out = fold(values[0], values[1])
            for value in values[2:]:
                out = fold(out, value)
            return np.asarray(out)
        return np.asarray(_ARITHMETIC[node.op](*values))

    def _comparison(self, node: Compare) -> Array:
        node = with_frames(node, self.names)
        pairs = zip(node.ops, node.args, node.args[1:], strict=False)
        # `0 < x < 9` is both of its halves; each of them costs one array.
        first, *others = [self._compare(op, left, right) for op, left, right in pairs]
        for one in others:
            first = np.asarray(np.logical_and(first, one))
        return first

    def _compare(self, op: str, left: Node, right: Node) -> Array:
        compare, labels = COMPARES[op], self.labels(left)
        if labels is None:
            return np.asarray(compare(*self._sides(left, right)))
        # Two label channels number their labels each in their own way: the right one's codes become the left one's.
        code_of = {}
        for code, label in enumerate(labels):
            code_of[label] = code
        others = np.array([code_of.get(label, -1) for label in self.labels(right) or ()], dtype=np.int32)
        return np.asarray(compare(self.value(left), others[as_codes(self.value(right))]))

    def _sides(self, left: Node, right: Node) -> tuple[Array, Array]:
        """Both sides of a comparison of numbers. Beside a small whole number a count is compared as it is stored, as a guard has
        it, which spares a pass over memory."""
        if self._counts(left) and is_small(right):
            return self._stored(left), self._whole(right)
        if self._counts(right) and is_small(left):
            return self._whole(left), self._stored(right)
        return self.value(left), self.value(right)

    def _counts(self, node: Node) -> bool:
        return isinstance(node, ChannelRef) and self._stored(node).dtype == np.int64

    def _stored(self, node: Node) -> Array:
        assert isinstance(node, ChannelRef)  # asked of channels alone
        return self.trace.columns[node.name].stored

    def _whole(self, node: Node) -> Array:
        """A number: a whole one as int64, so that no column is turned into float64 for it."""
        assert isinstance(node, Number)  # asked of numbers alone
        if node.value == int(node.value):
            return np.asarray(np.int64(node.value))
        return self.value(node)

    def _membership(self, node: Membership) -> Array:
        labels = self.labels(node.item)
        if labels is None:
            # Numbers are compared as float64 here as everywhere, so that `n in (3,)` is `n == 3`.
            options = [self.value(option).item() for option in node.options]
            return np.asarray(np.isin(self.value(node.item), np.array(options)))
        wanted = set()
        for option in node.options:
            if isinstance(option, Text):
                wanted.add(option.value)
        return np.array([label in wanted for label in labels])[as_codes(self.value(node.item))]


def as_codes(found: Array) -> npt.NDArray[np.int32]:
    """A label's array as the codes that it is: said for the type checker, and nothing is copied."""
    return cast("npt.NDArray[np.int32]", found)


def as_numbers(stored: Array) -> Array:
    """A stored column as the language computes with it: whole numbers are float64, everything else stays."""
    # Beyond 2**53 this rounds; so does a guard, and the test of both goes there.
    if stored.dtype == np.int64:
        return stored.astype(np.float64)
    return stored


def text_of(node: Node | None) -> str:
    """The string of a name in quotes; "" for anything else."""
    if isinstance(node, Text):
        return node.value
    return ""
