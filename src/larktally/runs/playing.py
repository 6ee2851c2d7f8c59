"""A run that is played: each frame gets the inputs of the moment, and its rows are there at once."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript
from larktally.runs.heading import trace_of_rows
from larktally.runs.numbers import AskedNumbers, TurnableNumber
from larktally.runs.observers import RunObserver, RunStart, Stretch
from larktally.runs.recorder import Recorder
from larktally.runs.runner import Runner
from larktally.runs.scenario import LONGEST, Scenario
from larktally.subjects.protocol import SubjectInfo
from larktally.traces.marks import Mark, with_marks
from larktally.traces.trace import Trace

__all__ = ["PlayedRun"]

# A state in every ten seconds at 60 frames/s: a report is entered near where it was marked.
STATES_EVERY = 600


class _Rows(RunObserver):
    """Keeps the rows that were made since they were last taken, as they are, and now and then the subject's state."""

    def begin(self, run: RunStart) -> None:
        self.start = run
        self.info: SubjectInfo = run.info
        self.states: dict[int, bytes] = {}
        self._stretches: list[Stretch] = []

    def rows(self, stretch: Stretch) -> None:
        self._stretches.append(Stretch(stretch.first, stretch.length, list(stretch.columns), stretch.events))
        # It is led frame by frame, so that the last row of a stretch is the row at which the subject stands.
        last = stretch.first + stretch.length - 1
        if self.info.saves and last and last % STATES_EVERY == 0:
            self.states[last] = self.start.save()

    def taken(self) -> Iterator[Stretch]:
        """The stretches since the last time."""
        made, self._stretches = self._stretches, []
        yield from made


class PlayedRun:
    """A scenario's subject, led frame by frame under inputs that come as they are pressed; `trace` is what was played.

    Raises SubjectFailed where the subject cannot be reset.
    """

    def __init__(self, scenario: Scenario) -> None:
        # How long it is played is the player's affair.
        self.scenario = scenario.changed(inputs=InputScript(), frames=LONGEST, until=None)
        self.marks: list[Mark] = []
        self.failure: SubjectFailed | None = None
        self._rows, self._numbers, self._recorder = _Rows(), AskedNumbers(scenario.params), Recorder(self.scenario)
        self._runner = Runner(self.scenario, [self._recorder, self._rows, self._numbers])
        self._held: dict[str, float] = {}

    @property
    def row(self) -> int:
        """The row at which it stands."""
        return self._runner.row

    @property
    def info(self) -> SubjectInfo:
        """What is known of the subject: its channels and actions."""
        return self._rows.info

    @property
    def numbers(self) -> list[TurnableNumber]:
        """What the model asked for."""
        return self._numbers.found

    @property
    def over(self) -> str:
        """Why it cannot be played on; "" while it can."""
        if self.failure is not None:
            return str(self.failure)
        if self._runner.end is not None:
            return self._runner.end.reason
        return ""

    def first_row(self) -> Trace:
        """Row 0 as a trace, before anything was played."""
        (first,) = self.new_rows()
        run = self._rows.start
        inputs = {name: np.zeros(1) for name in run.info.actions}
        return trace_of_rows(self.scenario, run, first.columns, inputs, first.events)

    def step(self, held: Mapping[str, float]) -> None:
        """One frame on, with the value of each action that is held in it; nothing where it is over.

        Raises LarkTallyError for an action that there is not, or a value that it cannot take.
        """
        if self.over:
            return
        feed, frame = self._runner.feed, self.row + 1
        now = {}
        for action, value in held.items():
            name = feed.view.actions.named(action)
            feed.view.actions.check_value(name, value)
            now[name] = value
        for action in {**self._held, **now}:
            value = now.get(action, 0.0)
            if value != self._held.get(action, 0.0):
                feed.change(action, frame, value)
        self._held = now
        try:
            self._runner.to(frame)
        except SubjectFailed as failed:
            self.failure = failed

    def new_rows(self) -> Iterator[Stretch]:
        """The rows that were made since they were last asked for."""
        return self._rows.taken()

    def mark(self, note: str) -> None:
        """Marks the row at which it stands, with a note."""
        self.marks.append(Mark(self.row, note))

    def trace(self) -> Trace:
        """What was played, as a trace like any other: with inputs, marks, and saved states where the subject has them.

        The run is over with it.
        """
        try:
            if self.failure is None:
                self._runner.finish()
        except SubjectFailed as failed:
            self.failure = failed
        if self.row == 0:
            raise LarkTallyError("nothing was played: the run stands in row 0")
        made = self._recorder.finished(self._runner, self.failure)
        states = {row: state for row, state in self._rows.states.items() if row < made.rows}
        return with_marks(
            Trace(made.header, made.columns, made.inputs, made.events, made.rows, states),
            [mark for mark in self.marks if mark.row < made.rows],
        )
