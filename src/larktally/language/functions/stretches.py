"""Properties of stretches of rows: how far apart rows lie, and how long a condition stays."""

from __future__ import annotations

import numpy as np

from larktally.language.columns import Evaluator
from larktally.language.function import Property, arguments
from larktally.language.judgement import Breach, Judgement
from larktally.language.judging import first_breach_row, pairs, rows_of, waiting_for
from larktally.language.tree import Call
from larktally.language.typecheck import Checker
from larktally.textfmt import plural

__all__ = ["PROPERTIES"]


def _has_a_limit(checker: Checker, node: Call) -> None:
    if not node.named:
        checker.fail(node, f"{node.name} needs at_least= or at_most=")


def _limits_fit(checker: Checker, node: Call) -> None:
    _has_a_limit(checker, node)
    if node.option("exactly") and len(node.named) > 1:
        checker.fail(node, "stays takes exactly= alone")


def _limits(read: Evaluator, node: Call) -> tuple[int, int | None]:
    """The least and the most; `exactly` is both."""
    exact = read.option_frames(node, "exactly")
    if exact is not None:
        return exact, exact
    return read.option_frames(node, "at_least") or 0, read.option_frames(node, "at_most")


def _spaced(read: Evaluator, node: Call) -> Judgement:
    k = rows_of(read.flags(node.args[0]))
    low, high = _limits(read, node)
    gaps = np.diff(k)
    wrong = gaps < low
    if high is not None:
        wrong |= gaps > high
    failed = pairs(k[:-1][wrong], k[1:][wrong])
    return Judgement(len(gaps), int(np.count_nonzero(wrong)), failed, may_be_untested=True)


def _how_far(read: Evaluator, node: Call, breach: Breach) -> str:
    if breach.trigger is None or breach.row is None:
        return ""
    return f", {breach.row - breach.trigger} apart"


def _stays(read: Evaluator, node: Call) -> Judgement:
    # A false row on both sides, so that a stretch at either end of the run has an edge there.
    edges = np.diff(np.concatenate([[False], read.flags(node.args[0]), [False]]).astype(np.int8))
    starts, ends = rows_of(edges == 1), rows_of(edges == -1) - 1
    low, high = _limits(read, node)
    lengths = ends - starts + 1
    # How long it would have gone on is not known.
    at_end = ends == read.rows - 1
    short = (lengths < low) & ~at_end
    if high is None:
        long = np.zeros(len(lengths), dtype=np.bool_)
    else:
        long = lengths > high
    wrong = short | long
    # With a lower limit alone, one that is long enough already is decided.
    opened = starts[at_end & ~wrong & ((lengths < low) | (high is not None))]
    rows = np.where(long, starts + (high or 0), ends)
    waiting = waiting_for(opened, low - 1 if high is None else high)
    failed = pairs(starts[wrong], rows[wrong])
    return Judgement(len(starts), int(np.count_nonzero(wrong)), failed, len(opened), None, True, waiting)


def _how_long(read: Evaluator, node: Call, breach: Breach) -> str:
    if breach.trigger is None:
        return ""
    ends = np.flatnonzero(~read.flags(node.args[0])[breach.trigger :])
    if len(ends):
        return f": it lasted {plural(int(ends[0]), 'row')}"
    return f": it lasted {plural(read.rows - breach.trigger, 'row')}, up to the end"


def _known_in(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The first row in which a breach is known: that of a stretch that was too short is told by the row after it."""
    low, _ = _limits(read, node)
    known = []
    for breach in judgement.breaches:
        if breach.row is not None and breach.trigger is not None:
            # That a stretch was too short is known in the row after it; that it is too long in its own.
            too_short = breach.row - breach.trigger + 1 < low
            known.append(breach.row + int(too_short))
    return min(known, default=None)


PROPERTIES = (
    Property(
        name="spaced",
        positional=arguments("p:flag"),
        named=arguments("at_least:span0? at_most:span0?"),
        meaning="successive rows with p are so far apart",
        fits=_has_a_limit,
        judge=_spaced,
        case=("pair", "pairs"),
        raised_by=lambda node: node.args[0],
        never_raised="never held in two rows",
        how=_how_far,
        final=first_breach_row,
    ),
    Property(
        name="stays",
        positional=arguments("p:flag"),
        named=arguments("at_least:span1? at_most:span1? exactly:span1?"),
        meaning="each unbroken stretch of p is so long",
        fits=_limits_fit,
        judge=_stays,
        case=("stretch", "stretches"),
        raised_by=lambda node: node.args[0],
        how=_how_long,
        final=_known_in,
    ),
)
