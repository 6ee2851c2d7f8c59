"""larktally check TRACE CLAIMS.toml: the tally of a trace, of a log, or of every trace in a folder."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.claims import Tally, check, load_claims
from larktally.cli.outcome import NOT_KEPT, leave, print_json, teaching
from larktally.cli.reading import reading_options
from larktally.errors import LarkError
from larktally.traces import Trace, load_trace
from larktally.traces.files import TRACE_SUFFIXES


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("claims_file", metavar="CLAIMS.toml", type=click.Path(path_type=Path))
@reading_options
@click.option(
    "--against", type=click.Path(path_type=Path), metavar="TRACE", help="A second trace, for claims that say same."
)
@click.option("--tag", "tags", multiple=True, help="Only claims with this tag.")
@click.option("--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write the verdicts as JUnit XML too.")
@click.option("--json", "as_json", is_flag=True, help="Print the verdicts as JSON.")
@teaching
def command(
    trace_file: Path,
    claims_file: Path,
    rate: str | None,
    mapping: Path | None,
    against: Path | None,
    tags: tuple[str, ...],
    junit: Path | None,
    as_json: bool,
) -> None:
    """Check the claims of a TOML file on a trace, on a log from elsewhere, or on every trace in a folder."""
    several = trace_file.is_dir()
    files = _traces_in(trace_file) if several else [trace_file]
    other = load_trace(against) if against is not None else None
    tallies: dict[str, Tally] = {}
    for file in files:
        trace: Trace = load_trace(file, rate=rate, mapping=mapping)
        tallies[file.name if several else str(file)] = check(
            trace, load_claims(claims_file, trace.channels, tags), against=other
        )
    if junit is not None:
        from larktally.views.junit import write_junit

        write_junit(junit, tallies)
    if as_json:
        plain = {name: [result.plain() for result in tally] for name, tally in tallies.items()}
        print_json(plain if several else plain[str(trace_file)])
    else:
        _print(tallies, several)
    if not all(tally.passed for tally in tallies.values()):
        leave(NOT_KEPT)


def _traces_in(folder: Path) -> list[Path]:
    files = sorted(path for path in folder.iterdir() if path.suffix in TRACE_SUFFIXES)
    if not files:
        raise LarkError(f"{folder}: no trace in this folder ({', '.join(TRACE_SUFFIXES)})")
    return files


def _print(tallies: dict[str, Tally], several: bool) -> None:
    from larktally.views.tables import console, print_stories, print_story, tallies_table, tally_table

    out = console()
    if not several:
        (tally,) = tallies.values()
        out.print(tally_table(tally))
        print_stories(out, tally)
        return
    out.print(tallies_table(tallies))
    for name, tally in tallies.items():
        for result in tally.failed:
            out.print()
            out.print(name, style="bold", highlight=False, markup=False)
            print_story(out, result)
    passed = sum(tally.passed for tally in tallies.values())
    out.print()
    style = "green" if passed == len(tallies) else "bold red"
    out.print(f"{passed} of {len(tallies)} traces passed", style=style, highlight=False)
