"""The Python form of the claim language: calls and operators that build the same tree as the text.

`always(implies(event("hop"), prev(ch("wick.grounded"))))`. Conditions join with & | ~, each comparison in its own
parentheses; Python itself runs `and`, `or`, `not`, `in` and chained comparisons, so these raise, with the right form.
"""

from __future__ import annotations

from typing import NoReturn, TypeAlias

from larktally.errors import ClaimError
from larktally.language.function import Function, signature
from larktally.language.functions import FUNCTIONS
from larktally.language.parsing import misfit
from larktally.language.tree import ChannelRef, Compare, Flag, Membership, Node, Number, Operation, Text, to_text

__all__ = ["Form", "ch", "form_of", "function_names", "to_node"]

Operand: TypeAlias = "Form | float | str | bool"


class Form:
    """An expression being written in Python; `tree` is what it says, str() its text."""

    __slots__ = ("tree",)
    __hash__ = None  # type: ignore[assignment]

    def __init__(self, tree: Node) -> None:
        self.tree = tree

    def __str__(self) -> str:
        return to_text(self.tree)

    def __repr__(self) -> str:
        return f"<{self}>"

    def one_of(self, *options: float | str) -> Form:
        """x in (options): the Python form of `in`."""
        return Form(Membership(self.tree, tuple(to_node(option) for option in options)))

    def __add__(self, other: Operand) -> Form:
        return _operation("+", self, other)

    def __radd__(self, other: Operand) -> Form:
        return _operation("+", other, self)

    def __sub__(self, other: Operand) -> Form:
        return _operation("-", self, other)

    def __rsub__(self, other: Operand) -> Form:
        return _operation("-", other, self)

    def __mul__(self, other: Operand) -> Form:
        return _operation("*", self, other)

    def __rmul__(self, other: Operand) -> Form:
        return _operation("*", other, self)

    def __truediv__(self, other: Operand) -> Form:
        return _operation("/", self, other)

    def __rtruediv__(self, other: Operand) -> Form:
        return _operation("/", other, self)

    def __floordiv__(self, other: Operand) -> Form:
        return _operation("//", self, other)

    def __mod__(self, other: Operand) -> Form:
        return _operation("%", self, other)

    def __pow__(self, other: Operand) -> Form:
        return _operation("**", self, other)

    def __neg__(self) -> Form:
        return _operation("neg", self)

    def __and__(self, other: Operand) -> Form:
        return _operation("and", self, other)

    def __or__(self, other: Operand) -> Form:
        return _operation("or", self, other)

    def __invert__(self) -> Form:
        return _operation("not", self)

    def __lt__(self, other: Operand) -> Form:
        return _comparison("<", self, other)

    def __le__(self, other: Operand) -> Form:
        return _comparison("<=", self, other)

    def __gt__(self, other: Operand) -> Form:
        return _comparison(">", self, other)

    def __ge__(self, other: Operand) -> Form:
        return _comparison(">=", self, other)

    def __eq__(self, other: object) -> Form:  # type: ignore[override]
        return _comparison("==", self, other)

    def __ne__(self, other: object) -> Form:  # type: ignore[override]
        return _comparison("!=", self, other)

    def __bool__(self) -> NoReturn:
        raise ClaimError(
            f"{self} has no truth of its own before a trace is read: write p & q, p | q, ~p for and, or, not; "
            "(a < x) & (x < b) for a < x < b; x.one_of('a', 'b') for in; each comparison in its own parentheses"
        )

    def __contains__(self, item: object) -> bool:
        raise ClaimError("'in' cannot be built in Python; write x.one_of('a', 'b')")


def form_of(name: str) -> _FormOf:
    """A function of the language as a call in Python; raises AttributeError where there is none of that name."""
    if name not in FUNCTIONS:
        raise AttributeError(f"the claim language has no function {name!r}")
    return _FormOf(FUNCTIONS[name])


def function_names() -> list[str]:
    """The names of all functions of the language."""
    return list(FUNCTIONS)


class _FormOf:
    """One function of the language, as a call in Python."""

    def __init__(self, function: Function) -> None:
        self._function = function
        self.__name__ = function.name
        self.__doc__ = f"{signature(function)}: {function.meaning}."

    def __call__(self, *args: Operand, **named: Operand) -> Form:
        nodes = {}
        for name, value in named.items():
            nodes[name] = to_node(value)
        if why := misfit(self._function, len(args), nodes):
            raise ClaimError(why)
        return Form(self._function.call(tuple(map(to_node, args)), nodes))

    def __repr__(self) -> str:
        return f"<{self.__doc__}>"


def ch(name: Operand) -> Form:
    """A channel by its name."""
    if not isinstance(name, str):
        raise ClaimError(f"ch takes a channel's name, not {name!r}")
    return Form(ChannelRef(name))


def to_node(value: object) -> Node:
    """The node of a form or of a plain Python value."""
    if isinstance(value, Form):
        return value.tree
    if isinstance(value, bool):
        return Flag(value)
    if isinstance(value, int | float) and value == value and abs(value) != float("inf"):
        negative = value < 0 or str(value).startswith("-")
        if negative:
            return Operation("neg", (Number(-value),))
        return Number(value)
    if isinstance(value, str):
        return Text(value)
    raise ClaimError(f"{value!r} cannot stand in a claim; signals, finite numbers, strings and flags can")


def _operation(op: str, *args: object) -> Form:
    return Form(Operation(op, tuple(map(to_node, args))))


def _comparison(op: str, *args: object) -> Form:
    return Form(Compare((op,), tuple(map(to_node, args))))
