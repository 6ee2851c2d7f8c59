"""Settings of parts that hold for a while and then fall away, so that nothing is undone by hand.

Which attribute is held is said by name in a model (`gait.setting("climbing", wick, gravity=0)`), so that this module reads
and sets attributes by name; `MachineDefinition.setting` has checked each of them.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from larktally.parts.sim_protocol import PartLike

__all__ = ["Overrides"]


class Overrides:
    """Which settings are held over, by whom. The last held counts; when all are lifted the setting's own value is back."""

    def __init__(self) -> None:
        self._parts: dict[str, PartLike] = {}
        self._own: dict[tuple[str, str], Any] = {}
        self._held: dict[tuple[str, str], list[tuple[str, Any]]] = {}

    def hold(self, part: PartLike, attribute: str, by: str, value: Any) -> None:
        """Sets an attribute of a part for as long as `by` holds it."""
        key = (part.name, attribute)
        self._parts[part.name] = part
        # What it was before the first one held it, not what another one holds over it now.
        if not self._held.get(key):
            self._own[key] = getattr(part, attribute)
        self._held.setdefault(key, []).append((by, value))
        setattr(part, attribute, value)

    def lift(self, part: PartLike, attribute: str, by: str) -> None:
        """Lets go of what `by` holds: the last one still held counts, or the part's own value."""
        key = (part.name, attribute)
        # Whoever lets go may be in the middle: a parent's setting ends while its child's goes on.
        still = [(who, value) for who, value in self._held.get(key, []) if who != by]
        self._held[key] = still
        if still:
            value = still[-1][1]
        else:
            value = self._own.pop(key)
        setattr(part, attribute, value)

    def save(self) -> list[list[Any]]:
        """What is held, as plain data."""
        saved = []
        for key, held in self._held.items():
            if held:
                saved.append([*key, self._own[key], [list(one) for one in held]])
        return saved

    def release(self) -> None:
        """Gives every part its own values back: before another state is loaded."""
        for (part, attribute), own in self._own.items():
            setattr(self._parts[part], attribute, own)
        self._own, self._held = {}, {}

    def load(self, saved: list[list[Any]], parts: Mapping[str, PartLike]) -> None:
        """Puts back what was held."""
        for name, attribute, own, held in saved:
            self._parts[name] = parts[name]
            self._own[name, attribute] = own
            self._held[name, attribute] = [(who, value) for who, value in held]
            setattr(parts[name], attribute, held[-1][1])
