"""Rows that branch off a run: led on from a saved state, or from the start, in whatever process has the time."""

from __future__ import annotations

from typing import NamedTuple

from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript
from larktally.runs.observers import RunObserver, RunStart, Stretch
from larktally.runs.runner import Runner, Snapshot
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import Value

__all__ = ["Branch", "Led", "lead"]


class Branch(NamedTuple):
    """What is to be run: from a saved state, None for the start, under a script; the rows from `row` on are wanted, up to
    `stop`."""

    saved: Snapshot | None
    inputs: InputScript
    row: int
    stop: int


class Led(NamedTuple):
    """What came of it: the state in the row from which it was wanted, where the subject saves; the rows that were made from that
    one on, as columns, the first of them `first`; their events; and what ended it, "" for nothing."""

    saved: Snapshot | None
    first: int
    columns: list[list[Value]]
    events: list[tuple[int, str, str, str]]
    failed: str


class _Rows(RunObserver):
    """Keeps the rows from one on."""

    def begin(self, run: RunStart) -> None:
        self.names = [channel.name for channel in run.reader.channels]
        self.forget(0)

    def forget(self, first: int) -> None:
        """Nothing but the rows from `first` on from now on."""
        self.first = first
        self.start = -1
        self.columns: list[list[Value]] = [[] for _ in self.names]
        self.events: list[tuple[int, str, str, str]] = []

    def rows(self, stretch: Stretch) -> None:
        skipped = max(self.first - stretch.first, 0)
        if skipped >= stretch.length:
            return
        if self.start < 0:
            self.start = stretch.first + skipped
        for kept, column in zip(self.columns, stretch.columns, strict=True):
            kept.extend(column[skipped:])
        self.events += [one for one in stretch.events.fields() if one[0] >= self.first]


# The run of the scenario that this process was last asked about: to build it costs more than a branch.
_last: dict[str, tuple[Runner, _Rows]] = {}


def lead(token: str, scenario: Scenario, branch: Branch) -> Led:
    """Leads a branch; `token` says that it is the same scenario as before."""
    if token not in _last or branch.saved is None:
        watching = _Rows()
        fresh = scenario.changed(inputs=branch.inputs)
        _last.clear()
        _last[token] = Runner(fresh, [watching]), watching
    run, rows = _last[token]
    if branch.saved is not None:
        run.restore(branch.saved, branch.inputs)
    rows.forget(branch.row)
    saved = None
    failed = ""
    try:
        run.to(branch.row)
        if run.subject.info.saves and run.row == branch.row:
            saved = run.snapshot()
        run.to(branch.stop)
    except LarkTallyError as error:
        failed = str(error)
        # What a step left half done is not gone on from.
        _last.clear()
    return Led(saved, max(rows.start, 0), rows.columns, rows.events, failed)
