"""larktally compare A B: two traces side by side."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from larktally.claims.named import MeasureReading, measures_noted, measures_table, read_measures_of_both
from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import NOT_KEPT, exit_with, print_json, report_errors, show
from larktally.cli.printing import show_report
from larktally.cli.progress import progress
from larktally.cli.trace_options import reading_options, tolerance_option, tolerances, trace_before
from larktally.comparing.comparison import compare
from larktally.errors import LarkTallyError
from larktally.report import Line, Report
from larktally.runs.targets import split_target
from larktally.traces.trace import load_trace


@click.command()
@click.argument("first", metavar="A|OLD/|RULES", type=click.Path(path_type=Path))
@click.argument("second", metavar="[B|NEW/|GAME]", required=False, type=click.Path(path_type=Path))
@click.option("--before", is_flag=True, help="Compare A with the run before it, which larktally run kept.")
@reading_options
@tolerance_option
@click.option(
    "--map",
    "names",
    multiple=True,
    metavar="A=B",
    help="A channel of A and what B calls it; input:hop=jump for an action.",
)
@click.option(
    "--claims",
    "claims",
    multiple=True,
    metavar="RULES.toml|FILE.py|FOLDER",
    help="Of two folders: say whose verdicts turned, by a claims file or by the scenarios' own claims.",
)
@many_options
@click.option("--json", "as_json", is_flag=True, help="Print the comparison as JSON.")
@report_errors
def command(
    first: Path,
    second: Path | None,
    before: bool,
    rate: str | None,
    mapping: Path | None,
    allowed: tuple[str, ...],
    names: tuple[str, ...],
    claims: tuple[str, ...],
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """Compare two traces: the first divergence, a summary of each channel, events moved, a constant lag, another rate. Or two
    folders of traces, as two builds left them: which runs differ and by what causes, which verdicts turned, which numbers moved.

    Or two scenarios, FILE.py[:NAME] or FILE.toml[:NAME], such as the rules and the game: the second runs with the inputs of the
    first, and is judged by it.

    A mapping is for those of the two that are no traces of this library.
    """
    if second is not None and _is_target(first) and _is_target(second):
        if rate or mapping or claims or workers != "1" or cluster:
            raise LarkTallyError("two scenarios are compared with --map and --tolerance alone")
        _compare_scenarios(str(first), str(second), allowed, names, as_json)
        return
    if before == (second is not None):
        raise click.UsageError("compare takes A and B, or A and --before")
    if second is None:
        # What was comes first, as with two files.
        first, second = trace_before(first), first
    if first.is_dir() and second.is_dir():
        if rate or mapping or names:
            raise LarkTallyError("--rate, --mapping and --map are for two traces, and these are two folders")
        _compare_folders(first, second, allowed, claims, workers, cluster, as_json)
        return
    if first.is_dir() or second.is_dir():
        raise LarkTallyError(f"{first} and {second}: two traces are compared, or two folders of them")
    if claims or workers != "1" or cluster:
        raise LarkTallyError("--claims, --workers and --cluster are for two folders; larktally check judges one trace")
    a, b = (load_trace(path, **_options(path, rate, mapping)) for path in (first, second))
    pairs = _pairs(names)
    found = compare(a, b, tolerances(allowed), pairs or None)
    # Numbers that have names in either trace, over both.
    readings: Sequence[MeasureReading] = ()
    if pairs == {}:
        named = measures_noted(a, b)
        readings = read_measures_of_both(a, b, named)
    if as_json:
        print_json(found.plain() | {"measures": [one.plain() for one in readings]})
    else:
        show(found, as_json)
        if readings:
            show_report(Report.of((Line(""), measures_table(readings))))
    if not found.identical:
        exit_with(NOT_KEPT)


def _compare_folders(
    old: Path, new: Path, allowed: tuple[str, ...], claims: tuple[str, ...], workers: str, cluster: str, as_json: bool
) -> None:
    """Two builds: the traces of two folders, name by name."""
    from larktally.cli.farm import chosen_scenarios
    from larktally.search.two_builds import compare_folders

    files = [one for one in claims if one.endswith(".toml")]
    models = [one for one in claims if not one.endswith(".toml")]
    if len(files) > 1:
        raise LarkTallyError(f"--claims takes one claims file, beside models, not {len(files)}")
    by_scenario = {}
    if models:
        by_scenario = {one.title: one.claims for one in chosen_scenarios(models, "", "")}
    with executor_at(cluster) as executor, progress("compare") as on_progress:
        found = compare_folders(
            old,
            new,
            tolerances(allowed),
            claims=by_scenario,
            rules=files[0] if files else None,
            workers=worker_count(workers),
            executor=executor,
            on_progress=on_progress,
        )
    show(found, as_json)
    if not found.identical:
        exit_with(NOT_KEPT)


def _is_target(path: Path) -> bool:
    """Whether it names scenarios, and no trace."""
    return split_target(str(path))[0].suffix in (".py", ".toml")


def _compare_scenarios(rules: str, game: str, allowed: tuple[str, ...], names: tuple[str, ...], as_json: bool) -> None:
    """Two scenarios under the same inputs: the second's own inputs, claims and length do not count."""
    from larktally.runs.model_files import only_scenario
    from larktally.runs.side_by_side import side_by_side

    reference, other = only_scenario(rules), only_scenario(game)
    pairs = _pairs(names)
    actions, channels = {}, {}
    for mine, theirs in pairs.items():
        if mine.startswith("input:"):
            actions[mine.removeprefix("input:")] = theirs.removeprefix("input:")
        else:
            channels[mine] = theirs
    sides = ("the rules", "the game")
    # Two builds of a game, or two models, are neither.
    if split_target(rules)[0].suffix == split_target(game)[0].suffix:
        sides = (rules, game)
    with progress(f"{reference.title} and {other.title}"):
        found = side_by_side(
            reference,
            other.subject,
            names=channels,
            tolerance=tolerances(allowed),
            inputs=actions,
            sides=sides,
        )
    common = set(found.a.channels) & set(found.b.channels)
    if not common:
        raise LarkTallyError(f"{rules} and {game} have no channel in common: --map A=B says which is which")
    show(found, as_json)
    # What only one of the two has is told, and is no difference: the rules say little of a whole game.
    if found.divergence is not None:
        exit_with(NOT_KEPT)


def _options(path: Path, rate: str | None, mapping: Path | None) -> dict[str, Any]:
    """A rate and a mapping for a file that carries none of its own."""
    if mapping is None:
        if path.suffix == ".csv":
            return {"rate": rate}
        return {}
    from larktally.traces.files import is_trace

    if is_trace(path):
        return {}
    return {"rate": rate, "mapping": mapping}


def _pairs(names: Sequence[str]) -> dict[str, str]:
    """The --map options; raises LarkTallyError for one that is none, and for a channel that is mapped twice."""
    found: dict[str, str] = {}
    for text in names:
        mine, equals, theirs = text.partition("=")
        if not (mine and equals and theirs):
            raise LarkTallyError(f"--map takes A=B, a channel of the first and what the second calls it, not {text!r}")
        if mine in found:
            raise LarkTallyError(f"--map: {mine!r} is mapped twice, to {found[mine]!r} and to {theirs!r}")
        found[mine] = theirs
    return found
