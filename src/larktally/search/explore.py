"""A search for inputs that reach what a scenario's own script does not: every state and rule, a broken claim.

Guided, and the same for a seed: what reached something new is gone on from, from its saved state where the subject saves; presses
are placed where something changes, in the ways that hands have; and rows that come nearer to the guard of a rule that was not
reached yet are gone on from first.
"""

from __future__ import annotations

import math
import time
import uuid
from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.claims.checking import check, rows_where
from larktally.claims.claim import claim
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript, Span
from larktally.language.ticks import clocks_of
from larktally.names import unknown_name
from larktally.report import Block, Line, Report, Tone
from larktally.runs.many import Workers, many_hands
from larktally.runs.record import record
from larktally.runs.runner import Snapshot
from larktally.runs.scenario import Scenario
from larktally.search.branch_rows import Branch, Led, lead
from larktally.search.shrink import shrink
from larktally.search.targets import Nearest, Target, labels_reached, nearest, targets_of
from larktally.subjects.protocol import Value
from larktally.textfmt import plural
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.trace import Trace

__all__ = ["Explored", "Reached", "explore"]

# Runs that are planned together, whoever makes them: what they find is known to the next.
ROUND = 16
# Of runs that reached nothing new, this share is judged by the claims all the same.
JUDGED_EVERY = 4
MOST_NODES, MOST_FAILURES = 4000, 5
# To make a found run small, so many runs at most, and so many rows in all.
MOST_SHRINKS, SHRINK_ROWS = 300, 40_000
PATTERNS = ("tap", "hold", "mash", "combo", "mix", "wait")


@dataclass(frozen=True, slots=True, eq=False)
class Reached:
    """Something that a run reached: a target, a claim that it broke, or a failure of the subject; in which row, and the scenario
    that does it, made small, but for a failure."""

    target: Target | None
    claim: str
    row: int
    scenario: Scenario
    failure: str = ""

    @property
    def what(self) -> str:
        """What it reaches, in words."""
        if self.target is not None:
            return str(self.target)
        if self.failure:
            return f"the subject fails: {self.failure}"
        return f"breaks {self.claim!r}"


@dataclass(frozen=True, slots=True, eq=False)
class Explored:
    """What a search came to: what was reached by new inputs, what the scenario's own script reaches, what stayed out of reach,
    with the nearest that was come to it, and how many runs and rows it took."""

    scenario: Scenario
    found: tuple[Reached, ...]
    known: tuple[Target, ...]
    missed: tuple[tuple[Target, Nearest | None], ...]
    runs: int
    rows: int

    @property
    def broken(self) -> tuple[Reached, ...]:
        """The claims that were broken."""
        return tuple(one for one in self.found if one.claim)

    @property
    def passed(self) -> bool:
        """Whether no claim was broken, and the subject failed nowhere; what was out of reach is told and fails nothing."""
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
            yield Line(f"{one.what} in row {one.row}, by {presses}", tone=tone)
        for target, near in self.missed:
            told = "never"
            if near is not None:
                told = str(near)
            elif target.is_rule:
                told = "its machine was never in a state that it starts from"
            yield Line(f"out of reach: {target}; {told}", tone="odd")
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


@dataclass(slots=True, eq=False)
class _Node:
    """A row of some run that is gone on from: the state before it, and the script that leads there."""

    saved: Snapshot | None
    inputs: InputScript
    row: int
    values: dict[str, Value]
    visits: int = 0
    #: Its own state, once it was led to.
    own: Snapshot | None = None


@dataclass(slots=True, eq=False)
class _Plan:
    node: _Node
    inputs: InputScript
    stop: int


@dataclass(slots=True, eq=False)
class _Search:
    """What is known so far."""

    scenario: Scenario
    base: Trace
    actions: tuple[str, ...]
    pauses: tuple[str, ...]
    frames: int
    pick: np.random.Generator
    nodes: list[_Node] = field(default_factory=list)
    keys: set[tuple[Any, ...]] = field(default_factory=set)
    wanted: dict[Target, tuple[Nearest | None, list[_Node]]] = field(default_factory=dict)
    known: list[Target] = field(default_factory=list)
    found: dict[Target, tuple[int, InputScript]] = field(default_factory=dict)
    failures: dict[str, tuple[int, InputScript]] = field(default_factory=dict)
    labels: list[str] = field(default_factory=list)
    #: How far apart two values of a number channel are to be another place.
    steps: dict[str, float] = field(default_factory=dict)
    rows: int = 0
    runs: int = 0

    # --- what is new --------------------------------------------------------------------------------------------------

    def begin(self) -> None:
        """What the scenario's own script reaches, and the rows of it that are gone on from."""
        base = self.base
        machines = set(base.header.outlines)
        self.labels = [
            name for name, one in base.columns.items() if one.channel.kind == "label" and name not in machines
        ]
        for name, one in base.columns.items():
            if one.channel.kind == "number":
                self.steps[name] = _step(one.stored.astype(np.float64))
        self.wanted = {target: (None, []) for target in targets_of(base.header.outlines)}
        for name, value, _ in labels_reached(base, self.labels):
            self.known.append(Target(name, value, False))
        script = InputScript.from_columns(base.inputs)
        self._seen(base, 0, script, None)
        for target in list(self.wanted):
            if target in self.found:
                self.known.append(target)
                del self.wanted[target]
        self.found.clear()

    def told(self, plan: _Plan, led: Led) -> tuple[bool, int]:
        """What a run came to: whether it reached something new, and its last row."""
        plan.node.own = plan.node.own or led.saved
        # A subject has one channel at the least.
        count, first = len(led.columns[0]), led.first
        self.runs += 1
        self.rows += count
        if led.failed and len(self.failures) < MOST_FAILURES:
            # The same failure in another row is the same.
            row, _, told = led.failed.splitlines()[0].rpartition(": step failed: ")
            last = max(plan.node.row, first + count - 1)
            self.failures.setdefault(told or row, (last + 1, plan.inputs.keep(1, last + 1)))
        if not count:
            return False, plan.node.row
        part = self._trace(led, count)
        new = self._seen(part, first, plan.inputs, plan.node.own)
        return new, first + count - 1

    def _trace(self, led: Led, count: int) -> Trace:
        """Some rows of a run as a trace of their own, the events in their rows there."""
        made = {}
        for (name, one), values in zip(self.base.columns.items(), led.columns, strict=True):
            channel = one.channel
            if channel.kind == "label":
                labels = tuple(dict.fromkeys([*channel.labels, *map(str, values)]))
                codes = {label: n for n, label in enumerate(labels)}
                made[name] = Column(
                    Channel(name, "label", labels), np.array([codes[str(value)] for value in values], np.int32)
                )
            else:
                made[name] = Column(channel, np.array(values, dtype=channel.dtype))
        log = EventLog()
        for row, name, source, text in led.events:
            log.append(row - led.first, name, source, text)
        none = {name: np.zeros(count) for name in self.base.inputs}
        return Trace(self.base.header, made, none, log, count)

    def _seen(self, part: Trace, first: int, inputs: InputScript, saved: Snapshot | None) -> bool:
        """Notes what rows reach, and the ones that are gone on from; whether anything was new."""
        before = len(self.found)
        for row, name, source, text in part.events.fields():
            if name == "changed" and source in part.header.outlines:
                data = msgspec.json.decode(text)
                self._reach(Target(source, str(data.get("by")), True), first + row, inputs)
        for name, value, row in labels_reached(part, [*part.header.outlines, *self.labels]):
            target = Target(name, value, False)
            if target not in self.known:
                self._reach(target, first + row, inputs)
        for target in list(self.wanted):
            if target.is_rule and target not in self.found:
                self._come_near(part, first, inputs, saved, target)
        for row in self._new_keys(part):
            if len(self.nodes) < MOST_NODES:
                self.nodes.append(self._node(part, first, row, inputs, saved))
        return len(self.found) > before

    def _reach(self, target: Target, row: int, inputs: InputScript) -> None:
        if target not in self.found and (target in self.wanted or target.about in self.labels):
            self.found[target] = (row, inputs)

    def _come_near(self, part: Trace, first: int, inputs: InputScript, saved: Snapshot | None, target: Target) -> None:
        outline = part.header.outlines[target.about]
        rule = next(one for one in outline.rules if one.name == target.name)
        near = nearest(part, first, outline, rule)
        best, nodes = self.wanted[target]
        if near is not None and (best is None or near.score < best.score):
            node = self._node(part, first, near.row - first, inputs, saved)
            self.wanted[target] = (near, [node, *nodes[:3]])

    def _new_keys(self, part: Trace) -> Iterator[int]:
        columns = []
        for name, one in part.columns.items():
            ending = name.rpartition(".")[2]
            if ending in ("age", "left", "frame", "count", "ready", "ticking", "listening") and "." in name:
                continue
            if one.channel.kind == "number":
                with np.errstate(all="ignore"):
                    places = one.stored.astype(np.float64) / self.steps[name]
                    coarse = np.nan_to_num(places, nan=-99, posinf=99, neginf=-99)
                columns.append(np.clip(coarse, -99, 99).astype(np.int64).tolist())
            elif one.channel.kind == "count":
                columns.append([_coarse(int(value)) for value in one.stored.tolist()])
            else:
                columns.append(one.values.tolist())
        for row, key in enumerate(zip(*columns, strict=True)):
            if key not in self.keys:
                self.keys.add(key)
                yield row

    def _node(self, part: Trace, first: int, row: int, inputs: InputScript, saved: Snapshot | None) -> _Node:
        values = {
            name: column.at(row) for name, column in part.columns.items() if column.channel.kind in ("label", "flag")
        }
        at = first + row
        script = InputScript()
        if at:
            script = inputs.keep(1, at)
        return _Node(saved, script, at, values)

    # --- what is tried next -------------------------------------------------------------------------------------------

    def plans(self, most: int) -> list[_Plan]:
        """The next runs."""
        return [self._plan(self._chosen()) for _ in range(most)]

    def _chosen(self) -> _Node:
        draw = self.pick.random()
        near = []
        for target, (_, nodes) in self.wanted.items():
            if nodes and target not in self.found:
                near.append(nodes)
        if near and draw < 0.45:
            nodes = near[int(self.pick.integers(len(near)))]
            node = nodes[int(self.pick.integers(len(nodes)))]
        elif draw < 0.7:
            # What was found last is where the unknown begins.
            node = self.nodes[-1 - int(self.pick.integers(min(len(self.nodes), 12)))]
        else:
            some = [self.nodes[int(self.pick.integers(len(self.nodes)))] for _ in range(4)]
            node = min(some, key=lambda one: one.visits)
        node.visits += 1
        return node

    def _plan(self, node: _Node) -> _Plan:
        room = max(self.frames - node.row, 1)
        spans: list[Span] = []
        actions = self._pressable(node)
        for _ in range(1 + int(self.pick.integers(2))):
            spans += self._pattern(actions, node.row + 1)
        spans = list(filter(lambda one: int(one.start) <= node.row + room, spans))
        last = max((int(one.start) + int(one.frames) for one in spans), default=node.row + 1)
        tail = int(self.pick.integers(4, 40))
        stop = min(last + tail, node.row + room)
        inputs = (node.inputs | InputScript(_apart(spans))).keep(1, max(stop, 1))
        return _Plan(node, inputs, stop)

    def _pressable(self, node: _Node) -> tuple[str, ...]:
        """The actions that may be pressed: a pause only where one has come by itself, to end it."""
        stands = any(node.values.get(f"{clock}.ticking") is False for clock in clocks_of(self.base.channels))
        if stands:
            return (*self.actions, *self.pauses)
        return self.actions

    def _pattern(self, actions: Sequence[str], start: int) -> list[Span]:
        pick = self.pick
        pattern = PATTERNS[int(pick.integers(len(PATTERNS)))]
        action = actions[int(pick.integers(len(actions)))]
        # Most presses that count come soon after something has changed.
        at = start + int(pick.integers(0, (6, 50)[int(pick.random() < 0.5)]))
        if pattern == "tap":
            return [Span(action, at, int(pick.integers(1, 4)))]
        if pattern == "hold":
            return [Span(action, at, int(pick.integers(4, 70)))]
        if pattern == "mash":
            every = int(pick.integers(2, 16))
            return [Span(action, at + every * n, 1) for n in range(int(pick.integers(2, 11)))]
        if pattern == "combo":
            spans = []
            for _ in range(int(pick.integers(2, 5))):
                spans.append(Span(actions[int(pick.integers(len(actions)))], at, 1))
                at += int(pick.integers(1, 22))
            return spans
        if pattern == "mix":
            spans = []
            for one in actions:
                if pick.random() < 0.5:
                    spans.append(Span(one, start + int(pick.integers(0, 30)), int(pick.integers(1, 40))))
            return spans
        return []


def _step(values: npt.NDArray[np.float64]) -> float:
    """A sixth of what a number ranges over in the scenario's own run."""
    finite = values[np.isfinite(values)]
    if len(finite) and np.ptp(finite) > 0:
        return float(np.ptp(finite)) / 6
    return 64.0


def _coarse(value: int) -> int:
    """A count by itself up to a dozen, and by its size beyond."""
    if abs(value) <= 12:
        return value
    return int(math.copysign(12 + math.log2(abs(value) / 12) * 2, value))


def _apart(spans: Sequence[Span]) -> Iterator[Span]:
    """Presses of one action that overlap would be one: those are left out."""
    until: dict[str, int] = {}
    for one in sorted(spans, key=lambda span: int(span.start)):
        if int(one.start) > until.get(one.action, 0):
            until[one.action] = int(one.start) + int(one.frames)
            yield one


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
    labels, and breaches of its claims.

    At most so many `runs`, or `seconds`, of at most `frames` each (by default what the scenario has, and 600 at the least).
    `actions` are those that may be pressed, by default all on/off ones; one that pauses only where a clock stands already,
    unless it is named. The same `seed` finds the same, whoever does the runs. Each thing found is made small. Raises
    LarkTallyError for an action that there is not, and for nothing to press.
    """
    plain = scenario.changed(until=None, claims=(), measures=())
    base = record(plain)
    pressed = _actions(base, actions)
    pauses: tuple[str, ...] = ()
    if not actions:
        pauses = tuple(_pauses(plain, base, pressed))
    longest = frames or max(int(scenario.frames), 600)
    search = _Search(
        plain.changed(frames=longest),
        base,
        tuple(one for one in pressed if one not in pauses) or pressed,
        pauses,
        longest,
        np.random.default_rng(seed),
    )
    search.begin()
    token, ends = uuid.uuid4().hex, time.monotonic() + (seconds or math.inf)
    broken: dict[str, tuple[int, InputScript, int]] = {}
    with many_hands(workers, executor) as hands:
        while search.runs < runs and time.monotonic() < ends and _goes_on(search, scenario, broken):
            plans = search.plans(min(ROUND, runs - search.runs))
            branches = [_branch(plan) for plan in plans]
            for n, led in enumerate(hands.each(partial(lead, token, search.scenario), branches)):
                new, last = search.told(plans[n], led)
                if scenario.claims and (new or search.runs % JUDGED_EVERY == 0):
                    _judge(scenario, plans[n].inputs, last, broken)
                if on_progress is not None:
                    on_progress(min(search.runs, runs), runs)
    return _explored(scenario, search, broken)


def _branch(plan: _Plan) -> Branch:
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


def _goes_on(search: _Search, scenario: Scenario, broken: Collection[str]) -> bool:
    """Whether there is anything left to look for."""
    left = any(target not in search.found for target in search.wanted)
    return left or bool(search.labels) or len(broken) < len(scenario.claims)


def _judge(scenario: Scenario, inputs: InputScript, last: int, broken: dict[str, tuple[int, InputScript, int]]) -> None:
    """The claims, over the whole run."""
    if len(broken) == len(scenario.claims) or last < 1:
        return
    try:
        trace = record(scenario.changed(inputs=inputs.keep(1, last), frames=last, until=None))
    except SubjectFailed:
        return
    for result in check(trace, [one for one in scenario.claims if one.name not in broken]):
        if result.verdict == "broken":
            rows = [one.row for one in result.breaches[:1] if one.row is not None]
            broken[result.name] = ((rows or [last])[0], inputs, last)


def _explored(scenario: Scenario, search: _Search, broken: dict[str, tuple[int, InputScript, int]]) -> Explored:
    found = []
    for name, (row, inputs, last) in broken.items():
        made = scenario.changed(inputs=inputs.keep(1, last), frames=last, until=None)
        smaller = shrink(made, name, _shrinks(last))
        breaches = smaller.result.breaches
        if breaches and breaches[0].row is not None:
            row = breaches[0].row
        found.append(Reached(None, name, row, smaller.scenario))
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
    return Explored(scenario, every, tuple(search.known), tuple(missed), search.runs, search.rows)


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
