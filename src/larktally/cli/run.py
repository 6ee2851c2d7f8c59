"""larktally run FILE.py[:NAME] …: records scenarios, checks their claims, saves traces."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from larktally.claims import Tally, check
from larktally.cli.choosing import split_patterns
from larktally.cli.outcome import NOT_KEPT, SUBJECT_FAILED, leave, print_json, subject_story, teaching
from larktally.cli.progress import progress
from larktally.errors import LarkError, SubjectFailed
from larktally.runs import BaselineResult, Baselines, Causes, Scenario, record
from larktally.runs.explaining.causes import causes_of_breaches, causes_of_divergence, lines_by_claim
from larktally.runs.into_file import stopped_path
from larktally.runs.model_files import load_scenarios
from larktally.traces import Trace


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
@teaching
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
    if accept and baselines is None:
        raise LarkError("--accept goes with --baseline DIR: where the baselines are")
    scenarios = [scenario for target in targets for scenario in load_scenarios(target)]
    _check_names(scenarios)
    folder.mkdir(parents=True, exist_ok=True)
    results: list[dict[str, Any]] = []
    tallies: dict[str, Tally] = {}
    worst = 0
    for scenario in scenarios:
        path = folder / f"{_file_name(scenario.title)}.{suffix}"
        try:
            with progress(scenario.title) as watch:
                trace = record(scenario, only=split_patterns(only) or None, to=path, watch=watch)
        except SubjectFailed as failure:
            worst = SUBJECT_FAILED
            results.append(_failed(scenario, failure, path))
            continue
        except LarkError as error:
            raise LarkError(f"{scenario.title}: {error}").with_traceback(error.__traceback__) from None
        tally = check(trace, scenario.claims) if scenario.claims else Tally([])
        causes = causes_of_breaches(trace, scenario, tally)
        if tally:
            tallies[scenario.title] = tally
        worst = max(worst, NOT_KEPT if tally and not tally.passed else 0)
        held = Baselines(baselines).check(trace, accept=accept) if baselines is not None else None
        worst = max(worst, NOT_KEPT if held is not None and not held.passed else 0)
        results.append(_plain(scenario, trace, path, tally, causes, held))
        if not as_json:
            _print(trace, path, scenario, tally, causes)
            if held is not None:
                click.echo(f"baseline {held}")
                why = causes_of_divergence(trace, scenario, held.divergence)
                if why is not None:
                    click.echo(why.told())
    if junit is not None:
        from larktally.views.junit import write_junit

        write_junit(junit, tallies)
    if as_json:
        print_json(results)
    if worst:
        leave(worst)


def _print(trace: Trace, path: Path, scenario: Scenario, tally: Tally, causes: dict[str, Causes]) -> None:
    from larktally.views.tables import console, print_stories, tally_table

    out = console()
    ended = f", ended: {trace.header.end}" if trace.header.end else ""
    out.print(
        f"{scenario.title}: {trace.frames} frames at {trace.rate} frames/s{ended} → {path}",
        highlight=False,
        markup=False,
        soft_wrap=True,
    )
    if tally:
        out.print(tally_table(tally))
        print_stories(out, tally, lines_by_claim(causes))
    else:
        out.print("  no claims in this scenario, so nothing was checked", markup=False, highlight=False)


def _failed(scenario: Scenario, failure: SubjectFailed, path: Path) -> dict[str, Any]:
    click.echo(subject_story(failure, scenario.title), err=True)
    kept = None
    if failure.trace is not None and failure.trace.rows:
        kept = stopped_path(path)
        click.echo(f"  they are in {kept}", err=True)
    return {"scenario": scenario.title, "failed": str(failure), "row": failure.row, "trace": kept and str(kept)}


def _plain(
    scenario: Scenario,
    trace: Trace,
    path: Path,
    tally: Tally,
    causes: dict[str, Causes],
    held: BaselineResult | None,
) -> dict[str, Any]:
    compared = held.comparison.plain() if held is not None and held.comparison is not None else None
    baseline = {"path": str(held.path), "passed": held.passed, "comparison": compared} if held is not None else None
    return {
        "scenario": scenario.title,
        "trace": str(path),
        "frames": trace.frames,
        "end": trace.header.end,
        "digest": trace.digest,
        "passed": tally.passed if tally else None,
        "claims": [result.plain() for result in tally],
        "causes": {name: found.plain() for name, found in causes.items()},
        "baseline": baseline,
    }


def _check_names(scenarios: list[Scenario]) -> None:
    names = [_file_name(scenario.title) for scenario in scenarios]
    for name in names:
        if names.count(name) > 1:
            raise LarkError(f"two scenarios would be saved as {name!r}; give one of them another name=")


def _file_name(title: str) -> str:
    return "".join(letter if letter.isalnum() or letter in "-_." else "_" for letter in title).lstrip(".") or "trace"
