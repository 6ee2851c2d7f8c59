"""Several adapted subjects led as one: their rows side by side, their names in front of what they say."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Mapping, Sequence

import msgspec
from msgspec import structs

from larktally.errors import LarkTallyError
from larktally.event import Event
from larktally.inputs.actions import Action, Actions
from larktally.inputs.view import FrameInput
from larktally.setup import Setup
from larktally.subjects.protocol import (
    Batch,
    Frames,
    Inputs,
    RawRow,
    RowReader,
    RunnableSubject,
    SubjectInfo,
    Value,
    checked_events,
)
from larktally.traces.columns import Channel

__all__ = ["CompositeAdapter"]


class CompositeAdapter:
    """What runs a CompositeSubject: each of its subjects through its own adapter."""

    batch = 1
    # The word that headers have had for it from the first: a header is part of the digest, and outlives a class's name.
    name = "Together"

    def __init__(self, target: object, subjects: Mapping[str, RunnableSubject]) -> None:
        self.target = target
        self._subjects = dict(subjects)

    @functools.cached_property
    def info(self) -> SubjectInfo:
        actions: dict[str, Action] = {}
        events: dict[str, None] = {}
        closed: list[str] = []
        unknown: list[str] = []
        for name, one in self._subjects.items():
            info = one.info
            for action in info.actions.all():
                actions.setdefault(action.name, action)
            events.update(dict.fromkeys(info.events))
            closed += [f"{name}.{channel}" for channel in info.closed]
            for channel in info.nan_channels:
                unknown.append(f"{name}.{channel}")
        declared = all(one.info.actions.declared for one in self._subjects.values())
        return SubjectInfo(
            channels=self._channels(),
            actions=Actions(actions.values() if declared or actions else None),
            events=tuple(events),
            closed=frozenset(closed),
            nan_channels=frozenset(unknown),
            saves=all(one.info.saves for one in self._subjects.values()),
        )

    def reset(self, setup: Setup) -> list[Event]:
        events: list[Event] = []
        for name, one in self._subjects.items():
            # A setup of its own, so that a param that only one of them reads is none that nobody read.
            own = Setup(setup.rate, setup.seed, setup.params)
            events += _from(name, one.reset(own))
            setup.settings.update(own.settings)
        return events

    def step(self, now: FrameInput) -> list[Event]:
        """One frame on, one after the other."""
        events: list[Event] = []
        for name, one in self._subjects.items():
            events += _from(name, checked_events(one.step(now)))
        return events

    def reader(self, seen: bool) -> RowReader:
        readers = []
        for one in self._subjects.values():
            readers.append(one.reader(False))

        def take() -> RawRow:
            found = []
            for reader in readers:
                found.append(reader.take())
            return found

        def columns(rows: Sequence[RawRow], first_row: int) -> Iterable[Sequence[Value]]:
            for n, reader in enumerate(readers):
                yield from reader.columns([row[n] for row in rows], first_row)

        return RowReader(self._channels(), take, columns)

    def row(self) -> tuple[Value, ...]:
        found = []
        for one in self._subjects.values():
            for value in one.row():
                found.append(value)
        return tuple(found)

    def save(self) -> bytes:
        for name, one in self._subjects.items():
            if not one.info.saves:
                raise LarkTallyError(f"subject {name!r} cannot save and load")
        return msgspec.msgpack.encode({name: one.save() for name, one in self._subjects.items()})

    def load(self, saved: bytes) -> None:
        for name, state in msgspec.msgpack.decode(saved, type=dict[str, bytes]).items():
            self._subjects[name].load(state)

    def finish(self) -> str:
        return next(filter(None, (one.finish() for one in self._subjects.values())), "")

    def step_many(self, first: int, frames: int, inputs: Inputs, following: Frames | None = None) -> Batch:
        raise NotImplementedError("several subjects are stepped frame by frame")

    def cut(self, frame: int, row: tuple[Value, ...]) -> None:
        raise NotImplementedError("several subjects are stepped frame by frame")

    def _channels(self) -> tuple[Channel, ...]:
        channels = []
        for name, one in self._subjects.items():
            channels += [structs.replace(c, name=f"{name}.{c.name}") for c in one.info.channels]
        return tuple(channels)


def _from(name: str, events: Iterable[Event]) -> list[Event]:
    """Events with a subject's name before the part that emitted them."""
    found: list[Event] = []
    for one in events:
        found.append(Event(one.name, f"{name}.{one.source}" if one.source else name, **one.data))
    return found
