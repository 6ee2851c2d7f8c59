"""A trace that stands in a file: its header and length at hand, everything else read when it is first asked for."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from larktally.traces.header import Header
from larktally.traces.trace import Trace

__all__ = ["StoredTrace"]

_READ = ("columns", "inputs", "events", "states")


class StoredTrace(Trace):
    """A trace as recording to a file returns it: `path` is where it stands, `digest` was computed while it was written.

    A recording of any length costs no memory until its rows are looked at; then the whole file is read.
    """

    columns: Any
    inputs: Any
    events: Any
    states: Mapping[int, bytes]

    def __init__(self, path: Path, header: Header, rows: int, digest: str) -> None:
        self.path, self.header, self.rows = path, header, rows
        self.__dict__["digest"] = digest

    def __getattr__(self, name: str) -> Any:
        if name not in _READ:
            raise AttributeError(f"{type(self).__name__!r} object has no attribute {name!r}")
        from larktally.traces.files import load_trace

        whole = load_trace(self.path)
        for one in _READ:
            setattr(self, one, getattr(whole, one))
        return getattr(self, name)
