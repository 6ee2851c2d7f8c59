"""The outline of a machine: its states and rules as plain data, which stands in a trace's header.

What is drawn, covered, inspected and exchanged is read from outlines, so that a trace says all of it without its model.
"""

from __future__ import annotations

from typing import Any

import msgspec

__all__ = ["Outline", "Rule", "StateSetting", "ANY", "BACK", "STAY"]

# None of them can be a state's name, which begins with a letter.
ANY, BACK, STAY = "*", "<", "="


class Rule(msgspec.Struct, frozen=True, omit_defaults=True):
    """One transition. `when` is its guard as text, `asks` the name of the function that is its guard, or what a lambda says;
    `does` is the name of its action; `after` and `every` are frames; `twin` is the first rule that has the same guard."""

    name: str
    sources: tuple[str, ...]
    target: str
    when: str = ""
    asks: str = ""
    after: int = 0
    every: int = 0
    push: bool = False
    does: str = ""
    twin: str = ""

    @property
    def condition(self) -> str:
        """The whole condition as a reader sees it."""
        conditions = [self.when or (f"{self.asks}()" if self.asks.isidentifier() else self.asks)]
        if self.after:
            conditions += [f"after {self.after}f"]
        if self.every:
            conditions += [f"every {self.every}f"]
        return ", ".join(filter(None, conditions))


class StateSetting(msgspec.Struct, frozen=True):
    """A setting of a part that holds while a state is current."""

    state: str
    part: str
    attribute: str
    value: Any = None


class Outline(msgspec.Struct, frozen=True, omit_defaults=True):
    """A machine as it was declared. `states` are all that were named, in order; `hooks` the names of the functions that
    run on enter, during and leave of each state."""

    name: str
    states: tuple[str, ...]
    start: str
    initial: dict[str, str] = {}
    remember: tuple[str, ...] = ()
    final: tuple[str, ...] = ()
    order: str = "transition-first"
    settle: int = 1
    rules: tuple[Rule, ...] = ()
    hooks: dict[str, dict[str, tuple[str, ...]]] = {}
    settings: tuple[StateSetting, ...] = ()

    @property
    def leaves(self) -> tuple[str, ...]:
        """The states that can be current."""
        found = []
        for state in self.states:
            if not any(s.startswith(state + "/") for s in self.states):
                found.append(state)
        return tuple(found)

    @property
    def composites(self) -> tuple[str, ...]:
        """The states with states inside, each parent before its children."""
        found: dict[str, None] = {}
        for leaf in self.leaves:
            found |= dict.fromkeys(parents_of(leaf))
        return tuple(found)

    def tried_in(self, leaf: str) -> tuple[Rule, ...]:
        """The rules that are tried in a state, in that order: its own, its parents', those of any state."""
        ranks = [leaf, *reversed(parents_of(leaf)), ANY]
        found = []
        for state in ranks:
            for rule in self.rules:
                if state in rule.sources:
                    found.append(rule)
        return tuple(found)

    def landing(self, state: str) -> set[str]:
        """The leaves in which one may land that enters a state: one, or all inside where it remembers."""
        if state in self.leaves:
            return {state}
        below = state + "/"
        if state in self.remember:
            found: set[str] = set()
            for leaf in self.leaves:
                if leaf.startswith(below):
                    found.add(leaf)
            return found
        child = self.initial.get(state)
        if child is None:
            # As a machine does: the child that was named first.
            depth = state.count("/") + 2
            first = next(one for one in (*self.leaves, *self.composites) if one.startswith(below))
            child = "/".join(first.split("/")[:depth])
        return self.landing(child if child.startswith(below) else below + child)


def parents_of(state: str) -> tuple[str, ...]:
    """The states around a state, the outermost first."""
    words = state.split("/")
    found = []
    for n in range(1, len(words)):
        found.append("/".join(words[:n]))
    return tuple(found)
