"""Recording into a file: chunks of rows into NAME.partial while the run goes on, and the whole under its name at the end."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import numpy.typing as npt

from larktally.errors import WriteError
from larktally.traces.columns import Array, Channel
from larktally.traces.events import EventLog
from larktally.traces.files import save_trace
from larktally.traces.header import Header
from larktally.traces.lazy_trace import LazyTrace
from larktally.traces.recording_stream import RecordingStream
from larktally.traces.recording_writer import RecordingWriter

__all__ = ["FileRecording", "stopped_path"]


class FileRecording:
    """A recording on its way into a file."""

    def __init__(self, path: Path, header: Header) -> None:
        self.path = path
        self._writer = RecordingWriter(path, header, header.inputs)

    def add(
        self,
        channels: Sequence[Channel],
        arrays: Sequence[Array],
        inputs: Mapping[str, npt.NDArray[np.float64]],
        events: EventLog,
        rows: int,
    ) -> None:
        """A chunk of so many rows, with its events counted from its first."""
        self._writer.add(channels, arrays, inputs, events, rows)

    def finished(self, header: Header, states: Mapping[int, bytes], path: Path, rows: int) -> LazyTrace:
        """Ends it: the first so many rows as a file of its final form; the partial one goes."""
        self._writer.close()
        stream = RecordingStream(self._writer.path, header, rows)
        stream.states = states
        try:
            save_trace(stream, path)
        except WriteError as error:
            self._writer.let_go()
            raise WriteError(f"{error}{self._writer.kept()}") from None
        lazy = LazyTrace(path, header, stream.rows, stream.digest)
        # Last of all: until the whole file stands, the partial one is what there is.
        self._writer.remove()
        return lazy

    def let_go(self) -> str:
        """Leaves the recording as far as it came; the end of a message that says what is kept of it."""
        self._writer.let_go()
        return self._writer.kept()


def stopped_path(path: Path) -> Path:
    """Where what there is of a failed run is kept: run.stopped.parquet."""
    return path.with_name(f"{path.stem}.stopped{path.suffix}")
