"""Recording: a scenario run from start to end, every row kept."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript
from larktally.names import one_or_many
from larktally.runs.observers import RunObserver
from larktally.runs.recorder import Recorder
from larktally.runs.runner import Runner
from larktally.runs.scenario import Scenario
from larktally.runs.stop_conditions import StopConditions
from larktally.subjects.protocol import SubjectLike
from larktally.timing import Duration, RateLike
from larktally.traces.files import writer_for
from larktally.traces.trace import Trace

__all__ = ["as_scenario", "record", "record_watched"]


def record(
    subject: Scenario | SubjectLike,
    inputs: InputScript | None = None,
    *,
    frames: Duration | None = None,
    rate: RateLike | None = None,
    seed: int | None = None,
    params: Mapping[str, Any] | None = None,
    only: str | Iterable[str] | None = None,
    to: str | Path | None = None,
    states: int | Iterable[int] | None = None,
    stop_at_breach: bool = False,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Trace:
    """Runs a scenario, or a subject with inputs, and returns its trace of frames + 1 rows.

    `only` keeps the channels that match its patterns (`"wick.*"`). `to` records into that file while it runs: until it
    is whole it is called NAME.partial, and memory stays flat however long the run is; the trace returned reads the file
    when its rows are first looked at. `states` keeps the subject's saved state in those rows, or in every so-manieth,
    so that a run goes on from there. `stop_at_breach` ends the run with the first row that breaks one of the scenario's
    claims for good. `on_progress(row, frames)` is called now and then, for a progress bar.

    What a scenario says and a keyword says again is an error. Raises SubjectFailed, with `.trace` up to the row before,
    where the subject raises, changes its channels or turns NaN; then NAME.stopped is what is kept of a file.
    """
    return record_watched(
        as_scenario(subject, inputs=inputs, frames=frames, rate=rate, seed=seed, params=params),
        (),
        only=only,
        to=to,
        states=states,
        stop_at_breach=stop_at_breach,
        on_progress=on_progress,
    )


def record_watched(
    scenario: Scenario,
    observers: Iterable[RunObserver],
    *,
    only: str | Iterable[str] | None = None,
    to: str | Path | None = None,
    states: int | Iterable[int] | None = None,
    stop_at_breach: bool = False,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Trace:
    """`record` of a scenario, with others that watch the same run."""
    if to is None:
        path = None
    else:
        path = Path(to)
    if path is not None:
        # What cannot become a file is told before the run, not after it.
        writer_for(path)
    recorder = Recorder(
        scenario,
        only=_patterns(only),
        to=path,
        conditions=StopConditions(scenario.until, scenario.claims if stop_at_breach else ()),
        states=_state_rows(states, scenario),
        on_progress=on_progress,
    )
    try:
        runner = Runner(scenario, [recorder, *observers])
        failure = _run(runner, int(scenario.frames))
    except BaseException as error:
        # Whoever interrupts a long recording wants to know where it is.
        kept = recorder.let_go()
        if isinstance(error, KeyboardInterrupt) and kept:
            error.add_note(kept.removeprefix("; "))
        raise
    # Before anything is raised: what was recorded up to the failure is never lost.
    trace = recorder.finished(runner, failure)
    if failure is None or recorder.ended_before_failing:
        return trace
    failure.trace = trace
    raise failure


def as_scenario(subject: Scenario | SubjectLike, **given: Any) -> Scenario:
    """The scenario of a recording; raises LarkTallyError where it and a keyword say the same thing, or neither says frames."""
    given = {key: value for key, value in given.items() if value is not None}
    if isinstance(subject, Scenario):
        if given:
            key = next(iter(given))
            raise LarkTallyError(f"the scenario says {key} already; leave {key}= out, or use scenario.changed({key}=…)")
        return subject
    if "frames" not in given:
        raise LarkTallyError("record needs frames=: how long to run")
    return Scenario(subject, **given)


def _run(runner: Runner, frames: int) -> SubjectFailed | None:
    """All frames; what went wrong, where something did."""
    try:
        runner.to(frames)
        runner.finish()
    except SubjectFailed as failure:
        return failure
    return None


def _state_rows(states: int | Iterable[int] | None, scenario: Scenario) -> Sequence[int]:
    """The rows in which a saved state is kept, in order."""
    frames = int(scenario.frames)
    if states is None:
        return ()
    # Row 0 is one of them, so that the rows are 0, n, 2n, as a reader counts.
    if isinstance(states, int):
        if states < 1:
            raise LarkTallyError(
                f"states= keeps one in every n-th row, n at least 1, or in the rows it lists, not {states!r}"
            )
        return range(0, frames + 1, states)
    rows = sorted(set(states))
    if rows and not 0 <= rows[0] <= rows[-1] <= frames:
        raise LarkTallyError(f"states= lists rows 0..{frames}, not {rows[0] if rows[0] < 0 else rows[-1]}")
    return rows


def _patterns(only: str | Iterable[str] | None) -> tuple[str, ...] | None:
    if only is None:
        return None
    return one_or_many(only)
