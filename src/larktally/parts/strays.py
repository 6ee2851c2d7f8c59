"""Attributes that a part does not have: one that a model sets by mistake, which would silently do nothing, or asks for."""

from __future__ import annotations

import difflib
from collections.abc import Iterable

from larktally.parts.now import Now
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


def no_such_attribute(asked: Part | Now, name: str) -> str:
    """One sentence for what was asked of a part, or of `now`, that it does not have: the nearest, or what it has."""
    public = [one for one in dir(asked) if not one.startswith("_") and one not in _COMMON and not hasattr(Part, one)]
    known = sorted(public, key=lambda one: not callable(getattr(type(asked), one, None)))
    what = f"{type(asked).__name__.lower()} {asked.name!r}" if isinstance(asked, Part) else "now"
    return f"{what} has no {name!r}; {_hint(name, known)}"


def _hint(name: str, known: list[str]) -> str:
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.7)
    return f"did you mean {near[0]!r}?" if near else f"it has {', '.join(known[:16])}."
