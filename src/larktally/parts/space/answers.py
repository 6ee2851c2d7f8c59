"""Answers to a collision as loops have them, beside the sweep: axis by axis, and pushed out of the overlap.

Both move first and look afterwards, so that a fast body goes through what is thin: a game that does so is modelled as it is.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, TypeAlias

from larktally.parts.space.sweep import Contact, ExpandedBox, contact_at, overlapping

__all__ = ["ANSWERS", "Answer", "axis_by_axis", "pushed_out"]

Answer: TypeAlias = Literal["swept", "axis by axis", "pushed out"]
ANSWERS: tuple[Answer, ...] = ("swept", "axis by axis", "pushed out")
# In a corner of several boxes each push may lead into the next.
MOST_PUSHES = 8


def axis_by_axis(
    position: list[float],
    move: Sequence[float],
    velocity: list[float],
    solids: Sequence[ExpandedBox],
    up: int,
    up_sign: float,
) -> list[Contact]:
    """Moves the whole way along one axis after the other, and back to the near face of what is overlapped then; that velocity
    is 0. A one-way box counts along the vertical, for who comes down from above it."""
    contacts = []
    for axis, way in enumerate(move):
        start = position[axis]
        position[axis] = start + way
        if not way:
            continue
        met: ExpandedBox | None = None
        for solid in solids:
            if not overlapping(position, solid) or not _holds(solid, axis, start, way, up, up_sign):
                continue
            # Of several the one that sends it back farthest: its own new place overlaps none of the others then.
            position[axis] = (solid.low if way > 0 else solid.high)[axis]
            met = solid
        if met is not None:
            time = (position[axis] - start) / way
            contacts.append(
                contact_at(axis, -1 if way > 0 else 1, met.box, min(max(time, 0.0), 1.0), abs(velocity[axis]))
            )
            velocity[axis] = 0.0
    return contacts


def pushed_out(
    position: list[float],
    move: Sequence[float],
    velocity: list[float],
    solids: Sequence[ExpandedBox],
    up: int,
    up_sign: float,
) -> list[Contact]:
    """Moves the whole way along all axes at once, then out of each box that is overlapped, along the axis on which it is in
    least; a velocity into the box is 0 then. A one-way box pushes up alone, who comes down from above it."""
    start = list(position)
    for axis, way in enumerate(move):
        position[axis] += way
    contacts: list[Contact] = []
    for _ in range(MOST_PUSHES):
        overlapped = None
        for solid in solids:
            if overlapping(position, solid) and _holds(solid, up, start[up], move[up] if move else 0.0, up, up_sign):
                overlapped = solid
                break
        if overlapped is None:
            return contacts
        contacts.append(_push_out(position, velocity, overlapped, up, up_sign))
    return contacts


def _push_out(position: list[float], velocity: list[float], solid: ExpandedBox, up: int, up_sign: float) -> Contact:
    """Puts a point on the nearest face of a box that it is in; the contact there."""
    ways = []
    for axis, p in enumerate(position):
        ways.append((p - solid.low[axis], axis, -1))
        ways.append((solid.high[axis] - p, axis, 1))
    if solid.box.one_way:
        ways = [(depth, axis, normal) for depth, axis, normal in ways if axis == up and normal * up_sign > 0]
    # The first axis, and its lower face, of equals.
    _, axis, normal = min(ways)
    position[axis] = (solid.low if normal < 0 else solid.high)[axis]
    speed = abs(velocity[axis])
    if velocity[axis] * normal < 0:
        velocity[axis] = 0.0
    return contact_at(axis, normal, solid.box, 1.0, speed)


def _holds(solid: ExpandedBox, axis: int, start: float, way: float, up: int, up_sign: float) -> bool:
    """Whether a box that is overlapped now counts: a one-way box only for who was above it, and comes down."""
    if not solid.box.one_way:
        return True
    top = (solid.high if up_sign > 0 else solid.low)[up]
    return axis == up and way * up_sign < 0 and (start - top) * up_sign >= 0
