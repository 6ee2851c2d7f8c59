"""Logs that a game wrote, as traces: CSV, JSON Lines or Parquet, read through a small TOML mapping.

The mapping says which column counts the frames or the time, the rate, and what the other columns are called here.
Nothing is guessed: frames that are missing, doubled or uneven are an error that names the line.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Mapping
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError, TraceError
from larktally.names import did_you_mean, stands_twice
from larktally.textfmt import shortened
from larktally.timing import Rate, RateLike, as_rate
from larktally.traces.columns import check_channel_name, check_size
from larktally.traces.contents import TraceContents, contents_from_columns
from larktally.traces.events import EventLog
from larktally.traces.formats.csv_tables import read_table
from larktally.traces.json_keys import check_keys

__all__ = ["read_log", "LogMapping"]

Array = npt.NDArray[Any]
MOST_BYTES = 1_000_000
UNITS = {"s": Fraction(1), "ms": Fraction(1, 1000), "us": Fraction(1, 10**6), "ns": Fraction(1, 10**9)}


class ColumnMapping(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What one channel is read from. `unit` is told to nobody: it is for whoever reads the mapping; `wraps` is a whole turn of
    an angle."""

    column: str
    kind: str = ""
    scale: float = 1.0
    offset: float = 0.0
    labels: dict[str, str] | list[str] = msgspec.field(default_factory=dict)
    unit: str = ""
    wraps: float | None = None


class LogMapping(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A mapping file. One of `frame` and `time` names the column that counts; `rest` is "keep" or "drop"."""

    format: str = ""
    delimiter: str = ","
    frame: str = ""
    time: str = ""
    time_unit: str = "s"
    rate: int | str | None = None
    rest: str = "keep"
    channels: dict[str, ColumnMapping | str] = {}
    inputs: dict[str, str] = {}
    events: str = ""
    events_separator: str = ","
    events_source: str = ""


def read_log(path: Path, mapping: Path, rate: RateLike | None = None) -> TraceContents:
    """A log as a trace; raises TraceError naming the mapping's key, or the log's line, that does not fit."""
    rules = _read_mapping(mapping)
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
    where = f"{path} through {mapping}"
    table = _columns(path, rules)
    used = _used(rules)
    for column, key in used.items():
        if column not in table:
            raise TraceError(
                f"{where}: {key}: no column {column!r}{did_you_mean(column, table)}; there are: {_few(table)}"
            )
    exact = _counted(path, rules, table, exact)
    given, labels = _channels(path, where, rules, table)
    if rules.rest == "keep":
        given |= {name: values for name, values in table.items() if name not in used}
    events = _events(where, rules, table)
    try:
        return contents_from_columns(
            given.items(),
            exact,
            events=events,
            labels=labels,
            wraps=_angles(rules),
            subject=path.name,
            rows=len(table[rules.frame or rules.time]),
        )
    except LarkTallyError as error:
        raise TraceError(f"{where}: {error}") from None


def _read_mapping(path: Path) -> LogMapping:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise TraceError(f"{path}: a mapping has at most {MOST_BYTES} bytes")
        raw = tomllib.loads(path.read_text(encoding="utf-8"))
        for key in raw.keys() - set(LogMapping.__struct_fields__):
            known = LogMapping.__struct_fields__
            raise TraceError(f"{path}: no key {key!r}{did_you_mean(key, known)}; there are: {', '.join(known)}")
        rules = msgspec.convert(raw, LogMapping)
    # What is no TOML, no UTF-8, or a number of thousands of digits is a ValueError, and so is an error of ours.
    except (ValueError, msgspec.ValidationError, RecursionError, OSError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{path}: not a mapping: {error}") from None
    for key, allowed in (("time_unit", UNITS), ("rest", ("keep", "drop")), ("format", ("", "csv", "jsonl", "parquet"))):
        if getattr(rules, key) not in allowed:
            raise TraceError(f"{path}: {key} is one of {_few(allowed)}, not {getattr(rules, key)!r}")
    if bool(rules.frame) == bool(rules.time):
        raise TraceError(f"{path}: say which column counts, frame = '…' or time = '…', and only one of them")
    if len(rules.delimiter) != 1:
        raise TraceError(f"{path}: delimiter is one character, not {rules.delimiter!r}")
    for name in rules.channels:
        _checked(partial(check_channel_name, name), f"{path}: channels")
    return rules


def _format_of(path: Path, rules: LogMapping) -> str:
    return rules.format or {".csv": "csv", ".jsonl": "jsonl", ".parquet": "parquet"}.get(path.suffix, "")


def _line(path: Path, rules: LogMapping, row: int) -> str:
    """Where a row stands in its file, as far as it has lines."""
    # Row 0 is the first line below a CSV's names, and the first of JSON Lines.
    first = {"csv": 2, "jsonl": 1}.get(_format_of(path, rules))
    if first is None:
        return f"{path}, row {row}"
    return f"{path}, line {row + first}"


def _columns(path: Path, rules: LogMapping) -> dict[str, Array]:
    kind = _format_of(path, rules)
    texts = []
    if rules.events:
        texts = [rules.events]
    for c in rules.channels.values():
        if isinstance(c, ColumnMapping) and c.kind == "label":
            texts.append(c.column)
    if kind == "csv":
        return read_table(path, rules.delimiter, texts)
    if kind == "jsonl":
        return _json_lines(path, rules)
    if kind == "parquet":
        return _parquet(path)
    raise TraceError(f"{path}: say what it is in the mapping: format = 'csv', 'jsonl' or 'parquet'")


def _json_lines(path: Path, rules: LogMapping) -> dict[str, Array]:
    """One JSON object a line, with the same keys in each."""
    rows: list[dict[str, Any]] = []
    for number, line in enumerate(path.read_bytes().split(b"\n"), 1):
        if not line.strip():
            continue
        try:
            row = msgspec.json.decode(line, type=dict[str, Any])
        except (msgspec.MsgspecError, ValueError, RecursionError) as error:
            raise TraceError(f"{path}, line {number}: not a JSON object: {error}") from None
        check_keys(line, f"{path}, line {number}")
        if rows and row.keys() != rows[0].keys():
            odd = sorted(row.keys() ^ rows[0].keys())
            raise TraceError(f"{path}, line {number}: its keys are not those of line 1: {_few(odd)}")
        rows.append(row)
    if not rows:
        raise TraceError(f"{path}: empty: no row in it")
    found: dict[str, Array] = {}
    used = _used(rules)
    for name in rows[0]:
        # What nobody asked for may be of any shape.
        if rules.rest == "keep" or name in used:
            found[name] = _json_column(path, name, [row[name] for row in rows], name == rules.events)
    return found


def _json_column(path: Path, name: str, values: list[Any], lists: bool) -> Array:
    """A key's values as a column; only events may be lists of names."""
    kinds = set(map(type, values))
    if kinds <= {int}:
        whole: Array = _checked(lambda: np.array(values, dtype=np.int64), f"{path}: key {name!r}")
        return whole
    if kinds <= {int, float, type(None)}:
        numbers = [np.nan if value is None else value for value in values]
        floats: Array = _checked(lambda: np.array(numbers, dtype=np.float64), f"{path}: key {name!r}")
        return floats
    if kinds <= {bool}:
        return np.array(values)
    if kinds <= {str} or (lists and kinds <= {str, list, type(None)}):
        return np.array([_event_names(value) for value in values], dtype=object)
    for line, value in enumerate(values, 1):
        if isinstance(value, dict | list):
            kind = "an object" if isinstance(value, dict) else "a list"
            raise TraceError(
                f"{path}, line {line}: key {name!r} is {kind}, {_as_json(value)}, and a channel is a number, a flag or a "
                "text; leave such keys out with rest = 'drop'"
            )
    first = next(one for one in values if one is not None)
    line = next(n for n, value in enumerate(values, 1) if not _alike(value, first))
    raise TraceError(
        f"{path}, line {line}: key {name!r} is {_as_json(values[line - 1])}, and {_as_json(first)} in line "
        f"{values.index(first) + 1}"
    )


def _alike(value: object, first: object) -> bool:
    """Whether two values are of one kind: whole numbers are numbers."""
    numbers = (int, float)
    return type(value) is type(first) or (type(value) in numbers and type(first) in numbers)


def _event_names(value: object) -> str:
    if isinstance(value, list):
        return ",".join(map(str, value))
    return "" if value is None else str(value)


def _as_json(value: object) -> str:
    """A value as its file has it: null, and not None."""
    text: str = msgspec.json.encode(value).decode()
    return shortened(text)


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


def _used(rules: LogMapping) -> dict[str, str]:
    """The log's columns that the mapping names, each with the key that does."""
    used = {rules.frame or rules.time: "frame" if rules.frame else "time"}
    for name, one in rules.channels.items():
        used[one if isinstance(one, str) else one.column] = f"channels, {name!r}"
    used |= {column: f"inputs, {name!r}" for name, column in rules.inputs.items()}
    used |= {
        column: key for key, column in (("events", rules.events), ("events_source", rules.events_source)) if column
    }
    return used


def _counted(path: Path, rules: LogMapping, table: Mapping[str, Array], rate: Rate | None) -> Rate | None:
    """Checks that the counting column goes up by one frame a row; the rate, inferred from times where none is given."""
    column = rules.frame or rules.time
    _check_counts(path, rules, column, table[column])
    if rules.frame:
        _check_steps(path, rules, table[column], 1.0, 0.0)
        return rate
    times = np.asarray(table[column], dtype=np.float64) * float(UNITS[rules.time_unit])
    if len(times) < 2:
        return rate
    if rate is None:
        rate = _inferred(path, rules.time, times)
    step = float(1 / rate)
    _check_steps(path, rules, times, step, step / 4)
    return rate


def _inferred(path: Path, column: str, times: Array) -> Rate:
    """The rate whose even frames lie closest to the times: whole, or a whole one times 1000/1001."""
    middle = float(np.median(np.diff(times)))
    if not middle > 0:
        raise TraceError(f"{path}: column {column!r} does not rise, so it gives no rate; say rate = … in the mapping")
    mean = (times[-1] - times[0]) / (len(times) - 1)
    near = [Fraction(round(1 / middle)), Fraction(round(1 / middle * 1.001)) * Fraction(1000, 1001)]
    best = min((one for one in near if one > 0), key=lambda one: abs(float(1 / one) - mean), default=None)
    if best is None or abs(float(1 / best) - middle) > 0.02 * middle:
        raise TraceError(f"{path}: column {column!r} has steps of {middle:g} s, which is no usual rate; say rate = …")
    return Rate(best)


def _check_counts(path: Path, rules: LogMapping, column: str, values: Array) -> None:
    """Raises TraceError with the first cell that is no finite number."""
    if values.dtype.kind in "iu":
        return
    row = _first_that_is_no_number(values)
    if row is not None:
        raise TraceError(
            f"{_line(path, rules, row)}: column {column!r} counts, so it holds numbers, not {_cell(values[row])}"
        )


def _first_that_is_no_number(values: Array) -> int | None:
    """The row of the first cell that is no finite number; of a column of texts the first that does not read as one."""
    if values.dtype.kind == "f":
        wrong = ~np.isfinite(values)
        return int(wrong.argmax()) if wrong.any() else None
    for row, value in enumerate(values.tolist()):
        try:
            fits = not isinstance(value, bool) and np.isfinite(float(value))
        # A moment of a calendar is a TypeError.
        except (TypeError, ValueError):
            fits = False
        if not fits:
            return row
    # Each reads as a number, and the column is text all the same: it stood in quotes.
    if values.dtype.kind == "O":
        return 0
    return None


def _cell(value: object) -> str:
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float) and np.isnan(value):
        return "nothing"
    return repr(value)


def _check_steps(path: Path, rules: LogMapping, values: Array, step: float, slack: float) -> None:
    column = rules.frame or rules.time
    steps = np.diff(values.astype(np.float64))
    if slack:
        wrong = ~(np.abs(steps - step) <= slack)
    else:
        wrong = steps != step
    if not wrong.any():
        return
    row = int(wrong.argmax())
    what, problem = f"goes up by {steps[row]:g}", "uneven"
    if steps[row] == 0:
        what, problem = "stands still", "doubled"
    elif steps[row] < 0:
        what = "goes back"
    elif steps[row] > 1.5 * step:
        problem = "missing"
    raise TraceError(
        f"{_line(path, rules, row + 1)}: a frame is {problem}: column {column!r} {what} from {values[row]:g} "
        f"to {values[row + 1]:g}, where each frame is {step:g}"
    )


def _channels(
    path: Path, where: str, rules: LogMapping, table: Mapping[str, Array]
) -> tuple[dict[str, Array], dict[str, tuple[str, ...]]]:
    given: dict[str, Array] = {}
    labels: dict[str, tuple[str, ...]] = {}
    for name, told in rules.channels.items():
        one = ColumnMapping(told) if isinstance(told, str) else told
        place = f"{where}: channels, {name!r}"
        given[name] = _as_kind(place, one, table[one.column], partial(_line, path, rules))
        if one.labels:
            labels[name] = tuple(one.labels.values() if isinstance(one.labels, dict) else one.labels)
            unknown = next((v for v in given[name].tolist() if v not in labels[name]), None)
            if unknown is not None:
                near = did_you_mean(str(unknown), labels[name])
                raise TraceError(f"{place}: {unknown!r} is not one of its labels {_few(labels[name])}{near}")
    for name, column in rules.inputs.items():
        values = table[column]
        if values.dtype.kind not in "iufb":
            raise TraceError(
                f"{where}: inputs, {name!r}: column {column!r} is text; an input is 0 and 1, or in [-1, 1]"
            )
        if not bool((np.abs(values.astype(np.float64)) <= 1).all()):
            raise TraceError(f"{where}: inputs, {name!r}: column {column!r} leaves [-1, 1]")
        given[f"input:{name}"] = values.astype(np.float64)
    return given, labels


def _angles(rules: LogMapping) -> dict[str, float]:
    """The channels that are angles, with what a whole turn of each is."""
    found = {}
    for name, one in rules.channels.items():
        if isinstance(one, ColumnMapping) and one.wraps is not None:
            found[name] = one.wraps
    return found


def _as_kind(place: str, one: ColumnMapping, values: Array, line_of: Callable[[int], str]) -> Array:
    told = place.rpartition(": ")[2]
    if isinstance(one.labels, dict) and one.labels:
        renamed = one.labels
        return np.array([renamed.get(text, text) for text in map(_label_text, values.tolist())], dtype=object)
    if one.kind == "label":
        return np.array([_label_text(value) for value in values.tolist()], dtype=object)
    if one.kind == "flag":
        wrong = ~np.isin(values, (0, 1))
        if wrong.any():
            row = int(wrong.argmax())
            raise TraceError(
                f"{line_of(row)}: column {one.column!r} is true and false, or 1 and 0, not {_cell(values[row])} ({told})"
            )
        return values.astype(np.bool_)
    if one.kind not in ("", "number", "count"):
        raise TraceError(f"{place}: kind is number, count, flag or label, not {one.kind!r}")
    scaled = one.scale != 1.0 or one.offset != 0.0
    if (one.kind or scaled) and values.dtype.kind == "O":
        row = _first_that_is_no_number(values) or 0
        raise TraceError(
            f"{line_of(row)}: column {one.column!r} is text there, {_cell(values[row])}, and holds numbers ({told})"
        )
    if scaled or one.kind == "number":
        return values.astype(np.float64) * one.scale + one.offset
    if one.kind == "count" and values.dtype.kind == "f":
        wrong = values != np.floor(values)
        if wrong.any():
            row = int(wrong.argmax())
            raise TraceError(
                f"{line_of(row)}: column {one.column!r} is {_cell(values[row])} there: a number, not a count ({told})"
            )
        return values.astype(np.int64)
    return values


def _label_text(value: Any) -> str:
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    if isinstance(value, bool):
        return str(value).lower()
    return str(value)


def _events(where: str, rules: LogMapping, table: Mapping[str, Array]) -> EventLog:
    """The names in the events column, several of a row joined by the separator."""
    log = EventLog()
    if not rules.events:
        return log
    names = table[rules.events]
    if rules.events_source:
        sources = table[rules.events_source].tolist()
    else:
        sources = [""] * len(names)
    for row, (named, source) in enumerate(zip(names.tolist(), sources, strict=True)):
        if isinstance(named, float) and np.isnan(named):
            continue
        for name in str(named).split(rules.events_separator) if rules.events_separator else [str(named)]:
            if name.strip():
                log.add(row, name.strip(), str(source), {})
    return log


def _checked(make: Callable[[], Any], where: str) -> Any:
    try:
        return make()
    except (ValueError, OverflowError) as error:
        raise TraceError(f"{where}: {error}") from None


def _few(names: Any) -> str:
    listed = []
    for name in names:
        if name != "":
            listed.append(repr(name))
    return ", ".join(listed[:10]) + (f" and {len(listed) - 10} more" if len(listed) > 10 else "")
