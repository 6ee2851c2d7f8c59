"""The trace: channels, events and inputs of one run, with its header."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from larktally.errors import LarkError, unknown_name
from larktally.timing import Rate
from larktally.traces.columns import Column
from larktally.traces.digest import digest_of
from larktally.traces.events import EventLog
from larktally.traces.header import Header

if TYPE_CHECKING:
    import pandas

__all__ = ["Trace"]


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
    ) -> None:
        self.header = header
        self.columns = dict(columns)
        self.inputs = dict(inputs)
        self.events = events
        lengths = {len(column.stored) for column in self.columns.values()} | {len(v) for v in self.inputs.values()}
        if len(lengths) > 1:
            raise LarkError(f"the columns of a trace have one length, not {sorted(lengths)}")
        self.rows = lengths.pop() if lengths else 0
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

    def row(self, row: int) -> dict[str, float | int | bool | str]:
        """Every channel's value in one row, as plain Python values; negative rows count from the end."""
        if not -self.rows <= row < self.rows:
            raise LarkError(f"no row {row}: this trace has rows 0..{self.rows - 1}")
        return {name: self.columns[name].at(row) for name in self.channels}

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

    def __repr__(self) -> str:
        rate = f" at {self.rate} frames/s" if self.rate else ""
        name = self.header.scenario or self.header.subject or "trace"
        return f"<Trace {name}: {self.rows} rows{rate}, {len(self.channels)} channels, {len(self.events)} events>"
