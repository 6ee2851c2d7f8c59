"""How parts come into a sim: `sim.body(…)`, `sim.machine(…)`, and the same below a name with `sim.under(…)`.

Each call names every option of its part, so that an editor completes it and a type checker checks it. The part's own
constructor decides what an option means; a test holds the two signatures equal.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Literal, TypeVar

from larktally.errors import ModelError
from larktally.inputs.actions import Actions
from larktally.inputs.view import FrameInput
from larktally.names import unknown_name
from larktally.parts.from_outline import bind_outline
from larktally.parts.machine import Changes, Machine
from larktally.parts.part import Part, check_part_name
from larktally.parts.playback import Playback
from larktally.parts.pool import Pool
from larktally.parts.sim_protocol import PartLike, SimProtocol
from larktally.parts.space.answers import Answer
from larktally.parts.space.body import Body, GroundTest, Leaves, Response
from larktally.parts.space.box import Box, Round, round_at
from larktally.parts.space.checks import number, numbers
from larktally.parts.space.crate import Crate
from larktally.parts.space.door import Door
from larktally.parts.space.enclosure import Enclosure
from larktally.parts.space.fan_part import Fan
from larktally.parts.space.hitbox import Hitbox, Trade
from larktally.parts.space.hop import Integrator
from larktally.parts.space.hurtbox import Hurtbox
from larktally.parts.space.level import Level
from larktally.parts.space.platform import Platform
from larktally.parts.space.positioned_box import Anchor
from larktally.parts.space.rays import Target
from larktally.parts.space.zone import Zone
from larktally.parts.timers.air_uses import AirUses
from larktally.parts.timers.animation import Animation, Clip
from larktally.parts.timers.chain import Chain
from larktally.parts.timers.clock import Clock, clock_named
from larktally.parts.timers.cooldown import Cooldown
from larktally.parts.timers.countdown import Countdown
from larktally.parts.timers.gate import Gate, Grace
from larktally.parts.timers.interval import Delay, Interval
from larktally.parts.timers.latch import Latch
from larktally.parts.timers.meter import Amount, Meter
from larktally.parts.timers.press_buffer import PressBuffer
from larktally.parts.timers.recent import Recent
from larktally.parts.timers.stat import Stat
from larktally.parts.timers.stock import Stock
from larktally.parts.timers.stopwatch import Stopwatch
from larktally.parts.timers.time_window import TimeWindow
from larktally.parts.value import Value
from larktally.setup import Setup
from larktally.summed import Style
from larktally.timing import Duration, Rate, Rounding
from larktally.traces.outline import Outline
from larktally.traces.trace import Trace

__all__ = ["PartFactory", "SimScope"]

P = TypeVar("P", bound=Part)
Hook = Callable[[Any], Any]


class PartFactory(ABC):
    """The calls that register parts. `clock=` puts a part on a named clock; without it, it is on the clock `play`, or runs
    in every frame where the sim has no such clock."""

    @property
    @abstractmethod
    def root(self) -> SimProtocol:
        """The sim that the parts are registered with."""

    @abstractmethod
    def full_name(self, name: str) -> str:
        """The dotted name under which a local name is registered."""

    @property
    def scope(self) -> str:
        """The name below which parts are registered, "" for the sim itself."""
        return ""

    def under(self, name: str) -> SimScope:
        """A view of the sim in which parts take names below `name`: one function builds each of many."""
        return SimScope(self.root, self.full_name(name))

    def body(
        self,
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
        clock: str | None = None,
    ) -> Body:
        """A body: a box that moves and is stopped by solids; see Body for each option."""
        made = Body(
            self.root,
            self.full_name(name),
            size=size,
            at=at,
            velocity=velocity,
            gravity=gravity,
            anchor=anchor,
            layers=layers,
            layer=layer,
            integrator=integrator,
            per=per,
            bounce=bounce,
            limit=limit,
            air_steering=air_steering,
            probe=probe,
            on_contact=on_contact,
            shows=shows,
            leaves_with=leaves_with,
            leaves_within=leaves_within,
            answer=answer,
            grounded_by=grounded_by,
        )
        return self._add(made, clock)

    def machine(
        self,
        name: str,
        states: Sequence[str],
        start: str = "",
        *,
        order: Literal["transition-first", "during-first"] = "transition-first",
        settle: int = 1,
        remember: Iterable[str] = (),
        initial: Mapping[str, str] | None = None,
        final: Iterable[str] = (),
        changes: Changes = "asked",
        clock: str | None = None,
    ) -> Machine:
        """A state machine; see Machine for each option."""
        made = Machine(
            self.root,
            self.full_name(name),
            states,
            start,
            order=order,
            settle=settle,
            remember=remember,
            initial=initial,
            final=final,
            changes=changes,
        )
        return self._add(made, clock)

    def machine_from(
        self,
        name: str,
        outline: Outline,
        calls: Mapping[str, Callable[[Any], Any]] | None = None,
        *,
        start: str | None = None,
        settle: int | None = None,
        clock: str | None = None,
    ) -> Machine:
        """A machine from an outline, such as one read from a document; `calls` holds the functions that it names.

        `start` and `settle` are the outline's own where they are left out.
        """
        made = self.machine(
            name,
            outline.states,
            outline.start if start is None else start,
            order="during-first" if outline.order == "during-first" else "transition-first",
            settle=outline.settle if settle is None else settle,
            remember=outline.remember,
            initial=outline.initial,
            final=outline.final,
            clock=clock,
        )
        bind_outline(made, outline, calls or {})
        return made

    def countdown(
        self,
        name: str,
        frames: Duration,
        *,
        each: Literal["frame", "second"] | None = None,
        last: Duration | None = None,
        show: Rounding = "up",
        running: bool = False,
        style: Style = None,
        clock: str | None = None,
    ) -> Countdown:
        """A countdown from its length to 0; see Countdown for each option."""
        made = Countdown(
            self.root, self.full_name(name), frames, each=each, last=last, show=show, running=running, style=style
        )
        return self._add(made, clock)

    def stopwatch(
        self,
        name: str,
        *,
        show: Rounding = "down",
        running: bool = False,
        style: Style = None,
        clock: str | None = None,
    ) -> Stopwatch:
        """A stopwatch that counts up; see Stopwatch for each option."""
        return self._add(Stopwatch(self.root, self.full_name(name), show=show, running=running, style=style), clock)

    def cooldown(
        self,
        name: str,
        frames: Duration,
        *,
        charges: int = 1,
        refill: Literal["one", "all"] = "one",
        since: Literal["use", "end"] = "use",
        shared: Cooldown | None = None,
        style: Style = None,
        clock: str | None = None,
    ) -> Cooldown:
        """A rest of so many frames after each use; see Cooldown for each option."""
        made = Cooldown(
            self.root,
            self.full_name(name),
            frames,
            charges=charges,
            refill=refill,
            since=since,
            shared=shared,
            style=style,
        )
        return self._add(made, clock)

    def stock(
        self,
        name: str,
        uses: int,
        refill: Duration,
        *,
        by_itself: bool = True,
        while_refilling: bool = False,
        style: Style = None,
        clock: str | None = None,
    ) -> Stock:
        """So many uses and a refill that takes its time; see Stock for each option."""
        made = Stock(
            self.root,
            self.full_name(name),
            uses,
            refill,
            by_itself=by_itself,
            while_refilling=while_refilling,
            style=style,
        )
        return self._add(made, clock)

    def interval(
        self,
        name: str,
        frames: Duration,
        *,
        runs_while: str | None = None,
        otherwise: Literal["wait", "reset"] = "wait",
        style: Style = None,
        clock: str | None = None,
    ) -> Interval:
        """Due every so many frames; see Interval for each option."""
        made = Interval(
            self.root, self.full_name(name), frames, runs_while=runs_while, otherwise=otherwise, style=style
        )
        return self._add(made, clock)

    def delay(self, name: str, frames: Duration, *, style: Style = None, clock: str | None = None) -> Delay:
        """Due once, so many frames after it was started; see Delay."""
        return self._add(Delay(self.root, self.full_name(name), frames, style=style), clock)

    def time_window(
        self,
        name: str,
        frames: Duration,
        *,
        runs_while: str | None = None,
        style: Style = None,
        clock: str | None = None,
    ) -> TimeWindow:
        """Open for so many frames: what comes in them counts; see TimeWindow for each option."""
        made = TimeWindow(self.root, self.full_name(name), frames, runs_while=runs_while, style=style)
        return self._add(made, clock)

    def chain(
        self,
        name: str,
        steps: int,
        within: Duration | Sequence[Duration],
        *,
        runs_while: str | None = None,
        opens_on: str | None = None,
        style: Style = None,
        clock: str | None = None,
    ) -> Chain:
        """A chain of steps, each in time after the one before; see Chain for each option."""
        made = Chain(
            self.root, self.full_name(name), steps, within, runs_while=runs_while, opens_on=opens_on, style=style
        )
        return self._add(made, clock)

    def air_uses(self, name: str, body: Body, most: int = 1, *, clock: str | None = None) -> AirUses:
        """So many uses in the air, given back when a body stands: double and triple hops."""
        return self._add(AirUses(self.root, self.full_name(name), body, most), clock)

    def meter(
        self,
        name: str,
        most: Amount,
        *,
        start: Amount | None = None,
        rate: Amount = 0,
        recovers: Amount = 0,
        recovers_after: Duration = 0,
        stuck_empty: bool = False,
        runs_while: str | None = None,
        marks: Iterable[Amount] = (),
        clock: str | None = None,
    ) -> Meter:
        """An exact amount between 0 and its most; see Meter for each option."""
        made = Meter(
            self.root,
            self.full_name(name),
            most,
            start=start,
            rate=rate,
            recovers=recovers,
            recovers_after=recovers_after,
            stuck_empty=stuck_empty,
            runs_while=runs_while,
            marks=marks,
        )
        return self._add(made, clock)

    def stat(self, name: str, base: float, *, clock: str | None = None) -> Stat:
        """A base number with timed modifiers; see Stat."""
        return self._add(Stat(self.root, self.full_name(name), base), clock)

    def gate(
        self, name: str, frames: Duration, *, once: bool = True, style: Style = None, clock: str | None = None
    ) -> Gate:
        """A gate that is ready, due, or locked for so many frames; see Gate for each option."""
        return self._add(Gate(self.root, self.full_name(name), frames, once=once, style=style), clock)

    def grace(
        self, name: str, frames: Duration, *, once: bool = True, style: Style = None, clock: str | None = None
    ) -> Grace:
        """A grace of so many frames after a hurt; see Grace for each option."""
        return self._add(Grace(self.root, self.full_name(name), frames, once=once, style=style), clock)

    def latch(self, name: str, armed: bool = True) -> Latch:
        """A latch that fires once until it is armed again."""
        return self._add(Latch(self.root, self.full_name(name), armed), None)

    def value(
        self,
        name: str,
        start: float | int | bool | str,
        labels: Iterable[str] = (),
        *,
        wraps: float | None = None,
    ) -> Value:
        """A value of the user's own; `.value` reads it and is assigned to change it."""
        return self._add(Value(self.root, self.full_name(name), start, labels, wraps=wraps), None)

    def press_buffer(self, name: str, action: str, keep: Duration, *, clock: str | None = None) -> PressBuffer:
        """A press of an action that is remembered for some frames, until one rule takes it."""
        return self._add(PressBuffer(self.root, self.full_name(name), action, keep), clock)

    def clock(self, name: str, rate: str | int = 1, *, edges: Literal["running", "all"] = "running") -> Clock:
        """A clock that parts may be put on, running at a share of the rate; `edges="all"`: a tap made and let go of while
        it stands is seen too."""
        return self._add(Clock(self.root, self.full_name(name), rate, edges=edges), None)

    def animation(self, name: str, clips: Mapping[str, Clip], start: str, *, clock: str | None = None) -> Animation:
        """Which of several clips plays, and at which frame."""
        return self._add(Animation(self.root, self.full_name(name), clips, start), clock)

    def recent(self, name: str, when: str, keep: Duration, *, clock: str | None = None) -> Recent:
        """Whether a condition of the claim language holds, or did within the last `keep` frames."""
        return self._add(Recent(self.root, self.full_name(name), when, keep), clock)

    def pool(self, name: str, build: Callable[[SimScope], Any], slots: int) -> Pool:
        """So many places for things that come and go, each built once by `build(view)`."""
        pool = self._add(Pool(self.root, self.full_name(name), slots), None)
        for slot in pool.slots:
            self.root.add(slot)
            before = set(self.root.parts)
            things = build(SimScope(self.root, slot.name.removesuffix(".present")))
            slot.take_over(things, [part for part in self.root.parts_of(Part) if part.name not in before])
        return pool

    def zone(
        self,
        name: str,
        low: Sequence[float] | None = None,
        high: Sequence[float] | None = None,
        *,
        watch: Sequence[Body],
        centre: Sequence[float] | None = None,
        radius: float | None = None,
        once: bool = False,
        ends: str = "",
        clock: str | None = None,
    ) -> Zone:
        """A zone from `low` to `high`, a round one of `radius` about `centre`, or the level's zone of that name; it looks at the
        bodies in `watch`."""
        level = self.root.level
        boxes: Sequence[Box]
        if centre is not None or radius is not None:
            boxes = [self._round_zone(name, centre, radius, low is not None or high is not None)]
        elif low is None or high is None:
            if name not in level.zones:
                raise ModelError(unknown_name("zone", name, level.zones, "this level") + "; or give low= and high=")
            boxes = level.zones[name]
        else:
            # A level of its own checks the corners just as it checks those of a zone that was drawn.
            drawn = {name: [Box(tuple(low), tuple(high), "zone", name=name)]}
            boxes = Level((), drawn, axes=level.axes).zones[name]
        return self._add(Zone(self.root, self.full_name(name), boxes, watch, once=once, ends=ends), clock)

    def playback(self, name: str, trace: Trace, body: Body, of: str, *, clock: str | None = None) -> Playback:
        """A recording led into a body: a ghost; see Playback."""
        return self._add(Playback(self.root, self.full_name(name), trace, body, of), clock)

    def _round_zone(self, name: str, centre: Sequence[float] | None, radius: float | None, has_corners: bool) -> Round:
        what = f"zone {name!r}"
        if centre is None or radius is None or has_corners:
            raise ModelError(f"{what} is round with centre= and radius=, or has corners, low= and high=")
        radius = number(what, "radius", radius, 0.0)
        if not radius:
            raise ModelError(f"{what}: a radius is above 0")
        return round_at(numbers(what, "centre", centre, len(self.root.level.axes)), radius, name=name)

    def hitbox(
        self,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        targets: Sequence[Body | Hurtbox],
        facing: Value | None = None,
        again: Duration | None = None,
        team: str = "",
        rank: int | None = None,
        trade: Trade = "both",
        shows: Iterable[str] = (),
        clock: str | None = None,
    ) -> Hitbox:
        """A box attached to a body that strikes each target once for each opening; see Hitbox for each option."""
        made = Hitbox(
            self.root,
            self.full_name(name),
            body,
            size=size,
            offset=offset,
            targets=targets,
            facing=facing,
            again=again,
            team=team,
            rank=rank,
            trade=trade,
            shows=shows,
        )
        return self._add(made, clock)

    def hurtbox(
        self,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        tags: Iterable[str] = (),
        team: str = "",
        facing: Value | None = None,
        shows: Iterable[str] = (),
        clock: str | None = None,
    ) -> Hurtbox:
        """A box attached to a body at which hitboxes strike it; see Hurtbox for each option."""
        made = Hurtbox(
            self.root,
            self.full_name(name),
            body,
            size=size,
            offset=offset,
            tags=tags,
            team=team,
            facing=facing,
            shows=shows,
        )
        return self._add(made, clock)

    def fan(
        self,
        name: str,
        body: Body,
        side: str,
        rays: int,
        length: float,
        *,
        inset: float = 0.5,
        layers: Iterable[str] | None = None,
        bodies: Iterable[Target] = (),
        clock: str | None = None,
    ) -> Fan:
        """Rays that look out of one side of a body in every row, each a channel; see Fan."""
        made = Fan(self.root, self.full_name(name), body, side, rays, length, inset=inset, layers=layers, bodies=bodies)
        return self._add(made, clock)

    def platform(
        self,
        name: str,
        *,
        size: Sequence[float],
        path: Sequence[Sequence[float]],
        speed: float,
        round_trip: Literal["back", "round"] = "back",
        one_way: bool = False,
        shows: Iterable[str] = (),
        clock: str | None = None,
    ) -> Platform:
        """A solid box led along a path of points at a speed; see Platform for each option."""
        made = Platform(
            self.root,
            self.full_name(name),
            size=size,
            path=path,
            speed=speed,
            round_trip=round_trip,
            one_way=one_way,
            shows=shows,
        )
        return self._add(made, clock)

    def crate(
        self,
        name: str,
        *,
        size: Sequence[float],
        at: Sequence[float],
        gravity: float = 0.0,
        share: float = 0.5,
        layers: Iterable[str] | None = None,
        layer: str = "crate",
        clock: str | None = None,
    ) -> Crate:
        """A body that other bodies stop at, stand on, and push; see Crate for each option."""
        made = Crate(
            self.root, self.full_name(name), size=size, at=at, gravity=gravity, share=share, layers=layers, layer=layer
        )
        return self._add(made, clock)

    def door(
        self,
        name: str,
        *,
        at: Sequence[float],
        size: Sequence[float],
        one_way: bool = False,
        clock: str | None = None,
    ) -> Door:
        """A solid box that rules place, resize, or lead to a goal: doors, gates, walls; see Door for each call."""
        return self._add(Door(self.root, self.full_name(name), at=at, size=size, one_way=one_way), clock)

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
        made = Enclosure(self.root, self.full_name(name), at=at, size=size, holds=holds, wall=wall)
        return self._add(made, clock)

    def _add(self, part: P, clock: str | None) -> P:
        sim = self.root
        part.scope = self.scope
        if clock is not None:
            part.clock = clock_named(self.root.parts, clock, f"part {part.name!r}")
        sim.add(part)
        return part


class SimScope(PartFactory):
    """A sim seen from below a name: parts are registered under it, everything else is the sim's."""

    def __init__(self, sim: SimProtocol, name: str) -> None:
        self._sim = sim
        self.name = check_part_name(name)

    @property
    def root(self) -> SimProtocol:
        return self._sim

    @property
    def scope(self) -> str:
        return self.name

    def full_name(self, name: str) -> str:
        if name:
            return f"{self.name}.{name}"
        return self.name

    @property
    def rate(self) -> Rate:
        """Frames per second of the run."""
        return self._sim.rate

    @property
    def setup(self) -> Setup:
        """What the run is made from; a model reads its numbers from here."""
        return self._sim.setup

    @property
    def level(self) -> Level:
        """The sim's level."""
        return self._sim.level

    @property
    def actions(self) -> Actions:
        """The sim's actions."""
        return self._sim.actions

    @property
    def inputs(self) -> FrameInput:
        """This frame's inputs."""
        return self._sim.inputs

    @property
    def frame(self) -> int:
        """The row being made."""
        return self._sim.frame

    @property
    def parts(self) -> Mapping[str, PartLike]:
        """Every part of the sim by its dotted name."""
        return self._sim.parts

    @property
    def bodies(self) -> list[Body]:
        """Every body of the sim, in order of registration."""
        return self._sim.parts_of(Body)

    def before(self, phase: str, hook: Hook | None = None, *, clock: str | None = None) -> Any:
        """Runs a function of `now` in every step, or every tick of a clock, before a phase; without one, a decorator."""
        return self._sim.hooked("before", phase, hook, clock)

    def after(self, phase: str, hook: Hook | None = None, *, clock: str | None = None) -> Any:
        """Runs a function of `now` in every step, or every tick of a clock, after a phase; without one, a decorator."""
        return self._sim.hooked("after", phase, hook, clock)
