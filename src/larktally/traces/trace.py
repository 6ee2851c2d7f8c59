"""The trace: channels, events and inputs of one run, with its header, to be read, cut, saved and loaded."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import msgspec
import numpy as np
import numpy.typing as npt
from msgspec import structs

from larktally.errors import LarkTallyError
from larktally.names import unknown_name
from larktally.timing import Duration, Rate, RateLike, frames_in
from larktally.traces.columns import Column
from larktally.traces.contents import TraceContents, contents_from_columns
from larktally.traces.events import EventLog, data_text
from larktally.traces.files import read_contents, save_trace
from larktally.traces.header import Header, frames_of_rows
from larktally.turning import turned

if TYPE_CHECKING:
    import pandas

__all__ = ["Trace", "load_trace"]


class Trace(TraceContents):
    """Everything a run left: R rows of channels, the events, and the inputs of each row.

    `trace["wick.y"]` is a NumPy array of R values: float64, int64, bool, or an object array of strings for a label.
    Arrays are read-only views; nothing is copied but labels.
    """

    @classmethod
    def of(cls, contents: TraceContents) -> Trace:
        """A trace that holds what was read."""
        trace = Trace(
            contents.header, contents.columns, contents.inputs, contents.events, contents.rows, contents.states
        )
        # One that the reader had to work out is not worked out again.
        if "digest" in vars(contents):
            trace.digest = contents.digest
        return trace

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
        found: list[str] = []
        for name in self.columns:
            if not name.startswith("seen:"):
                found.append(name)
        return found

    def __getitem__(self, channel: str) -> npt.NDArray[Any]:
        return self.column(channel).values

    def __len__(self) -> int:
        return self.rows

    def column(self, channel: str) -> Column:
        """A channel with its stored values; raises LarkTallyError with the nearest name where there is none."""
        if channel not in self.columns:
            raise LarkTallyError(unknown_name("channel", channel, self.channels, "this trace"))
        return self.columns[channel]

    def check_row(self, row: int) -> None:
        """Raises LarkTallyError for a row that it does not have."""
        if not 0 <= row < self.rows:
            raise LarkTallyError(f"no row {row}: this trace has rows 0..{self.rows - 1}")

    def row(self, row: int) -> dict[str, float | int | bool | str]:
        """Every channel's value in one row, as plain Python values; negative rows count from the end."""
        # Negative rows count from the end, as in a list.
        if row < -self.rows or row >= 0:
            self.check_row(row)
        found: dict[str, float | int | bool | str] = {}
        for name in self.channels:
            found[name] = self.columns[name].at(row)
        return found

    def window(self, first: int | str, last: int | str | None = None) -> Trace:
        """The rows first..last, both included, as a trace of their own whose row 0 is `first`.

        Rows, or times such as "1.5s"; `last` is the end where left out, and negative rows count from the end. Raises
        LarkTallyError for rows that are not there.
        """
        start, stop = self.row_at(first), self.rows - 1 if last is None else self.row_at(last)
        if not 0 <= start <= stop < self.rows:
            raise LarkTallyError(f"no rows {first}..{last}: this trace has rows 0..{self.rows - 1}")
        header = self.header
        if header.last_frame is not None:
            last_frame = None
            if stop == self.rows - 1 and stop > start:
                last_frame = header.last_frame - start * header.every
            header = structs.replace(header, last_frame=last_frame)
        return self.taken(slice(start, stop + 1), self.events.between(start, stop).shifted(-start), header)

    def taken(self, rows: slice | npt.NDArray[np.int64], events: EventLog, header: Header | None = None) -> Trace:
        """A copy of some of the rows, with events that are counted in them, and this header or another."""
        columns = {name: Column(c.channel, c.stored[rows].copy()) for name, c in self.columns.items()}
        inputs = {name: values[rows].copy() for name, values in self.inputs.items()}
        return Trace(header or self.header, columns, inputs, events, len(np.arange(self.rows)[rows]))

    def changed(self, *, events: EventLog | None = None, header: Header | None = None) -> Trace:
        """The same rows, and the states that were saved in them, with other events or another header."""
        if events is None:
            events = self.events
        return Trace(header or self.header, self.columns, self.inputs, events, self.rows, self.states)

    def with_channels(self, names: Collection[str]) -> Trace:
        """The same run with some of its channels alone; raises LarkTallyError for a name that is none of them."""
        columns = {name: self.column(name) for name in self.columns if name in names}
        for name in names:
            self.column(name)
        kept = tuple(channel for channel in self.header.channels if channel.name in columns)
        header = structs.replace(self.header, channels=kept, filtered=True)
        return Trace(header, columns, self.inputs, self.events, self.rows)

    def row_at(self, place: int | str) -> int:
        """The number of a row, or of the row at a time such as "1.5s"; negative ones count from the end."""
        if isinstance(place, int):
            row = place
        else:
            row = frames_in(place, self.rate, what="row:")
        if row < 0:
            return row + self.rows
        return row

    def thinned(self, every: Duration) -> Trace:
        """Every n-th row, n frames or a time such as "0.1s", and the last, for playback; values between them are read with
        `at`. Claims are not checked on it.

        Every event is kept: one of a row left out stands in the next row kept, and its data say its own `frame`. Inputs are
        those of the rows kept. Raises LarkTallyError for less than 1, or for a time that is no
        whole number of frames.
        """
        if isinstance(every, str):
            every = frames_in(every, self.rate, least=1, what="a thinned recording:")
        if not isinstance(every, int) or isinstance(every, bool) or every < 1:
            raise LarkTallyError(f"a recording keeps every n-th row, n at least 1, not {every!r}")
        frames = self.row_frames
        rows = np.arange(0, self.rows, every)
        header = structs.replace(self.header, every=self.header.every * every, last_frame=None)
        if self.rows and frames[-1] != (len(rows) - 1) * header.every:
            if rows[-1] != self.rows - 1:
                rows = np.append(rows, self.rows - 1)
            header = structs.replace(header, last_frame=int(frames[-1]))
        kept = EventLog()
        for row, name, source, text in self.events.fields():
            if row % every and row != self.rows - 1:
                text = _with_frame(text, int(frames[row]))
            kept.append(-(-row // every), name, source, text)
        return self.taken(rows, kept, header)

    @property
    def row_frames(self) -> npt.NDArray[np.int64]:
        """The frame of each row: int64, R of them; the rows' own numbers unless the recording is thinned."""
        return frames_of_rows(self.header, self.rows)

    def at(self, channel: str, frame: float) -> float | int | bool | str:
        """A channel's value at any frame of the run, between rows too: linear for numbers (of angles the short way round, so
        that it may lie beyond a whole turn), held for everything else.

        Raises LarkTallyError outside the recording.
        """
        column, every = self.column(channel), self.header.every
        last = self.header.last_frame
        if last is None:
            last = (self.rows - 1) * every
        if not 0 <= frame <= last:
            raise LarkTallyError(f"frame {frame:g} is outside this recording: 0..{last}")
        low = int(frame // every)
        if frame == last:
            low = self.rows - 1
        # Between rows only a number has a value of its own: a state or a flag holds until the next row.
        start = low * every
        if column.channel.kind != "number" or frame in (start, last):
            return column.at(low)
        before, after = float(column.stored[low]), float(column.stored[low + 1])
        way = float(turned(np.asarray(after - before), column.channel.wraps))
        return before + way * ((frame - start) / (min(start + every, last) - start))

    def thinning_error(self, full: Trace) -> dict[str, float]:
        """How far this thinned recording strays from the full one: for each channel the largest difference of a number,
        or the share of rows in which anything else is not what it was."""
        mine = self.row_frames
        frames = np.arange(min(full.rows, int(mine[-1]) + 1 if self.rows else 0))
        found = {}
        for name in self.channels:
            column, whole = self.column(name), full.column(name)
            if column.channel.kind == "number":
                kept, every_row = (cast("npt.NDArray[np.float64]", one.stored) for one in (column, whole))
                turn = column.channel.wraps
                if turn is not None:
                    # Unwound first: from 350 to 10 it is 20 on, and not 340 back.
                    kept = kept[0] + np.append(0.0, np.cumsum(turned(np.diff(kept), turn)))
                between = np.interp(frames, mine, kept)
                off = np.abs(turned(between - every_row[: len(frames)], turn))
                found[name] = float(np.nanmax(off, initial=0.0))
            else:
                held = column.values[np.searchsorted(mine, frames, side="right") - 1]
                found[name] = float(np.mean(held != whole.values[: len(frames)]))
        return found

    def save(self, path: str | Path) -> Path:
        """Writes the trace whole or not at all; the suffix names the format: .parquet or .jsonl."""
        return save_trace(self, path)

    @classmethod
    def load(cls, path: str | Path) -> Trace:
        """Reads a trace file; raises TraceError with the place where it is broken or of another kind."""
        return load_trace(path)

    def to_pandas(self) -> pandas.DataFrame:
        """A DataFrame with one row a frame (index `frame`): the channels, labels as categories, and `input:NAME`."""
        try:
            import pandas
        except ImportError:
            raise LarkTallyError("to_pandas needs pandas: python -m pip install 'lark-tally[pandas]'") from None
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
    def from_columns(
        cls,
        arrays: Mapping[str, npt.NDArray[Any]],
        rate: RateLike | None = None,
        wraps: Mapping[str, float] | None = None,
    ) -> Trace:
        """A trace from arrays of R values by name, `input:NAME` for an input; an array's type gives the channel's kind.

        `wraps` says of angles what a whole turn is. Raises LarkTallyError for an array that holds no numbers, counts, flags
        or strings.
        """
        return cls.of(contents_from_columns(arrays.items(), rate, wraps=wraps))

    @classmethod
    def from_numpy(cls, array: npt.NDArray[Any], rate: RateLike | None = None) -> Trace:
        """A trace from a structured array as to_numpy makes it; a field's type gives the channel's kind.

        Raises LarkTallyError for a field that is no number, count, flag or string.
        """
        if array.dtype.names is None:
            raise LarkTallyError("from_numpy takes a structured array, with a field for each channel")
        return cls.from_columns({name: array[name] for name in array.dtype.names}, rate)

    @classmethod
    def from_pandas(cls, frame: pandas.DataFrame, rate: RateLike | None = None) -> Trace:
        """A trace from a DataFrame with a row a frame, as to_pandas makes it."""
        return cls.from_columns({str(name): np.asarray(frame[name]) for name in frame.columns}, rate)

    def __repr__(self) -> str:
        if self.rate:
            rate = f" at {self.rate} frames/s"
        else:
            rate = ""
        name = self.header.scenario or self.header.subject or "trace"
        return f"<Trace {name}: {self.rows} rows{rate}, {len(self.channels)} channels, {len(self.events)} events>"


def _with_frame(text: str, frame: int) -> str:
    """The data of an event with the frame in which it fell, unless they say one themselves."""
    return data_text({"frame": frame, **(msgspec.json.decode(text) if text else {})})


def load_trace(path: str | Path, *, rate: RateLike | None = None, mapping: str | Path | None = None) -> Trace:
    """Reads a trace file (Parquet, JSON Lines, CSV), or with a `mapping` a log from elsewhere.

    `rate` is for a file that carries none: a CSV, or a log whose mapping does not say it. Raises TraceError naming the
    file and what is wrong with it.
    """
    return Trace.of(read_contents(path, rate, mapping))
