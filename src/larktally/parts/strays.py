"""Attributes that a part does not have: one that a model sets by mistake, which would silently do nothing, or asks for."""

from __future__ import annotations

import difflib
from collections.abc import Iterable

from larktally.parts.part import Part

__all__ = ["Strays", "no_such_attribute"]

_COMMON = frozenset(("sim", "name", "clock", "slot", "scope"))


class Strays:
    """What the attributes of the library's own parts are, and which a model has added to them."""

    def __init__(self) -> None:
        self._own: dict[str, frozenset[str]] = {}

    def know(self, parts: Iterable[Part]) -> None:
        """From now on the attributes that these parts have are theirs."""
        for part in parts:
            if type(part).__module__.startswith("larktally."):
                self._own[part.name] = frozenset(vars(part))

    def message(self, parts: Iterable[Part]) -> str:
        """What is wrong with the first attribute that was added since; "" where none was."""
        for part in parts:
            own = self._own.get(part.name)
            if own is None or len(vars(part)) == len(own):
                continue
            for name in vars(part):
                if name not in own and not name.startswith("_"):
                    kind = type(part).__name__.lower()
                    hint = _hint(name, sorted(one for one in own if not one.startswith("_") and one not in _COMMON))
                    yours = f"A value of your own is sim.value('{part.name}.{name}', …)"
                    return (
                        f"{kind} {part.name!r}: the model sets {name!r}, which a {kind} does not have; {hint} {yours}"
                    )
        return ""


def no_such_attribute(part: Part, name: str) -> str:
    """One sentence for what was asked of a part that it does not have: the nearest, or all that it has to call."""
    calls = [one for one in dir(part) if not one.startswith("_") and callable(getattr(type(part), one, None))]
    own = [f"{one}()" for one in calls if not hasattr(Part, one)]
    public = [one for one in vars(part) if not one.startswith("_") and one not in _COMMON]
    return f"{type(part).__name__.lower()} {part.name!r} has no {name!r}; {_hint(name, [*own, *public])}"


def _hint(name: str, known: list[str]) -> str:
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.7)
    return f"did you mean {near[0]!r}?" if near else f"it has {', '.join(known[:16])}."
