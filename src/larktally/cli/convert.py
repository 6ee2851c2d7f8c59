"""larktally convert IN OUT: between the file formats; recovers a recording that was cut off."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import teaching
from larktally.cli.reading import reading_options
from larktally.errors import LarkError
from larktally.inputs import InputScript
from larktally.traces import load_trace
from larktally.traces.files import existing_file, save_trace, writer_for


@click.command()
@click.argument("source", metavar="IN", type=click.Path(path_type=Path))
@click.argument("target", metavar="OUT", type=click.Path(path_type=Path))
@reading_options
@click.option("--recover", is_flag=True, help="IN is NAME.partial, what a recording that was cut off left.")
@click.option("--every", type=int, metavar="N", help="Keep every N-th row, for playback.")
@click.option("--inputs", "as_script", is_flag=True, help="Write only the inputs, as a script (.csv).")
@teaching
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
    if not as_script:
        writer_for(target)
    if recover:
        from larktally.traces.partial import Partial

        partial = Partial(existing_file(source))
        save_trace(partial, target)
        click.echo(f"{target}: {partial.rows} rows recovered from {source}")
        return
    trace = load_trace(source, rate=rate, mapping=mapping)
    if as_script:
        if trace.header.every != 1:
            raise LarkError(f"{source}: a thinned recording does not hold the inputs of every frame")
        script = InputScript.from_columns(trace.inputs)
        script.to_csv(target)
        click.echo(f"{target}: {len(script.spans)} holds of {len(trace.inputs)} actions")
        return
    if every is not None:
        thin = trace.thinned(every)
        thin.save(target)
        strays = {name: off for name, off in thin.strays(trace).items() if off}
        worst = ", ".join(f"{name} {off:.4g}" for name, off in sorted(strays.items(), key=lambda one: -one[1])[:5])
        click.echo(f"{target}: {thin.rows} of {trace.rows} rows; strays most in: {worst or 'nothing'}")
        return
    trace.save(target)
    click.echo(f"{target}: {trace.rows} rows, {len(trace.channels)} channels, {len(trace.events)} events")
