"""Properties of rows one by one: in every row, in none, in some, in one that is named."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larktally.language.columns import Evaluator
from larktally.language.function import Property, arguments
from larktally.language.functions.per_row import IMPLIES
from larktally.language.judgement import Breach, Judgement, Margin
from larktally.language.judging import first_breach_row, first_rows, in_rows, last_row_of, one_case, pairs
from larktally.language.margins import least, least_of_ordering, slack, slack_of_not
from larktally.language.tree import Call, Node, to_text

__all__ = ["PROPERTIES"]


def _implication(node: Call) -> Call | None:
    """The condition of an `always`, where it is an implication: then only rows in which its premise holds are cases."""
    condition = node.args[0]
    if isinstance(condition, Call) and condition.name == IMPLIES.name:
        return condition
    return None


def _always(read: Evaluator, node: Call) -> Judgement:
    implication = _implication(node)
    if implication is not None:
        a, b = (read.flags(arg) for arg in implication.args)
        # Of flags, "greater" is "and not", in one pass.
        wrong = np.greater(a, b)
        listed = first_rows(wrong)

        def least_where_it_counts() -> float | None:
            return least(slack(read, implication.args[1]), read.flags(implication.args[0]))

        cases = read.count(implication.args[0])
        return Judgement(cases, int(np.count_nonzero(wrong)), pairs(listed, listed), 0, least_where_it_counts, True)
    known = least_of_ordering(read, node.args[0])
    if known is not None and known[1]:
        return Judgement(read.rows, slack=known[0])
    return _rows_one_by_one(read, ~read.flags(node.args[0]), lambda: least(slack(read, node.args[0])))


def _rows_one_by_one(read: Evaluator, wrong: npt.NDArray[np.bool_], margin: Margin) -> Judgement:
    return Judgement(read.rows, int(np.count_nonzero(wrong)), in_rows(first_rows(wrong)), slack=margin)


def _premise(node: Call) -> Node:
    implication = _implication(node)
    if implication is None:
        return node.args[0]
    return implication.args[0]


def _never(read: Evaluator, node: Call) -> Judgement:
    known = least_of_ordering(read, node.args[0], opposite=True)
    if known is not None and known[1]:
        return Judgement(read.rows, slack=known[0])
    return _rows_one_by_one(read, read.flags(node.args[0]), lambda: least(slack_of_not(read, node.args[0])))


def _eventually(read: Evaluator, node: Call) -> Judgement:
    def greatest() -> float | None:
        found = slack(read, node.args[0])
        if found is None or not len(found):
            return None
        return float(found.max())

    return one_case(read, bool(read.flags(node.args[0]).any()), last_row_of(read), greatest)


def _at(read: Evaluator, node: Call) -> Judgement:
    row = read.frames(node.args[0])
    if row >= read.rows:
        return Judgement(1, open=1, waiting=Breach(row, row))

    def in_that_row() -> float | None:
        found = slack(read, node.args[1])
        if found is None:
            return None
        return float(found[row])

    return one_case(read, bool(read.flags(node.args[1])[row]), row, in_that_row)


PROPERTIES = (
    Property(
        name="always",
        positional=arguments("p:flag"),
        meaning="p in every row",
        judge=_always,
        case=("row", "rows"),
        raised_by=_premise,
        final=first_breach_row,
    ),
    Property(
        name="never",
        positional=arguments("p:flag"),
        meaning="p in no row",
        judge=_never,
        case=("row", "rows"),
        final=first_breach_row,
    ),
    Property(
        name="eventually",
        positional=arguments("p:flag"),
        meaning="p in some row",
        judge=_eventually,
        reason=lambda read, node: f"{to_text(node.args[0])} never held",
    ),
    Property(
        name="at",
        positional=arguments("k:span0 p:flag"),
        meaning="p in row k",
        judge=_at,
        final=first_breach_row,
    ),
)
