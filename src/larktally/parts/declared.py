"""What is declared of a machine: its states, hooks, transitions and settings, and all of it as plain data."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

from larktally.errors import ModelError
from larktally.parts.part import Part
from larktally.parts.states import StateTree
from larktally.parts.transition import Hook, Transition, called
from larktally.places import place_of_caller
from larktally.timing import Duration, frames_in
from larktally.traces.outline import ANY, BACK, STAY, Outline, Setting

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Declared", "SHOWN"]

Order: TypeAlias = Literal["transition-first", "during-first"]
SHOWN = {BACK: "back", STAY: "stay"}


class Declared(Part):
    """A machine before it runs; see Machine."""

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
        final: Iterable[str] = (),
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
        self.declared = tuple(states)
        self.start = self.states.enter_at(start, {})
        self.order, self.settle, self.final = order, settle, tuple(final)
        for state in self.final:
            self.states.check(state)
        self.transitions: list[Transition] = []
        self._hooks: dict[str, dict[str, list[Hook]]] = {"enter": {}, "during": {}, "leave": {}}
        self._settings: dict[str, list[tuple[Part, str, Any]]] = {}

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
        every: Duration | None = None,
        name: str | None = None,
        push: bool = False,
        label: str = "",
    ) -> Transition:
        """Declares a transition from one state, several, or `lt.ANY`; rules are tried in the order of declaration.

        `when` is text in the claim language or a function of `now` (shown as `label`); `after` how long the state has
        to have lasted; with `every` the rule is looked at only in each so-manieth frame of the state. `push` keeps the
        state left on a stack, to which `to=lt.BACK` returns; `to=lt.STAY` runs the action without leaving the state,
        an event `acted`. The result takes an action, as a decorator.
        """
        sources = (source,) if isinstance(source, str) else tuple(source)
        self._check_sources("transition", sources, (ANY,))
        self.states.check(to, (BACK, STAY))
        if push and to in (BACK, STAY):
            raise ModelError(
                f"machine {self.name!r}: push keeps the state left, and this transition leaves none for another"
            )
        frames, period = self._frames("after", after), self._frames("every", every)
        if when is not None and not isinstance(when, str) and not callable(when):
            raise ModelError(f"machine {self.name!r}: when is text or a function of now, not {when!r}")
        if when is None and after is None and every is None:
            raise ModelError(
                f"machine {self.name!r}: the transition to {to!r} has neither when= nor after=, so it would fire at once, "
                "always; say when='true' where that is meant"
            )
        said = name or f"{'|'.join(sources)} to {SHOWN.get(to, to)}"
        rule = Transition(said, sources, to, when, frames, period, push, place_of_caller(), label)
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

    def outline(self) -> Outline:
        """The machine as plain data."""
        twins: dict[Any, str] = {}
        order = [ANY, *self.states.in_order]
        rules = tuple(rule.outlined(twins.setdefault(rule.when, rule.name), order) for rule in self.transitions)
        return Outline(
            self.name,
            self.declared,
            self.start,
            self.states.chosen,
            tuple(sorted(self.states.remember)),
            tuple(sorted(self.final, key=order.index)),
            self.order,
            self.settle,
            rules,
            {kind: {s: tuple(map(called, hooks)) for s, hooks in by.items()} for kind, by in self._hooks.items() if by},
            tuple(Setting(s, p.name, a, v) for s in order for p, a, v in self._settings.get(s, ())),
        )

    def _hook(self, kind: str, states: tuple[str, ...]) -> Callable[[Hook], Hook]:
        self._check_sources(kind, states)

        def keep(hook: Hook) -> Hook:
            for state in states:
                self._hooks[kind].setdefault(state, []).append(hook)
            return hook

        return keep

    def _check_sources(self, what: str, states: tuple[str, ...], also: tuple[str, ...] = ()) -> None:
        """States that a rule or a hook is for: some, each of them there, none said twice."""
        if not states:
            raise ModelError(f"machine {self.name!r}: {what} needs the states that it is for")
        for state in states:
            self.states.check(state, also)
            if states.count(state) > 1:
                raise ModelError(f"machine {self.name!r}: {what} names the state {state!r} twice")

    def _frames(self, what: str, said: Duration | None) -> int:
        if said is None:
            return 0
        return frames_in(said, self.sim.rate, least=1, what=f"machine {self.name!r}: {what}")
