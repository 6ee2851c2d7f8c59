"""Logs that say only what happens: a line an event, or lines of text that a pattern reads; values are held between them."""

from __future__ import annotations

import csv
import re
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from larktally.errors import TraceError
from larktally.names import did_you_mean
from larktally.timing import Rate
from larktally.traces.columns import check_events, check_size
from larktally.traces.events import EventLog
from larktally.traces.formats.logs.counting import Counted, positions
from larktally.traces.formats.logs.kinds import channel_values, input_values
from larktally.traces.formats.logs.log_tables import Array, json_objects, log_format
from larktally.traces.formats.logs.mapping import ColumnMapping, LogMapping
from larktally.traces.formats.logs.told import as_json, few

__all__ = ["Happening", "channels_of", "counted_of", "events_of", "happenings", "split_names", "value_of"]

MOST_LINE = 1_000_000
_WHOLE, _NUMBER = re.compile(r"[+-]?\d{1,18}"), re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?|[+-]?(nan|inf)")
_FLAGS = {"true": True, "True": True, "TRUE": True, "false": False, "False": False, "FALSE": False}


class Happening(NamedTuple):
    """A line that says something: its number, what it says by column, and an event that its pattern stands for, or ""."""

    line: int
    said: dict[str, Any]
    event: str


def happenings(path: Path, where: str, rules: LogMapping) -> list[Happening]:
    """The lines of a log that say something; raises TraceError naming the line, or the key that no line has."""
    if rules.kind == "lines":
        found = list(_matched(path, where, rules))
    elif log_format(path, rules) == "csv":
        found = list(_cells(path, rules))
    elif log_format(path, rules) == "jsonl":
        found = [Happening(line, said, "") for line, said in json_objects(path)]
    else:
        raise TraceError(f"{where}: kind = 'events' reads JSON Lines and CSV; a Parquet file is a table")
    if not found:
        raise TraceError(f"{path}: empty: no line in it says anything")
    known: dict[str, None] = {}
    for one in found:
        known |= dict.fromkeys(one.said)
    _check_said(where, rules, known)
    return found


def _check_said(where: str, rules: LogMapping, known: Collection[str]) -> None:
    """Raises TraceError for a column that no line has, where that is a slip; what a run may well not say, such as a button that
    nobody pressed, is none."""
    started = {one.column for one in rules.columns.values() if one.start is not None}
    needed = {rules.counting, *(one.column for one in rules.columns.values())} - started
    for column, key in rules.used().items():
        near = did_you_mean(column, known)
        if column not in known and (near or column in needed):
            raise TraceError(f"{where}: {key}: no line has {column!r}{near}; there are: {few(known)}")


def _cells(path: Path, rules: LogMapping) -> Iterator[Happening]:
    """The lines of a CSV; an empty cell says nothing."""
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.reader(file, delimiter=rules.delimiter)
            names = next(reader, [])
            for cells in reader:
                line = reader.line_num
                if not cells:
                    continue
                if len(cells) != len(names):
                    raise TraceError(f"{path}, line {line}: {len(cells)} cells, and {len(names)} columns in line 1")
                said = {}
                for name, text in zip(names, cells, strict=True):
                    if text.strip():
                        said[name] = value_of(text.strip(), rules.decimal)
                yield Happening(line, said, "")
    except (csv.Error, UnicodeDecodeError) as error:
        raise TraceError(f"{path}: broken CSV: {error}") from None


def _matched(path: Path, where: str, rules: LogMapping) -> Iterator[Happening]:
    """The lines that a pattern fits, the first that does; all others say nothing that is asked for."""
    # An engine whose time goes with the line's length, whatever the pattern: a mapping may come from anywhere.
    import re2  # type: ignore[import-untyped]

    patterns = []
    for number, one in enumerate(rules.patterns, 1):
        try:
            patterns.append((re2.compile(one.text), one.event))
        except re2.error as error:
            raise TraceError(f"{where}: pattern {number}: {_said(error)}") from None
        if not patterns[-1][0].groupindex and not one.event:
            raise TraceError(f"{where}: pattern {number} has no named group, (?P<name>…), and stands for no event")
    with path.open("rb") as file:
        for number, raw in enumerate(iter(lambda: file.readline(MOST_LINE + 1), b""), 1):
            if len(raw) > MOST_LINE:
                raise TraceError(f"{path}, line {number}: longer than {MOST_LINE} bytes, which is no line of a log")
            text = raw.decode("utf-8", "replace").rstrip("\r\n")
            for pattern, event in patterns:
                match = pattern.search(text)
                if match is None:
                    continue
                said = {}
                for name, found in match.groupdict().items():
                    if found is not None:
                        said[name] = value_of(found, rules.decimal)
                yield Happening(number, said, event)
                break


def _said(error: Exception) -> str:
    found = error.args[0] if error.args else error
    return found.decode("utf-8", "replace") if isinstance(found, bytes) else str(found)


def value_of(text: str, decimal: str) -> Any:
    """What a text is: a whole number, a number, true or false, or itself."""
    if _WHOLE.fullmatch(text):
        return int(text)
    plain = text.replace(",", ".") if decimal == "," else text
    if _NUMBER.fullmatch(plain):
        return float(plain)
    return _FLAGS.get(text, text)


def counted_of(
    path: Path, rules: LogMapping, found: Sequence[Happening], rate: Rate | None, first: float | None
) -> Counted:
    """The row of each line."""

    def place(number: int) -> str:
        return f"{path}, line {found[number].line}"

    values = []
    for number, one in enumerate(found):
        value = one.said.get(rules.counting)
        if not isinstance(value, int | float) or isinstance(value, bool):
            told = "nothing" if value is None else as_json(value)
            raise TraceError(f"{place(number)}: column {rules.counting!r} counts, so it holds numbers, not {told}")
        values.append(value)
    return positions(rules, np.array(values, dtype=np.float64), place, rate, first)


def channels_of(
    path: Path, where: str, rules: LogMapping, found: Sequence[Happening], at: Array, rows: int
) -> dict[str, Array]:
    """The channels and inputs, row by row: what was said last, and before anything was said what the mapping starts with."""
    check_size(path, rows, len(rules.columns) + len(rules.inputs))
    given: dict[str, Array] = {}
    for name, one in rules.columns.items():
        held, lines = _held(path, where, name, one, found, at, rows)

        def place(row: int, lines: Sequence[int] = lines) -> str:
            return f"{path}, line {lines[row]}"

        given[name] = channel_values(where, name, one, _as_array(path, name, held, lines), place)
    for name, column in rules.inputs.items():
        # Nothing is held before it is pressed.
        held, lines = _held(path, where, name, ColumnMapping(column, start=0), found, at, rows)
        asked = LogMapping(inputs={name: column})
        given |= input_values(where, asked, {column: _as_array(path, name, held, lines)})
    return given


def _held(
    path: Path, where: str, name: str, one: ColumnMapping, found: Sequence[Happening], at: Array, rows: int
) -> tuple[list[Any], list[int]]:
    """A value for each row, and the line that said it."""
    values: list[Any] = []
    lines: list[int] = []
    value, line = one.start, found[0].line
    for row, happening in zip(at.tolist(), found, strict=True):
        if one.column not in happening.said:
            continue
        if one.before and one.before in happening.said:
            before = happening.said[one.before]
            if value is None and not values:
                # What it changed from is what it was since row 0.
                value = before
            if value != before:
                raise TraceError(
                    f"{path}, line {happening.line}: channels, {name!r}: it changes from {as_json(before)} there, and was "
                    f"{as_json(value)} since line {line}: a line is missing, or belongs to another"
                )
        if value is None and row > 0:
            raise TraceError(
                f"{where}: channels, {name!r}: nothing says what it is before line {happening.line}, which is row {row}; say "
                "start = …"
            )
        values += [value] * (row - len(values))
        lines += [line] * (row - len(lines))
        value, line = happening.said[one.column], happening.line
    if value is None:
        raise TraceError(f"{where}: channels, {name!r}: no line says what it is")
    values += [value] * (rows - len(values))
    lines += [line] * (rows - len(lines))
    return values[:rows], lines[:rows]


def _as_array(path: Path, name: str, values: Sequence[Any], lines: Sequence[int]) -> Array:
    kinds = set(map(type, values))
    if kinds <= {bool}:
        return np.array(values, dtype=np.bool_)
    if kinds <= {int}:
        return np.array(values, dtype=np.int64)
    if kinds <= {int, float}:
        return np.array(values, dtype=np.float64)
    if kinds <= {str}:
        return np.array(values, dtype=object)
    first = values[0]
    odd = next((n for n, value in enumerate(values) if type(value) is not type(first)), 0)
    raise TraceError(
        f"{path}, line {lines[odd]}: channel {name!r} is {as_json(values[odd])} there, and {as_json(first)} before: a channel is "
        "of one kind; kind = 'label' takes all as text"
    )


def events_of(rules: LogMapping, path: Path, found: Sequence[Happening], at: Array) -> EventLog:
    """What happened: the names in the events column, and what a pattern stands for, with their data."""
    log = EventLog()
    check_events(path, len(found))
    for row, one in zip(at.tolist(), found, strict=True):
        names = [one.event] if one.event else []
        named = one.said.get(rules.events) if rules.events else None
        if isinstance(named, list):
            names += map(str, named)
        elif named is not None:
            names += split_names(str(named), rules.events_separator)
        data = {}
        for column in rules.data:
            if _is_plain(one.said.get(column)):
                data[column] = one.said[column]
        source = str(one.said.get(rules.events_source, "")) if rules.events_source else ""
        for name in names:
            if name.strip():
                log.add(row, name.strip(), source, data)
    return log


def _is_plain(value: object) -> bool:
    return isinstance(value, bool | int | float | str)


def split_names(names: str, separator: str) -> list[str]:
    """The names in a cell, which a separator may join."""
    return names.split(separator) if separator else [names]
