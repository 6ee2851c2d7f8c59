"""Recording: a subject led through its frames, every row kept.

The loop that all runs go through is `_Recording.run`: what it needs is chosen before the first frame, rows are taken as
tuples, and whole chunks of them are checked and turned into columns.
"""

from __future__ import annotations

import fnmatch
import platform
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from operator import itemgetter
from pathlib import Path
from typing import Any

import numpy as np

import larktally
from larktally.claims import rows_where
from larktally.claims.claim import mentions_seen
from larktally.errors import LarkError, SubjectFailed, unknown_name
from larktally.inputs import Actions, InputFeed, InputScript
from larktally.inputs.view import check_within
from larktally.runs.answers import Answers
from larktally.runs.scenario import Scenario
from larktally.subject import (
    Event,
    Setup,
    Subject,
    SubjectLike,
    declared_names,
    events_of,
    innermost,
    make_subject,
    name_of,
)
from larktally.timing import Duration, Rate
from larktally.traces import Channel, Column, EventLog, Header, Trace
from larktally.traces.columns import Array, ChunkReader, RowError, check_channel_name, kind_of
from larktally.traces.header import PhaseOrder

__all__ = ["record", "as_scenario"]

CHUNK = 2048


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
) -> Trace:
    """Runs a scenario, or a subject with inputs, and returns its trace of frames + 1 rows.

    `only` keeps the channels that match its patterns (`"wick.*"`); `to` saves the trace under that name as well. What a
    scenario says and a keyword says again is an error. Raises SubjectFailed, with `.trace` up to the row before, where
    the subject raises, changes its channels or turns NaN.
    """
    scenario = as_scenario(subject, inputs=inputs, frames=frames, rate=rate, seed=seed, params=params)
    trace = _Recording(scenario, _patterns(only)).trace()
    if to is not None:
        trace.save(to)
    return trace


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

    def __init__(self, scenario: Scenario, only: re.Pattern[str] | None = None) -> None:
        self._scenario = scenario
        self._only = only
        self._events = EventLog()
        self._chunks: list[list[Array]] = []
        self._end: str | None = None
        self._rows_read = 0

    def trace(self) -> Trace:
        """Runs it; returns the whole trace, or raises SubjectFailed with what there is of it."""
        scenario = self._scenario
        self._setup = Setup(scenario.rate, scenario.seed, scenario.params)
        self._subject = make_subject(scenario.subject)
        self._begin()
        self._answers = Answers(self._feed, self._reader.channels, tuple(declared_names(self._inner, "events") or ()))
        failure = self._run()
        trace = self._finished(str(failure) if failure else None)
        if failure is None and scenario.until is None:
            return trace
        if scenario.until is not None:
            found = rows_where(trace, scenario.until)
            if len(found):
                return self._cut(trace, int(found[0]))
        if failure is None:
            return trace
        failure.trace = trace
        raise failure

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
            check_within(self._scenario.inputs.resolved(self._scenario.rate), int(self._scenario.frames))
            self._choose_rows(inner)
            first = self._take()
        except LarkError:
            raise
        except Exception as error:
            raise SubjectFailed(f"row 0: reset failed: {_shown(error)}", 0) from error
        self._inner: Any = inner
        self._pending = [first]
        self._note(0, said)

    def _choose_rows(self, inner: Any) -> None:
        """Chooses the function that makes a row: a sim's own, or one that reads `observe` in the order of row 0."""
        if hasattr(inner, "row") and hasattr(inner, "seen_row"):
            channels, self._take, self._step = list(inner.channels), inner.row, inner.step
            if self._scenario.seen or mentions_seen(self._scenario.claims):
                inner.watch_seen()
                channels += [Channel(f"seen:{c.name}", c.kind, c.labels) for c in channels]
                self._take = lambda: inner.row() + inner.seen_row()
            nan_ok: Any = self._scenario.allow_nan or getattr(inner, "nan_channels", ())
            closed: Iterable[str] = [channel.name for channel in channels if channel.kind == "label"]
        else:
            labels = dict(getattr(inner, "labels", None) or {})
            channels, self._take = _observed_channels(inner, labels)
            self._step = inner.step
            nan_ok, closed = self._scenario.allow_nan, labels
        if self._only is not None:
            kept = [n for n, channel in enumerate(channels) if self._only.fullmatch(channel.name.removeprefix("seen:"))]
            if not kept:
                raise LarkError(
                    f"only={self._only.pattern!r} keeps no channel; there are: {', '.join(c.name for c in channels[:12])}"
                )
            take, pick = self._take, itemgetter(*kept) if len(kept) > 1 else lambda row: (row[kept[0]],)
            channels, self._take = [channels[n] for n in kept], lambda: pick(take())
        self._reader = ChunkReader(channels, dict.fromkeys(closed), nan_ok)

    def _run(self) -> SubjectFailed | None:
        """All frames; what went wrong, where something did."""
        take, step, advance, pending = self._take, self._step, self._feed.advance, self._pending
        view, frames, row = self._feed.view, int(self._scenario.frames), 0
        answering = bool(self._feed.relative)
        try:
            if self._end is None:
                for row in range(1, frames + 1):
                    advance(row)
                    said = step(view)
                    if said:
                        self._note(row, events_of(said))
                    pending.append(take())
                    if said and self._end is not None:
                        break
                    if answering:
                        self._answers.look(row, pending[-1], self._events)
                    if len(pending) == CHUNK:
                        self._read_pending()
            self._read_pending()
        except RowError as error:
            return self._fail(error.row, str(error), error)
        except Exception as error:
            try:
                self._read_pending(row)
            except RowError as earlier:
                return self._fail(earlier.row, str(earlier), earlier)
            return self._fail(row, f"row {row}: step failed: {_shown(error)}", error)
        return None

    def _fail(self, row: int, message: str, cause: Exception) -> SubjectFailed:
        """Keeps the good rows before `row`, and says what went wrong with it."""
        wanted = row - self._rows_read
        self._pending = self._pending[: max(wanted, 0)]
        self._read_pending()
        keep = sum(1 for said in self._events.rows if said < row)
        self._events = self._events[:keep]
        failed = SubjectFailed(message, row)
        failed.__cause__ = None if isinstance(cause, RowError) else cause
        return failed

    def _read_pending(self, before: int | None = None) -> None:
        pending = self._pending if before is None else self._pending[: max(before - self._rows_read, 0)]
        if pending:
            self._chunks.append(self._reader.arrays(pending, self._rows_read))
            self._rows_read += len(pending)
        self._pending.clear()

    def _note(self, row: int, said: Iterable[Event]) -> None:
        for event in said:
            self._events.add(row, event.name, event.source, event.data)
            if event.name == "end":
                self._end = str(event.data.get("reason", "end"))

    def _finished(self, stopped: str | None) -> Trace:
        channels = self._reader.finished()
        arrays = [np.concatenate(parts) for parts in zip(*self._chunks, strict=True)] if self._chunks else []
        if not arrays:
            arrays = [np.empty(0, channel.dtype) for channel in channels]
        self._chunks.clear()
        rows = self._rows_read
        columns = {channel.name: Column(channel, array) for channel, array in zip(channels, arrays, strict=True)}
        inputs = _input_columns(self._feed, rows)
        return Trace(self._header(channels, tuple(inputs), stopped), columns, inputs, self._events)

    def _header(self, channels: Sequence[Channel], inputs: tuple[str, ...], stopped: str | None) -> Header:
        inner, scenario, actions = self._inner, self._scenario, self._feed.view.actions
        sim = hasattr(inner, "seen_row")
        declared = declared_names(inner, "events") or ()
        return Header(
            rate_text=str(scenario.rate),
            scenario=scenario.name,
            subject=name_of(scenario.subject),
            seed=scenario.seed,
            params=dict(scenario.params),
            settings=dict(self._setup.settings),
            channels=tuple(channels),
            inputs=inputs,
            actions=tuple(actions),
            analog=actions.analog,
            events=tuple(dict.fromkeys([*declared, *self._events.names])),
            order=tuple(PhaseOrder(phase, parts) for phase, parts in inner.order()) if sim else (),
            machines=inner.machines() if sim else {},
            level=inner.level.digest if sim else "",
            scene=inner.scene() if sim else {},
            allow_nan=scenario.allow_nan,
            partial=self._only is not None,
            end=self._end,
            stopped=stopped,
            made_with={"larktally": larktally.__version__, "python": platform.python_version()},
        )

    def _cut(self, trace: Trace, row: int) -> Trace:
        """The trace up to and with a row, as if the run had ended there."""
        columns = {name: Column(c.channel, c.stored[: row + 1].copy()) for name, c in trace.columns.items()}
        inputs = {name: values[: row + 1].copy() for name, values in trace.inputs.items()}
        self._events = trace.events.between(0, row)
        self._end = f"until {self._scenario.until}"
        return Trace(self._header(trace.header.channels, trace.header.inputs, None), columns, inputs, self._events)


def _observed_channels(
    subject: Subject, labels: Mapping[str, Sequence[str]]
) -> tuple[list[Channel], Callable[[], tuple[Any, ...]]]:
    first = subject.observe()
    if not isinstance(first, Mapping) or not first:
        raise LarkError(f"observe returned {first!r}; it returns a value for each channel: {{'wick.y': 16.0, …}}")
    for name in labels:
        if name not in first:
            raise LarkError(unknown_name("channel", name, first, "the first observation, although labels declares it"))
    channels = [_observed_channel(name, value, labels) for name, value in first.items()]
    names = tuple(first)
    pick = itemgetter(*names) if len(names) > 1 else (lambda row: (row[names[0]],))
    observe, count = subject.observe, len(names)

    def take() -> tuple[Any, ...]:
        row = observe()
        if len(row) != count:
            raise _other_channels(names, row)
        try:
            return pick(row)
        except KeyError:
            raise _other_channels(names, row) from None

    return channels, take


def _observed_channel(name: str, value: Any, labels: Mapping[str, Sequence[str]]) -> Channel:
    check_channel_name(name)
    kind = kind_of(value)
    if kind is None:
        raise SubjectFailed(
            f"row 0: channel {name!r} is {value!r} ({type(value).__name__}); a channel is a float, an int, a bool or a str",
            0,
        )
    return Channel(name, kind, tuple(labels.get(name, ())) if kind == "label" else ())


def _other_channels(names: Sequence[str], row: Mapping[str, Any]) -> LarkError:
    gone, new = [name for name in names if name not in row], [name for name in row if name not in names]
    said = [f"{gone} gone"] if gone else []
    said += [f"{new} new"] if new else []
    return LarkError(
        f"the channels are not those of row 0: {' and '.join(said)}; observe returns the same names in every row"
    )


def _input_columns(feed: InputFeed, rows: int) -> dict[str, Any]:
    """One float64 column for each action that is declared or was used, filled from change to change."""
    changes: dict[str, list[tuple[int, float]]] = {action: [] for action in feed.view.actions}
    for row, action, value in feed.noted:
        changes[action].append((row, value))
    columns = {}
    for action, noted in changes.items():
        column = columns[action] = np.zeros(rows)
        ends = [row for row, _ in noted[1:]] + [rows]
        for (row, value), end in zip(noted, ends, strict=False):
            column[row:end] = value
    return columns


def _patterns(only: str | Iterable[str] | None) -> re.Pattern[str] | None:
    if only is None:
        return None
    listed = (only,) if isinstance(only, str) else tuple(only)
    return re.compile("|".join(fnmatch.translate(pattern) for pattern in listed))


def _shown(error: Exception) -> str:
    return f"{type(error).__name__}: {error}" if not isinstance(error, LarkError) else str(error)
