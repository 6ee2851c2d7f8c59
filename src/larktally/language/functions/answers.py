"""Properties of what follows what: an answer in time, something that lasts or goes on, something that came before."""

from __future__ import annotations

import numpy as np

from larktally.language import rolling
from larktally.language.columns import Evaluator
from larktally.language.function import Property, arguments
from larktally.language.judgement import Breach, Judgement
from larktally.language.judging import first_breach_row, first_from, pairs, row_text, rows_of, waiting_for
from larktally.language.margins import greatest_ahead, least, least_ahead, slack
from larktally.language.tree import Call
from larktally.textfmt import plural

__all__ = ["PROPERTIES"]


def _follows(read: Evaluator, node: Call) -> Judgement:
    a, p = read.flags(node.args[0]), read.flags(node.args[1])
    width, wait = read.option_frames(node, "within") or 0, read.option_frames(node, "after") or 0
    unless, rows = node.option("unless"), read.rows
    k = rows_of(a)
    # Row R, one past the last, stands for "never": looking up what follows it has to give R again.
    following = np.append(rolling.next_row(p), rows)
    # Row R: never excused.
    excused_from = np.full(len(k), rows)
    if unless is not None:
        excused_from = np.append(rolling.next_row(read.flags(unless)), rows)[k]
    # The first answer at all; one that comes before `after` is none, and breaks the claim.
    early = following[k]
    too_early = early < np.minimum(k + wait, np.minimum(excused_from, rows))
    answer = following[np.minimum(k + wait, rows)]
    answered = (answer < rows) & (answer <= k + width) & (answer <= excused_from)
    # Excused in time is no case that failed, whether an answer came later or not.
    undecided = ~too_early & ~answered & ~((excused_from < rows) & (excused_from <= k + width))
    # Only where the last row that could have answered is there; else the run was too short to say.
    missed = undecided & (k + width < rows)
    broken = too_early | missed
    failed = np.where(too_early, early, k + width)[broken]
    margin = least(greatest_ahead(slack(read, node.args[1]), k[answered | broken], wait, width))
    opened = k[undecided & ~missed]
    return Judgement(
        len(k),
        int(np.count_nonzero(broken)),
        pairs(k[broken], failed),
        len(opened),
        margin,
        True,
        waiting_for(opened, width),
    )


def _answer(read: Evaluator, node: Call, row: int) -> int | None:
    """The first row from `row` on in which the answer came."""
    return first_from(read, node.args[1], row)


def _when_it_came(read: Evaluator, node: Call, breach: Breach) -> str:
    """For an answer that did not come in its time: whether it was early, came later, or never."""
    if breach.trigger is None or breach.row is None:
        return ""
    came = _answer(read, node, breach.row)
    if came is None:
        return ": it never came"
    if came == breach.row:
        return f": it came too early, {came - breach.trigger} rows after"
    return f": it came {came - breach.trigger} rows after, in {row_text(read, came)}"


def _lasts(read: Evaluator, node: Call) -> Judgement:
    a, p = read.flags(node.args[0]), read.flags(node.args[1])
    width = read.frames(node.args[2])
    k = rows_of(a)
    first_without = rolling.next_row(~p)[k]
    # Row k counts as the first of them, so that a hold of w rows ends with row k + w - 1.
    broken = (first_without < read.rows) & (first_without <= k + width - 1)
    opened = k[~broken & (k + width - 1 >= read.rows)]
    margin = least(least_ahead(slack(read, node.args[1]), k, 0, width - 1))
    return Judgement(
        len(k),
        int(np.count_nonzero(broken)),
        pairs(k[broken], first_without[broken]),
        len(opened),
        margin,
        True,
        waiting_for(opened, width - 1),
    )


def _how_long_it_held(read: Evaluator, node: Call, breach: Breach) -> str:
    if breach.trigger is None or breach.row is None:
        return ""
    return f": it held for {plural(breach.row - breach.trigger, 'row')}"


def _until(read: Evaluator, node: Call) -> Judgement:
    a, p, q = (read.flags(arg) for arg in node.args)
    k = rows_of(a)
    released = rolling.next_row(q)[k]
    neither = rolling.next_row(~p & ~q)[k]
    broken = neither < released
    opened = k[(released == read.rows) & (neither == read.rows)]
    failed = pairs(k[broken], neither[broken])
    # No row is sure to decide an `until`: what it waits for may come at any time.
    waiting = waiting_for(opened, None)
    return Judgement(len(k), int(np.count_nonzero(broken)), failed, len(opened), None, True, waiting)


def _precedes(read: Evaluator, node: Call) -> Judgement:
    a, b = (read.flags(arg) for arg in node.args)
    k = rows_of(b)
    earlier_b = k
    if len(k):
        earlier_b = np.concatenate([[-1], k[:-1]])
    wrong = k[rolling.last_row(a)[k] <= earlier_b]
    return Judgement(len(k), len(wrong), pairs(wrong, wrong), may_be_untested=True)


PROPERTIES = (
    Property(
        name="follows",
        positional=arguments("a:flag p:flag"),
        named=arguments("within:span0 after:span0? unless:flag?"),
        meaning="after each a, p within so many rows",
        judge=_follows,
        raised_by=lambda node: node.args[0],
        how=_when_it_came,
        answer=_answer,
        final=first_breach_row,
    ),
    Property(
        name="lasts",
        positional=arguments("a:flag p:flag W:span1"),
        meaning="from each a on, p for W rows",
        judge=_lasts,
        raised_by=lambda node: node.args[0],
        how=_how_long_it_held,
        final=first_breach_row,
    ),
    Property(
        name="until",
        positional=arguments("a:flag p:flag q:flag"),
        meaning="from each a on, p until q",
        judge=_until,
        raised_by=lambda node: node.args[0],
        final=first_breach_row,
    ),
    Property(
        name="precedes",
        positional=arguments("a:flag b:flag"),
        meaning="before each b, an a of its own",
        judge=_precedes,
        raised_by=lambda node: node.args[1],
        final=first_breach_row,
    ),
)
