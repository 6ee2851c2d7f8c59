"""Transitions: the rules of a machine, and what was found when one was considered."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple, TypeAlias

import msgspec

from larktally.code_places import lambda_text
from larktally.errors import ModelError
from larktally.language.reading import Guard
from larktally.parts.context import StepContext
from larktally.traces.outline import Rule

__all__ = ["Transition", "RuleTrial", "Hook", "called"]

Hook: TypeAlias = Callable[[StepContext], Any]


class Transition(msgspec.Struct, eq=False):
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
    reads: Callable[[], list[tuple[str, Guard]]] | None = None

    def __call__(self, action: Hook) -> Hook:
        if self.action is not None:
            raise ModelError(f"transition {self.name!r} has an action already")
        self.action = action
        return action

    def what_it_reads(self) -> list[tuple[str, Guard]]:
        """What its text guard reads, each with a function for its value; made when it is first asked for."""
        if self.reads is None:
            return []
        return self.reads()

    @property
    def guard_text(self) -> str:
        """The guard as a reader sees it: its text, or the function's name."""
        if self.when is None:
            return ""
        if isinstance(self.when, str):
            return self.when
        return self.label or guard_name(self.when)

    def due(self, age: int) -> bool:
        """Whether the state has lasted long enough, and this is a row in which the rule is looked at."""
        # In the step that entered the state, where several are taken in one, no frame of it has gone yet.
        return age >= self.after and (not self.every or (age > 0 and age % self.every == 0))

    def outlined(self, twin: str, order: list[str]) -> Rule:
        """The rule as plain data, its sources in the machine's order of states."""
        text = ""
        if isinstance(self.when, str):
            text = self.when
        asks = self.guard_text
        if self.when is None or text:
            asks = ""
        does = ""
        if self.action:
            does = called(self.action)
        sources = tuple(sorted(self.sources, key=order.index))
        return Rule(self.name, sources, self.target, text, asks, self.after, self.every, self.push, does, twin)


class RuleTrial(NamedTuple):
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


def guard_name(guard: Any) -> str:
    """What a guard that is a function is shown as: its name, or what a lambda says."""
    name = called(guard)
    if name == "lambda" and hasattr(guard, "__code__"):
        return lambda_text(guard.__code__) or name
    return name


def called(function: Any) -> str:
    """What a function is called, for readers."""
    return str(getattr(function, "__name__", type(function).__name__)).replace("<lambda>", "lambda")
