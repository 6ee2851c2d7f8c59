"""larktally run FILE.py[:NAME] …: records scenarios, checks their claims, saves traces."""

from __future__ import annotations

import contextlib
import os
import shutil
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import click

from larktally.auditing.audit import look_at
from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen
from larktally.claims.checking import check
from larktally.claims.files import load_rules
from larktally.claims.named import MeasureReading, NamedMeasure, measures_table, read_measures, values_before
from larktally.claims.over_runs import Tallies
from larktally.claims.rules_over_runs import RulesOverRuns
from larktally.claims.verdicts import Tally
from larktally.cli.outcome import (
    BAD_INPUT,
    NOT_KEPT,
    SUBJECT_FAILED,
    echo,
    exit_with,
    print_json,
    report_errors,
    subject_story,
)
from larktally.cli.progress import progress
from larktally.cli.selection import one_value, split_patterns
from larktally.cli.trace_options import path_before
from larktally.comparing.baselines import BaselineResult, Baselines
from larktally.errors import ClaimError, LarkTallyError, SubjectFailed, WriteError
from larktally.explain.causes import Causes, causes_of_breaches, causes_of_divergence, lines_by_claim
from larktally.explain.wrong_kind import line_that_set
from larktally.names import stands_twice
from larktally.report import Line, Report
from larktally.runs.failed_story import failed_story
from larktally.runs.file_recording import stopped_path
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural, printable
from larktally.traces.trace import Trace, load_trace
from larktally.views.junit import Suite, write_junit
from larktally.whole_files import check_target, made_folder, plain_file_name

MOST_FINDINGS = 5


@click.command()
@click.argument("targets", metavar="FILE.py[:NAME] …", nargs=-1, required=True)
@click.option(
    "--to",
    "folder",
    default="traces",
    show_default=True,
    type=click.Path(path_type=Path),
    help="Folder for the traces.",
)
@click.option(
    "--format",
    "suffix",
    type=click.Choice(["parquet", "jsonl"]),
    default="parquet",
    show_default=True,
    help="Trace file format.",
)
@click.option("--only", multiple=True, metavar="PATTERN", help="Keep only the channels that match, such as 'wick.*'.")
@click.option(
    "--baseline",
    "baselines",
    type=click.Path(path_type=Path),
    metavar="DIR",
    help="Compare each run with its baseline in this folder.",
)
@click.option("--accept", is_flag=True, help="Make these runs the baselines, and show what changed.")
@click.option(
    "--claims",
    "rules_file",
    type=click.Path(path_type=Path),
    metavar="RULES.toml",
    help="Judge these rules over all of the runs too.",
)
@click.option("--all", "everything", is_flag=True, help="Of the rules: a line for each run, and every story.")
@click.option(
    "--param", "params", multiple=True, metavar="NAME=VALUE", help="For this once: leap=340. May be said several times."
)
@click.option("--rate", metavar="R", help="For this once: so many frames per second.")
@click.option("--plot", is_flag=True, help="Draw each run too, beside its trace.")
@click.option("--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write the verdicts as JUnit XML too.")
@click.option("--json", "as_json", is_flag=True, help="Print the results as JSON.")
@report_errors
def command(
    targets: tuple[str, ...],
    folder: Path,
    suffix: str,
    only: tuple[str, ...],
    baselines: Path | None,
    accept: bool,
    rules_file: Path | None,
    everything: bool,
    params: tuple[str, ...],
    rate: str | None,
    plot: bool,
    junit: Path | None,
    as_json: bool,
) -> None:
    """Record the scenarios that stand at a file's top level, in order; check their claims; save their traces.

    The run before is kept as NAME.before.parquet, for compare --before and plot --before. While it runs, a recording stands
    as NAME.partial beside its trace; what a killed run left there is recovered with larktally convert --recover.
    """
    # Accepting into nowhere would look as if something had been accepted.
    if accept and baselines is None:
        raise LarkTallyError("--accept goes with --baseline DIR: where the baselines are")
    tried: dict[str, Any] = {"params": dict(one_value(text) for text in params), "rate": rate}
    if accept and (params or rate):
        raise LarkTallyError("--accept keeps what the file says; --param and --rate are for one try")
    scenarios = []
    for target in targets:
        for scenario in load_scenarios(target):
            scenarios.append(_tried(scenario, **tried))
    # Two scenarios of one name would write one file, the second over the first.
    _check_names(scenarios)
    made_folder(folder)
    if junit is not None:
        check_target(junit)
    if rules_file is not None:
        # A slip in the file is told before the first run, and not after the last; what it matches is not known yet.
        load_rules(rules_file, None)
    kept = Baselines(baselines) if baselines is not None else None
    runs = _Runs(folder, suffix, split_patterns(only), kept, accept, rules_file, plot, junit, as_json)
    for scenario in scenarios:
        runs.run(scenario)
    tallies = None
    if rules_file is not None:
        tallies = runs.over_runs.over_all()
    if junit is not None:
        write_junit(junit, runs.suites, tallies)
    _print_all(runs, rules_file, tallies, everything)
    if tallies is not None:
        unjudged = BAD_INPUT if tallies.errors and runs.worst < SUBJECT_FAILED else 0
        runs.worst = max(runs.worst, unjudged, 0 if tallies.passed else NOT_KEPT)
    if runs.worst:
        exit_with(runs.worst)


@dataclass
class _Runs:
    """Scenarios run one after the other, each told at once; what they came to together is gathered."""

    folder: Path
    suffix: str
    only: list[str]
    baselines: Baselines | None
    accept: bool
    rules_file: Path | None
    plot: bool
    junit: Path | None
    as_json: bool
    results: list[dict[str, Any]] = field(default_factory=list)
    suites: list[Suite] = field(default_factory=list)
    over_runs: RulesOverRuns = field(default_factory=RulesOverRuns)
    #: The worst exit status: a failed subject counts more than a broken claim.
    worst: int = 0

    def run(self, scenario: Scenario) -> None:
        """One scenario: recorded, judged, told, and kept."""
        path = self.folder / f"{plain_file_name(scenario.title)}.{self.suffix}"
        replaced = path.exists()
        before = {}
        if replaced:
            before = _values_before(path, scenario.measures)
        began = time.perf_counter()
        try:
            with progress(scenario.title) as on_progress, _kept_before(path):
                trace = record(scenario, only=self.only or None, to=path, on_progress=on_progress)
            tally = Tally([])
            if scenario.claims:
                tally = check(trace, scenario.claims)
            readings = read_measures(trace, scenario.measures, before)
        except SubjectFailed as failure:
            # The others are run all the same: one subject that fails does not hide what the rest have to say.
            self._failed(scenario, failure, path, began)
            return
        except LarkTallyError as error:
            raise _told_of(scenario, error, self.junit, self.suites) from None
        self._note_for_rules(scenario, trace)
        # Runs the scenario once more, and only where a claim is broken in a row.
        causes = causes_of_breaches(trace, scenario, tally)
        held, left = None, ""
        if self.baselines is not None:
            held = self.baselines.check(trace, accept=self.accept)
            left = f"baseline {held}"
            if held.passed:
                left = ""
        self.worst = max(self.worst, NOT_KEPT if left or (tally and not tally.passed) else 0)
        took = time.perf_counter() - began
        odd = [one for one in look_at(Seen(trace, scenario)).findings if one.identity not in scenario.intended]
        self.suites.append(Suite(scenario.title, tally, took, left_baseline=left, odd=odd))
        more = {"measures": [one.plain() for one in readings], "findings": [one.plain() for one in odd]}
        plain = _plain(scenario, trace, path, tally, causes, held)
        self.results.append(plain | {"replaced": replaced, **more})
        drawn = None
        if self.plot:
            drawn = _drawn(trace, tally, path)
        if self.as_json:
            return
        # A line apart from the run before it, whose sum would otherwise read as this one's heading.
        if len(self.results) > 1:
            echo()
        where = str(path)
        if replaced:
            where = f"{path}; the run before: {path_before(path).name}"
        _print(trace, where, scenario, tally, causes)
        _print_measures(readings)
        _print_findings(scenario, odd)
        if held is not None:
            _print_baseline(trace, scenario, held)
        if drawn is not None:
            echo(f"drawn: {drawn}")

    def _failed(self, scenario: Scenario, failure: SubjectFailed, path: Path, began: float) -> None:
        self.over_runs.failed(scenario.title, f"its subject failed: {failure}")
        self.worst = SUBJECT_FAILED
        told, story = _failed(scenario, failure, path)
        self.results.append(told)
        self.suites.append(Suite(scenario.title, None, time.perf_counter() - began, story))

    def _note_for_rules(self, scenario: Scenario, trace: Trace) -> None:
        if self.rules_file is None:
            return
        try:
            self.over_runs.add(scenario.title, trace, load_rules(self.rules_file, trace.channels))
        except ClaimError as error:
            self.over_runs.failed(scenario.title, str(error))


def _tried(scenario: Scenario, params: Mapping[str, Any], rate: str | None) -> Scenario:
    """A scenario with some of its params and its rate said otherwise, for one try."""
    if params:
        scenario = scenario.changed(params={**scenario.params, **params})
    if rate:
        scenario = scenario.changed(rate=rate)
    return scenario


@contextlib.contextmanager
def _kept_before(path: Path) -> Iterator[None]:
    """Keeps the run that stands there as NAME.before, once the new one has taken its place."""
    if not path.exists():
        yield
        return
    spare = path.with_name(f".{path.name}.before")
    # A second name of the same file: the recording that takes the first one's place leaves it alone.
    spare.unlink(missing_ok=True)
    try:
        os.link(path, spare)
    except OSError:
        # Not every disk has second names.
        shutil.copy2(path, spare)
    try:
        yield
        os.replace(spare, path_before(path))
    finally:
        spare.unlink(missing_ok=True)


def _drawn(trace: Trace, tally: Tally, path: Path) -> Path:
    from larktally.views.picture import draw_run, save_picture

    rows = sorted({one.row for result in tally.failed for one in result.breaches if one.row is not None})
    return save_picture(draw_run(trace, breaches=rows), path.with_suffix(".png"))


def _print_all(runs: _Runs, rules_file: Path | None, tallies: Tallies | None, everything: bool) -> None:
    """What the runs came to together: all of it as JSON, or the rules over all of them."""
    if runs.as_json:
        shown: Any = runs.results
        if tallies is not None:
            over_all = tallies.plain() | {"measures": runs.over_runs.measures_plain()}
            shown = {"runs": runs.results, "rules": over_all}
        print_json(shown)
    elif tallies is not None and rules_file is not None:
        _print_over_runs(rules_file, tallies, runs.over_runs, everything)


def _told_of(scenario: Scenario, error: LarkTallyError, junit: Path | None, suites: list[Suite]) -> LarkTallyError:
    """The error with its scenario's name; a server is told of it too, and of what ran before."""
    told = f"{scenario.title}: {error}"
    if junit is not None:
        try:
            write_junit(junit, [*suites, Suite(scenario.title, None, error=str(error))])
        except WriteError as unwritten:
            # The disk that has no room for the trace has none for the report, and the first of the two says why.
            told = f"{told}\nlarktally: {unwritten}"
    return LarkTallyError(told).with_traceback(error.__traceback__)


def _print(trace: Trace, where: str, scenario: Scenario, tally: Tally, causes: dict[str, Causes]) -> None:
    from larktally.views.terminal import console, print_report

    out = console()
    if trace.header.end:
        ended = f", ended: {trace.header.end}"
    else:
        ended = ""
    out.print(
        printable(f"{scenario.title}: {trace.frames} frames at {trace.rate} frames/s{ended} → {where}"),
        highlight=False,
        markup=False,
        soft_wrap=True,
    )
    if tally:
        print_report(out, tally.report(lines_by_claim(causes)))
    else:
        out.print("  no claims in this scenario, so nothing was checked", markup=False, highlight=False)


def _print_measures(readings: Sequence[MeasureReading]) -> None:
    from larktally.views.terminal import console, print_report

    if readings:
        print_report(console(), Report.of((Line(""), measures_table(readings))))


def _print_findings(scenario: Scenario, findings: Sequence[Finding]) -> None:
    """A line for each finding that no claim asked about; none of them makes a run fail."""
    if findings:
        echo()
    for one in findings[:MOST_FINDINGS]:
        echo(f"odd, {one.certainty}: {one}")
    if len(findings) > MOST_FINDINGS:
        echo(f"and {len(findings) - MOST_FINDINGS} more: larktally audit --all")


def _print_over_runs(rules_file: Path | None, tallies: Tallies, over_runs: RulesOverRuns, everything: bool) -> None:
    from larktally.views.terminal import console, print_report

    heading = Report.of(
        (Line(""), Line(f"{rules_file} over {plural(len(tallies) + len(tallies.errors), 'run')}", tone="strong"))
    )
    print_report(console(), heading + tallies.report(everything) + over_runs.measures_report())


def _values_before(path: Path, measures: Sequence[NamedMeasure]) -> dict[str, float]:
    """What the measures came to in the run that stands there, read before it is replaced."""
    if not measures:
        return {}
    try:
        return values_before(load_trace(path), measures)
    except LarkTallyError:
        # A file that is broken is replaced all the same.
        return {}


def _print_baseline(trace: Trace, scenario: Scenario, held: BaselineResult) -> None:
    echo(f"baseline {held}")
    moved = held.path.exists() and held.comparison is not None and not held.comparison.identical
    if moved and scenario.measures:
        before = _values_before(held.path, scenario.measures)
        for one in read_measures(trace, scenario.measures, before):
            echo(f"  {one}")
    why = causes_of_divergence(trace, scenario, held.divergence)
    if why is not None:
        echo(why.told())


def _failed(scenario: Scenario, failure: SubjectFailed, path: Path) -> tuple[dict[str, Any], str]:
    """Prints what became of a run whose subject failed; the same as plain data, and as a story for a server."""
    set_at = line_that_set(scenario, failure)
    echo(subject_story(failure, scenario.title), err=True)
    if set_at:
        echo(set_at, err=True)
    kept = None
    if failure.trace is not None and failure.trace.rows:
        kept = stopped_path(path)
        echo(f"  they are in {kept}", err=True)
    plain = {"scenario": scenario.title, "failed": str(failure), "row": failure.row, "trace": kept and str(kept)}
    return plain, "\n".join(filter(None, (failed_story(failure), set_at)))


def _plain(
    scenario: Scenario,
    trace: Trace,
    path: Path,
    tally: Tally,
    causes: dict[str, Causes],
    held: BaselineResult | None,
) -> dict[str, Any]:
    compared = None
    if held is not None and held.comparison is not None:
        compared = held.comparison.plain()
    baseline = None
    if held is not None:
        baseline = {"path": str(held.path), "passed": held.passed, "comparison": compared}
    return {
        "scenario": scenario.title,
        "trace": str(path),
        "frames": trace.frames,
        "end": trace.header.end,
        "digest": trace.digest,
        "passed": tally.passed if tally else None,
        "claims": tally.plain(),
        "causes": {name: found.plain() for name, found in causes.items()},
        "baseline": baseline,
    }


def _check_names(scenarios: list[Scenario]) -> None:
    twice = stands_twice(plain_file_name(scenario.title) for scenario in scenarios)
    if twice is not None:
        raise LarkTallyError(f"two scenarios would be saved as {twice!r}; give one of them another name=")
