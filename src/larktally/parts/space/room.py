"""The room about a place: how far something may go before it comes to any of some boxes."""

from __future__ import annotations

import copy
from collections.abc import Iterable
from typing import TypeAlias

__all__ = ["Corners", "Room", "apart"]

#: A box as numbers: left, low, right, high.
Corners: TypeAlias = tuple[float, float, float, float]

# Of a coordinate: far more than what a float64 rounds.
APART = 1e-6


def apart(edge: float) -> float:
    """So far from an edge no rounding can make a difference."""
    return APART * max(1.0, abs(edge))


class Room:
    """A box of places about one of them. Where it is `clear`, whatever stays strictly inside is strictly outside of all boxes
    that it was made among; otherwise it is about the box that is in the way, and whoever is inside may touch that."""

    __slots__ = ("clear", "high", "left", "low", "right")

    def __init__(self, bounds: Corners, boxes: Iterable[Corners], x: float, y: float) -> None:
        left, low, right, high = bounds
        aslant: list[Corners] = []
        self.clear = True
        for corners in boxes:
            first, bottom, last, top = grown = _grown(corners)
            beside, level = last <= x or x <= first, top <= y or y <= bottom
            if beside and level:
                aslant.append(grown)
            elif level:
                if top <= y:
                    low = max(low, top)
                else:
                    high = min(high, bottom)
            elif last <= x:
                left = max(left, last)
            elif x <= first:
                right = min(right, first)
            else:
                self.clear = False
                self.left, self.low, self.right, self.high = grown
                return
        for first, bottom, last, top in aslant:
            # Most are out already, behind one that is nearer.
            if last <= left or right <= first or top <= low or high <= bottom:
                continue
            # Where it costs less of the room: on the side that is farther away.
            if max(x - last, first - x) > max(y - top, bottom - y):
                if last <= x:
                    left = last
                else:
                    right = first
            elif top <= y:
                low = top
            else:
                high = bottom
        self.left, self.low, self.right, self.high = left, low, right, high

    def within(self, other: Room) -> Room:
        """What of it is inside of another one, too; both are about the same place."""
        found = copy.copy(self)
        found.left, found.low = max(self.left, other.left), max(self.low, other.low)
        found.right, found.high = min(self.right, other.right), min(self.high, other.high)
        return found

    def holds(self, x: float, y: float) -> bool:
        """Whether a place is strictly inside."""
        return self.left < x < self.right and self.low < y < self.high


def _grown(corners: Corners) -> Corners:
    left, low, right, high = corners
    return left - apart(left), low - apart(low), right + apart(right), high + apart(high)
