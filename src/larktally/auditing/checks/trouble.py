"""Trouble: bodies inside of solids, outside of their level, or at no place at all; numbers that stop being finite."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen

__all__ = ["look"]

NAME = "trouble"
FAR_OUT = 1e12
# Two seconds of growth by a hundredth in each row are a factor of more than three.
LEAST_GROWING, GROWS, STEADY = 120, 1.01, 0.9
_TOLD = {
    "overlapping": "stands inside of a solid",
    "out_of_bounds": "leaves the level",
    "not_finite": "is at no place any more: a number is not finite",
}


def look(seen: Seen) -> Iterator[Finding]:
    """What bodies say of themselves (overlapping, out_of_bounds, not_finite), and a number that is NaN from a row on to the
    end, where it was one before, or infinite after it grew without bounds; one that multiplies itself in every row to the end.

    Not: distances and ages that are infinite now and then, and free slots of a pool; what grows by steps, as a score, a
    distance and a fall do.
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
                why_command(rows[0]),
                3,
            )
    told_already = {source for (name, source) in seen.events if name == "not_finite"}
    slots = {name.removesuffix(".present") for name in seen.trace.channels if name.endswith(".present")}
    for name, column in seen.of_kind("number"):
        if any(name.startswith(slot + ".") for slot in slots) or name.rpartition(".")[0] in told_already:
            continue
        yield from _multiplies(name, column.stored.astype(np.float64, copy=False))
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
        yield Finding(NAME, name, told, "likely", (row,), len(odd) - row, "", claim, why_command(row), 2)


def _multiplies(name: str, values: npt.NDArray[np.float64]) -> Iterator[Finding]:
    if len(values) < LEAST_GROWING or not np.isfinite(values[-1]):
        return
    tail = np.abs(values[-LEAST_GROWING:])
    if tail[0] == 0 or not np.isfinite(tail).all() or (tail[1:] < GROWS * tail[:-1]).any():
        return
    # What multiplies goes on by the same share; the steps of a fall become small beside how far it is.
    middle = tail[LEAST_GROWING // 2]
    if np.log(tail[-1] / middle) < STEADY * np.log(middle / tail[0]):
        return
    sizes = np.abs(values)
    grows = sizes[1:] >= GROWS * sizes[:-1]
    row = len(values) - int(np.argmin(np.append(False, grows)[::-1]))
    told = f"multiplies itself in every row from {row} on, to {float(values[-1]):g}"
    claim = f"always(abs({name}) <= {float(sizes[max(row - 1, 0)]) * 2 or 1:.6g})"
    yield Finding(NAME, name, told, "likely", (row,), len(values) - row, "", claim, why_command(row), 2)
