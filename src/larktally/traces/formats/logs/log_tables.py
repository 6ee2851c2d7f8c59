"""A log's own tables: CSV, JSON Lines or Parquet as arrays, before anything is renamed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple, TypeAlias

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import TraceError
from larktally.names import stands_twice
from larktally.traces.columns import check_size
from larktally.traces.formats.csv_tables import read_table
from larktally.traces.formats.logs.mapping import LogMapping
from larktally.traces.formats.logs.told import as_json, checked, few
from larktally.traces.json_keys import check_keys

__all__ = ["Array", "LogTable", "flat", "json_objects", "log_format", "log_table"]

Array: TypeAlias = npt.NDArray[Any]
# As deep as any log nests; what is deeper is not meant to be read as columns.
DEEPEST = 20


class LogTable(NamedTuple):
    """Columns by their names in the log, and where a row stands in its file."""

    columns: dict[str, Array]
    place: Callable[[int], str]


def log_format(path: Path, rules: LogMapping) -> str:
    """What a log is, by the mapping or by its suffix; raises TraceError where neither says it."""
    found = rules.format or {".csv": "csv", ".jsonl": "jsonl", ".parquet": "parquet"}.get(path.suffix, "")
    if not found:
        raise TraceError(f"{path}: say what it is in the mapping: format = 'csv', 'jsonl' or 'parquet'")
    return found


def log_table(path: Path, rules: LogMapping) -> LogTable:
    """The columns of a log with the same ones in each row; raises TraceError with the line."""
    kind = log_format(path, rules)
    if kind == "parquet":
        return LogTable(_parquet(path), lambda row: f"{path}, row {row}")
    texts = [one.column for one in rules.columns.values() if one.kind == "label"]
    if rules.events:
        texts.append(rules.events)
    if kind == "csv":
        # Row 0 is the first line below the names.
        return LogTable(read_table(path, rules.delimiter, texts, rules.decimal), lambda row: f"{path}, line {row + 2}")
    lines: list[int] = []
    columns = _json_lines(path, rules, lines)
    return LogTable(columns, lambda row: f"{path}, line {lines[row]}")


def json_objects(path: Path) -> Iterator[tuple[int, dict[str, Any]]]:
    """The objects of a file that has one a line, with their lines; those inside of them by dotted names."""
    with path.open("rb") as file:
        for number, line in enumerate(file, 1):
            if not line.strip():
                continue
            try:
                row = msgspec.json.decode(line, type=dict[str, Any])
            except (msgspec.MsgspecError, ValueError, RecursionError) as error:
                raise TraceError(f"{path}, line {number}: not a JSON object: {error}") from None
            check_keys(line, f"{path}, line {number}")
            if dict in map(type, row.values()):
                row = dict(flat(row, "", f"{path}, line {number}"))
            yield number, row


def flat(content: dict[str, Any], before: str, place: str) -> Iterator[tuple[str, Any]]:
    """The values of an object and of those inside of it, by dotted names."""
    if before.count(".") > DEEPEST:
        raise TraceError(f"{place}: key {before[:60]!r}… is nested too deep")
    for key, value in content.items():
        if isinstance(value, dict) and value:
            yield from flat(value, f"{before}{key}.", place)
        else:
            yield f"{before}{key}", value


def _json_lines(path: Path, rules: LogMapping, lines: list[int]) -> dict[str, Array]:
    """One JSON object a line, with the same keys in each; their lines are added to `lines`."""
    rows: list[dict[str, Any]] = []
    for number, row in json_objects(path):
        if rows and row.keys() != rows[0].keys():
            odd = sorted(row.keys() ^ rows[0].keys())
            raise TraceError(f"{path}, line {number}: its keys are not those of line {lines[0]}: {few(odd)}")
        rows.append(row)
        lines.append(number)
    if not rows:
        raise TraceError(f"{path}: empty: no row in it")
    found: dict[str, Array] = {}
    used = rules.used()
    for name in rows[0]:
        # What nobody asked for may be of any shape.
        if rules.rest == "keep" or name in used:
            found[name] = _json_column(path, name, [row[name] for row in rows], lines, name == rules.events)
    return found


def _json_column(path: Path, name: str, values: list[Any], lines: Sequence[int], lists: bool) -> Array:
    """A key's values as a column; only events may be lists of names."""
    kinds = set(map(type, values))
    if kinds <= {int}:
        whole: Array = checked(partial(np.array, values, dtype=np.int64), f"{path}: key {name!r}")
        return whole
    if kinds <= {int, float, type(None)}:
        numbers = []
        for value in values:
            numbers.append(np.nan if value is None else value)
        floats: Array = checked(partial(np.array, numbers, dtype=np.float64), f"{path}: key {name!r}")
        return floats
    if kinds <= {bool}:
        return np.array(values)
    if kinds <= {str} or (lists and kinds <= {str, list, type(None)}):
        return np.array([_event_names(value) for value in values], dtype=object)
    for line, value in zip(lines, values, strict=True):
        if isinstance(value, dict | list):
            kind = "an object" if isinstance(value, dict) else "a list"
            raise TraceError(
                f"{path}, line {line}: key {name!r} is {kind}, {as_json(value)}, and a channel is a number, a flag or a "
                "text; leave such keys out with rest = 'drop'"
            )
    first = next(one for one in values if one is not None)
    odd = next(n for n, value in enumerate(values) if not _alike(value, first))
    raise TraceError(
        f"{path}, line {lines[odd]}: key {name!r} is {as_json(values[odd])}, and {as_json(first)} in line "
        f"{lines[values.index(first)]}"
    )


def _alike(value: object, first: object) -> bool:
    """Whether two values are of one kind: whole numbers are numbers."""
    numbers = (int, float)
    return type(value) is type(first) or (type(value) in numbers and type(first) in numbers)


def _event_names(value: object) -> str:
    if isinstance(value, list):
        return ",".join(map(str, value))
    return "" if value is None else str(value)


def _parquet(path: Path) -> dict[str, Array]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        about = pq.read_metadata(path)
        check_size(path, about.num_rows, about.num_columns)
        table = pq.read_table(path, memory_map=False)
        twice = stands_twice(table.column_names)
        if twice is not None:
            raise TraceError(f"{path}: two columns are called {twice!r}")
        names = [n for n in table.column_names if not pa.types.is_nested(table.schema.field(n).type)]
        found = {}
        for name in names:
            column = table[name]
            kind = column.type
            if pa.types.is_dictionary(kind) or pa.types.is_string(kind) or pa.types.is_large_string(kind):
                found[name] = np.array(
                    ["" if v is None else v for v in column.cast(pa.string()).to_pylist()], dtype=object
                )
            else:
                found[name] = np.array(column.to_numpy())
        return found
    except (pa.ArrowException, OSError, ValueError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{path}: broken Parquet: {(str(error).splitlines() or [''])[0]}") from None
