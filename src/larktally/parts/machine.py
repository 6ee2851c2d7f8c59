"""State machines: declared as data, run in one stated order, every change an event."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final, Literal, TypeAlias

from larktally.errors import ModelError
from larktally.parts.guards import Guard, compile_guard, reads_of
from larktally.parts.now import GuardNow, Now
from larktally.parts.part import Part, Shown
from larktally.parts.states import StateTree
from larktally.timing import Duration, frames_in

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Machine", "Transition", "ANY", "BACK", "Hook"]

ANY: Final = "*"
BACK: Final = "<"
Hook: TypeAlias = Callable[[Now], Any]
Order: TypeAlias = Literal["transition-first", "during-first"]


@dataclass(slots=True, eq=False)
class Transition:
    """One rule: from which states, to which, when, after how many frames, and what it does on the way.

    Used as a decorator it takes its action: a function of `now`, run between the leave and the enter hooks.
    """

    name: str
    sources: tuple[str, ...]
    target: str
    when: str | Hook | None
    after: int
    push: bool
    place: str
    action: Hook | None = None
    guard: Guard | None = None
    reads: list[tuple[str, Guard]] = field(default_factory=list)

    def __call__(self, action: Hook) -> Hook:
        if self.action is not None:
            raise ModelError(f"transition {self.name!r} has an action already")
        self.action = action
        return action

    @property
    def guard_text(self) -> str:
        """The guard as a reader sees it: its text, or the function's name."""
        if self.when is None:
            return ""
        return self.when if isinstance(self.when, str) else str(getattr(self.when, "__name__", "a function"))


class Machine(Part):
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

    Events: changed (from, to, by, age, and the values its text guard read), go_refused. Raises ModelError for a start
    or a state that does not exist, with the nearest name.
    """

    phase = "machines"
    events = ("changed", "go_refused")

    def __init__(
        self,
        sim: Sim,
        name: str,
        states: Sequence[str],
        start: str,
        *,
        order: Order = "transition-first",
        settle: int = 1,
        remember: Iterable[str] = (),
        initial: dict[str, str] | None = None,
    ) -> None:
        super().__init__(sim, name)
        if order not in ("transition-first", "during-first"):
            raise ModelError(f"machine {name!r}: order is 'transition-first' or 'during-first', not {order!r}")
        if not isinstance(settle, int) or settle < 1:
            raise ModelError(
                f"machine {name!r}: settle is how many transitions a step may take, at least 1, not {settle!r}"
            )
        self.states = StateTree(name, states, initial or {}, remember)
        if not start:
            raise ModelError(
                f"machine {name!r} has no start state; there are: {', '.join(map(repr, self.states.leaves))}"
            )
        self.start = self.states.enter_at(start, {})
        self.order, self.settle = order, settle
        self._plain = order == "transition-first" and settle == 1
        self.state = self.start
        self.age = 0
        self.transitions: list[Transition] = []
        self.stack: list[str] = []
        self._asked: list[str] = []
        self._history: dict[str, str] = {}
        self._hooks: dict[str, dict[str, list[Hook]]] = {"enter": {}, "during": {}, "leave": {}}
        self._settings: dict[str, list[tuple[Part, str, Any]]] = {}
        self._candidates: dict[str, tuple[Transition, ...]] = {}
        self._during: dict[str, tuple[Hook, ...]] = {}
        self.now: Now
        self.guard_now: Now

    def channels(self) -> tuple[Shown, ...]:
        return (Shown("", "state", "label", self.states.leaves), Shown("age", "age", "count"))

    def enter(self, *states: str) -> Callable[[Hook], Hook]:
        """Decorator: run when one of the states is entered, a parent's before its child's."""
        return self._hook("enter", states)

    def during(self, *states: str) -> Callable[[Hook], Hook]:
        """Decorator: run in every step in which one of the states is current, a parent's before its child's."""
        return self._hook("during", states)

    def leave(self, *states: str) -> Callable[[Hook], Hook]:
        """Decorator: run when one of the states is left, a child's before its parent's."""
        return self._hook("leave", states)

    def transition(
        self,
        source: str | Iterable[str],
        *,
        to: str,
        when: str | Hook | None = None,
        after: Duration | None = None,
        name: str | None = None,
        push: bool = False,
    ) -> Transition:
        """Declares a transition from one state, several, or `lt.ANY`; rules are tried in the order of declaration.

        `when` is text in the claim language or a function of `now`; `after` how long the state has to have lasted.
        `push` keeps the state left on a stack, to which `to=lt.BACK` returns. The result takes an action, as a decorator.
        """
        sources = (source,) if isinstance(source, str) else tuple(source)
        for state in sources:
            self.states.check(state, (ANY,))
        self.states.check(to, (BACK,))
        frames = 0 if after is None else frames_in(after, self.sim.rate, least=1, what=f"machine {self.name!r}: after")
        if when is not None and not isinstance(when, str) and not callable(when):
            raise ModelError(f"machine {self.name!r}: when is text or a function of now, not {when!r}")
        if when is None and after is None:
            raise ModelError(
                f"machine {self.name!r}: the transition to {to!r} has neither when= nor after=, so it would fire at once, "
                "always; say when='true' where that is meant"
            )
        shown = to if to != BACK else "back"
        rule = Transition(
            name or f"{'|'.join(sources)} to {shown}", sources, to, when, frames, push, self.sim.place_of_caller()
        )
        if any(other.name == rule.name for other in self.transitions):
            same = sum(other.name.split("#")[0] == rule.name for other in self.transitions)
            if name:
                raise ModelError(f"machine {self.name!r}: two transitions are called {name!r}")
            rule.name = f"{rule.name}#{same + 1}"
        self.transitions.append(rule)
        return rule

    def setting(self, state: str, part: Part, **values: Any) -> None:
        """Settings of a part that hold while a state is current and fall away when it is left: gravity=0 on a rope."""
        self.states.check(state)
        for attribute, value in values.items():
            if not hasattr(part, attribute):
                raise ModelError(f"machine {self.name!r}: part {part.name!r} has no setting {attribute!r}")
            self._settings.setdefault(state, []).append((part, attribute, value))

    def go(self, state: str) -> None:
        """Asks for a change to a state: taken when this machine runs next, in this frame where it has not run yet."""
        self.states.check(state)
        self._asked.append(state)

    def begin(self) -> None:
        self._prepare()
        for path in self.states.path(self.state):
            self._apply(path)
            self._run("enter", path)

    def step(self) -> None:
        self.age += 1
        if self._plain and not self._asked:
            rule = self._first_that_holds(())
            if rule is not None:
                self._take(rule)
            for hook in self._during[self.state]:
                hook(self.now)
            return
        if self.order == "during-first":
            for hook in self._during[self.state]:
                hook(self.now)
        entered: set[str] = set()
        if self._asked:
            self._take_asked(entered)
        while len(entered) < self.settle:
            rule = self._first_that_holds(entered)
            if rule is None:
                break
            self._take(rule)
            entered.add(self.state)
        if self.order == "transition-first":
            for hook in self._during[self.state]:
                hook(self.now)

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

    def _hook(self, kind: str, states: tuple[str, ...]) -> Callable[[Hook], Hook]:
        if not states:
            raise ModelError(f"machine {self.name!r}: {kind} needs the states that it is for")
        for state in states:
            self.states.check(state)

        def keep(hook: Hook) -> Hook:
            for state in states:
                self._hooks[kind].setdefault(state, []).append(hook)
            return hook

        return keep

    def _prepare(self) -> None:
        """Makes what the hot loop reads: the rules and during hooks of each state, and the guards as functions."""
        self.now = self.sim.now_for(self.name)
        self.guard_now = self.sim.now_for(self.name, GuardNow)
        words, sources, counts = self.sim.words, self.sim.sources, self.sim.count_said
        for rule in self.transitions:
            if isinstance(rule.when, str):
                what = f"machine {self.name!r}: transition {rule.name!r}"
                rule.guard = compile_guard(rule.when, words, sources, counts, what)
                rule.reads = reads_of(rule.when, words, sources, counts)
            else:
                rule.guard = rule.when
        for leaf in self.states.leaves:
            ranks = [*reversed(self.states.path(leaf)), ANY]
            self._candidates[leaf] = tuple(
                rule for state in ranks for rule in self.transitions if state in rule.sources
            )
            self._during[leaf] = tuple(
                hook for state in self.states.path(leaf) for hook in self._hooks["during"].get(state, ())
            )

    def _first_that_holds(self, entered: Collection[str]) -> Transition | None:
        age, now = self.age, self.guard_now
        for rule in self._candidates[self.state]:
            if age >= rule.after and (rule.guard is None or rule.guard(now)):
                if rule.target == BACK and not self.stack:
                    continue
                if entered and self._landing(rule) in entered:
                    continue
                return rule
        return None

    def _landing(self, rule: Transition) -> str:
        return self.stack[-1] if rule.target == BACK else self.states.enter_at(rule.target, self._history)

    def _take(self, rule: Transition) -> None:
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
        leaving, entering = self.states.way(source, target)
        for path in leaving:
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
        for path in entering:
            self._apply(path)
            self._run("enter", path)

    def _run(self, kind: str, state: str) -> None:
        for hook in self._hooks[kind].get(state, ()):
            hook(self.now)

    def _apply(self, state: str) -> None:
        for part, attribute, value in self._settings.get(state, ()):
            self.sim.overrides.hold(part, attribute, f"{self.name}:{state}", value)

    def _lift(self, state: str) -> None:
        for part, attribute, _ in self._settings.get(state, ()):
            self.sim.overrides.lift(part, attribute, f"{self.name}:{state}")
