"""Vary: one scenario run with many params, rates, seeds or scripts, its claims checked and its measures read in each."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from larktally.claims import Tally, check, measure
from larktally.claims.story import aligned, shown_value
from larktally.errors import LarkError, SubjectFailed
from larktally.inputs import InputScript
from larktally.runs.recording import record
from larktally.runs.scenario import Scenario

__all__ = ["Variant", "Varied", "vary"]

MOST_RUNS = 100_000


@dataclass(frozen=True, slots=True, eq=False)
class Variant:
    """One run of many: the values that it was run with, what each measure came to, and the verdicts.

    `failed` is the message of a subject that failed; then there are no measures and no tally. `scenario` makes the run again.
    """

    values: Mapping[str, Any]
    scenario: Scenario
    measures: Mapping[str, float]
    tally: Tally | None
    failed: str = ""

    @property
    def kept(self) -> bool:
        """Whether it ran, and every claim passed; with no claims, whether it ran."""
        return not self.failed and (not self.tally or self.tally.passed)

    @property
    def outcome(self) -> str:
        """What came of it, in a few words."""
        if self.failed:
            return f"failed: {self.failed}"
        if not self.tally:
            return ""
        lost = [f"{result.name} ({result.verdict})" for result in self.tally.failed]
        return ", ".join(lost) or f"kept, all {len(self.tally)}"

    def plain(self) -> dict[str, Any]:
        """The run as plain data, for JSON and for tables."""
        claims = [result.plain() for result in self.tally or ()]
        return {
            "values": {name: _plain(value) for name, value in self.values.items()},
            "measures": dict(self.measures),
            "kept": self.kept,
            "failed": self.failed,
            "claims": claims,
        }


class Varied(Sequence[Variant]):
    """The runs of `vary`, in order; `print` shows them as a table. `kept` are those in which every claim passed."""

    def __init__(self, runs: Sequence[Variant]) -> None:
        self._runs = tuple(runs)

    @property
    def passed(self) -> bool:
        """Whether every claim passed in every run."""
        return all(run.kept for run in self._runs)

    @property
    def kept(self) -> tuple[Variant, ...]:
        """The runs in which every claim passed."""
        return tuple(run for run in self._runs if run.kept)

    @property
    def broken(self) -> tuple[Variant, ...]:
        """The others."""
        return tuple(run for run in self._runs if not run.kept)

    def turns(self) -> dict[str, list[tuple[str, str, str]]]:
        """For each claim where its verdict turns: (from value, to value, verdict), where one thing alone was varied."""
        names = list(self._runs[0].values) if self._runs else []
        if len(names) != 1 or any(run.failed for run in self._runs):
            return {}
        found: dict[str, list[tuple[str, str, str]]] = {}
        for at, result in enumerate(self._runs[0].tally or ()):
            said = [(_shown(run.values[names[0]]), run.tally[at].verdict) for run in self._runs if run.tally]
            groups = [list(group) for _, group in itertools.groupby(said, key=lambda one: one[1])]
            if len(groups) > 1:
                found[result.name] = [(group[0][0], group[-1][0], group[0][1]) for group in groups]
        return found

    def table(self) -> list[list[str]]:
        """Heading and a line for each run: what it was run with, its measures, what came of its claims."""
        if not self._runs:
            return []
        measures = list(next((run.measures for run in self._runs if run.measures), {}))
        lines = [[*self._runs[0].values, *measures, "claims"]]
        for run in self._runs:
            read = [f"{run.measures[name]:.6g}" if name in run.measures else "" for name in measures]
            lines.append([*map(_shown, run.values.values()), *read, run.outcome])
        return lines

    def summary(self) -> list[str]:
        """How many runs kept every claim, and where each claim turns."""
        if not any(run.tally or run.failed for run in self._runs):
            return [f"{len(self)} runs; no claims in this scenario, so nothing was checked"]
        lines = [f"{len(self.kept)} of {len(self)} runs kept every claim"]
        for name, groups in self.turns().items():
            spans = ", ".join(
                f"{verdict} {first if first == last else f'{first}..{last}'}" for first, last, verdict in groups
            )
            lines.append(f"  {name}: {spans}")
        return lines

    def plain(self) -> dict[str, Any]:
        """All runs as plain data, for JSON."""
        return {"passed": self.passed, "runs": [run.plain() for run in self._runs], "turns": self.turns()}

    def __len__(self) -> int:
        return len(self._runs)

    def __getitem__(self, at: Any) -> Any:
        return Varied(self._runs[at]) if isinstance(at, slice) else self._runs[at]

    def __str__(self) -> str:
        return "\n".join([*aligned(self.table(), left=True), "", *self.summary()])


def vary(
    scenario: Scenario,
    params: Mapping[str, Iterable[Any]] | None = None,
    *,
    rates: Iterable[Any] = (),
    seeds: Iterable[int] = (),
    inputs: Mapping[str, InputScript] | None = None,
    measures: Sequence[str] = (),
    watch: Callable[[int, int], Any] | None = None,
) -> Varied:
    """Runs a scenario once for each combination of the params' values, rates, seeds and named input scripts.

    In each run the scenario's claims are checked and `measures` read; the trace is let go of, and comes back with
    `lt.record(run.scenario)`. A subject that fails is noted, and the others go on. `watch(run, runs)` is called after each.
    Raises LarkError where nothing is varied, a list is empty, or there are more than 100,000 runs.

    >>> import larktally as lt
    >>> def can(setup):
    ...     sim = lt.Sim(setup)
    ...     sim.interval("drip", setup.duration("every", "0.5s"))
    ...     return sim
    >>> one = lt.Scenario(can, frames=60, claims=[lt.claim("it drips", "at_least(event('due'), 3)")])
    >>> print(lt.vary(one, {"every": ["0.2s", "0.5s"]}, measures=["rows_with(event('due'))"]))
    every  rows_with(event('due'))  claims
    0.2s   5                        kept, all 1
    0.5s   2                        it drips (broken)
    <BLANKLINE>
    1 of 2 runs kept every claim
      it drips: kept 0.2s, broken 0.5s
    """
    given = params or {}
    for name in ("rate", "seed", "inputs"):
        if name in given:
            raise LarkError(
                f"vary: a param called {name!r} cannot be told from the run's own; say rates=, seeds= or inputs="
            )
    axes = {name: list(values) for name, values in given.items()}
    axes |= {
        name: list(values) for name, values in (("rate", rates), ("seed", seeds), ("inputs", inputs or {})) if values
    }
    if not axes:
        raise LarkError("vary needs something to vary: params={'speed': [100, 120]}, rates=, seeds= or inputs=")
    if not all(axes.values()):
        empty = next(name for name, values in axes.items() if not values)
        raise LarkError(f"vary: {empty!r} has no values to try")
    count = math.prod(map(len, axes.values()))
    if count > MOST_RUNS:
        raise LarkError(f"vary: {count} runs, where at most {MOST_RUNS} are made at once")
    runs: list[Variant] = []
    for combination in itertools.product(*axes.values()):
        values = dict(zip(axes, combination, strict=True))
        runs.append(_run(_changed(scenario, values, inputs or {}), values, measures))
        if watch is not None:
            watch(len(runs), count)
    return Varied(runs)


def _changed(scenario: Scenario, values: Mapping[str, Any], scripts: Mapping[str, InputScript]) -> Scenario:
    """The scenario with one combination of values."""
    own = {name: value for name, value in values.items() if name in ("rate", "seed")}
    if "inputs" in values:
        own["inputs"] = scripts[values["inputs"]]
    params = {name: value for name, value in values.items() if name not in ("rate", "seed", "inputs")}
    return scenario.changed(params={**scenario.params, **params}, **own)


def _run(scenario: Scenario, values: Mapping[str, Any], measures: Sequence[str]) -> Variant:
    try:
        trace = record(scenario)
    except SubjectFailed as failure:
        return Variant(values, scenario, {}, None, str(failure))
    except LarkError as error:
        tried = ", ".join(f"{name}={_shown(value)}" for name, value in values.items())
        raise LarkError(f"{tried}: {error}").with_traceback(error.__traceback__) from None
    tally = check(trace, scenario.claims) if scenario.claims else None
    return Variant(values, scenario, {that: measure(trace, that) for that in measures}, tally)


def _shown(value: Any) -> str:
    return value if isinstance(value, str) else shown_value(value)


def _plain(value: Any) -> Any:
    return value if isinstance(value, (bool, int, float, str)) else str(value)
