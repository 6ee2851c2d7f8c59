"""The sweep: a point moved straight among boxes until the earliest impact, that axis stopped, the rest of the way gone on.

A body with extent becomes a point by growing every box by the body's own extent (Minkowski sum), so that one surface
number serves the impact, the snap and the overlap test: after a snap nothing overlaps, bit for bit. Times of impact
come from the slab test (Kay and Kajiya, "Ray tracing complex scenes", 1986), swept along the displacement.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from larktally.parts.space.level import Box

__all__ = ["Grown", "Contact", "clear", "contact_at", "grow", "sweep", "overlapping"]

MOST_IMPACTS = 8


class Grown(NamedTuple):
    """A box grown by a body's extent: the body overlaps it where low < position < high along every axis."""

    low: tuple[float, ...]
    high: tuple[float, ...]
    box: Box


class Contact(NamedTuple):
    """One impact: the axis, the sign of the surface's normal along it, the box met, and the time of impact in [0, 1]."""

    axis: int
    normal: int
    box: Box
    time: float
    speed: float


_contact: Callable[[tuple[int, int, Box, float, float]], Contact] = partial(tuple.__new__, Contact)


def contact_at(axis: int, normal: int, box: Box, time: float, speed: float) -> Contact:
    """A contact, made without the cost of checking names."""
    return _contact((axis, normal, box, time, speed))


def grow(box: Box, before: Sequence[float], after: Sequence[float]) -> Grown:
    """A box as a point meets it whose body reaches `before` below and `after` above it along each axis."""
    low = tuple(side - reach for side, reach in zip(box.low, after, strict=True))
    high = tuple(side + reach for side, reach in zip(box.high, before, strict=True))
    return Grown(low, high, box)


def overlapping(position: Sequence[float], solid: Grown) -> bool:
    """Whether a body at that position overlaps; touching is not overlapping."""
    low, high, _ = solid
    for i, p in enumerate(position):
        if not low[i] < p < high[i]:
            return False
    return True


def clear(start: float, way: float, end: float, low: float, high: float) -> bool:
    """Whether a move stays strictly on one side of a box along an axis, judged with the sweep's own expressions."""
    if start >= high:
        return end > high and (way >= 0.0 or (high - start) / way > 1.0)
    return start <= low and end < low and (way <= 0.0 or (low - start) / way > 1.0)


def sweep(
    position: list[float],
    move: list[float],
    velocity: list[float],
    solids: Sequence[Grown],
    up: int = 1,
    up_sign: float = 1.0,
    bounce: float = 0.0,
) -> list[Contact]:
    """Moves `position` by `move` among the solids, in place, and returns the contacts in order of impact.

    Each contact stops its axis (`velocity` 0 there), or turns it round with `bounce` of its speed. Where impacts fall
    together the first axis stops first. A body that starts inside a solid is not held by it. One-way boxes stop only
    what moves against `up` and started above.
    """
    contacts: list[Contact] = []
    start = position[:]
    gone = 0.0
    while solids:
        found = _first(position, move, solids, up, up_sign)
        if found is None:
            break
        time, axis, (low, high, box) = found
        positive = move[axis] > 0
        surface = low[axis] if positive else high[axis]
        if time:
            for i, way in enumerate(move):
                position[i] += way * time
                move[i] = way * (1.0 - time)
            gone += (1.0 - gone) * time
        position[axis] = surface
        contacts.append(_contact((axis, -1 if positive else 1, box, gone, abs(velocity[axis]))))
        if bounce:
            move[axis] *= -bounce
            velocity[axis] *= -bounce
        else:
            move[axis] = velocity[axis] = 0.0
            if len(solids) == 1:
                solids = ()  # a box lies wholly beyond the surface at which it stopped a body: it is not met again
        if solids:
            _settle(position, start, solids)
        if len(contacts) == MOST_IMPACTS:
            return contacts
    for i, way in enumerate(move):
        if way:
            position[i] += way
    if solids:
        _settle(position, start, solids)
    return contacts


def _first(
    position: Sequence[float], move: Sequence[float], solids: Sequence[Grown], up: int, up_sign: float
) -> tuple[float, int, Grown] | None:
    """The earliest impact in [0, 1]: its time, axis and solid."""
    best, best_axis, best_solid = 2.0, -1, None
    for solid in solids:
        enter, leave, axis = -1.0, 2.0, -1
        low, high, box = solid
        for i, way in enumerate(move):
            p = position[i]
            if way > 0.0:
                first, last = (low[i] - p) / way, (high[i] - p) / way
            elif way < 0.0:
                first, last = (high[i] - p) / way, (low[i] - p) / way
            elif low[i] < p < high[i]:
                continue
            else:
                break
            if first > enter:
                enter, axis = first, i
            if last < leave:
                leave = last
            if enter >= leave:
                break
        else:
            if 0.0 <= enter <= 1.0 and (enter < best or (enter == best and axis < best_axis)):
                if box.one_way and (axis != up or move[up] * up_sign >= 0.0):
                    continue
                best, best_axis, best_solid = enter, axis, solid
    return None if best_solid is None else (best, best_axis, best_solid)


def _settle(position: list[float], start: Sequence[float], solids: Sequence[Grown]) -> None:
    """Puts a position that rounding led across a surface by a last bit back onto that surface."""
    for solid in solids:
        low, high, box = solid
        for i, p in enumerate(position):
            if not low[i] < p < high[i]:
                break
        else:
            if not box.one_way and not overlapping(start, solid):
                position[:] = _nearest_outside(position, solid)


def _nearest_outside(position: Sequence[float], solid: Grown) -> list[float]:
    ways = [(abs(p - side), i, side) for i, p in enumerate(position) for side in (solid.low[i], solid.high[i])]
    _, axis, side = min(ways)
    return [side if i == axis else p for i, p in enumerate(position)]
