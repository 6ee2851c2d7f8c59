"""A log, or several of one run, as a trace: which rows there are, what stands in them, and what happened."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

import numpy as np
from msgspec import structs

from larktally.errors import LarkTallyError, TraceError
from larktally.names import did_you_mean
from larktally.timing import Rate, RateLike, as_rate
from larktally.traces.contents import TraceContents, contents_from_columns
from larktally.traces.events import EventLog
from larktally.traces.formats.logs.counting import Counted, positions, rows_held
from larktally.traces.formats.logs.happenings import channels_of, counted_of, events_of, happenings, split_names
from larktally.traces.formats.logs.kinds import channel_values, input_values, labels_of
from larktally.traces.formats.logs.log_tables import Array, LogTable, log_table
from larktally.traces.formats.logs.mapping import HELD_ROW, LogMapping, read_mapping
from larktally.traces.formats.logs.told import few

__all__ = ["read_log"]


class _Part(NamedTuple):
    """What one log gives: arrays of so many rows by channel, `input:NAME` for an input, and the events; how its lines were
    counted, and in how many rows it held what was before."""

    given: dict[str, Array]
    events: EventLog
    counted: Counted
    rows: int


def read_log(path: Path, mapping: Path, rate: RateLike | None = None) -> TraceContents:
    """A log as a trace; raises TraceError naming the mapping's key, or the log's line, that does not fit."""
    rules = read_mapping(mapping)
    told: RateLike | None = rules.rate
    if rate is not None:
        told = rate
    # Outside of the try, so that only the rate's own message is given the mapping's name.
    exact = None
    try:
        if told is not None:
            exact = as_rate(told)
    except LarkTallyError as error:
        raise TraceError(f"{mapping}: {error}") from None
    main = _read(path, f"{path} through {mapping}", rules, exact, None)
    given, events = dict(main.given), main.events
    labels, wraps = _labels(rules), _angles(rules)
    for number, also in enumerate(rules.also, 1):
        where = f"{also.path} through {mapping}: also {number}"
        part = _read(Path(also.path), where, also, main.counted.rate, main)
        for name, values in part.given.items():
            # Each of them may say that it held a row: then it is held.
            if name == HELD_ROW and name in given:
                given[name] = given[name] | values
            elif name in given:
                raise TraceError(f"{where}: {name!r} is in another log too; rename one of them, or leave it out")
            else:
                given[name] = values
        events = _merged(events, part.events)
        labels |= _labels(also)
        wraps |= _angles(also)
    try:
        found = contents_from_columns(
            given.items(),
            main.counted.rate,
            events=events,
            labels=labels,
            wraps=wraps,
            subject=path.name,
            rows=main.rows,
        )
    except LarkTallyError as error:
        raise TraceError(f"{path} through {mapping}: {error}") from None
    if rules.every == 1:
        return found
    header = structs.replace(found.header, every=rules.every)
    return TraceContents(header, found.columns, found.inputs, found.events, found.rows)


def _read(path: Path, where: str, rules: LogMapping, rate: Rate | None, main: _Part | None) -> _Part:
    """One log; of another beside it, `main`, it has the same rows."""
    first = None
    if main is not None:
        first = main.counted.first if rules.first is None else rules.first
    if rules.kind == "table":
        return _of_table(path, where, rules, rate, first, None if main is None else main.rows)
    found = happenings(path, where, rules)
    counted = counted_of(path, rules, found, rate, first)
    rows = int(counted.rows[-1]) + 1
    if main is not None:
        late = counted.rows >= main.rows
        if late.any():
            at = int(late.argmax())
            told = f"it belongs to row {counted.rows[at]}, and the run has {main.rows} rows"
            raise TraceError(f"{path}, line {found[at].line}: {told}")
        rows = main.rows
    given = channels_of(path, where, rules, found, counted.rows, rows)
    return _Part(given, events_of(rules, path, found, counted.rows), counted, rows)


def _of_table(
    path: Path, where: str, rules: LogMapping, rate: Rate | None, first: float | None, rows: int | None
) -> _Part:
    table = log_table(path, rules)
    used = rules.used()
    for column, key in used.items():
        if column not in table.columns:
            near = did_you_mean(column, table.columns)
            raise TraceError(f"{where}: {key}: no column {column!r}{near}; there are: {few(table.columns)}")
    values = table.columns[rules.counting]
    if not len(values):
        # No row, and so none that is wrong.
        counted = Counted(np.zeros(0, np.int64), 0.0, rate)
        return _Part(_channels(where, rules, table, used), EventLog(), counted, 0)
    counted = positions(rules, values, table.place, rate, first)
    source, held = rows_held(rules, counted, values, table.place, rows)
    given = _channels(where, rules, table, used)
    if rules.gaps == "hold":
        given = {name: values[source] for name, values in given.items()}
        given[HELD_ROW] = held
    return _Part(given, _events(rules, table.columns, counted.rows), counted, len(source))


def _channels(where: str, rules: LogMapping, table: LogTable, used: Mapping[str, str]) -> dict[str, Array]:
    given: dict[str, Array] = {}
    for name, one in rules.columns.items():
        given[name] = channel_values(where, name, one, table.columns[one.column], table.place)
    given |= input_values(where, rules, table.columns)
    if rules.rest == "keep":
        for name, values in table.columns.items():
            if name not in used:
                given[name] = values
    return given


def _events(rules: LogMapping, table: Mapping[str, Array], at: Array) -> EventLog:
    """The names in the events column, several of a row joined by the separator."""
    log = EventLog()
    if not rules.events:
        return log
    names = table[rules.events]
    sources = [""] * len(names)
    if rules.events_source:
        sources = table[rules.events_source].tolist()
    for row, named, source in zip(at.tolist(), names.tolist(), sources, strict=True):
        if isinstance(named, float) and np.isnan(named):
            continue
        for name in split_names(str(named), rules.events_separator):
            if name.strip():
                log.add(row, name.strip(), str(source), {})
    return log


def _merged(one: EventLog, other: EventLog) -> EventLog:
    """The events of two logs by their rows; in a row, those of the first come first."""
    log = EventLog()
    for row, name, source, text in sorted([*one.fields(), *other.fields()], key=lambda fields: fields[0]):
        log.append(row, name, source, text)
    return log


def _labels(rules: LogMapping) -> dict[str, tuple[str, ...]]:
    found = {}
    for name, one in rules.columns.items():
        if one.labels:
            found[name] = labels_of(one)
    return found


def _angles(rules: LogMapping) -> dict[str, float]:
    """The channels that are angles, with what a whole turn of each is."""
    found = {}
    for name, one in rules.columns.items():
        if one.wraps is not None:
            found[name] = one.wraps
    return found
