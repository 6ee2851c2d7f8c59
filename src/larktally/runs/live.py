"""A run that stands at a row with its objects in hand: for a debugger, and for questions that need the run again."""

from __future__ import annotations

from typing import Any

from larktally.errors import LarkError, SubjectFailed, unknown_name
from larktally.inputs import Actions, InputFeed
from larktally.parts.part import Part
from larktally.parts.sim import Sim
from larktally.runs.again import again
from larktally.runs.scenario import Scenario
from larktally.subject import Event, Setup, SubjectLike, declared_names, events_of, innermost, make_subject
from larktally.traces import Trace

__all__ = ["Live", "run_to"]


class Live:
    """A run at `row`: `subject` is the object being stepped (the sim, for a model function), `events` what it said in
    this row. `values` are its channels now; `step` and `to` lead it on; `save` and `load` are the subject's own."""

    def __init__(self, scenario: Scenario) -> None:
        if any(span.on for span in scenario.inputs.spans):
            raise LarkError(
                "presses that hang on events are resolved in a recording; run its trace: lt.run_to(trace, …)"
            )
        self.scenario = scenario
        self.setup = Setup(scenario.rate, scenario.seed, scenario.params)
        outer = make_subject(scenario.subject)
        self.events: list[Event] = list(events_of(outer.reset(self.setup)))
        self.subject: Any = innermost(outer)
        self.row = 0
        self._rewind_feed()

    @property
    def sim(self) -> Sim:
        """The sim; raises LarkError where the subject is a user's own object."""
        if not isinstance(self.subject, Sim):
            raise LarkError(f"this asks for a sim built from parts, and the subject is {type(self.subject).__name__}")
        return self.subject

    @property
    def values(self) -> dict[str, Any]:
        """Every channel's value in this row."""
        return dict(self.subject.observe())

    def part(self, name: str) -> Part:
        """A part of the sim by its dotted name."""
        parts = self.sim.parts
        if name not in parts:
            raise LarkError(unknown_name("part", name, parts, "this sim"))
        return parts[name]

    def step(self) -> list[Event]:
        """One frame on; its events. Raises SubjectFailed naming the row where the subject raises."""
        frame = self.row + 1
        self._feed.advance(frame)
        try:
            self.events = list(events_of(self.subject.step(self._feed.view)))
        except LarkError:
            raise
        except Exception as error:
            raise SubjectFailed(f"row {frame}: step failed: {type(error).__name__}: {error}", frame) from error
        self.row = frame
        return self.events

    def to(self, row: int) -> Live:
        """Leads it on to a row and returns it."""
        if row < self.row:
            raise LarkError(f"this run stands at row {self.row}; row {row} is behind it")
        while self.row < row:
            self.step()
        return self

    def load(self, saved: bytes, row: int) -> None:
        """Puts back a state that `subject.save` gave in a row, and stands there."""
        self.subject.load(saved)
        self.row, self.events = row, []
        self._rewind_feed()
        for frame in range(1, row + 1):
            self._feed.advance(frame)

    def _rewind_feed(self) -> None:
        inner = self.subject
        own = getattr(inner, "actions", None)
        actions = own if isinstance(own, Actions) else Actions(declared_names(inner, "actions"))
        self._feed = InputFeed(self.scenario.inputs, actions, self.scenario.rate)


def run_to(trace: Trace, scenario: Scenario | SubjectLike, row: int) -> Live:
    """Runs a trace's own inputs again up to a row, and stops there with the live objects in hand.

    A trace that carries saved states is entered at the last one up to that row, without running what comes before it.
    Raises LarkError for a row that the trace does not have, SubjectFailed where the subject fails on the way.
    """
    trace.check_row(row)
    live = Live(again(trace, scenario))
    states = [at for at in trace.states if 0 < at <= row]
    if states:
        live.load(trace.states[max(states)], max(states))
    return live.to(row)
