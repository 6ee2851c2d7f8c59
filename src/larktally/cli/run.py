"""larktally run FILE.py[:NAME] …: records scenarios, checks their claims, saves traces."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import click

from larktally.claims.checking import check
from larktally.claims.verdicts import Tally
from larktally.cli.outcome import NOT_KEPT, SUBJECT_FAILED, echo, exit_with, print_json, report_errors, subject_story
from larktally.cli.progress import progress
from larktally.cli.selection import split_patterns
from larktally.comparing.baselines import BaselineResult, Baselines
from larktally.errors import LarkTallyError, SubjectFailed, WriteError
from larktally.explain.causes import Causes, causes_of_breaches, causes_of_divergence, lines_by_claim
from larktally.explain.wrong_kind import line_that_set
from larktally.names import stands_twice
from larktally.runs.failed_story import failed_story
from larktally.runs.file_recording import stopped_path
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.textfmt import printable
from larktally.traces.trace import Trace
from larktally.views.junit import Suite, write_junit
from larktally.whole_files import check_target, made_folder, plain_file_name


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
    junit: Path | None,
    as_json: bool,
) -> None:
    """Record the scenarios that stand at a file's top level, in order; check their claims; save their traces.

    While it runs, a recording stands as NAME.partial beside its trace; what a killed run left there is recovered with
    larktally convert --recover.
    """
    # Accepting into nowhere would look as if something had been accepted.
    if accept and baselines is None:
        raise LarkTallyError("--accept goes with --baseline DIR: where the baselines are")
    scenarios = [scenario for target in targets for scenario in load_scenarios(target)]
    # Two scenarios of one name would write one file, the second over the first.
    _check_names(scenarios)
    made_folder(folder)
    if junit is not None:
        check_target(junit)
    results: list[dict[str, Any]] = []
    suites: list[Suite] = []
    worst = 0
    for scenario in scenarios:
        path = folder / f"{plain_file_name(scenario.title)}.{suffix}"
        replaced = path.exists()
        began = time.perf_counter()
        try:
            with progress(scenario.title) as on_progress:
                trace = record(scenario, only=split_patterns(only) or None, to=path, on_progress=on_progress)
            tally = check(trace, scenario.claims) if scenario.claims else Tally([])
        except SubjectFailed as failure:
            # The others are run all the same: one subject that fails does not hide what the rest have to say.
            worst = SUBJECT_FAILED
            told, story = _failed(scenario, failure, path)
            results.append(told)
            suites.append(Suite(scenario.title, None, time.perf_counter() - began, story))
            continue
        except LarkTallyError as error:
            raise _told_of(scenario, error, junit, suites) from None
        # Runs the scenario once more, and only where a claim is broken in a row.
        causes = causes_of_breaches(trace, scenario, tally)
        held, left = None, ""
        if baselines is not None:
            held = Baselines(baselines).check(trace, accept=accept)
            left = "" if held.passed else f"baseline {held}"
        # The exit status is the worst of all: a failed subject counts more than a broken claim.
        worst = max(worst, NOT_KEPT if left or (tally and not tally.passed) else 0)
        suites.append(Suite(scenario.title, tally, time.perf_counter() - began, left_baseline=left))
        results.append(_plain(scenario, trace, path, tally, causes, held) | {"replaced": replaced})
        if not as_json:
            # A line apart from the run before it, whose sum would otherwise read as this one's heading.
            if len(results) > 1:
                echo()
            where = f"{path}, in place of the run before" if replaced else str(path)
            _print(trace, where, scenario, tally, causes)
            if held is not None:
                _print_baseline(trace, scenario, held)
    if junit is not None:
        write_junit(junit, suites)
    if as_json:
        print_json(results)
    if worst:
        exit_with(worst)


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


def _print_baseline(trace: Trace, scenario: Scenario, held: BaselineResult) -> None:
    echo(f"baseline {held}")
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
