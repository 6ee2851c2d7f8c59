"""How far a body may go among the same solids before anything changes for it: along its floor, and through the air."""

from __future__ import annotations

import math
from collections.abc import Sequence

from larktally.parts.space.box import Box
from larktally.parts.space.solid_query import SolidQuery
from larktally.parts.space.sweep import Contact, ExpandedBox

__all__ = ["Floor", "Gap", "floor_under"]

# Of a coordinate: far more than what a float64 rounds.
APART = 1e-6


class Floor:
    """How far a body may walk at one height, among some solids: while it starts strictly between `low` and `high` along x, and
    goes no farther than strictly between `first` and `last`, it meets the floor `box` and nothing else.

    `vy` pressed it down last, and made `contacts`; `gravity` is what does so again where it starts at rest (NaN: not known).
    """

    __slots__ = ("box", "contacts", "first", "gravity", "high", "last", "low", "vy", "y")

    def __init__(self, box: Box, y: float, start: tuple[float, float], way: tuple[float, float]) -> None:
        self.box, self.y = box, y
        self.low, self.high = start
        self.first, self.last = way
        self.vy, self.gravity, self.contacts = 0.0, math.nan, list[Contact]()


def floor_under(
    near: SolidQuery, x: float, y: float, up_sign: float, movers: Sequence[ExpandedBox] = ()
) -> Floor | None:
    """The floor under a body that stands at x and y, among the still solids that were found last and what moves near it; None
    where it stands on none, or inside of something, as only the sweep can tell then."""
    # No farther than the level, and the cells whose solids these are.
    (first, _), (last, _) = near.outside
    low, high, floor = first, last, None
    for solid in (*near.still, *movers):
        left, right = solid.low[0], solid.high[0]
        surface = solid.low[1]
        if up_sign > 0:
            surface = solid.high[1]
        if y == surface:
            # Of several the first one is met, wherever it reaches: those after it make no difference, not even at an edge.
            if floor is not None:
                continue
            if left < x < right:
                floor, low, high = solid.box, max(low, left), min(high, right)
            elif right <= x:
                low = max(low, math.nextafter(right, -math.inf))
            else:
                high = min(high, math.nextafter(left, math.inf))
        elif solid.low[1] < y < solid.high[1]:
            if right <= x:
                first = max(first, right + _apart(right))
            elif left >= x:
                last = min(last, left - _apart(left))
            else:
                return None
    if floor is None or not first < x < last:
        return None
    return Floor(floor, y, (max(low, first), min(high, last)), (first, last))


class Gap:
    """How some solids stand about a body in the air: while it stays strictly between `low` and `high` along y, and between
    `left` and `right` along x, it is either `clear` of all of them or beside the same ones."""

    __slots__ = ("clear", "high", "left", "low", "right")

    def __init__(self, near: SolidQuery, y: float) -> None:
        (left, lowest), (right, highest) = near.outside
        clear = True
        for (_, bottom), (_, top), _ in near.still:
            if top <= y:
                top += _apart(top)
                if top > lowest:
                    lowest = top
            elif bottom >= y:
                bottom -= _apart(bottom)
                if bottom < highest:
                    highest = bottom
            else:
                clear, lowest, highest = False, max(lowest, bottom), min(highest, top)
        self.clear, self.left, self.right, self.low, self.high = clear, left, right, lowest, highest


def _apart(edge: float) -> float:
    """So far from an edge no rounding of the sweep's times of impact can make a difference."""
    return APART * max(1.0, abs(edge))
