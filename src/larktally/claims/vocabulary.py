"""What a claim or a text guard may name: the channels, actions, events and settings of one trace or one sim."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

from larktally.timing import Rate
from larktally.traces.columns import Channel
from larktally.traces.trace import Trace

__all__ = ["Vocabulary", "vocabulary_of"]


@dataclass(frozen=True, slots=True)
class Vocabulary:
    """The names that exist. `where` is how messages call the thing; `rows` bounds what `at` may ask, if known."""

    channels: Mapping[str, Channel]
    actions: Collection[str] = ()
    events: Collection[str] = ()
    settings: Mapping[str, Any] = field(default_factory=dict)
    rate: Rate | None = None
    where: str = "this trace"


def vocabulary_of(trace: Trace) -> Vocabulary:
    """The names that a trace holds: what was declared, and what occurred."""
    header = trace.header
    return Vocabulary(
        channels={name: trace.columns[name].channel for name in trace.channels},
        actions=tuple(dict.fromkeys([*header.actions, *trace.inputs])),
        events=tuple(dict.fromkeys([*header.events, *trace.events.names])),
        settings={**header.params, **header.settings},
        rate=header.rate,
    )
