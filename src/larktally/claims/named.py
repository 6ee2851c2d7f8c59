"""Named measures: numbers of a run under the names that people use for them, with a unit and what is wanted of them."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TypeAlias

import msgspec

from larktally.errors import ClaimError, LarkTallyError
from larktally.language.functions import MEASURES
from larktally.language.measuring import measured
from larktally.language.parsing import parse
from larktally.language.reading import evaluator, typecheck
from larktally.language.tree import Node, to_text
from larktally.report import Table, Tone
from larktally.textfmt import shown_span, shown_value
from larktally.traces.header import MeasureNote
from larktally.traces.trace import Trace

__all__ = [
    "MeasureReading",
    "NamedMeasure",
    "Wanted",
    "bounds_of",
    "measures_noted",
    "measures_table",
    "named_measures",
    "read_measures",
    "read_measures_of_both",
    "values_before",
]

#: A number that is wanted, or the least and the greatest that will do.
Wanted: TypeAlias = "float | Sequence[float]"


@dataclass(frozen=True, slots=True)
class NamedMeasure:
    """A measure under a name: `of` is its text, `wanted` the least and the greatest that will do.

    What is wanted is shown, and no claim: `68 <= apex(wick.y) <= 70` is one.
    """

    of: str
    unit: str = ""
    wanted: tuple[float, float] | None = None
    name: str = ""
    tree: Node | None = None

    def __init__(
        self, of: str, unit: str = "", wanted: Wanted | None = None, name: str = "", tree: Node | None = None
    ) -> None:
        """Raises ClaimError for a text that is none of the language's, and for what is wanted where that is no number."""
        made = tree
        if made is None:
            made = parse(of)
        # A value: it is only set here, while it is made.
        for key, value in (("of", of), ("unit", unit), ("wanted", bounds_of(wanted)), ("name", name), ("tree", made)):
            object.__setattr__(self, key, value)

    @property
    def note(self) -> MeasureNote:
        """What a trace keeps of it, so that whoever reads it knows its numbers by name."""
        return MeasureNote(to_text(self.tree) if self.tree else self.of, self.unit, self.wanted)

    def read(self, trace: Trace) -> MeasureReading:
        """Its number off a trace; raises ClaimError for what is no measure, or does not fit the trace."""
        read = evaluator(trace)
        node = self.tree
        assert node is not None  # it is read where the measure is made
        try:
            if typecheck(node, read.names, self.of) != "measure":
                raise ClaimError(f"{self.of} is no measure; measures are {', '.join(MEASURES)}")
        except ClaimError as error:
            raise ClaimError(f"measure {self.name!r}: {error}") from None
        return MeasureReading(self, measured(read, MEASURES, node))


class MeasureReading(msgspec.Struct, frozen=True):
    """What a named measure came to, NaN where there was nothing to measure; and what it was before, where that is known."""

    measure: NamedMeasure
    value: float
    before: float | None = None

    @property
    def name(self) -> str:
        return self.measure.name

    @property
    def fits(self) -> bool:
        """Whether it is what is wanted; true where nothing is said."""
        wanted = self.measure.wanted
        return wanted is None or wanted[0] <= self.value <= wanted[1]

    def plain(self) -> dict[str, object]:
        """The reading as plain data, for JSON."""
        return {
            "name": self.name,
            "of": self.measure.of,
            "value": self.value,
            "before": self.before,
            "unit": self.measure.unit,
            "wanted": self.measure.wanted,
            "fits": self.fits,
        }

    def __str__(self) -> str:
        value = shown_value(self.value)
        if self.before is not None and not _same(self.before, self.value):
            value = f"{shown_value(self.before)} → {value}"
        return f"{self.name} {value} {self.measure.unit}".rstrip()


def named_measures(given: Mapping[str, str | NamedMeasure]) -> tuple[NamedMeasure, ...]:
    """Measures by their names; raises ClaimError for a text that is none of the language's, and for an empty name."""
    found = []
    for name, one in given.items():
        if not isinstance(name, str) or not name.strip():
            raise ClaimError(f"a measure has a name that is not empty, not {name!r}")
        try:
            if isinstance(one, NamedMeasure):
                made = one
            else:
                made = NamedMeasure(one)
        except ClaimError as error:
            raise ClaimError(f"measure {name!r}: {error}") from None
        found.append(replace(made, name=name))
    return tuple(found)


def measures_noted(*traces: Trace) -> tuple[NamedMeasure, ...]:
    """The named measures that some traces keep, the first trace's first; one name once."""
    found: dict[str, NamedMeasure] = {}
    for trace in traces:
        for name, note in trace.header.measures.items():
            found.setdefault(name, NamedMeasure(note.of, note.unit, note.wanted, name))
    return tuple(found.values())


def read_measures(
    trace: Trace, measures: Iterable[NamedMeasure], before: Mapping[str, float] | None = None
) -> tuple[MeasureReading, ...]:
    """What named measures come to over a trace, beside what they were before, as far as that is known.

    Raises ClaimError for one that does not fit the trace.
    """
    known = before or {}
    return tuple(msgspec.structs.replace(one.read(trace), before=known.get(one.name)) for one in measures)


def values_before(trace: Trace, measures: Iterable[NamedMeasure]) -> dict[str, float]:
    """What named measures came to over an earlier run, as far as they can be read off it: by name."""
    found = {}
    for measure in measures:
        # The run before may not have had the channel yet.
        with contextlib.suppress(LarkTallyError):
            found[measure.name] = measure.read(trace).value
    return found


def read_measures_of_both(before: Trace, now: Trace, measures: Iterable[NamedMeasure]) -> tuple[MeasureReading, ...]:
    """What named measures came to in one run and come to in another; those that fit both."""
    found = []
    for measure in measures:
        with contextlib.suppress(LarkTallyError):
            found.append(msgspec.structs.replace(measure.read(now), before=measure.read(before).value))
    return tuple(found)


def by_run_table(readings: Mapping[str, Sequence[MeasureReading]]) -> Table:
    """A line for each run, a column for each measure."""
    names = dict.fromkeys(one.name for found in readings.values() for one in found)
    lines = []
    for run, found in readings.items():
        values = {one.name: f"{shown_value(one.value)} {one.measure.unit}".rstrip() for one in found}
        lines.append([run, *(values.get(name, "") for name in names)])
    return Table(["run", *names], lines, frozenset({0}))


def measures_table(readings: Sequence[MeasureReading]) -> Table:
    """A line for each: its name, what it was where that differs, what it is, its unit, and what is wanted."""
    lines, tones = [], {}
    for n, one in enumerate(readings):
        was = ""
        if one.before is not None and not _same(one.before, one.value):
            was = f"{shown_value(one.before)} →"
        wanted = ""
        if one.measure.wanted is not None:
            wanted = f"wanted {shown_span(*one.measure.wanted)}"
            tone: Tone = "odd"
            if one.fits:
                tone = "good"
            tones[n] = tone
        lines.append([one.name, was, shown_value(one.value), one.measure.unit, wanted])
    return Table(["measure", "", "", "", ""], lines, frozenset({0, 3, 4}), tones)


def _same(one: float, other: float) -> bool:
    return one == other or (math.isnan(one) and math.isnan(other))


def bounds_of(wanted: Wanted | None) -> tuple[float, float] | None:
    """The least and the greatest that will do; raises ClaimError for what is neither a number nor two."""
    if wanted is None:
        return None
    if isinstance(wanted, int | float):
        bounds = [float(wanted), float(wanted)]
    else:
        bounds = list(wanted)
    numbers = [one for one in bounds if isinstance(one, int | float) and not isinstance(one, bool) and one == one]
    if len(bounds) != 2 or len(numbers) != 2 or numbers[0] > numbers[1]:
        raise ClaimError(f"wanted is a number, or the least and the greatest that will do, not {wanted!r}")
    return float(numbers[0]), float(numbers[1])
