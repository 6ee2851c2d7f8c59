"""A mapping: the small TOML file that says how a log from elsewhere is read, and which of its keys belong together."""

from __future__ import annotations

import tomllib
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import TypeVar

import msgspec
from msgspec import structs

from larktally.errors import TraceError
from larktally.names import did_you_mean, existing_file
from larktally.timing import exact_seconds
from larktally.traces.columns import check_channel_name
from larktally.traces.formats.logs.told import checked, few

__all__ = ["HELD_ROW", "ColumnMapping", "LogMapping", "Pattern", "read_mapping"]

MOST_BYTES = 1_000_000
UNITS = {"s": Fraction(1), "ms": Fraction(1, 1000), "us": Fraction(1, 10**6), "ns": Fraction(1, 10**9)}
_ALLOWED = {
    "kind": ("table", "events", "lines"),
    "time_unit": tuple(UNITS),
    "rest": ("keep", "drop"),
    "gaps": ("refuse", "hold"),
    "format": ("", "csv", "jsonl", "parquet"),
}
# What is said once, for the whole trace, by the log that is named on the command line.
_OF_THE_TRACE = ("rate", "every")
#: A flag channel that says of a row that the log has none of its own for it.
HELD_ROW = "held_row"


class ColumnMapping(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What one channel is read from. `unit` is told to nobody: it is for whoever reads the mapping; `wraps` is a whole turn of
    an angle. `before` is a second column that says what the channel was until then; `start` what it is in row 0 of a log that
    says only what changes."""

    column: str
    kind: str = ""
    scale: float = 1.0
    offset: float = 0.0
    labels: dict[str, str] | list[str] = msgspec.field(default_factory=dict)
    unit: str = ""
    wraps: float | None = None
    before: str = ""
    start: bool | int | float | str | None = None


class Pattern(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a line of text looks like, with named groups, and the event that it stands for, "" for none."""

    text: str
    event: str = ""


class LogMapping(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A mapping file, or one of its [[also]] tables. One of `frame` and `time` names the column that counts."""

    kind: str = "table"
    format: str = ""
    delimiter: str = ","
    decimal: str = "."
    frame: str = ""
    time: str = ""
    time_unit: str = "s"
    tolerance: str | None = None
    first: int | float | None = None
    frame_wraps: int | None = None
    rate: int | str | None = None
    every: int = 1
    gaps: str = "refuse"
    pattern: str | list[str | Pattern] = msgspec.field(default_factory=list)
    rest: str = "keep"
    channels: dict[str, ColumnMapping | str] = {}
    inputs: dict[str, str] = {}
    events: str = ""
    events_separator: str = ","
    events_source: str = ""
    data: list[str] = []
    path: str = ""
    also: list[LogMapping] = []

    @property
    def counting(self) -> str:
        """The column that counts."""
        return self.frame or self.time

    @property
    def columns(self) -> dict[str, ColumnMapping]:
        """What each channel is read from."""
        found = {}
        for name, told in self.channels.items():
            found[name] = ColumnMapping(told) if isinstance(told, str) else told
        return found

    @property
    def patterns(self) -> list[Pattern]:
        """What lines may look like."""
        listed = [self.pattern] if isinstance(self.pattern, str) else self.pattern
        found = []
        for one in listed:
            found.append(Pattern(one) if isinstance(one, str) else one)
        return found

    def used(self) -> dict[str, str]:
        """The log's columns that the mapping names, each with the key that does."""
        used = {self.counting: "frame" if self.frame else "time"}
        for name, one in self.columns.items():
            used[one.column] = f"channels, {name!r}"
            if one.before:
                used[one.before] = f"channels, {name!r}, before"
        used |= {column: f"inputs, {name!r}" for name, column in self.inputs.items()}
        used |= {column: "data" for column in self.data}
        for key, column in (("events", self.events), ("events_source", self.events_source)):
            if column:
                used[column] = key
        return used

    def seconds(self, value: float) -> float:
        """A time of the log in seconds."""
        return value * float(UNITS[self.time_unit])

    def in_log(self, seconds: Fraction | float) -> float:
        """Seconds in the log's own unit."""
        return float(seconds) / float(UNITS[self.time_unit])


def read_mapping(path: Path) -> LogMapping:
    """A mapping file; raises TraceError naming the key that does not fit."""
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
    if rules.path:
        raise TraceError(f"{path}: path belongs to [[also]]: the log itself is named on the command line")
    _check(f"{path}", rules)
    also = []
    for number, one in enumerate(rules.also, 1):
        where = f"{path}: also {number}"
        if not one.path:
            raise TraceError(f"{where}: path is missing: the other log, from where the mapping stands")
        for key in _OF_THE_TRACE:
            if getattr(one, key) != getattr(LogMapping(), key):
                raise TraceError(f"{where}: {key} is said once, at the top of the mapping")
        if one.also:
            raise TraceError(f"{where}: there is no [[also]] in an [[also]]")
        _check(where, one)
        also.append(structs.replace(one, path=str(existing_file(path.parent / one.path))))
    return structs.replace(rules, also=also)


T = TypeVar("T")


def _check(where: str, rules: LogMapping) -> None:
    """Raises TraceError for keys that do not go together."""
    for key, allowed in _ALLOWED.items():
        if getattr(rules, key) not in allowed:
            raise TraceError(f"{where}: {key} is one of {few(allowed)}, not {getattr(rules, key)!r}")
    if bool(rules.frame) == bool(rules.time):
        raise TraceError(f"{where}: say which column counts, frame = '…' or time = '…', and only one of them")
    if len(rules.delimiter) != 1:
        raise TraceError(f"{where}: delimiter is one character, not {rules.delimiter!r}")
    if rules.decimal not in (".", ",") or rules.decimal == rules.delimiter:
        raise TraceError(f"{where}: decimal is '.' or ',', and not the delimiter; it is {rules.decimal!r}")
    if rules.every < 1:
        raise TraceError(f"{where}: every is a number of frames from 1 on, not {rules.every}")
    if rules.frame_wraps is not None and (rules.time or rules.frame_wraps < 2):
        raise TraceError(f"{where}: frame_wraps is how many frames a counter has, 256 or 65536, and goes with frame")
    if rules.tolerance is not None:
        checked(partial(exact_seconds, rules.tolerance, None, what="tolerance:"), where)
    if bool(rules.patterns) != (rules.kind == "lines"):
        raise TraceError(f"{where}: pattern goes with kind = 'lines', and the other way round")
    for name, one in rules.columns.items():
        checked(partial(check_channel_name, name), f"{where}: channels")
        if one.start is not None and rules.kind == "table":
            raise TraceError(
                f"{where}: channels, {name!r}: start is for logs that say what changes: kind = 'events' or 'lines'"
            )
    if rules.kind == "table" and rules.data:
        raise TraceError(f"{where}: data is for logs of events: kind = 'events' or 'lines'")
