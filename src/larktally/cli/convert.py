"""larktally convert IN OUT: between the file formats; recovers a recording that was cut off."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import report_errors
from larktally.cli.trace_options import reading_options
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript
from larktally.traces.files import existing_file, save_trace, writer_for
from larktally.traces.trace import load_trace


@click.command()
@click.argument("source", metavar="IN", type=click.Path(path_type=Path))
@click.argument("target", metavar="OUT", type=click.Path(path_type=Path))
@reading_options
@click.option("--recover", is_flag=True, help="IN is NAME.partial, what a recording that was cut off left.")
@click.option("--every", type=int, metavar="N", help="Keep every N-th row, for playback.")
@click.option("--inputs", "as_script", is_flag=True, help="Write only the inputs, as a script (.csv).")
@report_errors
def command(
    source: Path,
    target: Path,
    rate: str | None,
    mapping: Path | None,
    recover: bool,
    every: int | None,
    as_script: bool,
) -> None:
    """Convert a trace: OUT is .parquet, .jsonl, .csv, or .vcd for waveform viewers.

    A CSV carries no rate and no event data, a VCD no header: neither reads back as the whole trace.
    """
    # A suffix that no format has is told before a large file is read.
    if not as_script:
        writer_for(target)
    if recover:
        from larktally.traces.recording_stream import RecordingStream

        partial = RecordingStream(existing_file(source))
        save_trace(partial, target)
        click.echo(f"{target}: {partial.rows} rows recovered from {source}")
        return
    trace = load_trace(source, rate=rate, mapping=mapping)
    if as_script:
        # Between two rows that were kept a press may have come and gone.
        if trace.header.every != 1:
            raise LarkTallyError(f"{source}: a thinned recording does not hold the inputs of every frame")
        script = InputScript.from_columns(trace.inputs)
        script.to_csv(target)
        click.echo(f"{target}: {len(script.spans)} holds of {len(trace.inputs)} actions")
        return
    if every is not None:
        thin = trace.thinned(every)
        thin.save(target)
        farthest = {name: off for name, off in thin.thinning_error(trace).items() if off}
        worst = ", ".join(f"{name} {off:.4g}" for name, off in sorted(farthest.items(), key=lambda one: -one[1])[:5])
        click.echo(f"{target}: {thin.rows} of {trace.rows} rows; farthest off in: {worst or 'nothing'}")
        return
    trace.save(target)
    click.echo(f"{target}: {trace.rows} rows, {len(trace.channels)} channels, {len(trace.events)} events")
