"""Zones: regions that bodies enter, are inside of, and leave; gathered once, snapped to, or the end of a run."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Iterator, Mapping, Sequence

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.noted import noted
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box, Round, gap_to, meets, middle_of
from larktally.parts.space.room import Corners, Room, apart

__all__ = ["Zone"]


# Whether what a zone of one box says of one body has to change, as lines.
_LOOK = """\
x, y = body._x, body._y
inside = x - before_x < right and left < x + after_x and y - before_y < top and bottom < y + after_y
if inside is not presence.inside or inside and me.used:
    me.step()"""
# The same of several: one step looks at them all.
_LOOK_AT_ALL = f"""\
for body, presence, before_x, before_y, after_x, after_y in watched:
{textwrap.indent(_LOOK, "    ")}
        break"""


# Holds no place.
_NOWHERE: Corners = (math.nan, math.nan, math.nan, math.nan)


class Presence:
    """Whether one watched body is inside a zone; the zone's channel of that body reads it."""

    __slots__ = ("inside",)

    def __init__(self) -> None:
        self.inside = False


class Zone(Part):
    """A region of one or more boxes, or a round one, looked at after motion for every body that asked.

    A channel for each watched body says whether it is inside (`rope.wick`). With `once` the first to enter uses it up
    (`used`). With `ends` entering it ends the run with that reason. Events: entered, left (body), gathered (body),
    snap_stopped (body, on). Raises ModelError for a zone without a box.
    """

    phase = "zones"
    events = ("entered", "left", "gathered", "snap_stopped")
    state_fields = ("holds", "used", "once", "ends")
    derived_fields = ("told_with",)
    # Whoever uses it up, or makes it fresh again, who is inside has another answer.
    used: bool = noted("_used", "forget_rooms", "Whether the first who entered has used it up.")
    #: What is asked in place of this zone and others; nothing where they are few.
    told_with: ZoneWatch | None = None

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        boxes: Sequence[Box],
        watch: Sequence[Body],
        *,
        once: bool = False,
        ends: str = "",
    ) -> None:
        super().__init__(sim, name)
        if not boxes:
            raise ModelError(f"zone {name!r} has no box")
        self.boxes = tuple(boxes)
        self.watched = tuple(watch)
        self.once, self.ends = once, ends
        self.used = False
        self._presences = {body.name: Presence() for body in self.watched}
        self._pairs = [(body, self._presences[body.name]) for body in self.watched]
        self._flat: tuple[tuple[float, float, float, float], ...] = ()
        # Most zones are a few boxes in a level of two axes: their corners as plain numbers take a third of the time.
        if len(self.boxes[0].low) == 2 and not any(isinstance(box, Round) for box in self.boxes):
            self._flat = tuple((box.low[0], box.low[1], box.high[0], box.high[1]) for box in self.boxes)

    def channels(self) -> tuple[ChannelSpec, ...]:
        watched = tuple(ChannelSpec(name, "inside", "flag", (), one) for name, one in self._presences.items())
        if self.once:
            return (*watched, ChannelSpec("used", "used", "flag"))
        return watched

    @property
    def low(self) -> tuple[float, ...]:
        """The minimum corner of all its boxes."""
        return tuple(map(min, zip(*(box.low for box in self.boxes), strict=True)))

    @property
    def high(self) -> tuple[float, ...]:
        """The maximum corner of all its boxes."""
        return tuple(map(max, zip(*(box.high for box in self.boxes), strict=True)))

    @property
    def centre(self) -> tuple[float, ...]:
        """The middle of its corners."""
        return middle_of(self.low, self.high)

    @property
    def feet(self) -> tuple[float, ...]:
        """The middle of its underside; raises ModelError in a level without an up."""
        return self.underside(self)

    def underside(self, box: Box | Zone) -> tuple[float, ...]:
        """The middle of the underside of one of its boxes, or of all of it."""
        return self.sim.level.underside(f"zone {self.name!r}", box.low, box.high)

    def inside(self, body: Body) -> bool:
        """Whether a watched body was inside when the zone was last looked at."""
        if body.name not in self._presences:
            raise ModelError(f"zone {self.name!r} does not watch {body.name!r}; name it in watch=")
        return self._presences[body.name].inside

    def nearest(self, body: Body) -> Box:
        """Of the boxes of this zone, the one that is nearest to a body: by edges, then by centres; the first of equals."""
        found = []
        for n, box in enumerate(self.boxes):
            gap = gap_to(box, body.low, body.high)
            found.append((gap, math.dist(body.centre, box.centre), n))
        return self.boxes[min(found)[2]]

    def snap(self, body: Body, axis: str = "x") -> bool:
        """Leads a body to the centre line of its nearest box along an axis, by a sweep; whether it got there. A solid that
        stops it is an event `snap_stopped`."""
        if axis not in body.axes:
            raise ModelError(unknown_name("axis", axis, body.axes, f"zone {self.name!r}: this level"))
        i = body.axes.index(axis)
        move = [0.0] * len(body.axes)
        # By centres, whatever the body's anchor.
        move[i] = self.nearest(body).centre[i] - body.centre[i]
        goal = body.position[i] + move[i]
        met = body.shift(move)
        if met and body.position[i] != goal:
            self.emit("snap_stopped", body=body.name, on=met[0].box.called)
            return False
        return True

    def begin(self) -> None:
        self.step()

    def forget_rooms(self) -> None:
        """Says that it may have something new to say, whoever is where."""
        if self.told_with is not None:
            self.told_with.forget()

    def step(self) -> None:
        for body, presence in self._pairs:
            # The first to enter may have used it up, and is not inside any more.
            inside = not self.used and self._overlaps(body)
            if inside and not presence.inside:
                self._enter(body)
                inside = not self.used
            elif presence.inside and not inside:
                self.emit("left", body=body.name)
            presence.inside = inside

    def inlined(self) -> Inlined | None:
        # Of one box, as most are: asked whether anything changes, and stepped only then.
        if len(self._flat) != 1:
            return None
        names: dict[str, object] = dict(zip(("left", "bottom", "right", "top"), self._flat[0], strict=True))
        watched = []
        for body, presence in self._pairs:
            watched.append((body, presence, *body.near.extent_low, *body.near.extent_high))
        if len(watched) != 1:
            return Inlined(_LOOK_AT_ALL, {**names, "watched": tuple(watched)}, ZoneWatch)
        names.update(zip(("body", "presence", "before_x", "before_y", "after_x", "after_y"), watched[0], strict=True))
        return Inlined(_LOOK, names, ZoneWatch)

    @property
    def holds(self) -> dict[str, bool]:
        """Of each watched body whether it is inside, as the zone was last looked at."""
        found: dict[str, bool] = {}
        for name, presence in self._presences.items():
            found[name] = presence.inside
        return found

    @holds.setter
    def holds(self, inside: Mapping[str, bool]) -> None:
        for name, presence in self._presences.items():
            presence.inside = inside[name]
        self.forget_rooms()

    def answers(self) -> Iterator[tuple[Body, Presence, Corners]]:
        """Of a zone of one box, each watched body: whether it counts as inside, and the places at which it is."""
        left, low, right, high = self._flat[0]
        for body, presence in self._pairs:
            (before_x, before_y), (after_x, after_y) = body.near.extent_low, body.near.extent_high
            yield body, presence, (left - after_x, low - after_y, right + before_x, high + before_y)

    def _enter(self, body: Body) -> None:
        self.emit("entered", body=body.name)
        if self.once:
            self.used = True
            self.emit("gathered", body=body.name)
        if self.ends:
            self.emit("end", reason=self.ends)

    def _overlaps(self, body: Body) -> bool:
        if self._flat:
            x, y = body.x, body.y
            before, after = body.near.extent_low, body.near.extent_high
            low_x, low_y, high_x, high_y = x - before[0], y - before[1], x + after[0], y + after[1]
            for left, bottom, right, top in self._flat:
                if low_x < right and left < high_x and low_y < top and bottom < high_y:
                    return True
            return False
        low, high = body.low, body.high
        return any(meets(box, low, high) for box in self.boxes)


class ZoneWatch:
    """How far each of some bodies may go before any of the zones that watch it says something else of it."""

    def __init__(self, zones: Sequence[Zone]) -> None:
        self._answers: dict[Body, list[tuple[Zone, Presence, Corners]]] = {}
        for zone in zones:
            zone.told_with = self
            for body, presence, corners in zone.answers():
                self._answers.setdefault(body, []).append((zone, presence, corners))
        self._rooms: list[tuple[Body, float, float, float, float]] = []
        self.forget()

    def forget(self) -> None:
        """Forgets how far: in the next frame all zones look."""
        self._rooms = [(body, *_NOWHERE) for body in self._answers]

    def quiet(self) -> bool:
        for body, left, low, right, high in self._rooms:
            if not (left < body.x < right and low < body.y < high):
                return False
        return True

    def look(self) -> None:
        for n, (body, left, low, right, high) in enumerate(self._rooms):
            if not (left < body.x < right and low < body.y < high):
                self._rooms[n] = (body, *self._room_of(body))

    def _room_of(self, body: Body) -> Corners:
        left, low, right, high = -math.inf, -math.inf, math.inf, math.inf
        others = []
        for zone, presence, corners in self._answers[body]:
            if presence.inside:
                first, bottom, last, top = corners
                left, right = max(left, first + apart(first)), min(right, last - apart(last))
                low, high = max(low, bottom + apart(bottom)), min(high, top - apart(top))
            elif not zone.used:
                others.append(corners)
        room = Room((left, low, right, high), others, body.x, body.y)
        if not room.clear:
            return _NOWHERE
        return (room.left, room.low, room.right, room.high)
