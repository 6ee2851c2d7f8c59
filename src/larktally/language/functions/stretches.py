"""Properties of stretches of rows: how far apart rows lie, and how long a condition stays."""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language.columns import Evaluator
from larktally.language.function import Property, arguments
from larktally.language.functions.clocked import clock_fits
from larktally.language.judgement import Breach, Judgement
from larktally.language.judging import first_breach_row, pairs, rows_of, waiting_for
from larktally.language.ticks import passed_for, row_of_tick
from larktally.language.tree import Call
from larktally.language.typecheck import Checker
from larktally.textfmt import plural

__all__ = ["PROPERTIES"]

Bools: TypeAlias = npt.NDArray[np.bool_]
Rows: TypeAlias = npt.NDArray[np.int64]


def _has_a_limit(checker: Checker, node: Call) -> None:
    clock_fits(checker, node)
    if not {"at_least", "at_most", "exactly"} & {name for name, _ in node.named}:
        checker.fail(node, f"{node.name} needs at_least= or at_most=")


def _limits_fit(checker: Checker, node: Call) -> None:
    _has_a_limit(checker, node)
    if node.option("exactly") and (node.option("at_least") or node.option("at_most")):
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
    # Without a clock a row's number is the time that has passed.
    told = k
    if node.option("on") is not None:
        told = passed_for(read, node)[k]
    gaps = np.diff(told)
    wrong = gaps < low
    if high is not None:
        wrong |= gaps > high
    failed = pairs(k[:-1][wrong], k[1:][wrong])
    return Judgement(len(gaps), int(np.count_nonzero(wrong)), failed, may_be_untested=True)


def _how_far(read: Evaluator, node: Call, breach: Breach) -> str:
    if breach.trigger is None or breach.row is None:
        return ""
    if node.option("on") is not None:
        count = passed_for(read, node)
        return f", {count[breach.row] - count[breach.trigger]} ticks apart"
    return f", {breach.row - breach.trigger} apart"


def _stays(read: Evaluator, node: Call) -> Judgement:
    # A false row on both sides, so that a stretch at either end of the run has an edge there.
    edges = np.diff(np.concatenate([[False], read.flags(node.args[0]), [False]]).astype(np.int8))
    starts, ends = rows_of(edges == 1), rows_of(edges == -1) - 1
    low, high = _limits(read, node)
    # A count in front of row 0, so that what passed before a stretch can be taken off.
    count = np.append(0, passed_for(read, node))
    lengths = count[ends + 1] - count[starts]
    # One in which the clock never ticked raises no case.
    some = lengths > 0
    starts, ends, lengths = starts[some], ends[some], lengths[some]
    # How long it would have gone on is not known.
    at_end = ends == read.rows - 1
    short = (lengths < low) & ~at_end
    if high is None:
        long = np.zeros(len(lengths), dtype=np.bool_)
        rows = ends
    else:
        long = lengths > high
        rows = np.where(long, row_of_tick(count[1:], count[starts] + high + 1), ends)
    wrong = short | long
    # With a lower limit alone, one that is long enough already is decided.
    undecided = at_end & ~wrong & ((lengths < low) | (high is not None))
    excused = _excused(read, node, starts, ends, short, long, rows) & (wrong | undecided)
    wrong, opened = wrong & ~excused, starts[undecided & ~excused]
    waiting = None
    if node.option("on") is None:
        waiting = waiting_for(opened, low - 1 if high is None else high)
    elif len(opened):
        waiting = Breach(int(opened[0]), None)
    failed, left_out = pairs(starts[wrong], rows[wrong]), int(np.count_nonzero(excused))
    cases = len(starts) - left_out
    return Judgement(cases, int(np.count_nonzero(wrong)), failed, len(opened), None, True, waiting, left_out)


def _excused(
    read: Evaluator, node: Call, starts: Rows, ends: Rows, short: Bools, long: Bools, rows: Rows
) -> npt.NDArray[np.bool_]:
    """Of each stretch whether `unless` held: where it is too short up to the row that ended it, where it is too long before the
    row that made it so."""
    unless = node.option("unless")
    if unless is None:
        return np.zeros(len(starts), dtype=np.bool_)
    last = np.where(short, np.minimum(ends + 1, read.rows - 1), ends)
    last = np.where(long, rows - 1, last)
    held = np.append(0, np.cumsum(read.flags(unless)))
    return np.asarray(held[last + 1] > held[starts])


def _how_long(read: Evaluator, node: Call, breach: Breach) -> str:
    if breach.trigger is None:
        return ""
    ends = np.flatnonzero(~read.flags(node.args[0])[breach.trigger :])
    if node.option("on") is not None:
        last = read.rows
        if len(ends):
            last = breach.trigger + int(ends[0])
        count = np.append(0, passed_for(read, node))
        return f": it lasted {plural(int(count[last] - count[breach.trigger]), 'tick')}"
    if len(ends):
        return f": it lasted {plural(int(ends[0]), 'row')}"
    return f": it lasted {plural(read.rows - breach.trigger, 'row')}, up to the end"


def _known_in(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The first row in which a breach is known: that of a stretch that was too short is told by the row after it."""
    low, _ = _limits(read, node)
    count = np.append(0, passed_for(read, node))
    known = []
    for breach in judgement.breaches:
        if breach.row is not None and breach.trigger is not None:
            # That a stretch was too short is known in the row after it; that it is too long in its own.
            too_short = count[breach.row + 1] - count[breach.trigger] < low
            known.append(breach.row + int(too_short))
    return min(known, default=None)


PROPERTIES = (
    Property(
        name="spaced",
        positional=arguments("p:flag"),
        named=arguments("at_least:span0? at_most:span0? on:clock?"),
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
        named=arguments("at_least:span1? at_most:span1? exactly:span1? unless:flag? on:clock?"),
        meaning="each unbroken stretch of p is so long",
        fits=_limits_fit,
        judge=_stays,
        case=("stretch", "stretches"),
        raised_by=lambda node: node.args[0],
        how=_how_long,
        final=_known_in,
    ),
)
