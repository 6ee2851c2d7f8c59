"""A positioned box with a velocity: what sets it (launch, push, halt, steer, knock), and what gravity and limits make of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.space.checks import numbers
from larktally.parts.space.hop import Integrator
from larktally.parts.space.positioned_box import PositionedBox
from larktally.parts.space.sides import limited
from larktally.timing import Duration, frames_in

__all__ = ["SteeredBox"]


class SteeredBox(PositionedBox):
    """What a body's velocity is set by; what stops it is a body's own matter."""

    vx: float
    vy: float
    vz: float
    gravity: float
    air_steering: float
    limit: dict[str, float]
    integrator: Integrator
    grounded: bool
    _gravity_later: bool
    _knock: dict[str, float]
    _knock_left: int
    _rate: float

    def launch(
        self,
        *,
        vx: float | None = None,
        vy: float | None = None,
        vz: float | None = None,
        gravity: Literal["now", "later"] = "now",
    ) -> None:
        """Sets velocities and lets go of the ground at once: it is not grounded in this row.

        With v upward the body moves by (v - gravity/rate)/rate in the row of the launch: gravity is taken off in it. With
        `gravity="later"` it moves by v/rate there, and gravity is taken off from the next row on: the other common
        convention, under semi-implicit Euler only (ModelError with another integrator, and where the level has no up).
        """
        if gravity not in ("now", "later"):
            raise ModelError(unknown_name("gravity", gravity, ("now", "later"), f"a launch of body {self.name!r}"))
        if gravity == "later" and not (self.level.has_up and self.integrator == "semi-implicit"):
            raise ModelError(
                f"body {self.name!r}: gravity='later' is for semi-implicit Euler in a level that has an up, not for "
                f"{self.integrator if self.level.has_up else 'a level without one'}"
            )
        self._set_speeds(vx, vy, vz)
        self.grounded = False
        self._gravity_later = gravity == "later"
        self.forget_way()

    def push(self, *, vx: float = 0.0, vy: float = 0.0, vz: float = 0.0) -> None:
        """Adds to velocities: an impulse, for a body of unit mass."""
        x, y, z = self._speeds()
        self._set_speeds(x + vx, y + vy, z + vz if vz else None)

    def halt(self, axes: str = "") -> None:
        """Sets velocities to 0, along the named axes or along all."""
        named = axes or self.axes
        for axis in named:
            if axis not in self.axes:
                raise ModelError(unknown_name("axis", axis, self.axes, f"body {self.name!r}"))
        self._set_speeds(*(0.0 if axis in named else None for axis in "xyz"))

    def steer(
        self, *, vx: float | None = None, vy: float | None = None, vz: float | None = None, by: float | None = None
    ) -> None:
        """Leads velocities to a wanted speed: at once on the ground (or where there is no up), by the share `air_steering`
        of the way in the air. That share is taken in each frame, so that it leads faster at a higher rate.

        `by` is an acceleration, in units/s² (units a frame² with per="frame"), the same at every rate: each frame leads by at
        most by/rate, in the air by the share `air_steering` of it. Raises ModelError where it is not above 0.
        """
        # Exactly the goal where nothing is damped: speed + (goal - speed) would be a last bit beside it.
        share = self.air_steering
        if self.grounded or not self.level.has_up:
            share = 1.0
        if by is not None and not by > 0:
            raise ModelError(f"body {self.name!r} is steered by an acceleration above 0, in units/s², not {by!r}")
        wanted: list[float | None] = []
        for speed, goal in zip(self._speeds(), (vx, vy, vz), strict=True):
            if goal is None:
                wanted.append(goal)
            elif by is not None:
                most = by * share / self._rate
                wanted.append(goal if abs(goal - speed) <= most else speed + math.copysign(most, goal - speed))
            elif share == 1.0:
                wanted.append(goal)
            else:
                wanted.append(speed + (goal - speed) * share)
        self._set_speeds(*wanted)

    def knock(
        self, frames: Duration, *, vx: float | None = None, vy: float | None = None, vz: float | None = None
    ) -> None:
        """Knocks it back: these velocities now, and those along the ground for so many frames, whatever rules set meanwhile."""
        self._knock_left = frames_in(frames, self.sim.rate, least=1, what=f"knock of {self.name!r}:")
        given = {"vx": vx, "vy": vy, "vz": vz}
        self._knock = {name: speed for name, speed in given.items() if speed is not None}
        self.launch(vx=vx, vy=vy, vz=vz)
        self.emit("knocked")

    def put(self, *position: float) -> None:
        """Stands it somewhere else, with no motion in between; what it overlaps there is an event at the end of the row."""
        self.set_position(numbers(self.name, "position", position, len(self.axes)))
        self.grounded = False

    def set_velocity(self, velocity: Sequence[float]) -> None:
        """Sets vx and vy (and vz)."""
        if len(self.axes) == 2:
            self.vx, self.vy = velocity
        else:
            self.vx, self.vy, self.vz = velocity

    @property
    def rising(self) -> float:
        """Its velocity along the level's vertical axis; raises ModelError where there is none."""
        if not self.level.has_up:
            raise ModelError(f"body {self.name!r} does not rise: its level has no up")
        return self._speeds()[self.up]

    def _be_knocked(self) -> None:
        ground = {}
        for name, speed in self._knock.items():
            if self.axes.find(name[1]) != self.up:
                ground[name] = speed
        self._set_speeds(ground.get("vx"), ground.get("vy"), ground.get("vz"))
        self._knock_left -= 1

    def speed_along(self, axis: int) -> float:
        """Its velocity along an axis, by number."""
        return self._speeds()[axis]

    def _speeds(self) -> tuple[float, float, float]:
        """vx, vy and vz; 0 along the axis that a flat level does not have."""
        return self.vx, self.vy, 0.0 if len(self.axes) == 2 else self.vz

    def _set_speeds(self, vx: float | None, vy: float | None, vz: float | None) -> None:
        """Sets the velocities that are given; raises ModelError for one along an axis that the level does not have."""
        if vx is not None:
            self.vx = vx
        if vy is not None:
            self.vy = vy
        if vz is not None:
            if len(self.axes) == 2:
                raise ModelError(f"body {self.name!r}: this level has the axes x and y, so it has no vz")
            self.vz = vz

    def _place_and_speed(self) -> tuple[list[float], list[float]]:
        if len(self.axes) == 2:
            return [self.x, self.y], [self.vx, self.vy]
        return [self.x, self.y, self.z], [self.vx, self.vy, self.vz]

    def _advance(self, velocity: list[float]) -> list[float]:
        """Changes the velocity by a frame of gravity, and returns the displacement of the frame."""
        # Divided, never multiplied by 1/rate: 1/60 is no float, and a thousand frames would show it.
        rate, up = self._rate, self.up
        start = 0.0
        if self.level.has_up:
            start = velocity[up]
            if self._gravity_later:
                self._gravity_later = False
            elif self.gravity:
                velocity[up] = start - self.gravity * self.up_sign / rate
        elif self.gravity:
            self._check_without_up(f"body {self.name!r}", None)
        # The way that nearly every body goes: without the loop and the list below.
        if not self.limit and self.integrator == "semi-implicit" and len(velocity) == 2:
            return [velocity[0] / rate, velocity[1] / rate]
        if self.limit:
            limited(velocity, self.limit, self.level)
        move = [speed / rate for speed in velocity]
        if not self.level.has_up:
            return move
        if self.integrator == "explicit":
            move[up] = start / rate
        elif self.integrator == "leapfrog":
            move[up] = (start + velocity[up]) / 2 / rate
        return move

    def _check_without_up(self, what: str, probe: float | None) -> None:
        """Raises ModelError for what needs an up."""
        for option, given in (("gravity", self.gravity), ("a probe for the ground", probe)):
            if given:
                raise ModelError(f"{what} has {option} ({given!r}), and this level has no up")
