"""Guards that are functions of a user's own: they only look, and they answer."""

from __future__ import annotations

import dis
from typing import Any

from larktally.code_places import place_of_code
from larktally.errors import ModelError
from larktally.language.reading import Guard
from larktally.parts.sim_protocol import SimProtocol

__all__ = ["looking_guard"]

# Comparing all channels before and after costs as much as a small guard does, so that it is done in the first rows of a
# run, in which most rules are tried for the first time, and then now and then; emitting inside a guard is always caught.
ALWAYS_IN_FIRST, THEN_EVERY = 128, 64
_STORES = frozenset({"STORE_ATTR", "DELETE_ATTR", "STORE_GLOBAL", "DELETE_GLOBAL"})


def looking_guard(sim: SimProtocol, guard: Guard, what: str) -> Guard:
    """A function guard that is an error where it changes something, emits something, or answers None.

    `what` names the guard and its rule in messages. Raises ModelError at once where the function's own code assigns an
    attribute or a variable outside of it.
    """
    # A callable object or a partial has none: what it changes is then seen in the channels alone.
    code = getattr(guard, "__code__", None)
    if code is not None:
        _check_stores(code, what)

    def looks(now: Any) -> Any:
        watched = sim.frame < ALWAYS_IN_FIRST or sim.frame % THEN_EVERY == 0
        before = None
        if watched:
            before = sim.channel_values()
        sim.looking = what
        try:
            found = guard(now)
        finally:
            sim.looking = ""
        if found is None:
            raise ModelError(f"{what} returned None; a guard returns true or false: is a 'return' missing?")
        if watched and sim.channel_values() != before:
            raise ModelError(
                f"{what} changes {_changed(sim, before)}; guards only look: change it in the rule's action"
            )
        return found

    return looks


def _check_stores(code: Any, what: str) -> None:
    """Raises ModelError for code that assigns what outlives the call."""
    for one in dis.get_instructions(code):
        outer = one.opname == "STORE_DEREF" and one.argval in code.co_freevars
        if one.opname in _STORES or outer:
            raise ModelError(
                f"{what} assigns {one.argval!r} ({place_of_code(code)}); guards only look: "
                "keep it in a value, and change it in a hook or the rule's action"
            )


def _changed(sim: SimProtocol, before: Any) -> str:
    """The channels that are not what they were."""
    pairs = zip(sim.names.channels, before, sim.channel_values(), strict=True)
    return ", ".join(repr(name) for name, was, is_now in pairs if was != is_now)
