"""State machines run: one stated order, every change an event. What is declared of them is in declared.py."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from larktally.parts.declared import SHOWN, Declared
from larktally.parts.guards import compile_choice, compile_guard, in_scope, reads_of
from larktally.parts.now import GuardNow, Now
from larktally.parts.part import Shown
from larktally.parts.transition import Considered, Hook, Transition
from larktally.traces.outline import ANY, BACK, STAY

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Machine", "Transition", "ANY", "BACK", "STAY", "Hook"]

Watcher: TypeAlias = Callable[[list[Considered], "str | None"], None]


class _Crossing(NamedTuple):
    """The states left, children first, and those entered, parents first, on the way between two."""

    leaving: tuple[str, ...]
    entering: tuple[str, ...]


class Machine(Declared):
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

    Events: changed (from, to, by, age, and the values its text guard read), acted (by, in), go_refused. Raises
    ModelError for a start or a state that does not exist, with the nearest name.
    """

    phase = "machines"
    events = ("changed", "acted", "go_refused")

    def __init__(self, sim: Sim, name: str, states: Sequence[str], start: str, **options: Any) -> None:
        super().__init__(sim, name, states, start, **options)
        self.state = self.start
        self.age = 0
        self.stack: list[str] = []
        self._asked: list[str] = []
        self._history: dict[str, str] = {}
        self._plain = False
        self._candidates: dict[str, tuple[Transition, ...]] = {}
        self._during: dict[str, tuple[Hook, ...]] = {}
        self._ways: dict[str, tuple[Callable[[Now, int], int], tuple[Hook, ...], tuple[Transition, ...]]] = {}
        self._crossings: dict[tuple[str, str], _Crossing] = {}
        self._watcher: Watcher | None = None
        self._listener: Callable[[str], Any] | None = None
        self.now: Now
        self.guard_now: Now

    def channels(self) -> tuple[Shown, ...]:
        return (Shown("", "state", "label", self.states.leaves), Shown("age", "age", "count"))

    def go(self, state: str) -> None:
        """Asks for a change to a state: taken when this machine runs next, in this frame where it has not run yet."""
        self.states.check(state)
        self._asked.append(state)
        if self._listener is not None:
            self._listener(state)

    def begin(self) -> None:
        self._prepare()
        for path in self.states.path(self.state):
            self._apply(path)
            self._run("enter", path)

    def step(self) -> None:
        self.age = age = self.age + 1
        if self._plain and not self._asked:
            choose, during, candidates = self._ways[self.state]
            chosen = choose(self.guard_now, age)
            if chosen >= 0:
                self._take(candidates[chosen])
                during = self._during[self.state]
            for hook in during:
                hook(self.now)
            return
        if self.order == "during-first":
            for hook in self._during[self.state]:
                hook(self.now)
        self._settle()
        if self.order == "transition-first":
            for hook in self._during[self.state]:
                hook(self.now)

    def watch(self, watcher: Watcher | None) -> None:
        """Shows a function every rule that is considered from now on, and the name of the one taken or None."""
        self._watcher = watcher
        self._choose_way()

    def hear(self, listener: Callable[[str], Any] | None) -> None:
        """Shows a function every state that is asked for with `go` from now on, and those that wait to be taken."""
        self._listener = listener
        if listener is not None:
            for state in self._asked:
                listener(state)

    def save(self) -> dict[str, Any]:
        return {
            "state": self.state,
            "age": self.age,
            "stack": list(self.stack),
            "asked": list(self._asked),
            "history": dict(self._history),
        }

    def load(self, saved: dict[str, Any]) -> None:
        self.state, self.age = saved["state"], saved["age"]
        self.stack, self._asked, self._history = list(saved["stack"]), list(saved["asked"]), dict(saved["history"])

    def _prepare(self) -> None:
        """Makes what the hot loop reads: the rules and during hooks of each state, and the guards as functions."""
        self.now = self.sim.now_for(self.name)
        self.guard_now = self.sim.now_for(self.name, GuardNow)
        words, sources, counts = self.sim.words, self.sim.sources, self.sim.count_said
        for rule in self.transitions:
            if isinstance(rule.when, str):
                what = f"machine {self.name!r}: transition {rule.name!r}"
                text = self._whole(rule.when)
                rule.guard = compile_guard(text, words, sources, counts, what)
                rule.reads = reads_of(text, words, sources, counts)
            else:
                rule.guard = rule.when
        for leaf in self.states.leaves:
            ranks = [*reversed(self.states.path(leaf)), ANY]
            self._candidates[leaf] = tuple(
                rule for state in ranks for rule in self.transitions if state in rule.sources
            )
            guards = [(rule.after, self._whole(rule.when)) for rule in self._candidates[leaf]]
            self._during[leaf] = tuple(
                hook for state in self.states.path(leaf) for hook in self._hooks["during"].get(state, ())
            )
            choose = compile_choice(guards, words, sources, counts)
            self._ways[leaf] = choose, self._during[leaf], self._candidates[leaf]
        self._choose_way()

    def _whole(self, when: str | Hook | None) -> Any:
        """A guard with the names in its text made whole."""
        return in_scope(when, self.scope, self.sim.words, self.sim.parts) if isinstance(when, str) else when

    def _choose_way(self) -> None:
        """Whether the short way through a step will do: nothing settles, returns, repeats or is watched."""
        special = any(rule.every or rule.target in (BACK, STAY) for rule in self.transitions)
        self._plain = self.order == "transition-first" and self.settle == 1 and not special and self._watcher is None

    def _settle(self) -> None:
        entered: set[str] = set()
        if self._asked:
            self._take_asked(entered)
        for _ in range(self.settle - len(entered)):
            rule = self._first_that_holds(entered)
            if rule is None:
                break
            self._take(rule)
            if rule.target == STAY:
                break
            entered.add(self.state)

    def _first_that_holds(self, entered: Collection[str]) -> Transition | None:
        if self._watcher is not None:
            return self._consider(self._watcher, entered)
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

    def _consider(self, watcher: Watcher, entered: Collection[str]) -> Transition | None:
        """The same with every rule looked at, whether an earlier one was taken or not, and shown to the watcher."""
        found, taken = [], None
        for rule in self._candidates[self.state]:
            why_not = self._may(rule, entered)
            holds = self._holds(rule)
            read = {text: value(self.guard_now) for text, value in rule.reads}
            target = rule.target if rule.target in SHOWN else self._landing(rule)
            told = Considered(
                rule.name, target, rule.guard_text, why_not is None, holds, why_not or "", read, rule.place
            )
            found.append(told)
            if taken is None and why_not is None and holds:
                taken = rule
        watcher(found, taken.name if taken else None)
        return taken

    def _landing(self, rule: Transition) -> str:
        return self.stack[-1] if rule.target == BACK else self.states.enter_at(rule.target, self._history)

    def _take(self, rule: Transition) -> None:
        if rule.target == STAY:
            if rule.action is not None:
                rule.action(self.now)
            self.sim.say("acted", self.name, {"by": rule.name, "in": self.state})
            return
        read = {text: value(self.guard_now) for text, value in rule.reads}
        target = self._landing(rule)
        if rule.target == BACK:
            self.stack.pop()
        if rule.push:
            self.stack.append(self.state)
        self._change(target, rule.name, rule.action, read)

    def _take_asked(self, entered: set[str]) -> None:
        first, *late = self._asked
        self._asked = []
        for state in late:
            self.say("go_refused", to=state, because=f"{first} was asked for first")
        target = self.states.enter_at(first, self._history)
        if target == self.state:
            self.say("go_refused", to=first, because="it is current already")
            return
        self._change(target, "go", None, {})
        entered.add(self.state)

    def _change(self, target: str, by: str, action: Hook | None, read: dict[str, Any]) -> None:
        source, age = self.state, self.age
        crossing = self._crossings.get((source, target)) or self._cross(source, target)
        for path in crossing.leaving:
            self._run("leave", path)
            self._lift(path)
            self.states.note_left(path, source, self._history)
        if action is not None:
            action(self.now)
        self.state, self.age = target, 0
        self.sim.say(
            "changed",
            self.name,
            {"from": source, "to": target, "by": by, "age": age, **({"read": read} if read else {})},
        )
        for path in crossing.entering:
            self._apply(path)
            self._run("enter", path)

    def _cross(self, source: str, target: str) -> _Crossing:
        """What is left and entered between two states, kept: only the states at which something happens."""
        leaving, entering = self.states.way(source, target)
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
            self.sim.overrides.hold(part, attribute, f"{self.name}:{state}", value)

    def _lift(self, state: str) -> None:
        for part, attribute, _ in self._settings.get(state, ()):
            self.sim.overrides.lift(part, attribute, f"{self.name}:{state}")
