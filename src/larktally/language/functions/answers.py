"""Properties of what follows what: an answer in time, something that lasts or goes on, something that came before."""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language import rolling
from larktally.language.columns import Evaluator
from larktally.language.function import Property, arguments
from larktally.language.functions.clocked import clock_fits
from larktally.language.judgement import Breach, Judgement
from larktally.language.judging import first_breach_row, first_from, pairs, row_text, rows_of, waiting_for
from larktally.language.margins import Slack, greatest_ahead, least, least_ahead, slack
from larktally.language.ticks import passed_for, row_of_tick, window_ahead
from larktally.language.tree import Call
from larktally.textfmt import plural

__all__ = ["PROPERTIES"]

Rows: TypeAlias = npt.NDArray[np.int64]


def _first_excuse(read: Evaluator, node: Call, k: Rows) -> Rows:
    """The first row from each on in which `unless` holds; R where it never does."""
    unless = node.option("unless")
    if unless is None:
        return np.full(len(k), read.rows)
    return np.append(rolling.next_row(read.flags(unless)), read.rows)[k]


def _ahead(read: Evaluator, node: Call, k: Rows, ticks: int) -> tuple[Rows, Rows]:
    """For each row the first that lies so many ticks later, and the last; R or more where there is none in the trace."""
    if node.option("on") is None:
        return k + ticks, k + ticks
    count = passed_for(read, node)
    wanted = count[k] + ticks
    first = np.maximum(row_of_tick(count, wanted), k)
    last = row_of_tick(count, wanted + 1) - 1
    return first, np.where(first < read.rows, last, read.rows)


def _slack_ahead(read: Evaluator, node: Call, k: Rows, first: int, last: int, greatest: bool) -> Slack:
    """For each row the greatest or least slack of the answer, over the rows in which it is looked for."""
    found = slack(read, node.args[1])
    if found is None or node.option("on") is None:
        return (greatest_ahead if greatest else least_ahead)(found, k, first, last)
    fold: np.ufunc = np.minimum
    if greatest:
        fold = np.maximum
    return window_ahead(found, k, first, last, passed_for(read, node), fold)


def _follows(read: Evaluator, node: Call) -> Judgement:
    a, p = read.flags(node.args[0]), read.flags(node.args[1])
    width, wait = read.option_frames(node, "within") or 0, read.option_frames(node, "after") or 0
    rows = read.rows
    k = rows_of(a)
    # Row R, one past the last, stands for "never": looking up what follows it has to give R again.
    following = np.append(rolling.next_row(p), rows)
    excused_from = _first_excuse(read, node, k)
    start, _ = _ahead(read, node, k, wait)
    due, end = _ahead(read, node, k, width)
    # The first answer at all; one that comes before `after` is none, and breaks the claim.
    early = following[k]
    too_early = early < np.minimum(start, np.minimum(excused_from, rows))
    answer = following[np.minimum(start, rows)]
    answered = (answer < rows) & (answer <= end) & (answer <= excused_from)
    undecided = ~too_early & ~answered
    # Excused in time is no case, whether an answer came later or not.
    excused = undecided & (excused_from < rows) & (excused_from <= end)
    undecided &= ~excused
    # Only where the row that decides is there; else the run was too short to say.
    missed = undecided & (due < rows)
    broken = too_early | missed
    failed = np.where(too_early, early, due)[broken]
    judged = k[answered | broken]
    opened = k[undecided & ~missed]
    left_out = int(np.count_nonzero(excused))
    return Judgement(
        len(k) - left_out,
        int(np.count_nonzero(broken)),
        pairs(k[broken], failed),
        len(opened),
        lambda: least(_slack_ahead(read, node, judged, wait, width, greatest=True)),
        True,
        waiting_for(opened, width if node.option("on") is None else None),
        left_out,
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


def _known_in(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The first row in which a breach is known whatever comes later."""
    if node.option("on") is None:
        return first_breach_row(read, node, judgement)
    # While the clock stands the answer may still come: only its next tick ends the time.
    count, width = passed_for(read, node), read.option_frames(node, "within") or 0
    known = []
    for breach in judgement.breaches:
        if breach.trigger is not None and breach.row is not None:
            over = int(row_of_tick(count, np.array(count[breach.trigger] + width + 1)))
            if count[breach.row] - count[breach.trigger] < width:
                over = breach.row
            known.append(over)
    return min((row for row in known if row < read.rows), default=None)


def _lasts(read: Evaluator, node: Call) -> Judgement:
    a, p = read.flags(node.args[0]), read.flags(node.args[1])
    width = read.frames(node.args[2])
    k = rows_of(a)
    first_without = rolling.next_row(~p)[k]
    excused_from = _first_excuse(read, node, k)
    # Row k counts as the first of them, so that a hold of w rows ends with row k + w - 1.
    due, end = _ahead(read, node, k, width - 1)
    broken = (first_without < read.rows) & (first_without <= end) & (first_without < excused_from)
    excused = ~broken & (excused_from < read.rows) & (excused_from <= end)
    opened = k[~broken & ~excused & (due >= read.rows)]
    whole, cut = k[~excused & (excused_from > end)], broken & (excused_from <= end)

    def least_while_it_lasts() -> float | None:
        judged = _slack_ahead(read, node, whole, 0, width - 1, greatest=False)
        return _least_of(judged, _slack_before(read, node, k, excused_from, cut))

    left_out = int(np.count_nonzero(excused))
    return Judgement(
        len(k) - left_out,
        int(np.count_nonzero(broken)),
        pairs(k[broken], first_without[broken]),
        len(opened),
        least_while_it_lasts,
        True,
        waiting_for(opened, width - 1 if node.option("on") is None else None),
        left_out,
    )


def _slack_before(read: Evaluator, node: Call, k: Rows, excused_from: Rows, chosen: npt.NDArray[np.bool_]) -> Slack:
    """For each chosen row the least slack of what has to last, up to the row before it was excused."""
    found = slack(read, node.args[1])
    if found is None:
        return None
    least_ones = [found[first:last].min() for first, last in zip(k[chosen], excused_from[chosen], strict=True)]
    return np.array(least_ones, dtype=np.float64)


def _least_of(*several: Slack) -> float | None:
    found = [one for one in map(least, several) if one is not None]
    return min(found, default=None)


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
        named=arguments("within:span0 after:span0? unless:flag? on:clock?"),
        meaning="after each a, p within so many rows",
        fits=clock_fits,
        judge=_follows,
        raised_by=lambda node: node.args[0],
        how=_when_it_came,
        answer=_answer,
        final=_known_in,
    ),
    Property(
        name="lasts",
        positional=arguments("a:flag p:flag W:span1"),
        named=arguments("unless:flag? on:clock?"),
        meaning="from each a on, p for W rows",
        fits=clock_fits,
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
