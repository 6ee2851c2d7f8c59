"""Properties of things that belong together, or to one another alone: pairs of rows, and values that stand once."""

from __future__ import annotations

from typing import Any, NamedTuple

import msgspec
import numpy as np

from larktally.language.columns import Evaluator, text_of
from larktally.language.function import Property, arguments
from larktally.language.functions.clocked import clock_fits
from larktally.language.judgement import LISTED, Breach, Judgement
from larktally.language.judging import first_breach_row, rows_of, waiting_for
from larktally.language.ticks import passed_for
from larktally.language.tree import Call, Operation, to_text
from larktally.textfmt import shown_value
from larktally.traces.events import comes_from

__all__ = ["PROPERTIES"]


class _Pairing(NamedTuple):
    """Rows that were left alone, each with the side that it is of (0 or 1), and how many rows there were."""

    alone: list[tuple[int, int]]
    rows: int


def _pairing(read: Evaluator, node: Call) -> _Pairing:
    """Matches the rows of both sides: of two that are near enough both cursors go on, else that of the earlier row."""
    sides = [rows_of(read.flags(arg)).tolist() for arg in node.args]
    width = read.option_frames(node, "within") or 0
    count = passed_for(read, node).tolist()
    mine, theirs = sides
    alone: list[tuple[int, int]] = []
    i = j = 0
    while i < len(mine) and j < len(theirs):
        a, b = mine[i], theirs[j]
        if abs(count[a] - count[b]) <= width:
            i, j = i + 1, j + 1
        elif a < b:
            alone.append((a, 0))
            i += 1
        else:
            alone.append((b, 1))
            j += 1
    for a in mine[i:]:
        alone.append((a, 0))
    for b in theirs[j:]:
        alone.append((b, 1))
    return _Pairing(alone, len(mine) + len(theirs))


def _paired(read: Evaluator, node: Call) -> Judgement:
    found = _pairing(read, node)
    rows = np.array([row for row, _ in found.alone], dtype=np.int64)
    width, count = read.option_frames(node, "within") or 0, passed_for(read, node)
    # Its other half may still come in rows that the trace does not have.
    waits = np.zeros(len(rows), dtype=np.bool_)
    if len(rows):
        waits = count[-1] - count[rows] < width
    wrong, opened = rows[~waits], rows[waits]
    breaches = tuple(Breach(row, row) for row in wrong[:LISTED].tolist())
    waiting = waiting_for(opened, width if node.option("on") is None else None)
    return Judgement(found.rows, len(wrong), breaches, len(opened), None, True, waiting)


def _which_side(read: Evaluator, node: Call, breach: Breach) -> str:
    sides = dict(_pairing(read, node).alone)
    if breach.row not in sides:
        return ""
    side = sides[breach.row]
    other = to_text(node.args[1 - side])
    return f": {to_text(node.args[side])} is alone, no {other} within {to_text(node.named[0][1])} of it"


def _known_in(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The first row in which one is known to be alone: its time is over then."""
    width, count = read.option_frames(node, "within") or 0, passed_for(read, node)
    known = []
    for breach in judgement.breaches:
        if breach.row is not None:
            # While a clock stands the other half may still come: only its next tick ends the time.
            late = 1
            if node.option("on") is None:
                late = 0
            over = int(np.searchsorted(count, count[breach.row] + width + late))
            known.append(over)
    return min((row for row in known if row < read.rows), default=None)


def _values(read: Evaluator, node: Call) -> list[tuple[int, bytes, Any]]:
    """The row of each event that carries the field, its value in one form, and as it is."""
    wanted, field = text_of(node.args[0]), text_of(node.args[1])
    source = text_of(node.option("source")) or None
    found = []
    for row, name, by, text in read.trace.events.fields():
        if name == wanted and text and comes_from(by, source):
            data = msgspec.json.decode(text)
            if field in data:
                # Sorted keys, and whole floats as the ints that they equal: one form for one value.
                found.append((row, msgspec.json.encode(_one_form(data[field]), order="sorted"), data[field]))
    return found


def _one_form(value: Any) -> Any:
    if isinstance(value, float) and value.is_integer() and abs(value) < 2**53:
        return int(value)
    if isinstance(value, list):
        return [_one_form(one) for one in value]
    if isinstance(value, dict):
        return {key: _one_form(one) for key, one in value.items()}
    return value


def _distinct(read: Evaluator, node: Call) -> Judgement:
    first: dict[bytes, int] = {}
    breaches, broken, cases = [], 0, 0
    for row, value, _ in _values(read, node):
        cases += 1
        if value not in first:
            first[value] = row
            continue
        broken += 1
        if broken <= LISTED:
            breaches.append(Breach(first[value], row))
    return Judgement(cases, broken, tuple(breaches), may_be_untested=True)


def _which_value(read: Evaluator, node: Call, breach: Breach) -> str:
    seen: dict[bytes, int] = {}
    for row, form, value in _values(read, node):
        if row == breach.row and seen.get(form) == breach.trigger:
            return f": both carry {text_of(node.args[1])} = {shown_value(value) if not isinstance(value, str) else repr(value)}"
        seen.setdefault(form, row)
    return ""


PROPERTIES = (
    Property(
        name="paired",
        positional=arguments("a:flag b:flag"),
        named=arguments("within:span0 on:clock?"),
        meaning="the rows with a and those with b match one to one, at most so many rows apart",
        fits=clock_fits,
        judge=_paired,
        raised_by=lambda node: Operation("or", node.args),
        how=_which_side,
        final=_known_in,
    ),
    Property(
        name="distinct",
        positional=arguments("name:event field:text"),
        named=arguments("source:text?"),
        meaning="no two events of that name carry the same value of that field",
        judge=_distinct,
        case=("event", "events"),
        raised_by=lambda node: Call("event", node.args[:1]),
        never_raised="never carried it",
        how=_which_value,
        final=first_breach_row,
    ),
)
