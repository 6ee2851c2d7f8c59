"""Passed over: a rule that waits for a number to equal another, which it steps over."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, why_command
from larktally.auditing.seen import Seen
from larktally.errors import LarkTallyError
from larktally.language.parsing import parse
from larktally.language.tree import ChannelRef, Compare, Node, Number, Operation, to_text, walk
from larktally.traces.columns import Column

__all__ = ["look"]

NAME = "passed over"


def look(seen: Seen) -> Iterator[Finding]:
    """A guard with `==` (or `!=`) between a number that moves and a constant, which it goes past without ever being it.

    Not: counts, and numbers that are set to what they are compared with.
    """
    for machine, outline in seen.trace.header.outlines.items():
        for rule in outline.rules:
            for node in _equalities(rule.when):
                name, constant = _sides(node)
                column = seen.trace.columns.get(name)
                if column is None or column.channel.kind != "number":
                    continue
                row = _passed(column, constant)
                if row is None:
                    continue
                told = (
                    f"{to_text(node)} is never true: {name} goes from {float(column.stored[row - 1])!r} in row {row - 1} to "
                    f"{float(column.stored[row])!r} in row {row}"
                )
                claim = f"eventually({to_text(node)})"
                place, more = seen.place_of(machine, rule.name), why_command(row)
                yield Finding(NAME, f"{machine}: {rule.name}", told, "sure", (row - 1, row), 1, place, claim, more, 3)


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
    crossed = np.flatnonzero((values[:-1] - constant) * (values[1:] - constant) < 0)
    return int(crossed[0]) + 1 if len(crossed) else None
