"""What a search for inputs knows so far, and what it tries next: from which rows it goes on, and what it presses there."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.explain.observed_labels import observed_changes
from larktally.inputs.script import InputScript, Span
from larktally.language.ticks import clocks_of
from larktally.runs.runner import Snapshot
from larktally.runs.scenario import Scenario
from larktally.search.branch_rows import Led
from larktally.search.targets import Nearest, Target, labels_reached, nearest, targets_of
from larktally.subjects.protocol import Value
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.trace import Trace

__all__ = ["GuidedSearch", "Node", "Plan"]

MOST_NODES, MOST_FAILURES = 4000, 5
# A player's hands: faster and longer finds less in as many runs.
PRESSES_A_SECOND, LONGEST_SECONDS = 2, 1
PATTERNS = ("tap", "hold", "mash", "combo", "mix", "wait")


@dataclass(slots=True, eq=False)
class Node:
    """A row of some run that is gone on from: the state before it, and the script that leads there."""

    saved: Snapshot | None
    inputs: InputScript
    row: int
    values: dict[str, Value]
    visits: int = 0
    #: Its own state, once it was led to.
    own: Snapshot | None = None


@dataclass(slots=True, eq=False)
class Plan:
    """A run that is tried: from where, with what pressed, and as far as which row."""

    node: Node
    inputs: InputScript
    stop: int


@dataclass(slots=True, eq=False)
class GuidedSearch:
    """What is known so far."""

    scenario: Scenario
    base: Trace
    actions: tuple[str, ...]
    pauses: tuple[str, ...]
    frames: int
    pick: np.random.Generator
    nodes: list[Node] = field(default_factory=list)
    keys: set[tuple[Any, ...]] = field(default_factory=set)
    wanted: dict[Target, tuple[Nearest | None, list[Node]]] = field(default_factory=dict)
    known: list[Target] = field(default_factory=list)
    found: dict[Target, tuple[int, InputScript]] = field(default_factory=dict)
    failures: dict[str, tuple[int, InputScript]] = field(default_factory=dict)
    labels: list[str] = field(default_factory=list)
    #: Which share of the runs presses at random, from the start to the end.
    at_random: float = 0.0
    #: How far apart two values of a number channel are to be another place.
    steps: dict[str, float] = field(default_factory=dict)
    #: How often a label that is no machine's was seen to change so, and in which row first.
    changes: dict[Target, tuple[int, int]] = field(default_factory=dict)
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
        for name in self.labels:
            for _, before, after in observed_changes(base, name):
                self.known.append(Target(name, after, False, before))
        self.known = list(dict.fromkeys(self.known))
        script = InputScript.from_columns(base.inputs)
        self._seen(base, 0, script, None)
        for target in list(self.wanted):
            if target in self.found:
                self.known.append(target)
                del self.wanted[target]
        self.found.clear()

    def told(self, plan: Plan, led: Led) -> tuple[bool, int]:
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
        self._note_changes(part, first, inputs)
        for target in list(self.wanted):
            if target.is_rule and target not in self.found:
                self._come_near(part, first, inputs, saved, target)
        for row in self._new_keys(part):
            if len(self.nodes) < MOST_NODES:
                self.nodes.append(self._node(part, first, row, inputs, saved))
        return len(self.found) > before

    def _note_changes(self, part: Trace, first: int, inputs: InputScript) -> None:
        """The changes of labels that are no machine's: which there are is known only once they were seen."""
        for name in self.labels:
            for row, before, after in observed_changes(part, name):
                target = Target(name, after, False, before)
                times, where = self.changes.get(target, (0, first + row))
                self.changes[target] = (times + 1, where)
                if target not in self.known:
                    self._reach(target, first + row, inputs)

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

    def _node(self, part: Trace, first: int, row: int, inputs: InputScript, saved: Snapshot | None) -> Node:
        values = {
            name: column.at(row) for name, column in part.columns.items() if column.channel.kind in ("label", "flag")
        }
        at = first + row
        script = InputScript()
        if at:
            script = inputs.keep(1, at)
        return Node(saved, script, at, values)

    # --- what is tried next -------------------------------------------------------------------------------------------

    def plans(self, most: int) -> list[Plan]:
        """The next runs."""
        found = []
        for _ in range(most):
            if self.at_random and self.pick.random() < self.at_random:
                found.append(self._random())
            else:
                found.append(self._plan(self._chosen()))
        return found

    def _random(self) -> Plan:
        """All of a run pressed at random, as fast as hands do."""
        chance = min(PRESSES_A_SECOND / float(self.scenario.rate), 1.0)
        hold = max(int(float(self.scenario.rate) * LONGEST_SECONDS), 1)
        seed = int(self.pick.integers(2**31))
        inputs = InputScript.at_random(dict.fromkeys(self.actions, chance), self.frames, seed, hold)
        return Plan(Node(None, InputScript(), 0, {}), inputs, self.frames)

    def _chosen(self) -> Node:
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

    def _plan(self, node: Node) -> Plan:
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
        return Plan(node, inputs, stop)

    def _pressable(self, node: Node) -> tuple[str, ...]:
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
