"""A run that is led on, put back and led on otherwise: what its rows were, and what was emitted in each."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from larktally.errors import SubjectFailed
from larktally.runs.observers import RunObserver, RunStart, Stretch
from larktally.runs.rows import chunk_reader
from larktally.runs.runner import Runner
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import Value

__all__ = ["Look", "Walk"]


class Walk(RunObserver):
    """A run that is led on and put back: its rows, checked as recording checks them, and what was emitted in each."""

    def __init__(self, scenario: Scenario) -> None:
        self.by_row: dict[int, tuple[Value, ...]] = {}
        self.emitted: dict[int, list[str]] = {}
        # Only what is looked at is kept: a run may be long.
        self._kept = False
        self._allow_nan = scenario.allow_nan
        self.run = Runner(scenario, [self])

    def begin(self, run: RunStart) -> None:
        self.names = [channel.name for channel in run.reader.channels]
        self._check = chunk_reader(run, run.reader.channels, self._allow_nan)

    def rows(self, stretch: Stretch) -> None:
        self._check.arrays(stretch.columns, stretch.first)
        if self._kept:
            self.by_row.update(enumerate(zip(*stretch.columns, strict=True), stretch.first))
            for event in stretch.events:
                self.emitted.setdefault(event.row, []).append(str(event).partition(": ")[2])

    def cut(self, row: int) -> None:
        for later in [one for one in self.by_row if one >= row]:
            del self.by_row[later]
            self.emitted.pop(later, None)

    def on(self, stop: int) -> Look:
        """Led on to a row, or to where it ends or fails: what its rows were, from the one where it stands on."""
        shown, over, self._kept = self.run.subject.row(), "", True
        try:
            self.run.to(stop)
        except SubjectFailed as failure:
            # Under inputs that nobody has tried: that it fails so is told of a button held.
            over = str(failure)
        if self.run.end is not None:
            over = self.run.end.reason
        look = Look(shown, dict(self.by_row), dict(self.emitted), over)
        self.by_row.clear()
        self.emitted.clear()
        self._kept = False
        return look


class Look(NamedTuple):
    """Some rows of a run: the one it stood in, as its subject shows it, and those after it, what was emitted, and why it was
    over before the last of them."""

    first: Sequence[Value]
    rows: dict[int, tuple[Value, ...]]
    emitted: dict[int, list[str]]
    over: str
