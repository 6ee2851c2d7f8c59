"""Traces in files: read by what a file is, written by what its name says, and whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from pathlib import Path
from typing import Any, BinaryIO

from larktally.errors import TraceError
from larktally.names import existing_file
from larktally.timing import RateLike, as_rate
from larktally.traces.contents import Savable, TraceContents, small_pieces
from larktally.traces.formats import FORMATS, Format, by_suffix
from larktally.traces.header import check_header
from larktally.whole_files import whole_file

__all__ = ["BEFORE", "is_trace", "read_contents", "save_trace", "traces_in", "writer_for"]

#: What ends the name of the run before, which stands beside the run.
BEFORE = ".before"


def save_trace(trace: Savable, path: str | Path, on_progress: Callable[[int, int], Any] | None = None) -> Path:
    """Writes a trace as its suffix says; nothing stands under the name until the file is whole.

    `on_progress` is called with the rows that are written and with all there are.
    """
    path = Path(path)
    write = writer_for(path)
    # What could not be read back is not written.
    check_header(trace.header)
    if on_progress is not None:
        trace = _Watched(trace, on_progress)
    with whole_file(path) as file:
        write(trace, file)
    return path


class _Watched:
    """A trace whose rows are counted as a writer takes them."""

    def __init__(self, source: Savable, on_progress: Callable[[int, int], Any]) -> None:
        self._source, self._on_progress = source, on_progress
        self.header, self.rows, self.states = source.header, source.rows, source.states

    @property
    def digest(self) -> str:
        return self._source.digest

    @property
    def checksum(self) -> int:
        return self._source.checksum

    def pieces(self, names: Collection[str] | None = None) -> Iterator[TraceContents]:
        # Some columns alone are what a sum or a look ahead asks for.
        if names is not None:
            yield from self._source.pieces(names)
            return
        done = 0
        for piece in small_pieces(self._source):
            yield piece
            done += piece.rows
            self._on_progress(done, self.rows)


def writer_for(path: Path) -> Callable[[Savable, BinaryIO], None]:
    """The function that writes a trace as a path's suffix says; raises TraceError for a suffix that none does."""
    found = by_suffix(path)
    if found is None:
        suffixes = ", ".join(one.suffix for one in FORMATS)
        raise TraceError(f"{path}: a trace is saved as {suffixes}, not {path.suffix or 'without a suffix'!r}")
    return found.module().write


def read_contents(path: str | Path, rate: RateLike | None = None, mapping: str | Path | None = None) -> TraceContents:
    """What a trace file holds, or with a `mapping` a log from elsewhere; see `load_trace`."""
    path = existing_file(path)
    try:
        if mapping is not None:
            from larktally.traces.formats.logs.reading import read_log

            return read_log(path, existing_file(mapping), rate)
        found = _format_of(path).module().read(path, rate)
    except MemoryError:
        raise TraceError(f"{path}: broken: it asks for more memory than there is") from None
    except OSError as error:
        raise TraceError(f"{path}: cannot be read: {error.strerror or error}") from None
    if rate is not None and found.header.rate != as_rate(rate):
        own = f"it carries its own rate, {found.header.rate} frames/s"
        raise TraceError(f"{path}: {own}; leave the other, {as_rate(rate)}, out")
    return found


def _format_of(path: Path) -> Format:
    """What a file is by its first bytes, and where a format has none that are its own, by its suffix."""
    with path.open("rb") as file:
        start = file.read(4)
    for one in FORMATS:
        if one.first_bytes and start.startswith(one.first_bytes):
            return one
    named = by_suffix(path)
    # By its suffix only where a format has no first bytes: a Parquet file that was cut off is no CSV, whatever it is
    # called.
    if named is not None and named.reads and not named.first_bytes:
        return named
    hint = ""
    if path.suffix == ".partial":
        hint = "; recover it: larktally convert --recover"
    raise TraceError(f"{path}: not a trace: it is neither Parquet nor JSON Lines (it starts with {start!r}){hint}")


def is_trace(path: Path) -> bool:
    """Whether a file begins as a trace of this library does, so that it needs no mapping."""
    with existing_file(path).open("rb") as file:
        # The header's own key stands among its first: the line may be megabytes long.
        start = file.read(200)
    return any(start.startswith(one.first_bytes) and one.mark in start for one in FORMATS if one.first_bytes)


def traces_in(folder: Path) -> list[Path]:
    """The traces in a folder, in the order of their names; raises TraceError where there is none."""
    # Only what says by itself that it is a trace: a CSV in the folder may be anything.
    suffixes = []
    for one in FORMATS:
        if one.first_bytes:
            suffixes.append(one.suffix)
    files = []
    for path in sorted(folder.iterdir()):
        # The run before stands beside the run: it is no run of today's.
        if path.suffix in suffixes and not path.stem.endswith(BEFORE):
            files.append(path)
    if not files:
        raise TraceError(f"{folder}: no trace in this folder ({', '.join(suffixes)})")
    return files
