"""Recording: a subject led through its frames, every row kept.

The loop that every frame goes through is `_Recording._run_rows`; what it needs is chosen before the first frame.
"""

from __future__ import annotations

import fnmatch
import platform
import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from larktally.claims import rows_where
from larktally.claims.claim import mentions_seen
from larktally.errors import LarkError, SubjectFailed
from larktally.inputs import Actions, InputFeed, InputScript
from larktally.inputs.view import check_within
from larktally.runs.answers import Answers
from larktally.runs.observing import Observations
from larktally.runs.rows import GATHER, Columns, Rows
from larktally.runs.scenario import Scenario
from larktally.subject import (
    Event,
    Setup,
    SubjectLike,
    declared_names,
    events_of,
    innermost,
    make_subject,
    name_of,
)
from larktally.timing import Duration, Rate
from larktally.traces import Channel, Column, EventLog, Header, Trace
from larktally.traces.columns import ChunkReader, RowError
from larktally.traces.header import PhaseOrder
from larktally.version import __version__

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
        self._end: str | None = None

    def trace(self) -> Trace:
        """Runs it; returns the whole trace, or raises SubjectFailed with what there is of it."""
        scenario = self._scenario
        self._setup = Setup(scenario.rate, scenario.seed, scenario.params)
        self._subject = make_subject(scenario.subject)
        self._begin()
        self._answers = Answers(self._feed, self._channels, tuple(declared_names(self._inner, "events") or ()))
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
            check_within(self._feed.script, int(self._scenario.frames))
            self._choose_rows(inner)
            first = self._take()
        except LarkError:
            raise
        except Exception as error:
            raise SubjectFailed(f"row 0: reset failed: {_shown(error)}", 0) from error
        self._inner: Any = inner
        self._rows.pending.append(first)
        self._note(0, said)

    def _choose_rows(self, inner: Any) -> None:
        """Chooses how rows are made and turned into columns: a sim's own tuples, or what `observe` returns."""
        scenario = self._scenario
        if hasattr(inner, "seen_row"):
            channels, self._take, self._step = list(inner.channels), inner.row, inner.step
            columns: Columns = lambda rows, first: zip(*rows, strict=True)  # noqa: E731
            if scenario.seen or mentions_seen(scenario.claims):
                inner.watch_seen()
                channels += [Channel(f"seen:{c.name}", c.kind, c.labels) for c in channels]
                self._take = lambda: inner.row() + inner.seen_row()
            nan_ok: Any = scenario.allow_nan or inner.nan_channels
            closed: Iterable[str] = [channel.name for channel in channels if channel.kind == "label"]
        else:
            closed = dict(getattr(inner, "labels", None) or {})
            observed = Observations(inner, closed)
            channels, self._take, columns, self._step = (
                observed.channels,
                observed.take,
                observed.columns,
                inner.step,
            )
            nan_ok = scenario.allow_nan
        kept = list(range(len(channels)))
        if self._only is not None:
            kept = [n for n in kept if self._only.fullmatch(channels[n].name.removeprefix("seen:"))]
            if not kept:
                names = ", ".join(channel.name for channel in channels[:12])
                raise LarkError(f"only= keeps no channel; there are: {names}")
            columns = _only(columns, frozenset(kept))
        self._channels = [channels[n] for n in kept]
        self._rows = Rows(ChunkReader(self._channels, closed, nan_ok), columns)

    def _run(self) -> SubjectFailed | None:
        """All frames; what went wrong, where something did."""
        row, frames = 1, int(self._scenario.frames)
        answering = bool(self._feed.relative)
        try:
            while row <= frames and self._end is None:
                row = self._run_rows(row, row + 1 if answering else min(row + GATHER, frames + 1))
                if answering:
                    self._answers.look(row - 1, self._rows.last(), self._events)
                if not answering or len(self._rows.pending) >= GATHER:
                    self._rows.gather()
            self._rows.gather()
            self._rows.store()
        except RowError as error:
            return self._fail(error.row, str(error), error)
        except Exception as error:
            row = self._feed.view.frame
            return self._fail(row, f"row {row}: step failed: {_shown(error)}", error)
        return None

    def _run_rows(self, row: int, stop: int) -> int:
        """The loop that every frame goes through: rows up to, not including, `stop`; the row after the last one made."""
        take, step, keep = self._take, self._step, self._rows.pending.append
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
        failed.__cause__ = None if isinstance(cause, RowError) else cause
        return failed

    def _note(self, row: int, said: Iterable[Event]) -> None:
        for event in said:
            self._events.add(row, event.name, event.source, event.data)
            if event.name == "end":
                self._end = str(event.data.get("reason", "end"))

    def _finished(self, stopped: str | None) -> Trace:
        rows = self._rows.count
        columns = {column.channel.name: column for column in self._rows.finished()}
        channels = [column.channel for column in columns.values()]
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
            outlines=inner.outlines() if sim else {},
            level=inner.level.digest if sim else "",
            scene=inner.scene() if sim else {},
            allow_nan=scenario.allow_nan,
            partial=self._only is not None,
            end=self._end,
            stopped=stopped,
            made_with={"larktally": __version__, "python": platform.python_version()},
        )

    def _cut(self, trace: Trace, row: int) -> Trace:
        """The trace up to and with a row, as if the run had ended there."""
        columns = {name: Column(c.channel, c.stored[: row + 1].copy()) for name, c in trace.columns.items()}
        inputs = {name: values[: row + 1].copy() for name, values in trace.inputs.items()}
        self._events = trace.events.between(0, row)
        self._end = f"until {self._scenario.until}"
        return Trace(self._header(trace.header.channels, trace.header.inputs, None), columns, inputs, self._events)


def _only(columns: Columns, kept: frozenset[int]) -> Columns:
    return lambda rows, first: [column for n, column in enumerate(columns(rows, first)) if n in kept]


def _input_columns(feed: InputFeed, rows: int) -> dict[str, Any]:
    """One float64 column for each action that is declared or was used, filled from change to change."""
    changes: dict[str, list[tuple[int, float]]] = {action: [] for action in feed.view.actions}
    for row, action, value in feed.noted:
        changes[action].append((row, value))
    return {action: _filled(noted, rows) for action, noted in changes.items()}


def _filled(changes: list[tuple[int, float]], rows: int) -> Any:
    """A column of `rows` values that begins with 0 and takes each change's value from its row on."""
    starts = np.array([0, *(row for row, _ in changes), rows]).clip(max=rows)
    return np.repeat(np.array([0.0, *(value for _, value in changes)]), np.diff(starts))


def _patterns(only: str | Iterable[str] | None) -> re.Pattern[str] | None:
    if only is None:
        return None
    listed = (only,) if isinstance(only, str) else tuple(only)
    return re.compile("|".join(fnmatch.translate(pattern) for pattern in listed))


def _shown(error: Exception) -> str:
    return f"{type(error).__name__}: {error}" if not isinstance(error, LarkError) else str(error)
