"""What is declared of a machine: its states, hooks, transitions and settings, and all of it as plain data."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Literal, TypeAlias

from larktally.code_places import place_of_caller
from larktally.errors import ModelError
from larktally.names import one_or_many
from larktally.parts.part import Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.states import StateTree
from larktally.parts.transition import Hook, Transition, called
from larktally.timing import Duration, frames_in
from larktally.traces.outline import ANY, BACK, STAY, Outline, StateSetting

__all__ = ["MachineDefinition", "Order", "SHOWN"]

Order: TypeAlias = Literal["transition-first", "during-first"]
SHOWN = {BACK: "back", STAY: "stay"}


class MachineDefinition(Part):
    """A machine before it runs; see Machine."""

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        states: Sequence[str],
        start: str,
        *,
        order: Order = "transition-first",
        settle: int = 1,
        remember: Iterable[str] = (),
        initial: Mapping[str, str] | None = None,
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
        *source: str | Iterable[str],
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
        sources = tuple(itertools.chain.from_iterable(map(one_or_many, source)))
        self._check_sources("transition", sources, (ANY,))
        self.states.check(to, (BACK, STAY))
        if push and to in (BACK, STAY):
            raise ModelError(
                f"machine {self.name!r}: push keeps the state left, and this transition leaves none for another"
            )
        frames, period = self._frames("after", after), self._frames("every", every)
        if when is not None and not isinstance(when, str) and not callable(when):
            raise ModelError(f"machine {self.name!r}: when is text or a function of now, not {when!r}")
        # Such a rule is nearly always a guard that was forgotten, and it would look like a state that is skipped.
        if when is None and after is None and every is None:
            raise ModelError(
                f"machine {self.name!r}: the transition to {to!r} has neither when= nor after=, so it would fire at once, "
                "always; say when='true' where that is meant"
            )
        title = name or f"{'|'.join(sources)} to {SHOWN.get(to, to)}"
        rule = Transition(title, sources, to, when, frames, period, push, place_of_caller(), label)
        if any(other.name == rule.name for other in self.transitions):
            same = sum(other.name.split("#")[0] == rule.name for other in self.transitions)
            if name:
                raise ModelError(f"machine {self.name!r}: two transitions are called {name!r}")
            # Coverage and explanations go by the rule's name: two cannot share one.
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
        # Rules with the very same guard function are told apart from those that only have its name.
        twins: dict[Any, str] = {}
        order = [ANY, *self.states.in_order]
        listed = []
        for rule in self.transitions:
            listed.append(rule.outlined(twins.setdefault(rule.when, rule.name), order))
        rules = tuple(listed)
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
            self._hooks_by_name(),
            self._settings_in(order),
        )

    def _hooks_by_name(self) -> dict[str, dict[str, tuple[str, ...]]]:
        found: dict[str, dict[str, tuple[str, ...]]] = {}
        for kind, by_state in self._hooks.items():
            for state, hooks in by_state.items():
                found.setdefault(kind, {})[state] = tuple(map(called, hooks))
        return found

    def _settings_in(self, order: Iterable[str]) -> tuple[StateSetting, ...]:
        found = []
        for state in order:
            for part, attribute, value in self._settings.get(state, ()):
                found.append(StateSetting(state, part.name, attribute, value))
        return tuple(found)

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

    def _frames(self, what: str, duration: Duration | None) -> int:
        if duration is None:
            return 0
        return frames_in(duration, self.sim.rate, least=1, what=f"machine {self.name!r}: {what}")
