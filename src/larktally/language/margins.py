"""Margins: how much slack a comparison had, signed, in the unit of its channel.

Only one ordering comparison, or a function that has a slack of its own (near), has one: right - left for < and <=,
left - right for > and >=. A comparison with NaN fails by everything: its slack is minus infinity.
"""

from __future__ import annotations

import math
from typing import TypeAlias, cast

import numpy as np
import numpy.typing as npt

from larktally.language import rolling
from larktally.language.columns import Evaluator
from larktally.language.durations import with_frames
from larktally.language.tree import Call, Compare, Node

__all__ = ["greatest_ahead", "least", "least_ahead", "least_of_ordering", "slack", "slack_of_not"]

Slack: TypeAlias = "npt.NDArray[np.float64] | None"


def slack(read: Evaluator, node: Node) -> Slack:
    """The slack of a condition in every row, without NaN; None where the condition has none."""
    return _without_nan(read, node, _slack(read, node), -np.inf)


def slack_of_not(read: Evaluator, node: Node) -> Slack:
    """The slack of a condition's opposite: what never(p) is judged by."""
    found = _slack(read, node)
    if found is None:
        opposite = None
    else:
        opposite = np.negative(found)
    return _without_nan(read, node, opposite, np.inf)


def least_of_ordering(read: Evaluator, node: Node, opposite: bool = False) -> tuple[float, bool] | None:
    """The least slack of one ordering comparison (or of its opposite) over all rows, and whether it holds in every row; None
    where the condition is no such, or a side is NaN somewhere.

    A difference of two floats has the sign of their order, and rounding keeps the order of sums: so the least slack tells the
    verdict too, and beside a constant it is that of the extreme alone. One pass in place of three, which is most of such a
    claim's cost.
    """
    if not (isinstance(node, Compare) and len(node.ops) == 1 and node.ops[0] in ("<", "<=", ">", ">=") and read.rows):
        return None
    left, right = (cast("npt.NDArray[np.float64]", read.value(arg)) for arg in with_frames(node, read.names).args)
    if node.ops[0][0] == ">":
        left, right = right, left
    with np.errstate(all="ignore"):
        # left < right, or left <= right: of the opposite the least slack is how far the left side lies above.
        if opposite:
            left, right = right, left
        if not left.ndim:
            found = float(right.min() - left)
        elif not right.ndim:
            found = float(right - left.max())
        else:
            found = float((right - left).min())
    if math.isnan(found):
        return None
    strict = (len(node.ops[0]) == 1) is not opposite
    return found, (found > 0 if strict else found >= 0)


def least(found: Slack, where: npt.NDArray[np.bool_] | None = None) -> float | None:
    """The least slack, of the rows asked for; None where there is no row or no slack."""
    if found is None:
        return None
    if where is None:
        chosen = found
    else:
        chosen = found[where]
    if len(chosen):
        return float(chosen.min())
    return None


def least_ahead(found: Slack, rows: npt.NDArray[np.int64], first: int, last: int) -> Slack:
    """For each row k of some, the least slack of rows k+first..k+last, as far as there are rows."""
    if found is None:
        return None
    return _ahead(found, rows, first, last, np.minimum)


def greatest_ahead(found: Slack, rows: npt.NDArray[np.int64], first: int, last: int) -> Slack:
    """For each row k of some, the greatest slack of rows k+first..k+last, as far as there are rows."""
    if found is None:
        return None
    return _ahead(found, rows, first, last, np.maximum)


def _slack(read: Evaluator, node: Node) -> Slack:
    with np.errstate(all="ignore"):
        if isinstance(node, Call):
            own = read.functions[node.name].slack_of(read, node)
            if own is None:
                return None
            return cast("npt.NDArray[np.float64]", np.broadcast_to(own, read.rows))
        if isinstance(node, Compare) and len(node.ops) == 1 and node.ops[0] in ("<", "<=", ">", ">="):
            node = with_frames(node, read.names)
            left, right = (read.numbers(arg) for arg in node.args)
            return np.asarray(right - left if node.ops[0][0] == "<" else left - right)
    return None


def _without_nan(read: Evaluator, node: Node, found: Slack, unknown: float) -> Slack:
    """NaN, which is rare and costs a look, is replaced: inf - inf has no value, although inf <= inf holds, so that equal
    sides have no slack and no lack; a side that is NaN fails by everything."""
    # One pass that allocates nothing finds out: min is NaN where anything is.
    if found is None or not len(found) or not np.isnan(found.min()):
        return found
    equal = np.zeros(len(found), dtype=np.bool_)
    if isinstance(node, Compare):
        left, right = (read.numbers(arg) for arg in with_frames(node, read.names).args)
        equal = left == right
    return np.where(np.isnan(found), np.where(equal, 0.0, unknown), found)


def _ahead(
    found: npt.NDArray[np.float64], rows: npt.NDArray[np.int64], first: int, last: int, fold: np.ufunc
) -> npt.NDArray[np.float64]:
    """Few short spans are looked at one by one; otherwise all spans are folded at once, in O(rows)."""
    rows = rows[rows + first < len(found)]
    # Of no rows no span either, however long it is said to be.
    if not len(rows):
        return np.zeros(0)
    # A claim with three triggers in a million rows looks at a few hundred of them.
    if len(rows) * (last - first + 1) < len(found):
        reach = np.minimum(rows[:, None] + np.arange(first, last + 1), len(found) - 1)
        return np.asarray(fold.reduce(found[reach], axis=1))
    return rolling.look_ahead(found, first, last, fold)[rows]
