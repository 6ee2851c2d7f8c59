"""Never left: a machine that stands in its start state although its trigger came, again and again."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen
from larktally.errors import LarkTallyError
from larktally.language.parsing import parse
from larktally.language.tree import Call, Node, Operation, to_text, walk

__all__ = ["look"]

NAME = "never left"
_TRIGGERS = ("pressed", "released", "event")


def look(seen: Seen) -> Iterator[Finding]:
    """A start state that is never left, where a rule's press or event came at least twice, and one other part of its guard never
    held in any row.

    Not: a machine that nothing asked to move; a part that is itself an input which no script presses.
    """
    for name, outline in seen.trace.header.outlines.items():
        column = seen.trace.columns.get(name)
        if column is None or (column.stored != column.stored[0]).any():
            continue
        state = str(column.at(0))
        for rule in outline.tried_in(state):
            found = _missing_part(seen, rule.when)
            if found is None:
                continue
            trigger, rows, missing = found
            told = (
                f"stays {state!r} all along: {trigger} came in {rows_text(rows, len(rows))}, and {missing} never held"
            )
            claim = f"follows({trigger}, {name} != {state!r}, within=1)"
            place, more = seen.place_of(name, rule.name), why_command(rows[0])
            yield Finding(NAME, name, told, "likely", tuple(rows[:3]), len(rows), place, claim, more, 3)
            break


def _missing_part(seen: Seen, guard: str) -> tuple[str, list[int], str] | None:
    """The trigger of a guard, its rows, and the one other part that never held; None where it is not so."""
    try:
        tree = parse(guard) if guard else None
    except LarkTallyError:
        return None
    if not isinstance(tree, Operation) or tree.op != "and":
        return None
    held: dict[Node, list[int]] = {}
    for part in tree.args:
        try:
            seen.read.kind(part)
            held[part] = np.flatnonzero(seen.read.flags(part)).tolist()
        except (LarkTallyError, NotImplementedError):
            return None
    triggers = [
        part for part in tree.args if isinstance(part, Call) and part.name in _TRIGGERS and len(held[part]) >= 2
    ]
    missing = [part for part in tree.args if not held[part]]
    if not triggers or len(missing) != 1 or _is_input(missing[0]):
        return None
    return to_text(triggers[0]), held[triggers[0]], to_text(missing[0])


def _is_input(node: Node) -> bool:
    return any(
        isinstance(one, Call) and one.name in ("pressed", "released", "held", "value", "axis") for one in walk(node)
    )
