"""A solid box that moves by itself: it carries who stands on it and pushes who is in its way, and stops short of whom it
would crush."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import ClassVar, cast

from larktally.errors import ModelError
from larktally.parts.noted import noted
from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box
from larktally.parts.space.moving_box import MovingBox, place_ending_by, place_starting_by
from larktally.parts.space.positioned_box import PositionedBox
from larktally.parts.space.solid_query import REACH
from larktally.parts.space.sweep import grow

__all__ = ["SolidBox"]


class SolidBox(MovingBox):
    """What platforms and doors have in common. `velocity` is the way of its last frame, times the rate."""

    events: ClassVar[tuple[str, ...]] = ("crushed", "pushed")
    derived_fields: ClassVar[tuple[str, ...]] = ("_boxes",)
    # Whether bodies meet it yet.
    _begun = False
    # Set as wholes, and never changed in place: it stands somewhere else then.
    position: Sequence[float] = noted("_position", "_stand_anew", "Where its minimum corner is.", tuple)
    size: Sequence[float] = noted("_size", "_stand_anew", "How long it is along each axis.", tuple)
    one_way: bool = noted("_one_way", "_stand_anew", "Whether it stops only what comes from above.")
    _boxes: tuple[Box, ...] = ()
    state_fields: ClassVar[tuple[str, ...]] = ("position", "size", "one_way", "velocity", "_crushing", "_pushing")

    def __init__(self, sim: SimProtocol, name: str, size: Sequence[float], one_way: bool) -> None:
        super().__init__(sim, name)
        self.size = size
        if one_way and not sim.level.has_up:
            raise ModelError(
                f"{type(self).__name__.lower()} {name!r} is one-way, and this level has no up: nothing comes from above"
            )
        self.one_way = one_way
        self.velocity = [0.0] * len(sim.level.axes)
        # One and the same function for every body, so that a body that is carried can leave it out.
        self.provider = self.solid_boxes

    def _stand_anew(self) -> None:
        self._boxes = ()
        if self._begun:
            self.sim.movers.moved(self)

    vx = property(lambda self: self.velocity[0])
    vy = property(lambda self: self.velocity[1])
    vz = property(lambda self: self.velocity[2])

    @property
    def sides(self) -> Sequence[float]:
        """Its size."""
        return self.size

    @property
    def box(self) -> Box:
        """Where it stands."""
        return self.solid_boxes()[0]

    def solid_boxes(self) -> tuple[Box, ...]:
        """What bodies and rays meet of it; the same box for as long as it stands there, since every body asks for it."""
        if not self._boxes:
            self._boxes = (Box(self.low, self.high, "platform", self.one_way, self.name),)
        return self._boxes

    def place_channels(self) -> list[ChannelSpec]:
        """Where it stands, a channel an axis."""
        found = []
        for axis in self.sim.level.axes:
            found.append(ChannelSpec(axis, axis, "number"))
        return found

    def speed_channels(self) -> list[ChannelSpec]:
        """How fast it went in its last frame, a channel an axis."""
        found = []
        for axis in self.sim.level.axes:
            found.append(ChannelSpec(f"v{axis}", f"v{axis}", "number"))
        return found

    def carries(self, body: PositionedBox) -> bool:
        """Whether a body stands on it, where both are now."""
        return isinstance(body, Body) and bool(self.standing([body], on_top=True))

    def may_meet(self, body: Body) -> bool:
        """Whether a body is in the game, and solid to it."""
        return body.takes_part

    def others_near(self, goal: Sequence[float]) -> list[Body]:
        """Of the bodies that it may meet, those that are not plainly too far from its way to a place."""
        return [body for body in self.bodies_near(goal) if self.may_meet(body)]

    def bodies_near(self, goal: Sequence[float]) -> list[Body]:
        """The bodies that are not plainly too far from its way to a place."""
        x, y = self.position[0], self.position[1]
        # As far as it goes, and what it pushes may push others, by no more than that.
        reach_x, reach_y = REACH + 3 * abs(goal[0] - x), REACH + 3 * abs(goal[1] - y)
        low, high = (x - reach_x, y - reach_y), (x + self.size[0] + reach_x, y + self.size[1] + reach_y)
        return self.bodies_within(low, high)

    def bodies_within(self, low: Sequence[float], high: Sequence[float]) -> list[Body]:
        """The bodies that reach into a region, told by the first two axes."""
        (low_x, low_y), (high_x, high_y) = low[:2], high[:2]
        found = []
        for tracked in self.sim.movers.bodies_near(low, high):
            body = cast("Body", tracked)
            near, x, y = body.near, body.x, body.y
            # Asked this way round, a place that is not finite is near everything.
            if x - near.extent_low[0] > high_x or x + near.extent_high[0] < low_x:
                continue
            if not (y - near.extent_low[1] > high_y or y + near.extent_high[1] < low_y):
                found.append(body)
        return found

    def begin(self) -> None:
        self._begun = True
        self.sim.movers.add(self)

    def step(self) -> None:
        start, rate = self.position, self._rate
        riders: list[Body] = []
        if self.sim.movers.leaving:
            leaving = [body for body in self.others_near(start) if body.leaves_with != "nothing"]
            riders = self.standing(leaving, on_top=True)
        super().step()
        self.velocity = [(p - before) * rate for p, before in zip(self.position, start, strict=True)]
        for body in riders:
            body.carried_by(self.name, self.velocity)

    def lead_by(self, goal: Sequence[float]) -> bool:
        """Moves to a place, axis by axis, with whom it carries and pushes; whether it got there."""
        bodies = self.others_near(goal)
        if not bodies:
            # A way of 0 is not added: -0.0 + 0.0 is 0.0.
            self.position = [p + (end - p) if end - p else p for p, end in zip(self.position, goal, strict=True)]
            return True
        riders = self.standing(bodies, on_top=True)
        if len(riders) == len(bodies) and self._take_along(goal, riders):
            return True
        crushed = len(self._crushing)
        for axis, end in enumerate(goal):
            displacement = end - self.position[axis]
            if displacement:
                position = list(self.position)
                position[axis] = self._push(axis, displacement, bodies, riders)
                self.position = position
        return len(self._crushing) == crushed

    def _take_along(self, goal: Sequence[float], riders: Sequence[Body]) -> bool:
        """Moves to a place with all who ride on it, where nobody meets anything else on the way; whether it did."""
        x, y, sign = self.position[0], self.position[1], self.sim.level.up_sign
        end_x, end_y = x, y
        # As in a step axis by axis: a way of 0 is not added, and what was come to is not always the sum.
        if goal[0] - x:
            end_x = x + (goal[0] - x)
        if goal[1] - y:
            end_y = y + (goal[1] - y)
        way_x, rises = end_x - x, (end_y - y) * sign
        places = []
        for body in riders:
            ride, next_x, next_y = body.ride, body.x, body.y
            if way_x:
                next_x += way_x
            # Nothing pulls a body without gravity after a floor that falls away.
            if rises > 0 or (rises and body.gravity):
                next_y = _flush_with(end_y, end_y + self.size[1], 1, sign, body)
            # Who rides meets nothing else that moves: it is this that carries it. A level of more axes has no rides.
            if ride is None or not ride.holds(body.x, body.y, next_x, next_y):
                return False
            places.append((next_x, next_y))
        self.position = (end_x, end_y)
        for body, place in zip(riders, places, strict=True):
            body.ride_to(*place)
        return True

    def _push(self, axis: int, displacement: float, bodies: Sequence[Body], riders: Collection[Body]) -> float:
        """Moves the bodies that a step along an axis carries or hits; the place to which there was room for it."""
        start, end = self.position[axis], self.position[axis] + displacement
        others = [body for body in bodies if body not in riders]
        # Those in its way first: how far they give way is how far it takes along who stands on it.
        for group in (others, riders):
            if group and end != start:
                for body in self.move_bodies(axis, end - start, self._corners(axis, end), group, riders):
                    end = self._room(body, axis, displacement, end)
        return end

    def _corners(self, axis: int, end: float) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """Its corners where it stands at another place along one axis."""
        low = tuple(end if i == axis else p for i, p in enumerate(self.position))
        return low, tuple(p + side for p, side in zip(low, self.size, strict=True))

    def move_bodies(
        self,
        axis: int,
        displacement: float,
        corners: tuple[tuple[float, ...], tuple[float, ...]],
        bodies: Collection[Body],
        riders: Collection[Body],
    ) -> list[Body]:
        """Moves the bodies that it carries or hits where its box becomes the one of these corners, by a displacement of a side
        along an axis; those that could not give way."""
        now, then = self.box, Box(*corners, "platform", self.one_way, self.name)
        up, sign = self.sim.level.up_axis, self.sim.level.up_sign
        stuck = []
        for body in bodies:
            carried = body in riders
            if carried:
                if axis == up and displacement * sign < 0 and not body.gravity:
                    continue  # nothing pulls it after a floor that falls away
                surface = body.position[axis] + displacement
                if axis == up:
                    surface = _flush_with(then.low[axis], then.high[axis], axis, sign, body)
            elif not self.one_way and self._in_the_way(body, axis, displacement, now, then):
                surface = _flush_with(then.low[axis], then.high[axis], axis, displacement, body)
                self._pushing.append(body.name)
            else:
                continue
            got_there = self.lead(body, axis, surface, self.provider)
            # Who cannot be taken along, or down past a ledge that holds what of it hangs over, stays where it is.
            if not got_there and (not carried or (axis == up and displacement * sign > 0)):
                self._crushing.append(body.name)
                stuck.append(body)
        return stuck

    def _room(self, body: Body, axis: int, displacement: float, end: float) -> float:
        """How far it may go where it does not go through a body that stands still, and not beyond `end`."""
        p, size = body.position[axis], self.size[axis]
        if displacement > 0:
            return max(self.position[axis], min(end, place_ending_by(p, size, body.near.extent_low[axis])))
        return min(self.position[axis], max(end, place_starting_by(p, body.near.extent_high[axis])))

    @staticmethod
    def _in_the_way(body: Body, axis: int, displacement: float, now: Box, then: Box) -> bool:
        """Whether a body stands in what a step along an axis goes through."""
        here, there = (grow(box, body.near.extent_low, body.near.extent_high) for box in (now, then))
        position = body.position
        if any(i != axis and not there.low[i] < p < there.high[i] for i, p in enumerate(position)):
            return False
        p = position[axis]
        if displacement > 0:
            return here.high[axis] <= p < there.high[axis]
        return there.low[axis] < p <= here.low[axis]


def _flush_with(low: float, high: float, axis: int, side: float, body: Body) -> float:
    """Where a body is along an axis that stands flush with what reaches from `low` to `high`, at the side of the higher numbers
    where `side` is above 0."""
    if side > 0:
        return high + body.near.extent_low[axis]
    return low - body.near.extent_high[axis]
