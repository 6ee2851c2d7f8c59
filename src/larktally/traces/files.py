"""Which file format a path names, and files that are written whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from larktally.errors import TraceError, did_you_mean

if TYPE_CHECKING:
    from larktally.traces.trace import Trace

__all__ = ["save_trace", "load_trace", "whole_file", "existing_file"]


def save_trace(trace: Trace, path: str | Path) -> Path:
    """Writes a trace as its suffix says; nothing stands under the name until the file is whole."""
    path = Path(path)
    write = {".parquet": _save_parquet, ".jsonl": _save_jsonl}.get(path.suffix)
    if write is None:
        raise TraceError(f"{path}: a trace is saved as .parquet or .jsonl, not {path.suffix or 'without a suffix'!r}")
    with whole_file(path) as file:
        write(trace, file)
    return path


def load_trace(path: str | Path) -> Trace:
    """Reads a trace file of either format; raises TraceError naming the file and what is wrong with it."""
    path = existing_file(path)
    try:
        with path.open("rb") as file:
            start = file.read(4)
        if start == b"PAR1":
            from larktally.traces.parquet import read_parquet

            return read_parquet(path)
        if start[:1] == b"{":
            from larktally.traces.jsonl import read_jsonl

            return read_jsonl(path)
    except MemoryError:
        raise TraceError(f"{path}: broken: it asks for more memory than there is") from None
    except OSError as error:
        raise TraceError(f"{path}: cannot be read: {error.strerror or error}") from None
    raise TraceError(f"{path}: not a trace: it is neither Parquet nor JSON Lines (it starts with {start!r})")


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


def _save_parquet(trace: Trace, file: BinaryIO) -> None:
    from larktally.traces.parquet import write_parquet

    write_parquet(trace, file)


def _save_jsonl(trace: Trace, file: BinaryIO) -> None:
    from larktally.traces.jsonl import write_jsonl

    write_jsonl(trace, file)
