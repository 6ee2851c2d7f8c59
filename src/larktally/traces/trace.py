"""The trace: channels, events and inputs of one run, with its header."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
import numpy.typing as npt
from msgspec import structs

from larktally.errors import LarkError, unknown_name
from larktally.timing import Rate, as_rate, frames_in
from larktally.traces.columns import Column, column_of
from larktally.traces.digest import digest_of
from larktally.traces.events import EventLog
from larktally.traces.header import Header

if TYPE_CHECKING:
    import pandas

__all__ = ["Trace", "Pieces", "trace_from_columns"]


class Pieces(Protocol):
    """A trace as writers and the digest read it: the header, and the rows in pieces, one after the other."""

    @property
    def header(self) -> Header: ...
    @property
    def rows(self) -> int: ...
    @property
    def digest(self) -> str: ...
    @property
    def states(self) -> Mapping[int, bytes]: ...
    def pieces(self, names: Collection[str] | None = None) -> Iterator[Trace]:
        """Windows of all rows in order, with the channels named (all of them, by default), inputs and events; the rows
        of events are counted from the piece's first."""


class Trace:
    """Everything a run left: R rows of channels, the events, and the inputs of each row.

    `trace["wick.y"]` is a NumPy array of R values: float64, int64, bool, or an object array of strings for a label.
    Arrays are read-only views; nothing is copied but labels.
    """

    def __init__(
        self,
        header: Header,
        columns: Mapping[str, Column],
        inputs: Mapping[str, npt.NDArray[np.float64]],
        events: EventLog,
        rows: int | None = None,
    ) -> None:
        self.header = header
        self.columns = dict(columns)
        self.inputs = dict(inputs)
        self.events = events
        self.states: Mapping[int, bytes] = {}
        lengths = {len(column.stored) for column in self.columns.values()} | {len(v) for v in self.inputs.values()}
        if len(lengths) > 1:
            raise LarkError(f"the columns of a trace have one length, not {sorted(lengths)}")
        self.rows = lengths.pop() if lengths else rows or 0
        for array in [*(column.stored for column in self.columns.values()), *self.inputs.values()]:
            array.flags.writeable = False

    @property
    def frames(self) -> int:
        """Steps taken: rows - 1."""
        return max(self.rows - 1, 0)

    @property
    def rate(self) -> Rate | None:
        """Frames per second; None for a log that carries none."""
        return self.header.rate

    @property
    def channels(self) -> list[str]:
        """The names of all channels, in recording order."""
        return [name for name in self.columns if not name.startswith("seen:")]

    def __getitem__(self, channel: str) -> npt.NDArray[Any]:
        return self.column(channel).values

    def __len__(self) -> int:
        return self.rows

    def column(self, channel: str) -> Column:
        """A channel with its stored values; raises LarkError with the nearest name where there is none."""
        if channel not in self.columns:
            raise LarkError(unknown_name("channel", channel, self.channels, "this trace"))
        return self.columns[channel]

    def check_row(self, row: int) -> None:
        """Raises LarkError for a row that it does not have."""
        if not 0 <= row < self.rows:
            raise LarkError(f"no row {row}: this trace has rows 0..{self.rows - 1}")

    def row(self, row: int) -> dict[str, float | int | bool | str]:
        """Every channel's value in one row, as plain Python values; negative rows count from the end."""
        if row < -self.rows or row >= 0:
            self.check_row(row)
        return {name: self.columns[name].at(row) for name in self.channels}

    def window(self, first: int | str, last: int | str | None = None) -> Trace:
        """The rows first..last, both included, as a trace of their own whose row 0 is `first`.

        Rows, or times such as "1.5s"; `last` is the end where left out, and negative rows count from the end. Raises
        LarkError for rows that are not there.
        """
        start, stop = self.row_at(first), self.rows - 1 if last is None else self.row_at(last)
        if not 0 <= start <= stop < self.rows:
            raise LarkError(f"no rows {first}..{last}: this trace has rows 0..{self.rows - 1}")
        return self.taken(slice(start, stop + 1), self.events.between(start, stop).shifted(-start))

    def taken(self, rows: slice, events: EventLog, header: Header | None = None) -> Trace:
        """A copy of some of the rows, with events that are counted in them, and this header or another."""
        columns = {name: Column(c.channel, c.stored[rows].copy()) for name, c in self.columns.items()}
        inputs = {name: values[rows].copy() for name, values in self.inputs.items()}
        return Trace(header or self.header, columns, inputs, events, len(range(self.rows)[rows]))

    def changed(self, *, events: EventLog | None = None, header: Header | None = None) -> Trace:
        """The same rows with other events or another header."""
        said = self.events if events is None else events
        return Trace(header or self.header, self.columns, self.inputs, said, self.rows)

    def row_at(self, place: int | str) -> int:
        """The number of a row, or of the row at a time such as "1.5s"; negative ones count from the end."""
        row = place if isinstance(place, int) else frames_in(place, self.rate, what="row:")
        return row + self.rows if row < 0 else row

    def thinned(self, every: int) -> Trace:
        """Every n-th row, for playback; values between them are read with `at`. Claims are not checked on it.

        Its events and inputs are those of the rows kept. Raises LarkError for less than 1.
        """
        if not isinstance(every, int) or isinstance(every, bool) or every < 1:
            raise LarkError(f"a recording keeps every n-th row, n at least 1, not {every!r}")
        kept = EventLog()
        for row, name, source, text in self.events.fields():
            if row % every == 0:
                kept.append(row // every, name, source, text)
        header = structs.replace(self.header, every=self.header.every * every)
        return self.taken(slice(None, None, every), kept, header)

    def at(self, channel: str, frame: float) -> float | int | bool | str:
        """A channel's value at any frame of the run, between rows too: linear for numbers, held for everything else.

        Raises LarkError outside the recording.
        """
        column, place = self.column(channel), frame / self.header.every
        if not 0 <= place <= self.rows - 1:
            raise LarkError(f"frame {frame:g} is outside this recording: 0..{(self.rows - 1) * self.header.every}")
        low = int(place)
        if column.channel.kind != "number" or place == low:
            return column.at(low)
        before, after = float(column.stored[low]), float(column.stored[low + 1])
        return before + (after - before) * (place - low)

    def strays(self, full: Trace) -> dict[str, float]:
        """How far this thinned recording strays from the full one: for each channel the largest difference of a number,
        or the share of rows in which anything else is not what it was."""
        frames = np.arange(min(full.rows, (self.rows - 1) * self.header.every + 1))
        found = {}
        for name in self.channels:
            column, whole = self.column(name), full.column(name)
            if column.channel.kind == "number":
                between = np.interp(frames, np.arange(self.rows) * self.header.every, column.stored)
                off = np.abs(between - whole.stored[: len(frames)])
                found[name] = float(np.nanmax(off, initial=0.0))
            else:
                held = column.values[frames // self.header.every]
                found[name] = float(np.mean(held != whole.values[: len(frames)]))
        return found

    def pieces(self, names: Collection[str] | None = None) -> Iterator[Trace]:
        """The trace itself, as its only piece, or one with the channels named."""
        if names is None:
            yield self
        else:
            yield Trace(self.header, {n: self.columns[n] for n in names}, self.inputs, self.events, self.rows)

    @cached_property
    def digest(self) -> str:
        """SHA-256 over a canonical form (see larktally.traces.digest): the same for the same run."""
        return digest_of(self)

    def save(self, path: str | Path) -> Path:
        """Writes the trace whole or not at all; the suffix names the format: .parquet or .jsonl."""
        from larktally.traces.files import save_trace

        return save_trace(self, path)

    @classmethod
    def load(cls, path: str | Path) -> Trace:
        """Reads a trace file; raises TraceError with the place where it is broken or of another kind."""
        from larktally.traces.files import load_trace

        return load_trace(path)

    def to_pandas(self) -> pandas.DataFrame:
        """A DataFrame with one row a frame (index `frame`): the channels, labels as categories, and `input:NAME`."""
        try:
            import pandas
        except ImportError:
            raise LarkError("to_pandas needs pandas: python -m pip install 'lark-tally[pandas]'") from None
        series: dict[str, Any] = {}
        for name, column in self.columns.items():
            if column.channel.kind == "label":
                series[name] = pandas.Categorical.from_codes(column.stored, categories=list(column.channel.labels))
            else:
                series[name] = column.stored
        series |= {f"input:{name}": values for name, values in self.inputs.items()}
        return pandas.DataFrame(series, index=pandas.RangeIndex(self.rows, name="frame"))

    def to_numpy(self) -> npt.NDArray[Any]:
        """A structured array of R rows: a field for each channel and `input:NAME`; labels as strings."""
        fields = {name: column.values for name, column in self.columns.items()}
        fields |= {f"input:{name}": values for name, values in self.inputs.items()}
        kinds = [(name, "O" if values.dtype == object else values.dtype) for name, values in fields.items()]
        out = np.empty(self.rows, dtype=kinds)
        for name, values in fields.items():
            out[name] = values
        return out

    @classmethod
    def from_numpy(cls, array: npt.NDArray[Any], rate: Rate | int | str | None = None) -> Trace:
        """A trace from a structured array as to_numpy makes it; a field's type gives the channel's kind.

        Raises LarkError for a field that is no number, count, flag or string.
        """
        if array.dtype.names is None:
            raise LarkError("from_numpy takes a structured array, with a field for each channel")
        return trace_from_columns({name: array[name] for name in array.dtype.names}, rate)

    @classmethod
    def from_pandas(cls, frame: pandas.DataFrame, rate: Rate | int | str | None = None) -> Trace:
        """A trace from a DataFrame with a row a frame, as to_pandas makes it."""
        return trace_from_columns({str(name): np.asarray(frame[name]) for name in frame.columns}, rate)

    def __repr__(self) -> str:
        rate = f" at {self.rate} frames/s" if self.rate else ""
        name = self.header.scenario or self.header.subject or "trace"
        return f"<Trace {name}: {self.rows} rows{rate}, {len(self.channels)} channels, {len(self.events)} events>"


def trace_from_columns(
    given: Mapping[str, npt.NDArray[Any]],
    rate: Rate | int | str | None = None,
    *,
    events: EventLog | None = None,
    labels: Mapping[str, tuple[str, ...]] | None = None,
    subject: str = "",
    rows: int | None = None,
) -> Trace:
    """A trace from arrays, `input:NAME` for an input; each array's type gives its channel's kind.

    `rows` says how many there are where no array does.
    """
    inputs = {name[6:]: _input_values(name, values) for name, values in given.items() if name.startswith("input:")}
    columns = {
        name: column_of(name, values, (labels or {}).get(name))
        for name, values in given.items()
        if not name.startswith("input:")
    }
    log = events if events is not None else EventLog()
    header = Header(
        rate_text=str(as_rate(rate)) if rate is not None else "",
        subject=subject,
        channels=tuple(column.channel for column in columns.values()),
        inputs=tuple(inputs),
        actions=tuple(inputs),
        analog=tuple(name for name, values in inputs.items() if not np.isin(values, (0.0, 1.0)).all()),
        events=tuple(dict.fromkeys(log.names)),
        allow_nan=True,
    )
    return Trace(header, columns, inputs, log, rows)


def _input_values(name: str, values: npt.NDArray[Any]) -> npt.NDArray[np.float64]:
    values = np.asarray(values)
    if values.dtype.kind not in "biuf" or not bool((np.abs(values.astype(np.float64)) <= 1).all()):
        raise LarkError(f"column {name!r} is an input, so it holds 0 and 1, or numbers in [-1, 1]")
    return values.astype(np.float64)
