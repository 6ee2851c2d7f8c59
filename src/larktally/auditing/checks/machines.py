"""Machines looked at, and not run: rules that never get their turn, states that nothing leads to, rules that keep time from
passing."""

from __future__ import annotations

from collections.abc import Iterator
from types import CodeType, FunctionType

import numpy as np

from larktally.auditing.finding import Finding, why_command
from larktally.auditing.seen import Seen
from larktally.charts.inspecting import findings
from larktally.traces.outline import BACK, STAY, Outline

__all__ = ["look", "look_at_time"]

NAME, TIME = "rules", "kept from its time"


def look(seen: Seen) -> Iterator[Finding]:
    """Rules that an earlier one with the same guard always precedes, and states that no rule leads to, that no code of the model
    names, and that this run never was in.

    Not: final states, states entered by `go`, machines that are not used.
    """
    for name, outline in seen.trace.header.outlines.items():
        visited = set(seen.trace[name].tolist()) if name in seen.trace.columns else set()
        for one in findings(outline):
            if one.kind == "never taken":
                place = seen.place_of(name, one.about)
                yield Finding(
                    NAME,
                    f"{name}: {one.about}",
                    one.message,
                    "sure",
                    place=place,
                    more="larktally chart FILE.py",
                    weight=2,
                )
            unreached = one.kind == "unreachable" and one.about not in visited and len(visited) > 1
            if unreached and one.about not in _strings(seen):
                yield Finding(
                    NAME, f"{name} {one.about}", one.message, "likely", more="larktally chart FILE.py", weight=1
                )


def look_at_time(seen: Seen) -> Iterator[Finding]:
    """A rule back to its own state, taken so often that a rule of that state which waits for some frames never comes due.

    Not: a rule that stays in its state without entering it anew.
    """
    for name, outline in seen.trace.header.outlines.items():
        if name not in seen.trace.columns or f"{name}.age" not in seen.trace.columns:
            continue
        labels, ages = seen.trace[name], seen.trace[f"{name}.age"]
        for state in outline.leaves:
            inside = labels == state
            timed = [rule for rule in outline.tried_in(state) if rule.after > 1]
            again = [rule for rule in outline.tried_in(state) if _is_back(outline, rule.target, state)]
            if not timed or not again or not inside.any():
                continue
            wanted = min(rule.after for rule in timed)
            rows = np.flatnonzero(inside & (ages == 0))
            if ages[inside].max() < wanted - 1 and _longest(inside) >= 2 * wanted and len(rows) >= 3:
                told = (
                    f"{state!r} is entered anew by {again[0].name!r} before its frame {wanted}, so that {timed[0].name!r} is "
                    f"never due: {len(rows)} times, its age at most {int(ages[inside].max())}"
                )
                claim = f"eventually({name} == {state!r} and {name}.age >= {wanted - 1})"
                place, rows_ = seen.place_of(name, again[0].name), tuple(int(row) for row in rows[:3])
                yield Finding(
                    TIME,
                    f"{name} {state}",
                    told,
                    "sure",
                    rows_,
                    len(rows),
                    place,
                    claim,
                    why_command(rows[1]),
                    3,
                )


def _is_back(outline: Outline, target: str, state: str) -> bool:
    return target not in (BACK, STAY) and state in outline.landing(target)


def _longest(flags: np.ndarray) -> int:
    edges = np.diff(np.concatenate([[0], flags.astype(np.int8), [0]]))
    return int((np.flatnonzero(edges == -1) - np.flatnonzero(edges == 1)).max())


def _strings(seen: Seen) -> set[str]:
    """Every string in the code of the model's functions: a state that stands there may be entered by `go`."""
    found: set[str] = set()
    codes: list[CodeType] = []
    if seen.sim is not None:
        codes += [one.__code__ for one in seen.sim.model_functions() if isinstance(one, FunctionType)]
    if seen.scenario is not None and isinstance(seen.scenario.subject, FunctionType):
        codes.append(seen.scenario.subject.__code__)
    while codes:
        for constant in codes.pop().co_consts:
            if isinstance(constant, CodeType):
                codes.append(constant)
            elif isinstance(constant, str):
                found.add(constant)
            elif isinstance(constant, tuple):
                found |= {one for one in constant if isinstance(one, str)}
    return found
