"""Bodies: boxes that move, meet the level, and know what they stand on."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial
from operator import attrgetter
from typing import TYPE_CHECKING, Any, TypeAlias

from larktally.errors import ModelError, unknown_name
from larktally.parts.part import Part, Shown
from larktally.parts.space.hop import INTEGRATORS
from larktally.parts.space.sweep import Contact, Grown, grow, overlapping, sweep

if TYPE_CHECKING:
    from larktally.parts.sim import Sim
    from larktally.parts.space.level import Box, Level

__all__ = ["Body", "ANCHORS"]

ANCHORS = ("corner", "centre", "feet")
Response: TypeAlias = "Callable[[Body, Contact], None]"
_TOUCH = 1e-9


class Body(Part):
    """A box of `size` that is moved by its velocity and stopped by solids.

    `x`, `y` (and `z`) are its minimum corner, or its feet or centre where `anchor` says so; `vx`, `vy` its velocity, in
    units/s (`per="frame"`: units/frame). `gravity` is the acceleration downward in units/s², and may be changed at any
    time. Motion is semi-implicit Euler unless `integrator` names another. `grounded` means that the body touched ground
    at the end of the row and was not moving up from it.

    Channels: x, y, vx, vy, grounded (and z, vz; and `near_ground` where `probe` units are given).
    Events: landed (on, speed, time), left_ground, bumped (axis, normal, on, speed, time), overlapping, not_finite,
    out_of_bounds.
    """

    phase = "motion"
    events = ("landed", "left_ground", "bumped", "overlapping", "not_finite", "out_of_bounds")

    def __init__(
        self,
        sim: Sim,
        name: str,
        *,
        size: Sequence[float],
        at: Sequence[float],
        velocity: Sequence[float] | None = None,
        gravity: float = 0.0,
        anchor: str = "corner",
        layers: Iterable[str] | None = None,
        integrator: str = "semi-implicit",
        per: str = "second",
        bounce: float = 0.0,
        limit: Mapping[str, float] | None = None,
        air_control: float = 1.0,
        probe: float | None = None,
        on_contact: Response | None = None,
    ) -> None:
        super().__init__(sim, name)
        self.level: Level = sim.level
        axes = self.level.axes
        self.axes = axes
        self.size = _numbers(name, "size", size, len(axes), least=0.0)
        self.set_position(_numbers(name, "at", at, len(axes)))
        self.set_velocity(_numbers(name, "velocity", velocity or (0.0,) * len(axes), len(axes)))
        self.gravity = _number(name, "gravity", gravity)
        self.bounce = _number(name, "bounce", bounce, 0.0, 1.0)
        self.air_control = _number(name, "air_control", air_control, 0.0, 1.0)
        self.layers = self.level.check_layers(layers)
        self.limit = {axis: _number(name, f"limit of {axis}", value, 0.0) for axis, value in (limit or {}).items()}
        for axis in self.limit:
            if axis not in axes:
                raise ModelError(unknown_name("axis", axis, axes, f"the limit of body {name!r}"))
        for given, allowed, what in (
            (integrator, INTEGRATORS, "integrator"),
            (anchor, ANCHORS, "anchor"),
            (per, ("second", "frame"), "per"),
        ):
            if given not in allowed:
                raise ModelError(unknown_name(what, given, allowed, f"body {name!r}"))
        self.integrator = integrator
        self.probe = probe
        self.on_contact = on_contact
        self.grounded = False
        self.near_ground = False
        self.falls_through = False
        self.contacts: list[Contact] = []
        self.touching: list[list[int]] = []
        self._was_grounded = False
        self._trouble: list[str] = []
        self._up, self._up_sign = self.level.up_axis, self.level.up_sign
        self._rate = float(sim.rate) if per == "second" else 1.0
        before = _reach_before(anchor, self.size, self._up, self._up_sign)
        self._before = self.reach_before = before
        self._after = tuple(side - reach for side, reach in zip(self.size, before, strict=True))
        self._left: list[float] = []
        self._flat = len(axes) == 2
        self._plain_motion = self._flat and integrator == "semi-implicit"
        self._near: tuple[Grown, ...] = ()
        self._near_low: tuple[float, ...] = (math.nan,) * len(axes)
        self._near_high: tuple[float, ...] = (math.nan,) * len(axes)
        self._grown: dict[tuple[int, ...], tuple[Grown, ...]] = {}
        self._moving: Callable[[], tuple[float, ...]] = partial(attrgetter(*axes, *(f"v{axis}" for axis in axes)), self)

    def channels(self) -> tuple[Shown, ...]:
        numbers = [*self.axes, *(f"v{axis}" for axis in self.axes)]
        shown = [Shown(axis, axis, "number") for axis in numbers] + [Shown("grounded", "grounded", "flag")]
        return tuple(shown + ([Shown("near_ground", "near_ground", "flag")] if self.probe is not None else []))

    def launch(self, **speeds: float) -> None:
        """Sets velocities (vx=, vy=, vz=) and lets go of the ground at once: it is not grounded in this row."""
        for name, speed in speeds.items():
            self._set_speed(name, speed)
        self.grounded = False

    def push(self, **speeds: float) -> None:
        """Adds to velocities (vx=, vy=, vz=): an impulse, for a body of unit mass."""
        for name, speed in speeds.items():
            self._set_speed(name, getattr(self, name, 0.0) + speed)

    def halt(self, axes: str = "") -> None:
        """Sets velocities to 0, along the named axes or along all."""
        for axis in axes or self.axes:
            self._set_speed(f"v{axis}", 0.0)

    def steer(self, **speeds: float) -> None:
        """Leads velocities to a wanted speed: at once on the ground, by the share `air_control` of the way in the air."""
        for name, wanted in speeds.items():
            speed = getattr(self, name, 0.0)
            self._set_speed(name, wanted if self.grounded else speed + (wanted - speed) * self.air_control)

    def put(self, *position: float) -> None:
        """Stands it somewhere else, with no motion in between; what it overlaps there is an event at the end of the row."""
        self.set_position(_numbers(self.name, "position", position, len(self.axes)))
        self.grounded = False

    @property
    def position(self) -> tuple[float, ...]:
        """x and y (and z), of its anchor."""
        return self._moving()[: len(self.axes)]

    @property
    def low(self) -> tuple[float, ...]:
        """Its minimum corner."""
        return tuple(p - reach for p, reach in zip(self.position, self._before, strict=True))

    @property
    def high(self) -> tuple[float, ...]:
        """Its maximum corner."""
        return tuple(p + reach for p, reach in zip(self.position, self._after, strict=True))

    @property
    def centre(self) -> tuple[float, ...]:
        """Its middle."""
        return tuple((a + b) / 2 for a, b in zip(self.low, self.high, strict=True))

    @property
    def feet(self) -> tuple[float, ...]:
        """The middle of its underside."""
        down = self.low if self._up_sign > 0 else self.high
        return tuple(down[i] if i == self._up else middle for i, middle in enumerate(self.centre))

    def would_overlap(self, offset: Sequence[float], layers: Iterable[str] | None = None) -> list[Box]:
        """The solids it would overlap if it stood `offset` away; it stays where it is. One-way boxes do not count."""
        wanted = self.level.check_layers(layers)
        there = [
            p + way for p, way in zip(self.position, _numbers(self.name, "offset", offset, len(self.axes)), strict=True)
        ]
        solids = self._solids(there, [0.0] * len(there))
        return [
            solid.box
            for solid in solids
            if not solid.box.one_way and (wanted is None or solid.box.layer in wanted) and overlapping(there, solid)
        ]

    def begin(self) -> None:
        position = self.position
        solids = self._solids(position, (0.0,) * len(position))
        self._was_grounded = self.grounded = self._rests(position, getattr(self, f"v{self.axes[self._up]}"), solids)
        self._probe_ground()
        self._look_for_trouble(position, solids)

    def step(self) -> None:
        position, velocity = self._place_and_speed()
        untouched = position == self._left
        move = self._advance(velocity)
        solids = self._solids(position, move, untouched)
        contacts = sweep(position, move, velocity, solids, self._up, self._up_sign, self.bounce)
        self.x, self.y, *deep = position
        self.vx, self.vy, *deep_speed = velocity
        if deep:
            (self.z,), (self.vz,) = deep, deep_speed
        self.contacts = contacts
        self._note_contacts(contacts, position, velocity, solids)
        if self.on_contact is not None:
            for contact in contacts:
                self.on_contact(self, contact)
        if self.probe is not None:
            self._probe_ground()
        if untouched and not self._trouble:
            self._look_outside(position)
        else:
            self._look_for_trouble(position, solids)
        self._left = position

    def set_position(self, position: Sequence[float]) -> None:
        """Sets x and y (and z)."""
        for axis, value in zip(self.axes, position, strict=True):
            setattr(self, axis, value)

    def set_velocity(self, velocity: Sequence[float]) -> None:
        """Sets vx and vy (and vz)."""
        for axis, value in zip(self.axes, velocity, strict=True):
            setattr(self, f"v{axis}", value)

    def save(self) -> dict[str, Any]:
        kept = ("gravity", "bounce", "air_control", "grounded", "near_ground", "falls_through", "_was_grounded")
        saved = {name: getattr(self, name) for name in kept}
        touching = [list(pair) for pair in self.touching]
        return saved | {
            "moving": list(self._moving()),
            "touching": touching,
            "trouble": list(self._trouble),
            "left": list(self._left),
        }

    def load(self, saved: dict[str, Any]) -> None:
        plain = dict(saved)
        moving, self.touching, self._trouble = plain.pop("moving"), plain.pop("touching"), plain.pop("trouble")
        self._left = plain.pop("left")
        self.set_position(moving[: len(self.axes)])
        self.set_velocity(moving[len(self.axes) :])
        for name, value in plain.items():
            setattr(self, name, value)

    def _place_and_speed(self) -> tuple[list[float], list[float]]:
        if self._flat:
            return [self.x, self.y], [self.vx, self.vy]
        return [self.x, self.y, self.z], [self.vx, self.vy, self.vz]

    def _advance(self, velocity: list[float]) -> list[float]:
        """Changes the velocity by a frame of gravity, and returns the displacement of the frame."""
        rate, up = self._rate, self._up
        start = velocity[up]
        if self.gravity:
            velocity[up] = start - self.gravity * self._up_sign / rate
        if self._plain_motion and not self.limit:
            return [velocity[0] / rate, velocity[1] / rate]
        if self.limit:
            for axis, most in self.limit.items():
                i = self.axes.index(axis)
                velocity[i] = max(-most, min(most, velocity[i]))
        move = [speed / rate for speed in velocity]
        if self.integrator == "explicit":
            move[up] = start / rate
        elif self.integrator == "leapfrog":
            move[up] = (start + velocity[up]) / 2 / rate
        return move

    def _solids(self, position: Sequence[float], move: Sequence[float], inside: bool = False) -> Sequence[Grown]:
        """Every solid that it could meet on a move, grown by its own extent.

        The solids of the cells that it was in are good for as long as its whole way stays inside them; `inside` says
        that its position is known to be.
        """
        low, high = self._near_low, self._near_high
        for i, way in enumerate(move):
            p = position[i]
            if not (low[i] <= p + way <= high[i] and (inside or low[i] <= p <= high[i])):
                self._near = self._find_near(position, move)
                break
        if self.falls_through:
            return tuple(solid for solid in self._near if not solid.box.one_way)
        return self._near

    def _find_near(self, position: Sequence[float], move: Sequence[float]) -> tuple[Grown, ...]:
        """Looks up the cells that a move goes through, and how far their solids are good for."""
        self._near_low = self._near_high = (math.nan,) * len(position)
        ways = list(zip(position, move, self._before, self._after, strict=True))
        low = [min(p, p + way) - before - _TOUCH for p, way, before, _ in ways]
        high = [max(p, p + way) + after + _TOUCH for p, way, _, after in ways]
        grid = self.level.grid
        if not all(map(math.isfinite, low + high)):
            return ()
        key = grid.key(low, high)
        cell = grid.cell
        self._near_low = tuple(key[2 * i] * cell + reach + _TOUCH for i, reach in enumerate(self._before))
        self._near_high = tuple((key[2 * i + 1] + 1) * cell - reach - _TOUCH for i, reach in enumerate(self._after))
        solids = self._grown.get(key)
        if solids is None:
            if len(self._grown) >= 10_000:
                self._grown.clear()
            wanted = [box for box in grid.boxes_in(key) if self.layers is None or box.layer in self.layers]
            solids = self._grown[key] = tuple(grow(box, self._before, self._after) for box in wanted)
        return solids

    def _note_contacts(
        self, contacts: list[Contact], position: Sequence[float], velocity: Sequence[float], solids: Sequence[Grown]
    ) -> None:
        up, ground = self._up, 1 if self._up_sign > 0 else -1
        floor: Contact | None = None
        touching = []
        for contact in contacts:
            if contact.axis == up and contact.normal == ground:
                floor = contact
                continue
            side = [contact.axis, contact.normal]
            if side not in self.touching:
                self._say_bumped(contact)
            touching.append(side)
        self.touching = touching
        if floor is not None and not self.bounce:
            grounded = True
        else:
            grounded = self._rests(position, velocity[up], solids)
        self.grounded = grounded
        if grounded is not self._was_grounded:
            if grounded:
                impact = {"on": _called(floor.box), "speed": floor.speed, "time": floor.time} if floor else {}
                self.say("landed", **impact)
            else:
                self.say("left_ground")
            self._was_grounded = grounded

    def _say_bumped(self, contact: Contact) -> None:
        axis, on = self.axes[contact.axis], _called(contact.box)
        self.say("bumped", axis=axis, normal=contact.normal, on=on, speed=contact.speed, time=contact.time)

    def _rests(self, position: Sequence[float], rising: float, solids: Sequence[Grown]) -> bool:
        """Whether it touches ground exactly, and does not move up from it."""
        up, sign = self._up, self._up_sign
        if rising * sign > 0:
            return False
        for solid in solids:
            surface = solid.high[up] if sign > 0 else solid.low[up]
            if position[up] == surface and all(
                i == up or solid.low[i] < p < solid.high[i] for i, p in enumerate(position)
            ):
                return True
        return False

    def _probe_ground(self) -> None:
        if self.probe is None:
            return
        position = list(self.position)
        down = [0.0] * len(position)
        down[self._up] = -self._up_sign * self.probe
        self.near_ground = bool(sweep(position, down, down[:], self._solids(position, down), self._up, self._up_sign))

    def _look_for_trouble(self, position: Sequence[float], solids: Sequence[Grown]) -> None:
        """Says once what is wrong with where it stands, when it begins to be so."""
        found = ["overlapping"] if any(overlapping(position, s) and not s.box.one_way for s in solids) else []
        if not all(map(math.isfinite, position)):
            found = ["not_finite"]
        elif not all(low <= p <= high for low, p, high in zip(self.level.low, position, self.level.high, strict=True)):
            found.append("out_of_bounds")
        for trouble in found:
            if trouble not in self._trouble:
                self.say(trouble)
        self._trouble = found

    def _look_outside(self, position: Sequence[float]) -> None:
        """The same for a body that no one moved but its own sweep, after which nothing overlaps."""
        low, high = self.level.low, self.level.high
        for i, p in enumerate(position):
            if not low[i] <= p <= high[i]:
                self._look_for_trouble(position, ())
                break

    def _set_speed(self, name: str, speed: float) -> None:
        if name not in (f"v{axis}" for axis in self.axes):
            raise ModelError(unknown_name("velocity", name, [f"v{axis}" for axis in self.axes], f"body {self.name!r}"))
        setattr(self, name, speed)

    x: float
    y: float
    z: float
    vx: float
    vy: float
    vz: float


def _reach_before(anchor: str, size: Sequence[float], up: int, sign: float) -> tuple[float, ...]:
    """How far a body reaches below its anchor along each axis."""
    if anchor == "corner":
        return (0.0,) * len(size)
    feet = 0.0 if sign > 0 else 1.0
    return tuple(side * (feet if anchor == "feet" and i == up else 0.5) for i, side in enumerate(size))


def _number(name: str, what: str, value: float, low: float = -math.inf, high: float = math.inf) -> float:
    if (
        not isinstance(value, int | float)
        or isinstance(value, bool)
        or not math.isfinite(value)
        or not low <= value <= high
    ):
        bounds = "" if low == -math.inf else f" of at least {low:g}" if high == math.inf else f" in [{low:g}, {high:g}]"
        raise ModelError(f"body {name!r}: {what} is a finite number{bounds}, not {value!r}")
    return float(value)


def _numbers(name: str, what: str, values: Sequence[float], count: int, least: float = -math.inf) -> tuple[float, ...]:
    if isinstance(values, str) or len(values) != count:
        raise ModelError(f"body {name!r}: {what} is {count} numbers, not {values!r}")
    found = tuple(_number(name, what, value, least) for value in values)
    if least == 0.0 and not all(found):
        raise ModelError(f"body {name!r}: {what} is above 0 along every axis, not {values!r}")
    return found


def _called(box: Box) -> str:
    return box.name or box.layer
