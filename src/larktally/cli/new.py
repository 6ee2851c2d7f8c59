"""larktally new DIR: a small working project, or a test of a tester's report."""

from __future__ import annotations

import importlib.resources
import os
from pathlib import Path

import click

from larktally.cli.languages import LANGUAGES, Language, write_program
from larktally.cli.outcome import echo, report_errors
from larktally.cli.progress import progress
from larktally.comparing.baselines import Baselines
from larktally.errors import LarkTallyError
from larktally.runs.model_files import load_scenario_of, load_scenarios
from larktally.runs.record import record
from larktally.runs.targets import split_target
from larktally.traces.trace import load_trace
from larktally.whole_files import made_folder, write_whole

FILES = {
    "model.py": "model.py",
    "test_model.py": "test_model.py",
    "walk.claims.toml": "baselines/walk.claims.toml",
    "README.md": "README.md",
    "ci.yml": "ci.yml",
}
# How a test of a report gets its model from a Python file.
_IMPORTED = """sys.path.insert(0, str((HERE / "{folder}").resolve()))

from {module} import {name}  # noqa: E402 - the folder that it stands in is named above"""


@click.command()
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@click.option(
    "--from",
    "report",
    type=click.Path(path_type=Path),
    metavar="REPORT",
    help="Make a test of this report: a trace that larktally watch kept.",
)
@click.option("--of", "target", metavar="FILE[:NAME]", help="The scenario that the report was played on.")
@click.option(
    "--for",
    "language",
    type=click.Choice(list(LANGUAGES)),
    metavar="LANGUAGE",
    help=f"For a game in {', '.join(LANGUAGES)}: the binding, a small game that uses it, its runs and its claims.",
)
@report_errors
def command(folder: Path, report: Path | None, target: str | None, language: str | None) -> None:
    """Write a small project in DIR that works: a model, a scenario, claims, a test, and a snippet for a CI server.

    With --for, the same for a game in another language, and its binding. With --from and --of, a scenario and a test of a report
    instead, as small as they can be where a claim is broken.
    """
    if (report is None) != (target is None):
        raise click.UsageError("a report is made into a test with both: --from REPORT --of FILE[:NAME]")
    if report is not None and language is not None:
        raise click.UsageError("--for writes a project, and --from a test of a report; say one of them")
    if folder.exists() and not folder.is_dir():
        raise LarkTallyError(f"{folder}: it is a file; name a folder that is empty or not there")
    if folder.exists() and any(folder.iterdir()):
        raise LarkTallyError(f"{folder}: there is something in it already; name a folder that is empty or not there")
    if report is not None and target is not None:
        _write_case(folder, report, target)
    elif language is not None:
        _write_program(folder, LANGUAGES[language])
    else:
        _write_project(folder)


def _write_project(folder: Path) -> None:
    made_folder(folder / "baselines")
    source = importlib.resources.files("larktally.cli").joinpath("project")
    for name, written in FILES.items():
        text = source.joinpath(f"{name}.txt").read_text(encoding="utf-8")
        echo(f"{write_whole(folder / written, text)}")
    (walk,) = load_scenarios(str(folder / "model.py"))
    echo(f"{Baselines(folder / 'baselines').check(record(walk), accept=True).path}")
    echo(f"\nNext: cd {folder}, and then")
    echo("      larktally run model.py        its scenarios, their claims, their traces")
    echo("      larktally watch model.py      the same on a page, again at each save")
    echo("      python -m pytest              the same as tests, and what the baseline says")
    echo("      larktally plot traces/walk.parquet")


def _write_program(folder: Path, language: Language) -> None:
    made_folder(folder)
    for path in write_program(language, folder):
        echo(f"{path}")
    echo(f"\nNext: cd {folder}, and then")
    if language.build:
        echo(f"      {language.build}")
    echo(f"      larktally check-program {' '.join(language.command)}")
    echo("      larktally run game.toml       its scenarios, their claims, their traces")
    echo("      larktally watch game.toml     the same on a page, again whenever the game is built")


def _write_case(folder: Path, report: Path, target: str) -> None:
    from larktally.search.reported import case_of, scenario_line

    trace = load_trace(report)
    scenario = load_scenario_of(target, trace.header.scenario)
    with progress("making it smaller") as on_progress:
        case = case_of(trace, scenario, on_progress=on_progress)
    model = split_target(target)[0].resolve()
    if model.suffix == ".toml":
        name, read = "played", f"(played,) = lt.load_scenarios(f\"{{HERE / '{{file}}'}}:{scenario.title}\")"
    else:
        name = _variable_of(target, scenario.title)
        read = _IMPORTED.replace("{name}", name)
    line = scenario_line(case, name, 'HERE / "report.script.csv"')
    source = importlib.resources.files("larktally.cli").joinpath("project/test_report.py.txt")
    text = source.read_text(encoding="utf-8")
    marks = [f"    row {mark.row}: {mark.note}" for mark in case.marks] or ["    none"]
    filled = {
        "{read}": read,
        "{file}": f"{_beside(model, folder)}/{model.name}",
        "{marks}": "\n".join(marks).replace("\\", "\\\\").replace('"""', "'''"),
        "{folder}": _beside(model, folder),
        "{module}": model.stem,
        "{scenario}": line,
        "{claims}": repr(list(case.claims)),
    }
    for word, stands in filled.items():
        text = text.replace(word, stands)
    made_folder(folder)
    case.script.to_csv(folder / "report.script.csv")
    echo(f"{folder / 'report.script.csv'}")
    echo(f"{write_whole(folder / 'test_report.py', text)}")
    if case.shrunk is not None:
        echo(f"\n{case.shrunk.headline}")
    if not case.claims:
        echo(f"\nno claim of {name} says anything about it: write the one that it breaks, and name it in CLAIMS")
    echo(f"\nNext: python -m pytest {folder}")


def _beside(model: Path, folder: Path) -> str:
    """The way from a folder to the one that a model stands in."""
    return os.path.relpath(model.parent, folder.resolve()).replace(os.sep, "/")


def _variable_of(target: str, title: str) -> str:
    """The variable that a file's scenario stands in."""
    name = split_target(target)[1] or title
    if not name.isidentifier():
        raise LarkTallyError(
            f"scenario {name!r} is no name that Python can import; say {split_target(target)[0]}:VARIABLE"
        )
    return name
