"""How far a body may walk along its floor before anything changes for it."""

from __future__ import annotations

import math
from collections.abc import Sequence

from larktally.parts.space.box import Box
from larktally.parts.space.room import apart
from larktally.parts.space.solid_query import Region
from larktally.parts.space.sweep import Contact, ExpandedBox

__all__ = ["Floor", "floor_under"]


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


def floor_under(around: Region, x: float, y: float, up_sign: float, movers: Sequence[ExpandedBox] = ()) -> Floor | None:
    """The floor under a body that stands at x and y, among the still solids of a region and what moves near it; None where it
    stands on none, or inside of something, as only the sweep can tell then."""
    # No farther than the level, and the cells whose solids these are.
    (first, _), (last, _) = around.outside
    low, high, floor = first, last, None
    for solid in (*around.solids, *movers):
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
                first = max(first, right + apart(right))
            elif left >= x:
                last = min(last, left - apart(left))
            else:
                return None
    if floor is None or not first < x < last:
        return None
    return Floor(floor, y, (max(low, first), min(high, last)), (first, last))
