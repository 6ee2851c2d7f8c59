"""larktally plot TRACE [OTHER]: a picture of a run."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.choosing import chosen_channels, chosen_rows
from larktally.cli.outcome import teaching
from larktally.cli.reading import reading_options
from larktally.errors import LarkError
from larktally.traces import Trace, load_trace


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("other_file", metavar="[OTHER]", required=False, type=click.Path(path_type=Path))
@click.option(
    "--out", type=click.Path(path_type=Path), help="Where to: .png, .svg or .pdf. [default: TRACE's name, .png]"
)
@click.option("--frames", metavar="A..B", help="Only these rows.")
@click.option("--only", multiple=True, metavar="PATTERN", help="Channels to draw as lines, such as 'wick.v*'.")
@click.option("--body", help="The body whose path is followed. [default: the first]")
@click.option("--ghosts", metavar="ROWS", help="Rows in which every body's box is drawn: 30, 25..60, or several.")
@click.option(
    "--claims", type=click.Path(path_type=Path), metavar="CLAIMS.toml", help="Mark the rows in which these are broken."
)
@click.option("--dark", is_flag=True, help="On dark paper.")
@reading_options
@teaching
def command(
    trace_file: Path,
    other_file: Path | None,
    out: Path | None,
    frames: str | None,
    only: tuple[str, ...],
    body: str | None,
    ghosts: str | None,
    claims: Path | None,
    dark: bool,
    rate: str | None,
    mapping: Path | None,
) -> None:
    """Draw a run: the path in the level, lanes for states, timers, inputs and events, channels as lines. With OTHER, both
    over each other and the first divergence marked.
    """
    from larktally.views.picture import draw_run, save_picture

    trace = load_trace(trace_file, rate=rate, mapping=mapping)
    rows = chosen_rows(frames, trace, range(trace.rows))
    lines = chosen_channels(only, trace) if only else []
    breaches = _breaches(trace, claims) if claims is not None else []
    figure = draw_run(
        trace,
        body,
        rows=range(rows[0], rows[-1] + 1) if rows else None,
        lines=lines,
        ghosts=chosen_rows(ghosts, trace, ()),
        breaches=breaches,
        other=load_trace(other_file) if other_file is not None else None,
        dark=dark,
    )
    path = save_picture(figure, out or trace_file.with_suffix(".png"))
    said = f"; {len(breaches)} breaches marked" if claims is not None else ""
    click.echo(f"{path}{said}")


def _breaches(trace: Trace, file: Path) -> list[int]:
    from larktally.claims import check, load_claims

    tally = check(trace, load_claims(file, trace.channels))
    found = sorted({breach.row for result in tally for breach in result.breaches if breach.row is not None})
    if not found and not tally.passed:
        raise LarkError(f"{file}: its claims are not kept, but in no single row; see larktally check")
    return found
