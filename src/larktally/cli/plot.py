"""larktally plot TRACE [OTHER]: a picture of a run."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import echo, report_errors
from larktally.cli.selection import chosen_channels, chosen_rows
from larktally.cli.trace_options import reading_options, trace_before
from larktally.errors import LarkTallyError
from larktally.traces.trace import Trace, load_trace


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("other_file", metavar="[OTHER]", required=False, type=click.Path(path_type=Path))
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    help="Where to: .png, .svg, .pdf, or .html for a page. [default: TRACE's name, .png]",
)
@click.option("--frames", metavar="A..B", help="Only these rows.")
@click.option("--only", multiple=True, metavar="PATTERN", help="Channels to draw as lines, such as 'wick.v*'.")
@click.option("--body", help="The body whose path is followed. [default: the first]")
@click.option(
    "--ghosts", metavar="ROWS", help="Rows in which every body's box is drawn: 30, 25..60, 70..130/10, or several."
)
@click.option(
    "--claims", type=click.Path(path_type=Path), metavar="CLAIMS.toml", help="Mark the rows in which these are broken."
)
@click.option("--before", is_flag=True, help="Lay the run before behind it, which larktally run kept.")
@click.option("--dark", is_flag=True, help="On dark paper.")
@reading_options
@report_errors
def command(
    trace_file: Path,
    other_file: Path | None,
    out: Path | None,
    frames: str | None,
    only: tuple[str, ...],
    body: str | None,
    ghosts: str | None,
    claims: Path | None,
    before: bool,
    dark: bool,
    rate: str | None,
    mapping: Path | None,
) -> None:
    """Draw a run: the path in the level, lanes for states, timers, inputs and events, channels as lines. With OTHER, both
    over each other and the first divergence marked.

    As .html it is a page that stands alone: to scrub through, zoom, and send to a colleague.
    """
    if before:
        if other_file is not None:
            raise click.UsageError("plot takes OTHER or --before")
        other_file = trace_before(trace_file)
    trace = load_trace(trace_file, rate=rate, mapping=mapping)
    if out is not None and out.suffix == ".html":
        _save_page(out, trace, other_file, claims)
        return
    from larktally.views.picture import draw_run, save_picture

    rows = chosen_rows(frames, trace, range(trace.rows))
    lines = []
    if only:
        lines = chosen_channels(only, trace)
    if claims is not None:
        breaches = _breaches(trace, claims)
    else:
        breaches = []
    figure = draw_run(
        trace,
        body,
        rows=range(rows[0], rows[-1] + 1) if rows else None,
        lines=lines,
        ghosts=chosen_rows(ghosts, trace, (), "--ghosts"),
        breaches=breaches,
        other=load_trace(other_file) if other_file is not None else None,
        dark=dark,
    )
    # Beside its trace, under the same name, where it will be looked for.
    path = save_picture(figure, out or trace_file.with_suffix(".png"))
    marked = ""
    if claims is not None:
        marked = f"; {len(breaches)} breaches marked"
    echo(f"{path}{marked}")


def _save_page(out: Path, trace: Trace, other_file: Path | None, claims: Path | None) -> None:
    from larktally.auditing.looking import look_at
    from larktally.auditing.seen import Seen
    from larktally.claims.checking import check
    from larktally.claims.files import load_claims
    from larktally.claims.named import measures_noted, read_measures
    from larktally.views.page.run_view import RunView
    from larktally.views.page.standing_file import save_page

    tally = None
    if claims is not None:
        tally = check(trace, load_claims(claims, trace.channels))
    views = [
        RunView(trace, tally, read_measures(trace, measures_noted(trace)), look_at(Seen(trace)).findings),
    ]
    if other_file is not None:
        other = load_trace(other_file)
        views.append(RunView(other, measures=read_measures(other, measures_noted(other)), name=str(other_file)))
    path = save_page(out, views)
    echo(f"{path}, {path.stat().st_size / 1000:.0f} kB: it opens in a browser, with no network")


def _breaches(trace: Trace, file: Path) -> list[int]:
    from larktally.claims.checking import check
    from larktally.claims.files import load_claims

    tally = check(trace, load_claims(file, trace.channels))
    found = tally.breach_rows
    if not found and not tally.passed:
        raise LarkTallyError(f"{file}: its claims are not kept, but in no single row; see larktally check")
    return found
