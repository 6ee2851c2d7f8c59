"""The audit: what is odd in a run, its model and its repetitions, although no claim asked."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from msgspec.structs import replace

from larktally.auditing.checks import CHECKS
from larktally.auditing.finding import Finding, folded, ranked
from larktally.auditing.found import Audit
from larktally.auditing.late import LATE, late
from larktally.auditing.looking import look_at
from larktally.auditing.moved_presses import MOVED, moved_presses
from larktally.auditing.put_in_pause import PAUSED, put_in_pause
from larktally.auditing.rerun import HAMMERED, HELD, RATES, hammered, held_down, other_rates
from larktally.auditing.rewind import RewindAudit, rewind_audit
from larktally.auditing.seen import Seen
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.names import unknown_name
from larktally.runs.lateness import Late
from larktally.runs.many import Workers, run_each
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["audit"]

REPEATS, SAVES = "unlike itself", "saved state"
# A check that runs a scenario again.
_Look: TypeAlias = Callable[[Seen, Scenario], Iterable[Finding]]
_RERUNS: dict[str, _Look] = {
    HELD: held_down,
    HAMMERED: hammered,
    RATES: other_rates,
    MOVED: moved_presses,
    PAUSED: put_in_pause,
    LATE: late,
}
ALL_CHECKS = (*(check.name for check in CHECKS), REPEATS, SAVES, *_RERUNS)


def audit(
    target: Scenario | Trace,
    rows: int | Iterable[int] | None = None,
    *,
    frames: int = 30,
    file: str | Path | None = None,
    fresh: bool = True,
    only: Collection[str] = (),
    skip: Collection[str] = (),
    accepted: Collection[str] = (),
    intended: Collection[str] = (),
    late_by: Late | None = None,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Audit:
    """Audits a scenario, or a trace alone as far as it can be seen into.

    Of a scenario the run is looked at, its model, and the same run again: twice, in fresh processes with other hash seeds
    (`fresh`), with each action held down, and from saved states put back in `rows` (a list, or every so-manieth; ten by default),
    each followed by `frames` frames. `file` is the Python file that holds it, where its model does not tell. `only` and `skip`
    name checks, `accepted` identities of findings that are known, `intended` those that are meant so, beside the scenario's own.
    `late_by` is how late inputs are in the check of that name, as in `lt.rollback`: over the whole run, then.
    `workers` processes share the checks that run it again ("all": one a core), or an `executor` with the standard library's
    interface has them; `on_progress(done, of)` is called after each of those.
    Raises LarkTallyError for a check that there is not.
    """
    for name in (*only, *skip):
        if name not in ALL_CHECKS:
            raise LarkTallyError(unknown_name("check", name, ALL_CHECKS, "the audit"))
    chosen = [name for name in ALL_CHECKS if (not only or name in only) and name not in skip]
    if isinstance(target, Trace):
        return _told(look_at(Seen(target), chosen), None, tuple(intended), accepted)
    try:
        seen = Seen(record(target), target)
    except SubjectFailed as failure:
        return _of_failing(target, failure, chosen, (*target.intended, *intended), accepted)
    looked = look_at(seen, chosen)
    findings, rerun = list(looked.findings), None
    again: list[Callable[[Seen, Scenario], _Again]] = []
    if {REPEATS, SAVES} & set(chosen):
        again.append(partial(_rewound, {"rows": rows, "frames": frames, "file": file, "fresh": fresh}))
    looks: dict[str, _Look] = {**_RERUNS, LATE: partial(late, by=late_by)}
    for name, look_once_more in looks.items():
        if name in chosen:
            again.append(partial(_found_by, look_once_more))
    alone = executor is None and workers == 1
    # In this process the run that is here serves them all; another makes it anew.
    look = partial(_looked_again, seen if alone else None, target)
    for found in run_each(look, again, workers=workers, executor=executor, on_progress=on_progress):
        findings += found.findings
        rerun = rerun or found.rerun
    ran = tuple(name for name in chosen if name in (REPEATS, SAVES, *_RERUNS))
    looked = replace(looked, findings=tuple(findings), ran=(*looked.ran, *ran))
    return _told(looked, rerun, (*target.intended, *intended), accepted)


class _Again(NamedTuple):
    """What one of the checks that run a scenario again came to."""

    findings: list[Finding]
    rerun: RewindAudit | None = None


def _looked_again(seen: Seen | None, scenario: Scenario, look: Callable[[Seen, Scenario], _Again]) -> _Again:
    """One of the checks that run a scenario again, here or in a process that is there for many."""
    if seen is None:
        seen = Seen(record(scenario), scenario)
    return look(seen, scenario)


def _found_by(look: _Look, seen: Seen, scenario: Scenario) -> _Again:
    return _Again(list(look(seen, scenario)))


def _rewound(options: dict[str, Any], seen: Seen, scenario: Scenario) -> _Again:
    rerun = rewind_audit(scenario, first=seen.trace, **options)
    return _Again(list(_of_rerun(rerun)), rerun)


def _of_failing(
    scenario: Scenario,
    failure: SubjectFailed,
    names: Collection[str],
    intended: Sequence[str],
    accepted: Collection[str],
) -> Audit:
    """The audit of a run that fails on the way: of its rows up to there. Raises the failure where there are none."""
    if failure.trace is None:
        raise failure
    looked = look_at(Seen(failure.trace, scenario), names)
    told = f"the subject fails: {str(failure).splitlines()[0]}"
    findings = (Finding("fails", "the run", told, "sure", (failure.row,), 1, weight=9), *looked.findings)
    why = f"the run fails in row {failure.row}, and would again"
    skipped = [(name, why) for name in names if name in (REPEATS, SAVES, *_RERUNS)]
    looked = replace(looked, findings=findings, skipped=(*looked.skipped, *skipped))
    return _told(looked, None, intended, accepted)


def _told(found: Audit, rerun: RewindAudit | None, intended: Sequence[str], accepted: Collection[str]) -> Audit:
    """The audit without what is intended, and without what was accepted."""
    kept = [one for one in found.findings if one.identity not in intended]
    known = [one for one in kept if one.identity in accepted]
    identities = {one.identity for one in found.findings}
    # A check that did not look has not found that there is nothing.
    blind = tuple(f"{name} " for name in ALL_CHECKS if name not in found.ran)
    unmet = tuple(text for text in intended if text not in identities and not text.startswith(blind))
    new = folded(ranked(one for one in kept if one.identity not in accepted))
    return replace(found, findings=tuple(new), rerun=rerun, unmet=unmet, accepted=len(known))


def _of_rerun(rerun: RewindAudit) -> Iterator[Finding]:
    """What running again found. That a run is unlike itself is told first, since every other check leans on that."""
    if rerun.repeated is not None:
        told = f"the same run again is another: {rerun.repeated}"
        rows = tuple(row for row in (rerun.repeated.row,) if row is not None)
        yield Finding(
            REPEATS, "the run", told, "sure", rows, 1, weight=9, more="larktally audit FILE.py --only 'unlike itself'"
        )
    elif not rerun.fresh_same:
        told = (
            "another run in a fresh process with another hash seed: a set's order, a hash, or what is a process's own"
        )
        yield Finding(REPEATS, "the run", told, "sure", weight=9)
    for one in rerun.failed:
        about = ", ".join(name for name, _, _ in one.channels[:2]) or "its events"
        first, *more = str(one).split("\n  ")
        yield Finding(SAVES, about, f"{first} {'; '.join(more)}", "sure", (one.saved, one.row), 1, weight=3)
    for text in rerun.forgotten:
        yield Finding(SAVES, text.partition(":")[0], f"load does not put it back: {text}", "sure", weight=3)
