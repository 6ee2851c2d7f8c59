"""Vary: one scenario run with many params, rates, seeds or scripts, its claims checked and its measures read in each."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any, NamedTuple, cast

from larktally.claims.checking import check
from larktally.claims.verdicts import Result, Tally
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript
from larktally.inputs.shift import Shift
from larktally.language.columns import Evaluator
from larktally.language.judgement import Judgement, Verdict
from larktally.language.measures import reading
from larktally.language.reading import evaluator
from larktally.report import Block, Line, Report, Table, Tone
from larktally.runs.many import Workers, run_each
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.shifting import Window, anchors_of, jittered, longer, placed
from larktally.textfmt import shown_value
from larktally.traces.digest import rows_digest

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["Variant", "Varied", "vary"]

# A product of four params with twenty values each is more than anyone waits for.
MOST_RUNS = 100_000
# Among the values of a run; no param that a model asks for is called so, since they have a blank.
HELD, JITTER = "frames held", "jitter draw"
DRAWS = 20
# Of a run whose rows are let go of; a story wants them, and is told from the run made again.
NO_ROWS = cast(Evaluator, None)


@dataclass(frozen=True, slots=True, eq=False)
class Variant:
    """One run of many: the values that it was run with, what each measure came to, and how each claim was judged.

    `failed` is the message of a subject that failed; then there are no measures and no judgements. `scenario` makes the run
    again; runs with the same rows have the same `rows_digest`.
    """

    values: Mapping[str, Any]
    scenario: Scenario
    measures: Mapping[str, float | list[float]]
    judgements: tuple[Judgement, ...] = ()
    failed: str = ""
    rows_digest: str = ""

    @property
    def tally(self) -> Tally | None:
        """The verdicts with their stories: the run is made again for them. None where it failed, or has no claims."""
        if self.failed or not self.scenario.claims:
            return None
        return check(record(self.scenario), self.scenario.claims)

    @property
    def verdicts(self) -> dict[str, Verdict]:
        """The verdict of each claim by its name."""
        found = {}
        for one, judgement in zip(self.scenario.claims, self.judgements, strict=True):
            found[one.name] = judgement.verdict
        return found

    @property
    def kept(self) -> bool:
        """Whether it ran, and every claim passed; with no claims, whether it ran."""
        return not self.failed and all(result.passed for result in self.results())

    def results(self) -> list[Result]:
        """What each claim came to, without the rows that would tell its story: `tally` makes the run again for them."""
        found = []
        for one, judgement in zip(self.scenario.claims, self.judgements, strict=False):
            found.append(Result(one, judgement, NO_ROWS))
        return found

    @property
    def outcome(self) -> str:
        """What came of it, in a few words."""
        if self.failed:
            return f"failed: {self.failed}"
        if not self.judgements:
            return ""
        lost = []
        for result in self.results():
            if not result.passed:
                lost.append(f"{result.name} ({result.verdict})")
        return ", ".join(lost) or f"kept, all {len(self.judgements)}"

    def plain(self) -> dict[str, Any]:
        """The run as plain data, for JSON and for tables."""
        claims = []
        for result in self.results():
            claims.append(result.plain())
        return {
            "values": {name: _plain(value) for name, value in self.values.items()},
            "measures": dict(self.measures),
            "kept": self.kept,
            "failed": self.failed,
            "claims": claims,
        }


class Varied(Sequence[Variant]):
    """The runs of `vary`, in order; `print` shows them as a table. `kept` are those in which every claim passed."""

    def __init__(self, runs: Sequence[Variant], shift: str = "") -> None:
        self._runs = tuple(runs)
        #: What the press that was shifted is called among the values; "" where none was.
        self.shift = shift

    @property
    def passed(self) -> bool:
        """Whether every claim passed in every run."""
        return all(run.kept for run in self._runs)

    @property
    def kept(self) -> tuple[Variant, ...]:
        """The runs in which every claim passed."""
        found = []
        for run in self._runs:
            if run.kept:
                found.append(run)
        return tuple(found)

    @property
    def broken(self) -> tuple[Variant, ...]:
        """The others."""
        found = []
        for run in self._runs:
            if not run.kept:
                found.append(run)
        return tuple(found)

    def turns(self) -> dict[str, list[tuple[str, str, str]]]:
        """For each claim where its verdict turns: (from value, to value, verdict), where one thing alone was varied."""
        names = []
        if self._runs:
            names = list(self._runs[0].values)
        # Where a claim turns is a place on one line: with two params it is a border.
        if len(names) != 1 or any(run.failed for run in self._runs):
            return {}
        found: dict[str, list[tuple[str, str, str]]] = {}
        for at, one in enumerate(self._runs[0].scenario.claims):
            verdicts = []
            for run in self._runs:
                verdicts.append((_shown(run.values[names[0]]), run.judgements[at].verdict))
            # A claim may turn more than once: each stretch of one verdict is a group.
            groups = [list(group) for _, group in itertools.groupby(verdicts, key=lambda one: one[1])]
            if len(groups) > 1:
                found[one.name] = [(group[0][0], group[-1][0], group[0][1]) for group in groups]
        return found

    def windows(self) -> list[tuple[str, dict[str, Any], Window]]:
        """For each claim, and each combination of what else was varied, the shifts of the press for which it is kept."""
        found: dict[tuple[str, str], tuple[str, dict[str, Any], list[int], list[int], Any]] = {}
        for run in self._runs:
            if not self.shift:
                break
            others = _without(run.values, (self.shift,))
            for result in run.results():
                empty: tuple[list[int], list[int]] = ([], [])
                _, _, taken, tried, _ = found.setdefault(
                    (result.name, repr(others)), (result.name, others, *empty, run.scenario.rate)
                )
                tried.append(run.values[self.shift])
                if result.passed:
                    taken.append(run.values[self.shift])
        return [(name, others, Window(taken, tried, rate)) for name, others, taken, tried, rate in found.values()]

    def _windows(self) -> Iterator[str]:
        for name, others, window in self.windows():
            beside = ", ".join(f"{one}={_shown(value)}" for one, value in others.items())
            if beside:
                beside = f", with {beside}"
            yield f"  {name}: kept {window}{beside}"
            yield f"    {window.strip}"

    def _jitter(self) -> Iterator[str]:
        draws = [run for run in self._runs if JITTER in run.values]
        kept: dict[str, int] = {}
        for run in draws:
            for result in run.results():
                kept[result.name] = kept.get(result.name, 0) + result.passed
        for name, times in kept.items():
            if 0 < times < len(draws):
                yield f"  {name} hangs on the frames of the presses: kept in {times} of {len(draws)} draws"

    def without_effect(self) -> list[str]:
        """The params that changed no row of any run, whatever the other values were."""
        names = []
        if self._runs and not any(run.failed for run in self._runs):
            own = ("rate", "seed", "inputs", HELD, JITTER, self.shift)
            names = [name for name in self._runs[0].values if name not in own]
        return [name for name in names if self._changes_nothing(name)]

    def _changes_nothing(self, name: str) -> bool:
        digests: dict[str, set[str]] = {}
        tried: dict[str, int] = {}
        for run in self._runs:
            others = repr(_without(run.values, (name,)))
            digests.setdefault(others, set()).add(run.rows_digest)
            tried[others] = tried.get(others, 0) + 1
        return all(len(found) == 1 for found in digests.values()) and max(tried.values()) > 1

    def table(self) -> list[list[str]]:
        """Heading and a line for each run: what it was run with, its measures, what came of its claims."""
        if not self._runs:
            return []
        measures = list(next((run.measures for run in self._runs if run.measures), {}))
        lines = [[*self._runs[0].values, *measures, "claims"]]
        for run in self._runs:
            read = []
            for name in measures:
                read.append(_measure_text(run.measures[name]) if name in run.measures else "")
            lines.append([*map(_shown, run.values.values()), *read, run.outcome])
        return lines

    def summary(self) -> list[str]:
        """How many runs kept every claim, and where each claim turns."""
        unread = [f"{name} changed no row of any run: is it read?" for name in self.without_effect()]
        if not any(run.judgements or run.failed for run in self._runs):
            return [f"{len(self)} runs; no claims in this scenario, so nothing was checked", *unread]
        lines = [f"{len(self.kept)} of {len(self)} runs kept every claim"]
        lines += [*self._windows(), *self._jitter()]
        if self.shift:
            return [*lines, *unread]
        for name, groups in self.turns().items():
            spans = ", ".join(
                f"{verdict} {first if first == last else f'{first}..{last}'}" for first, last, verdict in groups
            )
            lines.append(f"  {name}: {spans}")
        return [*lines, *unread]

    def plain(self) -> dict[str, Any]:
        """All runs as plain data, for JSON."""
        return {
            "passed": self.passed,
            "runs": [run.plain() for run in self._runs],
            "turns": self.turns(),
            "without_effect": self.without_effect(),
        }

    def __len__(self) -> int:
        return len(self._runs)

    def __getitem__(self, at: Any) -> Any:
        if isinstance(at, slice):
            return Varied(self._runs[at], self.shift)
        return self._runs[at]

    def report(self) -> Report:
        """A line for each run, how many kept every claim, and where each claim turns."""
        blocks: list[Block] = []
        if self._runs:
            head, *lines = self.table()
            tones: dict[int, Tone] = {}
            for n, run in enumerate(self._runs):
                tones[n] = "good" if run.kept else "bad"
            blocks.append(Table(head, lines, frozenset({len(head) - 1}), tones))
        return Report.of([*blocks, Line(""), *map(Line, self.summary())])

    def __str__(self) -> str:
        return self.report().text()


def vary(
    scenario: Scenario,
    params: Mapping[str, Iterable[Any]] | None = None,
    *,
    rates: Iterable[Any] = (),
    seeds: Iterable[int] = (),
    inputs: Mapping[str, InputScript] | None = None,
    measures: Sequence[str] = (),
    shift: Shift | None = None,
    held: Iterable[int] = (),
    jitter: int = 0,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Varied:
    """Runs a scenario once for each combination of the params' values, rates, seeds and named input scripts; of a press that is
    shifted around what falls in the run without it; of how long it, or each press of one frame, is `held`; and of twenty draws
    in which each press is moved and held otherwise by up to `jitter` frames.

    In each run the scenario's claims are checked, its named measures and `measures` read; the trace is let go of, and comes
    back with `lt.record(run.scenario)`. A subject that fails is noted, and the others go on. `workers` processes share the runs
    ("all": one a core), or an `executor` with the standard library's interface has them. `on_progress(run, runs)` is called after
    each; where it is interrupted, the KeyboardInterrupt has what was done as `.varied`.
    Raises LarkTallyError where nothing is varied, a list is empty, or there are more than 100,000 runs.

    >>> import larktally as lt
    >>> def can(setup):
    ...     sim = lt.Sim(setup)
    ...     sim.interval("drip", setup.duration("every", "0.5s"))
    ...     return sim
    >>> one = lt.Scenario(can, frames=60, claims=[lt.claim("it drips", "at_least(event('due'), 3)")])
    >>> print(lt.vary(one, {"every": ["0.2s", "0.5s"]}, measures=["rows_with(event('due'))"]))
    every  rows_with(event('due'))  claims
     0.2s                        5  kept, all 1
     0.5s                        2  it drips (broken)
    <BLANKLINE>
    1 of 2 runs kept every claim
      it drips: kept 0.2s, broken 0.5s
    """
    given = params or {}
    for name in ("rate", "seed", "inputs"):
        if name in given:
            raise LarkTallyError(
                f"vary: a param called {name!r} cannot be told from the run's own; say rates=, seeds= or inputs="
            )
    axes = {name: list(values) for name, values in given.items()}
    axes |= {
        name: list(values) for name, values in (("rate", rates), ("seed", seeds), ("inputs", inputs or {})) if values
    }
    if shift is not None:
        axes[shift.title] = list(shift.by)
    if held:
        axes[HELD] = list(held)
    if jitter:
        axes[JITTER] = list(range(DRAWS))
    if not axes:
        raise LarkTallyError(
            "vary needs something to vary: params={'speed': [100, 120]}, rates=, seeds=, inputs=, shift=, held= or jitter="
        )
    if not all(axes.values()):
        empty = next(name for name, values in axes.items() if not values)
        raise LarkTallyError(f"vary: {empty!r} has no values to try")
    count = math.prod(map(len, axes.values()))
    if count > MOST_RUNS:
        raise LarkTallyError(f"vary: {count} runs, where at most {MOST_RUNS} are made at once")
    planned = list(_planned(scenario, axes, given, inputs or {}, shift, jitter))
    made = run_each(
        partial(_run, tuple(measures)), planned, workers=workers, executor=executor, on_progress=on_progress
    )
    runs: list[Variant] = []
    title = ""
    if shift is not None:
        title = shift.title
    try:
        for (values, changed), outcome in zip(planned, made, strict=True):
            runs.append(Variant(values, changed, *outcome))
    except KeyboardInterrupt as interrupt:
        # What was done is not lost.
        interrupt.varied = Varied(runs, title)  # type: ignore[attr-defined]
        raise
    return Varied(runs, title)


def _planned(
    scenario: Scenario,
    axes: Mapping[str, Sequence[Any]],
    params: Collection[str],
    scripts: Mapping[str, InputScript],
    shift: Shift | None,
    jitter: int,
) -> Iterator[tuple[dict[str, Any], Scenario]]:
    """Each combination of values, with the scenario that it makes; `params` are the names of those that are the model's."""
    # Where it falls depends on all but the press itself.
    anchors: dict[str, list[int]] = {}
    for combination in itertools.product(*axes.values()):
        values = dict(zip(axes, combination, strict=True))
        changed = _changed(scenario, values, params, scripts)
        if shift is not None:
            others = repr(_without(values, (shift.title, HELD, JITTER)))
            if others not in anchors:
                anchors[others] = anchors_of(shift, changed)
            changed = placed(changed, shift, anchors[others], values[shift.title], values.get(HELD))
        elif HELD in values:
            changed = longer(changed, values[HELD])
        if jitter:
            changed = jittered(changed, jitter, values[JITTER])
        yield values, changed


def _changed(
    scenario: Scenario, values: Mapping[str, Any], params: Collection[str], scripts: Mapping[str, InputScript]
) -> Scenario:
    """The scenario with one combination of the model's values, rate, seed and script."""
    own = {}
    for name in ("rate", "seed"):
        if name in values:
            own[name] = values[name]
    if "inputs" in values:
        own["inputs"] = scripts[values["inputs"]]
    return scenario.turned({name: values[name] for name in params}).changed(**own)


class _Outcome(NamedTuple):
    """What of a run comes back: as in a Variant, after its values and scenario."""

    measures: Mapping[str, float | list[float]]
    judgements: tuple[Judgement, ...] = ()
    failed: str = ""
    rows_digest: str = ""


def _run(measures: Sequence[str], planned: tuple[Mapping[str, Any], Scenario]) -> _Outcome:
    values, scenario = planned
    try:
        trace = record(scenario)
        # Inside, since a claim may fit one rate and not another: "0.1s" is no whole number of frames at all of them.
        judgements = tuple(one.judgement for one in check(trace, scenario.claims)) if scenario.claims else ()
        read: dict[str, float | list[float]] = {}
        for one in scenario.measures:
            read[f"{one.name} ({one.unit})" if one.unit else one.name] = one.read(trace).value
        evaluated = evaluator(trace)
        for that in measures:
            read[that] = reading(evaluated, that)
    except SubjectFailed as failure:
        return _Outcome({}, failed=str(failure))
    except LarkTallyError as error:
        tried = ", ".join(f"{name}={_shown(value)}" for name, value in values.items())
        raise LarkTallyError(f"{tried}: {error}").with_traceback(error.__traceback__) from None
    return _Outcome(read, judgements, rows_digest=rows_digest(trace))


def _without(values: Mapping[str, Any], names: Sequence[str]) -> dict[str, Any]:
    return {name: value for name, value in values.items() if name not in names}


def _measure_text(value: float | list[float]) -> str:
    """A measure as a cell: of one that is read off each span the numbers in their order."""
    if isinstance(value, list):
        return " ".join(f"{one:.6g}" for one in value)
    return f"{value:.6g}"


def _shown(value: Any) -> str:
    if isinstance(value, str):
        return value
    return shown_value(value)


def _plain(value: Any) -> Any:
    if isinstance(value, (bool, int, float, str)):
        return value
    return str(value)
