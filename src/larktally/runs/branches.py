"""Runs that have their beginning in common: it is run once, and each goes on from there under inputs of its own."""

from __future__ import annotations

from larktally.errors import SubjectFailed
from larktally.inputs.script import InputScript
from larktally.runs.recorder import Recorder
from larktally.runs.runner import Runner, Snapshot
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["Trunk"]


class Trunk:
    """A scenario's run up to a row, and others that branch off there; its subject has to save and load.

    Conditions on which a run ends are left out, and claims are not judged on the way.
    """

    def __init__(self, scenario: Scenario, row: int) -> None:
        scenario = scenario.changed(until=None, claims=(), measures=())
        self._recorder = Recorder(scenario)
        self._runner = Runner(scenario, [self._recorder])
        self._runner.to(row)
        self._snapshot: Snapshot = self._runner.snapshot()

    def branch(self, inputs: InputScript, frames: int) -> Trace:
        """The trace of the run under other inputs, that are the same up to the row and placed by frame: of so many frames, as if
        it had been run from its start. Raises SubjectFailed, with `.trace`, where the subject fails."""
        self._runner.restore(self._snapshot, inputs)
        failure = None
        try:
            self._runner.to(frames)
            # What is seen only at the end of a run was seen when the trunk's own scenario was run.
            self._recorder.finish()
        except SubjectFailed as failed:
            failure = failed
        trace = self._recorder.finished(self._runner, failure, last=False)
        if failure is not None:
            failure.trace = trace
            raise failure
        return trace
