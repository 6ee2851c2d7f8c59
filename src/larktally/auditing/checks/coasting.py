"""Coasting: a body that keeps the speed of a state that it has left, in one in which it otherwise stands."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, why_command
from larktally.auditing.seen import Seen, stays_of

__all__ = ["look"]

NAME = "coasting"
LEAST_ROWS = 8


def look(seen: Seen) -> Iterator[Finding]:
    """In a state that was entered with a speed, that speed stays to the last bit, with no input held, where in other stays
    of the same state it is 0 throughout.

    Not: flight, ice and knock-back, whose states never stand still, or slow down.
    """
    speeds = [name for name, _ in seen.of_kind("number") if name.rpartition(".")[2] in ("vx", "vy", "vel_x", "speed_x")]
    moving_inputs = np.zeros(seen.rows, dtype=bool)
    for values in seen.trace.inputs.values():
        moving_inputs |= np.abs(values) >= 0.5
    for name, column in seen.of_kind("label"):
        owner = name.rpartition(".")[0]
        starts, lengths = stays_of(column.stored)
        for speed in speeds:
            # A body and a machine that belong together have one name before theirs, or none at all.
            if speed.rpartition(".")[0] != owner:
                continue
            values = seen.trace[speed]
            still: dict[str, int] = {}
            kept: dict[str, tuple[int, int, float]] = {}
            for n, (start, length) in enumerate(zip(starts.tolist(), lengths.tolist(), strict=True)):
                held = moving_inputs[start + 1 : start + length]
                stay = values[start + 1 : start + length]
                if not (stay == stay[:1]).all() and held.any():
                    # Up to the first row in which anything is held: from there on somebody may lead it.
                    length = int(np.argmax(held)) + 1
                    held, stay = held[: length - 1], stay[: length - 1]
                if (~held).sum() < LEAST_ROWS - 1:
                    continue
                label = str(column.at(start))
                if not stay.any():
                    still.setdefault(label, start)
                elif n and (stay == values[start]).all() and _is_left_over(values[start - 1], stay[0]):
                    kept.setdefault(label, (start, length, float(stay[0])))
            for label in kept.keys() & still.keys():
                start, length, value = kept[label]
                before = str(column.at(start - 1))
                told = (
                    f"keeps {value:g} of {before!r} for {length} rows of {label!r}, from row {start} on; "
                    f"in other stays it is 0 (row {still[label]})"
                )
                claim = f"always(implies({name} == {label!r}, {speed} == 0))"
                more = why_command(start)
                place = seen.place_that_set(speed, start)
                yield Finding(NAME, speed, told, "likely", (start,), length, place, claim, more, 3)


def _is_left_over(before: float, after: float) -> bool:
    """Whether a speed is what another was, or what is left of it after a last step of slowing down."""
    return after != 0 and 0.5 <= after / before <= 1 if before else False
