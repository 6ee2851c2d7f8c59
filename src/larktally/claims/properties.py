"""Properties: what a condition over rows comes to for a whole trace, in O(rows).

Each judges with whole arrays; R is the number of rows, `last` the last row. Breaches come in the order of their
trigger, or of their row where there is none.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.claims import spans
from larktally.claims.kinds import check_tree, span_frames
from larktally.claims.margins import greatest_ahead, least, least_ahead, slack, slack_of_not
from larktally.claims.signals import Reading
from larktally.claims.tree import Call, ChannelRef, Node, Number, Text, to_text
from larktally.claims.verdicts import LISTED, Breach, Judgement
from larktally.errors import ClaimError

__all__ = ["judge"]

Rows: TypeAlias = npt.NDArray[np.int64]


def judge(read: Reading, node: Call) -> Judgement:
    """The judgement of a checked property over a trace."""
    with np.errstate(all="ignore"):
        return _PROPERTIES[node.name](read, node)


def _rows(flags: npt.NDArray[Any]) -> Rows:
    return np.flatnonzero(flags)


def _in_rows(rows: Rows) -> tuple[Breach, ...]:
    return tuple(Breach(None, row) for row in rows[:LISTED].tolist())


def _pairs(triggers: Rows, rows: Rows) -> tuple[Breach, ...]:
    return tuple(Breach(a, b) for a, b in zip(triggers[:LISTED].tolist(), rows[:LISTED].tolist(), strict=True))


def _waiting(opened: Rows, width: int | None) -> Breach | None:
    """The first of the rows with an open obligation, and the row that decides the last one, `width` rows after it."""
    if not len(opened):
        return None
    return Breach(int(opened[0]), None if width is None else int(opened[-1]) + width)


def _last(read: Reading) -> int | None:
    return read.rows - 1 if read.rows else None


def _one(read: Reading, kept: bool, row: int | None, margin: float | None = None) -> Judgement:
    """One obligation that is decided."""
    return Judgement(1, int(not kept), () if kept else (Breach(None, row),), margin=margin)


def _always(read: Reading, node: Call) -> Judgement:
    condition = node.args[0]
    if isinstance(condition, Call) and condition.name == "implies":
        a, b = (read.flags(arg) for arg in condition.args)
        wrong = _rows(a & ~b)
        margin = least(slack(read, condition.args[1]), a)
        return Judgement(int(np.count_nonzero(a)), len(wrong), _pairs(wrong, wrong), 0, margin, True)
    wrong = _rows(~read.flags(condition))
    return Judgement(read.rows, len(wrong), _in_rows(wrong), margin=least(slack(read, condition)))


def _never(read: Reading, node: Call) -> Judgement:
    wrong = _rows(read.flags(node.args[0]))
    return Judgement(read.rows, len(wrong), _in_rows(wrong), margin=least(slack_of_not(read, node.args[0])))


def _eventually(read: Reading, node: Call) -> Judgement:
    found = slack(read, node.args[0])
    margin = None if found is None or not len(found) else float(found.max())
    return _one(read, bool(read.flags(node.args[0]).any()), _last(read), margin)


def _at(read: Reading, node: Call) -> Judgement:
    row = span_frames(node.args[0], read.words)
    if row >= read.rows:
        return Judgement(1, open=1, waiting=Breach(row, row))
    found = slack(read, node.args[1])
    margin = None if found is None else float(found[row])
    return _one(read, bool(read.flags(node.args[1])[row]), row, margin)


def _follows(read: Reading, node: Call) -> Judgement:
    a, p = read.flags(node.args[0]), read.flags(node.args[1])
    within, after, unless = (node.option(name) for name in ("within", "after", "unless"))
    width = span_frames(within, read.words) if within else 0
    wait = span_frames(after, read.words) if after else 0
    rows = read.rows
    k = _rows(a)
    following = np.append(spans.next_row(p), rows)
    excused_from = np.append(spans.next_row(read.flags(unless)), rows)[k] if unless else np.full(len(k), rows)
    early = following[k]
    too_early = early < np.minimum(k + wait, np.minimum(excused_from, rows))
    answer = following[np.minimum(k + wait, rows)]
    answered = (answer < rows) & (answer <= k + width) & (answer <= excused_from)
    undecided = ~too_early & ~answered & ~((excused_from < rows) & (excused_from <= k + width))
    missed = undecided & (k + width < rows)
    broken = too_early | missed
    failed = np.where(too_early, early, k + width)[broken]
    margin = least(greatest_ahead(slack(read, node.args[1]), k[answered | broken], wait, width))
    opened = k[undecided & ~missed]
    pairs, waiting = _pairs(k[broken], failed), _waiting(opened, width)
    return Judgement(len(k), int(np.count_nonzero(broken)), pairs, len(opened), margin, True, waiting)


def _lasts(read: Reading, node: Call) -> Judgement:
    a, p = read.flags(node.args[0]), read.flags(node.args[1])
    width = span_frames(node.args[2], read.words)
    k = _rows(a)
    first_without = spans.next_row(~p)[k]
    broken = (first_without < read.rows) & (first_without <= k + width - 1)
    opened = k[~broken & (k + width - 1 >= read.rows)]
    margin = least(least_ahead(slack(read, node.args[1]), k, 0, width - 1))
    failed, waiting = _pairs(k[broken], first_without[broken]), _waiting(opened, width - 1)
    return Judgement(len(k), int(np.count_nonzero(broken)), failed, len(opened), margin, True, waiting)


def _until(read: Reading, node: Call) -> Judgement:
    a, p, q = (read.flags(arg) for arg in node.args)
    k = _rows(a)
    released = spans.next_row(q)[k]
    neither = spans.next_row(~p & ~q)[k]
    broken = neither < released
    opened = k[(released == read.rows) & (neither == read.rows)]
    pairs, waiting = _pairs(k[broken], neither[broken]), _waiting(opened, None)
    return Judgement(len(k), int(np.count_nonzero(broken)), pairs, len(opened), None, True, waiting)


def _precedes(read: Reading, node: Call) -> Judgement:
    a, b = (read.flags(arg) for arg in node.args)
    k = _rows(b)
    earlier_b = np.concatenate([[-1], k[:-1]]) if len(k) else k
    wrong = k[spans.last_row(a)[k] <= earlier_b]
    return Judgement(len(k), len(wrong), _pairs(wrong, wrong), can_be_vacuous=True)


def _limits(read: Reading, node: Call) -> tuple[int, int | None]:
    exact = node.option("exactly")
    low, high = exact or node.option("at_least"), exact or node.option("at_most")
    return span_frames(low, read.words) if low else 0, span_frames(high, read.words) if high else None


def _spaced(read: Reading, node: Call) -> Judgement:
    k = _rows(read.flags(node.args[0]))
    low, high = _limits(read, node)
    gaps = np.diff(k)
    wrong = gaps < low if high is None else (gaps < low) | (gaps > high)
    failed = _pairs(k[:-1][wrong], k[1:][wrong])
    return Judgement(len(gaps), int(np.count_nonzero(wrong)), failed, can_be_vacuous=True)


def _stays(read: Reading, node: Call) -> Judgement:
    edges = np.diff(np.concatenate([[False], read.flags(node.args[0]), [False]]).astype(np.int8))
    starts, ends = _rows(edges == 1), _rows(edges == -1) - 1
    low, high = _limits(read, node)
    lengths = ends - starts + 1
    at_end = ends == read.rows - 1
    short = (lengths < low) & ~at_end
    long = np.zeros(len(lengths), dtype=np.bool_) if high is None else lengths > high
    wrong = short | long
    opened = starts[at_end & ~wrong & ((lengths < low) | (high is not None))]
    rows = np.where(long, starts + (high or 0), ends)
    failed, waiting = _pairs(starts[wrong], rows[wrong]), _waiting(opened, low - 1 if high is None else high)
    return Judgement(len(starts), int(np.count_nonzero(wrong)), failed, len(opened), None, True, waiting)


def _counted(low: bool, high: bool) -> Callable[[Reading, Call], Judgement]:
    def counted(read: Reading, node: Call) -> Judgement:
        k = _rows(read.flags(node.args[0]))
        wanted = int(node.args[1].value) if isinstance(node.args[1], Number) else 0
        if high and len(k) > wanted:
            return _one(read, False, int(k[wanted]))
        return _one(read, not (low and len(k) < wanted), _last(read))

    return counted


def _in_order(read: Reading, node: Call) -> Judgement:
    row = -1
    for arg in node.args:
        later = _rows(read.flags(arg)[row + 1 :])
        if not len(later):
            return _one(read, False, _last(read))
        row += 1 + int(later[0])
    return _one(read, True, None)


def _measured(read: Reading, node: Call) -> Judgement:
    from larktally.claims.measures import measure

    found = measure(read, node.args[0])
    low, high = (_constant(read, arg) for arg in node.args[1:])
    return _one(read, bool(low <= found <= high), None)


def _same(read: Reading, node: Call) -> Judgement:
    other = read.other
    if other is None:
        raise ClaimError("same compares two traces, and there is no other one: check(trace, claims, against=other)")
    name = node.args[0]
    signal = ChannelRef(name.value) if isinstance(name, Text) else name
    if check_tree(signal, read.words, None) != check_tree(signal, other.words, None):
        raise ClaimError(f"{to_text(signal)} is of another kind in the other trace")
    rows, most = min(read.rows, other.rows), max(read.rows, other.rows)
    mine, theirs = read.column(signal)[:rows], other.column(signal)[:rows]
    wrong, margin = np.ones(most, dtype=np.bool_), None
    tolerance = node.option("tol")
    if tolerance is not None:
        room = _constant(read, tolerance) - np.abs(mine - theirs)
        room = np.where(
            np.isnan(room), np.where((mine == theirs) | (np.isnan(mine) & np.isnan(theirs)), 0.0, -np.inf), room
        )
        wrong[:rows], margin = room < 0, least(room)
    elif mine.dtype == np.float64:
        wrong[:rows] = ~((mine == theirs) | (np.isnan(mine) & np.isnan(theirs)))
    else:
        wrong[:rows] = mine != theirs
    failed = _rows(wrong)
    return Judgement(most, len(failed), _in_rows(failed), margin=margin)


def _constant(read: Reading, node: Node) -> float:
    return float(read.at(node, 0))


_PROPERTIES: dict[str, Callable[[Reading, Call], Judgement]] = {
    "always": _always,
    "never": _never,
    "eventually": _eventually,
    "at": _at,
    "follows": _follows,
    "lasts": _lasts,
    "until": _until,
    "precedes": _precedes,
    "spaced": _spaced,
    "stays": _stays,
    "exactly": _counted(low=True, high=True),
    "at_least": _counted(low=True, high=False),
    "at_most": _counted(low=False, high=True),
    "in_order": _in_order,
    "measured": _measured,
    "same": _same,
}
