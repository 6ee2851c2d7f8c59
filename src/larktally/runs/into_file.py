"""Recording into a file: chunks of rows into NAME.partial while the run goes on, and the whole under its name at the end."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from larktally.inputs import InputFeed
from larktally.traces import Channel, EventLog, Header
from larktally.traces.files import save_trace
from larktally.traces.partial import Partial, PartialWriter
from larktally.traces.stored import StoredTrace

__all__ = ["FileRecording", "input_columns", "stopped_path"]


class FileRecording:
    """A recording on its way into a file."""

    def __init__(self, path: Path, feed: InputFeed, header: Header) -> None:
        self._path, self._feed = path, feed
        self._writer = PartialWriter(path, header, header.inputs)

    def add(
        self, channels: Sequence[Channel], arrays: Sequence[npt.NDArray[Any]], first: int, rows: int, events: EventLog
    ) -> None:
        """A chunk of so many rows from `first` on, with its events."""
        inputs = input_columns(self._feed, first, rows)
        self._writer.add(channels, arrays, inputs, events.shifted(-first), rows)

    def finished(self, header: Header, states: Mapping[int, bytes], failed: bool) -> StoredTrace:
        """Ends it: the file of its final form, under NAME.stopped where the subject failed; the partial one goes."""
        self._writer.close()
        path = stopped_path(self._path) if failed else self._path
        partial = Partial(self._writer.path, header)
        partial.states = states
        save_trace(partial, path)
        stored = StoredTrace(path, header, partial.rows, partial.digest)
        os.unlink(self._writer.path)
        return stored


def stopped_path(path: Path) -> Path:
    """Where what there is of a failed run is kept: run.stopped.parquet."""
    return path.with_name(f"{path.stem}.stopped{path.suffix}")


def input_columns(feed: InputFeed, first: int, rows: int) -> dict[str, npt.NDArray[np.float64]]:
    """One float64 column of so many rows from `first` on for each action that is declared or was used."""
    changes: dict[str, list[tuple[int, float]]] = {action: [] for action in feed.view.actions}
    for row, action, value in feed.noted:
        changes[action].append((row, value))
    return {action: _filled(noted, first, rows) for action, noted in changes.items()}


def _filled(changes: list[tuple[int, float]], first: int, rows: int) -> npt.NDArray[np.float64]:
    """A column that begins with 0 and takes each change's value from its row on."""
    starts = np.array([first, *(row for row, _ in changes), first + rows]).clip(first, first + rows)
    return np.repeat(np.array([0.0, *(value for _, value in changes)]), np.diff(starts))
