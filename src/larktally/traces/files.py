"""Which file format a path names, and files that are written whole or not at all."""

from __future__ import annotations

import contextlib
import importlib
import os
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from larktally.errors import TraceError, did_you_mean
from larktally.timing import Rate, as_rate

if TYPE_CHECKING:
    from larktally.traces.trace import Pieces, Trace

__all__ = ["save_trace", "load_trace", "writer_for", "whole_file", "existing_file", "is_trace", "TRACE_SUFFIXES"]

TRACE_SUFFIXES = (".parquet", ".jsonl")
_WRITERS = {
    ".parquet": ("parquet", "write_parquet"),
    ".jsonl": ("jsonl", "write_jsonl"),
    ".csv": ("csv_tables", "write_csv"),
    ".vcd": ("vcd", "write_vcd"),
}


def save_trace(trace: Pieces, path: str | Path) -> Path:
    """Writes a trace as its suffix says; nothing stands under the name until the file is whole."""
    path = Path(path)
    write = writer_for(path)
    with whole_file(path) as file:
        write(trace, file)
    return path


def writer_for(path: Path) -> Callable[[Pieces, BinaryIO], None]:
    """The function that writes a trace as a path's suffix says; raises TraceError for a suffix that none does."""
    if path.suffix not in _WRITERS:
        raise TraceError(
            f"{path}: a trace is saved as {', '.join(_WRITERS)}, not {path.suffix or 'without a suffix'!r}"
        )
    module, function = _WRITERS[path.suffix]
    write: Callable[[Pieces, BinaryIO], None] = getattr(importlib.import_module(f"larktally.traces.{module}"), function)
    return write


def load_trace(path: str | Path, *, rate: Rate | int | str | None = None, mapping: str | Path | None = None) -> Trace:
    """Reads a trace file (Parquet, JSON Lines, CSV), or with a `mapping` a log from elsewhere.

    `rate` is for a file that carries none: a CSV, or a log whose mapping does not say it. Raises TraceError naming the
    file and what is wrong with it.
    """
    path = existing_file(path)
    try:
        if mapping is not None:
            from larktally.traces.logs import read_log

            return read_log(path, mapping, rate)
        trace = _read(path, rate)
    except MemoryError:
        raise TraceError(f"{path}: broken: it asks for more memory than there is") from None
    except OSError as error:
        raise TraceError(f"{path}: cannot be read: {error.strerror or error}") from None
    if rate is not None and trace.rate != as_rate(rate):
        raise TraceError(
            f"{path}: it carries its own rate, {trace.rate} frames/s; leave the other, {as_rate(rate)}, out"
        )
    return trace


def _read(path: Path, rate: Rate | int | str | None) -> Trace:
    with path.open("rb") as file:
        start = file.read(4)
    if start == b"PAR1":
        from larktally.traces.parquet import read_parquet

        return read_parquet(path)
    if start[:1] == b"{":
        from larktally.traces.jsonl import read_jsonl

        return read_jsonl(path)
    if path.suffix == ".csv":
        from larktally.traces.csv_tables import read_csv

        return read_csv(path, rate)
    hint = "; recover it: larktally convert --recover" if path.suffix == ".partial" else ""
    raise TraceError(f"{path}: not a trace: it is neither Parquet nor JSON Lines (it starts with {start!r}){hint}")


def is_trace(path: Path) -> bool:
    """Whether a file begins as a trace of this library does: Parquet, or a JSON header."""
    with existing_file(path).open("rb") as file:
        start = file.read(200)
    return start[:4] == b"PAR1" or b'"larktally"' in start


def existing_file(path: str | Path) -> Path:
    """The path of a file that is there; raises TraceError with the nearest name in its folder where it is not."""
    path = Path(path)
    if path.is_file():
        return path
    if path.exists():
        raise TraceError(f"{path}: not a file")
    beside = [entry.name for entry in path.parent.iterdir()] if path.parent.is_dir() else []
    raise TraceError(f"{path}: no such file{did_you_mean(path.name, beside)}")


@contextlib.contextmanager
def whole_file(path: Path) -> Iterator[BinaryIO]:
    """A file to write that takes the name `path` when all of it is written, and leaves nothing behind otherwise."""
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as error:
        raise TraceError(f"{path}: cannot be written: {error.strerror or error}") from None
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise
