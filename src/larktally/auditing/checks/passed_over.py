"""Passed over: a rule that waits for a number to equal another, which it steps over."""

from __future__ import annotations

import ast
import inspect
import textwrap
from collections.abc import Iterator
from pathlib import Path
from types import FunctionType
from typing import NamedTuple

import numpy as np

from larktally.auditing.finding import Finding, why_command
from larktally.auditing.seen import Seen
from larktally.code_places import is_own
from larktally.errors import LarkTallyError
from larktally.language.parsing import parse
from larktally.language.tree import ChannelRef, Compare, Node, Number, Operation, to_text, walk
from larktally.traces.columns import Column

__all__ = ["look"]

NAME = "passed over"


class _Wait(NamedTuple):
    """What waits for a channel to equal a number: who, in which words, and where it stands."""

    about: str
    text: str
    channel: str
    constant: float
    place: str


def look(seen: Seen) -> Iterator[Finding]:
    """A guard with `==` (or `!=`) between a number that moves and a constant, which it goes past without ever being it; and the
    same in the code of a user's own class, where an attribute is shown as a channel.

    Not: a count that is put back to where it begins; numbers that are set to what they are compared with. What is compared in
    functions outside of the class is not read.
    """
    for wait in (*_of_rules(seen), *_of_own_code(seen)):
        column = seen.trace.columns.get(wait.channel)
        if column is None or column.channel.kind not in ("number", "count"):
            continue
        row = _passed(column, wait.constant)
        if row is None:
            continue
        before, after = column.at(row - 1), column.at(row)
        told = (
            f"{wait.text} is never true: {wait.channel} goes from {before!r} in row {row - 1} to {after!r} in row {row}"
        )
        claim = f"eventually({wait.channel} == {wait.constant:g})"
        yield Finding(NAME, wait.about, told, "sure", (row - 1, row), 1, wait.place, claim, why_command(row), 3)


def _of_rules(seen: Seen) -> Iterator[_Wait]:
    for machine, outline in seen.trace.header.outlines.items():
        for rule in outline.rules:
            for node in _equalities(rule.when):
                name, constant = _sides(node)
                place = seen.place_of(machine, rule.name)
                yield _Wait(f"{machine}: {rule.name}", to_text(node), name, constant, place)


def _of_own_code(seen: Seen) -> Iterator[_Wait]:
    """`self.hp == 50` in the methods of a user's own class, as far as its source is there."""
    subject = seen.scenario.subject if seen.scenario is not None else None
    if subject is None or isinstance(subject, FunctionType):
        return
    kind = subject if isinstance(subject, type) else type(subject)
    try:
        file = inspect.getsourcefile(kind) or ""
        lines, first = inspect.getsourcelines(kind)
        tree = ast.parse(textwrap.dedent("".join(lines)))
    except (OSError, TypeError, SyntaxError):
        return
    if is_own(file):
        return
    for node in ast.walk(tree):
        attribute, constant = _own_sides(node)
        for name in seen.trace.channels if attribute else ():
            if name.rpartition(".")[2] == attribute:
                yield _Wait(name, ast.unparse(node), name, constant, f"{Path(file).name}:{first + node.lineno - 1}")  # type: ignore[attr-defined]


def _own_sides(node: ast.AST) -> tuple[str, float]:
    """The attribute and the constant of `self.x == 3`; "" where it is of anything else."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and isinstance(node.ops[0], ast.Eq):
        for one, other in ((node.left, node.comparators[0]), (node.comparators[0], node.left)):
            own = isinstance(one, ast.Attribute) and isinstance(one.value, ast.Name) and one.value.id == "self"
            if own and isinstance(other, ast.Constant) and type(other.value) in (int, float):
                return one.attr, float(other.value)  # type: ignore[attr-defined, arg-type]
    return "", 0.0


def _equalities(text: str) -> Iterator[Compare]:
    try:
        tree = parse(text) if text else None
    except LarkTallyError:
        return
    for node in walk(tree) if tree is not None else ():
        if isinstance(node, Compare) and node.ops == ("==",) and _sides(node)[0]:
            yield node


def _sides(node: Compare) -> tuple[str, float]:
    """The channel and the constant of an equality; "" where it is of anything else."""
    for one, other in (node.args, node.args[::-1]):
        value = _constant(other)
        if isinstance(one, ChannelRef) and value is not None:
            return one.name, value
    return "", 0.0


def _constant(node: Node) -> float | None:
    match node:
        case Number(value):
            return float(value)
        case Operation("neg", (Number(value),)):
            return -float(value)
    return None


def _passed(column: Column, constant: float) -> int | None:
    """The first row in which a number is beyond a constant that it was before in the row before, where it never is it."""
    values = column.stored.astype(np.float64)
    if (values == constant).any():
        return None
    steps = np.diff(values)
    crossed = (values[:-1] - constant) * (values[1:] - constant) < 0
    if column.channel.kind == "count" and crossed.any():
        # A count goes one way in steps of its own; the other way it is put back.
        usual = np.median(steps[steps != 0])
        crossed &= (steps * usual > 0) & (np.abs(steps) <= 2 * abs(usual))
    rows = np.flatnonzero(crossed)
    return int(rows[0]) + 1 if len(rows) else None
