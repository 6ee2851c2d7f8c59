"""Scenarios from a user's file: FILE.py takes all at its top level, FILE.toml all in its tables, FILE:NAME one of them."""

from __future__ import annotations

import ast
import functools
import importlib.util
import os
import sys
import traceback
from collections.abc import Iterable, Mapping
from pathlib import Path

from larktally.errors import LarkTallyError
from larktally.names import existing_file, unknown_name
from larktally.runs.scenario import Scenario
from larktally.runs.targets import split_target

__all__ = ["NoScenario", "load_scenario_of", "load_scenarios", "module_of_file", "modules_below", "only_scenario"]


class NoScenario(LarkTallyError):
    """A file that holds no scenario of its own."""


def load_scenarios(target: str | Path, wanted: str = "") -> list[Scenario]:
    """The scenarios of FILE[:NAME], in the order in which they stand, each under its name or its variable's; of FILE.toml[:NAME]
    those of its tables, for a program in another language.

    `wanted` picks one by name where the target names none. Raises LarkTallyError where the file is not there, does not run,
    or holds no such scenario.
    """
    path, name = split_target(str(target))
    if path.suffix == ".toml":
        # With programs, and the rest that a model in Python does not need.
        from larktally.runs.scenario_files import scenarios_of_file

        return _chosen(path, scenarios_of_file(existing_file(path)), name or wanted)
    module = module_of_file(existing_file(path))
    found = {}
    for variable, value in vars(module).items():
        if isinstance(value, Scenario):
            found[variable] = value
    # What it imported is run with the file in which it stands, unless it is asked for by name.
    borrowed = _imported(path, found)
    asked = name or wanted
    scenarios = {}
    for variable, scenario in found.items():
        if variable not in borrowed or (asked and asked in (variable, scenario.name)):
            scenarios[scenario.name or variable] = scenario.named(variable)
    if not scenarios and borrowed:
        raise NoScenario(
            f"{path}: no scenario of its own; it imports {', '.join(borrowed)}: run the file that they stand in, or say "
            f"{path}:{borrowed[0]}"
        )
    if not scenarios:
        raise NoScenario(f"{path}: no scenario at the top level; write NAME = lt.Scenario(model, frames=…)")
    # What the target says counts more than what a trace remembers.
    name = name or wanted
    if name in found and name not in scenarios:
        return [found[name].named(name)]
    return _chosen(path, scenarios, name)


def _chosen(path: Path, scenarios: Mapping[str, Scenario], name: str) -> list[Scenario]:
    """The one of that name, or all where none is named."""
    if not name:
        return list(scenarios.values())
    if name in scenarios:
        return [scenarios[name]]
    raise LarkTallyError(f"{path}: {unknown_name('scenario', name, scenarios)}")


def only_scenario(target: str) -> Scenario:
    """The one scenario of FILE[:NAME]; raises LarkTallyError where several stand there and NAME is not said."""
    scenarios = load_scenarios(target)
    if len(scenarios) > 1:
        names = ", ".join(one.title for one in scenarios)
        raise LarkTallyError(f"{target} holds several scenarios: {names}; say {target}:NAME")
    return scenarios[0]


def load_scenario_of(target: str, named: str) -> Scenario:
    """The scenario of FILE[:NAME] that a trace was recorded from: its only one, or the one that its header names.

    Raises LarkTallyError where several stand there and none is named.
    """
    scenarios = load_scenarios(target)
    if len(scenarios) == 1:
        return scenarios[0]
    if not named:
        raise LarkTallyError(f"{target} holds several scenarios and the trace names none; say {target}:NAME")
    return load_scenarios(target, named)[0]


def _imported(path: Path, found: Mapping[str, Scenario]) -> list[str]:
    """The variables of a file that came from another module, by the import statements at its top level."""
    named: dict[str, None] = {}
    for statement in ast.parse(path.read_bytes()).body:
        if isinstance(statement, ast.ImportFrom):
            for one in statement.names:
                if one.name != "*":
                    named[one.asname or one.name] = None
                    continue
                module = sys.modules.get(statement.module or "")
                for variable, scenario in found.items():
                    if module is not None and vars(module).get(variable) is scenario:
                        named[variable] = None
    return [variable for variable in named if variable in found]


# Modules that stand beside a model and were imported by it, with their folders.
_beside: dict[str, str] = {}


def _import_beside(folder: str) -> None:
    """Modules of another model's folder make room: here the same name may mean another file."""
    for name, place in list(_beside.items()):
        if place != folder:
            sys.modules.pop(name, None)
            del _beside[name]


def _note_beside(folder: str, before: set[str]) -> None:
    for name, _ in modules_below(folder, [name for name in sys.modules if name not in before]):
        _beside[name] = folder


def modules_below(folder: str | Path, among: Iterable[str] | None = None) -> list[tuple[str, Path]]:
    """The modules that are loaded from below a folder, of all or among some: the name of each, and its file without links on
    the way."""
    start = f"{os.path.realpath(folder)}{os.sep}"
    found = []
    if among is None:
        among = sys.modules
    for name in list(among):
        file = getattr(sys.modules.get(name), "__file__", None)
        if isinstance(file, str) and _real(file).startswith(start):
            found.append((name, Path(_real(file))))
    return found


@functools.cache
def _real(file: str) -> str:
    # Asked of every module that there is, again and again.
    return os.path.realpath(file)


def module_of_file(path: Path) -> object:
    """Runs a Python file and returns its module; raises LarkTallyError with file and line where it does not run."""
    spec = importlib.util.spec_from_file_location(f"larktally_model_{path.stem}", path)
    if spec is None or spec.loader is None:
        raise LarkTallyError(f"{path}: not a Python file")
    module = importlib.util.module_from_spec(spec)
    # Dataclasses and pickle look their module up by name while it is still being run.
    sys.modules[spec.name] = module
    folder = str(path.resolve().parent)
    _import_beside(folder)
    before = set(sys.modules)
    # So that a model imports what stands beside it, as `python model.py` would.
    sys.path.insert(0, folder)
    try:
        spec.loader.exec_module(module)
    except SyntaxError as error:
        raise LarkTallyError(f"{path}, line {error.lineno}: {error.msg}") from error
    except (Exception, SystemExit) as error:
        frames = []
        for f in traceback.extract_tb(error.__traceback__):
            if Path(f.filename).resolve() == path.resolve():
                frames.append(f)
        if frames:
            line = f", line {frames[-1].lineno}"
        else:
            line = ""
        if isinstance(error, LarkTallyError):
            kind = ""
        else:
            kind = f"{type(error).__name__}: "
        raise LarkTallyError(f"{path}{line}: {kind}{error}") from error
    finally:
        sys.path.remove(folder)
        _note_beside(folder, before)
    return module
