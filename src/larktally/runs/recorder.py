"""The recorder: an observer that makes a trace of a run, in memory or into a file."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.view import InputFeed
from larktally.names import matching
from larktally.runs.file_recording import FileRecording, stopped_path
from larktally.runs.heading import header_of
from larktally.runs.input_columns import InputColumns
from larktally.runs.observers import NEVER, End, RunObserver, RunStart, Stretch
from larktally.runs.rows import Rows, chunk_reader
from larktally.runs.runner import Runner
from larktally.runs.scenario import Scenario
from larktally.runs.stop_conditions import StopConditions
from larktally.traces.columns import Array, Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header
from larktally.traces.trace import Trace

__all__ = ["Recorder"]


class Recorder(RunObserver):
    """Keeps the rows of a run. `only` are patterns of the channels to keep, `to` the file that it goes into, `states` the rows
    whose saved state is kept."""

    def __init__(
        self,
        scenario: Scenario,
        *,
        only: Sequence[str] | None = None,
        to: Path | None = None,
        conditions: StopConditions | None = None,
        states: Sequence[int] = (),
        on_progress: Callable[[int, int], Any] | None = None,
    ) -> None:
        self._scenario, self._only, self._to = scenario, only, to
        self._conditions = conditions or StopConditions(None)
        self._on_progress = on_progress
        self._states_wanted: Iterator[int] = iter(states)
        # The rows wanted come in order, so that one number says whether this one is.
        self._next_state = next(self._states_wanted, NEVER)
        self._states: dict[int, bytes] = {}
        self._events = EventLog()
        # The first row in which each event was seen: where the run turns out to have ended earlier, later ones do not count.
        self._first_seen: dict[str, int] = {}
        self._file: FileRecording | None = None
        self._shown_events = 0

    def begin(self, run: RunStart) -> None:
        info, scenario = run.info, self._scenario
        if self._next_state != NEVER and not info.saves:
            raise LarkTallyError(f"states= needs a subject that can save and load; {self._title()} has no save")
        self._run = run
        names = []
        for channel in run.reader.channels:
            names.append(channel.name.removeprefix("seen:"))
        # One that matches nothing would silently keep less than was meant: `matching` refuses it.
        wanted = frozenset(names if self._only is None else matching(names, self._only, "only="))
        self._kept = [n for n, name in enumerate(names) if name in wanted]
        channels = [run.reader.channels[n] for n in self._kept]
        self._rows = Rows(chunk_reader(run, channels, scenario.allow_nan), keep=self._to is None)
        self._inputs = InputColumns(run.feed, forget=self._to is not None)
        # A plain recording in memory has nobody to show its chunks to.
        if self._to is not None or self._conditions.active:
            self._rows.sinks.append(self._stored)
        if self._to is not None:
            self._file = FileRecording(self._to, self._header(channels, self._inputs.names))
        if self._conditions.active:
            self._conditions.begin(self._interim_header(channels))

    def next_stop(self, row: int) -> int:
        if self._next_state >= row:
            return self._next_state
        return NEVER

    def rows(self, stretch: Stretch) -> None:
        # Copied only where some channels are left out: the columns are the runner's own lists of this stretch.
        columns = stretch.columns
        if len(self._kept) < len(columns):
            columns = [columns[n] for n in self._kept]
        self._events.extend(stretch.events)
        for row, name in zip(stretch.events.rows, stretch.events.names, strict=True):
            self._first_seen.setdefault(name, row)
        self._rows.take(columns, stretch.length)
        last = stretch.first + stretch.length - 1
        if last == self._next_state:
            self._states[last] = self._run.save()
            self._next_state = next(self._states_wanted, NEVER)
        if self._on_progress is not None and last:
            self._on_progress(last, int(self._scenario.frames))

    @property
    def may_stop(self) -> bool:  # type: ignore[override]
        return self._conditions.active

    def stopped_at(self, row: int) -> str | None:
        found = self._conditions.found
        if found is None:
            return None
        return found.reason

    def cut(self, row: int) -> None:
        self._rows.cut(row)
        self._rows.store()
        self._events = self._events[: bisect.bisect_left(self._events.rows, row)]
        self._first_seen = {name: first for name, first in self._first_seen.items() if first < row}
        self._states = {at: state for at, state in self._states.items() if at < row}

    def finish(self) -> None:
        self._rows.store()

    def finished(self, runner: Runner, failure: SubjectFailed | None, last: bool = True) -> Trace:
        """The trace of the run, in memory or in its file; under NAME.stopped where the subject failed. `last` is whether no other
        will be asked for: a run in memory may be put back and led on again."""
        found = self._conditions.last_look()
        end = runner.end
        if found is not None:
            end = found
        if found is None:
            rows = self._rows.count
        else:
            rows = found.row + 1
        # What failed after the row with which the run was over did not happen in it.
        stopped = None
        if failure is not None and found is None:
            stopped = str(failure)
        # Into the file before the conditions look: what they stop at is on the disk already.
        if self._file is not None:
            return self._into_file(self._file, rows, end, stopped)
        # Not the one that it began with: a run that was put back has other inputs.
        return self._in_memory(runner.feed, rows, end, stopped, last)

    def let_go(self) -> str:
        """Leaves a recording that does not come to its end; what is kept of it, as the end of a message."""
        if self._file is None:
            return ""
        return self._file.let_go()

    @property
    def ended_before_failing(self) -> bool:
        """Whether the run turned out to be over before the row in which its subject failed."""
        return self._conditions.found is not None

    def _stored(self, first: int, arrays: list[Array], count: int) -> None:
        """A chunk that is arrays now: into the file, and shown to the conditions."""
        inputs = self._inputs.take(count)
        stop = bisect.bisect_left(self._events.rows, first + count, lo=self._shown_events)
        events = self._events[self._shown_events : stop]
        self._shown_events = stop
        if self._file is not None:
            self._file.add(self._rows.channels, arrays, inputs, events.shifted(-first), count)
            self._events = self._events[stop:]
            self._shown_events = 0
        self._conditions.look(self._rows.channels, arrays, inputs, events, first, count)

    def _in_memory(self, feed: InputFeed, rows: int, end: End | None, stopped: str | None, last: bool) -> Trace:
        columns = {}
        for column in self._rows.finished(last):
            columns[column.channel.name] = column
        inputs = InputColumns(feed).take(self._rows.count)
        channels = [column.channel for column in columns.values()]
        header = self._header(channels, tuple(inputs), end, stopped, rows)
        events = self._events
        # Rows after the one with which the run was over: they were made before it was known.
        if rows < self._rows.count:
            columns = {name: Column(one.channel, one.stored[:rows].copy()) for name, one in columns.items()}
            inputs = {name: values[:rows].copy() for name, values in inputs.items()}
            events = events.between(0, rows - 1)
        states = {row: state for row, state in self._states.items() if row < rows}
        return Trace(header, columns, inputs, events, min(rows, self._rows.count), states)

    def _into_file(self, file: FileRecording, rows: int, end: End | None, stopped: str | None) -> Trace:
        header = self._header(self._rows.channels, self._inputs.names, end, stopped, rows)
        states = {row: state for row, state in self._states.items() if row < rows}
        if stopped is not None:
            path = stopped_path(file.path)
        else:
            path = file.path
        return file.finished(header, states, path, rows)

    def _header(
        self,
        channels: Sequence[Channel],
        inputs: tuple[str, ...],
        end: End | None = None,
        stopped: str | None = None,
        rows: int = NEVER,
    ) -> Header:
        return header_of(
            self._scenario,
            self._run,
            channels=channels,
            inputs=inputs,
            seen_events=[name for name, first in self._first_seen.items() if first < rows],
            filtered=self._only is not None,
            end=None if end is None else end.reason,
            stopped=stopped,
        )

    def _interim_header(self, channels: Sequence[Channel]) -> Header:
        return self._header(channels, self._inputs.names)

    def _title(self) -> str:
        return self._scenario.title
