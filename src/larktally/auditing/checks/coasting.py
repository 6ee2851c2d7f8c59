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
                # Up to the first row in which anything is held: from there on somebody may lead it.
                pressed = np.flatnonzero(moving_inputs[start + 1 : start + length])
                if len(pressed):
                    length = int(pressed[0]) + 1
                stay = values[start + 1 : start + length]
                if length < LEAST_ROWS:
                    continue
                label = str(column.at(start))
                if not stay.any():
                    still.setdefault(label, start)
                elif n and (stay == values[start - 1]).all() and stay[0] != 0:
                    kept.setdefault(label, (start, length, float(stay[0])))
            for label in kept.keys() & still.keys():
                start, length, value = kept[label]
                before = str(column.at(start - 1))
                told = (
                    f"keeps {value:g} of {before!r} for {length} rows of {label!r}, from row {start} on, with nothing held; "
                    f"in other stays it is 0 (row {still[label]})"
                )
                claim = f"always(implies({name} == {label!r}, {speed} == 0))"
                more = why_command(start)
                yield Finding(NAME, speed, told, "likely", (start,), length, "", claim, more, 3)
