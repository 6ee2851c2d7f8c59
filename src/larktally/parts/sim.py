"""The sim: a subject built from parts, stepped in one stated order of phases."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from types import FunctionType
from typing import Any, TypeVar, overload

import msgspec

from larktally.code_places import place_of_caller
from larktally.errors import ModelError
from larktally.event import Event
from larktally.inputs.actions import Action, Actions
from larktally.inputs.view import FrameInput
from larktally.language.names import Names
from larktally.language.rows import Binding, compile_row
from larktally.names import matching, unknown_name
from larktally.parts.context import StepContext, context_for
from larktally.parts.factory import PartFactory
from larktally.parts.generated_step import Run, generated_step
from larktally.parts.machine import Machine
from larktally.parts.overrides import Overrides
from larktally.parts.part import ChannelSpec, Part, Ticker, check_part_name, value_table
from larktally.parts.pool import Slot
from larktally.parts.row_events import RowEvents
from larktally.parts.scene import scene_of
from larktally.parts.sim_protocol import InputFollower, PartLike
from larktally.parts.space.level import Level
from larktally.parts.space.movers import Movers
from larktally.parts.stream import Stream
from larktally.parts.timers.clock import Clock, clock_named
from larktally.parts.unknown_attributes import unknown_attribute
from larktally.setup import Setup
from larktally.textfmt import plural
from larktally.traces.columns import Channel
from larktally.traces.events import data_among
from larktally.traces.outline import Outline

__all__ = ["Sim", "PHASES"]

PHASES = ("inputs", "timers", "animations", "machines", "motion", "zones")
# Written into each saved state: one of another form is refused by name, not by a key that happens to be missing.
STATE_FORM = 2
Hook = Callable[[StepContext], Any]
T = TypeVar("T")


class Sim(PartFactory):
    """A subject built from the library's parts, for one run.

    Parts are registered under dotted names (`sim.body("wick", …)`); each is stepped in its phase, recorded, saved and
    restored without further code. Within a step the phases run in the order `inputs, timers, animations, machines,
    motion, zones`, and the parts of one phase as they were registered; `phases` reorders them. `events` declares what
    the model's own rules emit: an event that neither it nor a part declares is an error.
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
        if level is not None:
            self.level = level
        else:
            self.level = Level()
        self.actions = Actions(actions)
        self.declared_events = tuple(events)
        self.phases = _checked_phases(phases)
        self.movers = Movers()
        self.parts: dict[str, Part] = {}
        # By class: how many parts were looked at, and those of the class among them.
        self._of_kind: dict[type, tuple[int, list[Any]]] = {}
        # Every channel with its part, in the order in which a row has them; known when the run has begun.
        self._all_specs: tuple[tuple[Part, ChannelSpec], ...] = ()
        self.frame = 0
        self.inputs = FrameInput(self.actions, self.rate)
        self.names = Names({})
        self.bindings: dict[str, Binding] = {}
        #: The values of all channels, in the order of `channels`: one compiled function, chosen when the run begins.
        self.channel_values: Callable[[], tuple[Any, ...]] = _not_reset_yet
        #: The guard that is being asked, by a few words; "" while none is. What a guard may not do asks for this.
        self.looking = ""
        self._overrides = Overrides()
        self._streams: dict[str, Stream] = {}
        self._followers: list[InputFollower] = []
        self._hooks: dict[tuple[str, str], list[tuple[str, Hook, Callable[[], Any]]]] = {}
        self._said = RowEvents()
        self._schedule: list[Run] = []
        # The schedule as one function, and its text; made when the first frame runs, and again when the schedule changes.
        self._run_all: Callable[[], Any] | None = None
        self._text = ""
        self._begun = self._collected = False
        self._slots: list[Slot] = []
        # Filled when the run begins: until then a part may still be added that can emit it.
        self._known_events: frozenset[str] = frozenset()
        self._seen: tuple[Any, ...] = ()

    @property
    def root(self) -> Sim:
        """The sim itself."""
        return self

    def full_name(self, name: str) -> str:
        """The dotted name of a local one."""
        return name

    def add(self, part: Part) -> None:
        """Registers a part under its name; raises ModelError for a name that is taken, or after the run has begun."""
        check_part_name(part.name)
        if self._begun:
            raise ModelError(f"part {part.name!r} comes after reset; a model has all its parts when it is built")
        if part.name in self.parts:
            raise ModelError(f"two parts are called {part.name!r}")
        if part.phase and part.phase not in self.phases:
            raise ModelError(f"part {part.name!r} runs in the phase {part.phase!r}, which this sim does not have")
        self.parts[part.name] = part

    @overload
    def before(self, phase: str, *, clock: str | None = None) -> Callable[[Hook], Hook]: ...
    @overload
    def before(self, phase: str, hook: Hook, *, clock: str | None = None) -> Hook: ...
    def before(
        self, phase: str, hook: Hook | None = None, *, clock: str | None = None
    ) -> Hook | Callable[[Hook], Hook]:
        """Runs a function of `now` in every step before a phase; without one, a decorator. With a clock it runs in that
        clock's ticks, and sees the inputs as the parts on it do."""
        return self.hooked("before", phase, hook, clock)

    @overload
    def after(self, phase: str, *, clock: str | None = None) -> Callable[[Hook], Hook]: ...
    @overload
    def after(self, phase: str, hook: Hook, *, clock: str | None = None) -> Hook: ...
    def after(self, phase: str, hook: Hook | None = None, *, clock: str | None = None) -> Hook | Callable[[Hook], Hook]:
        """Runs a function of `now` in every step after a phase; without one, a decorator. With a clock it runs in that
        clock's ticks, and sees the inputs as the parts on it do."""
        return self.hooked("after", phase, hook, clock)

    def hooked(
        self, side: str, phase: str, hook: Hook | None, clock: str | None = None
    ) -> Hook | Callable[[Hook], Hook]:
        """What `before` and `after` do, the side by name."""
        if phase not in self.phases:
            raise ModelError(unknown_name("phase", phase, self.phases))
        if hook is None:
            return partial(self._add_hook, side, phase, clock)
        return self._add_hook(side, phase, clock, hook)

    def parts_of(self, kind: type[T]) -> list[T]:
        """The parts of a class, in order of registration."""
        # Only those that came since it was last asked for: each body that is built asks for the bodies before it.
        seen, found = self._of_kind.get(kind, (0, []))
        if seen < len(self.parts):
            for part in itertools.islice(self.parts.values(), seen, None):
                if isinstance(part, kind):
                    found.append(part)
            self._of_kind[kind] = len(self.parts), found
        return found[:]

    def stream(self, name: str) -> Stream:
        """The random stream of a name."""
        if name not in self._streams:
            self._streams[name] = Stream(self.setup.seed, name)
        return self._streams[name]

    def follow_inputs(self, follower: InputFollower) -> None:
        """Shows a context the inputs of each feed that the sim is led by."""
        self._followers.append(follower)

    def hold_setting(self, part: PartLike, attribute: str, by: str, value: Any) -> None:
        """Sets an attribute of a part for as long as `by` holds it."""
        self._overrides.hold(part, attribute, by, value)

    def lift_setting(self, part: PartLike, attribute: str, by: str) -> None:
        """Lets go of what `by` holds."""
        self._overrides.lift(part, attribute, by)

    def emit(self, name: str, source: str, data: Mapping[str, Any]) -> None:
        """Notes an event of this row; raises ModelError for one that is not declared, or from inside a guard."""
        if self.looking:
            raise ModelError(f"{self.looking} emits {name!r}; guards only look: emit in the transition's action")
        if name not in self._known_events and self._begun:
            near = unknown_name("event", name, self.events, "this sim")
            raise ModelError(f"{source} emits at {place_of_caller()}: {near}; declare it: events=(…, {name!r})")
        self._said.add(Event(name, source, **data))

    def listen(self, name: str, source: str | None, call: Callable[[], Any]) -> None:
        """Calls a part's own function whenever an event of that name is emitted, by `source` or a part below it; raises
        ModelError for an event that nothing in the sim can emit."""
        if name not in self.events:
            raise ModelError(unknown_name("event", name, self.events, "this sim") + "; declare it: events=(…, 'name')")
        self._said.listen(name, source, call)

    def count_emitted(self, name: str, source: str | None = None) -> int:
        """How many events of that name this row holds so far, from `source` or a part below it."""
        return self._said.count(name, source)

    def data_emitted(
        self, name: str, source: str | None, where: tuple[tuple[str, object], ...]
    ) -> list[dict[str, Any]]:
        """The data of this row's events of a name so far, of those that carry some values."""
        return data_among(self._said.events, name, source, where)

    def emitted_in_row(self, name: str, source: str | None = None) -> list[Event]:
        """The events of that name that this row holds so far, from `source` or a part below it; raises ModelError for one
        that no part can emit."""
        if name not in self._known_events:
            raise ModelError(unknown_name("event", name, self.events, "this sim") + "; declare it: events=(…, 'name')")
        return self._said.named(name, source)

    def reset(self, setup: Setup) -> list[Event]:
        """Runs the start states' enter hooks, then a contact probe: the events of row 0.

        A sim is built for one run: the model function makes another for the next.
        """
        if self._begun:
            raise ModelError("a sim runs once; hand over the model function, and each run builds its own")
        # A misspelt param would otherwise be a run with the default, and every claim about it kept.
        setup.check_all_read()
        self._begun = True
        self._collect()
        said = self._said
        said.begin_row()
        # In the order of a frame, so that a part begins after those that it will see stepped before it.
        for phase in ("", *self.phases):
            for part in self._in_phase(phase):
                part.begin()
        for part in self.parts.values():
            part.after_begin()
        self._show_slots()
        return said.events

    def step(self, now: FrameInput) -> list[Event]:
        """One frame on."""
        # A feed shows the same view in every frame: contexts are bound to it once, and not in each.
        if now is not self.inputs:
            self.inputs = now
            for one in self._followers:
                one.bind(now)
        self.frame = now.frame
        said = self._said
        # Most rows have none.
        if said.events:
            said.begin_row()
        run_all = self._run_all
        if run_all is None:
            run_all, self._text = self._generated()
            self._run_all = run_all
        run_all()
        # What is handed out is the holder's: never the list that is still empty, and goes on being filled.
        return said.events or []

    def step_text(self) -> str:
        """What a frame runs, as Python: the function that is made of all parts and hooks when the run has begun."""
        if not self._begun:
            raise ModelError("a sim has a step once it is reset")
        # Made beside the one that runs, where there is none: who watches a run is not put aside by who reads its text.
        if not self._text:
            _, self._text = self._generated()
        return self._text

    def observe(self) -> dict[str, Any]:
        """The value of every channel."""
        return dict(zip(self.names.channels, self.channel_values(), strict=True))

    def table(self, *patterns: str) -> str:
        """Channels and their values, a line each, as text: all of them, or those that match, such as "gap.*"."""
        values = self.observe()
        names = matching(list(values), patterns or ("*",), "table")
        return value_table({name: values[name] for name in names})

    def __repr__(self) -> str:
        return f"<Sim in row {self.frame}: {plural(len(self.parts), 'part')}, {', '.join(self.parts)}>"

    def unknown_attributes(self) -> str:
        """What is wrong with an attribute that a model has set on a part that has none of that name; "" where none is. To be
        asked when the run is over."""
        return unknown_attribute(self.parts.values())

    @property
    def channels(self) -> list[Channel]:
        """Every channel of every part, in order of registration."""
        if self._collected:
            return list(self.names.channels.values())
        return [_channel(part, spec) for part, spec in self._specs()]

    @property
    def events(self) -> tuple[str, ...]:
        """Every event that a part may emit, and those that were declared."""
        if self._collected:
            return tuple(self.names.events)
        known = dict.fromkeys(self.declared_events)
        for part in self.parts.values():
            known.update(dict.fromkeys(part.event_names()))
        return tuple(dict.fromkeys([*known, "end"]))

    def order(self) -> list[tuple[str, tuple[str, ...]]]:
        """Each phase and what runs in it, in order; hooks stand under names of their own."""
        found: list[tuple[str, tuple[str, ...]]] = []
        for phase in self.phases:
            found.append((phase, tuple(run.name for run in self._runs(phase))))
        return found

    @property
    def nan_channels(self) -> tuple[str, ...]:
        """The channels that may be NaN: those of pool slots, which are when the slot is free."""
        in_slots = ((part, spec) for part, spec in self._specs() if part.slot is not None)
        found = []
        for part, spec in in_slots:
            if spec.kind == "number":
                found.append(_channel_name(part, spec))
        return tuple(found)

    def machines(self) -> dict[str, tuple[str, ...]]:
        """The states of each machine."""
        found: dict[str, tuple[str, ...]] = {}
        for machine in self.parts_of(Machine):
            found[machine.name] = machine.states.leaves
        return found

    def outlines(self) -> dict[str, Outline]:
        """Each machine as plain data."""
        found: dict[str, Outline] = {}
        for machine in self.parts_of(Machine):
            found[machine.name] = machine.outline()
        return found

    def scene(self) -> dict[str, Any]:
        """Level and bodies as plain data, for pictures."""
        return scene_of(self)

    def save(self) -> bytes:
        """The whole state as bytes: plain data under dotted names."""
        state = {
            "form": STATE_FORM,
            "frame": self.frame,
            "parts": {name: part.save() for name, part in self.parts.items()},
            "streams": {name: stream.state for name, stream in self._streams.items()},
            "overrides": self._overrides.save(),
        }
        return msgspec.msgpack.encode(state)

    def load(self, saved: bytes) -> None:
        """Puts a saved state back into these same parts, or those of another sim that the same model built.

        Raises ModelError where it is of another model, or was saved by a version of another form.
        """
        state = self._checked_state(saved)
        self.frame = state["frame"]
        # A setting that is held over now stands in the part's own attribute: it has to go before the attributes come back.
        self._overrides.release()
        for name, part in self.parts.items():
            part.load(state["parts"][name])
        for name, value in state["streams"].items():
            self.stream(name).state = value
        self._overrides.load(state["overrides"], self.parts)
        self._show_slots()

    def watch_seen(self) -> None:
        """From now on keeps what the machines see each frame; `seen_row` is it."""
        at = sum(len(self._runs(phase)) for phase in self.phases[: self.phases.index("machines")])
        self._schedule.insert(at, Run("machines", "what they see", None, self._note_seen))
        self._run_all, self._text = None, ""
        self._note_seen()

    def watch_runs(self, watcher: Callable[[str, str, Callable[[], Any]], Any]) -> Callable[[], None]:
        """From now on calls watcher(phase, name, run) instead of each part's or hook's run; the result ends that."""
        watched = [partial(watcher, one.phase, one.name, one.call) for one in self._schedule]
        self._run_all = partial(_run_each, [*watched, self._show_slots])

        def end() -> None:
            self._run_all = None

        return end

    def seen_row(self) -> tuple[Any, ...]:
        """The values of all channels as this row's machines saw them."""
        return self._seen

    def model_functions(self) -> Iterator[Callable[..., Any]]:
        """Every function of a model's own that a step may call: guards, hooks, actions."""
        for part in self.parts.values():
            if isinstance(part, Machine):
                yield from part.model_functions()
            # A body's `on_contact`, and what else a part was given: functions stand among its attributes.
            # Bound methods of the library's own are left out by this: they are no FunctionType.
            yield from (one for one in vars(part).values() if isinstance(one, FunctionType))
        for hooks in self._hooks.values():
            yield from (hook for _, hook, _ in hooks)

    def _note_seen(self) -> None:
        self._seen = self.channel_values()

    def _show_slots(self) -> None:
        for slot in self._slots:
            slot.step()

    def _checked_state(self, saved: bytes) -> dict[str, Any]:
        try:
            state = msgspec.msgpack.decode(saved, type=dict[str, Any])
        except (msgspec.MsgspecError, ValueError) as error:
            raise ModelError(f"not a saved state: {error}") from None
        if state.get("form") != STATE_FORM or not isinstance(state.get("parts"), dict):
            raise ModelError(
                f"a saved state of form {state.get('form', 1)!r}, and this version reads form {STATE_FORM}; "
                "run the recording again from its row 0"
            )
        # Before anything is put back: half a state would be worse than none.
        odd = sorted(state["parts"].keys() ^ self.parts.keys())
        if odd:
            raise ModelError(f"the saved state is of another model: {', '.join(odd[:5])} is in only one of the two")
        return state

    def _specs(self) -> Iterable[tuple[Part, ChannelSpec]]:
        """Every channel with its part, in the order in which a row has them."""
        if self._all_specs:
            return self._all_specs
        found = [(part, spec) for part in self.parts.values() for spec in part.channels()]
        if self._begun:
            self._all_specs = tuple(found)
        return found

    def _row_bindings(self) -> list[Binding]:
        """What a row reads: the parts themselves, or for those of a pool what their slot shows."""
        # A free slot shows NaN and 0 instead of what its parts last were, and the parts themselves keep their state.
        shadows = {}
        for slot in self._slots:
            for shown, part, _ in slot.shadow:
                shadows[part.name] = shown
        found: list[Binding] = []
        for part, spec in self._specs():
            found.append(Binding(shadows.get(part.name, spec.holder or part), spec.attribute))
        return found

    def _add_hook(self, side: str, phase: str, clock: str | None, hook: Hook) -> Hook:
        ticker = None
        if clock is not None:
            ticker = clock_named(self.parts, clock, f"hook {side} {phase}")
            if self.phases.index(phase) + (side == "after") <= self.phases.index("inputs"):
                raise ModelError(f"a hook {side} {phase!r} runs before the clocks do, so that it is on none of them")
        now = context_for(self, f"{side}.{phase}", StepContext, ticker)
        name = f"{side} {phase}: {getattr(hook, '__name__', 'hook')}"
        run = partial(hook, now)
        if ticker is not None:
            run = partial(_run_on_ticks, ticker, run)
        self._hooks.setdefault((side, phase), []).append((name, hook, run))
        return hook

    def _put_on_play(self) -> None:
        """Where there is a clock called `play`, every part that names no other is on it."""
        play = self.parts.get("play")
        if isinstance(play, Clock):
            for part in self.parts.values():
                # A clock on a clock would stand still with itself, and a slot has no step.
                if part.clock is None and not isinstance(part, Clock | Slot):
                    part.clock = play

    def _in_phase(self, phase: str) -> list[Part]:
        """The parts of a phase, in the order in which they run."""
        parts = [part for part in self.parts.values() if part.phase == phase]
        return sorted(parts, key=lambda part: not part.runs_first)

    def _runs(self, phase: str) -> list[Run]:
        before = [Run(phase, name, None, run) for name, _, run in self._hooks.get(("before", phase), [])]
        after = [Run(phase, name, None, run) for name, _, run in self._hooks.get(("after", phase), [])]
        parts = [Run(phase, part.name, part, _when_it_runs(part)) for part in self._in_phase(phase)]
        return [*before, *parts, *after]

    def _generated(self) -> tuple[Callable[[], Any], str]:
        # Slots come last: what they show is what their parts are at the end of the row.
        shown = [Run("shown", slot.name, slot, slot.step) for slot in self._slots]
        return generated_step(self, [*self._schedule, *shown])

    def _collect(self) -> None:
        """Chooses, before the first frame, what runs and what is read in every one."""
        self._put_on_play()
        events = self.events
        self._known_events = frozenset(events)
        self.bindings = {}
        channels: dict[str, Channel] = {}
        for part, spec in self._specs():
            channel = _channel(part, spec)
            if channel.name in channels:
                raise ModelError(f"two channels are called {channel.name!r}")
            channels[channel.name] = channel
            self.bindings[channel.name] = Binding(spec.holder or part, spec.attribute)
        self._schedule = []
        for phase in self.phases:
            self._schedule += self._runs(phase)
        self._slots = self.parts_of(Slot)
        self.channel_values = compile_row(self._row_bindings())
        self.names = Names(
            channels=channels,
            actions=tuple(self.actions),
            events=events,
            settings={**self.setup.params, **self.setup.settings},
            rate=self.rate,
            where="this sim",
        )
        self._collected = True


def _run_each(calls: Iterable[Callable[[], Any]]) -> None:
    for call in calls:
        call()


def _run_on_ticks(clock: Ticker, run: Callable[[], Any]) -> None:
    if clock.ticking:
        run()


def _not_reset_yet() -> tuple[Any, ...]:
    raise ModelError("a sim has rows once it is reset")


def _channel(part: Part, spec: ChannelSpec) -> Channel:
    labels: tuple[str, ...] = ()
    if spec.kind == "label":
        if part.slot is not None:
            labels = (*spec.labels, "absent")
        else:
            labels = spec.labels
    return Channel(_channel_name(part, spec), spec.kind, labels, spec.wraps)


def _channel_name(part: Part, spec: ChannelSpec) -> str:
    if spec.suffix:
        return f"{part.name}.{spec.suffix}"
    return part.name


def _when_it_runs(part: Part) -> Callable[[], Any]:
    """A part's step, in the frames in which its clock ticks and its slot is taken."""
    clock, slot, step = part.clock, part.slot, part.step
    # Most parts are on no clock and in no slot: their step is called as it is, without a test in every frame.
    if clock is None and slot is None:
        return step

    # What `takes_part` asks, without its call: a pool's every part pays for it in every frame.
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
