"""larktally new DIR: a small working project."""

from __future__ import annotations

import importlib.resources
from pathlib import Path

import click

from larktally.cli.outcome import echo, report_errors
from larktally.comparing.baselines import Baselines
from larktally.errors import LarkTallyError
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record
from larktally.whole_files import made_folder, write_whole

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
    if folder.exists() and not folder.is_dir():
        raise LarkTallyError(f"{folder}: it is a file; name a folder that is empty or not there")
    if folder.exists() and any(folder.iterdir()):
        raise LarkTallyError(f"{folder}: there is something in it already; name a folder that is empty or not there")
    made_folder(folder / "baselines")
    source = importlib.resources.files("larktally.cli").joinpath("project")
    for name, target in FILES.items():
        text = source.joinpath(f"{name}.txt").read_text(encoding="utf-8")
        echo(f"{write_whole(folder / target, text)}")
    (walk,) = load_scenarios(str(folder / "model.py"))
    echo(f"{Baselines(folder / 'baselines').check(record(walk), accept=True).path}")
    echo(f"\nNext: cd {folder}, and then")
    echo("      larktally run model.py        its scenarios, their claims, their traces")
    echo("      python -m pytest              the same as tests, and what the baseline says")
    echo("      larktally plot traces/walk.parquet")
