"""Which line gave a channel a value of another kind, where a run failed because of it: a text where a number stood."""

from __future__ import annotations

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.explain.noting_writers import Notes
from larktally.parts.sim import Sim
from larktally.runs.live import Live
from larktally.runs.scenario import Scenario

__all__ = ["line_that_set"]


def line_that_set(scenario: Scenario, failure: SubjectFailed) -> str:
    """The write of a text into a number in the row that failed, with its place, in one line; "" where there was none, or the
    subject is no sim. Runs the scenario again up to that row."""
    try:
        live = Live(scenario.changed(claims=(), until=None)).to(max(failure.row - 1, 0))
    except LarkTallyError:
        return ""
    if not isinstance(live.subject, Sim) or failure.row == 0:
        return ""
    sim = live.sim
    notes = Notes(sim, [channel.name for channel in sim.channels if channel.kind != "label"])
    try:
        live.step()
    except LarkTallyError:
        pass  # as it did before: what was set until then is what is asked
    notes.end()
    for one in reversed(notes.found):
        if isinstance(one.after, str):
            return f"  {one.change}, set by {one.part} at {one.place}"
    return ""
