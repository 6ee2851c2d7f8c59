"""Findings of the same scenario with its inputs late: led on with guesses, put back, and run again when they come."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from larktally.auditing.finding import Finding
from larktally.auditing.rewind import suspects_of
from larktally.auditing.seen import Seen
from larktally.auditing.walk import Walk
from larktally.comparing.divergence import Divergence
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.explain.reachable_state import reachable_state
from larktally.inputs.script import InputScript
from larktally.runs.late_inputs import rollback
from larktally.runs.lateness import Late
from larktally.runs.live import Live
from larktally.runs.scenario import Scenario

__all__ = ["LATE", "late"]

LATE = "late"
# How late inputs are, and how much of a run is led so where nothing else is said: each frame of it is run seven times.
USUAL, ROWS, MOST_NAMED = 6, 240, 3


def late(seen: Seen, scenario: Scenario, by: Late | None = None) -> Iterator[Finding]:
    """What differs where a run was led on with guessed inputs, put back, and run again with the true ones: a state that is
    left out of what is saved, and that the guesses changed.

    Not: what is shown wrongly until the true inputs come, which is what guesses are for. Guessed is what is wrong as often as
    may be, each action held where it was not. A fault that no guess reaches is not seen.
    """
    frames = seen.trace.frames
    if by is None:
        by, frames = USUAL, min(frames, ROWS)
    script = InputScript.from_columns(seen.trace.inputs).keep(1, max(frames, 1))
    scenario = scenario.changed(inputs=script, until=None, frames=frames, claims=(), measures=(), windows=())
    if frames < 2 or not Live(scenario).saves:
        return
    try:
        found = rollback(scenario, late=by, predict=_otherwise)
    except SubjectFailed:
        # A run that fails is told as that.
        return
    wrong = found.divergence
    if wrong is None:
        return
    told = f"inputs that come late and are put right do not lead to the run that has them in time: row {wrong.row}: {wrong.what}"
    message = f"{told} was {wrong.first}, now {wrong.second}{_not_put_back(scenario, wrong)}"
    more = "larktally audit FILE.py --only late --late 2..9"
    yield Finding(LATE, wrong.what, message, "sure", (wrong.row,), 1, more=more, weight=3)


def _otherwise(action: str, came: Sequence[tuple[int, float]]) -> float:
    """What it was not."""
    return float(not came or came[-1][1] == 0)


def _not_put_back(scenario: Scenario, wrong: Divergence) -> str:
    """What the subject holds that loading does not put back after other inputs, shortly before the row that came out wrong."""
    row = max(wrong.row - USUAL, 0)
    walk = Walk(scenario)
    try:
        walk.run.to(row)
        inside, saved = reachable_state(walk.run.subject.target), walk.run.snapshot()
        pressed = InputScript()
        for action in walk.run.subject.info.actions:
            pressed = pressed.hold(action, row + 1, USUAL)
        walk.run.restore(saved, (scenario.inputs.keep(1, max(row, 1)) | pressed).keep(1, int(scenario.frames)))
        walk.on(row + USUAL)
        walk.run.restore(saved, scenario.inputs)
    except LarkTallyError:
        return ""
    left = suspects_of(inside, reachable_state(walk.run.subject.target))[:MOST_NAMED]
    if not left:
        return ""
    return f"; not put back by load: {'; '.join(left)}"
