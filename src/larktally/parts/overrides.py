"""Settings of parts that hold for a while and then fall away, so that nothing is undone by hand."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from larktally.parts.part import Part

__all__ = ["Overrides"]


class Overrides:
    """Which settings are held over, by whom. The last held counts; when all are lifted the setting's own value is back."""

    def __init__(self) -> None:
        self._parts: dict[str, Part] = {}
        self._own: dict[tuple[str, str], Any] = {}
        self._held: dict[tuple[str, str], list[tuple[str, Any]]] = {}

    def hold(self, part: Part, attribute: str, by: str, value: Any) -> None:
        """Sets an attribute of a part for as long as `by` holds it."""
        key = (part.name, attribute)
        self._parts[part.name] = part
        if not self._held.get(key):
            self._own[key] = getattr(part, attribute)
        self._held.setdefault(key, []).append((by, value))
        setattr(part, attribute, value)

    def lift(self, part: Part, attribute: str, by: str) -> None:
        """Lets go of what `by` holds: the last one still held counts, or the part's own value."""
        key = (part.name, attribute)
        held = self._held[key] = [(who, value) for who, value in self._held.get(key, []) if who != by]
        setattr(part, attribute, held[-1][1] if held else self._own.pop(key))

    def save(self) -> list[list[Any]]:
        """What is held, as plain data."""
        return [[*key, self._own[key], [list(one) for one in held]] for key, held in self._held.items() if held]

    def release(self) -> None:
        """Gives every part its own values back: before another state is loaded."""
        for (part, attribute), own in self._own.items():
            setattr(self._parts[part], attribute, own)
        self._own, self._held = {}, {}

    def load(self, saved: list[list[Any]], parts: Mapping[str, Part]) -> None:
        """Puts back what was held."""
        for name, attribute, own, held in saved:
            self._parts[name] = parts[name]
            self._own[name, attribute] = own
            self._held[name, attribute] = [(who, value) for who, value in held]
            setattr(parts[name], attribute, held[-1][1])
