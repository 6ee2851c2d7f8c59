"""How far a body may go among the same solids before anything changes for it: along its floor, and through the air."""

from __future__ import annotations

import math

from larktally.parts.space.solid_query import SolidQuery
from larktally.parts.space.sweep import Contact, ExpandedBox

__all__ = ["Floor", "Gap"]

# Of a coordinate: far more than what a float64 rounds.
APART = 1e-6


class Floor:
    """How far a body may walk at one height, among some solids, on the floor that it stands on: while it stays strictly
    between `low` and `high` along x it meets that floor and nothing else. `vy` pressed it down last, and made `contacts`."""

    __slots__ = ("box", "contacts", "high", "low", "solids", "vy", "y")

    def __init__(self, near: SolidQuery, floor: ExpandedBox, x: float, y: float, up_sign: float) -> None:
        self.solids, self.box, self.y = near.still, floor.box, y
        # No farther than the level, and the cells whose solids these are, whose own edges are inside of them.
        self.low = max(floor.low[0], math.nextafter(near.inner_low[0], -math.inf))
        self.high = min(floor.high[0], math.nextafter(near.inner_high[0], math.inf))
        self.vy, self.contacts = 0.0, list[Contact]()
        for low, high, _ in near.still:
            surface = low[1]
            if up_sign > 0:
                surface = high[1]
            if y != surface and not low[1] < y < high[1]:
                continue
            if high[0] <= x:
                self.low = max(self.low, high[0] + _apart(high[0]))
            elif low[0] >= x:
                self.high = min(self.high, low[0] - _apart(low[0]))
            else:
                # A second floor at the same height, or what it is inside of: as long as it stays so.
                self.low, self.high = max(self.low, low[0]), min(self.high, high[0])


class Gap:
    """How some solids stand about a body in the air: while it stays strictly between `low` and `high` along y it is either
    `clear` of all of them, wherever it goes along x, or beside the same ones."""

    __slots__ = ("clear", "high", "low", "solids")

    def __init__(self, solids: tuple[ExpandedBox, ...], y: float) -> None:
        self.solids, self.clear, self.low, self.high = solids, True, -math.inf, math.inf
        for low, high, _ in solids:
            if high[1] <= y:
                self.low = max(self.low, high[1] + _apart(high[1]))
            elif low[1] >= y:
                self.high = min(self.high, low[1] - _apart(low[1]))
            else:
                self.clear, self.low, self.high = False, max(self.low, low[1]), min(self.high, high[1])


def _apart(edge: float) -> float:
    """So far from an edge no rounding of the sweep's times of impact can make a difference."""
    return APART * max(1.0, abs(edge))
