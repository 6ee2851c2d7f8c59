"""Where a body is: its position by its anchor, its corners, centre and feet, and moving it by a sweep."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

from larktally.errors import ModelError, unknown_name
from larktally.parts.part import Part
from larktally.parts.space.checks import numbers, size_of
from larktally.parts.space.level import Box, Level
from larktally.parts.space.nearby import Nearby
from larktally.parts.space.sweep import Contact, overlapping, sweep

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Placed", "ANCHORS"]

ANCHORS = ("corner", "centre", "feet")


class Placed(Part):
    """A box of `size` in a level, at x, y (and z): the place of its `anchor`, which is its minimum corner by default."""

    x: float
    y: float
    z: float

    def __init__(
        self,
        sim: Sim,
        name: str,
        size: Sequence[float],
        at: Sequence[float],
        anchor: str,
        layers: Iterable[str] | None,
    ) -> None:
        super().__init__(sim, name)
        what = f"body {name!r}"
        self.level: Level = sim.level
        self.axes = self.level.axes
        self.size = size_of(what, size, len(self.axes))
        if anchor not in ANCHORS:
            raise ModelError(unknown_name("anchor", anchor, ANCHORS, what))
        self.up, self.up_sign = self.level.up_axis, self.level.up_sign
        before = _reach_before(anchor, self.size, self.up, self.up_sign)
        after = tuple(side - reach for side, reach in zip(self.size, before, strict=True))
        self.near = Nearby(self.level, before, after, self.level.check_layers(layers))
        self.falls_through = False
        self.set_position(numbers(what, "at", at, len(self.axes)))

    @property
    def position(self) -> tuple[float, ...]:
        """x and y (and z), of its anchor."""
        return (self.x, self.y) if len(self.axes) == 2 else (self.x, self.y, self.z)

    def set_position(self, position: Sequence[float]) -> None:
        """Sets x and y (and z)."""
        for axis, value in zip(self.axes, position, strict=True):
            setattr(self, axis, value)

    @property
    def low(self) -> tuple[float, ...]:
        """Its minimum corner."""
        return tuple(p - reach for p, reach in zip(self.position, self.near.before, strict=True))

    @property
    def high(self) -> tuple[float, ...]:
        """Its maximum corner."""
        return tuple(p + reach for p, reach in zip(self.position, self.near.after, strict=True))

    @property
    def centre(self) -> tuple[float, ...]:
        """Its middle."""
        return tuple((a + b) / 2 for a, b in zip(self.low, self.high, strict=True))

    @property
    def feet(self) -> tuple[float, ...]:
        """The middle of its underside."""
        down = self.low if self.up_sign > 0 else self.high
        return tuple(down[i] if i == self.up else middle for i, middle in enumerate(self.centre))

    def would_overlap(self, offset: Sequence[float], layers: Iterable[str] | None = None) -> list[Box]:
        """The solids it would overlap if it stood `offset` away; it stays where it is. One-way boxes do not count."""
        wanted = self.level.check_layers(layers, ("platform", "enclosure"))
        ways = numbers(f"body {self.name!r}", "offset", offset, len(self.axes))
        there = [p + way for p, way in zip(self.position, ways, strict=True)]
        solids = self.near.solids(there, [0.0] * len(there), through_one_way=True)
        return [s.box for s in solids if (wanted is None or s.box.layer in wanted) and overlapping(there, s)]

    def shift(self, move: Sequence[float], ignoring: Callable[[], Iterable[Box]] | None = None) -> list[Contact]:
        """Moves it by a sweep, without touching its velocity; the contacts that stopped it. `ignoring` does not count."""
        position, way = list(self.position), list(move)
        solids = self.near.solids(position, way, through_one_way=self.falls_through, ignoring=ignoring)
        contacts = sweep(position, way, [0.0] * len(way), solids, self.up, self.up_sign)
        self.set_position(position)
        return contacts


def _reach_before(anchor: str, size: Sequence[float], up: int, sign: float) -> tuple[float, ...]:
    """How far a body reaches below its anchor along each axis."""
    if anchor == "corner":
        return (0.0,) * len(size)
    feet = 0.0 if sign > 0 else 1.0
    return tuple(side * (feet if anchor == "feet" and i == up else 0.5) for i, side in enumerate(size))
