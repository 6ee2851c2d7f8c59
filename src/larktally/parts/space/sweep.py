"""The sweep: a point moved straight among boxes until the earliest impact, that axis stopped, the rest of the way gone on.

A body with extent becomes a point by growing every box by the body's own extent (Minkowski sum), so that one surface
number serves the impact, the snap and the overlap test: after a snap nothing overlaps, bit for bit. Times of impact
come from the slab test (Kay and Kajiya, "Ray tracing complex scenes", 1986), swept along the displacement.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import NamedTuple

from larktally.parts.space.box import Box

__all__ = ["ExpandedBox", "Contact", "clear", "contact_at", "grow", "overlapping", "pressed_onto", "sweep"]

# A body in a corner meets two or three surfaces in a frame. One that bounces between two walls could go on for ever.
MOST_IMPACTS = 8


class ExpandedBox(NamedTuple):
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


# tuple.__new__ makes a NamedTuple without the call of its own __new__, which a contact in every frame would pay for.
_contact: Callable[[tuple[int, int, Box, float, float]], Contact] = partial(tuple.__new__, Contact)


def contact_at(axis: int, normal: int, box: Box, time: float, speed: float) -> Contact:
    """A contact, made without the cost of checking names."""
    return _contact((axis, normal, box, time, speed))


def pressed_onto(box: Box, speed: float, up_sign: float) -> list[Contact]:
    """The contact of a body that stands on a box, and is pressed down onto it with a speed in a frame."""
    return [contact_at(1, 1 if up_sign > 0 else -1, box, 0.0, abs(speed))]


def grow(box: Box, extent_low: Sequence[float], extent_high: Sequence[float]) -> ExpandedBox:
    """A box as a point meets it whose body reaches `extent_low` below and `extent_high` above it along each axis."""
    # Written out for a plane, which most levels are.
    if len(extent_low) == 2:
        (left, bottom), (right, top) = box.low, box.high
        corner = (left - extent_high[0], bottom - extent_high[1])
        return ExpandedBox(corner, (right + extent_low[0], top + extent_low[1]), box)
    low = tuple(side - reach for side, reach in zip(box.low, extent_high, strict=True))
    high = tuple(side + reach for side, reach in zip(box.high, extent_low, strict=True))
    return ExpandedBox(low, high, box)


def overlapping(position: Sequence[float], solid: ExpandedBox) -> bool:
    """Whether a body at that position overlaps; touching is not overlapping."""
    low, high, _ = solid
    for i, p in enumerate(position):
        if not low[i] < p < high[i]:
            return False
    return True


def clear(start: float, component: float, end: float, low: float, high: float) -> bool:
    """Whether a move stays strictly on one side of a box along an axis, judged with the sweep's own expressions."""
    if start >= high:
        return end > high and (component >= 0.0 or (high - start) / component > 1.0)
    return start <= low and end < low and (component <= 0.0 or (low - start) / component > 1.0)


def sweep(
    position: list[float],
    move: list[float],
    velocity: list[float],
    solids: Sequence[ExpandedBox],
    up: int = 1,
    up_sign: float = 1.0,
    bounce: float = 0.0,
) -> list[Contact]:
    """Moves `position` by `move` among the solids, in place, and returns the contacts in order of impact.

    Each contact stops its axis (`velocity` 0 there), or turns it round with `bounce` of its speed. Where impacts fall
    together a face counts before an edge and an edge before a corner, so that the seams of a floor of many boxes stop
    nothing; between equals the first axis stops first. A body that starts inside a solid is not held by it. One-way boxes
    stop only what moves against `up` and started above.
    """
    contacts: list[Contact] = []
    start = position[:]
    # The share of the whole move that is behind it: times of impact are told in the frame, not in what is left of it.
    gone = 0.0
    while solids:
        found = _first(position, move, solids, up, up_sign)
        if found is None:
            break
        time, axis, (low, high, box) = found
        positive = move[axis] > 0
        if positive:
            surface = low[axis]
        else:
            surface = high[axis]
        if time:
            for i, component in enumerate(move):
                position[i] += component * time
                move[i] = component * (1.0 - time)
            gone += (1.0 - gone) * time
        # The surface's own number, not the sum that leads there: nothing overlaps after a snap, bit for bit.
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
    for i, component in enumerate(move):
        if component:
            position[i] += component
    if solids:
        _settle(position, start, solids)
    return contacts


def _first(
    position: Sequence[float], move: Sequence[float], solids: Sequence[ExpandedBox], up: int, up_sign: float
) -> tuple[float, int, ExpandedBox] | None:
    """The earliest impact in [0, 1]: its time, axis and solid."""
    best, best_ties, best_axis, best_solid = 2.0, 0, -1, None
    # Plain comparisons on numbers in tuples: this loop is most of what a body costs.
    for solid in solids:
        # Beyond [0, 1] on both sides, so that a slab that is left or entered outside of the move changes nothing.
        enter, leave, axis, ties = -1.0, 2.0, -1, 0
        low, high, box = solid
        for i, component in enumerate(move):
            p = position[i]
            if component > 0.0:
                first, last = (low[i] - p) / component, (high[i] - p) / component
            elif component < 0.0:
                first, last = (high[i] - p) / component, (low[i] - p) / component
            elif low[i] < p < high[i]:
                continue
            else:
                break
            if first > enter:
                enter, axis, ties = first, i, 0
            elif first == enter:
                # Two slabs entered at once: it comes to an edge (three: a corner), not to a face.
                ties += 1
            if last < leave:
                leave = last
            if enter >= leave:
                break
        else:
            if 0.0 <= enter <= 1.0 and (
                enter < best or (enter == best and (ties < best_ties or (ties == best_ties and axis < best_axis)))
            ):
                if box.one_way and (axis != up or move[up] * up_sign >= 0.0):
                    continue
                best, best_ties, best_axis, best_solid = enter, ties, axis, solid
    if best_solid is None:
        return None
    return (best, best_axis, best_solid)


def _settle(position: list[float], start: Sequence[float], solids: Sequence[ExpandedBox]) -> None:
    """Puts a position that rounding led across a surface by a last bit back onto that surface."""
    crossed = []
    for solid in solids:
        low, high, box = solid
        for i, p in enumerate(position):
            if not low[i] < p < high[i]:
                break
        else:
            if not box.one_way and not overlapping(start, solid):
                crossed.append((len(_outside_axes(start, solid)), solid))
    # First the solids that it can have entered through one face only: where a wall has a seam, those beside the seam are
    # behind it, and are not overlapped any more once the wall is.
    for _, solid in sorted(crossed, key=lambda one: one[0]):
        if overlapping(position, solid):
            position[:] = _nearest_outside(position, solid, _outside_axes(start, solid))


def _outside_axes(start: Sequence[float], solid: ExpandedBox) -> list[int]:
    """The axes along which a place is beside a solid: through a face of one of these a move from there enters it."""
    return [i for i, p in enumerate(start) if not solid.low[i] < p < solid.high[i]]


def _nearest_outside(position: Sequence[float], solid: ExpandedBox, axes: Sequence[int]) -> list[float]:
    # The nearest face; where two are as near the first axis, so that no result hangs on the order of boxes.
    faces = []
    for i in axes:
        for side in (solid.low[i], solid.high[i]):
            faces.append((abs(position[i] - side), i, side))
    _, axis, side = min(faces)
    return [side if i == axis else p for i, p in enumerate(position)]
