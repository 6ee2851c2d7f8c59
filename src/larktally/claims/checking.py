"""Checking claims: every one type-checked before any is computed, then judged over whole columns."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

from larktally.claims.claim import Claim
from larktally.claims.verdicts import Result, Tally
from larktally.errors import ClaimError, LarkTallyError
from larktally.language.columns import Evaluator
from larktally.language.forms import Form
from larktally.language.parsing import parse
from larktally.language.reading import evaluator, typecheck
from larktally.language.tree import to_text, walk
from larktally.traces.trace import Trace

__all__ = ["check", "rows_where"]


def check(trace: Trace, claims: Iterable[Claim], *, against: Trace | None = None) -> Tally:
    """The tally of claims over a trace: every claim is type-checked before any is computed.

    `against` is a second trace, for claims that say `same`. Each sub-expression that several claims share is computed
    once. Raises ClaimError naming the claim, the place in its text and the nearest name that exists; LarkTallyError for a
    thinned trace, whose rows are not frames.
    """
    for one in (trace, against):
        # `within=20` would be twenty kept rows, and a spike between two of them would never be seen.
        if one is not None and one.header.every != 1:
            raise _thinned(one)
    read = evaluator(trace, against)
    # Gone through twice: all are type-checked before the first is computed, so that a slip in the last costs nothing.
    claims = list(claims)
    for one_claim in claims:
        _check_claim(one_claim, read)
    asked = [set(walk(one.tree)) for one in claims]
    left = Counter(node for nodes in asked for node in nodes)
    results = []
    for one_claim, nodes in zip(claims, asked, strict=True):
        results.append(_result(one_claim, read))
        # What no later claim asks for is let go: a story works out again what it shows, and few claims have one.
        for node in nodes:
            left[node] -= 1
            if not left[node]:
                del left[node]
        read.let_go(all_but=left)
    return Tally(results)


def rows_where(trace: Trace, condition: str | Form) -> npt.NDArray[np.int64]:
    """The rows in which a condition of the claim language holds, in order: int64.

    Raises ClaimError where it does not parse, does not fit the trace, or is no condition.
    """
    if isinstance(condition, Form):
        tree, text = condition.tree, None
    else:
        tree, text = parse(condition), condition
    read = evaluator(trace)
    kind = typecheck(tree, read.names, text)
    if kind != "flag":
        raise ClaimError(f"{to_text(tree)} is a {kind}; a condition is true or false in each row")
    return np.flatnonzero(read.flags(tree))


def _thinned(trace: Trace) -> LarkTallyError:
    return LarkTallyError(
        f"this recording keeps every {trace.header.every}th row, so its rows are not frames and claims cannot be "
        "checked on it; check the full recording"
    )


def _check_claim(one: Claim, read: Evaluator) -> None:
    try:
        if one.table is not None:
            one.table.check(read.names)
            return
        kind = typecheck(one.tree, read.names, one.text)
        if kind != "property":
            hint = ""
            if kind == "flag":
                hint = f"; write always({one.text[:60]}) or eventually(…)"
            elif kind == "measure":
                raise ClaimError(
                    f"this is a measure, one number of the whole run; claim its bounds: {one.text[:60]} >= …"
                )
            elif kind == "list":
                raise ClaimError("this lists a measure of each span; compare it: each(a, 68 <= apex(x) <= 70, until=b)")
            raise ClaimError(f"this is a signal, with a value in each row, not a claim about the run{hint}")
    except ClaimError as error:
        raise ClaimError(f"claim {one.name!r}: {error}") from None


def _result(one: Claim, read: Evaluator) -> Result:
    try:
        told, node = one.told
        with np.errstate(all="ignore"):
            return Result(one, told.judge(read, node), read)
    except ClaimError as error:
        raise ClaimError(f"claim {one.name!r}: {error}") from None
