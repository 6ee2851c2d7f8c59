"""A recording that goes on, as a file: NAME.partial, an Arrow IPC stream, flushed a chunk at a time, held by one recording.

While it is open it is locked: a second recording of the same name is told so at once. What a killed one left is never
written over: it is set aside as NAME.1.partial, and told of.
"""

from __future__ import annotations

import contextlib
import itertools
import os
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from larktally.errors import LarkTallyWarning, WriteError
from larktally.traces.columns import Channel
from larktally.traces.events import EventLog
from larktally.traces.formats.arrow import METADATA_KEY, column_to_arrow, events_to_arrow, recording_schema, to_arrow
from larktally.traces.header import Header, header_json
from larktally.whole_files import cannot_write, check_target

try:
    import fcntl
except ImportError:  # pragma: no cover
    # Where files cannot be locked so, two recordings of one name are not told of each other.
    fcntl = None  # type: ignore[assignment]

__all__ = ["RecordingWriter", "partial_path", "partials_of"]


def partial_path(path: Path) -> Path:
    """Where a recording stands until it is whole."""
    return path.with_name(path.name + ".partial")


def partials_of(path: Path) -> list[Path]:
    """What recordings of this name left that never became whole: NAME.partial, NAME.1.partial, …"""
    found = []
    if partial_path(path).is_file():
        found.append(partial_path(path))
    for number in itertools.count(1):
        aside = _set_aside_path(path, number)
        if not aside.is_file():
            return found
        found.append(aside)
    raise AssertionError


class RecordingWriter:
    """Writes chunks of rows as they come; each is with the operating system when `add` returns.

    Raises WriteError where the file cannot be written, or another recording of the same name goes on.
    """

    def __init__(self, target: Path, header: Header, inputs: Sequence[str]) -> None:
        self.path, self.rows = partial_path(target), 0
        self._target = target
        self._channels, self._inputs = header.channels, tuple(inputs)
        self._schema = recording_schema(header, inputs).with_metadata({METADATA_KEY: header_json(header)})
        self._file = _held(target)
        # New labels are added to the ones written: without deltas each chunk would carry all of them again.
        options = pa.ipc.IpcWriteOptions(emit_dictionary_deltas=True)
        try:
            self._stream = pa.ipc.new_stream(self._file, self._schema, options=options)
            self._file.flush()
        except OSError as error:
            self.let_go()
            raise self._cannot_write(error) from None

    def add(
        self,
        channels: Sequence[Channel],
        arrays: Sequence[npt.NDArray[Any]],
        inputs: Mapping[str, npt.NDArray[np.float64]],
        events: EventLog,
        rows: int,
    ) -> None:
        """Writes one chunk: the channels with the labels they have by now; rows of events are counted from its first."""
        columns = []
        for channel, array in zip(channels, arrays, strict=True):
            columns.append(column_to_arrow(channel, array))
        for name in self._inputs:
            columns.append(to_arrow(inputs[name]))
        columns.append(events_to_arrow(events, rows))
        try:
            self._stream.write_batch(pa.RecordBatch.from_arrays(columns, schema=self._schema))
            self._file.flush()
        except OSError as error:
            self.let_go()
            raise self._cannot_write(error) from None
        self.rows += rows

    def close(self) -> None:
        """Ends the stream; the file stays locked until it is removed or let go of."""
        try:
            self._stream.close()
            self._file.flush()
        except OSError as error:
            self.let_go()
            raise self._cannot_write(error) from None

    def remove(self) -> None:
        """Takes the partial file away: what it held stands whole under another name."""
        # Before it is let go of, so that nobody else can have taken it over.
        os.unlink(self.path)
        self._file.close()

    def let_go(self) -> None:
        """Closes the file and leaves it as it is, so that it can be recovered; one without any rows goes."""
        with contextlib.suppress(OSError):
            if not self.rows and not self._file.closed:
                os.unlink(self.path)
            self._file.close()

    def kept(self) -> str:
        """The end of a message: how many rows are kept, and how to get at them; "" where there are none."""
        if not self.rows:
            return ""
        return f"; {self.rows} rows are kept in {self.path}: larktally convert --recover {self.path} FILE"

    def _cannot_write(self, error: OSError) -> WriteError:
        return cannot_write(self._target, error, kept=self.kept())


def _held(target: Path) -> BinaryIO:
    """NAME.partial, empty and locked; one that a killed recording left is set aside first."""
    check_target(target)
    path = partial_path(target)
    while True:
        try:
            # Neither cut nor created anew: it may be another recording's.
            file = os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT, 0o666), "r+b")
        except OSError as error:
            raise cannot_write(target, error) from None
        if not _locked(file):
            file.close()
            raise WriteError(
                f"{target}: it is being recorded by another run just now, into {path}; record into another folder, or "
                "under another name"
            )
        if not _stands_at(file, path):
            # Between opening and locking it the other recording became whole.
            file.close()
            continue
        if os.fstat(file.fileno()).st_size == 0:
            return file
        _set_aside(target)
        file.close()


def _locked(file: BinaryIO) -> bool:
    """Whether this file is ours alone from now on; the lock goes with the process, however it ends."""
    if fcntl is None:
        return True
    try:
        fcntl.flock(file.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _stands_at(file: BinaryIO, path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(file.fileno()), path.stat())
    except OSError:
        return False


def _set_aside(target: Path) -> None:
    """Gives what a killed recording left another name, and says so."""
    path = partial_path(target)
    number = 1
    while _set_aside_path(target, number).exists():
        number += 1
    aside = _set_aside_path(target, number)
    try:
        path.rename(aside)
    except OSError as error:
        raise cannot_write(target, error) from None
    warnings.warn(
        f"{path} was left by a recording that was cut off; it is called {aside} now: larktally convert --recover {aside} FILE",
        LarkTallyWarning,
        stacklevel=2,
    )


def _set_aside_path(target: Path, number: int) -> Path:
    return target.with_name(f"{target.name}.{number}.partial")
