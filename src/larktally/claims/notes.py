"""Notes on claims: strings of event data that are asked for and that no run shows. Nothing declares them, so that a wrong one is
no error; it would be a claim that nothing can break."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple, Protocol

import msgspec

from larktally.claims.claim import Claim
from larktally.language.columns import Evaluator, text_of
from larktally.language.functions.observed import fields_wanted
from larktally.language.tree import IT, Call, Compare, Membership, Node, Text, to_text, walk
from larktally.names import did_you_mean
from larktally.traces.events import carries, comes_from

__all__ = ["notes_on"]

MOST_NAMED = 8


class _Judged(Protocol):
    """A result, as its notes read it."""

    @property
    def claim(self) -> Claim: ...
    @property
    def evaluator(self) -> Evaluator: ...


class _Asked(NamedTuple):
    """A value that a field of an event's data is asked to have, in a claim."""

    claim: str
    event: str
    source: str | None
    field: str
    value: object
    shown_as: str


def notes_on(results: Iterable[_Judged]) -> list[str]:
    """A line for each value of event data that a claim asks for and that none of these runs shows, although the event fell."""
    seen: dict[_Asked, dict[object, None]] = {}
    found: set[_Asked] = set()
    for result in results:
        for asked in _asked_in(result.claim):
            values = seen.setdefault(asked, {})
            for value in _carried(result.evaluator, asked):
                if isinstance(value, str | int | float):
                    values[value] = None
                if carries({asked.field: value}, ((asked.field, asked.value),)):
                    found.add(asked)
    notes = []
    for asked, values in seen.items():
        if asked not in found and values:
            notes.append(_note(asked, list(values)))
    return notes


def _note(asked: _Asked, values: list[object]) -> str:
    listed = ", ".join(map(repr, values[:MOST_NAMED])) + (", …" if len(values) > MOST_NAMED else "")
    near = ""
    if isinstance(asked.value, str):
        near = did_you_mean(asked.value, [value for value in values if isinstance(value, str)])
    return (
        f"note: {asked.claim}: {asked.shown_as}: no {asked.event!r} carried {asked.field} = {asked.value!r} here{near}; "
        f"there were {listed}"
    )


def _asked_in(claim: Claim) -> Iterator[_Asked]:
    for node in walk(claim.tree):
        shown = to_text(node)[:80]
        if isinstance(node, Call) and node.name in ("event", "events", "data", "text"):
            for field, value in fields_wanted(node):
                if not (isinstance(value, str) and IT in value):
                    yield _Asked(claim.name, text_of(node.args[0]), _source(node), field, value, shown)
        for text, value in _texts_compared(node):
            yield _Asked(claim.name, text_of(text.args[0]), _source(text), text_of(text.args[1]), value, shown)


def _texts_compared(node: Node) -> Iterator[tuple[Call, str]]:
    """Each text(…) that a node compares with a string, and that string; "" is what is there without an event."""
    if isinstance(node, Compare):
        for one, other in zip(node.args, node.args[1:], strict=False):
            for side, string in ((one, other), (other, one)):
                if isinstance(side, Call) and side.name == "text" and isinstance(string, Text) and string.value:
                    yield side, string.value
    elif isinstance(node, Membership) and isinstance(node.item, Call) and node.item.name == "text":
        for option in node.options:
            if isinstance(option, Text) and option.value:
                yield node.item, option.value


def _source(node: Call) -> str | None:
    return text_of(node.option("source")) or None


def _carried(read: Evaluator, asked: _Asked) -> Iterator[object]:
    """What the events carry in that field: each text of data once."""
    texts = set()
    for _, name, by, text in read.trace.events.fields():
        if name == asked.event and text and text not in texts and comes_from(by, asked.source):
            texts.add(text)
            data = msgspec.json.decode(text)
            if asked.field in data:
                yield data[asked.field]
