"""Two builds: folders of traces side by side: which runs differ and where first, by what causes that many have in common, which
verdicts turned, and which numbers moved."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from larktally.claims.checking import check
from larktally.claims.claim import Claim
from larktally.claims.files import load_rules
from larktally.claims.named import MeasureReading, measures_noted, read_measures_of_both
from larktally.comparing.comparison import Comparison, compare
from larktally.comparing.tolerance import Tolerances
from larktally.errors import ClaimError, LarkTallyError
from larktally.names import matching
from larktally.report import Block, Line, Report, Table, Tone
from larktally.runs.many import Workers, run_each
from larktally.textfmt import plural, shortened
from larktally.traces.files import traces_in
from larktally.traces.trace import Trace, load_trace

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["ComparedRun", "Turned", "TwoBuilds", "compare_folders"]

MOST_SHOWN, MOST_NAMED = 20, 3
# What says that a model is another, and not in what: where it is alone, where the runs part says more.
SAYS_LITTLE = "the file of the model"


class Turned(NamedTuple):
    """A claim whose verdict is another: what it was and is, "" where it could not be judged."""

    claim: str
    was: str
    now: str
    passes: bool


class _MovedEvent(NamedTuple):
    """An event that is not where it was: by how many rows, None where it is gone or new, which `how` says."""

    name: str
    how: str
    moved: int | None


@dataclass(frozen=True, slots=True)
class ComparedRun:
    """A run that both builds have: `difference` is where the two part first, "" where they are identical; `cause` what it is told
    with; the claims that turned, the measures that both have, and the events that moved. `why_not` says why it could not be
    compared, `unmatched` which patterns of tolerances match nothing in it."""

    name: str
    difference: str = ""
    cause: str = ""
    turned: tuple[Turned, ...] = ()
    measures: tuple[MeasureReading, ...] = ()
    events: tuple[_MovedEvent, ...] = ()
    why_not: str = ""
    unmatched: frozenset[str] = frozenset()

    @property
    def identical(self) -> bool:
        """Whether the two agree in all that both have."""
        return not self.difference and not self.why_not

    def plain(self) -> dict[str, Any]:
        """The run as plain data, for JSON."""
        return {
            "scenario": self.name,
            "identical": self.identical,
            "difference": self.difference,
            "cause": self.cause,
            "turned": [one._asdict() for one in self.turned],
            "measures": [one.plain() for one in self.measures],
            "events": [one._asdict() for one in self.events],
            "why_not": self.why_not,
        }


@dataclass(frozen=True, slots=True)
class TwoBuilds:
    """Two folders of traces side by side: the runs that both have, in the order of their names, and those that one has alone."""

    runs: tuple[ComparedRun, ...]
    only_old: tuple[str, ...]
    only_new: tuple[str, ...]

    @property
    def identical(self) -> bool:
        """Whether both have the same runs, and each is what it was."""
        return not self.only_old and not self.only_new and all(one.identical for one in self.runs)

    @property
    def causes(self) -> dict[str, list[ComparedRun]]:
        """The runs that differ by what they have in common, the cause of most runs first."""
        found: dict[str, list[ComparedRun]] = {}
        for one in self.runs:
            if one.difference:
                found.setdefault(one.cause, []).append(one)
        return dict(sorted(found.items(), key=lambda item: -len(item[1])))

    def plain(self) -> dict[str, Any]:
        """All of it as plain data, for JSON."""
        return {
            "identical": self.identical,
            "causes": {cause: [one.name for one in runs] for cause, runs in self.causes.items()},
            "only_old": list(self.only_old),
            "only_new": list(self.only_new),
            "runs": [one.plain() for one in self.runs],
        }

    def report(self) -> Report:
        """How many differ and by what cause; verdicts that turned, numbers and events that moved; then a line for each run."""
        return Report.of(self._blocks())

    def _blocks(self) -> Iterator[Block]:
        differing, same = 0, 0
        for one in self.runs:
            differing += bool(one.difference)
            same += one.identical
        tone: Tone = "good" if self.identical else "strong"
        yield Line(f"{plural(len(self.runs), 'scenario')} in both: {same} identical, {differing} differ", tone=tone)
        for where, names in (("the old", self.only_old), ("the new", self.only_new)):
            if names:
                yield Line(f"only in {where}: {shortened(', '.join(names))}", tone="odd")
        for cause, runs in self.causes.items():
            first = runs[0]
            yield Line(f"{plural(len(runs), 'scenario')}: {cause}", tone="strong")
            yield Line(f"{first.name}: {first.difference}", indent=1)
        yield from self._turned()
        yield from self._measures()
        yield from self._events()
        yield from self._runs()

    def _turned(self) -> Iterator[Block]:
        found: dict[Turned, list[str]] = {}
        for one in self.runs:
            for claim in one.turned:
                found.setdefault(claim, []).append(one.name)
        if found:
            yield Line("verdicts that turned:")
        # What does not pass any more stands first.
        for claim in sorted(found, key=lambda one: one.passes):
            tone: Tone = "good" if claim.passes else "bad"
            told = f"{claim.claim}: {claim.was or 'not judged'} → {claim.now or 'not judged'} in {_named(found[claim])}"
            yield Line(told, tone=tone, indent=1)

    def _measures(self) -> Iterator[Block]:
        moved = []
        for one in self.runs:
            for reading in one.measures:
                size = _moved_by(reading)
                if size:
                    moved.append((size, one.name, reading))
        if not moved:
            return
        # The largest share first; of equal ones in the order of the runs.
        moved.sort(key=lambda item: -abs(item[0]))
        lines = []
        for size, name, reading in moved[:MOST_SHOWN]:
            share = ""
            if math.isfinite(size):
                share = f"{size:+.1%}"
            was = f"{reading.before:.6g}"
            lines.append([reading.name, was, f"{reading.value:.6g}", reading.measure.unit, share, name])
        yield Line("measures that moved:")
        yield Table(["measure", "was", "now", "", "by", "in"], lines, frozenset({0, 3, 5}), indent=1)
        yield from _more(len(moved))

    def _events(self) -> Iterator[Block]:
        found: dict[str, dict[str, None]] = {}
        moves: dict[str, list[int]] = {}
        hows: dict[str, set[str]] = {}
        for one in self.runs:
            for event in one.events:
                found.setdefault(event.name, {})[one.name] = None
                if event.moved is not None:
                    moves.setdefault(event.name, []).append(event.moved)
                else:
                    hows.setdefault(event.name, set()).add(event.how)
        if found:
            yield Line("events that moved, came or went:")
        for name, runs in list(found.items())[:MOST_SHOWN]:
            told = []
            rows = moves.get(name)
            if rows:
                span = f"{min(rows):+d}" if min(rows) == max(rows) else f"{min(rows):+d}..{max(rows):+d}"
                told.append(f"moved by {span}")
            told += sorted(hows.get(name, ()))
            yield Line(f"{name}: {', '.join(told)}, in {_named(list(runs))}", indent=1)
        yield from _more(len(found))

    def _runs(self) -> Iterator[Block]:
        lines, tones = [], {}
        for n, one in enumerate(self.runs):
            told: Tone = "plain"
            what = one.difference or "identical"
            if one.why_not:
                what = f"cannot be compared: {one.why_not}"
                told = "bad"
            lines.append([one.name, what])
            tones[n] = told
        if lines:
            yield Line("")
            yield Table(["scenario", "first divergence"], lines, frozenset({0, 1}), tones)

    def __str__(self) -> str:
        return self.report().text()


class _Asked(NamedTuple):
    """What is asked of each run alike: tolerances, the claims of its scenario by name, and a file of rules for all."""

    tolerance: Tolerances
    claims: Mapping[str, tuple[Claim, ...]]
    rules: Path | None


def compare_folders(
    old: str | Path,
    new: str | Path,
    tolerance: Tolerances = None,
    *,
    claims: Mapping[str, Iterable[Claim]] | None = None,
    rules: str | Path | None = None,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> TwoBuilds:
    """The traces of two folders, as two builds have left them, compared name by name.

    `claims` are those of scenarios, by the scenario's name, and `rules` a claims file for all of them: both are judged on the old
    run and on the new one. `tolerance` is as in `compare`. Raises LarkTallyError for a folder without traces, for a tolerance
    that fits no run, and where the two have no name in common.
    """
    first, second = (_by_name(Path(folder)) for folder in (old, new))
    pairs = []
    for name, path in first.items():
        if name in second:
            pairs.append((name, path, second[name]))
    if not pairs:
        raise LarkTallyError(
            f"{old} and {new} have no trace of one name: {shortened(', '.join(first))}; {shortened(', '.join(second))}"
        )
    by_scenario = {}
    for name, listed in (claims or {}).items():
        by_scenario[name] = tuple(listed)
    asked = _Asked(tolerance, by_scenario, Path(rules) if rules is not None else None)
    if asked.rules is not None:
        load_rules(asked.rules, None)
    compared = run_each(partial(_compared, asked), pairs, workers=workers, executor=executor, on_progress=on_progress)
    runs = tuple(compared)
    for pattern in frozenset.intersection(*(one.unmatched for one in runs)):
        raise LarkTallyError(f"tolerance {pattern!r} matches no channel of any run")
    return TwoBuilds(runs, _missing(first, second), _missing(second, first))


def _by_name(folder: Path) -> dict[str, Path]:
    found: dict[str, Path] = {}
    for path in traces_in(folder):
        if path.stem in found:
            raise LarkTallyError(f"{folder}: two traces are called {path.stem!r}: {found[path.stem].name}, {path.name}")
        found[path.stem] = path
    return found


def _missing(one: Mapping[str, Path], other: Mapping[str, Path]) -> tuple[str, ...]:
    return tuple(name for name in one if name not in other)


def _compared(asked: _Asked, pair: tuple[str, Path, Path]) -> ComparedRun:
    """One run of both builds."""
    name, first, second = pair
    try:
        old, new = load_trace(first), load_trace(second)
        tolerance = asked.tolerance
        unmatched = frozenset[str]()
        if isinstance(tolerance, Mapping):
            # What is said of all runs need not fit each of them.
            fitting = {}
            for pattern, one in tolerance.items():
                if _matches(pattern, old, new):
                    fitting[pattern] = one
            unmatched, tolerance = frozenset(tolerance) - frozenset(fitting), fitting
        found = compare(old, new, tolerance)
        measures, judged = list(measures_noted(old, new)), list(asked.claims.get(new.header.scenario or name, ()))
        if asked.rules is not None:
            rules = load_rules(asked.rules, new.channels)
            judged += rules.claims
            named = {one.name for one in measures}
            for added in rules.measures:
                if added.name not in named:
                    measures.append(added)
        turned = tuple(_turned_claims(old, new, judged))
        readings = read_measures_of_both(old, new, measures)
    except LarkTallyError as error:
        return ComparedRun(name, why_not=str(error).splitlines()[0])
    difference, cause = "", ""
    if not found.identical:
        difference, cause = _difference(found), _cause(found)
    return ComparedRun(name, difference, cause, turned, readings, tuple(_events(found)), unmatched=unmatched)


def _matches(pattern: str, old: Trace, new: Trace) -> bool:
    try:
        return bool(matching([name for name in old.channels if name in new.columns], [pattern], ""))
    except LarkTallyError:
        return False


def _turned_claims(old: Trace, new: Trace, claims: Iterable[Claim]) -> Iterator[Turned]:
    for one in claims:
        (was, _), (now, passes) = _verdict(old, one), _verdict(new, one)
        if was != now:
            yield Turned(one.name, was, now, passes)


def _verdict(trace: Trace, claim: Claim) -> tuple[str, bool]:
    """A claim's verdict and whether it passes; "" for one that does not fit the trace, whose part was not there yet."""
    try:
        (result,) = check(trace, [claim])
    except ClaimError:
        return "", False
    return result.verdict, result.passed


def _difference(found: Comparison) -> str:
    """Where two runs part first, on a line."""
    parted = found.divergence
    if parted is None:
        names = [*found.only_a, *found.only_b]
        return f"the channels are others: {shortened(', '.join(names))}"
    told = f"row {parted.row}: {parted.what} was {parted.first}, now {parted.second}"
    if found.late is not None:
        told += f"; all of it is {abs(found.late)} rows {'late' if found.late > 0 else 'early'}"
    return told


def _cause(found: Comparison) -> str:
    """What the runs that have it are told with: the settings that differ, or, where those say little, what parts first."""
    settings, another_file = [], False
    for one in found.settings:
        if one.name == SAYS_LITTLE:
            another_file = True
        elif one.row is None:
            settings.append(str(one))
        elif found.divergence is None or one.row <= found.divergence.row:
            # Later on it is what came of it: a press that waits for an event. In which row is a run's own.
            settings.append("the script")
    if settings:
        return "; ".join(settings)
    if found.divergence is None:
        return "other channels"
    cause = f"{found.divergence.what} parts first"
    if another_file:
        cause += f", and {SAYS_LITTLE} is another"
    return cause


def _events(found: Comparison) -> Iterator[_MovedEvent]:
    for one in found.events:
        how = "other numbers"
        if one.first is None:
            how = "new"
        elif one.second is None:
            how = "gone"
        moved = one.moved
        if moved == 0:
            moved = None
        yield _MovedEvent(one.name, how, moved)


def _moved_by(reading: MeasureReading) -> float:
    """By what share of itself a number moved; infinite from nothing, 0 where it did not."""
    if reading.before is None or reading.before == reading.value:
        return 0.0
    if math.isnan(reading.before) and math.isnan(reading.value):
        return 0.0
    if not reading.before or not math.isfinite(reading.before) or not math.isfinite(reading.value):
        return math.inf
    return (reading.value - reading.before) / abs(reading.before)


def _named(runs: Sequence[str]) -> str:
    told = ", ".join(runs[:MOST_NAMED])
    if len(runs) > MOST_NAMED:
        told += f" and {len(runs) - MOST_NAMED} more"
    return told


def _more(count: int) -> Iterator[Block]:
    if count > MOST_SHOWN:
        yield Line(f"and {count - MOST_SHOWN} more (--json has all)", indent=1)
