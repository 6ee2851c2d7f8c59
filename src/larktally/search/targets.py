"""What a search is after: states and rules of machines, values of labels; and how near a row came to a rule."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple, TypeAlias

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError
from larktally.language.parsing import parse
from larktally.language.reading import evaluator, typecheck
from larktally.language.tree import Call, ChannelRef, Compare, Node, Operation, to_text
from larktally.traces.outline import ANY, Outline, Rule
from larktally.traces.trace import Trace

__all__ = ["Nearest", "Target", "distances", "labels_reached", "nearest", "targets_of"]

# What is no number is as far as a number that is a good way off; what is pressed is near, since it can be.
FAR, PRESSED = 0.8, 0.1


Distance: TypeAlias = npt.NDArray[np.float64]


class Target(NamedTuple):
    """A state of a machine, or a rule of it, or a value of a label, or that it changes to it from another, `before`; `claim` is
    broken by the run that reaches it."""

    about: str
    name: str
    is_rule: bool
    before: str = ""

    def __str__(self) -> str:
        if self.before:
            return f"{self.about}: {self.before} → {self.name}"
        if self.is_rule:
            return f"rule {self.name!r} of {self.about}"
        return f"{self.about} == {self.name!r}"

    @property
    def claim(self) -> str:
        """What says that it is never reached."""
        return f"never({self.condition})"

    @property
    def condition(self) -> str:
        """What holds in the row in which it is."""
        if self.is_rule:
            return f"event('changed', source={self.about!r}, by={self.name!r})"
        if self.before:
            return f"prev({self.about}) == {self.before!r} and {self.about} == {self.name!r}"
        return f"{self.about} == {self.name!r}"


@dataclass(frozen=True, slots=True)
class Nearest:
    """How near a run came to a rule: the row, the parts of the guard that did not hold there, and the distance of each."""

    row: int
    score: float
    missing: tuple[str, ...]

    def __str__(self) -> str:
        told = f"nearest in row {self.row}"
        if self.missing:
            told += f": {', '.join(self.missing)}"
        return told


def targets_of(outlines: Mapping[str, Outline]) -> list[Target]:
    """Every state that can be current, and every rule."""
    found = []
    for name, outline in outlines.items():
        found += [Target(name, state, False) for state in outline.leaves]
        found += [Target(name, rule.name, True) for rule in outline.rules]
    return found


def distances(trace: Trace, outline: Outline, rule: Rule) -> tuple[Distance, list[tuple[str, Distance]]]:
    """How far each row is from letting a rule be taken: infinite where its machine is in no state that the rule starts from.

    Each part of the guard has its own distance, 0 where it holds.
    """
    states = trace[outline.name]
    there = np.ones(trace.rows, dtype=bool)
    if ANY not in rule.sources:
        there = np.array([_is_in(str(state), rule.sources) for state in states])
    parts: list[tuple[str, Distance]] = []
    scope = outline.name.rpartition(".")[0]
    for node in _conjuncts(rule.when):
        far = _part(trace, _in_scope(node, scope, trace))
        if far is not None:
            parts.append((to_text(node), far))
    if rule.after and f"{outline.name}.age" in trace.columns:
        age = trace[f"{outline.name}.age"].astype(np.float64)
        parts.append((f"after {rule.after}f", _near(rule.after - age)))
    total = np.zeros(trace.rows)
    for _, far in parts:
        total = total + far
    return np.where(there, total, np.inf), parts


def _is_in(state: str, sources: Sequence[str]) -> bool:
    return any(state == source or state.startswith(f"{source}/") for source in sources)


def _conjuncts(text: str) -> Iterator[Node]:
    """The parts of a guard that have to hold together."""
    try:
        waiting: list[Node] = []
        if text:
            waiting.append(parse(text))
    except LarkTallyError:
        return
    while waiting:
        node = waiting.pop(0)
        if isinstance(node, Operation) and node.op == "and":
            waiting = [*node.args, *waiting]
        else:
            yield node


def _in_scope(node: Node, scope: str, trace: Trace) -> Node:
    """A guard of a machine in a scope with the whole names of its channels: there gap means moth.1.gap."""
    if isinstance(node, Operation | Compare | Call):
        return msgspec.structs.replace(node, args=tuple(_in_scope(one, scope, trace) for one in node.args))
    own = f"{scope}.{node.name}" if isinstance(node, ChannelRef) else ""
    if isinstance(node, ChannelRef) and node.name not in trace.columns and own in trace.columns:
        return msgspec.structs.replace(node, name=own)
    return node


def _part(trace: Trace, node: Node) -> Distance | None:
    """How far each row is from a part of a guard; None for one that a trace does not tell."""
    read = evaluator(trace)
    try:
        typecheck(node, read.names)
        holds = np.asarray(read.column(node)).astype(bool)
    except LarkTallyError:
        return None
    text = to_text(node)
    far = np.full(trace.rows, FAR)
    if text.startswith(("pressed(", "held(", "released(")):
        far = np.full(trace.rows, PRESSED)
    if isinstance(node, Compare) and len(node.ops) == 1:
        try:
            one, other = (np.asarray(read.column(side), dtype=np.float64) for side in node.args)
            far = _near(np.abs(one - other))
        except (LarkTallyError, ValueError):
            pass
    return np.where(holds, 0.0, far)


def _near(distance: Distance) -> Distance:
    """A distance between 0 and 1 that always tells nearer from farther."""
    with np.errstate(all="ignore"):
        size = np.maximum(np.nan_to_num(distance, nan=np.inf), 0.0)
        shown = size / (size + 8.0)
    return np.where(np.isfinite(size), shown, 1.0) + np.where(size > 0, 1e-9, 0.0)


def nearest(trace: Trace, first: int, outline: Outline, rule: Rule) -> Nearest | None:
    """The row that came nearest to a rule; None where its machine was never in a state that it starts from."""
    total, parts = distances(trace, outline, rule)
    if not np.isfinite(total).any():
        return None
    at = int(np.argmin(total))
    missing = tuple(text for text, far in parts if far[at] > 0)
    return Nearest(first + at, float(total[at]), missing)


def labels_reached(trace: Trace, names: Sequence[str]) -> Iterator[tuple[str, str, int]]:
    """Each value of some labels, with the first row that has it."""
    for name in names:
        column = trace.columns[name]
        for code in np.unique(column.stored):
            yield name, column.channel.labels[int(code)], int(np.argmax(column.stored == code))
