"""What made a row what it is: the decisions of the machines, and who wrote what, in order.

The recording is run again up to the row, and that one step is watched.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from larktally.claims import Result, Tally
from larktally.claims.story import aligned, shown_value
from larktally.claims.tree import ChannelRef, Text, walk
from larktally.errors import LarkError
from larktally.inputs.view import HELD_FROM
from larktally.parts.machine import Machine
from larktally.parts.sim import Sim
from larktally.runs.divergence import Divergence, part_of
from larktally.runs.explaining.deciding import Watched, Why
from larktally.runs.explaining.lines import written_by_lines
from larktally.runs.explaining.writers import Notes, Written
from larktally.runs.live import Live, run_to
from larktally.runs.patterns import matching
from larktally.runs.scenario import Scenario
from larktally.subject import Event, SubjectLike
from larktally.timing import seconds_at
from larktally.traces import Trace

__all__ = ["Causes", "causes", "causes_of_breaches", "causes_of_divergence", "lines_by_claim"]

MOST_EXPLAINED, MOST_TOLD = 3, 12


@dataclass(frozen=True, slots=True)
class Causes:
    """What made row `row`: what each machine asked about decided, and each write of the channels asked about, in order.

    `held` are the actions held in it, `events` what was said; `strayed` the channels that this run has otherwise than
    the recording: then it is another run that is explained. `note` says why nothing could be found out, where it could not.
    """

    row: int
    seconds: float
    held: tuple[str, ...]
    decisions: tuple[Why, ...]
    written: tuple[Written, ...]
    events: tuple[str, ...]
    strayed: tuple[str, ...] = ()
    note: str = ""

    def lines(self, most: int | None = None) -> list[str]:
        """The decisions and the writes, a line each; of the writes no more than `most`."""
        lines = [self.note] if self.note else []
        lines += [line for why in self.decisions for line in str(why).removeprefix(f"row {self.row}, ").splitlines()]
        table = [[one.phase, one.part, one.change, one.reason or one.place] for one in self.written[:most]]
        lines += aligned([["phase", "by", "set", "at, or why"], *table], left=True) if table else []
        left = len(self.written) - len(table)
        return lines + ([f"and {left} more: larktally why TRACE FILE.py {self.row}"] if left else [])

    def told(self) -> str:
        """The first of these lines, as they stand below a divergence."""
        return "\n".join(["  what made it so now:", *(f"    {line}" for line in self.lines(MOST_TOLD))])

    def __str__(self) -> str:
        lines = [f"row {self.row} ({self.seconds:.3f} s); held: {', '.join(self.held) or 'nothing'}"]
        if self.strayed:
            lines.append(f"  another run than the recording: {', '.join(self.strayed[:6])} came out otherwise")
        lines += [f"  {line}" for line in self.lines() or ["nothing was decided or set"]]
        return "\n".join([*lines, f"  said: {', '.join(self.events) or 'nothing'}"])

    def plain(self) -> dict[str, Any]:
        """The causes as plain data, for JSON."""
        return {
            "row": self.row,
            "held": list(self.held),
            "machines": [why.plain() for why in self.decisions],
            "written": [one.plain() for one in self.written],
            "events": list(self.events),
            "strayed": list(self.strayed),
            "note": self.note,
        }


def causes(trace: Trace, scenario: Scenario | SubjectLike, row: int, only: str | Iterable[str] | None = None) -> Causes:
    """What made a row of a recording: the machines' decisions with what each guard read, and who set what, in order.

    Of a sim: `only` are patterns of channels: the machines among them, and every write of the others. Without it all
    machines are told, and of the other channels what the model's own functions set and what a body's motion changed. Of an
    object of a user's own: each attribute that was set, and the line that did it; `only` keeps those called like the
    channels, where there are any. Raises LarkError for row 0, which no step made, for a row or a channel that is not
    there, and for a program in another language.
    """
    if row == 0:
        raise LarkError("row 0 is the state after reset, which no step made; ask for row 1 or later")
    trace.check_row(row)
    if trace.header.program:
        raise LarkError("what a program in another language does in a step is not seen from here; ask its own debugger")
    patterns = [only] if isinstance(only, str) else only
    names = None if patterns is None else matching(trace.channels, patterns, "only=")
    return causes_in(trace, scenario, {row: names})[row]


def causes_in(
    trace: Trace, scenario: Scenario | SubjectLike, asked: Mapping[int, Iterable[str] | None]
) -> dict[int, Causes]:
    """The causes of several rows from row 1 on, each with its channels (None for what `causes` tells by itself), found in
    one run."""
    rows = sorted(asked)
    live = run_to(trace, scenario, rows[0] - 1)
    return {row: _watched_step(trace, live.to(row - 1), asked[row]) for row in rows}


def causes_of_breaches(trace: Trace, scenario: Scenario | SubjectLike, tally: Tally) -> dict[str, Causes]:
    """For the first claims that are broken in a row: what made the channels that they read what they are there, by the
    claim's name. Empty where the subject is a program in another language."""
    wanted: dict[str, tuple[int, list[str]]] = {}
    sim = bool(trace.header.order)
    for result in tally.failed:
        row = result.breaches[0].row if result.breaches else None
        names = _channels_read(result, trace, row) if row else []
        if row and (names or not sim) and len(wanted) < MOST_EXPLAINED:
            wanted[result.name] = (row, names)
    if not wanted or trace.header.program:
        return {}
    asked: dict[int, list[str] | None] = {row: None for row, _ in wanted.values()}
    if sim:
        asked = {row: [n for at, names in wanted.values() if at == row for n in names] for row in asked}
    found = _tried(trace, scenario, asked)
    return {name: _narrowed(found[row], names, sim) for name, (row, names) in wanted.items()}


def _tried(
    trace: Trace, scenario: Scenario | SubjectLike, asked: Mapping[int, Iterable[str] | None]
) -> dict[int, Causes]:
    """The causes of several rows; a note in their place where the subject does not run again as it was recorded."""
    try:
        return causes_in(trace, scenario, asked)
    except LarkError as error:
        note = f"not found out: run again, it went otherwise: {error}"
        return {row: Causes(row, 0.0, (), (), (), (), (), note) for row in asked}


def _narrowed(found: Causes, names: list[str], sim: bool) -> Causes:
    """The causes of some channels only."""
    if not sim:
        return replace(found, written=tuple(_about(list(found.written), names)))
    decisions = tuple(one for one in found.decisions if {one.machine, f"{one.machine}.age"} & set(names))
    return replace(found, decisions=decisions, written=tuple(one for one in found.written if one.channel in names))


def lines_by_claim(causes: Mapping[str, Causes]) -> dict[str, list[str]]:
    """What a story says of causes, by the claim's name."""
    return {name: found.lines(MOST_TOLD) for name, found in causes.items()}


def causes_of_divergence(replayed: Trace, scenario: Scenario | SubjectLike, found: Divergence | None) -> Causes | None:
    """What made the channels that diverged what they are now; None where no channel did, or the subject is a
    program in another language."""
    if found is None:
        return None
    names = [name for name in (found.what, *found.also) if name in replayed.columns and not name.startswith("seen:")]
    if not names or not 0 < found.row < replayed.rows or replayed.header.program:
        return None
    return _tried(replayed, scenario, {found.row: names})[found.row]


def _channels_read(result: Result, trace: Trace, row: int) -> list[str]:
    """The channels that a claim reads, and those of the parts that said one of its events in a row."""
    nodes = list(walk(result.claim.tree))
    read = {node.name for node in nodes if isinstance(node, ChannelRef)}
    quoted = {node.value for node in nodes if isinstance(node, Text)}
    speakers = {event.source for event in trace.events.between(row, row) if event.name in quoted}
    return [name for name in trace.channels if name in read or part_of(trace, name) in speakers]


def _watched_step(trace: Trace, live: Live, only: Iterable[str] | None) -> Causes:
    """One step, watched: part by part in a sim, line by line in an object of a user's own."""
    if isinstance(live.subject, Sim):
        said, decided, written = _step_of_sim(live, only)
    else:
        said, written = written_by_lines(live.subject, live.row + 1, live.step)
        decided, written = [], _about(written, only)
    row, values, recorded = live.row, live.values, trace.row(live.row)
    return Causes(
        row,
        seconds_at(row, live.setup.rate),
        tuple(name for name, column in trace.inputs.items() if abs(column[row]) >= HELD_FROM),
        tuple(decided),
        tuple(written),
        tuple(_told(event) for event in said),
        tuple(name for name, value in recorded.items() if not _alike(values.get(name), value)),
    )


def _step_of_sim(live: Live, only: Iterable[str] | None) -> tuple[list[Event], list[Why], list[Written]]:
    """One step of a sim: its events, what the machines asked about decided, and the writes that are worth telling."""
    sim = live.sim
    machines = [part for part in sim.parts.values() if isinstance(part, Machine)]
    of_machines = {name for part in machines for name in (part.name, f"{part.name}.age")}
    names = set(sim.sources if only is None else only)
    watched = [Watched(part) for part in machines if names & {part.name, f"{part.name}.age"}]
    notes = Notes(sim, [name for name in sim.sources if name in names - of_machines])
    said = live.step()
    notes.end()
    written = [one for one in notes.found if one.by_model or _worth_telling(one, only is None)]
    return said, [one.why(live.row, said) for one in watched], written


def _about(written: list[Written], only: Iterable[str] | None) -> list[Written]:
    """The writes of attributes that are called like the channels asked for; all of them where none is."""
    wanted = {name.rpartition(".")[2] for name in only or ()}
    return [one for one in written if re.findall(r"\w+", one.channel)[-1] in wanted] or written


def _alike(value: Any, recorded: Any) -> bool:
    return bool(value == recorded) or (value != value and recorded != recorded)


def _told(event: Event) -> str:
    """An event without what the decisions tell of it."""
    data = {} if event.name == "changed" else event.data
    source = f" from {event.source}" if event.source else ""
    return event.name + source + "".join(f" {key}={shown_value(value)}" for key, value in data.items())


def _worth_telling(written: Written, unasked: bool) -> bool:
    """Whether what a part's own step set is told: where it changed something or says why; unasked only where both."""
    changed, says_why = not _alike(written.before, written.after), bool(written.reason)
    return changed and says_why if unasked else changed or says_why
