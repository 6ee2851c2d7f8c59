"""Numbers: the named measures and windows of scenarios, one a line, in a designer's words, with what they were before."""

from __future__ import annotations

import fnmatch
import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from larktally.claims.claim import Claim
from larktally.claims.files import Rules, load_rules
from larktally.claims.named import NamedMeasure, read_measures
from larktally.claims.named_windows import NamedWindow
from larktally.errors import ClaimError, LarkTallyError, SubjectFailed
from larktally.language.parsing import parse
from larktally.language.tree import Call, Text
from larktally.names import stands_twice
from larktally.report import Block, Line, Report, Table, Tone
from larktally.runs.hands import Hands
from larktally.runs.many import Workers, many_hands
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.shifting import Window, anchors_of, claim_kept, placed
from larktally.textfmt import plural, shown_span

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["NamedNumber", "Numbers", "numbers"]

FRAMES = ("frame", "frames")


@dataclass(frozen=True, slots=True)
class NamedNumber:
    """One number of a scenario: a measure's value with its unit, or how many frames a window has. `window` holds the shifts, and
    `around` what they are placed around; `before` is what the number was, None where that is not known; `why_not` says why there
    is none, and its value is NaN then."""

    scenario: str
    name: str
    value: float
    unit: str = ""
    rate: Fraction | None = None
    window: Window | None = None
    around: str = ""
    wanted: tuple[float, float] | None = None
    before: float | None = None
    why_not: str = ""

    @property
    def fits(self) -> bool:
        """Whether it is what is wanted; true where nothing is said."""
        return self.wanted is None or self.wanted[0] <= self.value <= self.wanted[1]

    @property
    def changed(self) -> bool:
        """Whether it is known to have been another before."""
        if self.before is None or (math.isnan(self.before) and math.isnan(self.value)):
            return False
        return self.before != self.value

    @property
    def seconds(self) -> float | None:
        """How long so many frames are; None for what is no number of frames."""
        if self.unit not in FRAMES or not self.rate or not math.isfinite(self.value):
            return None
        return float(Fraction(self.value) / self.rate)

    @property
    def words(self) -> str:
        """The number as it is said: "9 frames (0.150 s), from 8 before the blow to 0"."""
        if self.why_not:
            return f"none: {self.why_not}"
        if math.isnan(self.value):
            return "none: there was nothing to measure"
        if self.window is not None and not self.window.taken:
            return _where(self.window, self.around)
        told = f"{self.value:.6g}"
        if self.unit in FRAMES and self.value == int(self.value):
            told = plural(int(self.value), "frame")
        elif self.unit:
            told = f"{told} {self.unit}"
        if self.seconds is not None:
            told += f" ({self.seconds:.3f} s)"
        if self.window is not None:
            told += f", {_where(self.window, self.around)}"
        return told

    @property
    def was(self) -> str:
        """What it was before, where it was another."""
        if not self.changed or self.before is None:
            return ""
        if math.isnan(self.before):
            return "was none"
        return f"was {self.before:.6g}"

    @property
    def wish(self) -> str:
        """What is wanted, where it is not that."""
        if self.fits or self.wanted is None:
            return ""
        return f"wanted {shown_span(*self.wanted)}"

    def plain(self) -> dict[str, Any]:
        """The number as plain data, for JSON and for tables."""
        shifts = None
        if self.window is not None:
            shifts = list(self.window)
        return {
            "scenario": self.scenario,
            "name": self.name,
            "value": self.value,
            "unit": self.unit,
            "seconds": self.seconds,
            "words": self.words,
            "before": self.before,
            "wanted": self.wanted,
            "fits": self.fits,
            "shifts": shifts,
        }

    def __str__(self) -> str:
        return "; ".join(filter(None, (f"{self.name}  {self.words}", self.was, self.wish)))


class Numbers(Sequence[NamedNumber]):
    """The numbers of some scenarios, in their order; `failed` are those that did not run to their end, with why."""

    def __init__(self, found: Iterable[NamedNumber], failed: Mapping[str, str]) -> None:
        self._numbers, self.failed = tuple(found), dict(failed)

    def __len__(self) -> int:
        return len(self._numbers)

    def __getitem__(self, at: Any) -> Any:
        return self._numbers[at]

    def by_name(self) -> dict[tuple[str, str], float]:
        """Each number by its scenario and name: what a later look takes as `before`."""
        return {(one.scenario, one.name): one.value for one in self._numbers}

    def plain(self) -> dict[str, Any]:
        """All of them as plain data, for JSON."""
        return {"numbers": [one.plain() for one in self._numbers], "failed": self.failed}

    def report(self) -> Report:
        """A line for each, under its scenario's name."""
        return Report.of(self._blocks())

    def _blocks(self) -> Iterator[Block]:
        by_scenario: dict[str, list[NamedNumber]] = {}
        for one in self._numbers:
            by_scenario.setdefault(one.scenario, []).append(one)
        for scenario, found in by_scenario.items():
            if scenario != self._numbers[0].scenario:
                yield Line("")
            lines, tones = [], {}
            for n, one in enumerate(found):
                lines.append([f"  {one.name}", one.words, one.was, one.wish])
                tone: Tone = "plain"
                if not one.fits or one.why_not:
                    tone = "odd"
                tones[n] = tone
            yield Table([scenario, "", "", ""], lines, frozenset(range(4)), tones)
        for scenario, why in self.failed.items():
            yield Line(f"{scenario}: it failed: {why}", tone="bad")

    def __str__(self) -> str:
        return self.report().text()


def numbers(
    scenarios: Scenario | Iterable[Scenario],
    rules: str | Path | None = None,
    *,
    before: Mapping[tuple[str, str], float] | None = None,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Numbers:
    """The named measures and windows of scenarios, each scenario's own and those of a claims file.

    What the file says is left out of a scenario that it does not fit. `before` are numbers of an earlier look, `.by_name()`.
    Raises LarkTallyError where there are none at all, for what fits no scenario, and for a window of a scenario's own with
    nothing to shift around.
    """
    listed = list(scenarios) if not isinstance(scenarios, Scenario) else [scenarios]
    held = Rules(())
    if rules is not None:
        held = load_rules(rules, None)
    asked = [_asked(one, held) for one in listed]
    if not any(one.measures or one.windows for one in asked):
        raise LarkTallyError(
            'no scenario has numbers to read: say measures={"hop height": "apex(wick.y)"}, windows={…}, or --claims with a '
            "[[measure]]"
        )
    with many_hands(workers, executor) as hands:
        read = list(hands.each(_read, asked))
        _check_fitting(held, read)
        windows = _windows(hands, asked, read, on_progress)
    found: list[NamedNumber] = []
    failed: dict[str, str] = {}
    for one, came, own in zip(asked, read, windows, strict=True):
        if came.failed:
            failed[one.scenario.title] = came.failed
        found += [*came.numbers, *own]
    if before is not None:
        known = []
        for number in found:
            known.append(replace(number, before=before.get((number.scenario, number.name))))
        found = known
    return Numbers(found, failed)


class _Asked(NamedTuple):
    """What is read of a scenario; `ruled` are the names of what a claims file asks for."""

    scenario: Scenario
    measures: tuple[NamedMeasure, ...]
    windows: tuple[NamedWindow, ...]
    ruled: frozenset[str]


def _asked(scenario: Scenario, rules: Rules) -> _Asked:
    windows = []
    for one in rules.windows:
        if fnmatch.fnmatchcase(scenario.title, one.runs):
            windows.append(one)
    measures = (*scenario.measures, *rules.measures)
    named = (*scenario.windows, *windows)
    twice = stands_twice([*(one.name for one in measures), *(one.name for one in named)])
    if twice is not None:
        raise LarkTallyError(f"{scenario.title}: two of its numbers are called {twice!r}")
    ruled = {one.name for one in rules.measures} | {one.name for one in windows}
    return _Asked(scenario, measures, named, frozenset(ruled))


class _Read(NamedTuple):
    """What one run came to: its measures, the rows around which each window's press is placed, or why not; why the run failed.
    `unfit` are those of a claims file that do not fit it, with why."""

    numbers: list[NamedNumber]
    anchors: list[list[int]]
    unfit: dict[str, str]
    failed: str = ""


def _read(asked: _Asked) -> _Read:
    """A scenario's own run, and the runs without the presses of its windows."""
    scenario = asked.scenario
    unfit: dict[str, str] = {}
    found, anchors = [], []
    try:
        trace = record(scenario)
        for measure in asked.measures:
            try:
                (reading,) = read_measures(trace, [measure])
            except ClaimError as error:
                if measure.name not in asked.ruled:
                    raise
                unfit[measure.name] = str(error)
                continue
            found.append(
                NamedNumber(
                    scenario.title, measure.name, reading.value, measure.unit, scenario.rate, wanted=measure.wanted
                )
            )
        for window in asked.windows:
            try:
                anchors.append(anchors_of(window.shift, scenario))
            except SubjectFailed:
                raise
            except LarkTallyError as error:
                if window.name not in asked.ruled:
                    raise LarkTallyError(f"window {window.name!r}: {error}") from None
                unfit[window.name] = str(error)
                anchors.append([])
    except SubjectFailed as failure:
        return _Read([], [[] for _ in asked.windows], {}, str(failure).splitlines()[0])
    return _Read(found, anchors, unfit)


def _check_fitting(rules: Rules, read: Sequence[_Read]) -> None:
    """Raises ClaimError for what a claims file asks for and no scenario has: a slip, and not how the runs are."""
    for name in [*(one.name for one in rules.measures), *(one.name for one in rules.windows)]:
        unfit = [came.unfit[name] for came in read if name in came.unfit]
        if unfit and len(unfit) == sum(not came.failed for came in read):
            raise ClaimError(f"measure {name!r} fits no scenario: {unfit[0]}")


class _Try(NamedTuple):
    """One shift of a window: the run, and what is judged in it."""

    judged: Claim
    scenario: Scenario


def _kept(one: _Try) -> bool | str:
    """Whether the claim is kept; why not, where the subject fails."""
    try:
        return claim_kept(one.judged, one.scenario)
    except SubjectFailed as failure:
        return str(failure).splitlines()[0]


def _windows(
    hands: Hands, asked: Sequence[_Asked], read: Sequence[_Read], on_progress: Callable[[int, int], Any] | None
) -> list[list[NamedNumber]]:
    """The windows of each scenario: all their runs in one lot."""
    tries: list[_Try] = []
    for one, came in zip(asked, read, strict=True):
        for window, anchors in zip(one.windows, came.anchors, strict=True):
            if anchors:
                judged = window.claim_among(one.scenario.claims)
                bare = one.scenario.changed(claims=(), measures=(), windows=())
                for by in window.shift.by:
                    try:
                        tries.append(_Try(judged, placed(bare, window.shift, anchors, by)))
                    except LarkTallyError as error:
                        raise LarkTallyError(f"{one.scenario.title}: window {window.name!r}: {error}") from None
    answers: list[bool | str] = []
    for answer in hands.each(_kept, tries):
        answers.append(answer)
        if on_progress is not None:
            on_progress(len(answers), len(tries))
    given = iter(answers)
    found: list[list[NamedNumber]] = []
    for one, came in zip(asked, read, strict=True):
        found.append([])
        for window, anchors in zip(one.windows, came.anchors, strict=True):
            if anchors:
                listed = [next(given) for _ in window.shift.by]
                found[-1].append(_window_number(one.scenario, window, listed))
    return found


def _window_number(scenario: Scenario, named: NamedWindow, answers: Sequence[bool | str]) -> NamedNumber:
    taken = []
    for by, answer in zip(named.shift.by, answers, strict=True):
        if isinstance(answer, str):
            why = f"with the press at {by:+d}, {answer}"
            return NamedNumber(scenario.title, named.name, math.nan, "frames", wanted=named.wanted, why_not=why)
        if answer:
            taken.append(by)
    window = Window(taken, named.shift.by, scenario.rate)
    return NamedNumber(
        scenario.title,
        named.name,
        float(window.frames),
        "frames",
        scenario.rate,
        window,
        _called(named.shift.around),
        named.wanted,
    )


def _called(around: str) -> str:
    """What a shift is placed around, in words: the blow, for event('blow'); 'landed' as it stands, since it is no noun."""
    tree = parse(around)
    if isinstance(tree, Call) and tree.name == "event" and tree.args and isinstance(tree.args[0], Text):
        name = tree.args[0].value
        if name.endswith("ed"):
            return repr(name)
        return f"the {name}"
    return around


def _where(window: Window, around: str) -> str:
    """From where to where a window goes."""
    first, last = min(window.tried), max(window.tried)
    stretches = window.stretches
    if not stretches:
        return f"never, tried from {_side(first, around)} to {_side(last)}"
    first_taken, last_taken = stretches[0][0], stretches[-1][1]
    if len(stretches) > 1:
        told = f"{window.stretches_told}, counted from {around}"
    elif first_taken == last_taken:
        told = f"at {_side(first_taken, around)} alone"
    else:
        told = f"from {_side(first_taken, around)} to {_side(last_taken)}"
    ends = []
    for end, tried in ((first_taken, first), (last_taken, last)):
        if end == tried and str(end) not in ends:
            ends.append(str(end))
    if ends:
        told += f", tried as far as {' and '.join(ends)}"
    return told


def _side(by: int, around: str = "") -> str:
    if by == 0:
        return around or "0"
    side = "before"
    if by > 0:
        side = "after"
    return f"{abs(by)} {side} {around}".rstrip()
