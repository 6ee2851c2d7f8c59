"""Durations of the claim language: 9, '9f', '0.35s', and sums and multiples of them with numbers of the model."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from larktally.errors import LarkTallyError
from larktally.language.names import Names
from larktally.language.tree import Call, ChannelRef, Compare, Node, Number, Operation, Text, to_text
from larktally.names import unknown_name
from larktally.timing import exact_frames, frames_in

__all__ = ["frames_of", "whole_of", "with_frames"]

_ARITHMETIC = ("+", "-", "*")
# Signals that count rows whatever they are asked of, and those that pass on what another one counts.
_COUNTS = frozenset({"since", "lasted", "count"})
_PASSES_ON = frozenset({"prev", "seen", "latest", "delta", "abs", "min", "max", "highest", "lowest"})
_ROW_MEASURES = frozenset(
    ("settling", "first_row", "last_row", "rows_with", "air_time", "longest", "shortest", "longest_gap", "shortest_gap")
)


def frames_of(node: Node, names: Names, *, least: int = 0, what: str = "duration") -> int:
    """The frames of a duration, exactly: times become fractions of a frame first, then the arithmetic.

    Raises LarkTallyError for what is no duration, or no whole number of frames that is at least `least`.
    """
    if isinstance(node, Text):
        return frames_in(node.value, names.rate, least=least, what=what)
    frames, _ = _exact(node, names, what)
    if frames.denominator != 1 or frames < least:
        raise LarkTallyError(
            f"{what} {to_text(node)} is {_shown(frames)} frames; it has to be a whole number, at least {least}"
        )
    return int(frames)


def whole_of(node: Node, names: Names, *, what: str) -> int:
    """A whole number, 0 or more: a number, one of the model's, or a sum or multiple of such."""
    if not all(_is_param(one) or (isinstance(one, Number) and float(one.value).is_integer()) for one in _leaves(node)):
        raise LarkTallyError(f"{what} is a whole number of rows, 0 or more, not {to_text(node)}")
    value, _ = _exact(node, names, what)
    if value.denominator != 1 or value < 0:
        raise LarkTallyError(f"{what} is a whole number of rows, 0 or more, not {_shown(value)}")
    return int(value)


def with_frames(node: Compare, names: Names) -> Compare:
    """A comparison in which a duration beside what counts rows has become the number of its frames.

    Raises LarkTallyError where that is no whole number.
    """
    if not any(isinstance(arg, Text | Operation) for arg in node.args):
        return node
    args = list(node.args)
    for n, arg in enumerate(node.args):
        neighbours = node.args[max(n - 1, 0) : n] + node.args[n + 1 : n + 2]
        if _is_duration(arg) and any(_counts_rows(one, names) for one in neighbours):
            exact, _ = _exact(arg, names, "duration")
            if exact.denominator != 1:
                raise LarkTallyError(f"{to_text(arg)} is {_shown(exact)} frames, and rows are whole")
            number: Node = Number(abs(int(exact)), arg.place)
            args[n] = number if exact >= 0 else Operation("neg", (number,), arg.place)
    if args == list(node.args):
        return node
    return Compare(node.ops, tuple(args), node.place)


def _exact(node: Node, names: Names, what: str) -> tuple[Fraction, bool]:
    """The frames of a duration, and whether it is one: a bare number may be a factor too."""
    match node:
        case Number(value) if float(value).is_integer():
            return Fraction(int(value)), False
        case Text(value):
            return exact_frames(value, names.rate, what=what), True
        case Call("param", (Text(name),)):
            return _param(name, names, what)
        case Operation("neg", (arg,)):
            found, timed = _exact(arg, names, what)
            return -found, timed
        case Operation(op, (left, right)) if op in _ARITHMETIC:
            first, one = _exact(left, names, what)
            second, other = _exact(right, names, what)
            if op == "*":
                if one and other:
                    raise LarkTallyError(f"{what}: two durations are not multiplied: {to_text(node)}")
                return first * second, one or other
            return (first + second if op == "+" else first - second), one or other
    raise LarkTallyError(
        f"{what}: a duration is written 9, '9f' or '0.35s', or of such and param('name') with + - *, not {to_text(node)}"
    )


def _param(name: str, names: Names, what: str) -> tuple[Fraction, bool]:
    if name not in names.settings:
        raise LarkTallyError(f"{what}: {unknown_name('param', name, names.settings)}")
    value = names.settings[name]
    if isinstance(value, str):
        return exact_frames(value, names.rate, what=f"param {name!r}:"), True
    if isinstance(value, bool) or not isinstance(value, int | float) or value - value != 0:
        raise LarkTallyError(f"{what}: param {name!r} is {value!r}, and no number of frames")
    return Fraction(value), False


def _is_duration(node: Node) -> bool:
    """Whether a side of a comparison is written as a duration: a text, or arithmetic with one, and no signal."""
    leaves = _leaves(node)
    plain = all(isinstance(one, Text | Number) or _is_param(one) for one in leaves)
    return plain and any(isinstance(one, Text) for one in leaves)


def _leaves(node: Node) -> Sequence[Node]:
    """What an arithmetic expression is made of."""
    if isinstance(node, Operation) and node.op in (*_ARITHMETIC, "neg"):
        found: list[Node] = []
        for arg in node.args:
            found += _leaves(arg)
        return found
    return [node]


def _is_param(node: Node) -> bool:
    return isinstance(node, Call) and node.name == "param"


def _counts_rows(node: Node, names: Names) -> bool:
    """Whether the value of a node is a number of rows."""
    match node:
        case ChannelRef(name):
            channel = names.channels.get(name)
            return channel is not None and channel.kind == "count" and name.rpartition(".")[2] in ("left", "age")
        case Call(name, args):
            passed_on = name in _PASSES_ON and any(_counts_rows(arg, names) for arg in args)
            return name in _COUNTS or name in _ROW_MEASURES or passed_on
        case Operation(op, args) if op in (*_ARITHMETIC, "neg"):
            return any(_counts_rows(arg, names) for arg in args)
    return False


def _shown(value: Fraction) -> str:
    return f"{float(value):.6g}"
