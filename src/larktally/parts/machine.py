"""State machines run: one stated order, every change an event. What is declared of them is in declared.py."""

from __future__ import annotations

import functools
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from types import CodeType
from typing import Any, Literal, NamedTuple, TypeAlias

from larktally.code_places import code_of_caller
from larktally.errors import ModelError
from larktally.language.reading import Scope, choice_lines, compile_choice, in_scope, late_guard, once, reads_of
from larktally.language.tree import Node
from larktally.names import unknown_name
from larktally.parts.context import GuardContext, StepContext, context_for
from larktally.parts.definition import SHOWN, MachineDefinition, Order
from larktally.parts.guards import looking_guard
from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.transition import Hook, RuleTrial, Transition
from larktally.traces.outline import ANY, BACK, STAY

__all__ = ["Changes", "Machine", "Transition", "ANY", "BACK", "STAY", "Hook"]

Changes: TypeAlias = Literal["asked", "each"]
# A hook that asks for a change runs the hooks of that change: two that ask for each other would never end.
MOST_NESTED = 50
# States, and rules out of one: beyond these a look-up is faster than asking one after another.
MOST_TOLD_APART = 16
RequestListener: TypeAlias = "Callable[[str, tuple[CodeType, int] | None], Any]"
RuleObserver: TypeAlias = Callable[[list[RuleTrial], "str | None"], None]


class _Crossing(NamedTuple):
    """The states left, children first, and those entered, parents first, on the way between two."""

    leaving: tuple[str, ...]
    entering: tuple[str, ...]


class Machine(MachineDefinition):
    """States and transitions of one thing; its channel is the current state's label, `age` the frames since it began.

    In each step: `age` goes up by one; the first declared transition out of the current state (a child's before its
    parent's, `lt.ANY` last) whose guard holds is taken: leave hooks, its action, enter hooks, and age is 0; then the
    during hooks of the state now current run. With `after=3`, entered in row 5:

    ====  =======  ====
    row   state    age
    ====  =======  ====
    5     swing    0
    6     swing    1
    7     swing    2
    8     rest     0
    ====  =======  ====

    `order="during-first"` runs the during hooks before the transitions: a state entered in row k runs its own first in
    row k+1. `settle=n` allows n transitions a step; no state is entered twice in one. A change asked for with `go`
    wins over the rules of that frame; the first asked wins over later ones, which are events `go_refused`.
    `final` names states that nothing has to leave.

    `changes="each"` is how a game's own code does it that sets its state directly: each `go` changes the state at once, with its
    leave and enter hooks, in the order of the calls, also into a state that was left in this very step; the row shows the last of
    them, with age 0. Rules keep `settle`. A go to the current state is an event `go_refused`.

    Events: changed (from, to, by, age, and the values its text guard read), acted (by, in), go_refused. Raises
    ModelError for a start or a state that does not exist, with the nearest name.
    """

    # What is read and set in every frame: quicker than what is in a dict.
    __slots__ = ("_candidates", "_during", "_plain", "_requested", "age", "state")
    phase = "machines"
    events = ("changed", "acted", "go_refused")
    state_fields = ("state", "age", "stack", "_requested", "_history", "_went")
    derived_fields = ("_asked_at", "_nested")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        states: Sequence[str],
        start: str = "",
        *,
        order: Order = "transition-first",
        settle: int = 1,
        remember: Iterable[str] = (),
        initial: Mapping[str, str] | None = None,
        final: Iterable[str] = (),
        changes: Changes = "asked",
    ) -> None:
        super().__init__(
            sim, name, states, start, order=order, settle=settle, remember=remember, initial=initial, final=final
        )
        if changes not in ("asked", "each"):
            raise ModelError(unknown_name("changes", changes, ("asked", "each"), f"machine {name!r}"))
        self.changes = changes
        self.state = self.start
        self.age = 0
        # The frame of the last change that a go made at once.
        self._went = -1
        self._nested = 0
        self._running = False
        self.stack: list[str] = []
        self._requested: list[str] = []
        # Where each was asked for: the code and the line, made into words only where somebody wants to know.
        self._asked_at: list[tuple[CodeType, int]] = []
        self._history: dict[str, str] = {}
        self._plain = False
        self._candidates: dict[str, tuple[Transition, ...]] = {}
        self._during: dict[str, tuple[Hook, ...]] = {}
        # What a plain machine needs in a frame, by state and in one look-up.
        self._fast_path: dict[
            str, tuple[Callable[[StepContext, int], int], tuple[Hook, ...], tuple[Transition, ...]]
        ] = {}
        # Of each state, its rules' `after` and guards, and what they are read in.
        self._guards: dict[str, list[tuple[int, str | Node | Hook | None]]] = {}
        self._read_in: Scope
        self._crossings: dict[tuple[str, str], _Crossing] = {}
        # Who watches is no part of the state: a saved one goes back into a sim that nobody watches.
        self._observer: RuleObserver | None = None
        self._listener: RequestListener | None = None
        self.now: StepContext
        self.guard_now: StepContext

    def channels(self) -> tuple[ChannelSpec, ...]:
        return (ChannelSpec("", "state", "label", self.states.leaves), ChannelSpec("age", "age", "count"))

    def go(self, state: str) -> None:
        """Asks for a change to a state: taken when this machine runs next, in this frame where it has not run yet."""
        self.states.check(state)
        # A guard that asks for a change would change something by looking.
        if self.sim.looking:
            raise ModelError(f"{self.sim.looking} asks {self.name!r} to go to {state!r}; guards only look")
        asked_at = code_of_caller()
        if self._listener is not None:
            self._listener(state, asked_at)
        if self.changes == "each" and self._running:
            self._go_at_once(state)
            return
        self._requested.append(state)
        self._asked_at.append(asked_at)

    def _go_at_once(self, state: str) -> None:
        target = self.states.enter_at(state, self._history)
        if target == self.state:
            self.emit("go_refused", to=state, because="it is current already")
            return
        if self._nested >= MOST_NESTED:
            raise ModelError(
                f"machine {self.name!r}: hooks ask each other for changes and never end: {self.state!r} to {state!r}, "
                f"{MOST_NESTED} deep"
            )
        self._nested += 1
        try:
            self._change(target, "go", None, {})
        finally:
            self._nested -= 1
        self._went = self.sim.frame

    def model_functions(self) -> Iterator[Callable[..., Any]]:
        """The functions of a model's own that it calls: hooks, guards and actions."""
        for by_state in self._hooks.values():
            for hooks in by_state.values():
                yield from hooks
        for rule in self.transitions:
            yield from (one for one in (rule.when, rule.action) if callable(one))

    def after_load(self) -> None:
        self._asked_at.clear()

    def begin(self) -> None:
        self._prepare()
        self._running = True
        for path in self.states.path(self.state):
            self._apply(path)
            self._run("enter", path)

    def step(self) -> None:
        # The short way, which most machines go in most frames; a test runs both against a plain interpreter.
        if self._plain and not self._requested:
            # Before anything else, so that a guard in the first frame of a state sees an age of 1.
            self.age = age = self.age + 1
            choose, during, candidates = self._fast_path.get(self.state) or self._find_path(self.state)
            chosen = choose(self.guard_now, age)
            if chosen >= 0:
                self._take(candidates[chosen])
                # The state now current runs its own, not the one that was left.
                during = self._during[self.state]
            for hook in during:
                hook(self.now)
            return
        # A state that a go has entered in this very row, before the machines, has age 0 in it.
        if self._went != self.sim.frame:
            self.age += 1
        if self.order == "during-first":
            for hook in self._during[self.state]:
                hook(self.now)
        self._settle()
        if self.order == "transition-first":
            for hook in self._during[self.state]:
                hook(self.now)

    def inlined(self) -> Inlined | None:
        """The short way, with the guards written out."""
        states = self.states.leaves
        if len(states) > MOST_TOLD_APART or any(len(guards) > MOST_TOLD_APART for guards in self._guards.values()):
            return None
        then, hooks = ["me._take(me._candidates[state][RULE])"], list[str]()
        if any(self._during.values()):
            # The state now current runs its own, not the one that was left.
            then.append("state = me.state")
            hooks = ["for hook in me._during[state]:", "    hook(me.now)"]
        lines, names = choice_lines(self._guards, self._read_in, then)
        text = "\n    ".join(["else:", "me.age = age = me.age + 1", "state = me.state", *lines, *hooks])
        return Inlined(f"if me._requested or not me._plain:\n    me.step()\n{text}", {"now": self.guard_now, **names})

    def observe_rules(self, observer: RuleObserver | None) -> None:
        """Shows a function every rule that is considered from now on, and the name of the one taken or None."""
        self._observer = observer
        self._choose_path()

    def observe_requests(self, listener: RequestListener | None) -> None:
        """Shows a function every state that is asked for with `go` from now on, and those that wait to be taken, each with
        the code and the line that asked."""
        self._listener = listener
        if listener is not None:
            for n, state in enumerate(self._requested):
                # A state that was put back knows what was asked for, and not where.
                listener(state, self._asked_at[n] if n < len(self._asked_at) else None)

    def _prepare(self) -> None:
        """Makes what the hot loop reads: the rules and during hooks of each state, and the guards as functions."""
        self.now = context_for(self.sim, self.name, StepContext, self.clock)
        self.guard_now = context_for(self.sim, self.name, GuardContext, self.clock)
        self._read_in = scope = Scope(self.sim.names, self.sim.bindings, self.sim)
        conditions: dict[str, Any] = {}
        for rule in self.transitions:
            what = f"machine {self.name!r}: transition {rule.name!r}"
            if isinstance(rule.when, str):
                whole = in_scope(rule.when, self.scope, self.sim.names, self.sim.parts, self.name)
                conditions[rule.name] = whole
                rule.guard = late_guard(whole, scope, what)
                # What it read is told of a rule that is taken: made when one first is.
                rule.reads = once(functools.partial(reads_of, whole, scope))
            elif rule.when is not None:
                named = f"machine {self.name!r}: the guard {rule.guard_text!r} of {rule.name!r}"
                conditions[rule.name] = rule.guard = looking_guard(self.sim, rule.when, named)
        for leaf in self.states.leaves:
            # A child's rules before its parent's, and those from anywhere last.
            ranks = [*reversed(self.states.path(leaf)), ANY]
            candidates = []
            for state in ranks:
                for rule in self.transitions:
                    if state in rule.sources:
                        candidates.append(rule)
            self._candidates[leaf] = tuple(candidates)
            self._guards[leaf] = [(rule.after, conditions.get(rule.name)) for rule in candidates]
            during: list[Hook] = []
            for state in self.states.path(leaf):
                during += self._hooks["during"].get(state, ())
            self._during[leaf] = tuple(during)
        self._choose_path()

    def _find_path(
        self, leaf: str
    ) -> tuple[Callable[[StepContext, int], int], tuple[Hook, ...], tuple[Transition, ...]]:
        """What a plain machine needs in a state; made when its own `step` first comes to it."""
        choose = compile_choice(self._guards[leaf], self._read_in, f"larktally choice {self.name}: {leaf}")
        found = self._fast_path[leaf] = choose, self._during[leaf], self._candidates[leaf]
        return found

    def _choose_path(self) -> None:
        """Whether the short way through a step will do: nothing settles, returns, repeats or is observed."""
        special = any(rule.every or rule.target in (BACK, STAY) for rule in self.transitions)
        self._plain = (
            self.order == "transition-first"
            and self.settle == 1
            and self.changes == "asked"
            and not special
            and self._observer is None
        )

    def _settle(self) -> None:
        entered: set[str] = set()
        if self._requested:
            self._take_asked(entered)
        # A change that was asked for is one of the transitions that a step may take.
        for _ in range(self.settle - len(entered)):
            rule = self._first_that_holds(entered)
            if rule is None:
                break
            self._take(rule)
            if rule.target == STAY:
                break
            entered.add(self.state)

    def _first_that_holds(self, entered: Collection[str]) -> Transition | None:
        if self._observer is not None:
            return self._consider(self._observer, entered)
        for rule in self._candidates[self.state]:
            if self._may(rule, entered) is None and self._holds(rule):
                return rule
        return None

    def _holds(self, rule: Transition) -> bool:
        return rule.guard is None or bool(rule.guard(self.guard_now))

    def _may(self, rule: Transition, entered: Collection[str]) -> str | None:
        """Why a rule cannot be taken now, whatever its guard says; None where it can."""
        if self.age < rule.after:
            return f"not due: {self.age} of {rule.after} frames"
        if not rule.due(self.age):
            return f"looked at every {rule.every} frames: next in {rule.every - self.age % rule.every}"
        if rule.target == BACK and not self.stack:
            return "no state to go back to"
        if entered and rule.target != STAY and self._landing(rule) in entered:
            return "entered in this step already"
        return None

    def _consider(self, observer: RuleObserver, entered: Collection[str]) -> Transition | None:
        """The same with every rule looked at, whether an earlier one was taken or not, and shown to the observer."""
        found, taken = [], None
        for rule in self._candidates[self.state]:
            why_not = self._may(rule, entered)
            holds = self._holds(rule)
            # Read before the hooks run: it is what the guard saw that an event tells, not what the action made of it.
            read = {text: value(self.guard_now) for text, value in rule.what_it_reads()}
            if rule.target in SHOWN:
                target = rule.target
            else:
                target = self._landing(rule)
            told = RuleTrial(
                rule.name, target, rule.guard_text, why_not is None, holds, why_not or "", read, rule.place
            )
            found.append(told)
            if taken is None and why_not is None and holds:
                taken = rule
        observer(found, taken.name if taken else None)
        return taken

    def _landing(self, rule: Transition) -> str:
        if rule.target == BACK:
            return self.stack[-1]
        return self.states.enter_at(rule.target, self._history)

    def _take(self, rule: Transition) -> None:
        if rule.target == STAY:
            if rule.action is not None:
                rule.action(self.now)
            self.sim.emit("acted", self.name, {"by": rule.name, "in": self.state})
            return
        read = {text: value(self.guard_now) for text, value in rule.what_it_reads()}
        target = self._landing(rule)
        if rule.target == BACK:
            self.stack.pop()
        if rule.push:
            self.stack.append(self.state)
        self._change(target, rule.name, rule.action, read)

    def _take_asked(self, entered: set[str]) -> None:
        # The order of asking decides and not the order of rules: a hurt in the machine before wins over a hop in this one.
        first, *late = self._requested
        self._requested = []
        self._asked_at.clear()
        for state in late:
            self.emit("go_refused", to=state, because=f"{first} was asked for first")
        target = self.states.enter_at(first, self._history)
        if target == self.state:
            self.emit("go_refused", to=first, because="it is current already")
            return
        self._change(target, "go", None, {})
        entered.add(self.state)

    def _change(self, target: str, by: str, action: Hook | None, read: dict[str, Any]) -> None:
        source, age = self.state, self.age
        # Which states have something to do on the way is found once for each pair.
        crossing = self._crossings.get((source, target)) or self._cross(source, target)
        for path in crossing.leaving:
            self._run("leave", path)
            self._lift(path)
            self.states.note_left(path, source, self._history)
        if action is not None:
            action(self.now)
        # After the action and before the event: an action still sees the state that it leaves, and who hears the event the
        # new one.
        self.state, self.age = target, 0
        self.sim.emit(
            "changed",
            self.name,
            {"from": source, "to": target, "by": by, "age": age, **({"read": read} if read else {})},
        )
        for path in crossing.entering:
            self._apply(path)
            self._run("enter", path)

    def _cross(self, source: str, target: str) -> _Crossing:
        """What is left and entered between two states, kept: only the states at which something happens."""
        leaving, entering = self.states.path_between(source, target)
        hooks, settings, remember = self._hooks, self._settings, self.states.remember
        found = self._crossings[source, target] = _Crossing(
            tuple(s for s in leaving if s in hooks["leave"] or s in settings or s in remember),
            tuple(s for s in entering if s in hooks["enter"] or s in settings),
        )
        return found

    def _run(self, kind: str, state: str) -> None:
        for hook in self._hooks[kind].get(state, ()):
            hook(self.now)

    def _apply(self, state: str) -> None:
        for part, attribute, value in self._settings.get(state, ()):
            self.sim.hold_setting(part, attribute, f"{self.name}:{state}", value)

    def _lift(self, state: str) -> None:
        for part, attribute, _ in self._settings.get(state, ()):
            self.sim.lift_setting(part, attribute, f"{self.name}:{state}")
