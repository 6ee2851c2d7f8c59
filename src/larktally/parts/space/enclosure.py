"""Enclosures: walls around a box that drifts and changes its size, which hold and push who is inside."""

from __future__ import annotations

import math
from collections.abc import Sequence

from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box
from larktally.parts.space.checks import number, numbers, size_of
from larktally.parts.space.moving_box import MovingBox, place_ending_by, place_starting_by

__all__ = ["Enclosure"]


class Enclosure(MovingBox):
    """Four walls (six in 3-D) around a box that drifts at `vx`, `vy` units/s and may change its `size`: who is inside stays.

    Set its velocity with `drift` and its size with `resize`, in rules; the walls follow in the motion phase, before the
    bodies move. All sides push alike: who would be outside is swept to the wall, and `pushed` (body) is said where that
    begins. Where a solid stands behind such a body the wall stops short of it, and says `crushed` (body) where that
    begins; so it does of one that does not fit any more, which is put to the lower wall. Who stands on the floor is
    carried (in a level without an up nobody stands); one without gravity does not follow a floor that falls away.
    `board` and `let_go` change whom it holds.
    Channels: x, y, width, height (z, depth). Events: pushed, crushed, boarded, let_go (body).
    """

    events = ("crushed", "pushed", "boarded", "let_go")
    state_fields = ("position", "velocity", "size", "wall", "held_names", "_last_size", "_crushing", "_pushing")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        *,
        at: Sequence[float],
        size: Sequence[float],
        holds: Sequence[Body],
        wall: float = 4.0,
    ) -> None:
        super().__init__(sim, name)
        count = len(sim.level.axes)
        self.position = list(numbers(name, "at", at, count))
        self.size = list(size_of(name, size, count))
        self._last_size = list(self.size)
        self.velocity = [0.0] * count
        self.wall = number(name, "wall", wall, 1e-6)
        self.holds = list(holds)
        # One and the same function for every body, so that a body that is pushed can leave it out.
        self.provider = self.solid_boxes

    def channels(self) -> tuple[ChannelSpec, ...]:
        axes = self.sim.level.axes
        sides = ("width", "height", "depth")[: len(axes)]
        return tuple(ChannelSpec(name, name, "number") for name in [*axes, *sides])

    width = property(lambda self: self._last_size[0])
    height = property(lambda self: self._last_size[1])
    depth = property(lambda self: self._last_size[2])

    @property
    def sides(self) -> Sequence[float]:
        """The size of its inside, as its walls stand."""
        return self._last_size

    def drift(self, *velocity: float) -> None:
        """Drifts at this velocity, in units/s, from now on."""
        self.velocity = list(numbers(self.name, "velocity", velocity, len(self.size)))

    def resize(self, *size: float) -> None:
        """Takes this size, about its minimum corner, in the motion phase of this frame."""
        self.size = list(size_of(self.name, size, len(self.size)))

    def board(self, body: Body) -> None:
        """Takes a body in: from now on the walls hold it, and one that is outside is put inside."""
        if body not in self.holds:
            self.holds.append(body)
            body.near.moving.append(self.provider)
            self.emit("boarded", body=body.name)

    def let_go(self, body: Body) -> None:
        """Lets a body out: the walls are nothing to it any more."""
        if body in self.holds:
            self.holds.remove(body)
            body.near.moving.remove(self.provider)
            self.emit("let_go", body=body.name)

    @property
    def held_names(self) -> list[str]:
        """The names of whom it holds; assigning them takes these bodies in and lets all others out."""
        return [body.name for body in self.holds]

    @held_names.setter
    def held_names(self, names: Sequence[str]) -> None:
        for body in self.holds:
            body.near.moving.remove(self.provider)
        self.holds = [body for body in self.sim.parts_of(Body) if body.name in names]
        for body in self.holds:
            body.near.moving.append(self.provider)

    def solid_boxes(self) -> list[Box]:
        """The walls as boxes, each `wall` thick, around the inside."""
        low, high = self.low, self.high
        boxes = []
        for axis in range(len(low)):
            outer_low, outer_high = [p - self.wall for p in low], [p + self.wall for p in high]
            below, above = list(outer_high), list(outer_low)
            below[axis], above[axis] = low[axis], high[axis]
            boxes.append(Box(tuple(outer_low), tuple(below), "enclosure", False, self.name))
            boxes.append(Box(tuple(above), tuple(outer_high), "enclosure", False, self.name))
        return boxes

    def begin(self) -> None:
        self.sim.movers.enter(self.provider)
        for body in self.holds:
            body.near.moving.append(self.provider)

    def move(self) -> None:
        held = [body for body in self.holds if body.takes_part]
        standing = self.standing(held, on_top=False)
        way = [speed / self._rate for speed in self.velocity]
        shrinks = [now - then for now, then in zip(self._last_size, self.size, strict=True)]
        for i, displacement in enumerate(way):
            self.position[i] += displacement
        self._last_size = list(self.size)
        for body in standing:
            self._carry(body, way)
        if self._hold_all(held, way, shrinks):
            # A wall that gave way to one may have left another outside of the wall across.
            self._hold_all(held, way, shrinks)

    def _carry(self, body: Body, way: Sequence[float]) -> None:
        """Takes along who stands on the floor; down only who is pulled down."""
        if way[body.up] * body.up_sign < 0 and not body.gravity:
            way = [0.0 if i == body.up else displacement for i, displacement in enumerate(way)]
        body.shift(way, ignoring=self.provider)

    def _hold_all(self, held: Sequence[Body], way: Sequence[float], shrinks: Sequence[float]) -> bool:
        """Puts all whom it holds to the walls that would leave them outside; whether a wall gave way to one."""
        gave_way = False
        for body in held:
            for axis in range(len(way)):
                gave_way |= self._hold(body, axis, way[axis], shrinks[axis])
        return gave_way

    def _hold(self, body: Body, axis: int, way: float, shrink: float) -> bool:
        """Sweeps a body that would be outside along an axis to the wall; whether the wall stopped short of it."""
        p = body.position[axis]
        below, above = body.near.extent_low[axis], body.near.extent_high[axis]
        low = self.position[axis] + below
        high = self.position[axis] + self._last_size[axis] - above
        if math.isnan(p) or low <= p <= high:
            return False
        if low > high:
            self._crushing.append(body.name)
            self.lead(body, axis, low, self.provider)
            return False
        wall = high
        if p < low:
            wall = low
        if self.lead(body, axis, wall, self.provider):
            self._pushing.append(body.name)
            return False
        self._crushing.append(body.name)
        p = body.position[axis]
        # No further back than it came in this frame: who was outside before is not let out by it.
        if p < low:
            self.position[axis] = max(self.position[axis] - max(way, 0.0), place_ending_by(p, below))
            return True
        side = place_starting_by(p, above)
        self._last_size[axis] += min(max(side - self.position[axis] - self._last_size[axis], 0.0), max(shrink, 0.0))
        self.position[axis] += min(max(side - self.position[axis] - self._last_size[axis], 0.0), max(-way, 0.0))
        # A last bit too near by rounding, it would overlap the body for ever.
        if 0.0 < side - (self.position[axis] + self._last_size[axis]) < 1e-9:
            self.position[axis] = math.nextafter(self.position[axis] + 1e-9, math.inf)
        return True
