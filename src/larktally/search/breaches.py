"""A search for inputs that break a claim: half of its runs go on from what was new, half press at random from start to end."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from larktally.errors import LarkTallyError
from larktally.names import unknown_name
from larktally.runs.many import Workers, many_hands
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.explore import begun, go_on
from larktally.search.judged_runs import JudgedRuns

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["SearchResult", "find_breach"]

AT_RANDOM = 0.5


@dataclass(frozen=True, slots=True, eq=False)
class SearchResult:
    """What came of a search: the scenario with the first inputs that break a claim, None where none do; how many runs were
    tried; and the claims that none of them put to the test."""

    broken: Scenario | None
    tries: int
    untested: tuple[str, ...]

    def __str__(self) -> str:
        if self.broken is not None:
            return f"{self.broken.title}: a claim is broken by run {self.tries} of the search"
        lines = [f"no claim is broken in {self.tries} runs"]
        if self.untested:
            lines.append(f"  never put to the test: {', '.join(map(repr, self.untested))}")
        return "\n".join(lines)


def find_breach(
    scenario: Scenario,
    tries: int = 100,
    claim: str = "",
    *,
    seed: int = 0,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> SearchResult:
    """Looks for inputs that break a claim of a scenario, in at most so many runs, none longer than it.

    Half of them go on from what reached something new, half press the on/off actions at random, twice a second on average, for up
    to a second. The same `seed` finds the same, whoever does the runs. `claim` is the one to break, by default any;
    `on_progress(run, tries)` is called after each. Raises SubjectFailed where the subject fails and nothing is broken, and
    LarkTallyError where there is nothing to break or to press.
    """
    claims = [one for one in scenario.claims if not claim or one.name == claim]
    if not claims:
        names = (one.name for one in scenario.claims)
        raise LarkTallyError(
            unknown_name("claim", claim, names) if claim else f"{scenario.title} has no claims to break"
        )
    judged = JudgedRuns(scenario, claims, every=1)
    search = begun(scenario, int(scenario.frames), (), seed)
    search.at_random = AT_RANDOM
    with many_hands(workers, executor) as hands:
        go_on(search, judged, tries, None, hands, on_progress, lambda: not judged.broken)
    for made in judged.broken.values():
        return SearchResult(made, search.runs, tuple(judged.untested))
    for row, inputs in search.failures.values():
        # Raises what the subject raised.
        record(scenario.changed(inputs=inputs, frames=row, until=None))
    # A search in which a claim was never put to the test has found nothing out about it.
    return SearchResult(None, search.runs, tuple(judged.untested))
