"""A search for inputs that reach what a scenario's own script does not: every state and rule, a broken claim.

Guided, and the same for a seed: what reached something new is gone on from, from its saved state where the subject saves; presses
are placed where something changes, in the ways that hands have; and rows that come nearer to the guard of a rule that was not
reached yet are gone on from first.
"""

from __future__ import annotations

import math
import time
import uuid
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from larktally.auditing.finding import Finding
from larktally.auditing.looking import oddities
from larktally.claims.checking import rows_where
from larktally.claims.claim import claim
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript
from larktally.language.ticks import clocks_of
from larktally.names import unknown_name
from larktally.report import Block, Line, Report, Table, Tone
from larktally.runs.hands import Hands
from larktally.runs.many import Workers, many_hands
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.branch_rows import Branch, lead
from larktally.search.guided import GuidedSearch, Plan
from larktally.search.judged_runs import MOST_ODD, JudgedRuns
from larktally.search.shrink import shrink
from larktally.search.targets import Nearest, Target
from larktally.textfmt import plural
from larktally.traces.trace import Trace

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["Explored", "Reached", "begun", "explore", "go_on"]

# Runs that are planned together, whoever makes them: what they find is known to the next.
ROUND = 16
# Of runs that reached nothing new, this share is judged by the claims all the same.
JUDGED_EVERY = 4
# To make a found run small, so many runs at most, and so many rows in all.
MOST_SHRINKS, SHRINK_ROWS = 300, 40_000


@dataclass(frozen=True, slots=True, eq=False)
class Reached:
    """Something that a run reached: a target, a claim that it broke, a failure of the subject, or a finding of the audit; in
    which row, and the scenario that does it, made small as far as a claim says what it is."""

    target: Target | None
    claim: str
    row: int
    scenario: Scenario
    failure: str = ""
    finding: Finding | None = None

    @property
    def what(self) -> str:
        """What it reaches, in words."""
        if self.target is not None:
            return str(self.target)
        if self.failure:
            return f"the subject fails: {self.failure}"
        if self.finding is not None:
            return f"odd: {self.finding.check}: {self.finding}"
        return f"breaks {self.claim!r}"


@dataclass(frozen=True, slots=True, eq=False)
class Explored:
    """What a search came to: what was reached by new inputs, what the scenario's own script reaches, what stayed out of reach,
    with the nearest that was come to it, and how many runs and rows it took. `left_alone` are the actions that were not pressed,
    since they stop a clock."""

    scenario: Scenario
    found: tuple[Reached, ...]
    known: tuple[Target, ...]
    missed: tuple[tuple[Target, Nearest | None], ...]
    runs: int
    rows: int
    left_alone: tuple[str, ...] = ()
    #: Of labels that are no machine's: each change that was seen, how often, and in which row first.
    changes: Mapping[Target, tuple[int, int]] = field(default_factory=dict)

    @property
    def broken(self) -> tuple[Reached, ...]:
        """The claims that were broken."""
        return tuple(one for one in self.found if one.claim)

    @property
    def passed(self) -> bool:
        """Whether no claim was broken, the subject failed nowhere and nothing was odd; what was out of reach fails nothing."""
        return all(one.target is not None for one in self.found)

    def plain(self) -> dict[str, Any]:
        """The same as plain data, for JSON."""
        found = []
        for one in self.found:
            spans = [msgspec.to_builtins(span) for span in one.scenario.inputs.spans]
            found.append({"what": one.what, "row": one.row, "frames": int(one.scenario.frames), "script": spans})
        missed = []
        for target, near in self.missed:
            missed.append(
                {"what": str(target), "nearest": near and near.row, "missing": list(near.missing) if near else []}
            )
        return {
            "passed": self.passed,
            "runs": self.runs,
            "rows": self.rows,
            "found": found,
            "known": [str(one) for one in self.known],
            "missed": missed,
            "left_alone": list(self.left_alone),
            "changes": [
                {"channel": one.about, "from": one.before, "to": one.name, "times": times, "first_row": row}
                for one, (times, row) in self.changes.items()
            ],
        }

    def report(self) -> Report:
        """What was reached, by how many presses; what was not, and what was missing."""
        return Report.of(self._blocks())

    def _blocks(self) -> Iterator[Block]:
        tried = f"{plural(self.runs, 'run')}, {self.rows} new rows"
        yield Line(f"{self.scenario.title}: {tried}; its own script reaches {len(self.known)}")
        for one in self.found:
            presses = plural(len(one.scenario.inputs.spans), "press", "presses")
            tone: Tone = "good"
            if one.target is None:
                tone = "bad"
            told = f"{one.what} in row {one.row}"
            if one.finding is not None:
                # It says its rows itself.
                told = one.what
            yield Line(f"{told}, by {presses}", tone=tone)
        for target, near in self.missed:
            told = "never"
            if near is not None:
                told = str(near)
            elif target.is_rule:
                told = "its machine was never in a state that it starts from"
            yield Line(f"out of reach: {target}; {told}", tone="odd")
        if self.changes:
            table = []
            for target, (times, row) in self.changes.items():
                table.append([target.about, f"{target.before} → {target.name}", str(times), str(row)])
            yield Table(("changes seen of", "", "times", "first in row"), table, left=frozenset((0, 1)))
        if self.missed and self.left_alone:
            names = ",".join(self.left_alone)
            yield Line(
                f"not pressed, since it stops a clock: {names}; to press it too, name all: --actions {names},…",
                tone="quiet",
            )
        if self.missed:
            return
        if any(one.is_rule for one in (*self.known, *(one.target for one in self.found if one.target is not None))):
            yield Line("every state and rule is reached", tone="good")
        else:
            yield Line(
                "no machines are known here: values of labels, claims and failures were looked for", tone="quiet"
            )

    def __str__(self) -> str:
        return self.report().text()


def explore(
    scenario: Scenario,
    *,
    runs: int = 500,
    seconds: float | None = None,
    frames: int | None = None,
    actions: Collection[str] = (),
    seed: int = 0,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Explored:
    """Looks for inputs that reach the states and rules of a scenario's machines that its own script does not, values of its
    labels, breaches of its claims, and what an audit is sure of.

    At most so many `runs`, or `seconds`, of at most `frames` each (by default what the scenario has, and 600 at the least).
    `actions` are those that may be pressed, by default all on/off ones; one that pauses only where a clock stands already,
    unless it is named. The same `seed` finds the same, whoever does the runs. Each thing found is made small. Raises
    LarkTallyError for an action that there is not, and for nothing to press.
    """
    search = begun(scenario, frames, actions, seed)
    judged = JudgedRuns(scenario, scenario.claims, JUDGED_EVERY, audited=True)
    with many_hands(workers, executor) as hands:
        go_on(search, judged, runs, seconds, hands, on_progress, lambda: _goes_on(search, judged))
    return _explored(scenario, search, judged)


def begun(scenario: Scenario, frames: int | None, actions: Collection[str], seed: int) -> GuidedSearch:
    """A search that knows what a scenario's own script reaches; raises LarkTallyError for an action that there is not, and for
    nothing to press."""
    plain = scenario.changed(until=None, claims=(), measures=(), windows=())
    base = record(plain)
    if frames is not None and frames < base.frames:
        # What its own script does later is not looked at.
        base = record(plain.changed(inputs=InputScript.from_columns(base.inputs).keep(1, frames), frames=frames))
    pressed = _actions(base, actions)
    pauses: tuple[str, ...] = ()
    if not actions:
        pauses = tuple(_pauses(plain, base, pressed))
    longest = frames or max(int(scenario.frames), 600)
    search = GuidedSearch(
        plain.changed(frames=longest),
        base,
        tuple(one for one in pressed if one not in pauses) or pressed,
        pauses,
        longest,
        np.random.default_rng(seed),
    )
    search.begin()
    return search


def go_on(
    search: GuidedSearch,
    judged: JudgedRuns,
    runs: int,
    seconds: float | None,
    hands: Hands,
    on_progress: Callable[[int, int], Any] | None,
    wanted: Callable[[], bool],
) -> None:
    """So many runs of a search, or for so many seconds, for as long as anything is wanted; each told to it, and judged."""
    token, ends = uuid.uuid4().hex, time.monotonic() + (seconds or math.inf)
    while search.runs < runs and time.monotonic() < ends and wanted():
        plans = search.plans(min(ROUND, runs - search.runs))
        branches = [_branch(plan) for plan in plans]
        for n, led in enumerate(hands.each(partial(lead, token, search.scenario), branches)):
            new, last = search.told(plans[n], led)
            judged.judge(plans[n].inputs, last, new, search.runs)
            if on_progress is not None:
                on_progress(min(search.runs, runs), runs)


def _branch(plan: Plan) -> Branch:
    node = plan.node
    return Branch(node.own or node.saved, plan.inputs, node.row, plan.stop)


def _actions(base: Trace, wanted: Collection[str]) -> tuple[str, ...]:
    for one in wanted:
        if one not in base.header.actions:
            raise LarkTallyError(unknown_name("action", one, base.header.actions, "this subject"))
    found = tuple(wanted) or tuple(one for one in base.header.actions if one not in base.header.analog)
    if not found:
        raise LarkTallyError("explore needs on/off actions to press, and this subject declares none")
    return found


def _pauses(scenario: Scenario, base: Trace, actions: Sequence[str]) -> Iterator[str]:
    """The actions after whose press a clock stands that ticked before."""
    clocks = [one for one in clocks_of(base.channels) if base[f"{one}.ticking"][0]]
    if not clocks:
        return
    for action in actions:
        tried = record(scenario.changed(frames=8, inputs=InputScript().press(action, 3)))
        if any(not tried[f"{clock}.ticking"][-1] for clock in clocks):
            yield action


def _goes_on(search: GuidedSearch, judged: JudgedRuns) -> bool:
    """Whether there is anything left to look for."""
    if any(target not in search.found for target in search.wanted) or search.labels or judged.any_left:
        return True
    # Where nothing has a name to be reached, what is odd is all there is to look for.
    return not search.wanted and not search.known and len(judged.odd) < MOST_ODD


def _explored(scenario: Scenario, search: GuidedSearch, judged: JudgedRuns) -> Explored:
    found = []
    for name, made in judged.broken.items():
        smaller = shrink(made, name, _shrinks(int(made.frames)))
        row = int(smaller.scenario.frames)
        breaches = smaller.result.breaches
        if breaches and breaches[0].row is not None:
            row = breaches[0].row
        found.append(Reached(None, name, row, smaller.scenario))
    for finding, made in judged.odd.values():
        found.append(_odd(finding, made))
    small: list[Reached] = []
    # Rules first: who takes the rule into a state reaches the state.
    for target in sorted(search.found, key=lambda one: not one.is_rule):
        row, inputs = search.found[target]
        small.append(_on_the_way(search.scenario, target, small) or _made_small(search.scenario, target, row, inputs))
    for told, (row, inputs) in search.failures.items():
        found.append(Reached(None, "", row, scenario.changed(inputs=inputs, frames=row, until=None), told))
    missed = []
    for target, (near, _) in search.wanted.items():
        if target not in search.found:
            missed.append((target, near))
    every = (*found, *sorted(small, key=lambda one: one.row))
    return Explored(
        scenario, every, tuple(search.known), tuple(missed), search.runs, search.rows, search.pauses, search.changes
    )


def _odd(finding: Finding, made: Scenario) -> Reached:
    """A finding in the smallest run in which the claim that would pin it is broken; where there is none, as it was found."""
    made = made.changed(claims=(), measures=())
    if finding.claim:
        pinned = made.changed(claims=[claim(finding.identity, finding.claim)])
        try:
            made = shrink(pinned, finding.identity, _shrinks(int(made.frames))).scenario
        except LarkTallyError:
            # The claim is a pattern to fill in, or is not about these rows.
            pass
    for one in oddities(record(made), made):
        # In the smaller run it is in another row.
        if one.identity == finding.identity:
            finding = one
    row = int(made.frames)
    if finding.rows:
        row = finding.rows[0]
    return Reached(None, "", row, made, finding=finding)


def _shrinks(frames: int) -> int:
    """How many runs may be made of so many frames, to find a smaller one."""
    return max(min(MOST_SHRINKS, SHRINK_ROWS // max(frames, 1)), 12)


def _on_the_way(scenario: Scenario, target: Target, small: Sequence[Reached]) -> Reached | None:
    """A run that was made small already and reaches this too, in its last row."""
    for one in reversed(small[-3:]):
        last = one.row
        if one.target is not None and one.target.about == target.about:
            trace = record(one.scenario.changed(claims=()))
            if rows_where(trace, target.condition).tolist()[:1] == [last]:
                return Reached(target, "", last, _reaching(one.scenario, target))
    return None


def _made_small(scenario: Scenario, target: Target, row: int, inputs: InputScript) -> Reached:
    """The shortest script that was found to reach it: a claim that it never does is broken by it, and by less."""
    never = claim("out of reach", target.claim)
    made = scenario.changed(inputs=inputs.keep(1, max(row, 1)), frames=max(row, 1), claims=[never])
    try:
        made = shrink(made, never.name, _shrinks(row)).scenario
    except LarkTallyError:
        # It hangs on more than its inputs, such as the process: as it was found, it is told.
        pass
    return Reached(target, "", int(made.frames), _reaching(made, target))


def _reaching(scenario: Scenario, target: Target) -> Scenario:
    return scenario.changed(claims=[claim(f"reaches {target}", f"eventually({target.condition})")])
