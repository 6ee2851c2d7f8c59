"""Platforms: solid boxes led along a path, which carry who stands on them and push who is in their way."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import ClassVar, Literal

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.checks import number, numbers, size_of, words_of
from larktally.parts.space.solid_box import SolidBox

__all__ = ["Platform"]


class Platform(SolidBox):
    """A solid box led along a path of points (its minimum corner) at a speed in units/s, back and forth or round.

    It moves before the bodies do. Who stands on it is carried, who stands in its way pushed, each by a sweep, and
    `pushed` (body) is said where that begins; where one cannot give way the platform stops short of it, and says
    `crushed` (body). A body without gravity is carried along and up, and does not follow a platform that falls away; in
    a level without an up nothing is carried. Channels: x, y (and z), and with `shows="velocity"` vx, vy. Events: pushed, crushed
    (body).
    """

    derived_fields: ClassVar[tuple[str, ...]] = (*SolidBox.derived_fields, "_measured")
    state_fields: ClassVar[tuple[str, ...]] = (
        *SolidBox.state_fields,
        "path",
        "speed",
        "round_trip",
        "aim",
        "direction",
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
        shows: Iterable[str] = (),
    ) -> None:
        count = len(sim.level.axes)
        super().__init__(sim, name, size_of(name, size, count), one_way)
        self.path = [numbers(name, "a point of the path", point, count) for point in path]
        if not self.path or round_trip not in ("back", "round"):
            raise ModelError(f"platform {name!r} has a path of points and goes 'back' or 'round', not {round_trip!r}")
        self.speed = number(name, "speed", speed, 0.0)
        self.round_trip = round_trip
        self.shows = words_of(f"platform {name!r}", shows, ("velocity",))
        self.position = self.path[0]
        # The path that was measured last, which way round, and how long it is.
        self._measured: tuple[list[Sequence[float]], str, float] = ([], "", 0.0)
        self.aim = min(1, len(self.path) - 1)
        self.direction = 1

    def channels(self) -> tuple[ChannelSpec, ...]:
        if "velocity" in self.shows:
            return (*self.place_channels(), *self.speed_channels())
        return tuple(self.place_channels())

    def move(self) -> None:
        """A frame's way along the path, as far as there is room for it."""
        left, round_way = self.speed / self._rate, self._round_way()
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
            if not self.lead_by(goal) or gap > left:
                return
            left -= gap
            self._next_aim()

    def _round_way(self) -> float:
        """How long the path is, there and back or once round."""
        path, round_trip, way = self._measured
        # A rule may lead it along another one, or change a point of it.
        if path != self.path or round_trip != self.round_trip:
            way = math.fsum(map(math.dist, self.path, self.path[1:]))
            if self.round_trip == "round":
                way += math.dist(self.path[-1], self.path[0])
            else:
                way *= 2
            self._measured = [point[:] for point in self.path], self.round_trip, way
        return way

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
