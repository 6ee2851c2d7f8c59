"""The rewind audit: whether a subject's saved state is all of its state, and whether its runs repeat themselves.

At chosen rows the subject is saved; the run goes on for n frames; the state is put back and the same frames run again.
Every row and every event has to come out the same. Beside that the whole scenario is run twice in this process, and
once in each of two fresh ones with other hash seeds.
"""

from __future__ import annotations

import inspect
import os
import subprocess
import sys
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from msgspec import structs

from larktally.errors import LarkError
from larktally.inputs import InputScript
from larktally.runs.divergence import Divergence, first_divergence
from larktally.runs.explaining.innards import innards
from larktally.runs.live import Live
from larktally.runs.model_files import load_scenarios
from larktally.runs.recording import record
from larktally.runs.scenario import Scenario
from larktally.subject import can_save
from larktally.traces import Trace

__all__ = ["Audit", "Rewound", "audit", "digest_of_scenario"]

FRESH_SECONDS = 300
HASH_SEEDS = ("1", "2")


@dataclass(frozen=True, slots=True)
class Rewound:
    """One restore that did not give the same run again: saved in row `saved`, first different in row `row`; the channels
    with both values, the events of that row, and what the subject can reach that loading did not put back."""

    saved: int
    row: int
    channels: tuple[tuple[str, str, str], ...]
    events: tuple[str, str] | None
    suspects: tuple[str, ...]

    def __str__(self) -> str:
        lines = [f"saved in row {self.saved} and put back, row {self.row} came out otherwise:"]
        lines += [f"  {name} was {first}, then {again}" for name, first, again in self.channels[:6]]
        if self.events is not None:
            lines.append(f"  events were {self.events[0] or 'none'}, then {self.events[1] or 'none'}")
        lines += [f"  not put back by load: {suspect}" for suspect in self.suspects[:6]]
        return "\n".join(lines)


@dataclass(frozen=True, slots=True)
class Audit:
    """What an audit found. `rewinds` is how many restores were tried, None where the subject cannot save; `repeated` and
    `fresh` are the first divergence of the second run here and of the runs in fresh processes (`fresh_ran` says whether
    that could be tried, and `fresh_note` why not)."""

    rewinds: int | None
    failed: tuple[Rewound, ...]
    repeated: Divergence | None
    fresh_ran: bool
    fresh_note: str
    fresh_same: bool

    @property
    def passed(self) -> bool:
        """Whether everything that was tried came out the same, and something was."""
        return not self.failed and self.repeated is None and self.fresh_same

    def plain(self) -> dict[str, Any]:
        """The audit as plain data, for JSON."""
        return {
            "passed": self.passed,
            "rewinds": self.rewinds,
            "failed": [asdict(one) for one in self.failed],
            "repeated": self.repeated and self.repeated.plain(),
            "fresh": {"ran": self.fresh_ran, "same": self.fresh_same, "note": self.fresh_note},
        }

    def __str__(self) -> str:
        if self.rewinds is None:
            lines = ["rewind: not tried: the subject has no save and load"]
        elif self.failed:
            lines = [f"rewind: {len(self.failed)} of {self.rewinds} restores did not give the same run again"]
            lines += [f"  {line}" for one in self.failed[:3] for line in str(one).splitlines()]
        else:
            lines = [f"rewind: {self.rewinds} restores gave the same rows and events"]
        again = "the same" if self.repeated is None else f"not the same: {self.repeated}"
        lines.append(f"run twice in this process: {again}")
        if self.fresh_ran:
            same = "the same" if self.fresh_same else "not the same: something depends on the hash seed or the process"
            lines.append(f"run in fresh processes with other hash seeds: {same}")
        else:
            lines.append(f"run in fresh processes: not tried: {self.fresh_note}")
        return "\n".join(lines)


def audit(
    scenario: Scenario,
    rows: int | Iterable[int] | None = None,
    *,
    frames: int = 30,
    file: str | Path | None = None,
    fresh: bool = True,
) -> Audit:
    """Audits a scenario's subject: restores at `rows` (a list, or every so-manieth; ten spread over the run by default),
    each followed by `frames` frames.

    `file` is the Python file whose top level holds the scenario, where it cannot be found from the model function;
    `fresh=False` leaves the fresh processes out. Raises LarkError for rows that the run does not have.
    """
    first, second = record(scenario), record(scenario)
    resolved = scenario.changed(
        inputs=InputScript.from_columns(first.inputs), until=None, frames=first.frames, claims=()
    )
    rewinds, failed = _rewinds(resolved, _rows(rows, first.frames), frames)
    ran, note, same = _fresh(scenario, first, file) if fresh else (False, "left out", True)
    return Audit(rewinds, tuple(failed), first_divergence(first, second), ran, note, same)


def _rows(rows: int | Iterable[int] | None, last: int) -> list[int]:
    if rows is None:
        return sorted({last * n // 10 for n in range(10)})
    chosen = list(range(0, last, rows)) if isinstance(rows, int) else sorted(set(rows))
    if not chosen or not 0 <= chosen[0] <= chosen[-1] < last:
        raise LarkError(f"rows to restore at are 0..{last - 1} in this run, not {rows!r}")
    return chosen


def _rewinds(scenario: Scenario, rows: list[int], frames: int) -> tuple[int | None, list[Rewound]]:
    live = Live(scenario)
    if not can_save(live.subject):
        return None, []
    failed = []
    for row in rows:
        live = Live(scenario).to(row)
        saved, inside = bytes(live.subject.save()), innards(live.subject)
        at, stop = _look(live), min(row + frames, int(scenario.frames))
        before = [at, *(_look_on(live) for _ in range(row, stop))]
        live.load(saved, row)
        suspects = _suspects(inside, innards(live.subject))
        again = [(live.values, at[1]), *(_look_on(live) for _ in range(row, stop))]
        wrong = _first_other(row, before, again, suspects)
        if wrong is not None:
            failed.append(wrong)
    return len(rows), failed


def _look(live: Live) -> tuple[dict[str, Any], list[str]]:
    return live.values, [repr(event) for event in live.events]


def _look_on(live: Live) -> tuple[dict[str, Any], list[str]]:
    live.step()
    return _look(live)


def _first_other(row: int, before: list[Any], again: list[Any], suspects: tuple[str, ...]) -> Rewound | None:
    for offset, ((values, said), (values_again, said_again)) in enumerate(zip(before, again, strict=True)):
        channels = tuple(
            (name, repr(value), repr(values_again.get(name)))
            for name, value in values.items()
            if repr(value) != repr(values_again.get(name))
        )
        if channels or said != said_again:
            events = (", ".join(said), ", ".join(said_again)) if said != said_again else None
            return Rewound(row, row + offset, channels, events, suspects)
    return None


def _suspects(before: dict[str, str], after: dict[str, str]) -> tuple[str, ...]:
    """What was one value when the state was saved and is another after it was put back."""
    return tuple(
        f"{name}: {_short(value)} when saved, {_short(after.get(name, 'gone'))} after load"
        for name, value in before.items()
        if after.get(name) != value
    )


def _short(text: str) -> str:
    return text if len(text) <= 60 else text[:57] + "…"


def _fresh(scenario: Scenario, first: Trace, file: str | Path | None) -> tuple[bool, str, bool]:
    """Whether it was run in fresh processes, why not, and whether those runs have the same digest."""
    found = _file_and_name(scenario, file)
    if isinstance(found, str):
        return False, found, True
    code = "import sys; from larktally.runs.auditing import digest_of_scenario as d; print(d(sys.argv[1]))"
    command = [sys.executable, "-c", code, ":".join(map(str, found))]
    runs = [_started(command, seed) for seed in HASH_SEEDS if seed != os.environ.get("PYTHONHASHSEED")]
    wanted, same = digest_without_name(first), True
    for run in runs:
        try:
            out, error = run.communicate(timeout=FRESH_SECONDS)
        except subprocess.TimeoutExpired:
            _end(runs)
            return False, f"it did not end within {FRESH_SECONDS} s", True
        digest = out.strip().splitlines()[-1:]
        if run.returncode != 0 or not digest:
            _end(runs)
            return False, f"it failed: {(error.strip().splitlines() or ['no output'])[-1]}", True
        same = same and digest[0] == wanted
    return True, "", same


def _started(command: list[str], seed: str) -> subprocess.Popen[str]:
    environment = {**os.environ, "PYTHONHASHSEED": seed}
    return subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def _end(runs: Iterable[subprocess.Popen[str]]) -> None:
    for run in runs:
        run.kill()
        run.communicate()


def digest_of_scenario(target: str) -> str:
    """The digest of a scenario of a file, run now: what a fresh process prints."""
    return digest_without_name(record(load_scenarios(target)[0]))


def digest_without_name(trace: Trace) -> str:
    """A trace's digest as if its scenario had no name: one that goes by its variable has none of its own."""
    return trace.changed(header=structs.replace(trace.header, scenario="")).digest


def _file_and_name(scenario: Scenario, file: str | Path | None) -> tuple[Path, str] | str:
    """The file at whose top level the scenario stands and the name it has there, or why there is none."""
    try:
        path = Path(file) if file is not None else Path(inspect.getsourcefile(inspect.unwrap(scenario.subject)) or "")  # type: ignore[arg-type]
    except TypeError:
        return "the subject is an object, not a model that a file could be found of; say file="
    if not path.is_file() or path.suffix != ".py":
        return "its model is in no Python file; say file="
    try:
        names = [one.title for one in load_scenarios(str(path)) if _same_run(one, scenario)]
    except LarkError as error:
        return f"{error}"
    return (path, names[0]) if names else f"{path.name} holds no such scenario at its top level"


def _same_run(one: Scenario, other: Scenario) -> bool:
    kept = ("frames", "inputs", "rate", "seed", "params", "until", "allow_nan", "seen")
    same = all(getattr(one, name) == getattr(other, name) for name in kept)
    return same and getattr(one.subject, "__name__", 1) == getattr(other.subject, "__name__", 2)
