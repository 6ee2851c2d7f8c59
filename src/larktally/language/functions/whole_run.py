"""Properties of a whole run: steps in order, a measure in its bounds, the same as another trace."""

from __future__ import annotations

import numpy as np

from larktally.errors import ClaimError
from larktally.language.columns import Array, Evaluator
from larktally.language.function import Argument, Property, arguments
from larktally.language.functions.measures import MEASURES
from larktally.language.judgement import Judgement
from larktally.language.judging import first_breach_row, in_rows, last_row_of, one_case, row_text, rows_of
from larktally.language.margins import least
from larktally.language.measuring import measured, measured_row
from larktally.language.tree import Call, ChannelRef, Node, Text, to_text
from larktally.language.typecheck import Checker
from larktally.textfmt import shown_value

__all__ = ["PROPERTIES"]

_MEASURES = {one.name: one for one in MEASURES}


def _steps(read: Evaluator, node: Call) -> list[int]:
    """The rows of the first a, the first b after it, and so on, as far as there are any."""
    rows: list[int] = []
    start = 0
    for arg in node.args:
        later = rows_of(read.flags(arg)[start:])
        if not len(later):
            break
        rows.append(start + int(later[0]))
        # Strictly later: one row cannot be two steps.
        start = rows[-1] + 1
    return rows


def _in_order(read: Evaluator, node: Call) -> Judgement:
    if len(_steps(read, node)) < len(node.args):
        return one_case(read, False, last_row_of(read))
    return one_case(read, True, None)


def _missing_step(read: Evaluator, node: Call) -> str:
    rows = _steps(read, node)
    if len(rows) == len(node.args):
        return ""
    before = []
    for arg, row in zip(node.args, rows, strict=False):
        before.append(f"{to_text(arg)} in row {row}")
    if before:
        after = f" after {', '.join(before)}"
    else:
        after = ""
    return f"{to_text(node.args[len(rows)])} never held{after}"


def _constant(read: Evaluator, node: Node) -> float:
    return float(read.at(node, 0))


def _measured(read: Evaluator, node: Call) -> Judgement:
    found = measured(read, _MEASURES, node.args[0])
    low, high = (_constant(read, arg) for arg in node.args[1:])
    return one_case(read, bool(low <= found <= high), None)


def _what_was_measured(read: Evaluator, node: Call) -> str:
    low, high = (shown_value(read.at(arg, 0)) for arg in node.args[1:])
    measure = node.args[0]
    found = measured(read, _MEASURES, measure)
    # Not in any bounds, which the comparison below would say as a number.
    if np.isnan(found):
        return f"{to_text(measure)} found nothing to measure, where {low}..{high} was claimed"
    row, where = measured_row(read, _MEASURES, measure), ""
    if row is not None and isinstance(measure, Call):
        where = f" in {row_text(read, row)}"
        if _MEASURES[measure.name].spans:
            where = f" from {row_text(read, row)} on"
    return f"{to_text(measure)} = {shown_value(found)}{where}, which is not in {low}..{high}"


def _compared_signal(node: Call) -> Node:
    """What `same` compares: a signal, or the channel of a name in quotes."""
    given = node.args[0]
    if isinstance(given, Text):
        return ChannelRef(given.value, given.place)
    return given


def _tolerance_needs_numbers(checker: Checker, node: Call) -> None:
    if node.option("tol") is not None:
        checker.quantity(Argument("x", "quantity"), node.args[0])


def _same(read: Evaluator, node: Call) -> Judgement:
    other = read.other
    if other is None:
        raise ClaimError("same compares two traces, and there is no other one: check(trace, claims, against=other)")
    signal = _compared_signal(node)
    if read.kind(signal) != other.kind(signal):
        raise ClaimError(f"{to_text(signal)} is of another kind in the other trace")
    rows, most = min(read.rows, other.rows), max(read.rows, other.rows)
    mine, theirs = read.column(signal)[:rows], other.column(signal)[:rows]
    # Rows that only one of the two has are not the same.
    wrong, margin = np.ones(most, dtype=np.bool_), None
    tolerance = node.option("tol")
    if tolerance is not None:
        room = _room(mine.astype(np.float64), theirs.astype(np.float64), _constant(read, tolerance))
        wrong[:rows], margin = room < 0, least(room)
    elif mine.dtype == np.float64:
        wrong[:rows] = np.logical_not(_equal_numbers(mine, theirs))
    else:
        wrong[:rows] = mine != theirs
    failed = rows_of(wrong)
    return Judgement(most, len(failed), in_rows(failed), margin=margin)


def _equal_numbers(mine: Array, theirs: Array) -> Array:
    """Whether two numbers are the same; NaN is the same as NaN."""
    return np.asarray((mine == theirs) | ((mine != mine) & (theirs != theirs)))


def _room(
    mine: np.ndarray[tuple[int, ...], np.dtype[np.float64]],
    theirs: np.ndarray[tuple[int, ...], np.dtype[np.float64]],
    tolerance: float,
) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """How much of a tolerance is left; none and nothing lacking where both are NaN or infinite alike."""
    room = tolerance - np.abs(mine - theirs)
    equal = _equal_numbers(mine, theirs)
    return np.where(np.isnan(room), np.where(equal, 0.0, -np.inf), room)


PROPERTIES = (
    Property(
        name="measured",
        positional=arguments("m:measure low:constant high:constant"),
        meaning="low <= m <= high",
        judge=_measured,
        reason=_what_was_measured,
    ),
    Property(
        name="same",
        positional=arguments("x:compared"),
        named=arguments("tol:number?"),
        meaning="x is in every row what it is in the other trace, or within tol of it",
        fits=_tolerance_needs_numbers,
        judge=_same,
        case=("row", "rows"),
        final=first_breach_row,
    ),
    Property(
        name="in_order",
        positional=arguments("p:flag"),
        many=True,
        meaning="first a, after it b, after that c, …",
        judge=_in_order,
        reason=_missing_step,
    ),
)
