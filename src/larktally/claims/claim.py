"""Claims: a name and a property, and checking many of them over a trace."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larktally.claims.forms import Form
from larktally.claims.kinds import check_tree
from larktally.claims.properties import judge
from larktally.claims.signals import Reading
from larktally.claims.text import parse
from larktally.claims.tree import Call, Node, to_text, walk
from larktally.claims.verdicts import Result, Tally
from larktally.errors import ClaimError, LarkError
from larktally.traces.trace import Trace

__all__ = ["Claim", "claim", "check", "check_each", "rows_where", "mentions_seen"]

_VERDICTS = ("vacuous", "unfinished")


@dataclass(frozen=True, slots=True)
class Claim:
    """A named statement about a trace: what is claimed, why, and which verdicts besides kept will do."""

    name: str
    tree: Node
    text: str
    why: str = ""
    allow: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.name}: {self.text}"


def claim(name: str, that: str | Form, *, why: str = "", allow: Iterable[str] = (), tags: Iterable[str] = ()) -> Claim:
    """A claim from text or from the Python form.

    >>> claim("a hop starts on the ground", "always(implies(event('hop'), prev(wick.grounded)))").name
    'a hop starts on the ground'

    Raises ClaimError where the text does not parse or is no property, and for an `allow` that is no such verdict.
    """
    if not isinstance(name, str) or not name.strip():
        raise ClaimError(f"a claim has a name that is not empty, not {name!r}")
    allowed = (allow,) if isinstance(allow, str) else tuple(allow)
    for verdict in allowed:
        if verdict not in _VERDICTS:
            raise ClaimError(f"claim {name!r}: allow takes 'vacuous' and 'unfinished', not {verdict!r}")
    try:
        tree = that.tree if isinstance(that, Form) else parse(that)
    except ClaimError as error:
        raise ClaimError(f"claim {name!r}: {error}") from None
    text = to_text(tree) if isinstance(that, Form) else that
    return Claim(name, tree, text, why, allowed, (tags,) if isinstance(tags, str) else tuple(tags))


def check(trace: Trace, claims: Iterable[Claim], *, against: Trace | None = None) -> Tally:
    """The tally of claims over a trace: every claim is type-checked before any is computed.

    `against` is a second trace, for claims that say `same`. Each sub-expression that several claims share is computed
    once. Raises ClaimError naming the claim, the place in its text and the nearest name that exists; LarkError for a
    thinned trace, whose rows are not frames.
    """
    for one in (trace, against):
        if one is not None and one.header.every != 1:
            raise _thinned(one)
    read = Reading(trace, against)
    claims = list(claims)
    for one_claim in claims:
        _check_claim(one_claim, read)
    return Tally([_result(one_claim, read) for one_claim in claims])


def check_each(traces: Mapping[str, Trace], claims: Iterable[Claim]) -> dict[str, Tally]:
    """The same claims over several traces: {trace's name: its tally}."""
    claims = list(claims)
    return {name: check(trace, claims) for name, trace in traces.items()}


def _thinned(trace: Trace) -> LarkError:
    return LarkError(
        f"this recording keeps every {trace.header.every}th row, so its rows are not frames and claims cannot be "
        "checked on it; check the full recording"
    )


def _check_claim(one: Claim, read: Reading) -> None:
    try:
        kind = check_tree(one.tree, read.words, one.text)
        if kind != "property" or not isinstance(one.tree, Call):
            hint = f"; write always({one.text[:60]}) or eventually(…)" if kind == "flag" else ""
            raise ClaimError(f"this is a signal, with a value in each row, not a claim about the run{hint}")
    except ClaimError as error:
        raise ClaimError(f"claim {one.name!r}: {error}") from None


def _result(one: Claim, read: Reading) -> Result:
    if not isinstance(one.tree, Call):
        raise ClaimError(f"claim {one.name!r} is no property")
    try:
        return Result(one, judge(read, one.tree), read)
    except ClaimError as error:
        raise ClaimError(f"claim {one.name!r}: {error}") from None


def rows_where(trace: Trace, condition: str | Form) -> npt.NDArray[np.int64]:
    """The rows in which a condition of the claim language holds, in order: int64.

    Raises ClaimError where it does not parse, does not fit the trace, or is no condition.
    """
    tree = condition.tree if isinstance(condition, Form) else parse(condition)
    text = None if isinstance(condition, Form) else condition
    read = Reading(trace)
    kind = check_tree(tree, read.words, text)
    if kind != "flag":
        raise ClaimError(f"{to_text(tree)} is a {kind}; a condition is true or false in each row")
    return np.flatnonzero(read.flags(tree))


def mentions_seen(claims: Iterable[Claim]) -> bool:
    """Whether any claim asks what the machines saw, which a recording has to keep for it."""
    return any(isinstance(node, Call) and node.name == "seen" for one in claims for node in walk(one.tree))
