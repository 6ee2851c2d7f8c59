"""Rules across runs: how a measure may move with the rate, the seed or a param, all else being the same."""

from __future__ import annotations

import fnmatch
import itertools
import math
from collections.abc import Mapping, Sequence
from typing import Any, Literal, TypeAlias

import msgspec
import numpy as np

from larktally.claims.named import NamedMeasure
from larktally.errors import ClaimError
from larktally.inputs.view import HELD_FROM
from larktally.language.judgement import Verdict
from larktally.textfmt import shown_value
from larktally.traces.trace import Trace

__all__ = ["TRENDS", "Across", "AcrossResult", "judge_across"]

Trend: TypeAlias = Literal["constant", "rising", "falling"]
TRENDS: tuple[Trend, ...] = ("constant", "rising", "falling")


class Across(msgspec.Struct, frozen=True):
    """A measure over runs that differ in one thing: `spread` is how far apart its values may be, `trend` how they go with it,
    `runs` a pattern of the names of those that are meant.
    """

    name: str
    measure: NamedMeasure
    over: str
    spread: float | None = None
    trend: Trend | None = None
    why: str = ""
    runs: str = "*"

    @property
    def text(self) -> str:
        """The rule in one line."""
        said = []
        if self.spread is not None:
            said.append(f"at most {shown_value(self.spread)} apart")
        if self.trend is not None:
            said.append(self.trend)
        return f"{self.measure.of} over {self.over}: {', '.join(said)}"


class AcrossResult(msgspec.Struct, frozen=True):
    """What a rule across runs comes to: groups of runs that differ in one thing alone, and those in which it does not hold.

    `broken` are a line for each; `margin` is the least of what was left of the spread, None without one.
    """

    rule: Across
    groups: int
    broken: tuple[str, ...]
    margin: float | None = None

    @property
    def name(self) -> str:
        return self.rule.name

    @property
    def verdict(self) -> Verdict:
        """broken, kept, or untested where no two runs differ in that thing alone."""
        if self.broken:
            return "broken"
        if self.groups:
            return "kept"
        return "untested"

    @property
    def passed(self) -> bool:
        return self.verdict == "kept"

    def story(self) -> str:
        """What became of it, a line for each group in which it does not hold."""
        return "\n".join([f"{self.verdict}: {self.rule.text}", *self.broken])

    def plain(self) -> dict[str, object]:
        """The result as plain data, for JSON."""
        return {
            "name": self.name,
            "that": self.rule.text,
            "verdict": self.verdict,
            "passed": self.passed,
            "groups": self.groups,
            "broken": list(self.broken),
            "margin": self.margin,
        }


def judge_across(rule: Across, traces: Mapping[str, Trace]) -> AcrossResult:
    """Judges a rule over the runs there are; raises ClaimError for a measure that does not fit one of them, or for a thing that
    no run has."""
    groups: dict[bytes, list[tuple[Any, float]]] = {}
    known = False
    for name, trace in traces.items():
        if not fnmatch.fnmatchcase(name, rule.runs):
            continue
        there, value = _value_of(trace, rule.over)
        known = known or there
        if there:
            reading = rule.measure.read(trace).value
            groups.setdefault(_all_else(trace, rule.over), []).append((value, reading))
    if not known:
        meant = f" of those called {rule.runs!r}"
        if rule.runs == "*":
            meant = ""
        raise ClaimError(f"across {rule.name!r}: no run{meant} has {rule.over!r}; over= is 'rate', 'seed' or a param")
    broken, judged, margin = [], 0, math.inf
    for found in groups.values():
        if len({value for value, _ in found}) < 2:
            continue
        judged += 1
        listed = sorted(found, key=lambda one: (isinstance(one[0], str), one[0]))
        values = [value for _, value in listed]
        wrong = _wrong(rule, values)
        if rule.spread is not None:
            margin = min(margin, rule.spread - (max(values) - min(values)))
        if wrong:
            told = ", ".join(f"{shown_value(value)} at {rule.over} {at}" for at, value in listed)
            broken.append(f"{wrong}: {told}")
    return AcrossResult(rule, judged, tuple(broken), None if margin == math.inf else margin)


def _wrong(rule: Across, values: Sequence[float]) -> str:
    """What is wrong with the values in the order of what they are over; "" for nothing."""
    if any(math.isnan(value) for value in values):
        return "nothing to measure in one of them"
    apart = max(values) - min(values)
    if rule.spread is not None and not apart <= rule.spread:
        return f"{shown_value(apart)} apart"
    pairs = list(itertools.pairwise(values))
    if rule.trend == "constant" and any(one != other for one, other in pairs):
        return "not constant"
    if rule.trend == "rising" and not all(one < other for one, other in pairs):
        return "not rising"
    if rule.trend == "falling" and not all(one > other for one, other in pairs):
        return "not falling"
    return ""


def _value_of(trace: Trace, over: str) -> tuple[bool, Any]:
    """Whether a run has that thing, and what it is: a rate as a fraction, a param as it was given or as it stood."""
    header = trace.header
    if over == "rate":
        return header.rate is not None, header.rate
    if over == "seed":
        return True, header.seed
    known = {**header.settings, **header.params}
    value = known.get(over)
    return over in known and isinstance(value, int | float | str), value


def _all_else(trace: Trace, over: str) -> bytes:
    """What a run was made from but for one thing: runs for which it is the same differ in that alone."""
    header = trace.header
    params = {name: value for name, value in header.params.items() if name != over}
    rate = header.rate_text
    if over == "rate":
        rate = ""
    seed = header.seed
    if over == "seed":
        seed = -1
    return msgspec.json.encode([header.subject, rate, seed, params, _edges(trace)], order="sorted")


def _edges(trace: Trace) -> list[str]:
    """What was pressed and let go of, in order: another script is another run, and at another rate it is the same script."""
    found: list[tuple[int, str]] = []
    for action, values in trace.inputs.items():
        held = np.abs(values) >= HELD_FROM
        changes = np.flatnonzero(np.diff(held, prepend=False))
        found += [(int(row), f"{action} {'down' if held[row] else 'up'}") for row in changes]
    return [edge for _, edge in sorted(found)]
