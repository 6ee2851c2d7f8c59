"""Who watches a run: what the runner hands over, stretch by stretch."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from larktally.inputs.view import InputFeed
from larktally.setup import Setup
from larktally.subjects.protocol import RowReader, SubjectInfo, Value
from larktally.traces.events import EventLog

__all__ = ["NEVER", "End", "RunObserver", "RunStart", "Stretch"]

#: A row that no run reaches.
NEVER = 2**62


class RunStart(NamedTuple):
    """What a run begins with: its subject's name and what is known of it, how its rows are read and its state saved, its
    inputs, and what the model read."""

    name: str
    info: SubjectInfo
    reader: RowReader
    feed: InputFeed
    setup: Setup
    save: Callable[[], bytes]


class End(NamedTuple):
    """How a run ended before its last frame: with which row, and why."""

    row: int
    reason: str


class Stretch(NamedTuple):
    """So many rows that were made, as columns: one a channel, in the order of the reader's. The first row has the number
    `first`; `events` are what was emitted in them, rows counted from row 0."""

    first: int
    length: int
    columns: Sequence[Sequence[Value]]
    events: EventLog


class RunObserver:
    """Watches a run; each method may be left as it is. What one raises ends the run."""

    def begin(self, run: RunStart) -> None:
        """Row 0 is about to be handed over."""

    def next_stop(self, row: int) -> int:
        """The next row, `row` or later, after which the observer has to be asked before the subject goes on."""
        return NEVER

    def rows(self, stretch: Stretch) -> None:
        """Some rows more."""

    #: Whether `stopped_at` may ever say that the run is over: where it may, no frame is made before it was asked.
    may_stop = False

    def stopped_at(self, row: int) -> str | None:
        """Asked after each stretch: a reason to end the run with this row, None to go on."""
        return None

    def finish(self) -> None:
        """The last row was handed over. Raises RowError for a row that does not fit."""

    def cut(self, row: int) -> None:
        """The rows from `row` on did not happen: the run failed there, or went back. Raises RowError for an earlier row
        that does not fit."""
