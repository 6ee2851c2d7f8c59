"""Nearly back: a number that rests at a value, and at another that only rounding tells from it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, why_command
from larktally.auditing.seen import Seen, stays_of

__all__ = ["look"]

NAME = "nearly back"
# A value that is passed through is no place where something rests.
LEAST_STAY = 3
STEPS = 64
NOTHING = 1e-9


def look(seen: Seen) -> Iterator[Finding]:
    """Two values a few float steps apart, at each of which a number stood for three rows, or a tiny one in place of 0.

    Not: numbers that ease towards a goal, which rest nowhere near it.
    """
    for name, column in seen.of_kind("number"):
        starts, lengths = stays_of(column.stored)
        resting = starts[lengths >= LEAST_STAY]
        values = column.stored[resting].astype(np.float64)
        resting, values = resting[np.isfinite(values)], values[np.isfinite(values)]
        levels, first = np.unique(values, return_index=True)
        tiny = (levels != 0) & (np.abs(levels) < NOTHING)
        close = np.diff(levels) <= STEPS * np.spacing(np.abs(levels[1:])) if len(levels) > 1 else np.zeros(0, bool)
        if tiny.any():
            at = int(np.flatnonzero(tiny)[0])
            other, value = 0.0, float(levels[at])
        elif close.any():
            at = int(np.flatnonzero(close)[0])
            other, value = float(levels[at + 1]), float(levels[at])
            # Told in the row in which the second of the two is come to.
            at = at if resting[first[at]] > resting[first[at + 1]] else at + 1
        else:
            continue
        row = int(resting[first[at]])
        told = f"rests at {value!r} where {other!r} is meant: a sum of floats that does not come out even, from row {row} on"
        claim = f"always(implies(near({name}, {other!r}, 0.000001), {name} == {other!r}))"
        place = seen.place_that_set(name, row)
        yield Finding(NAME, name, told, "likely", (row,), 1, place, claim, why_command(row), 1)
