"""The rewind audit: whether a subject's saved state is all of its state, and whether its runs repeat themselves.

At chosen rows the subject is saved; the run goes on for n frames; the state is put back, into the same subject and into
one that is built anew, and the same frames run again, under the script's inputs and under others. Every row and every
event has to come out the same, and what the subject's own code can reach has to be what it was. Beside that
the whole scenario is run twice in this process, and once in each of two fresh ones with other hash seeds.
"""

from __future__ import annotations

import inspect
import os
import subprocess
import sys
from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from types import FunctionType
from typing import Any

from msgspec import structs

from larktally.comparing.divergence import Divergence, first_divergence
from larktally.errors import LarkTallyError
from larktally.explain.reachable_state import LENGTH, reachable_state
from larktally.inputs.script import InputScript
from larktally.report import Report
from larktally.runs.live import Live
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["RewindAudit", "Rewound", "digest_of_scenario", "rewind_audit"]

# A run that has not ended by then would hold up a server for the day.
FRESH_SECONDS = 300
# Two others than this process's own: a set's order may come out the same in one of them.
HASH_SEEDS = ("1", "2")
MOST_TOLD = 6


@dataclass(frozen=True, slots=True)
class Rewound:
    """One restore that did not give the same run again: saved in row `saved`, first different in row `row`; the channels
    with both values, the events of that row, and what the subject can reach that loading did not put back. `anew` is
    whether it was put back into a subject built anew, where the same one came out right."""

    saved: int
    row: int
    channels: tuple[tuple[str, str, str], ...]
    events: tuple[str, str] | None
    suspects: tuple[str, ...]
    anew: bool = False

    def __str__(self) -> str:
        into = ""
        if self.anew:
            into = " into a subject built anew"
        lines = [f"saved in row {self.saved} and put back{into}, row {self.row} came out otherwise:"]
        for name, first, again in self.channels[:6]:
            lines.append(f"  {name} was {first}, then {again}")
        if self.events is not None:
            lines.append(f"  events were {self.events[0] or 'none'}, then {self.events[1] or 'none'}")
        for suspect in self.suspects[:6]:
            lines.append(f"  not put back by load: {suspect}")
        return "\n".join(lines)


@dataclass(frozen=True, slots=True)
class RewindAudit:
    """What running again found. `rewinds` is how many restores were tried, None where the subject cannot save; `repeated` and
    `fresh` are the first divergence of the second run here and of the runs in fresh processes (`fresh_ran` says whether
    that could be tried, and `fresh_note` why not); `forgotten` is what no load put back, although no row showed it yet."""

    rewinds: int | None
    failed: tuple[Rewound, ...]
    repeated: Divergence | None
    fresh_ran: bool
    fresh_note: str
    fresh_same: bool
    forgotten: tuple[str, ...] = ()

    @property
    def passed(self) -> bool:
        """Whether everything that was tried came out the same, and nothing was left out of a saved state."""
        return not self.failed and not self.forgotten and self.repeated is None and self.fresh_same

    def plain(self) -> dict[str, Any]:
        """The audit as plain data, for JSON."""
        return {
            "passed": self.passed,
            "rewinds": self.rewinds,
            "failed": [asdict(one) for one in self.failed],
            "forgotten": list(self.forgotten),
            "repeated": self.repeated and self.repeated.plain(),
            "fresh": {"ran": self.fresh_ran, "same": self.fresh_same, "note": self.fresh_note},
        }

    def lines(self) -> list[str]:
        """What came of it, a line each."""
        if self.rewinds is None:
            lines = ["rewind: not tried: the subject has no save and load"]
        elif self.failed:
            lines = [f"rewind: {len(self.failed)} of {self.rewinds} restores did not give the same run again"]
            lines += [f"  {line}" for one in self.failed[:3] for line in str(one).splitlines()]
        else:
            lines = [
                f"rewind: {self.rewinds} restores, into the same subject and into one built anew, under the same and under other "
                "inputs, gave the same rows and events"
            ]
        if self.forgotten:
            lines.append("what the subject holds, and load did not put back, although no row showed it:")
            lines += [f"  {one}" for one in self.forgotten[:MOST_TOLD]]
            if len(self.forgotten) > MOST_TOLD:
                lines.append(f"  and {len(self.forgotten) - MOST_TOLD} more")
        if self.repeated is None:
            again = "the same"
        else:
            again = f"not the same: {self.repeated}"
        lines.append(f"run twice in this process: {again}")
        if self.fresh_ran:
            if self.fresh_same:
                same = "the same"
            else:
                same = "not the same: something depends on the hash seed or the process"
            lines.append(f"run in fresh processes with other hash seeds: {same}")
        else:
            lines.append(f"run in fresh processes: not tried: {self.fresh_note}")
        return "\n".join(lines).splitlines()

    def report(self) -> Report:
        """What came of it."""
        return Report.of_lines(self.lines())

    def __str__(self) -> str:
        return self.report().text()


def rewind_audit(
    scenario: Scenario,
    rows: int | Iterable[int] | None = None,
    *,
    frames: int = 30,
    file: str | Path | None = None,
    fresh: bool = True,
) -> RewindAudit:
    """Runs a scenario again: twice, in fresh processes, and from restores at `rows` (a list, or every so-manieth; ten spread over
    the run by default), each followed by `frames` frames.

    `file` is the Python file whose top level holds the scenario, where it cannot be found from the model function;
    `fresh=False` leaves the fresh processes out. Raises LarkTallyError for rows that the run does not have.
    """
    # In one process first: what differs here needs no other explanation.
    first, second = record(scenario), record(scenario)
    resolved = scenario.changed(
        inputs=InputScript.from_columns(first.inputs), until=None, frames=first.frames, claims=()
    )
    rewinds, failed, forgotten = _rewinds(resolved, _rows(rows, first.frames), frames)
    if fresh:
        ran, note, same = _fresh(scenario, first, file)
    else:
        ran, note, same = (False, "left out", True)
    return RewindAudit(rewinds, tuple(failed), first_divergence(first, second), ran, note, same, forgotten)


def _rows(rows: int | Iterable[int] | None, last: int) -> list[int]:
    if rows is None:
        return sorted({last * n // 10 for n in range(10)})
    if isinstance(rows, int):
        chosen = list(range(0, last, rows))
    else:
        chosen = sorted(set(rows))
    if not chosen or not 0 <= chosen[0] <= chosen[-1] < last:
        raise LarkTallyError(f"rows to restore at are 0..{last - 1} in this run, not {rows!r}")
    return chosen


def _rewinds(scenario: Scenario, rows: list[int], frames: int) -> tuple[int | None, list[Rewound], tuple[str, ...]]:
    """How many restores were tried, those that did not give the same run again, and what of the others no load put back."""
    live = Live(scenario)
    if not live.saves:
        return None, [], ()
    failed: list[Rewound] = []
    forgotten: dict[str, None] = {}
    for row in rows:
        for script in (scenario.inputs, _other_inputs(scenario, live.actions, row)):
            wrong, left = _rewound(scenario.changed(inputs=script), row, frames)
            if wrong is not None:
                failed.append(wrong)
                break
            forgotten.update(dict.fromkeys(left))
    # One is enough of what differs in each row by its number.
    first = {name.partition(": ")[0]: name for name in reversed(forgotten)}
    return len(rows), failed, tuple(reversed(first.values()))


def _other_inputs(scenario: Scenario, actions: Iterable[str], row: int) -> InputScript:
    """The script up to a row, and presses at random after it: what a subject forgets may show only where it is asked."""
    last = int(scenario.frames)
    pressed = InputScript.at_random(dict.fromkeys(actions, 0.2), last, seed=row)
    return scenario.inputs.keep(1, row) | pressed.keep(row + 1, last)


def _rewound(scenario: Scenario, row: int, frames: int) -> tuple[Rewound | None, tuple[str, ...]]:
    """Saves in a row, runs on, and puts back into the same subject and into another: what came out otherwise, and what was
    not put back."""
    live = Live(scenario).to(row)
    saved, inside = live.save(), reachable_state(live.subject)
    at, stop = _look(live), min(row + frames, int(scenario.frames))
    before = [at]
    while live.row < stop and live.ended is None:
        before.append(_look_on(live))
    wrong, left = _restored(live, saved, row, before, inside)
    if wrong is not None:
        return wrong, left
    wrong, left_anew = _restored(Live(scenario), saved, row, before, inside)
    if wrong is not None:
        wrong = replace(wrong, anew=True)
    return wrong, (*left, *left_anew)


def _restored(
    live: Live, saved: bytes, row: int, before: list[Any], inside: dict[str, str]
) -> tuple[Rewound | None, tuple[str, ...]]:
    """Puts a state back and runs the same frames again: the first row that is not what it was before, and what was not put
    back."""
    live.load(saved, row)
    suspects = _suspects(inside, reachable_state(live.subject))
    # A saved state has no events: those of its own row are the ones that were.
    again = [(live.values, before[0][1])]
    for _ in before[1:]:
        if live.ended is not None:
            again.append(({}, [f"the run ended: {live.ended}"]))
            break
        again.append(_look_on(live))
    return _first_other(row, before, again, suspects), suspects


def _look(live: Live) -> tuple[dict[str, Any], list[str]]:
    return live.values, [repr(event) for event in live.events]


def _look_on(live: Live) -> tuple[dict[str, Any], list[str]]:
    live.step()
    return _look(live)


def _first_other(row: int, before: list[Any], again: list[Any], suspects: tuple[str, ...]) -> Rewound | None:
    for offset, ((values, emitted), (values_again, emitted_again)) in enumerate(zip(before, again, strict=False)):
        listed = []
        for name, value in values.items():
            if repr(value) != repr(values_again.get(name)):
                listed.append((name, repr(value), repr(values_again.get(name))))
        channels = tuple(listed)
        if channels or emitted != emitted_again:
            events = None
            if emitted != emitted_again:
                events = (", ".join(emitted), ", ".join(emitted_again))
            return Rewound(row, row + offset, channels, events, suspects)
    return None


def _suspects(before: dict[str, str], after: dict[str, str]) -> tuple[str, ...]:
    """What was one value when the state was saved and is another after it was put back."""
    found: dict[str, str] = {}
    for name, value in before.items():
        # A list of events has no length that counts, and one that is empty may be one.
        if after.get(name) != value and (name in after or not name.startswith(LENGTH)):
            found[name] = f"{_short(value)} when saved, {_short(after.get(name, 'gone'))} after load"
    for name, value in after.items():
        # What a list has more of is told by its length.
        if name not in before and "[" not in name and not name.startswith(LENGTH):
            found[name] = f"not there when saved, {_short(value)} after load"
    grown = tuple(f"{name.removeprefix(LENGTH).split(' ')[0]}[" for name in found if name.startswith(LENGTH))
    return tuple(f"{name}: {told}" for name, told in found.items() if not name.startswith(grown or "\0"))


def _short(text: str) -> str:
    if len(text) <= 60:
        return text
    return text[:57] + "…"


def _fresh(scenario: Scenario, first: Trace, file: str | Path | None) -> tuple[bool, str, bool]:
    """Whether it was run in fresh processes, why not, and whether those runs have the same digest."""
    found = _file_and_name(scenario, file)
    if isinstance(found, str):
        return False, found, True
    code = "import sys; from larktally.auditing.rewind import digest_of_scenario as d; print(d(sys.argv[1]))"
    command = [sys.executable, "-c", code, ":".join(map(str, found))]
    runs = []
    for seed in HASH_SEEDS:
        # The same seed again would be the same order again.
        if seed != os.environ.get("PYTHONHASHSEED"):
            runs.append(_started(command, seed))
    wanted, same = digest_without_name(first), True
    for run in runs:
        try:
            out, error = run.communicate(timeout=FRESH_SECONDS)
        except subprocess.TimeoutExpired:
            # The other one too: nothing is left running.
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
