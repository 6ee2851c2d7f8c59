"""larktally new DIR: a small working project."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

import click

from larktally.cli.outcome import report_errors
from larktally.comparing.baselines import Baselines
from larktally.errors import LarkTallyError
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record

FILES = {
    "model.py": "model.py",
    "test_model.py": "test_model.py",
    "walk.claims.toml": "baselines/walk.claims.toml",
    "README.md": "README.md",
    "ci.yml": "ci.yml",
}


@click.command()
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@report_errors
def command(folder: Path) -> None:
    """Write a small project in DIR that works: a model, a scenario, claims, a test, and a snippet for a CI server."""
    if folder.exists() and any(folder.iterdir()):
        raise LarkTallyError(f"{folder}: there is something in it already; name a folder that is empty or not there")
    (folder / "baselines").mkdir(parents=True, exist_ok=True)
    source = importlib.resources.files("larktally.cli").joinpath("project")
    for name, target in FILES.items():
        text = source.joinpath(f"{name}.txt").read_text(encoding="utf-8")
        (folder / target).write_text(text, encoding="utf-8")
        click.echo(f"{folder / target}")
    (walk,) = load_scenarios(str(folder / "model.py"))
    click.echo(f"{Baselines(folder / 'baselines').check(record(walk), accept=True).path}")
    click.echo(f"\nNext: cd {folder}, and then")
    click.echo("      larktally run model.py        its scenarios, their claims, their traces")
    click.echo("      python -m pytest              the same as tests, and what the baseline says")
    click.echo("      larktally plot traces/walk.parquet")
