"""What the properties of the language share: rows as breaches, open cases, and the words of a breach.

R is the number of rows, the last row is R - 1. Breaches come in the order of their trigger, or of their row where there is
none.
"""

from __future__ import annotations

import itertools
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language.columns import Array, Evaluator
from larktally.language.judgement import LISTED, Breach, Judgement, Margin
from larktally.language.tree import Call, Node
from larktally.timing import seconds_at

__all__ = [
    "Rows",
    "first_breach_row",
    "first_rows",
    "in_rows",
    "last_row_of",
    "one_case",
    "pairs",
    "row_text",
    "rows_of",
    "waiting_for",
]

Rows: TypeAlias = npt.NDArray[np.int64]


def rows_of(flags: Array) -> Rows:
    """The rows that hold."""
    return np.flatnonzero(flags)


def first_rows(flags: Array) -> Rows:
    """The first rows that hold, as many as are listed: of a claim that is broken in half of a million rows the others are only
    counted."""
    start, size = 0, 64 * LISTED
    found = [np.zeros(0, dtype=np.int64)]
    while start < len(flags) and sum(map(len, found)) < LISTED:
        found.append(start + np.flatnonzero(flags[start : start + size]))
        # Where few hold, most of the rows are gone through in a few steps.
        start, size = start + size, 4 * size
    return np.concatenate(found)[:LISTED]


def in_rows(rows: Rows) -> tuple[Breach, ...]:
    """A breach in each row, without a trigger."""
    # As Python ints: a breach stands in JSON and in messages. Those after the first hundred are counted, not listed.
    return tuple(map(Breach._make, zip(itertools.repeat(None), rows[:LISTED].tolist())))


def pairs(triggers: Rows, rows: Rows) -> tuple[Breach, ...]:
    """A breach for each trigger, in its row."""
    return tuple(map(Breach._make, zip(triggers[:LISTED].tolist(), rows[:LISTED].tolist(), strict=True)))


def waiting_for(opened: Rows, width: int | None) -> Breach | None:
    """The first of the rows with an open case, and the row that decides the last one, `width` rows after it."""
    if not len(opened):
        return None
    return Breach(int(opened[0]), None if width is None else int(opened[-1]) + width)


def last_row_of(read: Evaluator) -> int | None:
    """The last row, None where there is none."""
    if read.rows:
        return read.rows - 1
    return None


def one_case(read: Evaluator, kept: bool, row: int | None, margin: Margin = None) -> Judgement:
    """One case that is decided."""
    return Judgement(1, int(not kept), () if kept else (Breach(None, row),), slack=margin)


def first_breach_row(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    """The first row of a breach: the row in which it is known, for most properties."""
    return min((breach.row for breach in judgement.breaches if breach.row is not None), default=None)


def row_text(read: Evaluator, row: int) -> str:
    """A row with its time, where a rate is known: row 52 (0.867 s)."""
    rate = read.names.rate
    if rate is None:
        return f"row {row}"
    return f"row {row} ({seconds_at(row, rate):.3f} s)"


def first_from(read: Evaluator, condition: Node, row: int) -> int | None:
    """The first row from `row` on in which a condition holds, None where it does not."""
    later = np.flatnonzero(read.flags(condition)[row:])
    if len(later):
        return row + int(later[0])
    return None
