"""Properties of how many rows hold."""

from __future__ import annotations

from collections.abc import Callable

from larktally.language.columns import Evaluator
from larktally.language.durations import whole_of
from larktally.language.function import Property, arguments
from larktally.language.judgement import Judgement
from larktally.language.judging import first_breach_row, last_row_of, one_case, rows_of
from larktally.language.tree import Call, to_text
from larktally.textfmt import plural

__all__ = ["PROPERTIES"]


def _wanted(read: Evaluator, node: Call) -> int:
    return whole_of(node.args[1], read.names, what="n")


def _counted(low: bool, high: bool) -> Callable[[Evaluator, Call], Judgement]:
    def counted(read: Evaluator, node: Call) -> Judgement:
        k, wanted = rows_of(read.flags(node.args[0])), _wanted(read, node)
        if high and len(k) > wanted:
            return one_case(read, False, int(k[wanted]))
        return one_case(read, not (low and len(k) < wanted), last_row_of(read))

    return counted


def _reason(read: Evaluator, node: Call) -> str:
    rows = rows_of(read.flags(node.args[0])).tolist()
    listed = ", ".join(map(str, rows[:8]))
    if len(rows) > 8:
        listed += ", …"
    if listed:
        listed = f" ({listed})"
    claimed = f"{node.name.replace('_', ' ')} {to_text(node.args[1])} was claimed"
    return f"{to_text(node.args[0])} held in {plural(len(rows), 'row')}{listed}, where {claimed}"


def _one_too_many(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The row of the one too many; too few may still become enough."""
    if len(rows_of(read.flags(node.args[0]))) <= _wanted(read, node):
        return None
    return first_breach_row(read, node, judgement)


PROPERTIES = (
    Property(
        name="exactly",
        positional=arguments("p:flag n:whole"),
        meaning="n rows with p",
        judge=_counted(low=True, high=True),
        reason=_reason,
        final=_one_too_many,
    ),
    Property(
        name="at_least",
        positional=arguments("p:flag n:whole"),
        meaning="n rows with p, or more",
        judge=_counted(low=True, high=False),
        reason=_reason,
    ),
    Property(
        name="at_most",
        positional=arguments("p:flag n:whole"),
        meaning="n rows with p, or fewer",
        judge=_counted(low=False, high=True),
        reason=_reason,
        final=_one_too_many,
    ),
)
