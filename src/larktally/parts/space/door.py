"""Doors, gates and walls that rules place, resize, or lead to a goal: they push, crush and carry as platforms do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import ClassVar

from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.checks import number, numbers, size_of
from larktally.parts.space.moving_box import place_ending_by
from larktally.parts.space.solid_box import SolidBox
from larktally.parts.space.solid_query import REACH

__all__ = ["Door"]


# Most doors stand in most frames. Who takes a carrier's velocity along counts for how long it has stood.
_STEP = """\
if leaving or not me.rests:
    me.step()"""


class Door(SolidBox):
    """A solid box at `at` (its minimum corner) that stands until a rule moves it.

    `lead_to(x, y, speed=90)` leads it straight to a place, at so many units/s, from this row's motion on; `arrived` is said in
    the row in which it gets there. `put(x, y)` is the same within one row, however far. `resize(w, h, speed=60)` changes its
    sides about its minimum corner, each by so many units/s, or within one row without a speed. `halt()` leaves it where it is.

    It moves before the bodies do: who is in its way is pushed, who stands on it carried, each by a sweep; where one cannot give
    way it stops short of it, says `crushed` (body), and goes on as soon as there is room. Channels: x, y, width, height, vx, vy
    (z, depth, vz), `moving`. Events: pushed, crushed (body), arrived.
    """

    events: ClassVar[tuple[str, ...]] = (*SolidBox.events, "arrived")
    state_fields: ClassVar[tuple[str, ...]] = (*SolidBox.state_fields, "goal", "speed", "wanted", "growth")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        *,
        at: Sequence[float],
        size: Sequence[float],
        one_way: bool = False,
    ) -> None:
        count = len(sim.level.axes)
        super().__init__(sim, name, list(size_of(name, size, count)), one_way)
        self.position = numbers(name, "at", at, count)
        self.goal: list[float] = []
        self.speed = self.growth = math.inf
        self.wanted = list(self.size)

    def channels(self) -> tuple[ChannelSpec, ...]:
        sides = []
        for name in ("width", "height", "depth")[: len(self.sim.level.axes)]:
            sides.append(ChannelSpec(name, name, "number"))
        return (*self.place_channels(), *sides, *self.speed_channels(), ChannelSpec("moving", "moving", "flag"))

    width = property(lambda self: self.size[0])
    height = property(lambda self: self.size[1])
    depth = property(lambda self: self.size[2])

    @property
    def moving(self) -> bool:
        """Whether it has somewhere to go, or another size to take."""
        return bool(self.goal) or self.wanted != list(self.size)

    @property
    def rests(self) -> bool:
        """Whether it has nowhere to go, and stood in its last frame, too."""
        return not (self.moving or self._pushing or self._crushing or any(self.velocity))

    def lead_to(self, *goal: float, speed: float) -> None:
        """Leads it straight to a place of its minimum corner, at so many units/s, from this row's motion on."""
        self.goal = list(numbers(self.name, "goal", goal, len(self.position)))
        self.speed = number(self.name, "speed", speed, 0.0)

    def put(self, *place: float) -> None:
        """Leads it to a place within one row: who is in its way is pushed all the same."""
        self.goal, self.speed = list(numbers(self.name, "place", place, len(self.position))), math.inf

    def resize(self, *size: float, speed: float | None = None) -> None:
        """Takes another size about its minimum corner, each side by so many units/s, or within one row."""
        self.wanted = list(size_of(self.name, size, len(self.size)))
        self.growth = math.inf
        if speed is not None:
            self.growth = number(self.name, "speed", speed, 0.0)

    def halt(self) -> None:
        """Leaves it where and as it is."""
        self.goal, self.wanted = [], list(self.size)

    def inlined(self) -> Inlined | None:
        return Inlined(_STEP, {"leaving": self.sim.movers.leaving})

    def move(self) -> None:
        """A frame's growth, then a frame's way."""
        if self.wanted != list(self.size):
            self._grow()
        if not self.goal:
            return
        goal, gap = self.goal, math.dist(self.position, self.goal)
        step = self.speed / self._rate
        if gap > step:
            goal = []
            for p, end in zip(self.position, self.goal, strict=True):
                goal.append(p + (end - p) * (step / gap))
        if self.lead_by(goal) and gap <= step:
            self.goal = []
            self.emit("arrived")

    def _grow(self) -> None:
        step = self.growth / self._rate
        bodies = self._others_to_grow_into()
        up, rises = self.sim.level.up_axis, self.sim.level.up_sign > 0
        for axis, wanted in enumerate(self.wanted):
            more = max(-step, min(step, wanted - self.size[axis]))
            end = wanted if abs(wanted - self.size[axis]) <= step else self.size[axis] + more
            if not more:
                continue
            riders = self.standing(bodies, on_top=True)
            groups = [[body for body in bodies if body not in riders]]
            # The side of the higher numbers moves: who stands on it is taken along, where that is the top.
            if axis == up and rises:
                groups.append(riders)
            for group in groups:
                more = end - self.size[axis]
                high = tuple(p + side for p, side in zip(self.position, self._with(axis, end), strict=True))
                for body in self.move_bodies(axis, more, (self.low, high), group, riders):
                    room = place_ending_by(body.position[axis], self.position[axis], body.near.extent_low[axis])
                    end = max(self.size[axis], min(end, room))
            self.size = self._with(axis, end)

    def _others_to_grow_into(self) -> list[Body]:
        """The bodies that it may meet where it takes the size that it wants: its minimum corner stays where it is."""
        low, high = [], []
        for p, side, wanted in zip(self.position, self.size, self.wanted, strict=True):
            low.append(p - REACH)
            high.append(p + max(side, wanted) + REACH)
        return [body for body in self.bodies_within(low, high) if self.may_meet(body)]

    def _with(self, axis: int, side: float) -> list[float]:
        """Its size with another side."""
        return [side if i == axis else known for i, known in enumerate(self.size)]
