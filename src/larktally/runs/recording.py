"""Recording: a subject led through its frames, every row kept.

The loop that every frame goes through is `_Recording._run_rows`; what it needs is chosen before the first frame.
"""

from __future__ import annotations

import bisect
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from larktally.errors import LarkError, SubjectFailed
from larktally.inputs import Actions, InputFeed, InputScript
from larktally.inputs.view import check_within
from larktally.parts.now import Now
from larktally.parts.part import Part
from larktally.parts.strays import no_such_attribute
from larktally.runs.answers import Answers
from larktally.runs.endings import Endings
from larktally.runs.heading import header_of
from larktally.runs.into_file import FileRecording, input_columns, stopped_path
from larktally.runs.rows import GATHER, Rows
from larktally.runs.scenario import Scenario
from larktally.runs.sources import row_source
from larktally.subject import (
    Event,
    Setup,
    SubjectLike,
    can_save,
    declared_names,
    events_of,
    innermost,
    make_subject,
    name_of,
)
from larktally.timing import Duration, Rate
from larktally.traces import Channel, EventLog, Header, Trace
from larktally.traces.columns import RowError
from larktally.traces.files import writer_for

__all__ = ["record", "as_scenario"]


def record(
    subject: Scenario | SubjectLike,
    inputs: InputScript | None = None,
    *,
    frames: Duration | None = None,
    rate: Rate | int | str | None = None,
    seed: int | None = None,
    params: Mapping[str, Any] | None = None,
    only: str | Iterable[str] | None = None,
    to: str | Path | None = None,
    states: int | Iterable[int] | None = None,
    stop_at_breach: bool = False,
    watch: Callable[[int, int], Any] | None = None,
) -> Trace:
    """Runs a scenario, or a subject with inputs, and returns its trace of frames + 1 rows.

    `only` keeps the channels that match its patterns (`"wick.*"`). `to` records into that file while it runs: until it
    is whole it is called NAME.partial, and memory stays flat however long the run is; the trace returned reads the file
    when its rows are first looked at. `states` keeps the subject's saved state in those rows, or in every so-manieth,
    so that a run goes on from there. `stop_at_breach` ends the run with the first row that breaks one of the scenario's
    claims for good. `watch(row, frames)` is called now and then, for a progress bar.

    What a scenario says and a keyword says again is an error. Raises SubjectFailed, with `.trace` up to the row before,
    where the subject raises, changes its channels or turns NaN; then NAME.stopped is what is kept of a file.
    """
    scenario = as_scenario(subject, inputs=inputs, frames=frames, rate=rate, seed=seed, params=params)
    claims = scenario.claims if stop_at_breach else ()
    run = _Recording(
        scenario, _patterns(only), to, Endings(scenario.until, claims), _state_rows(states, scenario), watch
    )
    return run.trace()


def as_scenario(subject: Scenario | SubjectLike, **said: Any) -> Scenario:
    """The scenario of a recording; raises LarkError where it and a keyword say the same thing, or neither says frames."""
    given = {key: value for key, value in said.items() if value is not None}
    if isinstance(subject, Scenario):
        if given:
            key = next(iter(given))
            raise LarkError(f"the scenario says {key} already; leave {key}= out, or use scenario.changed({key}=…)")
        return subject
    if "frames" not in given:
        raise LarkError("record needs frames=: how long to run")
    return Scenario(subject, **given)


class _Recording:
    """One run being recorded."""

    def __init__(
        self,
        scenario: Scenario,
        only: tuple[str, ...] | None,
        to: str | Path | None,
        endings: Endings,
        state_rows: Sequence[int],
        watch: Callable[[int, int], Any] | None,
    ) -> None:
        self._scenario = scenario
        self._only = only
        self._to = None if to is None else Path(to)
        self._endings = endings
        self._state_rows = state_rows
        self._watch = watch
        self._events = EventLog()
        self._said: dict[str, None] = {}
        self._end: str | None = None
        self._states: dict[int, bytes] = {}
        self._file: FileRecording | None = None
        if self._to is not None:
            writer_for(self._to)

    def trace(self) -> Trace:
        """Runs it; returns the whole trace, or raises SubjectFailed with what there is of it."""
        scenario = self._scenario
        self._setup = Setup(scenario.rate, scenario.seed, scenario.params)
        self._subject = make_subject(scenario.subject)
        self._begin()
        self._answers = Answers(self._feed, self._channels, tuple(declared_names(self._inner, "events") or ()))
        if self._to is not None and not self._endings.active:
            self._file = FileRecording(
                self._to, self._feed, self._header(self._channels, tuple(self._feed.view.actions), None)
            )
            self._rows.sink = self._to_file
        failure = self._run()
        trace = self._whole(failure)
        if failure is None:
            return trace
        failure.trace = trace
        raise failure

    def _whole(self, failure: SubjectFailed | None) -> Trace:
        """The finished trace, where it is kept: in memory, in a file, or in both."""
        stopped = str(failure) if failure else None
        if self._file is not None:
            header = self._header(self._rows.channels, tuple(self._feed.view.actions), stopped)
            return self._file.finished(header, self._states, failed=failure is not None)
        trace = self._finished(stopped)
        found = self._endings.find(trace) if self._endings.active else None
        if found is not None:
            trace = self._cut(trace, *found)
        trace.states = {row: state for row, state in self._states.items() if row < trace.rows}
        if self._to is not None:
            trace.save(stopped_path(self._to) if failure and found is None else self._to)
        return trace

    def _to_file(self, first: int, arrays: list[Any], rows: int) -> None:
        """Hands a chunk and its events over to the file."""
        assert self._file is not None
        count = bisect.bisect_left(self._events.rows, first + rows)
        self._file.add(self._rows.channels, arrays, first, rows, self._events[:count])
        self._events = self._events[count:]

    def _begin(self) -> None:
        """Row 0: reset, the channels it shows, and how rows are taken from then on."""
        try:
            said = list(events_of(self._subject.reset(self._setup)))
            inner: Any = innermost(self._subject)
            actions = (
                inner.actions
                if isinstance(getattr(inner, "actions", None), Actions)
                else Actions(declared_names(inner, "actions"))
            )
            self._feed = InputFeed(self._scenario.inputs, actions, self._scenario.rate)
            check_within(self._feed.script, int(self._scenario.frames))
            self._source = row_source(inner, self._scenario, self._only)
            self._channels, self._rows = self._source.channels, Rows(self._source.reader, self._source.columns)
            first = self._source.take()
        except LarkError:
            raise
        except Exception as error:
            raise SubjectFailed(f"row 0: reset failed: {_shown(error)}", 0) from error
        self._inner: Any = inner
        if self._state_rows and not can_save(inner):
            raise LarkError(
                f"states= needs a subject that can save and load; {name_of(self._scenario.subject)} has no save"
            )
        self._rows.pending.append(first)
        self._note(0, said)

    def _run(self) -> SubjectFailed | None:
        """All frames; what went wrong, where something did."""
        row, frames = 1, int(self._scenario.frames)
        answering = bool(self._feed.relative)
        wanted = iter(self._state_rows)
        state_row = next(wanted, 2**62)
        run, size = (self._run_batch, self._inner.batch) if self._source.batched else (self._run_rows, GATHER)
        try:
            while True:
                if state_row == row - 1:
                    self._states[state_row] = bytes(self._inner.save())
                    state_row = next(wanted, 2**62)
                if row > frames or self._end is not None:
                    break
                stop = row + 1 if answering else min(row + size, frames + 1, state_row + 1)
                row = run(row, stop)
                if answering:
                    self._answers.look(row - 1, self._take_last(), self._events)
                if not answering or len(self._rows.pending) >= GATHER:
                    self._gathered(row, frames)
            self._rows.gather()
            self._rows.store()
            strayed = self._inner.strayed() if hasattr(self._inner, "strayed") else ""
            if strayed:
                raise SubjectFailed(strayed, row)
        except RowError as error:
            return self._fail(error.row, str(error), error)
        except SubjectFailed as failed:
            return self._fail(failed.row, str(failed), failed)
        except Exception as error:
            row = self._feed.view.frame
            return self._fail(row, f"row {row}: step failed: {_shown(error)}", error)
        return None

    def _gathered(self, row: int, frames: int) -> None:
        """What is done now and then: rows into columns, progress, and a look at whether the run has to end."""
        self._rows.gather()
        if self._watch is not None:
            self._watch(row, frames)
        if row >= self._endings.next:
            columns = {column.channel.name: column for column in self._rows.so_far()}
            inputs = input_columns(self._feed, 0, self._rows.count)
            header = self._header([c.channel for c in columns.values()], tuple(inputs), None)
            if self._endings.find(Trace(header, columns, inputs, self._events, self._rows.count)) is not None:
                self._end = "found"

    def _run_rows(self, row: int, stop: int) -> int:
        """The loop that every frame goes through: rows up to, not including, `stop`; the row after the last one made."""
        take, step, keep = self._source.take, self._source.step, self._rows.pending.append
        view, due, advance = self._feed.view, self._feed.due, self._feed.advance
        made = row
        for made in range(row, stop):
            if made in due:
                advance(made)
            else:
                view.frame = made
            said = step(view)
            if said:
                self._note(made, events_of(said))
                keep(take())
                if self._end is not None:
                    break
            else:
                keep(take())
        return made + 1

    def _run_batch(self, row: int, stop: int) -> int:
        """The same for a subject that takes many frames at once: rows up to, not including, `stop`."""
        view, feed = self._feed.view, self._feed
        inputs: dict[str, list[float]] = {name: [] for name in view.actions}
        for frame in range(row, stop):
            feed.advance(frame)
            for name, values in inputs.items():
                values.append(view.value_by[name])
        columns, said, failure = self._inner.step_many(row, stop - row, inputs)
        made = row + len(columns[0])
        for frame, event in said:
            self._note(frame, (event,))
            if self._end is not None:
                made = min(made, frame + 1)
                break
        self._rows.take([columns[n][: made - row] for n in self._source.kept])
        if failure is not None and self._end is None:
            raise failure
        return made

    def _take_last(self) -> tuple[Any, ...]:
        """The values of the row that came last."""
        if not self._source.batched:
            return self._rows.last()
        row = self._inner.row()
        return tuple(row[n] for n in self._source.kept)

    def _fail(self, row: int, message: str, cause: Exception) -> SubjectFailed:
        """Keeps the good rows before `row`, and says what went wrong; an earlier row that does not fit comes first."""
        self._rows.cut(row)
        try:
            self._rows.gather()
            self._rows.store()
        except RowError as earlier:
            return self._fail(earlier.row, str(earlier), earlier)
        self._events = self._events[: sum(said < row for said in self._events.rows)]
        failed = SubjectFailed(message, row)
        failed.__cause__ = None if isinstance(cause, RowError | SubjectFailed) else cause
        return failed

    def _note(self, row: int, said: Iterable[Event]) -> None:
        for event in said:
            self._events.add(row, event.name, event.source, event.data)
            self._said[event.name] = None
            if event.name == "end":
                self._end = str(event.data.get("reason", "end"))

    def _finished(self, stopped: str | None) -> Trace:
        rows = self._rows.count
        columns = {column.channel.name: column for column in self._rows.finished()}
        channels = [column.channel for column in columns.values()]
        inputs = input_columns(self._feed, 0, rows)
        return Trace(self._header(channels, tuple(inputs), stopped), columns, inputs, self._events, rows)

    def _header(self, channels: Sequence[Channel], inputs: tuple[str, ...], stopped: str | None) -> Header:
        return header_of(
            self._scenario,
            self._inner,
            self._setup,
            self._feed.view.actions,
            channels=tuple(channels),
            inputs=inputs,
            seen_events=self._said,
            partial=self._only is not None,
            end=self._end,
            stopped=stopped,
        )

    def _cut(self, trace: Trace, row: int, why: str) -> Trace:
        """The trace up to and with a row, as if the run had ended there."""
        events = trace.events.between(0, row)
        self._end, self._said = why, dict.fromkeys(events.names)
        header = self._header(trace.header.channels, trace.header.inputs, None)
        return trace.taken(slice(row + 1), events, header)


def _state_rows(states: int | Iterable[int] | None, scenario: Scenario) -> Sequence[int]:
    """The rows in which a saved state is kept, in order."""
    frames = int(scenario.frames)
    if states is None:
        return ()
    if isinstance(states, int):
        if states < 1:
            raise LarkError(
                f"states= keeps one in every n-th row, n at least 1, or in the rows it lists, not {states!r}"
            )
        return range(0, frames + 1, states)
    rows = sorted(set(states))
    if rows and not 0 <= rows[0] <= rows[-1] <= frames:
        raise LarkError(f"states= lists rows 0..{frames}, not {rows[0] if rows[0] < 0 else rows[-1]}")
    return rows


def _patterns(only: str | Iterable[str] | None) -> tuple[str, ...] | None:
    if only is None:
        return None
    return (only,) if isinstance(only, str) else tuple(only)


def _shown(error: Exception) -> str:
    if isinstance(error, AttributeError) and isinstance(error.obj, Part | Now):
        return no_such_attribute(error.obj, error.name or "")
    return f"{type(error).__name__}: {error}" if not isinstance(error, LarkError) else str(error)
