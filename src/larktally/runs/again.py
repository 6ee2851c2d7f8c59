"""Running a recording again: what stands in a trace that its subject needs to make the same run."""

from __future__ import annotations

from larktally.errors import LarkError
from larktally.inputs import InputScript
from larktally.runs.scenario import Scenario
from larktally.subject import SubjectLike
from larktally.traces import Trace

__all__ = ["again"]


def again(trace: Trace, scenario: Scenario | SubjectLike) -> Scenario:
    """A scenario that runs a subject under the trace's own inputs, seed, rate, params and number of frames."""
    subject = scenario.subject if isinstance(scenario, Scenario) else scenario
    if trace.rate is None:
        raise LarkError("this trace carries no rate, so it cannot be run again")
    if trace.header.every != 1:
        raise LarkError("this recording is thinned, so it does not hold the inputs of every frame")
    return Scenario(
        subject,
        frames=trace.frames,
        inputs=InputScript.from_columns(trace.inputs),
        rate=trace.rate,
        seed=trace.header.seed,
        params=trace.header.params,
        name=trace.header.scenario,
        allow_nan=trace.header.allow_nan,
        seen=any(name.startswith("seen:") for name in trace.columns),
    )
