"""A long recording run again without a second one of it: each stretch is compared as it comes, and none is kept."""

from __future__ import annotations

from larktally.errors import LarkTallyError
from larktally.runs.observers import RunObserver, RunStart, Stretch
from larktally.runs.rows import chunk_reader
from larktally.runs.runner import Runner
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["runs_alike"]


def runs_alike(trace: Trace, scenario: Scenario) -> bool:
    """Whether a scenario's run is a trace's in every channel, row and event, bit by bit. Where it is not, or fails, another look
    has to tell how."""
    follower = _Follower(trace)
    try:
        runner = Runner(scenario, [follower]).to(trace.frames)
        runner.finish()
    except LarkTallyError:
        return False
    end = None if runner.end is None else runner.end.reason
    return follower.alike and follower.next_row == trace.rows and end == trace.header.end


class _Follower(RunObserver):
    """Compares a run with a trace for as long as they are alike."""

    may_stop = True

    def __init__(self, trace: Trace) -> None:
        self._trace = trace
        self.alike = True
        self.next_row = 0

    def begin(self, run: RunStart) -> None:
        channels = run.reader.channels
        recorded = [column.channel for column in self._trace.columns.values()]
        self.alike = [(c.name, c.kind, c.wraps) for c in channels] == [(c.name, c.kind, c.wraps) for c in recorded]
        self._reader = chunk_reader(run, channels, allow_nan=True)

    def rows(self, stretch: Stretch) -> None:
        if not self.alike:
            return
        first, last = stretch.first, stretch.first + stretch.length - 1
        arrays = self._reader.arrays(stretch.columns, first)
        # Codes mean the same only where the labels came up in the same order.
        for now, column, array in zip(self._reader.finished(), self._trace.columns.values(), arrays, strict=True):
            known = column.channel.labels[: len(now.labels)]
            recorded = column.stored[first : last + 1]
            self.alike = self.alike and now.labels == known and array.tobytes() == recorded.tobytes()
        emitted = stretch.events
        self.alike = self.alike and emitted == self._trace.events.between(first, last)
        self.next_row = last + 1

    def stopped_at(self, row: int) -> str | None:
        # The rest would say nothing more.
        return None if self.alike else "another run"
