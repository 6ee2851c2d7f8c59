"""Where a run ends by what stands in its rows: a condition that holds, or a claim that is broken for good.

Signals look back only, so that a row of a recording that goes on has the value that it will have in the whole one. A
growing recording is looked at in ever longer steps, which costs a constant share of the whole.
"""

from __future__ import annotations

from collections.abc import Iterable

from larktally.claims import Claim, check, rows_where
from larktally.claims.kinds import span_frames
from larktally.claims.tree import Call, Number
from larktally.claims.verdicts import Breach, Result
from larktally.traces import Trace

__all__ = ["Endings", "FIRST_LOOK"]

FIRST_LOOK = 2048
_NEVER_FOR_GOOD = frozenset({"eventually", "at_least", "in_order", "measured"})


class Endings:
    """The condition `until`, and the claims at whose first breach a run stops."""

    def __init__(self, until: str | None, claims: Iterable[Claim] = ()) -> None:
        self._until = until
        self._claims = [one for one in claims if isinstance(one.tree, Call) and one.tree.name not in _NEVER_FOR_GOOD]
        self.active = until is not None or bool(self._claims)
        self.next = FIRST_LOOK if self.active else 2**62

    def find(self, trace: Trace) -> tuple[int, str] | None:
        """The row with which a run ends, and why, in the rows there are by now; None where it goes on."""
        self.next = max(trace.rows + FIRST_LOOK, trace.rows + trace.rows // 8)
        found: list[tuple[int, str]] = []
        if self._until is not None:
            rows = rows_where(trace, self._until)
            found += [(int(rows[0]), f"until {self._until}")] if len(rows) else []
        if self._claims:
            breaches = [(_first_breach(result), f"breach of {result.name!r}") for result in check(trace, self._claims)]
            found += [(row, why) for row, why in breaches if row is not None]
        return min(found, default=None)


def _first_breach(result: Result) -> int | None:
    """The first row in which a claim was broken whatever comes later."""
    tree = result.claim.tree
    if not isinstance(tree, Call) or result.verdict != "broken":
        return None
    if tree.name == "exactly":
        counted = len(rows_where(result.reading.trace, _form(tree)))
        wanted = tree.args[1]
        if isinstance(wanted, Number) and counted <= wanted.value:
            return None
    rows = [breach.row + _seen_later(result, tree, breach) for breach in result.breaches if breach.row is not None]
    return min(rows, default=None)


def _seen_later(result: Result, tree: Call, breach: Breach) -> int:
    """By how many rows a breach is known later than its row: by one, for a stretch that turned out too short."""
    least = tree.option("at_least") or tree.option("exactly")
    if tree.name != "stays" or least is None or breach.row is None or breach.trigger is None:
        return 0
    return int(breach.row - breach.trigger + 1 < span_frames(least, result.reading.words))


def _form(tree: Call) -> str:
    from larktally.claims import to_text

    return to_text(tree.args[0])
