"""What can be said of a machine without running it: states that nothing reaches or leaves, rules that never get their turn."""

from __future__ import annotations

from typing import Any, NamedTuple

from larktally.traces.outline import BACK, STAY, Outline, Rule, parents_of

__all__ = ["Finding", "findings", "priorities"]


class Finding(NamedTuple):
    """Something odd in a machine: what kind, about which state or rule, and what to do about it."""

    kind: str
    about: str
    message: str

    def __str__(self) -> str:
        return self.message


def findings(outline: Outline) -> list[Finding]:
    """Unreachable states, states without a way out, and rules that an earlier one with the same guard always precedes.

    `go` may still reach or leave a state: these are things to look at, no errors.
    """
    return [*_unreachable(outline), *_stuck(outline), *_shadowed(outline)]


def priorities(outline: Outline) -> list[dict[str, Any]]:
    """Every rule in the order in which it is tried in each state: state, rank (1 is first), rule, to, condition."""
    found: list[dict[str, Any]] = []
    for leaf in outline.leaves:
        for rank, rule in enumerate(outline.tried_in(leaf), 1):
            found.append(
                {
                    "state": leaf,
                    "rank": rank,
                    "rule": rule.name,
                    "to": rule.target,
                    "condition": rule.condition,
                    "does": rule.does,
                }
            )
    return found


def _exits(outline: Outline) -> dict[str, set[str]]:
    """For each leaf, the leaves that one transition may lead to; BACK leads to whatever was pushed."""
    pushed = {
        leaf
        for leaf in outline.leaves
        for rule in outline.tried_in(leaf)
        if rule.push and rule.target not in (BACK, STAY)
    }
    exits: dict[str, set[str]] = {}
    for leaf in outline.leaves:
        exits[leaf] = set()
        for rule in outline.tried_in(leaf):
            if rule.target == BACK:
                exits[leaf] |= pushed
            elif rule.target != STAY:
                exits[leaf] |= outline.landing(rule.target)
    return exits


def _unreachable(outline: Outline) -> list[Finding]:
    exits = _exits(outline)
    seen, ahead = set(), [*outline.landing(outline.start)]
    while ahead:
        leaf = ahead.pop()
        if leaf not in seen:
            seen.add(leaf)
            # A walk over the states, each looked at once, so that circles end.
            ahead += exits[leaf]
    return [
        Finding(
            "unreachable",
            leaf,
            f"machine {outline.name!r}: no transitions lead from the start {outline.start!r} to {leaf!r}; "
            f"only go({leaf!r}) could enter it",
        )
        for leaf in outline.leaves
        if leaf not in seen
    ]


def _stuck(outline: Outline) -> list[Finding]:
    exits = _exits(outline)
    final = set(outline.final)
    found: list[Finding] = []
    for leaf in outline.leaves:
        if not exits[leaf] - {leaf} and not final & {leaf, *parents_of(leaf)} and len(outline.leaves) > 1:
            found.append(
                Finding(
                    "no way out",
                    leaf,
                    f"machine {outline.name!r}: nothing leaves {leaf!r}; where that is meant, say final=({leaf!r},)",
                )
            )
    return found


def _shadowed(outline: Outline) -> list[Finding]:
    found = []
    for rule in outline.rules:
        served = []
        for leaf in outline.leaves:
            if rule in outline.tried_in(leaf):
                served.append(leaf)
        before = []
        for leaf in served:
            before.append(_hiding(outline.tried_in(leaf), rule))
        if served and all(one is not None for one in before):
            first = next(one.name for one in before if one is not None)
            found.append(
                Finding(
                    "never taken",
                    rule.name,
                    f"machine {outline.name!r}: transition {rule.name!r} is never taken, because {first!r} has the same "
                    "guard and is tried before it; give one of them a guard of its own",
                )
            )
    return found


def _hiding(tried: tuple[Rule, ...], rule: Rule) -> Rule | None:
    """The first of the rules tried before one that holds whenever it does."""
    return next((earlier for earlier in tried[: tried.index(rule)] if _hides(earlier, rule)), None)


def _hides(earlier: Rule, rule: Rule) -> bool:
    same = earlier.twin == rule.twin or earlier.when.strip() == "true"
    may = earlier.target != BACK and (not earlier.every or earlier.every == rule.every)
    return same and may and earlier.after <= rule.after
