"""Things that move by themselves: platforms that carry and push, and enclosures whose walls hold what is inside."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Literal

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box
from larktally.parts.space.checks import number, numbers, size_of
from larktally.parts.space.sweep import ExpandedBox, grow

__all__ = ["Platform", "Enclosure"]


class Platform(Part):
    """A solid box led along a path of points (its minimum corner) at a speed in units/s, back and forth or round.

    It moves before the bodies do. Who stands on it is carried, who stands in its way pushed, each by a sweep; where one
    cannot give way the platform stops short of it, and says `crushed` (body). Channels: x, y (and z).
    """

    phase = "motion"
    runs_first = True
    events = ("crushed",)
    state_fields = ("position", "size", "path", "speed", "round_trip", "one_way", "aim", "direction", "_crushing")

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
        self.position = list(self.path[0])
        self.aim = min(1, len(self.path) - 1)
        self.direction = 1
        self._crushing: list[str] = []
        # One and the same function for every body, so that a body that is carried can leave it out.
        self.provider = lambda: (self.box,)

    def channels(self) -> tuple[ChannelSpec, ...]:
        found = []
        for axis in self.sim.level.axes:
            found.append(ChannelSpec(axis, axis, "number"))
        return tuple(found)

    x = property(lambda self: self.position[0])
    y = property(lambda self: self.position[1])
    z = property(lambda self: self.position[2])

    @property
    def box(self) -> Box:
        """Where it stands."""
        high = tuple(p + side for p, side in zip(self.position, self.size, strict=True))
        return Box(tuple(self.position), high, "platform", self.one_way, self.name)

    def begin(self) -> None:
        for body in self.sim.parts_of(Body):
            body.near.moving.append(self.provider)

    def step(self) -> None:
        left = self.speed / float(self.sim.rate)
        # A fast platform passes several points in a frame, and no more than all of them.
        for _ in range(len(self.path) + 1):
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
        riders = []
        for body in self.sim.parts_of(Body):
            if self._carries(body):
                riders.append(body)
        crushed: list[str] = []
        for axis, end in enumerate(goal):
            displacement = end - self.position[axis]
            if displacement:
                room = self._push(axis, displacement, riders, crushed)
                if room is None:
                    self.position[axis] = end
                else:
                    self.position[axis] = self.position[axis] + room
        for name in crushed:
            if name not in self._crushing:
                self.emit("crushed", body=name)
        self._crushing = crushed
        return not crushed

    def _carries(self, body: Body) -> bool:
        up, sign = self.sim.level.up_axis, self.sim.level.up_sign
        box = self.box
        if sign > 0:
            top, foot = box.high[up], body.low[up]
        else:
            top, foot = box.low[up], body.high[up]
        beside = (i for i in range(len(self.size)) if i != up)
        return (
            body.grounded
            and abs(foot - top) < 1e-9
            and all(body.low[i] < box.high[i] and box.low[i] < body.high[i] for i in beside)
        )

    def _push(self, axis: int, displacement: float, riders: Iterable[Body], crushed: list[str]) -> float | None:
        """Moves the bodies that a step along an axis carries or hits; the way there was room for, None for all of it."""
        room: float | None = None
        now, then = self.box, self._box_after(axis, displacement)
        up, sign = self.sim.level.up_axis, self.sim.level.up_sign
        for body in self.sim.parts_of(Body):
            here, there = (grow(box, body.near.extent_low, body.near.extent_high) for box in (now, then))
            p = body.position[axis]
            if body in riders:
                if axis == up:
                    surface = (there.high if sign > 0 else there.low)[axis]
                else:
                    surface = p + displacement
            elif not self.one_way and self._in_the_way(body, axis, displacement, here, there):
                if displacement > 0:
                    surface = there.high[axis]
                else:
                    surface = there.low[axis]
            else:
                continue
            body.shift([surface - p if i == axis else 0.0 for i in range(len(self.size))], ignoring=self.provider)
            lacking = surface - body.position[axis]
            if abs(lacking) < 1e-9:
                body.set_position([surface if i == axis else q for i, q in enumerate(body.position)])
            elif axis == up or body not in riders:
                crushed.append(body.name)
                allowed = displacement - lacking
                if room is None or abs(allowed) < abs(room):
                    room = allowed
        return room

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


class Enclosure(Part):
    """Four walls (six in 3-D) around a box that drifts at `vx`, `vy` units/s and may change its `size`: who is inside stays.

    Set `vx`, `vy` or `size` in rules; the walls follow in the motion phase, before the bodies move: who stands on the
    floor is carried, who would be outside is put to the wall. One that does not fit any more is an event `crushed`
    (body), and is put to the lower wall. `board` and `let_go` change whom it holds.
    Channels: x, y, width, height (z, depth).
    """

    phase = "motion"
    runs_first = True
    events = ("crushed", "boarded", "let_go")
    state_fields = ("position", "velocity", "size", "wall", "held_names", "_last_size")

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
        self.provider = self.walls

    def channels(self) -> tuple[ChannelSpec, ...]:
        axes = self.sim.level.axes
        sides = ("width", "height", "depth")[: len(axes)]
        return tuple(ChannelSpec(name, name, "number") for name in [*axes, *sides])

    x = property(lambda self: self.position[0])
    y = property(lambda self: self.position[1])
    z = property(lambda self: self.position[2])
    width = property(lambda self: self.size[0])
    height = property(lambda self: self.size[1])
    depth = property(lambda self: self.size[2])

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

    def walls(self) -> list[Box]:
        """The walls as boxes, each `wall` thick, around the inside."""
        low = self.position
        high = []
        for p, side in zip(low, self._last_size, strict=True):
            high.append(p + side)
        boxes = []
        for axis in range(len(low)):
            outer_low, outer_high = [p - self.wall for p in low], [p + self.wall for p in high]
            below, above = list(outer_high), list(outer_low)
            below[axis], above[axis] = low[axis], high[axis]
            boxes.append(Box(tuple(outer_low), tuple(below), "enclosure", False, self.name))
            boxes.append(Box(tuple(above), tuple(outer_high), "enclosure", False, self.name))
        return boxes

    def begin(self) -> None:
        for body in self.holds:
            body.near.moving.append(self.provider)

    def step(self) -> None:
        move = [speed / float(self.sim.rate) for speed in self.velocity]
        floor = self.position[self.sim.level.up_axis]
        standing = []
        for b in self.holds:
            if b.grounded and abs(b.low[self.sim.level.up_axis] - floor) < 1e-9:
                standing.append(b)
        self.position = [p + displacement for p, displacement in zip(self.position, move, strict=True)]
        self._last_size = list(self.size)
        for body in self.holds:
            if body in standing:
                body.shift(move, ignoring=self.provider)
            self._keep_inside(body)

    def _keep_inside(self, body: Body) -> None:
        before, after = body.near.extent_low, body.near.extent_high
        place = list(body.position)
        for i, p in enumerate(place):
            low, high = self.position[i] + before[i], self.position[i] + self._last_size[i] - after[i]
            if low > high:
                self.emit("crushed", body=body.name)
                place[i] = low
            elif not low <= p <= high:
                move = [0.0] * len(place)
                move[i] = high - p
                if p < low:
                    move[i] = low - p
                met = body.shift(move, ignoring=self.provider)
                if met:
                    self.emit("crushed", body=body.name)
                place[i] = high
                if p < low:
                    place[i] = low
        if tuple(place) != body.position and not any(math.isnan(p) for p in place):
            body.set_position(place)
