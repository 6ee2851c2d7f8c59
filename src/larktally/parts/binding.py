"""A machine from an outline: one read from a document, or another sim's, with functions bound to the names it calls."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from larktally.errors import ModelError, did_you_mean, unknown_name
from larktally.parts.machine import Machine
from larktally.parts.now import Now
from larktally.traces.outline import Outline

__all__ = ["bind_outline"]

Call = Callable[[Now], Any]


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
        machine.setting(one.state, parts[one.part], **{one.attribute: one.value})
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
    hooks = [name for by_state in outline.hooks.values() for names in by_state.values() for name in names]
    rules = [name for rule in outline.rules for name in (rule.asks, rule.does) if name]
    return list(dict.fromkeys(name for name in [*hooks, *rules] if not _emitted(name)))


def _function(name: str, calls: Mapping[str, Call]) -> Call:
    event = _emitted(name)
    if not event:
        return calls[name]

    def emit(now: Now) -> None:
        now.emit(event)

    emit.__name__ = name
    return emit


def _emitted(name: str) -> str:
    """The event of emit('NAME'), or nothing for a function."""
    return name[6:-2] if name.startswith("emit('") and name.endswith("')") else ""
