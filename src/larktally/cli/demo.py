"""larktally demo [DIR]: the main job, from a model to a verdict, a replay and a picture."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

import click

from larktally.cli.outcome import teaching
from larktally.errors import LarkError


@click.command()
@click.argument("folder", metavar="[DIR]", default="larktally-demo", type=click.Path(path_type=Path))
@teaching
def command(folder: Path) -> None:
    """Record, check, replay and draw the lamplighter, in DIR (larktally-demo)."""
    from larktally.claims import check
    from larktally.demo import quay
    from larktally.runs import record, replay
    from larktally.views.picture import draw_run, save_picture
    from larktally.views.tables import console, print_stories, print_story, tally_table

    out = console()
    _make_folder(folder)
    model = folder / "quay.py"
    model.write_text(
        importlib.resources.files("larktally.demo").joinpath("quay.py").read_text(encoding="utf-8"), encoding="utf-8"
    )

    click.echo("1. Wick walks, hops and bursts along a quay, run headless at 60 frames/s from scripted inputs.")
    good = quay.dusk_run.named("dusk_run")
    trace = record(good)
    written = [model, trace.save(folder / "dusk_run.parquet"), trace.save(folder / "dusk_run.jsonl")]
    click.echo(
        f"   {trace.rows} rows of {len(trace.channels)} channels, {len(trace.events)} events; digest {trace.digest[:12]}…"
    )
    click.echo("\n2. What is claimed about it, checked on every frame:")
    tally = check(trace, good.claims)
    out.print(tally_table(tally))
    print_stories(out, tally)
    click.echo("\n3. The recording's own inputs, run again:")
    click.echo(f"   {replay(trace, good)}")
    click.echo(
        "\n4. A faulty variant: the same run, but a hop is allowed in the air. This is what a broken claim looks like:"
    )
    bad = quay.faulty_run.named("faulty_run")
    faulty = record(bad)
    written.append(faulty.save(folder / "faulty_run.parquet"))
    out.print()
    for result in check(faulty, bad.claims).failed:
        print_story(out, result)
    click.echo("\n5. And replaying the good recording on the faulty model says where they part:")
    click.echo("   " + str(replay(trace, bad)).replace("\n", "\n   "))
    written.append(save_picture(draw_run(trace), folder / "dusk_run.png"))
    click.echo("\nWritten:")
    for path in written:
        click.echo(f"   {path}")
    click.echo(f"\nNext: larktally run {model}   (its faulty run breaks a claim, so it exits with status 1)")
    click.echo(f"      larktally show {folder / 'faulty_run.parquet'} --frames 48..56")


def _make_folder(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise LarkError(f"{folder}: cannot be made: {error.strerror}") from None
