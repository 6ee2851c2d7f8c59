"""A function of the claim language: one object that is all of it.

Its arguments and what they take, its result, how it is checked, computed on columns and on a row, judged, measured, and how
a breach of it is told. Reading, type checking, both evaluators, the Python form, the stories and the docs' tables go by these
objects; a new function is one object more, in `functions/`.
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping, Sequence
from typing import Any, ClassVar, Literal, TypeAlias

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.language.columns import Array, Evaluator, Labels
from larktally.language.judgement import Breach, Judgement
from larktally.language.names import Names
from larktally.language.rows import RowCompiler
from larktally.language.tree import Call, Node, Place
from larktally.language.typecheck import Checker

__all__ = ["Argument", "Family", "Function", "Measure", "Property", "Signal", "Slack", "arguments", "signature"]

Family: TypeAlias = Literal["signal", "property", "measure"]
Slack: TypeAlias = "npt.NDArray[np.float64] | None"


class Argument(msgspec.Struct, frozen=True):
    """One argument.

    `takes` is a kind of signal (number, flag, any, label), a name in quotes (channel, event, action, param, field,
    state, text), literal (a string, a number or a flag), clock (a clock's name, or a flag that stands for its ticks), quantity
    (a number, or a channel's name in quotes), compared (any signal, or a channel's name in quotes),
    constant, measure, judged (a comparison of measures, or a measure), span0 and span1 (durations from 0 and from 1 frame on) or
    whole (a number of rows), template (a signal with {it} in it).
    """

    name: str
    takes: str
    needed: bool = True


def arguments(text: str) -> tuple[Argument, ...]:
    """Arguments as the tables write them: "x:number n:span0?", a question mark after what may be left out."""
    found = []
    for word in text.split():
        name, takes = word.split(":")
        found.append(Argument(name, takes.rstrip("?"), not takes.endswith("?")))
    return tuple(found)


class Function(msgspec.Struct, frozen=True, kw_only=True):
    """What all functions have: a name, a meaning in one line, arguments by position and by name; `many` takes any number of
    its one argument, two at least; `by_data` any further named ones, each a field of an event's data and what it has to be;
    `fits` checks what single arguments do not say."""

    name: str
    meaning: str
    positional: tuple[Argument, ...] = ()
    named: tuple[Argument, ...] = ()
    many: bool = False
    by_data: bool = False
    fits: Callable[[Checker, Call], None] | None = None
    family: ClassVar[Family] = "signal"

    def arguments_of(self, node: Call) -> Sequence[tuple[Argument, Node]]:
        """Each argument of a call with what it takes."""
        expected = self.positional
        if self.many:
            expected = self.positional * len(node.args)
        pairs = list(zip(expected, node.args, strict=False))
        given = dict(node.named)
        for one in self.named:
            if one.name in given:
                pairs.append((one, given.pop(one.name)))
        for name, value in given.items():
            pairs.append((Argument(name, "literal"), value))
        return pairs

    def call(self, args: tuple[Node, ...], named: Mapping[str, Node], place: Place = (0, 0)) -> Node:
        """The node that a call of it is; named arguments in the order of its table, so that equal calls are equal trees."""
        listed = []
        for one in self.named:
            if one.name in named:
                listed.append((one.name, named[one.name]))
        declared = {one.name for one in self.named}
        listed += sorted((name, value) for name, value in named.items() if name not in declared)
        in_order = tuple(listed)
        return Call(self.name, args, in_order, place)

    def check(self, checker: Checker, node: Call) -> None:
        """Raises ClaimError for what does not fit together."""
        if self.fits is not None:
            self.fits(checker, node)

    def kind_of(self, checker: Checker, node: Call) -> str:
        """The kind of its result."""
        return self.family

    def labels_of(self, names: Names, node: Call, inner: Callable[[Node], Labels]) -> Labels:
        """The strings that its codes index, where its result is a label; `inner` tells those of an argument."""
        return None

    def strings_of(self, read: Evaluator, node: Call) -> Labels:
        """The strings that its codes index, where only a trace tells them: those that were seen."""
        return None

    def on_columns(self, read: Evaluator, node: Call) -> Array:
        """Its value in every row; only signals have one."""
        raise NotImplementedError(self.name)

    def on_row(self, compiler: RowCompiler, node: Call) -> ast.expr | None:
        """The syntax of its value in a single row, None where that row alone does not tell."""
        return None

    def slack_of(self, read: Evaluator, node: Call) -> Slack:
        """Its margin in every row, None where it is no condition that has one."""
        return None


class Signal(Function, frozen=True, kw_only=True):
    """A value in each row.

    `columns` computes it for all rows; `row` for one, where that row alone tells it. `result` is the kind, or the index of
    the argument whose kind it has. `labels` are the labels of its result, `strings` those that only a trace tells;
    `slack` its margin where it is a condition that has one;
    `which` names, of many, those that decide it in a row;
    `observed` says that it is read off the trace, so that a story gives it a column of its own.
    """

    result: str | int | Callable[[Checker, Call], str]
    columns: Callable[[Evaluator, Call], Array]
    row: Callable[[RowCompiler, Call], ast.expr] | None = None
    labels: Callable[[Names, Call, Callable[[Node], Labels]], Labels] | None = None
    strings: Callable[[Evaluator, Call], tuple[str, ...]] | None = None
    slack: Callable[[Evaluator, Call], npt.NDArray[np.float64]] | None = None
    observed: bool = False
    which: Callable[[Evaluator, Call, int], str] | None = None
    builds: Callable[[tuple[Node, ...], Place], Node] | None = None

    def call(self, args: tuple[Node, ...], named: Mapping[str, Node], place: Place = (0, 0)) -> Node:
        if self.builds is not None:
            return self.builds(args, place)
        # Named outright: a dataclass with slots is made anew by its decorator, and a bare super() would look for the old one.
        return Function.call(self, args, named, place)

    def kind_of(self, checker: Checker, node: Call) -> str:
        if isinstance(self.result, str):
            return self.result
        if isinstance(self.result, int):
            return checker.kind(node.args[self.result])
        return self.result(checker, node)

    def labels_of(self, names: Names, node: Call, inner: Callable[[Node], Labels]) -> Labels:
        if self.labels is None:
            return None
        return self.labels(names, node, inner)

    def strings_of(self, read: Evaluator, node: Call) -> Labels:
        if self.strings is None:
            return None
        return self.strings(read, node)

    def on_columns(self, read: Evaluator, node: Call) -> Array:
        return self.columns(read, node)

    def on_row(self, compiler: RowCompiler, node: Call) -> ast.expr | None:
        if self.row is None:
            return None
        return self.row(compiler, node)

    def slack_of(self, read: Evaluator, node: Call) -> Slack:
        if self.slack is None:
            return None
        return self.slack(read, node)


class Property(Function, frozen=True, kw_only=True):
    """A verdict over a whole trace.

    `judge` computes it. `case` is what one case of it is called, and its plural; `raised_by` the condition without which no
    case arises, for the message of an untested claim. Of a breach: `how` is the end of the sentence that names its rows,
    `reason` the whole sentence where no single row says it, `answer` the row in which what was awaited came after all.
    `final` is the first row in which the claim is broken whatever comes later; None where a breach is none for good.
    """

    family: ClassVar[Family] = "property"
    judge: Callable[[Evaluator, Call], Judgement]
    result: Callable[[Checker, Call], str] | None = None
    case: tuple[str, str] = ("case", "cases")
    raised_by: Callable[[Call], Node] | None = None
    never_raised: str = "never held"
    how: Callable[[Evaluator, Call, Breach], str] | None = None
    reason: Callable[[Evaluator, Call], str] | None = None
    answer: Callable[[Evaluator, Call, int], int | None] | None = None
    final: Callable[[Evaluator, Call, Judgement], int | None] | None = None

    def kind_of(self, checker: Checker, node: Call) -> str:
        if self.result is None:
            return self.family
        return self.result(checker, node)

    def first_final_row(self, read: Evaluator, node: Call, judgement: Judgement) -> int | None:
        """The first row in which a broken claim is broken whatever comes later; None where more rows may still mend it."""
        if judgement.verdict != "broken" or self.final is None:
            return None
        return self.final(read, node, judgement)


class Measure(Function, frozen=True, kw_only=True):
    """One number read off a whole trace; NaN stands for what never happened.

    `value` computes it from its arguments' arrays; `row` is the row that the number was read off, or in which the stretch
    or gap that it is begins (`spans` says that it is one), None where no single row has it. `arrays` are its arguments where they
    are not simply their columns.

    Over many spans of rows at once: `over_spans` gives the value of each from whole columns, `ahead` those of all spans that
    end with the last row of what it is given, one for each row that they may begin in. Both cost O(rows), and give what
    `value` gives.
    """

    family: ClassVar[Family] = "measure"
    value: Callable[..., float]
    row: Callable[..., int | None] | None = None
    arrays: Callable[[Evaluator, Call], list[Array]] | None = None
    over_spans: Callable[[list[Any], npt.NDArray[np.int64], npt.NDArray[np.int64]], npt.NDArray[np.float64]] | None = (
        None
    )
    ahead: Callable[..., npt.NDArray[np.float64]] | None = None
    spans: bool = False
    per_second: bool = False


def signature(function: Function) -> str:
    """How a function is called, for messages: `follows(a, p, within=…, [after=…], [unless=…])`."""
    if function.many:
        return f"{function.name}(a, b, …)"
    words = []
    for one in function.positional:
        words.append(one.name if one.needed else f"[{one.name}]")
    words += [f"{one.name}=…" if one.needed else f"[{one.name}=…]" for one in function.named]
    if function.by_data:
        words.append("[field=…]")
    return f"{function.name}({', '.join(words)})"
