"""Margins: how much slack a comparison had, signed, in the unit of its channel.

Only one ordering comparison, or near, has a slack: right - left for < and <=, left - right for > and >=, and
tol - |x - y| for near. A comparison with NaN fails by everything: its slack is minus infinity.
"""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.claims import spans
from larktally.claims.signals import Reading
from larktally.claims.tree import Call, Comparison, Node

__all__ = ["slack", "slack_of_not", "least", "least_ahead", "greatest_ahead"]

Slack: TypeAlias = npt.NDArray[np.float64] | None


def slack(read: Reading, node: Node) -> Slack:
    """The slack of a condition in every row, without NaN; None where the condition has none."""
    return _without_nan(read, node, _slack(read, node), -np.inf)


def slack_of_not(read: Reading, node: Node) -> Slack:
    """The slack of a condition's opposite: what never(p) is judged by."""
    found = _slack(read, node)
    return _without_nan(read, node, None if found is None else np.negative(found), np.inf)


def _slack(read: Reading, node: Node) -> Slack:
    if isinstance(node, Call) and node.name == "near":
        x, y, tolerance = (read.numbers(arg) for arg in node.args)
        with np.errstate(all="ignore"):
            return np.asarray(tolerance - np.abs(x - y))
    if isinstance(node, Comparison) and len(node.ops) == 1 and node.ops[0] in ("<", "<=", ">", ">="):
        left, right = (read.numbers(arg) for arg in node.args)
        with np.errstate(all="ignore"):
            return np.asarray(right - left if node.ops[0][0] == "<" else left - right)
    return None


def _without_nan(read: Reading, node: Node, found: Slack, unknown: float) -> Slack:
    """NaN, which is rare and costs a look, is replaced: inf - inf has no value, although inf <= inf holds, so that equal
    sides have no slack and no lack; a side that is NaN fails by everything."""
    if found is None or not len(found) or not np.isnan(found.min()):
        return found
    equal = np.zeros(len(found), dtype=np.bool_)
    if isinstance(node, Comparison):
        left, right = (read.numbers(arg) for arg in node.args)
        equal = left == right
    return np.where(np.isnan(found), np.where(equal, 0.0, unknown), found)


def least(found: Slack, where: npt.NDArray[np.bool_] | None = None) -> float | None:
    """The least slack, of the rows asked for; None where there is no row or no slack."""
    if found is None:
        return None
    chosen = found if where is None else found[where]
    return float(chosen.min()) if len(chosen) else None


def least_ahead(found: Slack, rows: npt.NDArray[np.int64], first: int, last: int) -> Slack:
    """For each row k of some, the least slack of rows k+first..k+last, as far as there are rows."""
    return None if found is None else _ahead(found, rows, first, last, np.minimum)


def greatest_ahead(found: Slack, rows: npt.NDArray[np.int64], first: int, last: int) -> Slack:
    """For each row k of some, the greatest slack of rows k+first..k+last, as far as there are rows."""
    return None if found is None else _ahead(found, rows, first, last, np.maximum)


def _ahead(
    found: npt.NDArray[np.float64], rows: npt.NDArray[np.int64], first: int, last: int, fold: np.ufunc
) -> npt.NDArray[np.float64]:
    """Few short spans are looked at one by one; otherwise all spans are folded at once, in O(rows)."""
    rows = rows[rows + first < len(found)]
    if len(rows) * (last - first + 1) < len(found):
        reach = np.minimum(rows[:, None] + np.arange(first, last + 1), len(found) - 1)
        return np.asarray(fold.reduce(found[reach], axis=1)) if len(rows) else np.zeros(0)
    return spans.look_ahead(found, first, last, fold)[rows]
