"""What platforms and enclosures have in common: a place and a size that they lead, and whom they pushed or crushed."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, TypeVar

from larktally.parts.part import Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box

__all__ = ["MovingBox", "place_ending_by", "place_starting_by"]

B = TypeVar("B", bound=Body)


class MovingBox(Part):
    """A box that moves by itself, before the bodies do, and is solid to them."""

    phase = "motion"
    runs_first = True
    position: Any

    def __init__(self, sim: SimProtocol, name: str) -> None:
        super().__init__(sim, name)
        self.position = ()
        self._rate = float(sim.rate)
        # Whom it pushed and crushed in its last frame: each is said in the row in which it begins.
        self._pushing: list[str] = []
        self._crushing: list[str] = []

    x = property(lambda self: self.position[0])
    y = property(lambda self: self.position[1])
    z = property(lambda self: self.position[2])

    @property
    def sides(self) -> Sequence[float]:
        """How long it is along each axis, as it stands."""
        raise NotImplementedError

    def solid_boxes(self) -> Sequence[Box]:
        """What bodies and rays meet of it, where it stands."""
        raise NotImplementedError

    @property
    def low(self) -> tuple[float, ...]:
        """Its minimum corner."""
        return tuple(self.position)

    @property
    def high(self) -> tuple[float, ...]:
        """Its maximum corner."""
        position, sides = self.position, self.sides
        # Written out for a plane, which most levels are.
        if len(position) == 2:
            return (position[0] + sides[0], position[1] + sides[1])
        return tuple(p + side for p, side in zip(position, sides, strict=True))

    @property
    def centre(self) -> tuple[float, ...]:
        """Its middle."""
        return tuple(p + side / 2 for p, side in zip(self.position, self.sides, strict=True))

    @property
    def feet(self) -> tuple[float, ...]:
        """The middle of its underside; raises ModelError in a level without an up."""
        return self.sim.level.underside(repr(self.name), self.low, self.high)

    def step(self) -> None:
        pushing, crushing = self._pushing, self._crushing
        self._pushing, self._crushing = [], []
        self.move()
        if self._pushing or self._crushing:
            self._say_new("pushed", self._pushing, pushing)
            self._say_new("crushed", self._crushing, crushing)

    def _say_new(self, event: str, names: Sequence[str], before: Sequence[str]) -> None:
        # A fast one may push the same body at several points of its path.
        for name in dict.fromkeys(names):
            if name not in before:
                self.emit(event, body=name)

    def move(self) -> None:
        """A frame's way, with whom it carries and pushes."""

    def standing(self, bodies: Sequence[B], on_top: bool) -> list[B]:
        """Those of some bodies that stand on its top, or else on the floor inside of it."""
        level = self.sim.level
        if not bodies or not level.has_up:
            return []
        low, high = self.low, self.high
        surface = low[level.up_axis]
        if on_top == (level.up_sign > 0):
            surface = high[level.up_axis]
        return [body for body in bodies if body.grounded and body.rests_at(surface, low, high)]

    def lead(self, body: Body, axis: int, surface: float, provider: Any) -> bool:
        """Sweeps a body along an axis to a surface of its own; whether it got there, exactly."""
        sides = range(len(self.position))
        way = surface - body.position[axis]
        met = body.shift([way if i == axis else 0.0 for i in sides], ignoring=provider)
        if met:
            return body.position[axis] == surface
        # The surface's own number, not the sum that led there.
        body.set_position([surface if i == axis else q for i, q in enumerate(body.position)])
        return True


def place_ending_by(limit: float, *lengths: float) -> float:
    """The greatest place from which these lengths, added in turn, do not go beyond a limit: exact where rounding is not."""
    place = limit - math.fsum(lengths)
    while _end(place, lengths) > limit:
        place = math.nextafter(place, -math.inf)
    return place


def place_starting_by(limit: float, *lengths: float) -> float:
    """The least place from which these lengths, taken off in turn, do not go below a limit."""
    return -place_ending_by(-limit, *lengths)


def _end(place: float, lengths: Sequence[float]) -> float:
    for length in lengths:
        place += length
    return place
