"""Bodies: boxes that move, meet the level, and know what they stand on."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeAlias

from larktally.errors import ModelError, unknown_name
from larktally.parts.part import Shown
from larktally.parts.space.checks import number, numbers
from larktally.parts.space.hop import INTEGRATORS
from larktally.parts.space.placed import Placed
from larktally.parts.space.sweep import Contact, Grown, clear, contact_at, overlapping, sweep
from larktally.timing import Duration, frames_in

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Body"]

Response: TypeAlias = "Callable[[Body, Contact], None]"


class Body(Placed):
    """A box of `size` that is moved by its velocity and stopped by solids.

    `x`, `y` (and `z`) are its minimum corner, or its feet or centre where `anchor` says so; `vx`, `vy` its velocity, in
    units/s (`per="frame"`: units/frame). `gravity` is the acceleration downward in units/s², and may be changed at any
    time. Motion is semi-implicit Euler unless `integrator` names another. `grounded` means that the body met ground in the
    row's motion, or rests on it; `near_ground`, where `probe` units are asked for, that there is ground so near below its
    end. The two disagree for a frame where it walks off an edge.

    Channels: x, y, vx, vy, grounded (and z, vz; and near_ground).
    Events: landed (on, speed, time), left_ground, knocked, bumped (axis, normal, on, speed, time), overlapping, not_finite,
    out_of_bounds.
    """

    phase = "motion"
    events = ("landed", "left_ground", "bumped", "knocked", "overlapping", "not_finite", "out_of_bounds")

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
        super().__init__(sim, name, size, at, anchor, layers)
        what, axes = f"body {name!r}", self.axes
        self.set_velocity(numbers(what, "velocity", velocity or (0.0,) * len(axes), len(axes)))
        self.gravity = number(what, "gravity", gravity)
        self.bounce = number(what, "bounce", bounce, 0.0, 1.0)
        self.air_control = number(what, "air_control", air_control, 0.0, 1.0)
        self.limit = {axis: number(what, f"limit of {axis}", value, 0.0) for axis, value in (limit or {}).items()}
        for axis in self.limit:
            if axis not in axes:
                raise ModelError(unknown_name("axis", axis, axes, f"the limit of {what}"))
        for given, allowed, option in ((integrator, INTEGRATORS, "integrator"), (per, ("second", "frame"), "per")):
            if given not in allowed:
                raise ModelError(unknown_name(option, given, allowed, what))
        self.integrator = integrator
        self.probe = probe if probe is None else number(what, "probe", probe, 0.0)
        self.on_contact = on_contact
        self.leader: Callable[[], list[float] | None] | None = None
        self.grounded = self.near_ground = False
        self.contacts: list[Contact] = []
        self.touching: list[list[int]] = []
        self._knock: dict[str, float] = {}
        self._knock_left = 0
        self._was_grounded = False
        self._trouble: list[str] = []
        self._rate = float(sim.rate) if per == "second" else 1.0
        self._left: list[float] = []
        self._plain_motion = len(axes) == 2 and integrator == "semi-implicit"
        self._short = self._plain_motion and self.up == 1

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

    def knock(self, frames: Duration, **speeds: float) -> None:
        """Knocks it back: these velocities (vx=, vy=, vz=) now, and those along the ground for so
        many frames, whatever rules set meanwhile."""
        self._knock_left = frames_in(frames, self.sim.rate, least=1, what=f"knock of {self.name!r}:")
        self._knock = dict(speeds)
        self.launch(**speeds)
        self.say("knocked")

    def put(self, *position: float) -> None:
        """Stands it somewhere else, with no motion in between; what it overlaps there is an event at the end of the row."""
        self.set_position(numbers(self.name, "position", position, len(self.axes)))
        self.grounded = False

    def begin(self) -> None:
        position = self.position
        solids = self.near.solids(position, (0.0,) * len(position))
        self._was_grounded = self.grounded = self._rests(position, getattr(self, f"v{self.axes[self.up]}"), solids)
        self._probe_ground()
        if self.slot is None or self.slot.present:
            self._look_for_trouble(position, solids)

    def step(self) -> None:
        if self._short and not self._knock_left and self._walked_or_flew():
            return
        if self._knock_left:
            self._be_knocked()
        if self._plain_motion:
            position, velocity = [self.x, self.y], [self.vx, self.vy]
        else:
            position, velocity = self._place_and_speed()
        untouched = position == self._left
        led = self.leader() if self.leader is not None else None
        move = self._advance(velocity) if led is None else led
        speed = velocity if led is None else velocity[:]
        solids = self.near.solids(position, move, untouched, self.falls_through)
        contacts = sweep(position, move, speed, solids, self.up, self.up_sign, self.bounce)
        if len(position) == 2:
            self.x, self.y = position
            self.vx, self.vy = velocity
        else:
            self.x, self.y, self.z = position
            self.vx, self.vy, self.vz = velocity
        self.contacts = contacts
        self._note_contacts(contacts, position, velocity, solids)
        if self.on_contact is not None:
            for contact in contacts:
                self.on_contact(self, contact)
        if self.probe is not None:
            self._probe_ground()
        if untouched and not self._trouble:
            if not self.near.in_bounds:
                self._look_outside(position)
        else:
            self._look_for_trouble(position, solids)
        self._left = position

    def _walked_or_flew(self) -> bool:
        """The two frames that most are, told from what was known: a step along the one floor it stands on, or through
        the air where nothing is met. The same numbers as the sweep's, at a third of its cost; False where it is neither.
        """
        near, left, x, y = self.near, self._left, self.x, self.y
        if not (
            near.in_bounds
            and left
            and x == left[0]
            and y == left[1]
            and not (near.moving or self.limit or self._trouble or self.touching or self.falls_through)
            and self.grounded is self._was_grounded
            and self.probe is None
            and self.on_contact is None
            and self.leader is None
        ):
            return False
        vx, vy = self.vx, self.vy
        if self.gravity:
            vy = vy - self.gravity * self.up_sign / self._rate
        way_x, way_y = vx / self._rate, vy / self._rate
        next_x, next_y = x + way_x if way_x else x, y + way_y if way_y else y
        if not near.inside(next_x, next_y):
            return False
        if not self.grounded:
            for low, high, _ in near.still:
                if not (clear(y, way_y, next_y, low[1], high[1]) or clear(x, way_x, next_x, low[0], high[0])):
                    return False
            self.contacts = []
            self.x, self.y, self.vy = next_x, next_y, vy
            self._left = [next_x, next_y]
            return True
        if len(near.still) != 1 or vy * self.up_sign >= 0 or self.bounce:
            return False
        low, high, box = near.still[0]
        if not (low[0] < x < high[0]) or y != (high[1] if self.up_sign > 0 else low[1]):
            return False
        self.contacts = [contact_at(1, 1 if self.up_sign > 0 else -1, box, 0.0, abs(vy))]
        self.x, self.vy = next_x, 0.0
        self._left = [next_x, y]
        return True

    def set_velocity(self, velocity: Sequence[float]) -> None:
        """Sets vx and vy (and vz)."""
        for axis, value in zip(self.axes, velocity, strict=True):
            setattr(self, f"v{axis}", value)

    def save(self) -> dict[str, Any]:
        kept = (
            "gravity",
            "bounce",
            "air_control",
            "grounded",
            "near_ground",
            "falls_through",
            "_was_grounded",
            "_knock_left",
        )
        saved = {name: getattr(self, name) for name in kept}
        velocity = self._place_and_speed()[1]
        return saved | {
            "moving": [*self.position, *velocity],
            "knock": dict(self._knock),
            "touching": [list(pair) for pair in self.touching],
            "trouble": list(self._trouble),
            "left": list(self._left),
        }

    def load(self, saved: dict[str, Any]) -> None:
        plain = dict(saved)
        moving, self.touching, self._trouble = plain.pop("moving"), plain.pop("touching"), plain.pop("trouble")
        self._left, self._knock = plain.pop("left"), plain.pop("knock")
        self.set_position(moving[: len(self.axes)])
        self.set_velocity(moving[len(self.axes) :])
        for name, value in plain.items():
            setattr(self, name, value)

    def _be_knocked(self) -> None:
        for name, speed in self._knock.items():
            if name != f"v{self.axes[self.up]}":
                setattr(self, name, speed)
        self._knock_left -= 1

    def _place_and_speed(self) -> tuple[list[float], list[float]]:
        if len(self.axes) == 2:
            return [self.x, self.y], [self.vx, self.vy]
        return [self.x, self.y, self.z], [self.vx, self.vy, self.vz]

    def _advance(self, velocity: list[float]) -> list[float]:
        """Changes the velocity by a frame of gravity, and returns the displacement of the frame."""
        rate, up = self._rate, self.up
        start = velocity[up]
        if self.gravity:
            velocity[up] = start - self.gravity * self.up_sign / rate
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

    def _note_contacts(
        self, contacts: list[Contact], position: Sequence[float], velocity: Sequence[float], solids: Sequence[Grown]
    ) -> None:
        up, ground = self.up, 1 if self.up_sign > 0 else -1
        if len(contacts) == 1 and self._was_grounded and contacts[0][:2] == (up, ground) and not self.bounce:
            self.grounded, self.touching = True, []  # nothing but the ground that it was on: nothing to say
            return
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
                impact = {"on": floor.box.called, "speed": floor.speed, "time": floor.time} if floor else {}
                self.say("landed", **impact)
            else:
                self.say("left_ground")
            self._was_grounded = grounded

    def _say_bumped(self, contact: Contact) -> None:
        axis, on = self.axes[contact.axis], contact.box.called
        self.say("bumped", axis=axis, normal=contact.normal, on=on, speed=contact.speed, time=contact.time)

    def _rests(self, position: Sequence[float], rising: float, solids: Sequence[Grown]) -> bool:
        """Whether it touches ground exactly, and does not move up from it."""
        up, sign = self.up, self.up_sign
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
        down[self.up] = -self.up_sign * self.probe
        self.near_ground = bool(sweep(position, down, down[:], self.near.solids(position, down), self.up, self.up_sign))

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

    vx: float
    vy: float
    vz: float
