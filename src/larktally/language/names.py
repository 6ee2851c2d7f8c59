"""What a claim or a text guard may name: the channels, actions, events and settings of one trace or one sim."""

from __future__ import annotations

import fnmatch
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

import msgspec

from larktally.language.tree import Call, ChannelRef, Flag, Node, Number, Operation, Text
from larktally.timing import Rate
from larktally.traces.columns import Channel
from larktally.traces.trace import Trace

__all__ = ["Names", "matching_names", "names_of", "wraps_of"]


class Names(msgspec.Struct, frozen=True):
    """The names that exist; `where` is how messages call the thing that has them."""

    channels: Mapping[str, Channel]
    actions: Collection[str] = ()
    events: Collection[str] = ()
    settings: Mapping[str, object] = msgspec.field(default_factory=dict)
    rate: Rate | None = None
    where: str = "this trace"

    def setting(self, name: str) -> Node:
        """A setting as a constant of the language."""
        value = self.settings[name]
        if isinstance(value, bool):
            return Flag(value)
        if isinstance(value, int | float):
            # The tree has no negative numbers: a sign is an operation, as in the text.
            if value >= 0:
                return Number(value)
            return Operation("neg", (Number(-value),))
        return Text(str(value))


class _EventNames(Collection[str]):
    """The events that were declared, and after them those that were said all the same, in the order in which they were.

    Those of a run are gone through when one is asked for that was not declared.
    """

    def __init__(self, declared: Sequence[str], said: Sequence[str]) -> None:
        self._declared, self._said = declared, said

    @cached_property
    def _all(self) -> dict[str, None]:
        return dict.fromkeys([*self._declared, *self._said])

    def __contains__(self, name: object) -> bool:
        return name in self._declared or name in self._all

    def __iter__(self) -> Iterator[str]:
        return iter(self._all)

    def __len__(self) -> int:
        return len(self._all)


def matching_names(pattern: str, channels: Iterable[str]) -> list[str]:
    """The dotted names, channels or leading parts of such, with as many segments as a pattern, that match it; each once, in
    order."""
    depth = pattern.count(".") + 1
    names: dict[str, None] = {}
    for name in channels:
        segments = name.split(".")
        if len(segments) >= depth:
            names[".".join(segments[:depth])] = None
    return fnmatch.filter(names, pattern)


# What passes an angle on as it is, from another row or as of another time.
_PASSED_ON = ("prev", "seen", "latest")


def wraps_of(node: Node, names: Names) -> float | None:
    """What a whole turn is, where a node is an angle: a channel that says so, or that of another row; None elsewhere."""
    if isinstance(node, ChannelRef) and node.name in names.channels:
        return names.channels[node.name].wraps
    if isinstance(node, Call) and node.name in _PASSED_ON:
        return wraps_of(node.args[0], names)
    return None


def names_of(trace: Trace) -> Names:
    """The names that a trace holds: what was declared, and what occurred."""
    header = trace.header
    return Names(
        channels={name: trace.columns[name].channel for name in trace.channels},
        # A log has inputs and no declared actions.
        actions=tuple(dict.fromkeys([*header.actions, *trace.inputs])),
        events=_EventNames(header.events, trace.events.names),
        settings={**header.params, **header.settings},
        rate=header.rate,
    )
