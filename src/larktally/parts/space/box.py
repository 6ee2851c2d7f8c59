"""Boxes: what levels are made of."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeAlias

__all__ = ["Box", "Point", "gap_between", "middle_of", "overlap"]

Point: TypeAlias = tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Box:
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


def middle_of(low: Sequence[float], high: Sequence[float]) -> Point:
    """The middle of two corners."""
    return tuple((a + b) / 2 for a, b in zip(low, high, strict=True))


def overlap(
    low: Sequence[float], high: Sequence[float], other_low: Sequence[float], other_high: Sequence[float]
) -> bool:
    """Whether two boxes overlap, each given by its corners; touching is not overlapping."""
    return all(a < d and c < b for a, b, c, d in zip(low, high, other_low, other_high, strict=True))


def gap_between(
    low: Sequence[float], high: Sequence[float], other_low: Sequence[float], other_high: Sequence[float]
) -> float:
    """How far two boxes are apart by their edges; 0 where they overlap or touch."""
    gaps = []
    for a, b, c, d in zip(low, high, other_low, other_high, strict=True):
        gaps.append(max(a - d, c - b, 0.0))
    return math.hypot(*gaps)
