"""A run that stands at a row with its objects in hand: for a debugger, and for questions that need the run again."""

from __future__ import annotations

from typing import Any

from larktally.errors import LarkTallyError, ModelError
from larktally.event import Event
from larktally.names import matching, unknown_name
from larktally.parts.part import Part, value_table
from larktally.parts.sim import Sim
from larktally.runs.observers import RunObserver, RunStart, Stretch
from larktally.runs.record import record
from larktally.runs.rows import chunk_reader
from larktally.runs.runner import Runner, Snapshot
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import SubjectLike
from larktally.traces.trace import Trace

__all__ = ["Live", "run_to"]


class _RowCheck(RunObserver):
    """Checks every row as recording does, and keeps none: so that a live run stops where a recording does."""

    def __init__(self, allow_nan: bool) -> None:
        self._allow_nan = allow_nan

    def begin(self, run: RunStart) -> None:
        self._reader = chunk_reader(run, run.reader.channels, self._allow_nan)

    def rows(self, stretch: Stretch) -> None:
        self._reader.arrays(stretch.columns, stretch.first)


class Live:
    """A run at `row`: `subject` is the object being stepped (the sim, for a model function), `events` what it emitted in
    this row. `values` are its channels now; `step` and `to` lead it on; `save` and `load` are the subject's own.

    It ends where a recording ends: `ended` says why, None while it goes on.
    """

    def __init__(self, scenario: Scenario) -> None:
        self.scenario = scenario
        # Where a condition ends the run is known only once its rows are columns: a recording finds it out.
        if scenario.until is None:
            self._last = int(scenario.frames)
        else:
            self._last = record(scenario).frames
        self._run = Runner(scenario, [_RowCheck(scenario.allow_nan)])

    @property
    def row(self) -> int:
        """The row at which it stands."""
        return self._run.row

    @property
    def events(self) -> list[Event]:
        """What was emitted in this row."""
        return self._run.events

    @property
    def subject(self) -> Any:
        """The object being stepped."""
        return self._run.subject.target

    @property
    def saves(self) -> bool:
        """Whether its state can be saved and put back."""
        return self._run.subject.info.saves

    @property
    def actions(self) -> tuple[str, ...]:
        """The actions that the subject takes."""
        return tuple(self._run.subject.info.actions)

    @property
    def ended(self) -> str | None:
        """Why the run is over; None while it goes on."""
        if self._run.end is not None:
            return self._run.end.reason
        if self.scenario.until is not None and self.row == self._last < int(self.scenario.frames):
            return f"until {self.scenario.until}"
        return None

    @property
    def sim(self) -> Sim:
        """The sim; raises LarkTallyError where the subject is a user's own object."""
        if not isinstance(self.subject, Sim):
            raise LarkTallyError(
                f"this asks for a sim built from parts, and the subject is {type(self.subject).__name__}"
            )
        return self.subject

    @property
    def values(self) -> dict[str, Any]:
        """Every channel's value in this row."""
        subject = self._run.subject
        names = []
        for channel in subject.info.channels:
            names.append(channel.name)
        return dict(zip(names, subject.row(), strict=True))

    def table(self, *patterns: str) -> str:
        """Channels and their values in this row, a line each, as text: all of them, or those that match, such as "gap.*"."""
        values = self.values
        names = matching(list(values), patterns or ("*",), "table")
        return value_table({name: values[name] for name in names})

    def __repr__(self) -> str:
        over = f", over: {self.ended}" if self.ended else ""
        return f"<Live {self.scenario.title} in row {self.row} of {int(self.scenario.frames)}{over}>"

    def part(self, name: str) -> Part:
        """A part of the sim by its dotted name."""
        parts = self.sim.parts
        if name not in parts:
            raise LarkTallyError(unknown_name("part", name, parts, "this sim"))
        return parts[name]

    def step(self) -> list[Event]:
        """One frame on; its events. Raises SubjectFailed naming the row where the subject fails, LarkTallyError where the
        run is over."""
        self.to(self.row + 1)
        return self.events

    def to(self, row: int) -> Live:
        """Leads it on to a row and returns it; raises LarkTallyError where the run ends before that row."""
        # A condition is told over the whole run at once, so that where it ends is known before the first step.
        if self.scenario.until is not None:
            self._run.to(max(min(row, self._last), self.row))
        else:
            self._run.to(row)
        if self.row < row:
            why = ""
            if self.ended:
                why = f" ({self.ended})"
            raise LarkTallyError(f"this run ends with row {self.row}{why}, so it has no row {row}")
        return self

    def save(self) -> bytes:
        """The subject's state in this row; raises LarkTallyError where it cannot save."""
        return self._run.snapshot().state

    def load(self, saved: bytes, row: int) -> None:
        """Puts back a state that was saved in a row, of this run or of another of the same scenario, and stands there."""
        self._run.restore(Snapshot(row, saved))


def run_to(trace: Trace, scenario: Scenario | SubjectLike, row: int) -> Live:
    """Runs a trace's own inputs again up to a row, and stops there with the live objects in hand.

    A trace that carries saved states is entered at the last one up to that row, without running what comes before it.
    Raises LarkTallyError for a row that the trace does not have, SubjectFailed where the subject fails on the way.
    """
    trace.check_row(row)
    live = Live(Scenario.from_trace(trace, scenario))
    # Row 0 is where every run begins: a state of it would save nothing.
    entry = max((at for at in trace.states if 0 < at <= row), default=None)
    if entry is not None:
        try:
            live.load(trace.states[entry], entry)
        except ModelError:
            # Saved by a version whose states have another form: the rows before it are run again instead.
            live = Live(Scenario.from_trace(trace, scenario))
    return live.to(row)
