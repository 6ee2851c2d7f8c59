"""How parts come into a sim: `sim.body(…)`, `sim.machine(…)`, and the same below a name with `sim.under(…)`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

from larktally.errors import ModelError, unknown_name
from larktally.parts.animation import Animation, Clip
from larktally.parts.binding import bind_outline
from larktally.parts.clock import Clock
from larktally.parts.cooldown import Cooldown
from larktally.parts.gate import Gate, Grace, Latch
from larktally.parts.machine import Machine
from larktally.parts.part import Part, check_part_name
from larktally.parts.pool import Pool
from larktally.parts.recent import Recent
from larktally.parts.request import Request
from larktally.parts.space.body import Body
from larktally.parts.space.level import Box, Level
from larktally.parts.space.mover import Enclosure, Platform
from larktally.parts.space.strike import Strike
from larktally.parts.space.zone import Zone
from larktally.parts.value import Value
from larktally.timing import Duration, Rate
from larktally.traces.outline import Outline

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Builders", "Under"]

P = TypeVar("P", bound=Part)


class Builders:
    """The calls that register parts. `clock=` puts a part on a named clock; without it, it runs in every frame."""

    @property
    def root(self) -> Sim:
        """The sim that the parts are registered with."""
        raise NotImplementedError

    def full_name(self, name: str) -> str:
        """The dotted name under which a local name is registered."""
        raise NotImplementedError

    def under(self, name: str) -> Under:
        """A view of the sim in which parts take names below `name`: one function builds each of many."""
        return Under(self.root, self.full_name(name))

    def body(self, name: str, *, clock: str | None = None, **options: Any) -> Body:
        """A body; see Body for its options (size, at, gravity, anchor, layers, integrator, bounce, limit, …)."""
        return self._add(Body(self.root, self.full_name(name), **options), clock)

    def machine(
        self, name: str, states: Sequence[str], start: str = "", *, clock: str | None = None, **options: Any
    ) -> Machine:
        """A state machine; see Machine for its options (order, settle, remember, initial)."""
        return self._add(Machine(self.root, self.full_name(name), states, start, **options), clock)

    def machine_from(
        self, name: str, outline: Outline, calls: Mapping[str, Callable[[Any], Any]] | None = None, **options: Any
    ) -> Machine:
        """A machine from an outline, such as one read from a document; `calls` holds the functions that it names."""
        told: dict[str, Any] = {"initial": outline.initial, "remember": outline.remember, "final": outline.final}
        told |= {"order": outline.order, "settle": outline.settle}
        made = self.machine(name, outline.states, outline.start, **{**told, **options})
        bind_outline(made, outline, calls or {})
        return made

    def gate(self, name: str, frames: Duration, *, once: bool = True, clock: str | None = None) -> Gate:
        """A gate that is ready, due, or locked for so many frames."""
        return self._add(Gate(self.root, self.full_name(name), frames, once), clock)

    def grace(self, name: str, frames: Duration, *, once: bool = True, clock: str | None = None) -> Grace:
        """A grace of so many frames after a hurt."""
        return self._add(Grace(self.root, self.full_name(name), frames, once), clock)

    def latch(self, name: str, armed: bool = True) -> Latch:
        """A latch that fires once until it is armed again."""
        return self._add(Latch(self.root, self.full_name(name), armed), None)

    def cooldown(self, name: str, frames: Duration, *, clock: str | None = None) -> Cooldown:
        """A cooldown of so many frames."""
        return self._add(Cooldown(self.root, self.full_name(name), frames), clock)

    def value(self, name: str, start: float | int | bool | str, labels: Iterable[str] = ()) -> Value:
        """A value of the user's own; `.now` reads it and is assigned to change it."""
        return self._add(Value(self.root, self.full_name(name), start, labels), None)

    def request(self, name: str, action: str, keep: Duration) -> Request:
        """A press of an action that is remembered for some frames, until one rule takes it."""
        return self._add(Request(self.root, self.full_name(name), action, keep), None)

    def clock(self, name: str, rate: str | int = 1) -> Clock:
        """A clock that parts may be put on, running at a share of the rate."""
        return self._add(Clock(self.root, self.full_name(name), rate), None)

    def animation(self, name: str, clips: Mapping[str, Clip], start: str, *, clock: str | None = None) -> Animation:
        """Which of several clips plays, and at which frame."""
        return self._add(Animation(self.root, self.full_name(name), clips, start), clock)

    def recent(self, name: str, when: str, keep: Duration) -> Recent:
        """Whether a condition of the claim language holds, or did within the last `keep` frames."""
        return self._add(Recent(self.root, self.full_name(name), when, keep), None)

    def pool(self, name: str, build: Callable[[Under], Any], slots: int) -> Pool:
        """So many places for things that come and go, each built once by `build(view)`."""
        pool = self._add(Pool(self.root, self.full_name(name), build, slots), None)
        pool.fill()
        return pool

    def zone(
        self,
        name: str,
        low: Sequence[float] | None = None,
        high: Sequence[float] | None = None,
        *,
        watch: Sequence[Body],
        once: bool = False,
        ends: str = "",
    ) -> Zone:
        """A zone from `low` to `high`, or the level's zone of that name; it looks at the bodies in `watch`."""
        sim = self.root
        if low is None or high is None:
            if name not in sim.level.zones:
                raise ModelError(unknown_name("zone", name, sim.level.zones, "this level") + "; or give low= and high=")
            boxes = sim.level.zones[name]
        else:
            boxes = Level((), {name: [Box(tuple(low), tuple(high), "zone", name=name)]}, axes=sim.level.axes).zones[
                name
            ]
        return self._add(Zone(sim, self.full_name(name), boxes, watch, once, ends), None)

    def strike(
        self,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        targets: Sequence[Body],
        facing: Value | None = None,
    ) -> Strike:
        """A box attached to a body that strikes each target once for each opening."""
        return self._add(Strike(self.root, self.full_name(name), body, size, offset, targets, facing), None)

    def platform(
        self, name: str, *, size: Sequence[float], path: Sequence[Sequence[float]], speed: float, **options: Any
    ) -> Platform:
        """A solid box led along a path of points at a speed; `round_trip` is "back" or "round"."""
        return self._add(Platform(self.root, self.full_name(name), size, path, speed, **options), None)

    def enclosure(
        self, name: str, *, at: Sequence[float], size: Sequence[float], holds: Sequence[Body], wall: float = 4.0
    ) -> Enclosure:
        """Walls around a box that drifts and may be resized; the bodies it holds stay inside."""
        return self._add(Enclosure(self.root, self.full_name(name), at, size, holds, wall), None)

    @property
    def scope(self) -> str:
        """The name below which parts are registered, "" for the sim itself."""
        return ""

    def _add(self, part: P, clock: str | None) -> P:
        sim = self.root
        part.scope = self.scope
        if clock is not None:
            found = sim.parts.get(clock)
            if not isinstance(found, Clock):
                clocks = [name for name, one in sim.parts.items() if isinstance(one, Clock)]
                raise ModelError(
                    f"part {part.name!r}: no clock {clock!r}; clocks come first: sim.clock({clock!r}); there are: {clocks}"
                )
            part.clock = found
        sim.add(part)
        return part


class Under(Builders):
    """A sim seen from below a name: parts are registered under it, everything else is the sim's."""

    def __init__(self, sim: Sim, name: str) -> None:
        self._sim = sim
        self.name = check_part_name(name)

    @property
    def root(self) -> Sim:
        return self._sim

    @property
    def scope(self) -> str:
        return self.name

    def full_name(self, name: str) -> str:
        return f"{self.name}.{name}" if name else self.name

    @property
    def rate(self) -> Rate:
        """Frames per second of the run."""
        return self._sim.rate

    def __getattr__(self, name: str) -> Any:
        return getattr(self._sim, name)
