"""Boxes: what levels are made of."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

__all__ = ["Box", "Point"]

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
        found = []
        for low, high in zip(self.low, self.high, strict=True):
            found.append((low + high) / 2)
        return tuple(found)

    @property
    def called(self) -> str:
        """What messages and events call it: its name, or the name of its layer."""
        return self.name or self.layer
