"""What a NAME.partial holds, read in pieces: at its end a recording becomes a trace of its final form through it, and what
a killed one had flushed is recovered."""

from __future__ import annotations

import contextlib
import struct
from collections.abc import Collection, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from msgspec import structs

from larktally.errors import TraceError
from larktally.traces.columns import Column
from larktally.traces.digest import sums_of
from larktally.traces.events import EventLog
from larktally.traces.formats.arrow import (
    METADATA_KEY,
    column_from_arrow,
    events_from_arrow,
    is_compressed,
    numbers_of,
    recording_schema,
)
from larktally.traces.header import Header, read_header
from larktally.traces.trace import Trace

__all__ = ["RecordingStream"]


class RecordingStream:
    """What a NAME.partial holds, read in pieces: whole batches up to where it was cut off, and no more than `most` rows."""

    def __init__(self, path: Path, header: Header | None = None, most: int | None = None) -> None:
        self.path = path
        self.states: Mapping[int, bytes] = {}
        try:
            with pa.OSFile(str(path)) as file, pa.ipc.open_stream(file) as stream:
                schema = stream.schema
                metadata, self._columns = schema.metadata or {}, schema.names
        except (pa.ArrowException, OSError, ValueError) as error:
            raise TraceError(f"{path}: not a recording that can be recovered: {_first_line(error)}") from None
        if METADATA_KEY not in metadata:
            raise TraceError(
                f"{path}: an Arrow stream, but not a recording: it has no {METADATA_KEY.decode()!r} metadata"
            )
        self._began, _ = read_header(metadata[METADATA_KEY], str(path))
        inputs = []
        for name in self._columns:
            if name.startswith("input:"):
                inputs.append(name.removeprefix("input:"))
        if not schema.equals(recording_schema(self._began, inputs)):
            raise TraceError(f"{path}: broken: its columns are not the ones its header names")
        # What this very process wrote a moment ago says what it should.
        self._own = header is not None
        with self._told():
            if not self._own:
                self._check_unfolded()
            self._whole = self._count()
        whole = sum(rows for rows, _, _ in self._whole)
        if most is None:
            self.rows = whole
        else:
            self.rows = min(whole, most)
        if header is not None:
            self.header = header
        else:
            self.header = self._recovered()

    @cached_property
    def _sums(self) -> tuple[str, int]:
        return sums_of(self)

    @property
    def digest(self) -> str:
        """The digest that the finished trace has."""
        return self._sums[0]

    @property
    def checksum(self) -> int:
        """The checksum that the finished trace has."""
        return self._sums[1]

    def pieces(self, names: Collection[str] | None = None) -> Iterator[Trace]:
        """The batches as traces, with the labels of the header."""
        left = self.rows
        with self._told():
            for piece in self._pieces(names):
                if piece.rows > left:
                    piece = piece.taken(slice(left), piece.events.between(0, left - 1))
                yield piece
                left -= piece.rows
                if left <= 0:
                    return

    def _pieces(self, names: Collection[str] | None) -> Iterator[Trace]:
        channels = [c for c in self.header.channels if names is None or c.name in names]
        inputs = [name for name in self.header.inputs if names is None or f"input:{name}" in names]
        fields = [*(c.name for c in channels), *(f"input:{name}" for name in inputs)]
        with_events = names is None or "events" in names
        if with_events:
            fields.append("events")
        for batch in self._batches(len(self._whole), fields):
            columns = {}
            for c in channels:
                columns[c.name] = Column(c, column_from_arrow(c, pa.chunked_array([batch.column(c.name)])))
            events = EventLog()
            if with_events:
                emitted = pa.chunked_array([batch.column("events")])
                events = events_from_arrow(emitted, self.path, trusted=self._own)
            yield Trace(
                self.header, columns, {name: self._input(batch, name) for name in inputs}, events, batch.num_rows
            )
        if not self._whole:
            empty = {}
            for c in channels:
                empty[c.name] = Column(c, np.zeros(0, c.dtype))
            yield Trace(self.header, empty, {name: np.zeros(0) for name in inputs}, EventLog())

    def whole(self) -> Trace:
        """All of it in memory, as one trace."""
        pieces = list(self.pieces())
        columns = {
            c.name: Column(c, np.concatenate([piece.columns[c.name].stored for piece in pieces]))
            for c in self.header.channels
        }
        inputs = {name: np.concatenate([piece.inputs[name] for piece in pieces]) for name in self.header.inputs}
        events, first = EventLog(), 0
        for piece in pieces:
            events.extend(piece.events.shifted(first))
            first += piece.rows
        return Trace(self.header, columns, inputs, events, self.rows)

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        """What is broken inside is one message that names the file."""
        try:
            yield
        except TraceError:
            raise
        except (pa.ArrowException, LookupError, ValueError, TypeError, AttributeError, struct.error) as error:
            raise TraceError(f"{self.path}: broken: {_first_line(error)}") from None

    def _check_unfolded(self) -> None:
        """Raises ValueError where a batch is compressed: no recording is, and a small one could unfold to any size."""
        with pa.OSFile(str(self.path)) as file, contextlib.suppress(StopIteration, pa.ArrowException, OSError):
            messages = pa.ipc.MessageReader.open_stream(file)
            while True:
                if is_compressed(messages.read_next_message().metadata.to_pybytes()):
                    raise ValueError("its batches are compressed, which those of a recording are not")

    def _batches(self, most: int | None = None, fields: Collection[str] | None = None) -> Iterator[Any]:
        """The batches, with all columns or the ones named; all are checked where `most` of them are not known whole."""
        chosen = []
        for n, name in enumerate(self._columns):
            if fields is None or name in fields:
                chosen.append(n)
        options = pa.ipc.IpcReadOptions(included_fields=chosen)
        with pa.OSFile(str(self.path)) as file, pa.ipc.open_stream(file, options=options) as stream:
            number = 0
            while most is None or number < most:
                try:
                    batch = stream.read_next_batch()
                    if most is None and not self._own:
                        # Only the first time: lengths and offsets that point outside of the file would read whatever lies
                        # there.
                        batch.validate(full=True)
                except (StopIteration, pa.ArrowException, OSError, ValueError):
                    return
                yield batch
                number += 1

    def _count(self) -> list[tuple[int, dict[str, list[str]], list[str]]]:
        """Of each whole batch: its rows, the labels known by then, and the names of its events."""
        found = []
        labels = []
        for channel in self._began.channels:
            if channel.kind == "label":
                labels.append(channel.name)
        for batch in self._batches():
            known = {}
            for name in labels:
                known[name] = batch.column(name).dictionary.to_pylist()
            names: list[str] = []
            if not self._own:
                names = events_from_arrow(pa.chunked_array([batch.column("events")]), self.path).names
            found.append((batch.num_rows, known, list(dict.fromkeys(names))))
        return found

    def _recovered(self) -> Header:
        """The header that a cut-off recording ends up with."""
        known = {}
        if self._whole:
            known = self._whole[-1][1]
        channels = []
        for channel in self._began.channels:
            if channel.kind == "label":
                # The labels that came up while it ran stand in the batches alone: the header was written at its start.
                seen = dict.fromkeys([*channel.labels, *known.get(channel.name, ())])
                channel = structs.replace(channel, labels=tuple(seen))
            channels.append(channel)
        names = dict.fromkeys([*self._began.events, *(name for _, _, emitted in self._whole for name in emitted)])
        stopped = f"the recording was cut off; its first {self.rows} rows were recovered"
        return structs.replace(self._began, channels=tuple(channels), events=tuple(names), stopped=stopped)

    def _input(self, batch: Any, name: str) -> npt.NDArray[np.float64]:
        at = batch.schema.get_field_index(f"input:{name}")
        if at >= 0:
            return np.array(numbers_of(batch.column(at)))
        return np.zeros(batch.num_rows)


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or ["it is empty"])[0]
