"""Bodies: boxes that move, meet the level, and know what they stand on."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import ClassVar, Literal, TypeAlias

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.answers import ANSWERS, Answer, axis_by_axis, pushed_out
from larktally.parts.space.checks import number, numbers, words_of
from larktally.parts.space.hop import INTEGRATORS, Integrator
from larktally.parts.space.positioned_box import Anchor
from larktally.parts.space.riding import Leaves
from larktally.parts.space.sides import checked_limits, side_names, touched_sides
from larktally.parts.space.sweep import Contact, ExpandedBox, overlapping, sweep
from larktally.parts.space.walking import STEP, WalkingBox
from larktally.timing import Duration

__all__ = ["Body", "GroundTest", "Leaves", "Response"]

Response: TypeAlias = "Callable[[Body, Contact], None]"
GroundTest: TypeAlias = Literal["contact", "probe", "end"]
GROUND_TESTS: tuple[GroundTest, ...] = ("contact", "probe", "end")


_SHOWS = ("gravity", "limit", "touching", "apex")


class _Limit:
    """One limit of a body, as a channel reads it."""

    def __init__(self, body: Body, name: str) -> None:
        self._body, self._name = body, name

    @property
    def value(self) -> float:
        # A rule may take one away.
        return self._body.limit.get(self._name, math.inf)


class _Side:
    """One side of a body, as a channel reads it: whether something stands flush with it."""

    def __init__(self, body: Body, number: int) -> None:
        self._body, self._number = body, number

    @property
    def value(self) -> bool:
        return self._body.sides[self._number]


class Body(WalkingBox):
    """A box of `size` that is moved by its velocity and stopped by solids.

    `x`, `y` (and `z`) are its minimum corner, or its feet or centre where `anchor` says so; `vx`, `vy` its velocity, in
    units/s (`per="frame"`: units/frame). `gravity` is the acceleration downward in units/s², and may be changed at any
    time. Motion is semi-implicit Euler unless `integrator` names another. `grounded` means that the body met ground in the
    row's motion, or rests on it; `near_ground`, where `probe` units are asked for, that there is ground so near below its
    end. The two disagree for a frame where it walks off an edge.

    `layers` are those that it stops at (None: all). `layer` is the one it stands on itself, for rays that look for it, and, of
    a crate, for the bodies that stop at it.

    `answer` is how it answers a collision: "swept" (nothing tunnels), or as loops do that move first and look afterwards,
    "axis by axis" or "pushed out" of the overlap. `grounded_by` is when it is grounded: by "contact" in the row's motion, at
    its "end", where it rests on ground then, or by "probe", where there is ground within `probe` units below.

    `leaves_with` is what it takes along of the velocity of a platform or door that it stood on: "nothing", the "whole", or
    "upward", what of it goes up. It counts in the row in which it is launched, or from the row on after it walked off; a carrier
    that stopped at most `leaves_within` frames ago counts as if it still went.

    `limit` holds a speed by axis, both ways ({"x": 160}), or by direction ({"up": 300, "down": 600}).

    `shows` asks for more: "gravity" and "limit" as channels (`wick.gravity`, `wick.limit.down`), "touching" as a flag for each
    side at which a solid stands flush at the end of the row (`wick.touching.left`, right, above, below; front and back), and
    "apex" as an event `apex` (at) in the first row in which a rise is over, with the greatest height that it reached.

    Channels: x, y, vx, vy, grounded (and z, vz; and near_ground).
    Events: landed (on, speed, time), left_ground, knocked, bumped (axis, normal, on, speed, time), overlapping, not_finite,
    out_of_bounds.
    """

    phase = "motion"
    state_fields: ClassVar[tuple[str, ...]] = (
        "gravity",
        "layer",
        "bounce",
        "air_steering",
        "limit",
        "probe",
        "integrator",
        "falls_through",
        "grounded",
        "near_ground",
        "touching",
        "_was_grounded",
        "_knock",
        "_knock_left",
        "_trouble",
        "_left",
        "_gravity_later",
        "_rose",
        "_sides",
        "leaves_with",
        "leaves_within",
        "_carried",
        "_carried_left",
        "_carrier",
    )
    # What it met in its last step, for pictures and reasons; the next step makes it anew.
    derived_fields: ClassVar[tuple[str, ...]] = (
        "contacts",
        "_floor",
        "_room",
        "_blocked",
        "_clear",
        "_patch",
        "_same_cells",
        "_x",
        "_y",
        "ride",
        "_no_ride",
    )
    events = ("landed", "left_ground", "bumped", "knocked", "overlapping", "not_finite", "out_of_bounds")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        *,
        size: Sequence[float],
        at: Sequence[float],
        velocity: Sequence[float] | None = None,
        gravity: float = 0.0,
        anchor: Anchor = "corner",
        layers: Iterable[str] | None = None,
        layer: str = "",
        integrator: Integrator = "semi-implicit",
        per: Literal["second", "frame"] = "second",
        bounce: float = 0.0,
        limit: Mapping[str, float] | None = None,
        air_steering: float = 1.0,
        probe: float | None = None,
        on_contact: Response | None = None,
        shows: Iterable[str] = (),
        leaves_with: Leaves = "nothing",
        leaves_within: Duration = 0,
        answer: Answer = "swept",
        grounded_by: GroundTest = "contact",
    ) -> None:
        super().__init__(sim, name, size, at, anchor, layers, layer)
        what, axes = f"body {name!r}", self.axes
        self.set_velocity(numbers(what, "velocity", velocity or (0.0,) * len(axes), len(axes)))
        self.gravity = number(what, "gravity", gravity)
        if not self.level.has_up:
            self._check_without_up(what, probe)
        self.bounce = number(what, "bounce", bounce, 0.0, 1.0)
        self.air_steering = number(what, "air_steering", air_steering, 0.0, 1.0)
        self.limit = checked_limits(what, self.level, limit or {})
        for given, allowed, option in ((integrator, INTEGRATORS, "integrator"), (per, ("second", "frame"), "per")):
            if given not in allowed:
                raise ModelError(unknown_name(option, given, allowed, what))
        self.integrator = integrator
        if probe is None:
            self.probe = probe
        else:
            self.probe = number(what, "probe", probe, 0.0)
        self.on_contact = on_contact
        self.leader = None
        self.grounded = self.near_ground = False
        self.contacts: list[Contact] = []
        self.touching: list[list[int]] = []
        self._knock: dict[str, float] = {}
        self._knock_left = 0
        self._was_grounded = False
        # What is wrong with where it stands, so that each is said once, in the row in which it begins.
        self._trouble: list[str] = []
        self._rate = 1.0
        if per == "second":
            self._rate = float(sim.rate)
        # Where its own sweep left it: a body that is still there was not moved by a rule, so that its solids are known to
        # be clear of it.
        self._left = []
        self._known_floors, self._known_rooms = [], []
        self._begin_riding(what, leaves_with, leaves_within)
        self.answer: Answer = answer
        self.grounded_by: GroundTest = grounded_by
        self._check_ways(what)
        self.shows = words_of(what, shows, _SHOWS)
        if "apex" in self.shows and not self.level.has_up:
            raise ModelError(f"{what} has no apex: this level has no up")
        self._gravity_later = self._rose = False
        self._sides = [False] * (2 * len(axes))
        # The short way is written for x and y, with y up; on another level every frame goes the whole way.
        own_ways = answer != "swept" or grounded_by != "contact"
        self._short = len(axes) == 2 and self.up == 1 and not own_ways and not set(self.shows) & {"touching", "apex"}

    def channels(self) -> tuple[ChannelSpec, ...]:
        shown = []
        for name in (*self.axes, *(f"v{axis}" for axis in self.axes)):
            shown.append(ChannelSpec(name, name, "number"))
        shown.append(ChannelSpec("grounded", "grounded", "flag"))
        if self.probe is not None:
            shown.append(ChannelSpec("near_ground", "near_ground", "flag"))
        if "gravity" in self.shows:
            shown.append(ChannelSpec("gravity", "gravity", "number"))
        if "limit" in self.shows:
            for name in self.limit:
                shown.append(ChannelSpec(f"limit.{name}", "value", "number", (), _Limit(self, name)))
        if "touching" in self.shows:
            for n, name in enumerate(side_names(self.level)):
                shown.append(ChannelSpec(f"touching.{name}", "value", "flag", (), _Side(self, n)))
        return tuple(shown)

    def event_names(self) -> tuple[str, ...]:
        if "apex" in self.shows:
            return (*self.events, "apex")
        return self.events

    def saved_fields(self) -> tuple[str, ...]:
        return (*self.state_fields, *self.axes, *(f"v{axis}" for axis in self.axes))

    def begin(self) -> None:
        # Row 0 has had no sweep, so that a body that rests on ground is asked for by where it stands.
        position = self.position
        solids = self.near.solids(position, (0.0,) * len(position))
        self._probe_ground()
        if self.grounded_by == "probe":
            self.grounded = self.near_ground and not self.rising > 0
        else:
            self.grounded = self._rests(position, self._speeds(), solids)
        self._was_grounded = self.grounded
        if self.takes_part:
            self._look_for_trouble(position, solids)
        if self.shows:
            self._show_more(position, 0.0)

    def step(self) -> None:
        if self._carried and not self.grounded:
            # It was launched in this row, off what carried it in the row before.
            self._take_along()
        # Most bodies walk on one floor or fly in most frames: these two are told first.
        if self._knock_left or not self._short or not self._walked_or_flew():
            self._swept()

    def inlined(self) -> Inlined | None:
        if not self._short:
            return None
        return Inlined(
            STEP,
            {"rate": self._rate, "up_sign": self.up_sign, "moving": self.near.moving, "movers": self.near.movers.all},
        )

    def _swept(self) -> None:
        """A frame's way with everything that may come in between."""
        self.forget_way()
        if self._knock_left:
            self._be_knocked()
        if len(self.axes) == 2:
            position, velocity = [self._x, self._y], [self.vx, self.vy]
        else:
            position, velocity = self._place_and_speed()
        untouched = position == self._left
        if self.shows:
            start, rising = position[:], velocity[self.up] * self.up_sign if self.level.has_up else 0.0
        led = None
        if self.leader is not None:
            led = self.leader()
        if led is None:
            move, speed = self._advance(velocity), velocity
        else:
            # One that is led keeps its speed whatever it meets: it is for when it is let go.
            move, speed = led, velocity[:]
        # From here to the end the order matters: contacts first, so that a response may change what trouble is looked for.
        if self.bounce:
            # Thrown back, it may go as far the other way as it came.
            start = [p - abs(displacement) for p, displacement in zip(position, move, strict=True)]
            both_ways = [2 * abs(displacement) for displacement in move]
            solids = self.near.solids(start, both_ways, through_one_way=self.falls_through)
        else:
            solids = self.near.solids(position, move, self.falls_through)
        if self.answer == "swept":
            contacts = sweep(position, move, speed, solids, self.up, self.up_sign, self.bounce)
        else:
            moved = pushed_out
            if self.answer == "axis by axis":
                moved = axis_by_axis
            contacts = moved(position, move, speed, solids, self.up, self.up_sign)
        self.set_position(position)
        self.set_velocity(velocity)
        self.contacts = contacts
        self._note_contacts(contacts, position, velocity, solids)
        if self.on_contact is not None:
            for contact in contacts:
                self.on_contact(self, contact)
        if self.probe is not None:
            self._probe_ground()
        # A body that is swept overlaps nothing afterwards.
        if untouched and not self._trouble and self.answer == "swept":
            if not self.near.in_bounds:
                self._look_outside(position)
        else:
            self._look_for_trouble(position, solids)
        self._left = position
        if self._carried:
            self._look_at_carrier()
        if self.shows:
            self._show_more(start, rising)

    @property
    def sides(self) -> tuple[bool, ...]:
        """Of each side, as `shows="touching"` names them, whether something stands flush with it."""
        return tuple(self._sides)

    def _note_contacts(
        self,
        contacts: list[Contact],
        position: Sequence[float],
        velocity: Sequence[float],
        solids: Sequence[ExpandedBox],
    ) -> None:
        up, ground = self.up, 1 if self.up_sign > 0 else -1
        plain = self.grounded_by == "contact"
        if len(contacts) == 1 and self._was_grounded and plain and contacts[0][:2] == (up, ground) and not self.bounce:
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
        if self.grounded_by == "probe":
            self._probe_ground()
            grounded = self.near_ground and not velocity[self.up] * self.up_sign > 0
        elif self.grounded_by == "end":
            grounded = self._rests(position, velocity, solids)
        elif floor is not None and not self.bounce:
            grounded = True
        else:
            grounded = self._rests(position, velocity, solids)
            # Explicit Euler moves by the speed before this frame's gravity: at rest it has met nothing yet, and would fall
            # in every other frame if the ground did not hold it as it holds the others.
            if grounded and not self.bounce and self.gravity and self.answer == "swept":
                self.halt(self.axes[self.up])
        self.grounded = grounded
        if grounded is not self._was_grounded:
            if grounded:
                impact = {}
                if floor:
                    impact = {"on": floor.box.called, "speed": floor.speed, "time": floor.time}
                self.emit("landed", **impact)
            else:
                self.emit("left_ground")
            self._was_grounded = grounded

    def _say_bumped(self, contact: Contact) -> None:
        axis, on = self.axes[contact.axis], contact.box.called
        self.emit("bumped", axis=axis, normal=contact.normal, on=on, speed=contact.speed, time=contact.time)

    def rests_at(self, surface: float, low: Sequence[float], high: Sequence[float]) -> bool:
        """Whether its feet are at a surface that reaches from `low` to `high` along the other axes."""
        position, up, before, after = self.position, self.up, self.near.extent_low, self.near.extent_high
        foot = position[up] + after[up]
        if self.up_sign > 0:
            foot = position[up] - before[up]
        if not self.level.has_up or not abs(foot - surface) < 1e-9:
            return False
        for i, p in enumerate(position):
            if i != up and not (p - before[i] < high[i] and low[i] < p + after[i]):
                return False
        return True

    def _rests(self, position: Sequence[float], velocity: Sequence[float], solids: Sequence[ExpandedBox]) -> bool:
        """Whether it touches ground exactly, and does not move up from it."""
        up, sign = self.up, self.up_sign
        if not self.level.has_up or velocity[up] * sign > 0:
            return False
        for solid in solids:
            if sign > 0:
                surface = solid.high[up]
            else:
                surface = solid.low[up]
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

    def _look_for_trouble(self, position: Sequence[float], solids: Sequence[ExpandedBox]) -> None:
        """Says once what is wrong with where it stands, when it begins to be so."""
        found = []
        if any(overlapping(position, s) and not s.box.one_way for s in solids):
            found = ["overlapping"]
        if not all(map(math.isfinite, position)):
            found = ["not_finite"]
        elif not all(low <= p <= high for low, p, high in zip(self.level.low, position, self.level.high, strict=True)):
            found.append("out_of_bounds")
        for trouble in found:
            if trouble not in self._trouble:
                self.emit(trouble)
        self._trouble = found

    def _check_ways(self, what: str) -> None:
        """Raises ModelError for an answer to collisions, or a test of the ground, that it cannot have."""
        if self.answer not in ANSWERS:
            raise ModelError(unknown_name("answer", self.answer, ANSWERS, what))
        if self.grounded_by not in GROUND_TESTS:
            raise ModelError(unknown_name("grounded_by", self.grounded_by, GROUND_TESTS, what))
        if self.answer != "swept" and self.bounce:
            raise ModelError(f"{what} bounces by the sweep alone: leave bounce= or answer= out")
        if self.grounded_by == "probe" and self.probe is None:
            raise ModelError(f"{what} is grounded by its probe, and has none: probe=2")
        if self.grounded_by != "contact" and not self.level.has_up:
            raise ModelError(f"{what} is never grounded: its level has no up")

    def _show_more(self, start: Sequence[float], rising: float) -> None:
        """What `shows` asks for, at the end of a row that began at `start`, with a velocity upward of `rising`."""
        position = self.position
        if "touching" in self.shows:
            solids = self.near.solids(position, (0.0,) * len(position), through_one_way=self.falls_through)
            self._sides = list(touched_sides(position, solids, self.up, self.up_sign))
        if "apex" in self.shows:
            rises = self._speeds()[self.up] * self.up_sign > 0
            if (self._rose or rising > 0) and not rises:
                # Gravity has had its turn in this row: the row before may have been the higher one.
                heights = (start[self.up], position[self.up])
                self.emit("apex", at=max(heights) if self.up_sign > 0 else min(heights))
            self._rose = rises

    def _look_outside(self, position: Sequence[float]) -> None:
        """The same for a body that no one moved but its own sweep, after which nothing overlaps."""
        low, high = self.level.low, self.level.high
        for i, p in enumerate(position):
            if not low[i] <= p <= high[i]:
                self._look_for_trouble(position, ())
                break
