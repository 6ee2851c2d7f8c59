"""larktally audit FILE[:NAME], or TRACE: what is odd, with no claim written."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from concurrent.futures import Executor
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import click

from larktally.auditing.accepted import Accepted
from larktally.auditing.audit import audit
from larktally.auditing.found import Audit
from larktally.claims.files import load_intended
from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import NOT_KEPT, echo, exit_with, print_json, report_errors
from larktally.cli.printing import show_report
from larktally.cli.progress import progress
from larktally.cli.trace_options import reading_options
from larktally.runs.many import Workers, run_each
from larktally.runs.model_files import load_scenarios
from larktally.runs.scenario import Scenario
from larktally.runs.targets import split_target
from larktally.traces.formats import FORMATS
from larktally.traces.trace import load_trace

_FAILING = {"sure": ("sure",), "likely": ("sure", "likely"), "none": ()}


@click.command()
@click.argument("target", metavar="FILE[:NAME]|TRACE")
@click.option("--every", type=click.IntRange(1), metavar="N", help="Restore in every Nth row. [default: ten rows]")
@click.option(
    "--frames",
    type=click.IntRange(1),
    default=30,
    show_default=True,
    metavar="N",
    help="Frames run after each restore.",
)
@click.option("--only", multiple=True, metavar="CHECK", help="This check alone; may be said several times.")
@click.option("--skip", multiple=True, metavar="CHECK", help="Not this check.")
@click.option("--all", "everything", is_flag=True, help="Every finding, and not the seven most telling alone.")
@click.option(
    "--fail-on",
    type=click.Choice(["sure", "likely", "none"]),
    default="sure",
    show_default=True,
    help="Which findings make the exit status 1.",
)
@click.option("--accept", is_flag=True, help="Accept today's findings: from then on only new ones are shown.")
@click.option(
    "--baseline",
    "folder",
    type=click.Path(path_type=Path),
    metavar="DIR",
    help="Where accepted findings are kept. [default: baselines, beside the file]",
)
@click.option(
    "--claims",
    "claims_file",
    type=click.Path(path_type=Path),
    metavar="RULES.toml",
    help="Its `intended` are no findings, as a scenario's own are not.",
)
@click.option(
    "--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write JUnit XML, a case for each check."
)
@click.option("--late", "late_by", metavar="N|A..B", help="How late inputs are in the check 'late'. [default: 6]")
@many_options
@reading_options
@click.option("--json", "as_json", is_flag=True, help="Print the audit as JSON.")
@report_errors
def command(
    target: str,
    every: int | None,
    frames: int,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    everything: bool,
    fail_on: str,
    accept: bool,
    folder: Path | None,
    claims_file: Path | None,
    junit: Path | None,
    late_by: str | None,
    workers: str,
    cluster: str,
    rate: str | None,
    mapping: Path | None,
    as_json: bool,
) -> None:
    """Audit scenarios, or a trace as far as it can be seen into: what is odd in the run, its model, and the same run again.

    A finding names the part or rule, the rows, the evidence, and the claim that pins it from now on.
    """
    options: dict[str, Any] = {"rows": every, "frames": frames, "late_by": _late_by(late_by)}
    checks: dict[str, Any] = {"only": only, "skip": skip}
    if claims_file is not None:
        checks["intended"] = load_intended(claims_file)
    known = Accepted(folder or Path(target.partition(":")[0]).parent / "baselines")
    audits: dict[str, Audit] = {}
    failed = False
    with executor_at(cluster) as executor:
        hands = _Hands(worker_count(workers), executor)
        for title, found in _audited(target, rate, mapping, known, accept, options, checks, hands):
            if accept:
                known.accept(title, found.every)
            failed = failed or _fails(found, fail_on)
            audits[title] = found
            if not as_json:
                _print(title, found, everything)
    if junit is not None:
        from larktally.views.junit import write_junit_of_audits

        write_junit_of_audits(junit, audits, _FAILING[fail_on])
    if as_json:
        print_json([{"scenario": title, **found.plain()} for title, found in audits.items()])
    elif accept:
        echo(f"accepted, in {known.path}")
    if failed and not accept:
        exit_with(NOT_KEPT)


def _late_by(text: str | None) -> int | str | None:
    """--late as `lt.rollback` takes it, which says what does not fit."""
    return int(text) if text is not None and text.isdecimal() else text


class _Hands(NamedTuple):
    """Who does the runs."""

    workers: Workers
    executor: Executor | None


def _audited(
    target: str,
    rate: str | None,
    mapping: Path | None,
    known: Accepted,
    accept: bool,
    options: dict[str, Any],
    checks: dict[str, Any],
    hands: _Hands,
) -> Iterator[tuple[str, Audit]]:
    """The audit of each scenario of a file, or of the one trace, under its name."""
    if mapping is not None or any(target.endswith(one.suffix) for one in FORMATS):
        title = Path(target).stem
        trace = load_trace(target, rate=rate, mapping=mapping)
        yield title, audit(trace, accepted=() if accept else known.of(title), **checks)
        return
    work = partial(_audit_of, split_target(target)[0], options | checks)
    planned = []
    for scenario in load_scenarios(target):
        planned.append((scenario, frozenset() if accept else known.of(scenario.title)))
    if len(planned) == 1:
        # The one's own checks are shared, then.
        with progress(planned[0][0].title) as on_progress:
            found = work(planned[0], **hands._asdict(), on_progress=on_progress)
        yield planned[0][0].title, found
        return
    for (scenario, _), found in zip(planned, run_each(work, planned, **hands._asdict()), strict=True):
        yield scenario.title, found


def _audit_of(file: Path, options: dict[str, Any], planned: tuple[Scenario, Collection[str]], **more: Any) -> Audit:
    """The audit of one of a file's scenarios, but for what was accepted."""
    scenario, accepted = planned
    return audit(scenario, file=file, accepted=accepted, **options, **more)


def _fails(found: Audit, fail_on: str) -> bool:
    return any(one.certainty in _FAILING[fail_on] for one in found.findings)


def _print(title: str, found: Audit, everything: bool) -> None:
    echo(title)
    show_report(found.report(everything))
