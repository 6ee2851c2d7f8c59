"""Trouble: bodies inside of solids, outside of their level, or at no place at all; numbers that stop being finite."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, rows_text
from larktally.auditing.seen import Seen

__all__ = ["look"]

NAME = "trouble"
FAR_OUT = 1e12
_TOLD = {
    "overlapping": "stands inside of a solid",
    "out_of_bounds": "leaves the level",
    "not_finite": "is at no place any more: a number is not finite",
}


def look(seen: Seen) -> Iterator[Finding]:
    """What bodies say of themselves (overlapping, out_of_bounds, not_finite), and a number that is NaN from a row on to the
    end, where it was one before, or infinite after it grew without bounds.

    Not: distances and ages that are infinite now and then, and free slots of a pool.
    """
    for (name, source), rows in seen.events.items():
        if name in _TOLD:
            told = f"{_TOLD[name]}, {rows_text(rows, len(rows))}"
            claim = f"never(event({name!r}, source={source!r}))"
            yield Finding(
                NAME,
                source,
                told,
                "sure",
                tuple(rows[:3]),
                len(rows),
                "",
                claim,
                f"larktally why TRACE FILE.py {rows[0]}",
                3,
            )
    told_already = {source for (name, source) in seen.events if name == "not_finite"}
    slots = {name.removesuffix(".present") for name in seen.trace.channels if name.endswith(".present")}
    for name, column in seen.of_kind("number"):
        if any(name.startswith(slot + ".") for slot in slots) or name.rpartition(".")[0] in told_already:
            continue
        odd = ~np.isfinite(column.stored)
        if len(odd) < 2 or odd[0] or not odd[-1]:
            continue
        row = len(odd) - int(np.argmin(odd[::-1]))
        # A distance to nothing is infinite at once; a number that grows without end comes there from far out.
        from_far_out = np.abs(column.stored[row - 1]) > FAR_OUT
        if odd[:row].any() or not (np.isnan(column.stored[row]) or from_far_out):
            continue
        value = float(column.stored[row])
        told = f"is {value} from row {row} on, to the end; it was {float(column.stored[row - 1]):g} before"
        claim = f"always({name} - {name} == 0)"
        yield Finding(
            NAME, name, told, "likely", (row,), len(odd) - row, "", claim, f"larktally why TRACE FILE.py {row}", 2
        )
