"""The rewind audit: whether a subject's saved state is all of its state, and whether its runs repeat themselves.

At chosen rows the subject is saved; the run goes on for n frames; the state is put back, into the same subject and into
one that is built anew, and the same frames run again, under the script's inputs and under others. Every row and every
event has to come out the same, and what the subject's own code can reach has to be what it was. Beside that
the whole scenario is run twice in this process, and once in each of two fresh ones with other hash seeds.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from larktally.auditing.fresh_runs import FreshRuns
from larktally.auditing.walk import Look, Walk
from larktally.comparing.divergence import Divergence, first_divergence
from larktally.errors import LarkTallyError
from larktally.explain.reachable_state import LENGTH, reachable_state
from larktally.inputs.script import InputScript
from larktally.report import Report
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import Value
from larktally.traces.trace import Trace

__all__ = ["RewindAudit", "Rewound", "rewind_audit", "suspects_of"]

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
    first: Trace | None = None,
) -> RewindAudit:
    """Runs a scenario again: twice, in fresh processes, and from restores at `rows` (a list, or every so-manieth; ten spread over
    the run by default), each followed by `frames` frames.

    `file` is the Python file whose top level holds the scenario, where it cannot be found from the model function;
    `fresh=False` leaves the fresh processes out; `first` is its trace, where it was just run. Raises LarkTallyError for rows
    that the run does not have.
    """
    fresh_runs = FreshRuns(scenario, file, fresh)
    try:
        # In one process first: what differs here needs no other explanation.
        first, second = first or record(scenario), record(scenario)
        resolved = scenario.changed(
            inputs=InputScript.from_columns(first.inputs), until=None, frames=first.frames, claims=()
        )
        rewinds, failed, forgotten = _rewinds(resolved, _rows(rows, first.frames), frames)
        ran, note, same = fresh_runs.answer(first)
    finally:
        fresh_runs.end()
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
    walker = Walk(scenario)
    if not walker.run.subject.info.saves:
        return None, [], ()
    failed: list[Rewound] = []
    forgotten: dict[str, None] = {}
    for row in rows:
        walker.run.to(row)
        wrong, left = _rewound(scenario, walker, min(row + frames, int(scenario.frames)))
        if wrong is not None:
            failed.append(wrong)
        forgotten.update(dict.fromkeys(left))
        # What was put back wrongly once must not be blamed for what comes later.
        if wrong is not None or left:
            walker = Walk(scenario)
    # One is enough of what differs in each row by its number.
    first = {name.partition(": ")[0]: name for name in reversed(forgotten)}
    return len(rows), failed, tuple(reversed(first.values()))


def _other_inputs(scenario: Scenario, actions: Iterable[str], row: int, stop: int) -> InputScript:
    """The script up to a row, and presses at random after it: what a subject forgets may show only where it is asked."""
    pressed = InputScript.at_random(dict.fromkeys(actions, 0.2), stop, seed=row)
    return scenario.inputs.keep(1, row) | pressed.keep(row + 1, stop)


def _rewound(scenario: Scenario, walker: Walk, stop: int) -> tuple[Rewound | None, list[str]]:
    """Saves where the walker stands, runs on, and puts back into the same subject and into another, under the script's inputs
    and under others: what came out otherwise, and what was not put back. The walker stands there again afterwards."""
    row = walker.run.row
    left: list[str] = []
    saved = walker.run.snapshot()
    inside = reachable_state(walker.run.subject.target)
    anew = None
    for script in (scenario.inputs, _other_inputs(scenario, walker.run.subject.info.actions, row, stop)):
        if script is not scenario.inputs:
            walker.run.restore(saved, script)
        before = walker.on(stop)
        for again in (walker, None):
            if again is None:
                # Made only now: of a subject that is one object, such as a program, it is the same one, reset.
                again = anew = anew or Walk(scenario)
            again.run.restore(saved, script)
            suspects = suspects_of(inside, reachable_state(again.run.subject.target))
            wrong = _first_other(again, row, before, again.on(stop), suspects)
            if wrong is not None:
                return replace(wrong, anew=again is anew), left
            left += suspects
    walker.run.restore(saved, scenario.inputs)
    return None, left


def _first_other(walk: Walk, row: int, before: Look, again: Look, suspects: tuple[str, ...]) -> Rewound | None:
    """The first row in which a run that was put back is not what it was."""
    own = [channel.name for channel in walk.run.subject.info.channels]
    channels = _others(own, before.first, again.first)
    if channels:
        return Rewound(row, row, channels, None, suspects)
    for later in sorted({*before.rows, *again.rows}):
        if later not in before.rows or later not in again.rows:
            ends = (before.over or "it goes on", again.over or "it goes on")
            return Rewound(row, later, (("the run", *ends),), None, suspects)
        channels = _others(walk.names, before.rows[later], again.rows[later])
        emitted, emitted_again = before.emitted.get(later, []), again.emitted.get(later, [])
        events = None
        if emitted != emitted_again:
            events = (", ".join(emitted), ", ".join(emitted_again))
        if channels or events:
            return Rewound(row, later, channels, events, suspects)
    return None


def _others(
    names: Sequence[str], values: Sequence[Value], values_again: Sequence[Value]
) -> tuple[tuple[str, str, str], ...]:
    """The channels of a row that differ, with both values."""
    # By their text: 0.0 and -0.0, and 1 and True, are not the same, and NaN is.
    return tuple(
        (name, repr(value), repr(again))
        for name, value, again in zip(names, values, values_again, strict=True)
        if repr(value) != repr(again)
    )


def suspects_of(before: dict[str, str], after: dict[str, str]) -> tuple[str, ...]:
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
