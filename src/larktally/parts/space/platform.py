"""Platforms: solid boxes led along a path, which carry who stands on them and push who is in their way."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from typing import Literal

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box
from larktally.parts.space.checks import number, numbers, size_of
from larktally.parts.space.moving_box import MovingBox, place_ending_by, place_starting_by
from larktally.parts.space.sweep import ExpandedBox, grow

__all__ = ["Platform"]


class Platform(MovingBox):
    """A solid box led along a path of points (its minimum corner) at a speed in units/s, back and forth or round.

    It moves before the bodies do. Who stands on it is carried, who stands in its way pushed, each by a sweep, and
    `pushed` (body) is said where that begins; where one cannot give way the platform stops short of it, and says
    `crushed` (body). A body without gravity is carried along and up, and does not follow a platform that falls away; in
    a level without an up nothing is carried. Channels: x, y (and z). Events: pushed, crushed (body).
    """

    events = ("crushed", "pushed")
    state_fields = (
        "position",
        "size",
        "path",
        "speed",
        "round_trip",
        "one_way",
        "aim",
        "direction",
        "_crushing",
        "_pushing",
    )

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        *,
        size: Sequence[float],
        path: Sequence[Sequence[float]],
        speed: float,
        round_trip: Literal["back", "round"] = "back",
        one_way: bool = False,
    ) -> None:
        super().__init__(sim, name)
        count = len(sim.level.axes)
        self.size = size_of(name, size, count)
        self.path = [numbers(name, "a point of the path", point, count) for point in path]
        if not self.path or round_trip not in ("back", "round"):
            raise ModelError(f"platform {name!r} has a path of points and goes 'back' or 'round', not {round_trip!r}")
        self.speed = number(name, "speed", speed, 0.0)
        self.round_trip, self.one_way = round_trip, one_way
        if one_way and not sim.level.has_up:
            raise ModelError(f"platform {name!r} is one-way, and this level has no up: nothing comes from above")
        self.position = list(self.path[0])
        self.aim = min(1, len(self.path) - 1)
        self.direction = 1
        # One and the same function for every body, so that a body that is carried can leave it out.
        self.provider = self.solid_boxes

    def channels(self) -> tuple[ChannelSpec, ...]:
        found = []
        for axis in self.sim.level.axes:
            found.append(ChannelSpec(axis, axis, "number"))
        return tuple(found)

    @property
    def sides(self) -> Sequence[float]:
        """Its size."""
        return self.size

    @property
    def box(self) -> Box:
        """Where it stands."""
        return Box(self.low, self.high, "platform", self.one_way, self.name)

    def solid_boxes(self) -> tuple[Box, ...]:
        """What bodies and rays meet of it."""
        return (self.box,)

    def begin(self) -> None:
        for body in self.sim.parts_of(Body):
            body.near.moving.append(self.provider)

    def move(self) -> None:
        """A frame's way along the path, as far as there is room for it."""
        left, round_way = self.speed / float(self.sim.rate), self._round_way()
        if round_way == 0.0:
            return
        # Whole rounds lead back to where it is; one is gone through, so that whoever stands in its way is pushed.
        if left > 2 * round_way:
            left = round_way + math.fmod(left, round_way)
        while True:
            target = self.path[self.aim]
            gap = math.dist(self.position, target)
            goal = list(target)
            if gap > left:
                share = left / gap
                goal = []
                for p, t in zip(self.position, target, strict=True):
                    goal.append(p + (t - p) * share)
            # Held up by what it cannot push, it stands where it is until it can.
            if not self._lead(goal) or gap > left:
                return
            left -= gap
            self._next_aim()

    def _round_way(self) -> float:
        """How long the path is, there and back or once round."""
        legs = math.fsum(map(math.dist, self.path, self.path[1:]))
        if self.round_trip == "round":
            return legs + math.dist(self.path[-1], self.path[0])
        return 2 * legs

    def _next_aim(self) -> None:
        if len(self.path) == 1:
            return
        if self.round_trip == "round":
            self.aim = (self.aim + 1) % len(self.path)
            return
        # Turned before it is stepped: at the end of the path it goes back, and is never beside it.
        if not 0 <= self.aim + self.direction < len(self.path):
            self.direction = -self.direction
        self.aim += self.direction

    def _lead(self, goal: Sequence[float]) -> bool:
        """Moves to a goal, axis by axis, with whom it carries and pushes; whether it got there."""
        bodies = [body for body in self.sim.parts_of(Body) if body.takes_part]
        riders = self.standing(bodies, on_top=True)
        crushed = len(self._crushing)
        for axis, end in enumerate(goal):
            displacement = end - self.position[axis]
            if displacement:
                self.position[axis] = self._push(axis, displacement, bodies, riders)
        return len(self._crushing) == crushed

    def _push(self, axis: int, displacement: float, bodies: Sequence[Body], riders: Collection[Body]) -> float:
        """Moves the bodies that a step along an axis carries or hits; the place to which there was room for it."""
        end = self.position[axis] + displacement
        now, then = self.box, self._box_after(axis, displacement)
        up, sign = self.sim.level.up_axis, self.sim.level.up_sign
        for body in bodies:
            here, there = (grow(box, body.near.extent_low, body.near.extent_high) for box in (now, then))
            carried = body in riders
            if carried:
                if axis == up and displacement * sign < 0 and not body.gravity:
                    continue  # nothing pulls it after a floor that falls away
                surface = body.position[axis] + displacement
                if axis == up:
                    surface = (there.high if sign > 0 else there.low)[axis]
            elif not self.one_way and self._in_the_way(body, axis, displacement, here, there):
                surface = there.low[axis]
                if displacement > 0:
                    surface = there.high[axis]
                self._pushing.append(body.name)
            else:
                continue
            got_there = self.lead(body, axis, surface, self.provider)
            # Who cannot be taken along, or down past a ledge that holds what of it hangs over, stays where it is.
            if not got_there and (not carried or (axis == up and displacement * sign > 0)):
                self._crushing.append(body.name)
                end = self._room(body, axis, displacement, end)
        return end

    def _room(self, body: Body, axis: int, displacement: float, end: float) -> float:
        """How far it may go where it does not go through a body that stands still, and not beyond `end`."""
        p, size = body.position[axis], self.size[axis]
        if displacement > 0:
            return max(self.position[axis], min(end, place_ending_by(p, size, body.near.extent_low[axis])))
        return min(self.position[axis], max(end, place_starting_by(p, body.near.extent_high[axis])))

    def _box_after(self, axis: int, displacement: float) -> Box:
        low = tuple(p + displacement if i == axis else p for i, p in enumerate(self.position))
        high = tuple(p + side for p, side in zip(low, self.size, strict=True))
        return Box(low, high, "platform", self.one_way, self.name)

    @staticmethod
    def _in_the_way(body: Body, axis: int, displacement: float, here: ExpandedBox, there: ExpandedBox) -> bool:
        """Whether a body stands in what a step along an axis goes through."""
        position = body.position
        if any(i != axis and not there.low[i] < p < there.high[i] for i, p in enumerate(position)):
            return False
        p = position[axis]
        if displacement > 0:
            return here.high[axis] <= p < there.high[axis]
        return there.low[axis] < p <= here.low[axis]
