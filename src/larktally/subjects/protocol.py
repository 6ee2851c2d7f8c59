"""The two protocols: what a user's own object has to have, and what `runs/` sees of any subject.

The library calls nothing of a user's object but `reset`, `step` and `observe`, and `save` and `load` where it has both; it
reads nothing but `actions`, `events` and `labels`. Whatever else the object has is its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple, Protocol, TypeAlias, runtime_checkable

import msgspec

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.event import Event
from larktally.inputs.actions import Actions
from larktally.inputs.view import FrameInput
from larktally.setup import Setup
from larktally.traces.columns import Channel
from larktally.traces.header import PhaseOrder
from larktally.traces.outline import Outline

__all__ = [
    "Batch",
    "Model",
    "OutsideSubject",
    "RowReader",
    "RunnableSubject",
    "Subject",
    "SubjectInfo",
    "SubjectLike",
    "Value",
]

Value: TypeAlias = "float | int | bool | str"
#: A row as its subject hands it over: a tuple, a mapping; its own reader makes columns of it.
RawRow: TypeAlias = Any
Columns: TypeAlias = "Callable[[Sequence[RawRow], int], Iterable[Sequence[Value]]]"


@runtime_checkable
class Subject(Protocol):
    """Any object that can be reset, stepped and observed; no base class is needed.

    `observe` returns the same names with the same kinds in every row: float (a number), int (a count), bool (a flag) or
    str (a label). A subject may also have `actions`, `events` and `labels` (what can occur, although a run may not show
    it) and, together, `save() -> bytes` and `load(saved)`.
    """

    def reset(self, setup: Setup) -> Iterable[Event] | None:
        """Back to the beginning of a run."""

    def step(self, now: FrameInput) -> Iterable[Event] | None:
        """One frame on; the events of that frame, if there are any."""

    def observe(self) -> Mapping[str, Value]:
        """The value of every channel after the last reset or step."""


Model: TypeAlias = "Callable[[Setup], Subject]"
SubjectLike: TypeAlias = "Subject | type | Model"


class SubjectInfo(msgspec.Struct, frozen=True, kw_only=True):
    """What is known of a subject once it was reset.

    `closed` are the label channels that announced all they can be, `nan_channels` those that may be NaN. The rest stands in
    the header of its traces; a subject that is no sim, or no program, leaves it out.
    """

    channels: tuple[Channel, ...]
    actions: Actions
    events: tuple[str, ...] = ()
    closed: frozenset[str] = frozenset()
    nan_channels: frozenset[str] = frozenset()
    saves: bool = False
    order: tuple[PhaseOrder, ...] = ()
    unstepped: tuple[str, ...] = ()
    machines: Mapping[str, tuple[str, ...]] = msgspec.field(default_factory=dict)
    outlines: Mapping[str, Outline] = msgspec.field(default_factory=dict)
    level: str = ""
    scene: Mapping[str, Any] = msgspec.field(default_factory=dict)
    program: Mapping[str, Any] = msgspec.field(default_factory=dict)


class RowReader(NamedTuple):
    """How rows are read: `take` hands one over in the form that is cheapest to keep, `columns` makes columns of several,
    given the number of the first; `channels` are what the columns hold, in order."""

    channels: tuple[Channel, ...]
    take: Callable[[], RawRow]
    columns: Columns


#: A value for each frame of each action.
Inputs: TypeAlias = Mapping[str, Sequence[float]]
#: How many frames a message has, and their inputs.
Frames: TypeAlias = tuple[int, Inputs]


class Batch(NamedTuple):
    """Many frames taken at once: a column a channel, the events with their frames, and what went wrong, where something
    did; the columns then end before that frame."""

    columns: Sequence[Sequence[Value]]
    events: Sequence[tuple[int, Event]]
    failure: SubjectFailed | None


class RunnableSubject(Protocol):
    """A subject as `runs/` and all above it see it: made by `adapt`, never by hand.

    `step` and `reader` are attributes that hold callables, chosen when the run begins, so that the loop over frames calls
    what it has to and nothing else. `batch` is how many frames are taken at once; where it is more than 1, `step_many`
    takes them, and is told what `following` frames the next call will be for, where that is certain; `cut` says which of them
    was the last of the run. `target` is the object that is stepped: for people and debuggers, and for what explains it.
    """

    name: str

    @property
    def batch(self) -> int: ...
    @property
    def info(self) -> SubjectInfo: ...
    @property
    def target(self) -> object: ...
    @property
    def step(self) -> Callable[[FrameInput], Iterable[Event] | None]: ...
    def reset(self, setup: Setup) -> list[Event]: ...
    def reader(self, seen: bool) -> RowReader: ...
    def row(self) -> tuple[Value, ...]: ...
    def save(self) -> bytes: ...
    def load(self, saved: bytes) -> None: ...
    def finish(self) -> str: ...
    def step_many(self, first: int, frames: int, inputs: Inputs, following: Frames | None = None) -> Batch: ...
    def cut(self, frame: int, row: tuple[Value, ...]) -> None: ...


class OutsideSubject:
    """What runs outside of this process: it is told by this, so that what leads it is loaded only where there is one."""


def checked_events(emitted: Iterable[Event] | None) -> list[Event]:
    """The events that a reset or step returned, each checked to be one."""
    events = list(emitted or ())
    for event in events:
        if not isinstance(event, Event):
            raise LarkTallyError(f"a step returns events, lt.Event('name', …), not {event!r}")
    return events


def transposed(rows: Sequence[RawRow], first_row: int) -> Iterable[Sequence[Value]]:
    """The columns of rows that are tuples: what a reader whose subject checks its own rows does with them."""
    return zip(*rows, strict=True)
