"""The sim: a subject built from parts, stepped in one stated order of phases."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import partial
from typing import Any, overload

import msgspec

from larktally.claims.vocabulary import Vocabulary
from larktally.errors import ModelError, unknown_name
from larktally.inputs import Action, Actions, FrameInput
from larktally.parts.builders import Builders
from larktally.parts.guards import Source, compile_row
from larktally.parts.machine import Machine
from larktally.parts.now import Now
from larktally.parts.overrides import Overrides
from larktally.parts.part import Part, check_part_name
from larktally.parts.pool import Slot
from larktally.parts.space.body import Body
from larktally.parts.space.level import Level
from larktally.parts.space.mover import Enclosure, Platform
from larktally.parts.space.zone import Zone
from larktally.parts.strays import stray_attribute
from larktally.parts.stream import Stream
from larktally.parts.timers.clock import Clock
from larktally.subject import Event, Setup
from larktally.traces.columns import Channel
from larktally.traces.events import said_by
from larktally.traces.outline import Outline

__all__ = ["Sim", "PHASES"]

PHASES = ("inputs", "timers", "animations", "machines", "motion", "zones")
MOST_DRAWN = 2000
Hook = Callable[[Now], Any]


class Sim(Builders):
    """A subject built from the library's parts, for one run.

    Parts are registered under dotted names (`sim.body("wick", …)`); each is stepped in its phase, recorded, saved and
    restored without further code. Within a step the phases run in the order `inputs, timers, animations, machines,
    motion, zones`, and the parts of one phase as they were registered; `phases` reorders them.
    """

    def __init__(
        self,
        setup: Setup,
        *,
        level: Level | None = None,
        actions: Iterable[str | Action] | None = None,
        events: Iterable[str] = (),
        phases: Iterable[str] = PHASES,
    ) -> None:
        if not isinstance(setup, Setup):
            raise ModelError(f"a sim is built from the setup that the model function is given, not {setup!r}")
        self.setup = setup
        self.rate = setup.rate
        self.level = level if level is not None else Level()
        self.actions = Actions(actions)
        self.declared_events = tuple(events)
        self.phases = _checked_phases(phases)
        self.parts: dict[str, Part] = {}
        self.overrides = Overrides()
        self.frame = 0
        self.inputs = FrameInput(self.actions, self.rate)
        self.words = Vocabulary({})
        self.sources: dict[str, Source] = {}
        self._streams: dict[str, Stream] = {}
        self._nows: list[Now] = []
        self._hooks: dict[tuple[str, str], list[tuple[str, Callable[[], Any]]]] = {}
        self._said: list[Event] = []
        self._schedule: list[Callable[[], Any]] = []
        self._places: list[tuple[str, str]] = []
        self._begun = False
        self._slots: list[Slot] = []
        self._sayable: frozenset[str] = frozenset()
        self._seen_at = -1
        self._seen: tuple[Any, ...] = ()

    @property
    def root(self) -> Sim:
        """The sim itself."""
        return self

    def full_name(self, name: str) -> str:
        """The dotted name of a local one."""
        return name

    def add(self, part: Part) -> Part:
        """Registers a part under its name; raises ModelError for a name that is taken, or after the run has begun."""
        check_part_name(part.name)
        if self._begun:
            raise ModelError(f"part {part.name!r} comes after reset; a model has all its parts when it is built")
        if part.name in self.parts:
            raise ModelError(f"two parts are called {part.name!r}")
        if part.phase and part.phase not in self.phases:
            raise ModelError(f"part {part.name!r} runs in the phase {part.phase!r}, which this sim does not have")
        self.parts[part.name] = part
        return part

    @overload
    def before(self, phase: str) -> Callable[[Hook], Hook]: ...
    @overload
    def before(self, phase: str, hook: Hook) -> Hook: ...
    def before(self, phase: str, hook: Hook | None = None) -> Hook | Callable[[Hook], Hook]:
        """Runs a function of `now` in every step before a phase; without one, a decorator."""
        return self._hooked("before", phase, hook)

    @overload
    def after(self, phase: str) -> Callable[[Hook], Hook]: ...
    @overload
    def after(self, phase: str, hook: Hook) -> Hook: ...
    def after(self, phase: str, hook: Hook | None = None) -> Hook | Callable[[Hook], Hook]:
        """Runs a function of `now` in every step after a phase; without one, a decorator."""
        return self._hooked("after", phase, hook)

    def now_for(self, name: str, kind: type[Now] = Now) -> Now:
        """The `now` that speaks for a part, with its random stream."""
        now = kind(self, name, self.stream(name))
        now.bind(self.inputs)
        self._nows.append(now)
        return now

    def stream(self, name: str) -> Stream:
        """The random stream of a name."""
        if name not in self._streams:
            self._streams[name] = Stream(self.setup.seed, name)
        return self._streams[name]

    def say(self, name: str, source: str, data: Mapping[str, Any]) -> None:
        """Notes an event of this row."""
        self._said.append(Event(name, source, **data))

    def count_said(self, name: str, source: str | None = None) -> int:
        """How many events of that name this row holds so far, from `source` or a part below it."""
        return sum(event.name == name and said_by(event.source, source) for event in self._said)

    def said_in_row(self, name: str, source: str | None = None) -> list[Event]:
        """The events of that name that this row holds so far, from `source` or a part below it; raises ModelError for one
        that no part can say."""
        if name not in self._sayable:
            raise ModelError(unknown_name("event", name, self.events, "this sim") + "; declare it: events=(…, 'name')")
        return [event for event in self._said if event.name == name and said_by(event.source, source)]

    def reset(self, setup: Setup) -> list[Event]:
        """Runs the start states' enter hooks, then a contact probe: the events of row 0.

        A sim is built for one run: the model function makes another for the next.
        """
        if self._begun:
            raise ModelError("a sim runs once; hand over the model function, and each run builds its own")
        setup.check_all_read()
        self._begun = True
        self._collect()
        self._said = []
        for phase in ("", *self.phases):
            for part in sorted(self.parts.values(), key=lambda part: not part.early):
                if part.phase == phase:
                    part.begin()
        for part in self.parts.values():
            part.look()
        for slot in self._slots:
            slot.show()
        return self._said

    def strayed(self) -> str:
        """What is wrong with an attribute that a model has set on a part that has none of that name; "" where none is. To be
        asked when the run is over."""
        return stray_attribute(self.parts.values())

    def step(self, now: FrameInput) -> list[Event]:
        """One frame on."""
        if now is not self.inputs:
            self.inputs = now
            for one in self._nows:
                one.bind(now)
        self.frame = now.frame
        self._said = []
        for run in self._schedule:
            run()
        for slot in self._slots:
            slot.show()
        return self._said

    def observe(self) -> dict[str, Any]:
        """The value of every channel."""
        return dict(zip(self.words.channels, self.row(), strict=True))

    def row(self) -> tuple[Any, ...]:
        """The value of every channel, in the order of `channels`."""
        raise ModelError("a sim has rows once it is reset")

    @property
    def channels(self) -> list[Channel]:
        """Every channel of every part, in order of registration."""
        return [channel for part in self.parts.values() for channel in _channels_of(part)]

    @property
    def events(self) -> tuple[str, ...]:
        """Every event that a part may say, and those that were declared."""
        own = (name for part in self.parts.values() for name in part.event_names())
        return tuple(dict.fromkeys([*self.declared_events, *own, "end"]))

    def order(self) -> list[tuple[str, tuple[str, ...]]]:
        """Each phase and what runs in it, in order; hooks stand under names of their own."""
        return [(phase, tuple(name for name, _ in self._runs(phase))) for phase in self.phases]

    @property
    def nan_channels(self) -> tuple[str, ...]:
        """The channels that may be NaN: those of pool slots, which are when the slot is free."""
        return tuple(
            c.name for part in self.parts.values() if part.slot for c in _channels_of(part) if c.kind == "number"
        )

    @property
    def bodies(self) -> list[Body]:
        """Every body, in order of registration."""
        return [part for part in self.parts.values() if isinstance(part, Body)]

    def machines(self) -> dict[str, tuple[str, ...]]:
        """The states of each machine."""
        return {name: part.states.leaves for name, part in self.parts.items() if isinstance(part, Machine)}

    def outlines(self) -> dict[str, Outline]:
        """Each machine as plain data."""
        return {name: part.outline() for name, part in self.parts.items() if isinstance(part, Machine)}

    def scene(self) -> dict[str, Any]:
        """Level and bodies as plain data, for pictures; without the boxes where there are very many."""
        bodies = {
            name: {"size": part.size, "before": part.near.before}
            for name, part in self.parts.items()
            if isinstance(part, Body)
        }
        platforms = {name: list(part.size) for name, part in self.parts.items() if isinstance(part, Platform)}
        enclosures = [name for name, part in self.parts.items() if isinstance(part, Enclosure)]
        zones = {n: [[b.low, b.high] for b in part.boxes] for n, part in self.parts.items() if isinstance(part, Zone)}
        scene = self.level.plain(MOST_DRAWN)
        return {**scene, "bodies": bodies, "platforms": platforms, "enclosures": enclosures, "zones": zones}

    def save(self) -> bytes:
        """The whole state as bytes: plain data under dotted names."""
        state = {
            "frame": self.frame,
            "parts": {name: part.save() for name, part in self.parts.items()},
            "streams": {name: stream.state for name, stream in self._streams.items()},
            "overrides": self.overrides.save(),
        }
        return msgspec.msgpack.encode(state)

    def load(self, saved: bytes) -> None:
        """Puts a saved state back into these same parts; raises ModelError where it is of another model."""
        try:
            state = msgspec.msgpack.decode(saved)
            parts, streams = state["parts"], state["streams"]
        except (msgspec.MsgspecError, KeyError, TypeError) as error:
            raise ModelError(f"not a saved state: {error}") from None
        if parts.keys() != self.parts.keys():
            odd = sorted(parts.keys() ^ self.parts.keys())
            raise ModelError(f"the saved state is of another model: {', '.join(odd[:5])} is in only one of the two")
        self.frame = state["frame"]
        self.overrides.release()
        for name, part in self.parts.items():
            part.load(parts[name])
        for name, value in streams.items():
            self.stream(name).state = value
        self.overrides.load(state["overrides"], self.parts)
        for slot in self._slots:
            slot.show()

    def watch_seen(self) -> None:
        """From now on keeps what the machines see each frame; `seen_row` is it."""
        at = sum(len(self._runs(phase)) for phase in self.phases[: self.phases.index("machines")])
        self._schedule.insert(at, self._note_seen)
        self._places.insert(at, ("machines", "what they see"))
        self._note_seen()

    def watch_runs(self, watcher: Callable[[str, str, Callable[[], Any]], Any]) -> Callable[[], None]:
        """From now on calls watcher(phase, name, run) instead of each part's or hook's run; the result ends that."""
        plain = self._schedule
        self._schedule = [partial(watcher, *place, run) for place, run in zip(self._places, plain, strict=True)]

        def end() -> None:
            self._schedule = plain

        return end

    def seen_row(self) -> tuple[Any, ...]:
        """The values of all channels as this row's machines saw them."""
        return self._seen

    def _note_seen(self) -> None:
        self._seen = self.row()

    def _row_sources(self) -> list[Source]:
        """What a row reads: the parts themselves, or for those of a pool what their slot shows."""
        shadows = {part.name: shown for slot in self._slots for shown, part, _ in slot.shadow}
        return [
            Source(shadows.get(part.name, part), attribute)
            for part in self.parts.values()
            for _, attribute, _, _ in part.channels()
        ]

    def _hooked(self, side: str, phase: str, hook: Hook | None) -> Hook | Callable[[Hook], Hook]:
        if phase not in self.phases:
            raise ModelError(unknown_name("phase", phase, self.phases))
        return partial(self._add_hook, side, phase) if hook is None else self._add_hook(side, phase, hook)

    def _add_hook(self, side: str, phase: str, hook: Hook) -> Hook:
        now = self.now_for(f"{side}.{phase}")
        name = f"{side} {phase}: {getattr(hook, '__name__', 'hook')}"
        self._hooks.setdefault((side, phase), []).append((name, lambda: hook(now)))
        return hook

    def _put_on_play(self) -> None:
        """Where there is a clock called `play`, every part that names no other is on it."""
        play = self.parts.get("play")
        if isinstance(play, Clock):
            for part in self.parts.values():
                if part.clock is None and not isinstance(part, Clock | Slot):
                    part.clock = play

    def _runs(self, phase: str) -> list[tuple[str, Callable[[], Any]]]:
        parts = [part for part in self.parts.values() if part.phase == phase]
        own = [(part.name, _when_it_runs(part)) for part in sorted(parts, key=lambda part: not part.early)]
        return [*self._hooks.get(("before", phase), []), *own, *self._hooks.get(("after", phase), [])]

    def _collect(self) -> None:
        """Chooses, before the first frame, what runs and what is read in every one."""
        sources = [
            (_channel_name(part, suffix), Source(part, attribute))
            for part in self.parts.values()
            for suffix, attribute, _, _ in part.channels()
        ]
        self._put_on_play()
        self.sources = dict(sources)
        self._sayable = frozenset(self.events)
        if len(self.sources) != len(sources):
            names = [name for name, _ in sources]
            raise ModelError(f"two channels are called {next(name for name in names if names.count(name) > 1)!r}")
        runs = [(phase, name, run) for phase in self.phases for name, run in self._runs(phase)]
        self._schedule = [run for _, _, run in runs]
        self._places = [(phase, name) for phase, name, _ in runs]
        self._slots = [part for part in self.parts.values() if isinstance(part, Slot)]
        self.row = compile_row(self._row_sources())  # type: ignore[method-assign]
        self.words = Vocabulary(
            channels={channel.name: channel for channel in self.channels},
            actions=tuple(self.actions),
            events=self.events,
            settings={**self.setup.params, **self.setup.settings},
            rate=self.rate,
            where="this sim",
        )


def _channels_of(part: Part) -> list[Channel]:
    more = ("absent",) if part.slot else ()
    return [
        Channel(_channel_name(part, suffix), kind, (*labels, *more) if kind == "label" else ())
        for suffix, _, kind, labels in part.channels()
    ]


def _channel_name(part: Part, suffix: str) -> str:
    return f"{part.name}.{suffix}" if suffix else part.name


def _when_it_runs(part: Part) -> Callable[[], Any]:
    """A part's step, in the frames in which its clock ticks and its slot is taken."""
    clock, slot, step = part.clock, part.slot, part.step
    if clock is None and slot is None:
        return step

    def step_where_it_runs() -> None:
        if (clock is None or clock.ticking) and (slot is None or slot.present):
            step()

    return step_where_it_runs


def _checked_phases(phases: Iterable[str]) -> tuple[str, ...]:
    wanted = tuple(phases)
    for phase in wanted:
        if phase not in PHASES:
            raise ModelError(unknown_name("phase", phase, PHASES))
    if sorted(wanted) != sorted(PHASES):
        missing = [phase for phase in PHASES if phase not in wanted]
        raise ModelError(f"phases names each phase once; {missing or 'one is named twice'} does not stand there once")
    return wanted
