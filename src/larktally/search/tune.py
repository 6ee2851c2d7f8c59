"""Tune: the values of a param for which a measure is what is wanted: all stretches of them that a grid shows, with their ends."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any, NamedTuple

from larktally.claims.checking import check
from larktally.claims.named import NamedMeasure, Wanted, bounds_of
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.names import unknown_name
from larktally.runs.many import Workers, run_each
from larktally.runs.numbers import TurnableNumber, asked_numbers
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.tuned import Sample, Stretch, Tuned

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["tune"]

# How many values are looked at where no step is said, and at most.
PARTS, MOST_VALUES = 40, 100_000
# A measure is the number that is wanted where six digits of it are.
SAME = 5e-7
# How near the end of a stretch is come to, as a share of a step; and the decimal places in which a value is said, at most.
NEAR, MOST_PLACES = 1e-9, 17


def tune(
    scenario: Scenario,
    param: str,
    low: float,
    high: float,
    *,
    measure: str,
    wanted: Wanted,
    step: float | None = None,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Tuned:
    """The values of a param, from `low` to `high`, for which a measure is what is wanted: a number, or the least and the greatest
    that will do.

    Values `step` apart are tried (a fortieth, or whole numbers), then nearer ones where the measure passes what is wanted
    (Alefeld, Potra and Shi, Algorithm 748, 1995), and the ends of each stretch found by halves. A duration is tried in whole
    frames, and a param whose default is a whole number in whole numbers, unless low, high or step is written with a point: 300.0.
    What comes and goes within a step is not seen. `measure` is a text or the name of one of the scenario's. Raises
    LarkTallyError for a param that the model does not read as a number, for a measure of many numbers, and where there is
    nothing to look at.
    """
    read = _measure_of(scenario, measure)
    bounds = bounds_of(wanted)
    if bounds is None or not all(math.isfinite(one) for one in bounds):
        raise LarkTallyError(
            f"tune: what is wanted is a finite number, or the least and the greatest that will do, not {wanted!r}"
        )
    number = _number(scenario, param)
    whole = number.kind == "duration" or all(isinstance(one, int) for one in (number.default, low, high, step or 1))
    values, apart = _grid(param, low, high, step, whole)
    run = partial(_sample, read, scenario, param)
    samples = list(run_each(run, values, workers=workers, executor=executor, on_progress=on_progress))
    search = _Search(run, samples, bounds, apart, whole)
    found = search.stretches()
    stretches = []
    for one in found:
        code = replace(number, value=one.chosen.value).code
        broken = []
        for claim, passed in zip(scenario.claims, one.chosen.passed, strict=True):
            if not passed:
                broken.append(claim.name)
        low_end, high_end = one.low == values[0], one.high == values[-1]
        stretches.append(
            Stretch(one.low, one.high, one.chosen.value, one.chosen.measured, low_end, high_end, tuple(broken), code)
        )
    names = tuple(claim.name for claim in scenario.claims)
    tried = tuple(sorted(search.tried.values()))
    return Tuned(param, read, bounds, apart, whole, names, tried, tuple(stretches), tuple(search.jumps))


class _Found(NamedTuple):
    """A stretch, and the sample that is said of it."""

    low: float
    high: float
    chosen: Sample


class _Unmeasured(Exception):
    """Between two values that were measured there is one that was not."""


class _Search:
    """What was tried so far, and nearer values where a measure passes what is wanted."""

    def __init__(
        self,
        run: Callable[[float], Sample],
        grid: Sequence[Sample],
        wanted: tuple[float, float],
        step: float,
        whole: bool,
    ) -> None:
        self._run, self._grid, self._wanted, self._step, self._whole = run, grid, wanted, step, whole
        self.tried = {one.value: one for one in grid}
        self.jumps: list[tuple[Sample, Sample]] = []
        measured = [one.measured for one in grid if not math.isnan(one.measured)]
        size = abs(wanted[0])
        if not size and measured:
            size = max(map(abs, measured))
        # Of a range the ends are exact; no float that is worked out is exactly a number.
        self._slack = SAME * size * (wanted[0] == wanted[1])

    def stretches(self) -> list[_Found]:
        """The stretches of values that give what is wanted, in order."""
        found: list[_Found] = []
        low: float | None = None
        before: Sample | None = None
        for one in self._grid:
            if self._is_inside(one):
                if low is None:
                    low = one.value if before is None else self._end(one, before)
            elif before is not None and low is not None:
                found.append(self._found(low, self._end(before, one)))
                low = None
            elif before is not None and self._side(before) * self._side(one) < 0:
                between = self._between(before, one)
                if between is not None:
                    found.append(self._found(self._end(between, before), self._end(between, one)))
            before = one
        if low is not None:
            found.append(self._found(low, self._grid[-1].value))
        return found

    def _sample(self, value: float) -> Sample:
        if value not in self.tried:
            self.tried[value] = self._run(value)
        return self.tried[value]

    def _side(self, one: Sample) -> int:
        """Below what is wanted, above it, or 0: it, or not measured."""
        if math.isnan(one.measured):
            return 0
        low, high = self._wanted
        return int(one.measured > high + self._slack) - int(one.measured < low - self._slack)

    def _is_inside(self, one: Sample) -> bool:
        return not math.isnan(one.measured) and self._side(one) == 0

    def _middle(self, one: float, other: float) -> float | None:
        """A value between two; None where they are as near as they are come to."""
        if self._whole:
            middle: float = (int(one) + int(other)) // 2
        else:
            middle = (one + other) / 2
        if middle in (one, other) or (not self._whole and abs(one - other) <= NEAR * self._step):
            return None
        return middle

    def _end(self, inside: Sample, outside: Sample) -> float:
        """The last value, from one that gives what is wanted on, that does, as far as halves find it."""
        kept, lost = inside.value, outside.value
        while (middle := self._middle(kept, lost)) is not None:
            if self._is_inside(self._sample(middle)):
                kept = middle
            else:
                lost = middle
        return kept

    def _between(self, before: Sample, after: Sample) -> Sample | None:
        """A value that gives what is wanted between two of which one gives less and one more; None where there is none."""
        if self._whole:
            self._halve(before, after)
        else:
            self._root(before, after)
        # In order: what was tried between the two, and the two.
        tried = [self.tried[value] for value in sorted(self.tried) if before.value <= value <= after.value]
        for one in tried:
            if self._is_inside(one):
                return one
        for one, other in itertools.pairwise(tried):
            if self._side(one) * self._side(other) < 0:
                self.jumps.append((one, other))
        return None

    def _halve(self, before: Sample, after: Sample) -> None:
        """Whole numbers by halves, until one gives what is wanted or two neighbours stand on both sides of it."""
        one, other = before, after
        while (middle := self._middle(one.value, other.value)) is not None:
            found = self._sample(middle)
            if self._side(found) == 0:
                return
            if self._side(found) == self._side(one):
                one = found
            else:
                other = found

    def _root(self, before: Sample, after: Sample) -> None:
        from scipy.optimize import toms748

        target = sum(self._wanted) / 2

        def off(value: float) -> float:
            found = self._sample(float(value))
            if math.isnan(found.measured):
                raise _Unmeasured
            return found.measured - target

        try:
            toms748(off, before.value, after.value, xtol=NEAR * self._step, rtol=1e-14, maxiter=200)
        except _Unmeasured:
            # As far as it came is what there is.
            return

    def _found(self, low: float, high: float) -> _Found:
        """A stretch, with a value of few digits in it: the middle of a wide one, which leaves room on both sides."""
        middle = (Fraction(low) + Fraction(high)) / 2
        for places in range(-MOST_PLACES, MOST_PLACES + 1):
            value: float = float(round(middle, places))
            if self._whole:
                value = int(middle)
            if low <= value <= high:
                found = self._sample(value)
                if self._is_inside(found):
                    return _Found(low, high, found)
        return _Found(low, high, self._sample(low))


def _sample(measure: NamedMeasure, scenario: Scenario, param: str, value: float) -> Sample:
    """One run: its measure and its claims' verdicts."""
    try:
        trace = record(scenario.turned({param: value}).changed(measures=()))
    except SubjectFailed as failure:
        return Sample(value, math.nan, failed=str(failure).splitlines()[0])
    results = list(check(trace, scenario.claims)) if scenario.claims else []
    verdicts, passed = tuple(one.verdict for one in results), tuple(one.passed for one in results)
    return Sample(value, float(measure.read(trace).value), verdicts, passed)


def _measure_of(scenario: Scenario, text: str) -> NamedMeasure:
    for one in scenario.measures:
        if one.name == text:
            return one  # type: ignore[no-any-return]
    return NamedMeasure(text)


def _number(scenario: Scenario, param: str) -> TurnableNumber:
    """A param as the model asks for it; raises LarkTallyError for one that it does not read, and for what is no number."""
    asked = asked_numbers(scenario)
    for one in asked:
        if one.name == param:
            if one.kind == "param" and not (isinstance(one.default, int | float) and not isinstance(one.default, bool)):
                raise LarkTallyError(f"tune: param {param!r} is {one.default!r} by default, and not a number")
            return one
    told = unknown_name("param", param, [one.name for one in asked], scenario.title)
    raise LarkTallyError(f"tune: {told}; a model asks for its numbers while it is built")


def _grid(param: str, low: float, high: float, step: float | None, whole: bool) -> tuple[list[float], float]:
    """The values that are looked at first, both ends among them, and how far apart they are."""
    for name, number in (("low", low), ("high", high), ("step", 1 if step is None else step)):
        if (
            isinstance(number, bool)
            or not isinstance(number, int | float | Decimal | Fraction)
            or not math.isfinite(number)
        ):
            raise LarkTallyError(f"tune: {name} is a finite number, not {number!r}")
        if whole and number != int(number):
            raise LarkTallyError(
                f"tune: {param!r} is in whole numbers, frames where it is a duration; {name} is {number}"
            )
    if not low < high or (step is not None and step <= 0):
        raise LarkTallyError(
            f"tune: {param!r} goes up from low to high by a step above 0, not from {low} to {high} by {step}"
        )
    # Decimals: 0.1 added ten times as floats is not 1.
    first, last = Fraction(str(low)), Fraction(str(high))
    if step is not None:
        apart = Fraction(str(step))
    elif whole:
        apart = Fraction(max(math.ceil((last - first) / PARTS), 1))
    else:
        apart = (last - first) / PARTS
    count = int((last - first) / apart)
    if count > MOST_VALUES:
        raise LarkTallyError(
            f"tune: {count} values from {low} to {high}, {step} apart; at most {MOST_VALUES} are looked at"
        )
    kind: Callable[[Fraction], float] = int if whole else float
    values = []
    for n in range(count + 1):
        values.append(kind(first + apart * n))
    if values[-1] != kind(last):
        values.append(kind(last))
    return values, kind(apart)
