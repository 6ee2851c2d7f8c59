"""What came of tuning: stretches of values that give what is wanted of a measure, or what is nearest, and all that was tried."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, NamedTuple

from larktally.claims.named import NamedMeasure
from larktally.report import Block, Line, Report, Tone
from larktally.textfmt import shown_span, shown_value

__all__ = ["Sample", "Stretch", "Tuned"]


class Sample(NamedTuple):
    """One value that was tried: what the measure came to, NaN where there was nothing to measure; each claim's verdict, and
    whether it passed with it; or why the run failed."""

    value: float
    measured: float
    verdicts: tuple[str, ...] = ()
    passed: tuple[bool, ...] = ()
    failed: str = ""


@dataclass(frozen=True, slots=True)
class Stretch:
    """Values of a param from `low` to `high` that all give what is wanted, one alone where they are the same. `value` is one of
    them with few digits, `measured` what it gives; `open_low` and `open_high` say that it ends where the looking did; `broken`
    are the claims that do not pass there; `code` the line of the model with it."""

    low: float
    high: float
    value: float
    measured: float
    open_low: bool
    open_high: bool
    broken: tuple[str, ...]
    code: str

    def plain(self) -> dict[str, Any]:
        """The stretch as plain data, for JSON."""
        return {
            "low": self.low,
            "high": self.high,
            "value": self.value,
            "measured": self.measured,
            "open": [self.open_low, self.open_high],
            "broken": list(self.broken),
            "code": self.code,
        }


@dataclass(frozen=True, slots=True)
class Tuned:
    """What came of tuning: `stretches` of values that give what is wanted, in order; `samples` all that was tried, in order;
    `jumps` from one value to the next between which the measure leaves out what is wanted: (two samples each)."""

    param: str
    measure: NamedMeasure
    wanted: tuple[float, float]
    step: float
    whole: bool
    claims: tuple[str, ...]
    samples: tuple[Sample, ...]
    stretches: tuple[Stretch, ...]
    jumps: tuple[tuple[Sample, Sample], ...]

    @property
    def found(self) -> bool:
        """Whether any value gives what is wanted."""
        return bool(self.stretches)

    @property
    def nearest(self) -> Sample | None:
        """Of all that was tried what comes nearest to it; None where there was nothing to measure."""
        nearest: Sample | None = None
        for one in self.samples:
            off = _off(one.measured, self.wanted)
            if not math.isnan(off) and (nearest is None or off < _off(nearest.measured, self.wanted)):
                nearest = one
        return nearest

    def plain(self) -> dict[str, Any]:
        """All of it as plain data, for JSON."""
        samples = []
        for one in self.samples:
            verdicts = dict(zip(self.claims, one.verdicts, strict=False))
            samples.append({"value": one.value, "measured": one.measured, "claims": verdicts, "failed": one.failed})
        nearest = None
        if self.nearest is not None:
            nearest = {"value": self.nearest.value, "measured": self.nearest.measured}
        return {
            "param": self.param,
            "measure": self.measure.of,
            "wanted": self.wanted,
            "step": self.step,
            "found": self.found,
            "stretches": [one.plain() for one in self.stretches],
            "nearest": nearest,
            "jumps": [[[one.value, one.measured] for one in jump] for jump in self.jumps],
            "samples": samples,
        }

    def report(self) -> Report:
        """The values that give what is wanted, or what is nearest to it, and on what that leans."""
        return Report.of(self._blocks())

    def _blocks(self) -> Iterator[Block]:
        what, wanted = self.measure.name or self.measure.of, shown_span(*self.wanted)
        low, high = self.samples[0].value, self.samples[-1].value
        over = f"{self.param} = {shown_span(low, high)}"
        if self.stretches:
            yield Line(f"{what} is {wanted}{_unit(self.measure)} with", tone="good")
        else:
            yield Line(f"{what} is {wanted}{_unit(self.measure)} for no {over}", tone="bad")
        for one in self.stretches:
            yield from self._stretch(one)
        if not self.stretches and self.nearest is not None:
            nearest = self.nearest
            yield Line(f"nearest is {nearest.measured:.6g}, with {self.param} = {shown_value(nearest.value)}", indent=1)
        if not self.stretches:
            for before, after in self.jumps:
                told = f"it goes from {before.measured:.6g} to {after.measured:.6g} at once"
                yield Line(f"{told}, between {before.value:.9g} and {after.value:.9g}", indent=1)
        if not self.stretches and self.whole:
            yield Line("between whole numbers nothing was tried: an end with a point, 300.0, says so", indent=1)
        unmeasured, failed = 0, []
        for each in self.samples:
            if each.failed:
                failed.append(each)
            else:
                unmeasured += math.isnan(each.measured)
        if unmeasured:
            yield Line(f"in {unmeasured} of {len(self.samples)} runs there was nothing to measure", tone="odd")
        if failed:
            first = failed[0]
            told = f"{len(failed)} of {len(self.samples)} runs failed, first with {shown_value(first.value)}: {first.failed}"
            yield Line(told, tone="odd")
        steps = f"{shown_value(self.step)} apart, and nearer where it passes what is wanted"
        if self.whole:
            steps += ", whole numbers alone"
        yield Line(
            f"{len(self.samples)} runs over {over}, {steps}; what comes and goes within a step is not seen",
            tone="quiet",
        )

    def _stretch(self, one: Stretch) -> Iterator[Block]:
        told = f"{self.param} = {one.value:.15g}"
        low, high = _inward(one.low, one.high)
        if low < high:
            told += f", and all of {low:.15g}..{high:.15g}"
        ends = []
        if one.open_low:
            ends.append(shown_value(one.low))
        if one.open_high:
            ends.append(shown_value(one.high))
        if ends:
            told += f" (looked at as far as {' and '.join(ends)})"
        passed: Tone = "plain"
        if one.broken:
            told += f"; does not pass: {', '.join(one.broken)}"
            passed = "odd"
        yield Line(told, tone=passed, indent=1)
        yield Line(one.code, indent=2, tone="quiet")

    def __str__(self) -> str:
        return self.report().text()


def _inward(low: float, high: float) -> tuple[float, float]:
    """Two ends in six digits, so that nothing outside of them is said to be inside."""
    size = max(abs(low), abs(high))
    if not size:
        return low, high
    unit = Fraction(10) ** (math.floor(math.log10(size)) - 5)
    return float(math.ceil(Fraction(low) / unit) * unit), float(math.floor(Fraction(high) / unit) * unit)


def _unit(measure: NamedMeasure) -> str:
    return f" {measure.unit}" if measure.unit else ""


def _off(measured: float, wanted: tuple[float, float]) -> float:
    """How far a measure is from what is wanted; NaN of NaN."""
    if math.isnan(measured):
        return measured
    return max(wanted[0] - measured, measured - wanted[1], 0.0)
