"""A scenario run again in fresh processes with other hash seeds: a set's order, a hash, what is a process's own."""

from __future__ import annotations

import inspect
import os
import subprocess
import sys
from pathlib import Path
from types import FunctionType

from msgspec import structs

from larktally.errors import LarkTallyError
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.subjects.programs.program import Program
from larktally.traces.trace import Trace

__all__ = ["FreshRuns", "digest_of_scenario"]

# A run that has not ended by then would hold up a server for the day.
FRESH_SECONDS = 300
# Two others than this process's own: a set's order may come out the same in one of them.
HASH_SEEDS = ("1", "2")


class FreshRuns:
    """Runs of a scenario in fresh processes: started at once, so that they run beside all that is done here, and read last.

    Not started where it is not `wanted`, or where no file holds the scenario.
    """

    def __init__(self, scenario: Scenario, file: str | Path | None, wanted: bool = True) -> None:
        self._runs: list[subprocess.Popen[str]] = []
        self._note = "left out"
        if not wanted:
            return
        found = _file_and_name(scenario, file)
        if isinstance(found, str):
            self._note = found
            return
        code = "import sys; from larktally.auditing.fresh_runs import digest_of_scenario as d; print(d(sys.argv[1]))"
        command = [sys.executable, "-c", code, ":".join(map(str, found))]
        for seed in HASH_SEEDS:
            # The same seed again would be the same order again.
            if seed != os.environ.get("PYTHONHASHSEED"):
                self._runs.append(_started(command, seed))

    def answer(self, first: Trace) -> tuple[bool, str, bool]:
        """Whether it was run in fresh processes, why not, and whether those runs have the digest of this one."""
        if not self._runs:
            return False, self._note, True
        wanted, same = _digest_without_name(first), True
        for run in self._runs:
            try:
                out, error = run.communicate(timeout=FRESH_SECONDS)
            except subprocess.TimeoutExpired:
                return False, f"it did not end within {FRESH_SECONDS} s", True
            digest = out.strip().splitlines()[-1:]
            if run.returncode != 0 or not digest:
                return False, f"it failed: {(error.strip().splitlines() or ['no output'])[-1]}", True
            same = same and digest[0] == wanted
        return True, "", same

    def end(self) -> None:
        """Ends those that still run: nothing is left behind."""
        for run in self._runs:
            if run.poll() is None:
                run.kill()
                run.communicate()


def _started(command: list[str], seed: str) -> subprocess.Popen[str]:
    environment = {**os.environ, "PYTHONHASHSEED": seed}
    return subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def digest_of_scenario(target: str) -> str:
    """The digest of a scenario of a file, run now: what a fresh process prints."""
    return _digest_without_name(record(load_scenarios(target)[0]))


def _digest_without_name(trace: Trace) -> str:
    """A trace's digest as if its scenario had no name: one that goes by its variable has none of its own."""
    return trace.changed(header=structs.replace(trace.header, scenario="")).digest


def _file_and_name(scenario: Scenario, file: str | Path | None) -> tuple[Path, str] | str:
    """The file at whose top level the scenario stands and the name it has there, or why there is none."""
    try:
        path = Path(file) if file is not None else Path(inspect.getsourcefile(inspect.unwrap(scenario.subject)) or "")  # type: ignore[arg-type]
    except TypeError:
        return "the subject is an object, not a model that a file could be found of; say file="
    if not path.is_file() or path.suffix not in (".py", ".toml"):
        return "its model is in no file; say file="
    try:
        names = []
        for one in load_scenarios(str(path)):
            if _same_run(one, scenario):
                names.append(one.title)
    except LarkTallyError as error:
        return f"{error}"
    if names:
        return (path, names[0])
    return f"{path.name} holds no such scenario at its top level"


def _same_run(one: Scenario, other: Scenario) -> bool:
    """Whether two scenarios make the same run: the file was run anew, so that its model is another function of that name."""
    if isinstance(one.subject, Program) and isinstance(other.subject, Program):
        return one.subject.started_as == other.subject.started_as and _made_from(one) == _made_from(other)
    if not isinstance(one.subject, FunctionType | type) or not isinstance(other.subject, FunctionType | type):
        return False
    return one.subject.__name__ == other.subject.__name__ and _made_from(one) == _made_from(other)


def _made_from(scenario: Scenario) -> tuple[object, ...]:
    return (
        scenario.frames,
        scenario.inputs,
        scenario.rate,
        scenario.seed,
        scenario.params,
        scenario.until,
        scenario.allow_nan,
        scenario.seen,
    )
