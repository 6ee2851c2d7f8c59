"""larktally convert IN OUT: between the file formats; recovers a recording that was cut off."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import echo, report_errors
from larktally.cli.progress import progress
from larktally.cli.selection import chosen_channels
from larktally.cli.trace_options import reading_options
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript
from larktally.names import existing_file
from larktally.traces.contents import Savable
from larktally.traces.files import save_trace, writer_for
from larktally.traces.trace import load_trace
from larktally.whole_files import write_whole


@click.command()
@click.argument("source", metavar="IN", type=click.Path(path_type=Path))
@click.argument("target", metavar="OUT", required=False, type=click.Path(path_type=Path))
@reading_options
@click.option("--recover", is_flag=True, help="IN is NAME.partial, what a recording that was cut off left, or NAME.")
@click.option("--every", type=int, metavar="N", help="Keep every N-th row, for playback.")
@click.option("--only", multiple=True, metavar="PATTERN", help="Keep only the channels that match, such as 'wick.*'.")
@click.option("--inputs", "as_script", is_flag=True, help="Write only the inputs, as a script (.csv).")
@click.option(
    "--suggest", is_flag=True, help="IN is a log from elsewhere: print a mapping to start from, or write it to OUT."
)
@report_errors
def command(
    source: Path,
    target: Path | None,
    rate: str | None,
    mapping: Path | None,
    recover: bool,
    every: int | None,
    only: tuple[str, ...],
    as_script: bool,
    suggest: bool,
) -> None:
    """Convert a trace: OUT is .parquet, .jsonl, .csv, or .vcd for waveform viewers.

    With --every and --only a CSV is a start for an expected table (docs/claims.md). It carries no rate and no event data, a VCD
    no header: neither reads back as the whole trace.
    """
    if suggest:
        _suggest(source, target)
        return
    if target is None:
        raise click.UsageError("say where to: OUT is .parquet, .jsonl, .csv or .vcd")
    # A suffix that no format has is told before a large file is read.
    if not as_script:
        writer_for(target)
    if recover:
        from larktally.traces.recording_stream import RecordingStream

        left = _left_by(source)
        partial = RecordingStream(left)
        _save(partial, target)
        echo(f"{target}: {partial.rows} rows recovered from {left}")
        return
    trace = load_trace(source, rate=rate, mapping=mapping)
    if as_script:
        # Between two rows that were kept a press may have come and gone.
        if trace.header.every != 1:
            raise LarkTallyError(f"{source}: a thinned recording does not hold the inputs of every frame")
        script = InputScript.from_columns(trace.inputs)
        script.to_csv(target)
        echo(f"{target}: {len(script.spans)} holds of {len(trace.inputs)} actions")
        return
    if only:
        trace = trace.with_channels(chosen_channels(only, trace))
    if every is not None:
        thin = trace.thinned(every)
        thin.save(target)
        farthest = {name: off for name, off in thin.thinning_error(trace).items() if off}
        worst = ", ".join(f"{name} {off:.4g}" for name, off in sorted(farthest.items(), key=lambda one: -one[1])[:5])
        echo(f"{target}: {thin.rows} of {trace.rows} rows; farthest off in: {worst or 'nothing'}")
        return
    _save(trace, target)
    echo(f"{target}: {trace.rows} rows, {len(trace.channels)} channels, {len(trace.events)} events")


def _suggest(source: Path, target: Path | None) -> None:
    from larktally.traces.formats.logs.suggesting import suggested_mapping

    text = suggested_mapping(existing_file(source))
    if target is None:
        echo(text.rstrip())
        return
    # A mapping that somebody has worked on is not written over.
    if target.exists():
        raise LarkTallyError(f"{target}: there is one already; without OUT the suggestion is printed")
    echo(f"{write_whole(target, text)}")


def _save(trace: Savable, target: Path) -> None:
    with progress(str(target)) as on_progress:
        save_trace(trace, target, on_progress)


def _left_by(source: Path) -> Path:
    """What a recording that was cut off left: the file itself, or the only one of the recordings of that name."""
    from larktally.traces.recording_writer import partials_of

    if source.suffix == ".partial":
        return existing_file(source)
    left = partials_of(source)
    if not left:
        raise LarkTallyError(f"{source}: no recording of that name was cut off: there is no {source}.partial")
    if len(left) > 1:
        listed = ", ".join(map(str, left))
        raise LarkTallyError(f"{source}: several recordings of that name were cut off: {listed}; name one of them")
    return left[0]
