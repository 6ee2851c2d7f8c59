"""A look at one run and its model, without running it again: the checks of `checks/`, and which of them can look."""

from __future__ import annotations

from collections.abc import Collection

from larktally.auditing.checks import CHECKS, Check
from larktally.auditing.finding import Finding, ranked
from larktally.auditing.found import Audit
from larktally.auditing.seen import Seen
from larktally.errors import LarkTallyError
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["look_at", "oddities"]


def look_at(seen: Seen, names: Collection[str] | None = None) -> Audit:
    """The checks that look at one run and its model, without running it again; those named, or all."""
    findings: list[Finding] = []
    ran: list[str] = []
    skipped: list[tuple[str, str]] = []
    for check in CHECKS:
        if names is not None and check.name not in names:
            continue
        why = _cannot(check, seen)
        if why:
            skipped.append((check.name, why))
            continue
        ran.append(check.name)
        try:
            findings += check.look(seen)
        except LarkTallyError as error:
            # One that stumbles takes none of the others with it.
            ran.remove(check.name)
            skipped.append((check.name, str(error).splitlines()[0]))
    return Audit(tuple(ranked(findings)), tuple(ran), tuple(skipped))


def oddities(trace: Trace, scenario: Scenario) -> list[Finding]:
    """What is odd in a scenario's run, read off it and its model, but for what is meant so."""
    return [one for one in look_at(Seen(trace, scenario)).findings if one.identity not in scenario.intended]


def _cannot(check: Check, seen: Seen) -> str:
    """Why a check cannot look; "" where it can."""
    if seen.trace.header.every != 1:
        return "the recording is thinned, and its rows are no frames"
    if seen.rows < 2:
        return "there is one row alone"
    if check.needs == "machines" and not seen.trace.header.outlines:
        return "there are no machines of a sim"
    if check.needs == "sim" and (seen.scenario is None or not seen.trace.header.scene):
        return "there is no sim to look into"
    return ""
