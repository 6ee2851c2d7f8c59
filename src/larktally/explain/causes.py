"""What made a row what it is: the decisions of the machines, and who wrote what, in order.

The recording is run again up to the row, and that one step is watched.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec
import numpy as np
from msgspec.structs import replace

from larktally.claims.verdicts import Result, Tally
from larktally.comparing.divergence import Divergence, part_of
from larktally.errors import LarkTallyError
from larktally.event import Event
from larktally.explain.awaited import Awaited, awaited_of
from larktally.explain.decisions import Watched, Why
from larktally.explain.from_outside import SeenOutside, seen_outside
from larktally.explain.lines import written_by_lines
from larktally.explain.noting_writers import Notes
from larktally.explain.staying import held_by
from larktally.explain.writes import Write
from larktally.inputs.view import HELD_FROM
from larktally.language.tree import channels_named, names_and_texts
from larktally.names import matching, one_or_many
from larktally.parts.machine import Machine
from larktally.parts.sim import Sim
from larktally.report import Report
from larktally.runs.displayed import Displayed
from larktally.runs.live import Live, run_to
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.subjects.programs.program import Program
from larktally.subjects.protocol import SubjectLike
from larktally.textfmt import aligned, shown_value
from larktally.timing import seconds_at
from larktally.traces.trace import Trace

__all__ = [
    "Causes",
    "causes",
    "causes_of_breaches",
    "causes_in",
    "causes_of_divergence",
    "channels_read",
    "lines_by_claim",
]

# A first screen: more claims than these are mostly broken by the same rows.
MOST_EXPLAINED, MOST_TOLD = 3, 12
NOTHING = "no rule decided or set anything; what else moved is told of channels that are asked for: --only PATTERN"


class Stayed(msgspec.Struct, frozen=True):
    """A channel that nothing set in a row: the value it kept, what holds it there ("" where nothing but that nobody set it),
    the row in which it changed last (0: never), and in words who set it then."""

    channel: str
    value: str
    held_by: str
    since: int
    set_by: str = ""

    def __str__(self) -> str:
        why = f": {self.held_by}" if self.held_by else ""
        return f"{self.channel} stayed {self.value}{why}; {self.set_by}"


class Causes(msgspec.Struct, frozen=True):
    """What made row `row`: what each machine asked about decided, and each write of the channels asked about, in order.

    `held` are the actions held in it, `events` what was emitted; `differing` the channels that this run has otherwise than
    the recording: then it is another run that is explained. `note` says why nothing could be found out, where it could not;
    `still` are the channels asked about that nothing set in the row: what holds them, and who set them last.
    """

    row: int
    seconds: float
    held: tuple[str, ...]
    decisions: tuple[Why, ...]
    written: tuple[Write, ...]
    events: tuple[str, ...]
    differing: tuple[str, ...] = ()
    note: str = ""
    still: tuple[Stayed, ...] = ()
    #: Of a program in another language: what is seen from outside.
    outside: tuple[SeenOutside, ...] = ()

    @property
    def stayed(self) -> tuple[str, ...]:
        """A line for each of `still`."""
        return tuple(map(str, self.still))

    def lines(self, most: int | None = None) -> list[str]:
        """The decisions and the writes, a line each; of the writes no more than `most`."""
        lines = []
        if self.note:
            lines = [self.note]
        lines += [line for why in self.decisions for line in str(why).removeprefix(f"row {self.row}, ").splitlines()]
        table = []
        for one in self.written[:most]:
            table.append([one.phase, one.part, one.change, one.where])
        if table:
            lines += aligned([["phase", "by", "set", "at, or why"], *table], left=True)
        left = len(self.written) - len(table)
        lines += self.stayed[:most]
        lines += [one.text for one in self.outside[:most]]
        return lines + ([f"and {left} more: larktally why TRACE FILE.py {self.row}"] if left else [])

    def told(self) -> str:
        """The first of these lines, as they stand below a divergence."""
        return "\n".join(["  what made it so now:", *(f"    {line}" for line in self.lines(MOST_TOLD))])

    def report(self) -> Report:
        """The row, what was decided and set in it, and what was emitted."""
        lines = [f"row {self.row} ({self.seconds:.3f} s); held: {', '.join(self.held) or 'nothing'}"]
        if self.differing:
            lines.append(f"  another run than the recording: {', '.join(self.differing[:6])} came out otherwise")
        lines += [f"  {line}" for line in self.lines() or [NOTHING]]
        return Report.of_lines([*lines, f"  events: {', '.join(self.events) or 'none'}"])

    def __str__(self) -> str:
        return self.report().text()

    def plain(self) -> dict[str, Any]:
        """The causes as plain data, for JSON."""
        return {
            "row": self.row,
            "held": list(self.held),
            "machines": [why.plain() for why in self.decisions],
            "written": [one.plain() for one in self.written],
            "events": list(self.events),
            "differing": list(self.differing),
            "note": self.note,
            "stayed": list(self.stayed),
            "outside": [one._asdict() for one in self.outside],
        }


def causes(trace: Trace, scenario: Scenario | SubjectLike, row: int, only: str | Iterable[str] | None = None) -> Causes:
    """What made a row of a recording: the machines' decisions with what each guard read, and who set what, in order.

    Of a sim: `only` are patterns of channels: the machines among them, and every write of the others. Without it all
    machines are told, and of the other channels what the model's own functions set and what a body's motion changed. Of an
    object of a user's own: each attribute that was set, and the line that did it; `only` keeps those called like the
    channels, where there are any. Of a program in another language, what is seen from outside: what it noted, what changed, and
    the inputs and events before it. Raises LarkTallyError for row 0, which no step made, and for a row or a channel that is not
    there.
    """
    if row == 0:
        raise LarkTallyError("row 0 is the state after reset, which no step made; ask for row 1 or later")
    trace.check_row(row)
    names = None
    if only is not None:
        names = matching(trace.channels, one_or_many(only), "only=")
    return causes_in(trace, scenario, {row: names})[row]


def causes_in(
    trace: Trace, scenario: Scenario | SubjectLike, asked: Mapping[int, Iterable[str] | None]
) -> dict[int, Causes]:
    """The causes of several rows from row 1 on, each with its channels (None for what `causes` tells by itself), found in
    one run."""
    if isinstance(scenario, Scenario) and isinstance(scenario.subject, Displayed):
        return _as_displayed(trace, scenario.subject, asked)
    rows = sorted(asked)
    # Rows in order, so that one run serves them all.
    live = run_to(trace, scenario, rows[0] - 1)
    found: dict[int, Causes] = {}
    for row in rows:
        found[row] = _watched_step(trace, live.to(row - 1), asked[row])
        if isinstance(live.subject, Program):
            found[row] = replace(found[row], outside=seen_outside(trace, live.subject, row, asked[row]))
        if isinstance(live.subject, Sim):
            found[row] = replace(found[row], still=_still(live.sim, found[row], asked[row] or (), trace))
    return _with_those_who_set_them(trace, scenario, found)


def _as_displayed(trace: Trace, shown: Displayed, asked: Mapping[int, Iterable[str] | None]) -> dict[int, Causes]:
    """The causes of rows that a viewer saw under late inputs: of the step that made each, and not of going back."""
    found = {}
    for row, names in asked.items():
        guessed = shown.guessed(trace, row)
        again = record(guessed.scenario)
        own = None
        if names is not None:
            own = [name for name in names if name in again.columns]
        found[row] = replace(causes_in(again, guessed.scenario, {row: own})[row], note=guessed.told)
    return found


def _still(sim: Sim, found: Causes, names: Iterable[str], trace: Trace) -> tuple[Stayed, ...]:
    """The channels asked about that nothing set in a row, and that stayed as they were in the row before."""
    told = {one.channel for one in found.written}
    told |= {why.machine for why in found.decisions if why.taken}
    stayed = []
    for name in dict.fromkeys(names):
        if name not in told:
            since = _last_change(trace, name, found.row)
            if since < found.row:
                value = shown_value(trace.columns[name].at(found.row))
                stayed.append(Stayed(name, value, held_by(sim, name), since))
    return tuple(stayed)


def _last_change(trace: Trace, channel: str, row: int) -> int:
    """The last row up to one in which a channel came out other than in the row before; 0 where it never did."""
    values = trace.columns[channel].stored[: row + 1]
    with np.errstate(invalid="ignore"):
        changed = np.flatnonzero(
            (values[1:] != values[:-1]) & ((values[1:] == values[1:]) | (values[:-1] == values[:-1]))
        )
    return int(changed[-1]) + 1 if len(changed) else 0


def _with_those_who_set_them(
    trace: Trace, scenario: Scenario | SubjectLike, found: Mapping[int, Causes]
) -> dict[int, Causes]:
    """The same causes with, of each channel that stayed, who set it last: found in one run more, up to the latest of them."""
    asked: dict[int, list[str]] = {}
    for of_row in found.values():
        for one in of_row.still:
            if one.since:
                asked.setdefault(one.since, []).append(one.channel)
    setters: dict[int, Causes] = {}
    if asked:
        live = run_to(trace, scenario, min(asked) - 1)
        for last in sorted(asked):
            setters[last] = _watched_step(trace, live.to(last - 1), asked[last])
    complete = {}
    for row, of_row in found.items():
        stayed = []
        for one in of_row.still:
            stayed.append(replace(one, set_by=_set_last(setters.get(one.since), one.channel, one.since)))
        complete[row] = replace(of_row, still=tuple(stayed))
    return complete


def _set_last(setter: Causes | None, channel: str, row: int) -> str:
    """Who set a channel last, in words."""
    if setter is None:
        return "it is so since row 0"
    for why in setter.decisions:
        if channel in (why.machine, f"{why.machine}.age") and why.taken:
            by = ", ".join(why.taken)
            places = [one.place for d in why.decisions for one in d.considered if one.transition in why.taken]
            return f"set last in row {row} by {why.machine}: {', '.join([by, *filter(None, places), *why.asked])}"
    writes = [one for one in setter.written if one.channel == channel]
    if not writes:
        return f"it changed last in row {row}"
    one = writes[-1]
    return f"set last in row {row} in {one.phase} by {one.part}, {one.where}"


def causes_of_breaches(trace: Trace, scenario: Scenario | SubjectLike, tally: Tally) -> dict[str, Causes]:
    """For the first claims that are broken in a row: what made the channels that they read what they are there, by the
    claim's name."""
    wanted: dict[str, tuple[int, list[str]]] = {}
    waiting: dict[str, Awaited] = {}
    sim = bool(trace.header.order)
    for result in tally.failed:
        if result.breaches:
            row = result.breaches[0].row
        else:
            row = None
        if not row or len(wanted) == MOST_EXPLAINED:
            continue
        names, awaited = channels_read(result, trace, row), awaited_of(result, trace)
        if names or not sim or awaited is not None:
            wanted[result.name] = (row, names)
        if awaited is not None:
            waiting[result.name] = awaited
    if not wanted:
        return {}
    asked: dict[int, list[str] | None] = {}
    for row, names in wanted.values():
        if trace.header.program:
            asked[row] = [*(asked.get(row) or ()), *(names or trace.channels)]
        elif not sim:
            asked[row] = None
        else:
            # Two claims that break in one row are answered by one watched step.
            asked[row] = [*(asked.get(row) or ()), *names]
    for awaited in waiting.values():
        for row in awaited.rows:
            asked[row] = [*(asked.get(row) or ()), *awaited.machines]
    found = _tried(trace, scenario, asked)
    decided = {row: one.decisions for row, one in found.items()}
    for name, awaited in waiting.items():
        row = awaited.row_that_tells(decided)
        wanted[name] = (row, [*awaited.machines])
        if not found[row].note:
            found[row] = replace(found[row], note=f"what was awaited was decided in row {row}:")
    return {name: _narrowed(found[row], names, sim) for name, (row, names) in wanted.items()}


def _tried(
    trace: Trace, scenario: Scenario | SubjectLike, asked: Mapping[int, Iterable[str] | None]
) -> dict[int, Causes]:
    """The causes of several rows; a note in their place where the subject does not run again as it was recorded."""
    try:
        return causes_in(trace, scenario, asked)
    except LarkTallyError as error:
        # A story that cannot say why still says what: the verdict does not hang on the second run.
        note = f"not found out: run again, it went otherwise: {error}"
        found: dict[int, Causes] = {}
        for row in asked:
            found[row] = Causes(row, 0.0, (), (), (), (), (), note)
        return found


def _narrowed(found: Causes, names: list[str], sim: bool) -> Causes:
    """The causes of some channels only."""
    if not sim:
        outside = tuple(one for one in found.outside if not one.channel or one.channel in names or one.is_note)
        return replace(found, written=tuple(_about(list(found.written), names)), outside=outside)
    decisions = tuple(one for one in found.decisions if {one.machine, f"{one.machine}.age"} & set(names))
    written = tuple(one for one in found.written if one.channel in names)
    still = tuple(one for one in found.still if one.channel in names)
    return replace(found, decisions=decisions, written=written, still=still)


def lines_by_claim(causes: Mapping[str, Causes]) -> dict[str, list[str]]:
    """What a story says of causes, by the claim's name."""
    listed: dict[str, list[str]] = {}
    for name, found in causes.items():
        listed[name] = found.lines(MOST_TOLD)
    return listed


def causes_of_divergence(replayed: Trace, scenario: Scenario | SubjectLike, found: Divergence | None) -> Causes | None:
    """What made the channels that diverged what they are now; None where no channel did."""
    if found is None:
        return None
    names = []
    for name in (found.what, *found.also):
        if name in replayed.columns and not name.startswith("seen:"):
            names.append(name)
    if not names or not 0 < found.row < replayed.rows:
        return None
    return _tried(replayed, scenario, {found.row: names})[found.row]


def channels_read(result: Result, trace: Trace, row: int) -> list[str]:
    """The channels that a claim reads, and those of the parts that emitted one of its events in a row."""
    read, quoted = names_and_texts([result.claim.tree])
    speakers = set()
    for event in trace.events.between(row, row):
        if event.name in quoted:
            speakers.add(event.source)
    read = channels_named(read, quoted, trace.channels)
    found: list[str] = []
    for name in trace.channels:
        if name in read or part_of(trace, name) in speakers:
            found.append(name)
    return found


def _watched_step(trace: Trace, live: Live, only: Iterable[str] | None) -> Causes:
    """One step, watched: part by part in a sim, line by line in an object of a user's own."""
    if isinstance(live.subject, Sim):
        emitted, decided, written = _step_of_sim(live, only)
    elif isinstance(live.subject, Program):
        emitted, decided, written = live.step(), [], []
    else:
        emitted, written = written_by_lines(live.subject, live.row + 1, live.step)
        decided, written = [], _about(written, only)
    row, values, recorded = live.row, live.values, trace.row(live.row)
    return Causes(
        row,
        seconds_at(row, live.scenario.rate),
        tuple(name for name, column in trace.inputs.items() if abs(column[row]) >= HELD_FROM),
        tuple(decided),
        tuple(written),
        tuple(_told(event) for event in emitted),
        tuple(name for name, value in recorded.items() if not _alike(values.get(name), value)),
    )


def _step_of_sim(live: Live, only: Iterable[str] | None) -> tuple[list[Event], list[Why], list[Write]]:
    """One step of a sim: its events, what the machines asked about decided, and the writes that are worth telling."""
    sim = live.sim
    # In the order in which they run, which is the order in which a reader wants them.
    machines = []
    for part in sim.parts.values():
        if isinstance(part, Machine):
            machines.append(part)
    names = set(sim.bindings if only is None else only)
    of_machines: set[str] = set()
    watched = []
    for part in machines:
        own = {part.name, f"{part.name}.age"}
        of_machines |= own
        if names & own:
            watched.append(Watched(part))
    # A machine's state is told by its decision, which says more than that it was set.
    notes = Notes(sim, [name for name in sim.bindings if name in names - of_machines])
    emitted = live.step()
    notes.end()
    written = []
    for one in notes.found:
        if one.by_model or _worth_telling(one, only is None):
            written.append(one)
    return emitted, [one.why(live.row, emitted) for one in watched], written


def _about(written: list[Write], only: Iterable[str] | None) -> list[Write]:
    """The writes of attributes that are called like the channels asked for; all of them where none is."""
    wanted = set()
    for name in only or ():
        wanted.add(name.rpartition(".")[2])
    # An object's attributes need not be called like its channels: then all of them are told.
    return [one for one in written if re.findall(r"\w+", one.channel)[-1] in wanted] or written


def _alike(value: Any, recorded: Any) -> bool:
    # NaN is like NaN here: both runs say that there is nothing.
    return bool(value == recorded) or (value != value and recorded != recorded)


def _told(event: Event) -> str:
    """An event without what the decisions tell of it."""
    data = event.data
    if event.name == "changed":
        data = {}
    if event.source:
        source = f" from {event.source}"
    else:
        source = ""
    return event.name + source + "".join(f" {key}={shown_value(value)}" for key, value in data.items())


def _worth_telling(written: Write, unasked: bool) -> bool:
    """Whether what a part's own step set is told: where it changed something, and unasked only where it says why too."""
    changed, says_why = not _alike(written.before, written.after), bool(written.reason)
    # A part's own motion that sets what was there already sets nothing.
    if unasked:
        return changed and says_why
    return changed
