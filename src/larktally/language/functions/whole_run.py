"""Properties of a whole run: steps in order, and the same as another trace."""

from __future__ import annotations

from fractions import Fraction
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.errors import ClaimError
from larktally.language.columns import Array, Evaluator
from larktally.language.function import Argument, Property, arguments
from larktally.language.judgement import Breach, Judgement
from larktally.language.judging import first_breach_row, in_rows, last_row_of, one_case, rows_of
from larktally.language.margins import least
from larktally.language.tree import Call, ChannelRef, Node, Text, to_text
from larktally.language.typecheck import Checker
from larktally.textfmt import shown_value
from larktally.turning import turned

__all__ = ["PROPERTIES"]

Numbers: TypeAlias = npt.NDArray[np.float64]


def _steps(read: Evaluator, node: Call) -> list[int]:
    """The rows of the first a, the first b after it, and so on, as far as there are any."""
    rows: list[int] = []
    start = 0
    for arg in node.args:
        later = read.flags(arg)[start:]
        # The first true one: argmax of flags stops there.
        if not len(later) or not later[found := int(later.argmax())]:
            break
        rows.append(start + found)
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
    step, other_step = _steps_between(read, other)
    # Rows at the same times: at one rate each row and its like.
    ours, others = -(-read.rows // step), -(-other.rows // other_step)
    rows, most = min(ours, others), max(ours, others)
    mine = read.column(signal)[::step][:rows]
    theirs = other.column(signal)[::other_step][:rows]
    # Rows that only one of the two has are not the same.
    wrong, margin = np.ones(most, dtype=np.bool_), None
    tolerance = node.option("tol")
    if tolerance is not None:
        room = _room(_off(read, signal, mine, theirs), _equal_numbers(mine, theirs), _constant(read, tolerance))
        wrong[:rows], margin = room < 0, least(room)
    elif mine.dtype == np.float64:
        wrong[:rows] = np.logical_not(_equal_numbers(mine, theirs) | (_off(read, signal, mine, theirs) == 0))
    else:
        wrong[:rows] = mine != theirs
    failed = rows_of(wrong) * step
    return Judgement(most, len(failed), in_rows(failed), slack=margin)


def _steps_between(read: Evaluator, other: Evaluator) -> tuple[int, int]:
    """Every how many rows of each fall at the same times."""
    rate, other_rate = read.names.rate, other.names.rate
    if rate is None or other_rate is None:
        return 1, 1
    ratio = Fraction(rate) / Fraction(other_rate)
    return ratio.numerator, ratio.denominator


def _off(read: Evaluator, signal: Node, mine: Array, theirs: Array) -> Numbers:
    """How far two numbers are apart: of angles the short way round."""
    wraps = None
    if isinstance(signal, ChannelRef):
        wraps = read.names.channels[signal.name].wraps
    return np.abs(turned(mine.astype(np.float64) - theirs.astype(np.float64), wraps))


def _what_is_not_the_same(read: Evaluator, node: Call, breach: Breach) -> str:
    other, signal = read.other, _compared_signal(node)
    if other is None or breach.row is None:
        return ""
    step, other_step = _steps_between(read, other)
    there = breach.row // step * other_step
    name = to_text(signal)
    if breach.row >= read.rows:
        return f"; this trace ends in row {read.rows - 1}, the other goes on"
    mine = shown_value(read.at(signal, breach.row))
    if there >= other.rows:
        return f"; {name} is {mine}, and the other trace ends in its row {other.rows - 1}"
    theirs = shown_value(other.at(signal, there))
    if mine == theirs:
        mine, theirs = repr(read.at(signal, breach.row)), repr(other.at(signal, there))
    where = ""
    if there != breach.row:
        where = f" in its row {there}, at the same time"
    return f"; {name} is {mine} here and {theirs} in the other trace{where}"


def _equal_numbers(mine: Array, theirs: Array) -> Array:
    """Whether two numbers are the same; NaN is the same as NaN."""
    return np.asarray((mine == theirs) | ((mine != mine) & (theirs != theirs)))


def _room(off: Numbers, equal: Array, tolerance: float) -> Numbers:
    """How much of a tolerance is left; none and nothing lacking where both are NaN or infinite alike."""
    room = tolerance - off
    return np.where(np.isnan(room), np.where(equal, 0.0, -np.inf), room)


PROPERTIES = (
    Property(
        name="same",
        positional=arguments("x:compared"),
        named=arguments("tol:number?"),
        meaning="x is in every row what it is in the other trace at that time, or within tol of it",
        fits=_tolerance_needs_numbers,
        judge=_same,
        case=("row", "rows"),
        how=_what_is_not_the_same,
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
