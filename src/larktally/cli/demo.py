"""larktally demo [DIR]: the whole job, from a model to verdicts, replays, pictures, and what to try next."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

import click

from larktally.cli.outcome import teaching
from larktally.cli.progress import progress
from larktally.errors import LarkError

MODELS = ("quay.py", "canal.py", "evening.py")


@click.command()
@click.argument("folder", metavar="[DIR]", default="larktally-demo", type=click.Path(path_type=Path))
@teaching
def command(folder: Path) -> None:
    """Record, check, replay, compare and draw the lamplighter, in DIR (larktally-demo)."""
    from larktally.claims import check
    from larktally.demo import evening, quay
    from larktally.runs import audit, compare, record, replay
    from larktally.views.picture import draw_run, save_picture
    from larktally.views.tables import console, print_stories, print_story, tally_table

    out = console()
    written = _copy_models(folder)

    click.echo("1. Wick walks, hops and bursts along a quay, run headless at 60 frames/s from scripted inputs.")
    good, bad = quay.dusk_run.named("dusk_run"), quay.faulty_run.named("faulty_run")
    trace = record(good)
    written += [trace.save(folder / "dusk_run.parquet"), trace.save(folder / "dusk_run.jsonl")]
    size = f"{trace.rows} rows of {len(trace.channels)} channels, {len(trace.events)} events"
    click.echo(f"   {size}; digest {trace.digest[:12]}…")
    click.echo("\n2. What is claimed about it, checked on every frame:")
    tally = check(trace, good.claims)
    out.print(tally_table(tally))
    print_stories(out, tally)
    click.echo("\n3. The recording's own inputs, run again:")
    click.echo(f"   {replay(trace, good)}")
    click.echo(
        "\n4. A faulty variant: the same run, but a hop is allowed in the air. This is what a broken claim looks like:"
    )
    faulty = record(bad)
    written.append(faulty.save(folder / "faulty_run.parquet"))
    out.print()
    found = [result for result in check(faulty, bad.claims).failed]
    for result in found:
        print_story(out, result)
    click.echo("\n5. And comparing the two says where they part:")
    click.echo("   " + str(compare(trace, faulty)).replace("\n", "\n   "))
    written.append(save_picture(draw_run(trace), folder / "dusk_run.png"))

    click.echo("\n6. The whole canal: a scenario for each thing that Wick can do, and an evening that plays it all.")
    kept, claimed = 0, 0
    with progress("the canal") as watch:
        for number, (name, scenario) in enumerate(evening.SCENARIOS.items(), 1):
            trace = record(scenario)
            tally = check(trace, scenario.claims)
            kept, claimed = kept + sum(r.verdict == "kept" for r in tally), claimed + len(tally)
            ended = f", {trace.header.end}" if trace.header.end else ""
            verdict = f"{sum(r.passed for r in tally)} of {len(tally)} claims kept"
            click.echo(f"   {name:<22} {trace.frames:>5} frames{ended:<7}  {verdict}")
            if watch is not None:
                watch(number, len(evening.SCENARIOS))
            if name.startswith("evening"):
                written.append(trace.save(folder / f"{name}.parquet"))
                written.append(save_picture(draw_run(trace), folder / f"{name}.png"))
    click.echo("\n7. Can the evening be rewound? Its state is saved, put back, and run on again:")
    rewound = audit(evening.SCENARIOS["evening_won"], rows=200, frames=30, file=folder / "evening.py")
    click.echo("   " + str(rewound).replace("\n", "\n   "))

    click.echo("\nWritten:")
    for path in written:
        click.echo(f"   {path}")
    rows = ", ".join(f"row {result.breaches[0].row}" for result in found) or "no row, which it should have been"
    click.echo(
        f"\nIn sum: {kept} of the canal's {claimed} claims kept; the fault planted on the quay was found in {rows}."
    )
    click.echo(
        f"\nNext: larktally run {folder / 'quay.py'}   (its faulty run breaks a claim, so it exits with status 1)"
    )
    click.echo(f"      larktally show {folder / 'faulty_run.parquet'} --frames 48..56")
    click.echo(f"      larktally plot {folder / 'dusk_run.parquet'} {folder / 'faulty_run.parquet'} --only wick.y")
    click.echo(
        f"      larktally chart {folder / 'evening.py'}:evening_won {folder / 'evening_won.parquet'} --machine wick.gait"
    )
    click.echo("      larktally new my-game")


def _copy_models(folder: Path) -> list[Path]:
    """The demo's own files, to change and run again."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise LarkError(f"{folder}: cannot be made: {error.strerror}") from None
    written = []
    for name in MODELS:
        text = importlib.resources.files("larktally.demo").joinpath(name).read_text(encoding="utf-8")
        (folder / name).write_text(
            text.replace("from larktally.demo.canal import", "from canal import"), encoding="utf-8"
        )
        written.append(folder / name)
    return written
