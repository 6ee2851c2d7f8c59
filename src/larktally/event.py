"""Events: something that happened in a row, as a subject says it."""

from __future__ import annotations

from typing import Any

__all__ = ["Event"]


class Event:
    """Something that happened in a row: a name, the part that said it, and plain data.

    >>> Event("hurt", "wick", amount=2)
    Event('hurt', 'wick', amount=2)
    """

    __slots__ = ("data", "name", "source")

    def __init__(self, name: str, source: str = "", /, **data: Any) -> None:
        self.name = name
        self.source = source
        self.data = data

    def __repr__(self) -> str:
        parts = [repr(self.name), *([repr(self.source)] if self.source else [])]
        return f"Event({', '.join([*parts, *(f'{key}={value!r}' for key, value in self.data.items())])})"

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Event):
            return NotImplemented
        return (self.name, self.source, self.data) == (other.name, other.source, other.data)

    __hash__ = None  # type: ignore[assignment]
