"""Scenarios of several files and folders, chosen and shared out as a build farm does it, and the one line over all of them."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from larktally.errors import LarkTallyError
from larktally.runs.model_files import NoScenario, load_scenarios
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural

__all__ = ["chosen_scenarios", "shard_of", "total"]

# What a folder holds beside a project's own files.
LEFT_OUT = ("__pycache__", "node_modules", "site-packages", "build", "dist")
MOST_NAMED = 5


def chosen_scenarios(targets: Sequence[str], match: str, shard: str) -> list[Scenario]:
    """The scenarios of the files, and of all files below the folders, whose name matches, and of those the n-th share.

    Raises LarkTallyError where a file holds none, or none is left.
    """
    found: list[Scenario] = []
    for target in targets:
        if Path(target).is_dir():
            found += _of_folder(Path(target))
        else:
            found += load_scenarios(target)
    if match:
        matching = []
        for one in found:
            if fnmatch.fnmatchcase(one.title, match):
                matching.append(one)
        if not matching:
            names = ", ".join(one.title for one in found)
            raise LarkTallyError(f"--match {match!r}: no scenario is called so; there are: {names}")
        found = matching
    if shard:
        n, of = shard_of(shard)
        # Every of-th, and not a stretch: the slow ones of a file stand beside each other.
        found = found[n - 1 :: of]
    return found


def _of_folder(folder: Path) -> Iterator[Scenario]:
    """All scenarios of the files below a folder, in the order of their paths; files without one are passed over."""
    count = 0
    for path in sorted([*folder.rglob("*.py"), *folder.rglob("*.toml")]):
        below = path.relative_to(folder).parts
        if any(part.startswith(".") or part in LEFT_OUT for part in below) or not _may_hold_some(path):
            continue
        try:
            scenarios = load_scenarios(str(path))
        except NoScenario:
            continue
        count += len(scenarios)
        yield from scenarios
    if not count:
        raise LarkTallyError(
            f"{folder}: below this folder no Python file holds a scenario at its top level, and no TOML file any of a program"
        )


def _may_hold_some(path: Path) -> bool:
    """A Python file is run to find what it holds: those that could hold none are not."""
    if path.suffix == ".toml":
        from larktally.runs.scenario_files import holds_scenarios

        return holds_scenarios(path)
    text = path.read_text(encoding="utf-8", errors="replace")
    return "larktally" in text and ("Scenario" in text or ".changed(" in text)


def shard_of(text: str) -> tuple[int, int]:
    """N/OF as its two numbers, N from 1 on."""
    found = re.fullmatch(r"(\d{1,6})/(\d{1,6})", text)
    if not found or not 1 <= int(found[1]) <= int(found[2]):
        raise LarkTallyError(f"--shard takes N/OF, such as 2/8 for the second of eight shares, not {text!r}")
    return int(found[1]), int(found[2])


def total(results: Sequence[tuple[str, str]], seconds: float) -> str:
    """One line over all scenarios: how many came to what, and which did not pass; (name, outcome) each."""
    by_outcome: dict[str, list[str]] = {}
    for name, outcome in results:
        by_outcome.setdefault(outcome, []).append(name)
    told = []
    for outcome, names in by_outcome.items():
        text = f"{len(names)} {outcome}"
        if outcome not in ("kept", "with no claims"):
            more = ""
            if len(names) > MOST_NAMED:
                more = f" and {len(names) - MOST_NAMED} more"
            text += f" ({', '.join(names[:MOST_NAMED])}{more})"
        told.append(text)
    return f"{plural(len(results), 'scenario')}: {', '.join(told) or 'none'}; {seconds:.1f} s"
