"""Expected tables: some rows, some channels and events, and what they are expected to be. A filled cell is a case."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal, TypeAlias

import msgspec
import numpy as np

from larktally.errors import ClaimError
from larktally.language.columns import Evaluator
from larktally.language.function import Property
from larktally.language.judgement import LISTED, Breach, Judgement
from larktally.language.names import Names
from larktally.language.tree import Call
from larktally.names import no_such_file, unknown_name
from larktally.report import Table, Tone
from larktally.textfmt import plural
from larktally.turning import turned

__all__ = ["ExpectedTable", "load_expected"]

MOST_BYTES = 20_000_000
MOST_SHOWN = 8
# As far as a table that was written from another clock is off.
FARTHEST_SHIFT = 3
_PLACE = re.compile(r"\d{1,12}(\.\d{0,12})?|\.\d{1,12}|\d{1,12}/[1-9]\d{0,8}")
_PLACES = ("row", "frame", "time")

Kind: TypeAlias = Literal["number", "count", "flag", "label", "event"]


class _Heading(msgspec.Struct, frozen=True):
    """A column as its heading says it: a name, and a tolerance where one is written behind it."""

    name: str
    tolerance: float | None


class _Column(msgspec.Struct, frozen=True):
    """A column beside the trace that it is about: what it holds in each row, and how it is compared."""

    heading: _Heading
    kind: Kind
    values: Any
    wraps: float | None = None


class _Cell(msgspec.Struct, frozen=True):
    """A filled cell that is not what it should be."""

    row: int
    name: str
    expected: str
    found: str


class ExpectedTable(msgspec.Struct, frozen=True):
    """Rows of a CSV: `places` are the rows, or the times, as they stand; each of `cells` a text for each heading."""

    path: str
    by: str
    headings: tuple[_Heading, ...]
    places: tuple[str, ...]
    cells: tuple[tuple[str, ...], ...]

    def told(self) -> Property:
        """The property that it is: every filled cell is what it says."""
        return Property(
            name="expected",
            meaning="every filled cell of the table is what the trace has there",
            judge=lambda read, node: self._judge(read),
            case=("cell", "cells"),
            reason=lambda read, node: self._reason(read),
            final=_first_breach,
        )

    def check(self, names: Names) -> None:
        """Raises ClaimError for a column that the trace does not have, a cell that is of another kind, and a time that is no
        row."""
        kinds = [_kind_of(self, heading, names) for heading in self.headings]
        labels = [names.channels[one.name].labels if one.name in names.channels else () for one in self.headings]
        self._rows(names)
        for place, cells in zip(self.places, self.cells, strict=True):
            for heading, kind, known, text in zip(self.headings, kinds, labels, cells, strict=True):
                if text:
                    _value(self, place, heading, kind, text)
                if text and known and text not in known:
                    near = unknown_name("label", text, known, heading.name)
                    raise ClaimError(f"{self.path}: {self.by} {place}: {near}")

    def side_by_side(self, read: Evaluator) -> Table:
        """The first cells that differ: what was expected, and what the trace has."""
        lines, tones = [], {}
        for n, cell in enumerate(self._wrong(read, 0)[:MOST_SHOWN]):
            lines.append([str(cell.row), cell.name, cell.expected, cell.found])
            tone: Tone = "bad"
            tones[n] = tone
        return Table(["row", "column", "expected", "found"], lines, frozenset({1}), tones)

    def _judge(self, read: Evaluator) -> Judgement:
        cases = opened = 0
        margin = math.inf
        rows = self._rows(read.names)
        columns = self._columns(read)
        for row, cells in sorted(zip(rows, self.cells, strict=True)):
            for column, text in zip(columns, cells, strict=True):
                if text:
                    cases += 1
                    if row >= read.rows:
                        opened += 1
                    elif column.heading.tolerance is not None:
                        margin = min(margin, column.heading.tolerance - _distance(self, row, column, text))
        wrong = self._wrong(read, 0)
        breaches = tuple(Breach(None, cell.row) for cell in wrong[:LISTED])
        waiting = None
        if opened:
            beyond = [row for row in rows if row >= read.rows]
            waiting = Breach(min(beyond), max(beyond))
        return Judgement(cases, len(wrong), breaches, opened, None if margin == math.inf else margin, waiting=waiting)

    def _reason(self, read: Evaluator) -> str:
        wrong = self._wrong(read, 0)
        told = f"{len(wrong)} of {plural(self._filled(), 'cell')} differ, the first in row {wrong[0].row}: {wrong[0].name} is "
        told += f"{wrong[0].found}, and {wrong[0].expected} was expected"
        for rows in (n * way for n in range(1, FARTHEST_SHIFT + 1) for way in (-1, 1)):
            if not self._wrong(read, rows):
                late = "earlier"
                if rows > 0:
                    late = "later"
                return f"{told}; all of it is what stands {plural(abs(rows), 'row')} {late}"
        return told

    def _filled(self) -> int:
        return sum(bool(text) for cells in self.cells for text in cells)

    def _rows(self, names: Names) -> list[int]:
        """The row of each line; raises ClaimError where a place is no row, or stands twice."""
        rows: dict[int, None] = {}
        for place in self.places:
            row = self._row(place, names)
            if row in rows:
                raise ClaimError(f"{self.path}: {self.by} {place} stands twice")
            rows[row] = None
        return list(rows)

    def _row(self, place: str, names: Names) -> int:
        # Bounded: a text of ten letters may be a number of a million digits.
        if not _PLACE.fullmatch(place):
            raise ClaimError(f"{self.path}: {self.by} {place[:40]!r} is no row, and no time that is one")
        at = Fraction(place)
        if self.by == "time":
            if names.rate is None:
                raise ClaimError(
                    f"{self.path}: a time needs a rate, and none is known here; give one (--rate), or rows"
                )
            at *= names.rate
        if at.denominator != 1:
            beside = ""
            if self.by == "time":
                beside = f"; it is {float(at):.6g} frames at {names.rate} frames/s"
            raise ClaimError(f"{self.path}: {self.by} {place} is no row{beside}")
        return int(at)

    def _columns(self, read: Evaluator) -> list[_Column]:
        found = []
        for heading in self.headings:
            kind = _kind_of(self, heading, read.names)
            if kind == "event":
                name = heading.name.removeprefix("event:")
                found.append(_Column(heading, kind, read.trace.events.counts(name, None, read.rows)))
            elif heading.name.startswith("input:"):
                found.append(_Column(heading, kind, read.trace.inputs[heading.name[6:]]))
            else:
                column = read.trace.columns[heading.name]
                found.append(_Column(heading, kind, column.values, column.channel.wraps))
        return found

    def _wrong(self, read: Evaluator, shift: int) -> list[_Cell]:
        """The cells that are not what the trace has so many rows later."""
        columns, wrong = self._columns(read), []
        for row, cells in sorted(zip(self._rows(read.names), self.cells, strict=True)):
            at = row + shift
            if not 0 <= at < read.rows:
                # What no row is beside cannot be what stands there.
                if shift and row < read.rows:
                    wrong += [
                        _Cell(row, column.heading.name, text, "")
                        for column, text in zip(columns, cells, strict=True)
                        if text
                    ]
                continue
            for column, text in zip(columns, cells, strict=True):
                if text and not _agrees(self, at, column, text):
                    wrong.append(_Cell(row, _shown_heading(column.heading), text, _shown(column.values[at])))
        return wrong


def load_expected(path: str | Path) -> ExpectedTable:
    """Reads a CSV of what is expected: `row` (or `frame`), or `time` in seconds, then channels, `input:NAME` and events.

    Raises ClaimError for what is no such table: no place, no column, no filled cell, a row of another length.
    """
    import csv

    path = Path(path)
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ClaimError(f"{path}: an expected table has at most {MOST_BYTES} bytes")
        text = path.read_text(encoding="utf-8-sig")
        lines = [line for line in csv.reader(io.StringIO(text, newline=""), strict=True) if any(map(str.strip, line))]
    except FileNotFoundError:
        raise ClaimError(no_such_file(path)) from None
    except OSError as error:
        raise ClaimError(f"{path}: cannot be read: {error.strerror or error}") from None
    except (csv.Error, UnicodeDecodeError) as error:
        raise ClaimError(f"{path}: no CSV: {error}") from None
    if not lines:
        raise ClaimError(f"{path}: an expected table that is blank would be kept by every run")
    names = [name.strip() for name in lines[0]]
    by = _place_of(path, names)
    at = names.index(by)
    headings = [_heading(path, name) for n, name in enumerate(names) if n != at]
    places, cells = [], []
    for number, line in enumerate(lines[1:], 2):
        if len(line) != len(names):
            raise ClaimError(f"{path}, row {number} of the table: {len(line)} cells, under {len(names)} headings")
        texts = [cell.strip() for cell in line]
        places.append(texts.pop(at))
        cells.append(tuple(texts))
    if not any(text for row in cells for text in row):
        raise ClaimError(f"{path}: no cell of this table is filled, so that nothing is expected")
    return ExpectedTable(str(path), by, tuple(headings), tuple(places), tuple(cells))


def _place_of(path: Path, names: Sequence[str]) -> str:
    """The heading of the places; raises ClaimError for none, for two, and for a heading that stands twice."""
    found = [name for name in names if name in _PLACES]
    if len(found) != 1:
        listed = ", ".join(map(repr, names[:8]))
        raise ClaimError(f"{path}: one column says where: row (or frame), or time; there are {listed}")
    for n, name in enumerate(names):
        if name in names[:n]:
            raise ClaimError(f"{path}: the heading {name!r} stands twice")
    if len(names) == 1:
        raise ClaimError(f"{path}: beside {found[0]!r} there is no column")
    return found[0]


def _heading(path: Path, text: str) -> _Heading:
    name, tilde, tolerance = text.rpartition("~")
    if not tilde:
        return _Heading(text, None)
    try:
        found = float(tolerance)
    except ValueError:
        found = math.nan
    if not 0 <= found < math.inf:
        raise ClaimError(f"{path}: {text!r}: a tolerance stands behind '~', a number of 0 or more: wick.x~0.5")
    return _Heading(name.strip(), found)


def _kind_of(table: ExpectedTable, heading: _Heading, names: Names) -> Kind:
    """What a column holds; raises ClaimError for a name that is no channel, input or event."""
    kind: Kind | None = None
    name = heading.name
    if name in names.channels:
        kind = names.channels[name].kind
    elif name.startswith("input:") and name[6:] in names.actions:
        kind = "number"
    elif name.removeprefix("event:") in names.events:
        kind = "event"
    if kind is None:
        known = [*names.channels, *names.events, *(f"input:{action}" for action in names.actions)]
        raise ClaimError(f"{table.path}: {unknown_name('column', name, known, names.where)}")
    if heading.tolerance is not None and kind not in ("number", "count"):
        raise ClaimError(
            f"{table.path}: {name!r} is {'an event' if kind == 'event' else f'a {kind}'}, and has no tolerance"
        )
    return kind


def _value(table: ExpectedTable, place: str, heading: _Heading, kind: Kind, text: str) -> float | bool | str:
    """What a cell says; raises ClaimError where it is of another kind than its column."""
    if kind == "label":
        return text
    if kind == "flag":
        known = {"true": True, "1": True, "false": False, "0": False}
        if text.lower() in known:
            return known[text.lower()]
        raise ClaimError(f"{table.path}: {table.by} {place}, {heading.name}: {text!r} is neither true nor false")
    try:
        value = float(text)
    except ValueError:
        value = None
    whole = kind == "event"
    if value is None or (whole and not (value.is_integer() and value >= 0)):
        wanted = "no number"
        if whole:
            wanted = "no number of events"
        raise ClaimError(f"{table.path}: {table.by} {place}, {heading.name}: {text!r} is {wanted}")
    return value


def _agrees(table: ExpectedTable, row: int, column: _Column, text: str) -> bool:
    expected, found = _value(table, str(row), column.heading, column.kind, text), column.values[row]
    if column.heading.tolerance is not None:
        return _distance(table, row, column, text) <= column.heading.tolerance
    if isinstance(expected, float):
        return bool(float(found) == expected) or bool(found != found and math.isnan(expected))
    return bool(found == expected)


def _distance(table: ExpectedTable, row: int, column: _Column, text: str) -> float:
    """How far a number is from what its cell says; of an angle the short way round. 0 where both are NaN, or infinite alike."""
    expected, found = float(_value(table, str(row), column.heading, column.kind, text)), float(column.values[row])
    if found == expected or (math.isnan(found) and math.isnan(expected)):
        return 0.0
    distance = float(np.abs(turned(np.asarray(found - expected), column.wraps)))
    if math.isnan(distance):
        return math.inf
    return distance


def _shown(value: Any) -> str:
    if isinstance(value, bool | np.bool_):
        if value:
            return "true"
        return "false"
    if isinstance(value, np.generic):
        return str(value.item())
    return str(value)


def _shown_heading(heading: _Heading) -> str:
    if heading.tolerance is None:
        return heading.name
    return f"{heading.name}~{heading.tolerance:g}"


def _first_breach(read: Evaluator, node: Call, judgement: Judgement) -> int | None:
    return min((breach.row for breach in judgement.breaches if breach.row is not None), default=None)
