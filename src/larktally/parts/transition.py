"""Transitions: the rules of a machine, and what was found when one was considered."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple, TypeAlias

from larktally.errors import ModelError
from larktally.parts.guards import Guard
from larktally.parts.now import Now
from larktally.places import lambda_text
from larktally.traces.outline import Rule

__all__ = ["Transition", "Considered", "Hook", "called"]

Hook: TypeAlias = Callable[[Now], Any]


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
    every: int
    push: bool
    place: str
    label: str = ""
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
        return self.when if isinstance(self.when, str) else self.label or said_by(self.when)

    def due(self, age: int) -> bool:
        """Whether the state has lasted long enough, and this is a row in which the rule is looked at."""
        return age >= self.after and (not self.every or age % self.every == 0)

    def outlined(self, twin: str, order: list[str]) -> Rule:
        """The rule as plain data, its sources in the machine's order of states."""
        text = self.when if isinstance(self.when, str) else ""
        asks = "" if self.when is None or text else self.guard_text
        does = called(self.action) if self.action else ""
        sources = tuple(sorted(self.sources, key=order.index))
        return Rule(self.name, sources, self.target, text, asks, self.after, self.every, self.push, does, twin)


class Considered(NamedTuple):
    """A rule as it was considered in one row: whether it was due and its guard held, the values that it read, and the
    file and line where it is declared."""

    transition: str
    target: str
    guard: str
    due: bool
    holds: bool
    note: str
    read: dict[str, Any]
    place: str


def said_by(guard: Any) -> str:
    """What a guard that is a function is shown as: its name, or what a lambda says."""
    name = called(guard)
    return (lambda_text(guard.__code__) or name) if name == "lambda" and hasattr(guard, "__code__") else name


def called(function: Any) -> str:
    """What a function is called, for readers."""
    return str(getattr(function, "__name__", type(function).__name__)).replace("<lambda>", "lambda")
