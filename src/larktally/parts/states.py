"""The tree of a machine's states: `airborne/rising` is a child of `airborne`; only leaves are ever current."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from larktally.errors import ModelError
from larktally.names import unknown_name

__all__ = ["StateTree"]

_STATE = re.compile(r"[^\W\d][\w -]*(/[^\W\d][\w -]*)*")


class StateTree:
    """Declared states, their parents, and where one lands that is entered.

    `leaves` are the states that can be current, in the order of declaration; `composites` the others. Raises
    ModelError for names that are no names, that are declared twice, or an `initial` that does not exist.
    """

    def __init__(
        self, machine: str, states: Sequence[str], initial: Mapping[str, str], remember: Iterable[str]
    ) -> None:
        self.machine = machine
        if isinstance(states, str) or not states:
            raise ModelError(f"machine {machine!r} has states as a list of names, not {states!r}")
        for state in states:
            if not isinstance(state, str) or not _STATE.fullmatch(state):
                raise ModelError(f"machine {machine!r}: a state is a word, or words joined by '/', not {state!r}")
            if list(states).count(state) > 1:
                raise ModelError(f"machine {machine!r}: state {state!r} is declared twice")
        parents = {parent: None for state in states for parent in self._parents(state)}
        self.composites = tuple(parents)
        self.leaves = tuple(state for state in states if state not in parents)
        self._paths = {leaf: (*self._parents(leaf), leaf) for leaf in self.leaves}
        self._initial = {parent: self._first_child(parent, initial) for parent in self.composites}
        self.remember = frozenset(remember)
        for state in [*initial, *self.remember]:
            if state not in self.composites:
                raise ModelError(f"machine {machine!r}: {unknown_name('composite state', state, self.composites)}")
        self.chosen = {parent: self._initial[parent] for parent in initial}

    def check(self, state: str, besides: Iterable[str] = ()) -> None:
        """Raises ModelError with the nearest name for a state that does not exist."""
        if state not in self.leaves and state not in self.composites and state not in besides:
            raise ModelError(
                f"machine {self.machine!r}: {unknown_name('state', state, [*self.leaves, *self.composites])}"
            )

    @property
    def in_order(self) -> list[str]:
        """Every state, each parent right before what is inside it, otherwise as declared."""
        first: dict[str, int] = {}
        for number, leaf in enumerate(self.leaves):
            for state in self._paths[leaf]:
                first.setdefault(state, number)
        return sorted(first, key=lambda state: [first[one] for one in (*self._parents(state), state)])

    def path(self, leaf: str) -> tuple[str, ...]:
        """A leaf with all its parents, the outermost first."""
        return self._paths[leaf]

    def enter_at(self, state: str, history: Mapping[str, str]) -> str:
        """The leaf that is current once a state is entered: where it was, for one that remembers; its initial child."""
        self.check(state)
        while state not in self._paths:
            if state in self.remember:
                state = history.get(state, self._initial[state])
            else:
                state = self._initial[state]
        return state

    def path_between(self, source: str, target: str) -> tuple[list[str], list[str]]:
        """The states left, children first, and those entered, parents first; a leaf that is its own target is both."""
        out, into = self._paths[source], self._paths[target]
        shared = 0
        # Not the leaf itself: a rule from a state to itself leaves and enters it.
        while shared < min(len(out), len(into)) - 1 and out[shared] == into[shared]:
            shared += 1
        return list(reversed(out[shared:])), list(into[shared:])

    def note_left(self, left: str, leaf: str, history: dict[str, str]) -> None:
        """Notes the leaf in which a composite that remembers was left."""
        if left in self.remember:
            history[left] = leaf

    @staticmethod
    def _parents(state: str) -> tuple[str, ...]:
        words = state.split("/")
        found = []
        for n in range(1, len(words)):
            found.append("/".join(words[:n]))
        return tuple(found)

    def _first_child(self, parent: str, initial: Mapping[str, str]) -> str:
        depth = parent.count("/") + 2
        inside = []
        for state in [*self._paths, *self.composites]:
            if state.startswith(parent + "/"):
                inside.append(state)
        children = list(dict.fromkeys("/".join(state.split("/")[:depth]) for state in inside))
        if parent not in initial:
            return children[0]
        wanted = initial[parent]
        if wanted.startswith(parent + "/"):
            full = wanted
        else:
            full = f"{parent}/{wanted}"
        if full not in children:
            raise ModelError(
                f"machine {self.machine!r}: {unknown_name(f'child of {parent!r} called', wanted, children)}"
            )
        return full
