"""Coverage: which states and transitions of a machine some runs visited, how often, for how long, and which never."""

from __future__ import annotations

import itertools
import statistics
from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec
import numpy as np
from msgspec.structs import asdict

from larktally.errors import LarkTallyError
from larktally.explain.decisions import machine_of
from larktally.explain.observed_labels import change_name, label_channel, observed_changes, observed_outline
from larktally.names import unknown_name
from larktally.parts.transition import RuleTrial
from larktally.report import Block, Line, Report, Table, Tone
from larktally.runs.live import Live
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import SubjectLike
from larktally.textfmt import plural
from larktally.traces.outline import ANY, BACK, STAY, Outline
from larktally.traces.trace import Trace

__all__ = ["Coverage", "StateCover", "RuleCover", "coverage", "outline_of"]


class StateCover(msgspec.Struct, frozen=True):
    """A state: how often it was entered (its start counts), and the rows of its stays: least, median, most."""

    state: str
    visits: int
    least: int
    median: float
    most: int


class RuleCover(msgspec.Struct, frozen=True):
    """A transition: how often it was taken, and, where the runs were made again, in how many rows it was due and held
    while an earlier one was taken; of a change that was only observed, the row in which it was seen first."""

    rule: str
    sources: tuple[str, ...]
    target: str
    taken: int
    outranked: int | None
    first_row: int | None = None


class Coverage(msgspec.Struct, frozen=True):
    """What some runs visited of a machine. `pairs` are the changes (from, to) made and `arrows` how often each rule was taken
    out of each state, (rule, from); `unseen_pairs` are the changes (from, to) that a rule allows and no run made.

    `always_outranked` are rules that were never taken although they were ready, because an earlier one always was too;
    it takes the scenarios, which are run again.
    """

    machine: str
    runs: int
    rows: int
    states: tuple[StateCover, ...]
    rules: tuple[RuleCover, ...]
    pairs: Mapping[tuple[str, str], int]
    arrows: Mapping[tuple[str, str], int]
    unseen_pairs: tuple[tuple[str, str], ...]

    def taken_from(self, rule: str, source: str) -> int:
        """How often a rule was taken out of a state or one inside it; `lt.ANY` is any state."""
        inside = source + "/"
        return sum(
            times
            for (name, leaf), times in self.arrows.items()
            if name == rule and (source == ANY or leaf == source or leaf.startswith(inside))
        )

    @property
    def unvisited(self) -> tuple[str, ...]:
        """The states that no run was in."""
        found = []
        for one in self.states:
            if not one.visits:
                found.append(one.state)
        return tuple(found)

    @property
    def untaken(self) -> tuple[str, ...]:
        """The transitions that no run took."""
        found = []
        for one in self.rules:
            if not one.taken:
                found.append(one.rule)
        return tuple(found)

    @property
    def always_outranked(self) -> tuple[str, ...]:
        """The transitions that were ready, and never taken."""
        found = []
        for one in self.rules:
            if not one.taken and one.outranked:
                found.append(one.rule)
        return tuple(found)

    def plain(self) -> dict[str, Any]:
        """All of it as plain data, for JSON."""
        return {
            "machine": self.machine,
            "runs": self.runs,
            "rows": self.rows,
            "states": [asdict(one) for one in self.states],
            "transitions": [asdict(one) for one in self.rules],
            "unvisited": self.unvisited,
            "untaken": self.untaken,
            "always_outranked": self.always_outranked,
            "pairs": [{"from": a, "to": b, "times": n} for (a, b), n in self.pairs.items()],
            "unseen_pairs": [{"from": a, "to": b} for a, b in self.unseen_pairs],
        }

    def report(self) -> Report:
        """States and rules, how often each was visited, and what never was."""
        seen = len(self.states) - len(self.unvisited), len(self.rules) - len(self.untaken)
        size = f"{seen[0]} of {len(self.states)} states, {seen[1]} of {len(self.rules)} transitions"
        if any(one.first_row is not None for one in self.rules):
            size = f"{seen[0]} of {len(self.states)} labels seen, {plural(len(self.rules), 'change')}"
        blocks: list[Block] = [Line(f"{self.machine} over {plural(self.runs, 'run')}, {self.rows} rows: {size}")]
        blocks += [self._states_table(), self._rules_table()]
        if self.always_outranked:
            names = ", ".join(self.always_outranked)
            blocks.append(Line(f"ready but never taken, always out-ranked: {names}", tone="odd", indent=1))
        if self.unseen_pairs:
            never = ", ".join(f"{a} → {b}" for a, b in self.unseen_pairs)
            blocks.append(Line(f"never seen: {never}", indent=1))
        return Report.of(blocks)

    def _states_table(self) -> Table:
        lines = []
        for one in self.states:
            lines.append([one.state, str(one.visits), *_stay(one)])
        tones: dict[int, Tone] = {}
        for n, one in enumerate(self.states):
            if not one.visits:
                tones[n] = "odd"
        return Table(["state", "visits", "least", "median", "most rows"], lines, frozenset({0}), tones, indent=1)

    def _rules_table(self) -> Table:
        if any(one.first_row is not None for one in self.rules):
            seen = [[one.rule, str(one.taken), str(one.first_row)] for one in self.rules]
            return Table(["change", "times", "first in row"], seen, frozenset({0}), {}, indent=1)
        lines = []
        for one in self.rules:
            if one.outranked is None:
                outranked = ""
            else:
                outranked = str(one.outranked)
            lines.append([one.rule, one.target, str(one.taken), outranked])
        tones: dict[int, Tone] = {n: "odd" for n, one in enumerate(self.rules) if not one.taken}
        head = ["transition", "to", "taken", "ready but out-ranked"]
        return Table(head, lines, frozenset({0, 1}), tones, indent=1)

    def __str__(self) -> str:
        return self.report().text()


def coverage(
    traces: Trace | Iterable[Trace], machine: str = "", scenario: Scenario | SubjectLike | None = None
) -> Coverage:
    """What one trace or many visited of a machine, or of a label channel of what is no sim: then the changes that were seen stand
    in place of its rules, and the labels that are declared and never came are states that no run visited.

    With `scenario` every trace is run again, to count rules that were ready and out-ranked. `machine` may be left out
    where there is one. Raises LarkTallyError for no traces, traces of different machines, or a name that is none.
    """
    if isinstance(traces, Trace):
        runs = [traces]
    else:
        runs = list(traces)
    if not runs:
        raise LarkTallyError("coverage of no traces")
    channel = label_channel(runs[0], machine)
    if channel:
        outline = observed_outline(runs, channel)
        scenario = None
    else:
        outline = outline_of(runs[0], machine)
    for trace in runs:
        # Counts of two versions added up would be counts of neither.
        if not channel and outline_of(trace, outline.name) != outline:
            raise LarkTallyError(
                f"machine {outline.name!r} is not the same in all traces; cover those of one version together"
            )
    counts = _Counts(outline)
    for trace in runs:
        counts.add(trace, observed_changes(trace, channel) if channel else None)
    outranked = None
    if scenario is not None:
        outranked = _outranked(runs, outline, scenario)
    rules = []
    for rule in outline.rules:
        ready = None if outranked is None else outranked[rule.name]
        taken = sum(times for (name, _), times in counts.arrows.items() if name == rule.name)
        rules.append(RuleCover(rule.name, rule.sources, rule.target, taken, ready, counts.first_rows.get(rule.name)))
    return Coverage(
        outline.name,
        len(runs),
        sum(trace.rows for trace in runs),
        tuple(_state_cover(leaf, counts.visits[leaf], lengths) for leaf, lengths in counts.stays.items()),
        tuple(rules),
        dict(sorted(counts.pairs.items())),
        dict(sorted(counts.arrows.items())),
        tuple(pair for pair in _allowed_pairs(outline) if pair not in counts.pairs),
    )


def outline_of(trace: Trace, machine: str = "") -> Outline:
    """The outline of a trace's machine by name, or of its only one."""
    outlines = trace.header.outlines
    if not outlines:
        raise LarkTallyError("this trace holds no machine: its subject is not a sim, or has none")
    if not machine and len(outlines) == 1:
        return next(iter(outlines.values()))
    if machine not in outlines:
        if not machine:
            raise LarkTallyError(f"say which machine: {', '.join(outlines)}")
        raise LarkTallyError(unknown_name("machine", machine, outlines, "this trace"))
    return outlines[machine]


class _Counts:
    """What runs visited of an outline, added up."""

    def __init__(self, outline: Outline) -> None:
        self.outline = outline
        self.stays: dict[str, list[int]] = {leaf: [] for leaf in outline.leaves}
        self.visits: Counter[str] = Counter()
        self.pairs: Counter[tuple[str, str]] = Counter()
        self.arrows: Counter[tuple[str, str]] = Counter()
        self.first_rows: dict[str, int] = {}

    def add(self, trace: Trace, observed: list[tuple[int, str, str]] | None) -> None:
        """Counts a run: by the changes that were observed of a label, or by what its machine said of itself."""
        name = self.outline.name
        if trace.rows and name in trace.columns:
            self.visits[str(trace.column(name).at(0))] += 1
        rows = []
        if observed is not None:
            for row, before, after in observed:
                self.first_rows.setdefault(change_name(before, after), row)
                self._change(change_name(before, after), before, after)
                rows.append(row)
        else:
            for event in trace.events.named("changed", source=name):
                self._change(event.data["by"], event.data["from"], event.data["to"])
                rows.append(event.row)
            for event in trace.events.named("acted", source=name):
                self.arrows[event.data["by"], event.data["in"]] += 1
        self._measure_stays(trace, rows)

    def _change(self, by: str, before: str, after: str) -> None:
        self.arrows[by, before] += 1
        self.visits[after] += 1
        self.pairs[before, after] += 1

    def _measure_stays(self, trace: Trace, changes: list[int]) -> None:
        name = self.outline.name
        if name not in trace.columns:
            raise LarkTallyError(f"this trace was recorded without the channel {name!r}")
        states = trace.column(name)
        # A stay that the run's end cuts off counts with the rows that it had.
        edges = np.unique([0, *changes, trace.rows])
        for first, last in itertools.pairwise(edges):
            state = states.at(int(first))
            if isinstance(state, str) and state in self.stays:
                self.stays[state].append(int(last - first))


def _outranked(runs: list[Trace], outline: Outline, scenario: Scenario | SubjectLike) -> Counter[str]:
    ready: Counter[str] = Counter()

    def note(considered: list[RuleTrial], taken: str | None) -> None:
        if taken is not None:
            # Only where another was taken: a rule that is ready alone is taken.
            ready.update(one.transition for one in considered if one.due and one.holds and one.transition != taken)

    for trace in runs:
        live = Live(Scenario.from_trace(trace, scenario))
        machine_of(live, outline.name).observe_rules(note)
        live.to(trace.frames)
    return ready


def _allowed_pairs(outline: Outline) -> list[tuple[str, str]]:
    pairs = []
    for leaf in outline.leaves:
        for rule in outline.tried_in(leaf):
            if rule.target not in (BACK, STAY):
                # In the machine's order, not the set's.
                for target in sorted(outline.landing(rule.target), key=outline.leaves.index):
                    pairs.append((leaf, target))
    return list(dict.fromkeys(pairs))


def _state_cover(state: str, entered: int, lengths: list[int]) -> StateCover:
    if not lengths:
        return StateCover(state, entered, 0, 0.0, 0)
    return StateCover(state, entered, min(lengths), float(statistics.median(lengths)), max(lengths))


def _stay(one: StateCover) -> list[str]:
    if one.visits:
        return [str(one.least), f"{one.median:g}", str(one.most)]
    return ["", "", ""]
