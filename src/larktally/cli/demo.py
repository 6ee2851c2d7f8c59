"""larktally demo [DIR]: the whole job, from a model to verdicts, replays, pictures, and what to try next."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

import click

from larktally.cli.outcome import echo, report_errors
from larktally.cli.printing import show_report
from larktally.cli.progress import progress
from larktally.whole_files import made_folder, write_whole

MODELS = ("quay.py", "canal.py", "evening.py")
NEXT = """
Next: larktally run {folder}/quay.py   (its faulty run breaks a claim, so it exits with status 1)
      larktally why {folder}/faulty_run.parquet {folder}/quay.py 52
      larktally show {folder}/faulty_run.parquet --frames 48..56
      larktally plot {folder}/dusk_run.parquet {folder}/faulty_run.parquet --only wick.y
      larktally chart {folder}/evening.py:evening_won {folder}/evening_won.parquet --machine wick.gait
      larktally new my-game
      larktally watch {folder}/quay.py:faulty_run   (a page: save the file, and the new run lies over the old one)"""


@click.command()
@click.argument("folder", metavar="[DIR]", default="larktally-demo", type=click.Path(path_type=Path))
@report_errors
def command(folder: Path) -> None:
    """Record, check, replay, compare and draw the lamplighter, in DIR (larktally-demo)."""
    written = _copy_models(folder)
    rows = _on_the_quay(folder, written)
    kept, claimed = _on_the_canal(folder, written)
    echo("\nWritten:")
    for path in written:
        echo(f"   {path}")
    found = ", ".join(f"row {row}" for row in rows) or "no row, which it should have been"
    echo(f"\nIn sum: {kept} of the canal's {claimed} claims kept; the fault planted on the quay was found in {found}.")
    echo(NEXT.format(folder=folder))


def _on_the_quay(folder: Path, written: list[Path]) -> list[int]:
    """A small model, its claims, its replay, and a fault found; the rows of the breaches."""
    # Loaded when it is called, as in every command: --help answers at once.
    from larktally.claims.checking import check
    from larktally.comparing.comparison import compare
    from larktally.demo import quay
    from larktally.explain.causes import causes_of_breaches, lines_by_claim
    from larktally.explain.replaying import replay
    from larktally.runs.record import record
    from larktally.views.picture import draw_run, save_picture

    good, bad = quay.dusk_run.named("dusk_run"), quay.faulty_run.named("faulty_run")
    echo("1. Wick walks, hops and bursts along a quay, run headless at 60 frames/s from scripted inputs.")
    trace, faulty = record(good), record(bad)
    size = f"{trace.rows} rows of {len(trace.channels)} channels, {len(trace.events)} events"
    echo(f"   {size}; digest {trace.digest[:12]}…")
    echo("\n2. What is claimed about it, checked on every frame:")
    tally = check(trace, good.claims)
    show_report(tally.report())
    echo(f"\n3. The recording's own inputs, run again:\n   {replay(trace, good)}")
    echo("\n4. A faulty variant: the same run, but a hop is allowed in the air. This is a broken claim:\n")
    broken = check(faulty, bad.claims)
    causes, failed = lines_by_claim(causes_of_breaches(faulty, bad, broken)), broken.failed
    for result in failed:
        show_report(result.report(causes.get(result.name, ())))
    echo(f"\n5. And comparing the two says where they part:\n{_indented(compare(trace, faulty))}")
    for suffix in ("parquet", "jsonl"):
        written.append(trace.save(folder / f"dusk_run.{suffix}"))
    # Both runs, so that compare and replay can be tried on them.
    written += [faulty.save(folder / "faulty_run.parquet"), save_picture(draw_run(trace), folder / "dusk_run.png")]
    return [result.breaches[0].row for result in failed if result.breaches and result.breaches[0].row is not None]


def _on_the_canal(folder: Path, written: list[Path]) -> tuple[int, int]:
    """Every scenario of the canal, and its evening rewound; how many claims were kept, of how many."""
    from larktally.auditing.audit import audit
    from larktally.claims.checking import check
    from larktally.demo.evening import SCENARIOS
    from larktally.runs.record import record
    from larktally.views.picture import draw_run, save_picture

    echo("\n6. The whole canal: a scenario for each thing that Wick can do, and an evening that plays it all.")
    kept, claimed = 0, 0
    with progress("the canal") as on_progress:
        for number, (name, scenario) in enumerate(SCENARIOS.items(), 1):
            trace = record(scenario)
            tally = check(trace, scenario.claims)
            passed = sum(result.passed for result in tally)
            kept, claimed = kept + passed, claimed + len(tally)
            ended = ""
            if trace.header.end:
                ended = f", {trace.header.end}"
            echo(f"   {name:<22} {trace.frames:>5} frames{ended:<7}  {passed} of {len(tally)} claims kept")
            if on_progress is not None:
                on_progress(number, len(SCENARIOS))
            if name.startswith("evening"):
                written += [
                    trace.save(folder / f"{name}.parquet"),
                    save_picture(draw_run(trace), folder / f"{name}.png"),
                ]
    rewound = audit(SCENARIOS["evening_won"], rows=200, frames=30, file=folder / "evening.py")
    echo(f"\n7. Can the evening be rewound? Its state is saved, put back, and run on again:\n{_indented(rewound)}")
    return kept, claimed


def _indented(thing: object) -> str:
    return "   " + str(thing).replace("\n", "\n   ")


def _copy_models(folder: Path) -> list[Path]:
    """The demo's own files, to change and run again."""
    made_folder(folder)
    written = []
    for name in MODELS:
        text = importlib.resources.files("larktally.demo").joinpath(name).read_text(encoding="utf-8")
        text = text.replace("from larktally.demo.canal import", "from canal import")
        written.append(write_whole(folder / name, text))
    return written
