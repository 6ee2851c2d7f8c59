"""larktally run FILE[:NAME] …: records scenarios, checks their claims, saves traces."""

from __future__ import annotations

import contextlib
import io
import os
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from larktally.auditing.finding import Finding
from larktally.auditing.looking import oddities
from larktally.claims.checking import check
from larktally.claims.named import MeasureReading, NamedMeasure, measures_table, read_measures, values_before
from larktally.claims.rules_over_runs import RulesOverRuns
from larktally.claims.verdicts import Tally
from larktally.cli.farm import chosen_scenarios, total
from larktally.cli.hands import worker_count
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
from larktally.cli.printing import show_report
from larktally.cli.progress import progress
from larktally.cli.selection import one_value, split_patterns
from larktally.cli.trace_options import path_before
from larktally.errors import ClaimError, LarkTallyError, SubjectFailed, WriteError
from larktally.names import stands_twice
from larktally.report import Line, Report
from larktally.runs.failed_story import failed_story
from larktally.runs.file_recording import stopped_path
from larktally.runs.many import Workers, run_each
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural
from larktally.traces.trace import Trace, load_trace
from larktally.views.suite import Suite
from larktally.whole_files import check_target, made_folder, plain_file_name

if TYPE_CHECKING:
    from larktally.claims.over_runs import Tallies
    from larktally.comparing.baselines import BaselineResult, Baselines
    from larktally.explain.causes import Causes

# What a run asks only where something went wrong, or of a baseline, is loaded there: most runs go well.
MOST_FINDINGS = 5


@click.command()
@click.argument("targets", metavar="FILE[:NAME]|FOLDER …", nargs=-1, required=True)
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
@click.option("--match", default="", metavar="PATTERN", help="Only the scenarios whose name matches, such as 'rope*'.")
@click.option("--shard", default="", metavar="N/OF", help="Only the n-th share of them: 2/8 for the second of eight.")
@click.option(
    "--keep",
    type=click.Choice(["all", "failed", "none"]),
    default="all",
    show_default=True,
    help="Which traces are kept.",
)
@click.option("--twice", is_flag=True, help="Run each a second time: one that is another then is unsteady.")
@click.option("--workers", default="1", metavar="N|all", help="Share them among so many processes, or one a core.")
@click.option("--quiet", is_flag=True, help="One line over all scenarios.")
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
    match: str,
    shard: str,
    keep: str,
    twice: bool,
    workers: str,
    quiet: bool,
    plot: bool,
    junit: Path | None,
    as_json: bool,
) -> None:
    """Record the scenarios that stand at a file's top level, or in all files below a folder, in order; check their claims; save
    their traces.

    The run before is kept as NAME.before.parquet, for compare --before and plot --before. While it runs, a recording stands
    as NAME.partial beside its trace; what a killed run left there is recovered with larktally convert --recover.
    """
    # Accepting into nowhere would look as if something had been accepted.
    if accept and baselines is None:
        raise LarkTallyError("--accept goes with --baseline DIR: where the baselines are")
    tried = dict(one_value(text) for text in params)
    if accept and (params or rate):
        raise LarkTallyError("--accept keeps what the file says; --param and --rate are for one try")
    if keep != "all" and (rules_file is not None or plot):
        raise LarkTallyError(f"--keep {keep} leaves no trace of runs that --claims and --plot need; leave it out")
    began = time.perf_counter()
    scenarios = [scenario.turned(tried, rate) for scenario in chosen_scenarios(targets, match, shard)]
    # Two scenarios of one name would write one file, the second over the first.
    _check_names(scenarios)
    made_folder(folder)
    if junit is not None:
        check_target(junit)
    if rules_file is not None:
        from larktally.claims.files import load_rules

        # A slip in the file is told before the first run, and not after the last; what it matches is not known yet.
        load_rules(rules_file, None)
    kept = None
    if baselines is not None:
        from larktally.comparing.baselines import Baselines

        kept = Baselines(baselines)
    asked = _Asked(
        folder, suffix, split_patterns(only), kept, accept, rules_file, plot, junit, as_json, quiet, keep, twice
    )
    runs = _Runs(asked)
    if worker_count(workers) == 1:
        for scenario in scenarios:
            runs.run(scenario)
    else:
        runs.run_elsewhere(scenarios, worker_count(workers))
    tallies = None
    if rules_file is not None:
        tallies = runs.over_runs.over_all()
    if junit is not None:
        from larktally.views.junit import write_junit

        write_junit(junit, runs.suites, tallies, runs.documents)
    _print_all(runs, rules_file, tallies, everything)
    if quiet and not as_json:
        echo(total(runs.outcomes, time.perf_counter() - began))
    if tallies is not None:
        unjudged = BAD_INPUT if tallies.errors and runs.worst < SUBJECT_FAILED else 0
        runs.worst = max(runs.worst, unjudged, 0 if tallies.passed else NOT_KEPT)
    if runs.worst:
        exit_with(runs.worst)


@dataclass(frozen=True)
class _Asked:
    """What the command was asked for, of each scenario alike."""

    folder: Path
    suffix: str
    only: list[str]
    baselines: Baselines | None
    accept: bool
    rules_file: Path | None
    plot: bool
    junit: Path | None
    as_json: bool
    quiet: bool
    keep: str
    twice: bool


class _Told(NamedTuple):
    """What a scenario came to in another process: what it printed, on which of the two, and what is gathered of it."""

    out: str
    err: str
    results: list[dict[str, Any]]
    outcomes: list[tuple[str, str]]
    junit: bytes
    worst: int


def _run_alone(asked: _Asked, scenario: Scenario) -> _Told:
    """One scenario, in a process that is there for many."""
    out, err = io.StringIO(), io.StringIO()
    runs = _Runs(asked)
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        runs.run(scenario)
    document = b""
    if asked.junit is not None:
        from larktally.views.junit import junit_xml

        document = junit_xml(runs.suites)
    return _Told(out.getvalue(), err.getvalue(), runs.results, runs.outcomes, document, runs.worst)


@dataclass
class _Runs:
    """Scenarios run one after the other, each told at once; what they came to together is gathered."""

    asked: _Asked
    results: list[dict[str, Any]] = field(default_factory=list)
    suites: list[Suite] = field(default_factory=list)
    documents: list[bytes] = field(default_factory=list)
    #: Each scenario's name and what it came to, in a word.
    outcomes: list[tuple[str, str]] = field(default_factory=list)
    over_runs: RulesOverRuns = field(default_factory=RulesOverRuns)
    #: The worst exit status: a failed subject counts more than a broken claim.
    worst: int = 0

    def run_elsewhere(self, scenarios: Sequence[Scenario], workers: Workers) -> None:
        """The scenarios in several processes: told in their order, as if they had been run one after the other."""
        asked = replace(self.asked, rules_file=None)
        for scenario, told in zip(
            scenarios, run_each(partial(_run_alone, asked), scenarios, workers=workers), strict=True
        ):
            if self.results and told.out:
                echo()
            click.echo(told.out, nl=False)
            click.echo(told.err, nl=False, err=True)
            self.results += told.results
            self.outcomes += told.outcomes
            self.documents += filter(None, (told.junit,))
            self.worst = max(self.worst, told.worst)
            if self.asked.rules_file is not None:
                self._note_file_for_rules(scenario, told)

    def run(self, scenario: Scenario) -> None:
        """One scenario: recorded, judged, told, and kept."""
        asked = self.asked
        path = asked.folder / f"{plain_file_name(scenario.title)}.{asked.suffix}"
        replaced = path.exists()
        before = {}
        if replaced:
            before = _values_before(path, scenario.measures)
        began = time.perf_counter()
        try:
            with progress(scenario.title) as on_progress, _kept_before(path, asked.keep == "all"):
                to = None
                if asked.keep == "all":
                    to = path
                trace = record(scenario, only=asked.only or None, to=to, on_progress=on_progress)
            unsteady = ""
            if asked.twice:
                unsteady = _unsteady(scenario, trace)
            tally = Tally([])
            if scenario.claims:
                tally = check(trace, scenario.claims)
            readings = read_measures(trace, scenario.measures, before)
        except SubjectFailed as failure:
            # The others are run all the same: one subject that fails does not hide what the rest have to say.
            self._failed(scenario, failure, path, began)
            return
        except LarkTallyError as error:
            raise _told_of(scenario, error, asked.junit, self.suites) from None
        self._note_for_rules(scenario, trace)
        causes: dict[str, Causes] = {}
        if any(result.breaches for result in tally):
            from larktally.explain.causes import causes_of_breaches

            # Runs the scenario once more, and only where a claim is broken in a row.
            causes = causes_of_breaches(trace, scenario, tally)
        held, left = None, unsteady
        if asked.baselines is not None:
            held = asked.baselines.check(trace, accept=asked.accept)
            if not held.passed:
                left = left or f"baseline {held}"
        passed = not left and (not tally or tally.passed)
        if not passed:
            self.worst = max(self.worst, NOT_KEPT)
        self.outcomes.append((scenario.title, _outcome(tally, unsteady, left)))
        kept = asked.keep == "all" or (asked.keep == "failed" and not passed)
        if kept and asked.keep != "all":
            with _kept_before(path):
                trace.save(path)
        took = time.perf_counter() - began
        odd = oddities(trace, scenario)
        self.suites.append(Suite(scenario.title, tally, took, left_baseline=left, odd=odd))
        more = {"measures": [one.plain() for one in readings], "findings": [one.plain() for one in odd]}
        plain = _plain(scenario, trace, path if kept else None, tally, causes, held)
        self.results.append(plain | {"replaced": replaced and kept, "unsteady": unsteady, **more})
        drawn = None
        if asked.plot:
            drawn = _drawn(trace, tally, path)
        if asked.as_json or asked.quiet:
            return
        # A line apart from the run before it, whose sum would otherwise read as this one's heading.
        if len(self.results) > 1:
            echo()
        where = str(path)
        if not kept:
            where = "not kept"
        elif replaced:
            where = f"{path}; the run before: {path_before(path).name}"
        _print(trace, where, scenario, tally, causes)
        if unsteady:
            echo(unsteady)
        _print_measures(readings)
        _print_findings(scenario, odd)
        if held is not None:
            _print_baseline(trace, scenario, held)
        if drawn is not None:
            echo(f"drawn: {drawn}")

    def _failed(self, scenario: Scenario, failure: SubjectFailed, path: Path, began: float) -> None:
        self.over_runs.failed(scenario.title, f"its subject failed: {failure}")
        self.worst = SUBJECT_FAILED
        if self.asked.keep == "failed" and failure.trace is not None and failure.trace.rows:
            failure.trace.save(stopped_path(path))
        told, story = _failed(scenario, failure, path, self.asked.keep != "none")
        self.results.append(told)
        self.outcomes.append((scenario.title, "failed"))
        self.suites.append(Suite(scenario.title, None, time.perf_counter() - began, story))

    def _note_for_rules(self, scenario: Scenario, trace: Trace) -> None:
        if self.asked.rules_file is None:
            return
        from larktally.claims.files import load_rules

        try:
            self.over_runs.add(scenario.title, trace, load_rules(self.asked.rules_file, trace.channels))
        except ClaimError as error:
            self.over_runs.failed(scenario.title, str(error))

    def _note_file_for_rules(self, scenario: Scenario, told: _Told) -> None:
        """What another process recorded, judged by the rules over all of them."""
        path = told.results[-1].get("trace")
        if "failed" in told.results[-1]:
            self.over_runs.failed(scenario.title, f"its subject failed: {told.results[-1]['failed']}")
        elif path:
            self._note_for_rules(scenario, load_trace(path))


def _unsteady(scenario: Scenario, trace: Trace) -> str:
    """What a second run does otherwise; "" for nothing."""
    from larktally.comparing.divergence import first_divergence

    try:
        other = record(scenario, only=trace.channels if trace.header.filtered else None)
    except SubjectFailed as failure:
        return f"unsteady: a second run fails: {str(failure).splitlines()[0]}"
    found = first_divergence(trace, other)
    if found is None:
        return ""
    return f"unsteady: the same run again is another: {found}"


def _outcome(tally: Tally, unsteady: str, left: str) -> str:
    """What a run came to, in a word."""
    if unsteady:
        return "unsteady"
    if tally and not tally.passed:
        return next(one.verdict for one in tally.failed)
    if left:
        return "away from the baseline"
    if tally:
        return "kept"
    return "with no claims"


@contextlib.contextmanager
def _kept_before(path: Path, wanted: bool = True) -> Iterator[None]:
    """Keeps the run that stands there as NAME.before, once the new one has taken its place."""
    if not wanted or not path.exists():
        yield
        return
    spare = path.with_name(f".{path.name}.before")
    # A second name of the same file: the recording that takes the first one's place leaves it alone.
    spare.unlink(missing_ok=True)
    try:
        os.link(path, spare)
    except OSError:
        # Not every disk has second names.
        import shutil

        shutil.copy2(path, spare)
    try:
        yield
        os.replace(spare, path_before(path))
    finally:
        spare.unlink(missing_ok=True)


def _drawn(trace: Trace, tally: Tally, path: Path) -> Path:
    from larktally.views.picture import draw_run, save_picture

    return save_picture(draw_run(trace, breaches=tally.breach_rows), path.with_suffix(".png"))


def _print_all(runs: _Runs, rules_file: Path | None, tallies: Tallies | None, everything: bool) -> None:
    """What the runs came to together: all of it as JSON, or the rules over all of them."""
    if runs.asked.as_json:
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
        from larktally.views.junit import write_junit

        try:
            write_junit(junit, [*suites, Suite(scenario.title, None, error=str(error))])
        except WriteError as unwritten:
            # The disk that has no room for the trace has none for the report, and the first of the two says why.
            told = f"{told}\nlarktally: {unwritten}"
    return LarkTallyError(told).with_traceback(error.__traceback__)


def _print(trace: Trace, where: str, scenario: Scenario, tally: Tally, causes: dict[str, Causes]) -> None:
    if trace.header.end:
        ended = f", ended: {trace.header.end}"
    else:
        ended = ""
    echo(f"{scenario.title}: {trace.frames} frames at {trace.rate} frames/s{ended} → {where}")
    if tally:
        lines: Mapping[str, Sequence[str]] = {}
        if causes:
            from larktally.explain.causes import lines_by_claim

            lines = lines_by_claim(causes)
        show_report(tally.report(lines))
    else:
        echo("  no claims in this scenario, so nothing was checked")


def _print_measures(readings: Sequence[MeasureReading]) -> None:
    if readings:
        show_report(Report.of((Line(""), measures_table(readings))))


def _print_findings(scenario: Scenario, findings: Sequence[Finding]) -> None:
    """A line for each finding that no claim asked about; none of them makes a run fail."""
    if findings:
        echo()
    for one in findings[:MOST_FINDINGS]:
        echo(f"odd, {one.certainty}: {one}")
    if len(findings) > MOST_FINDINGS:
        echo(f"and {len(findings) - MOST_FINDINGS} more: larktally audit --all")


def _print_over_runs(rules_file: Path | None, tallies: Tallies, over_runs: RulesOverRuns, everything: bool) -> None:
    heading = Report.of(
        (Line(""), Line(f"{rules_file} over {plural(len(tallies) + len(tallies.errors), 'run')}", tone="strong"))
    )
    show_report(heading + tallies.report(everything) + over_runs.measures_report())


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
    from larktally.explain.causes import causes_of_divergence

    why = causes_of_divergence(trace, scenario, held.divergence)
    if why is not None:
        echo(why.told())


def _failed(scenario: Scenario, failure: SubjectFailed, path: Path, keeps: bool) -> tuple[dict[str, Any], str]:
    """Prints what became of a run whose subject failed; the same as plain data, and as a story for a server."""
    from larktally.explain.wrong_kind import line_that_set

    set_at = line_that_set(scenario, failure)
    echo(subject_story(failure, scenario.title), err=True)
    if set_at:
        echo(set_at, err=True)
    kept = None
    if keeps and failure.trace is not None and failure.trace.rows:
        kept = stopped_path(path)
        echo(f"  they are in {kept}", err=True)
    plain = {"scenario": scenario.title, "failed": str(failure), "row": failure.row, "trace": kept and str(kept)}
    return plain, "\n".join(filter(None, (failed_story(failure), set_at)))


def _plain(
    scenario: Scenario,
    trace: Trace,
    path: Path | None,
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
        "trace": path and str(path),
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
