"""A trace that stands in a file: its header and length at hand, everything else read when it is first asked for."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from pathlib import Path

import numpy as np
import numpy.typing as npt

from larktally.traces.columns import Column
from larktally.traces.contents import TraceContents
from larktally.traces.events import EventLog
from larktally.traces.files import read_contents
from larktally.traces.header import Header
from larktally.traces.trace import Trace

__all__ = ["LazyTrace"]


class LazyTrace(Trace):
    """A trace as recording to a file returns it: `path` is where it stands, `digest` was computed while it was written.

    A recording of any length costs no memory until its rows are looked at; then the whole file is read.
    """

    def __init__(self, path: Path, header: Header, rows: int, digest: str) -> None:
        self.path, self.header, self.rows = path, header, rows
        self.digest = digest

    @cached_property
    def _read(self) -> TraceContents:
        return read_contents(self.path)

    @property
    def columns(self) -> Mapping[str, Column]:
        return self._read.columns

    @property
    def inputs(self) -> Mapping[str, npt.NDArray[np.float64]]:
        return self._read.inputs

    @property
    def events(self) -> EventLog:
        return self._read.events

    @property
    def states(self) -> Mapping[int, bytes]:
        return self._read.states
