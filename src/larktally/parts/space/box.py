"""Boxes: what levels are made of."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TypeAlias

import msgspec

__all__ = ["Box", "Point", "Round", "gap_between", "gap_to", "meets", "middle_of", "overlap", "round_at"]

Point: TypeAlias = tuple[float, ...]


class Box(msgspec.Struct, frozen=True):
    """An axis-aligned box from `low` to `high` on a layer; a one-way box stops only what comes from above."""

    low: Point
    high: Point
    layer: str = "solid"
    one_way: bool = False
    name: str = ""

    @property
    def centre(self) -> Point:
        """Its middle."""
        return middle_of(self.low, self.high)

    @property
    def called(self) -> str:
        """What messages and events call it: its name, or the name of its layer."""
        return self.name or self.layer


class Round(Box, frozen=True):
    """A disc (a ball in 3-D) of a radius about the middle of `low` and `high`, which are the corners around it."""

    radius: float = 0.0

    def reach(self, low: Sequence[float], high: Sequence[float]) -> float:
        """How far its middle is from the nearest point of a box."""
        gaps = []
        for a, b, c in zip(low, high, self.centre, strict=True):
            gaps.append(max(a - c, c - b, 0.0))
        return math.hypot(*gaps)


def round_at(centre: Sequence[float], radius: float, layer: str = "zone", name: str = "") -> Round:
    """A disc or ball about a point."""
    low, high = (tuple(c + side * radius for c in centre) for side in (-1, 1))
    return Round(low, high, layer, name=name, radius=radius)


def middle_of(low: Sequence[float], high: Sequence[float]) -> Point:
    """The middle of two corners."""
    return tuple((a + b) / 2 for a, b in zip(low, high, strict=True))


def overlap(
    low: Sequence[float], high: Sequence[float], other_low: Sequence[float], other_high: Sequence[float]
) -> bool:
    """Whether two boxes overlap, each given by its corners; touching is not overlapping."""
    return all(a < d and c < b for a, b, c, d in zip(low, high, other_low, other_high, strict=True))


def meets(piece: Box, low: Sequence[float], high: Sequence[float]) -> bool:
    """Whether a box or a disc overlaps a box; touching is not overlapping."""
    if isinstance(piece, Round):
        return piece.reach(low, high) < piece.radius
    return overlap(low, high, piece.low, piece.high)


def gap_to(piece: Box, low: Sequence[float], high: Sequence[float]) -> float:
    """How far a box or a disc is from a box by their edges; 0 where they overlap or touch."""
    if isinstance(piece, Round):
        return max(piece.reach(low, high) - piece.radius, 0.0)
    return gap_between(low, high, piece.low, piece.high)


def gap_between(
    low: Sequence[float], high: Sequence[float], other_low: Sequence[float], other_high: Sequence[float]
) -> float:
    """How far two boxes are apart by their edges; 0 where they overlap or touch."""
    gaps = []
    for a, b, c, d in zip(low, high, other_low, other_high, strict=True):
        gaps.append(max(a - d, c - b, 0.0))
    return math.hypot(*gaps)
