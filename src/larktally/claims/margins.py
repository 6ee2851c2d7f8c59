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

__all__ = ["slack", "slack_of_not", "least", "least_in_span", "greatest_in_span"]

Slack: TypeAlias = npt.NDArray[np.float64] | None


def slack(read: Reading, node: Node) -> Slack:
    """The slack of a condition in every row; None where the condition has none."""
    found = _slack(read, node)
    return None if found is None else np.where(np.isnan(found), -np.inf, found)


def slack_of_not(read: Reading, node: Node) -> Slack:
    """The slack of a condition's opposite: what never(p) is judged by."""
    found = _slack(read, node)
    return None if found is None else np.where(np.isnan(found), np.inf, -found)


def _slack(read: Reading, node: Node) -> Slack:
    if isinstance(node, Call) and node.name == "near":
        x, y, tolerance = (read.numbers(arg) for arg in node.args)
        return np.asarray(tolerance - np.abs(x - y))
    if isinstance(node, Comparison) and len(node.ops) == 1 and node.ops[0] in ("<", "<=", ">", ">="):
        left, right = (read.numbers(arg) for arg in node.args)
        # inf - inf has no value, although inf <= inf holds: equal sides have no slack and no lack.
        return np.where(left == right, 0.0, right - left if node.ops[0][0] == "<" else left - right)
    return None


def least(found: Slack, where: npt.NDArray[np.bool_] | None = None) -> float | None:
    """The least slack, of the rows asked for; None where there is no row or no slack."""
    if found is None:
        return None
    chosen = found if where is None else found[where]
    chosen = chosen[~np.isnan(chosen)]
    return float(chosen.min()) if len(chosen) else None


def least_in_span(found: Slack, first: int, last: int) -> Slack:
    """For each row k, the least slack of rows k+first..k+last."""
    return None if found is None else spans.look_ahead(found, first, last, np.minimum)


def greatest_in_span(found: Slack, first: int, last: int) -> Slack:
    """For each row k, the greatest slack of rows k+first..k+last."""
    return None if found is None else spans.look_ahead(found, first, last, np.maximum)
