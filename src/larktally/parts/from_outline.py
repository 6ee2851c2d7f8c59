"""A machine from an outline: one read from a document, or another sim's, with functions bound to the names it calls."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from larktally.errors import ModelError
from larktally.names import did_you_mean, unknown_name
from larktally.parts.context import StepContext
from larktally.parts.machine import Machine
from larktally.parts.part import Part
from larktally.traces.outline import Outline

__all__ = ["bind_outline"]

Call = Callable[[StepContext], Any]


def bind_outline(machine: Machine, outline: Outline, calls: Mapping[str, Call]) -> None:
    """Gives a machine the rules, hooks and settings of an outline.

    Names of functions are looked up in `calls`; `emit('NAME')` needs none. Raises ModelError naming every function
    that is missing, those that nothing calls, and settings of parts that the sim does not have.
    """
    wanted = _functions(outline)
    missing = [name for name in wanted if name not in calls]
    if missing:
        near = did_you_mean(missing[0], calls)
        raise ModelError(
            f"machine {machine.name!r} calls {', '.join(map(repr, missing))}: give them in calls={{…}}{near}"
        )
    for name in calls:
        if name not in wanted:
            raise ModelError(f"machine {machine.name!r}: {unknown_name('function called', name, wanted)}")
    for kind, by_state in outline.hooks.items():
        for state, names in by_state.items():
            for name in names:
                getattr(machine, kind)(state)(_function(name, calls))
    for one in outline.settings:
        parts = machine.sim.parts
        if one.part not in parts:
            raise ModelError(f"machine {machine.name!r}: {unknown_name('part', one.part, parts, 'this sim')}")
        part = parts[one.part]
        if isinstance(part, Part):
            machine.setting(one.state, part, **{one.attribute: one.value})
    for rule in outline.rules:
        made = machine.transition(
            rule.sources,
            to=rule.target,
            when=rule.when or (calls[rule.asks] if rule.asks else None),
            after=rule.after or None,
            every=rule.every or None,
            name=rule.name,
            push=rule.push,
        )
        if rule.does:
            made(_function(rule.does, calls))


def _functions(outline: Outline) -> list[str]:
    """Every function that an outline calls by name, once each."""
    found: dict[str, None] = {}
    for by_state in outline.hooks.values():
        for names in by_state.values():
            found |= dict.fromkeys(names)
    for rule in outline.rules:
        found |= dict.fromkeys(filter(None, (rule.asks, rule.does)))
    return [name for name in found if not _emitted(name)]


def _function(name: str, calls: Mapping[str, Call]) -> Call:
    event = _emitted(name)
    if not event:
        return calls[name]

    def emit(now: StepContext) -> None:
        now.emit(event)

    # So that the outline of this machine is the one that it was made from.
    emit.__name__ = name
    return emit


def _emitted(name: str) -> str:
    """The event of emit('NAME'), or nothing for a function."""
    if name.startswith("emit('") and name.endswith("')"):
        return name[6:-2]
    return ""
