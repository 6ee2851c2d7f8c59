"""How parts come into a sim: `sim.body(…)`, `sim.machine(…)`, and the same below a name with `sim.under(…)`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

from larktally.errors import ModelError, unknown_name
from larktally.parts.binding import bind_outline
from larktally.parts.machine import Machine
from larktally.parts.part import Part, check_part_name
from larktally.parts.pool import Pool
from larktally.parts.space.body import Body
from larktally.parts.space.level import Box, Level
from larktally.parts.space.mover import Enclosure, Platform
from larktally.parts.space.strike import Strike
from larktally.parts.space.zone import Zone
from larktally.parts.timers import (
    Animation,
    Chain,
    Clip,
    Clock,
    Cooldown,
    Countdown,
    Delay,
    Gate,
    Grace,
    Interval,
    Latch,
    Meter,
    Opening,
    Recent,
    Request,
    Stat,
    Stock,
    Stopwatch,
)
from larktally.parts.timers.meter import Amount
from larktally.parts.value import Value
from larktally.timing import Duration, Rate
from larktally.traces.outline import Outline

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Builders", "Under"]

P = TypeVar("P", bound=Part)


class Builders:
    """The calls that register parts. `clock=` puts a part on a named clock; without it, it is on the clock `play`, or runs
    in every frame where the sim has no such clock."""

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

    def countdown(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Countdown:
        """A countdown; see Countdown for its options (each, last, show, running, style)."""
        return self._add(Countdown(self.root, self.full_name(name), frames, **options), clock)

    def stopwatch(self, name: str, *, clock: str | None = None, **options: Any) -> Stopwatch:
        """A stopwatch; see Stopwatch for its options (show, running, style)."""
        return self._add(Stopwatch(self.root, self.full_name(name), **options), clock)

    def cooldown(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Cooldown:
        """A cooldown of so many frames; see Cooldown for its options (charges, refill, since, shared, style)."""
        return self._add(Cooldown(self.root, self.full_name(name), frames, **options), clock)

    def stock(self, name: str, uses: int, refill: Duration, *, clock: str | None = None, **options: Any) -> Stock:
        """So many uses and a refill; see Stock for its options (by_itself, while_refilling, style)."""
        return self._add(Stock(self.root, self.full_name(name), uses, refill, **options), clock)

    def interval(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Interval:
        """Due every so many frames; see Interval for its options (runs_while, otherwise, style)."""
        return self._add(Interval(self.root, self.full_name(name), frames, **options), clock)

    def delay(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Delay:
        """Due once, so many frames after it was started; see Delay."""
        return self._add(Delay(self.root, self.full_name(name), frames, **options), clock)

    def opening(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Opening:
        """Open for so many frames; see Opening for its options (runs_while, style)."""
        return self._add(Opening(self.root, self.full_name(name), frames, **options), clock)

    def chain(self, name: str, steps: int, within: Duration, *, clock: str | None = None, **options: Any) -> Chain:
        """A chain of steps, each in time after the one before; see Chain for its options (runs_while, style)."""
        return self._add(Chain(self.root, self.full_name(name), steps, within, **options), clock)

    def meter(self, name: str, most: Amount, *, clock: str | None = None, **options: Any) -> Meter:
        """An exact amount; see Meter for its options (start, rate, recovers, recovers_after, stuck_empty, marks, …)."""
        return self._add(Meter(self.root, self.full_name(name), most, **options), clock)

    def stat(self, name: str, base: float, *, clock: str | None = None) -> Stat:
        """A base number with timed modifiers; see Stat."""
        return self._add(Stat(self.root, self.full_name(name), base), clock)

    def gate(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Gate:
        """A gate that is ready, due, or locked for so many frames; see Gate for its options (once, style)."""
        return self._add(Gate(self.root, self.full_name(name), frames, **options), clock)

    def grace(self, name: str, frames: Duration, *, clock: str | None = None, **options: Any) -> Grace:
        """A grace of so many frames after a hurt; see Grace for its options (once, style)."""
        return self._add(Grace(self.root, self.full_name(name), frames, **options), clock)

    def latch(self, name: str, armed: bool = True) -> Latch:
        """A latch that fires once until it is armed again."""
        return self._add(Latch(self.root, self.full_name(name), armed), None)

    def value(self, name: str, start: float | int | bool | str, labels: Iterable[str] = ()) -> Value:
        """A value of the user's own; `.now` reads it and is assigned to change it."""
        return self._add(Value(self.root, self.full_name(name), start, labels), None)

    def request(self, name: str, action: str, keep: Duration, *, clock: str | None = None) -> Request:
        """A press of an action that is remembered for some frames, until one rule takes it."""
        return self._add(Request(self.root, self.full_name(name), action, keep), clock)

    def clock(self, name: str, rate: str | int = 1) -> Clock:
        """A clock that parts may be put on, running at a share of the rate."""
        return self._add(Clock(self.root, self.full_name(name), rate), None)

    def animation(self, name: str, clips: Mapping[str, Clip], start: str, *, clock: str | None = None) -> Animation:
        """Which of several clips plays, and at which frame."""
        return self._add(Animation(self.root, self.full_name(name), clips, start), clock)

    def recent(self, name: str, when: str, keep: Duration, *, clock: str | None = None) -> Recent:
        """Whether a condition of the claim language holds, or did within the last `keep` frames."""
        return self._add(Recent(self.root, self.full_name(name), when, keep), clock)

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
        clock: str | None = None,
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
        return self._add(Zone(sim, self.full_name(name), boxes, watch, once, ends), clock)

    def strike(
        self,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        targets: Sequence[Body],
        facing: Value | None = None,
        clock: str | None = None,
    ) -> Strike:
        """A box attached to a body that strikes each target once for each opening."""
        return self._add(Strike(self.root, self.full_name(name), body, size, offset, targets, facing), clock)

    def platform(
        self,
        name: str,
        *,
        size: Sequence[float],
        path: Sequence[Sequence[float]],
        speed: float,
        clock: str | None = None,
        **options: Any,
    ) -> Platform:
        """A solid box led along a path of points at a speed; `round_trip` is "back" or "round"."""
        return self._add(Platform(self.root, self.full_name(name), size, path, speed, **options), clock)

    def enclosure(
        self,
        name: str,
        *,
        at: Sequence[float],
        size: Sequence[float],
        holds: Sequence[Body],
        wall: float = 4.0,
        clock: str | None = None,
    ) -> Enclosure:
        """Walls around a box that drifts and may be resized; the bodies it holds stay inside."""
        return self._add(Enclosure(self.root, self.full_name(name), at, size, holds, wall), clock)

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
