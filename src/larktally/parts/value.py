"""Values of a user's own: registered, so that they are channels, saved and restored."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from larktally.errors import ModelError
from larktally.parts.part import Part, Shown
from larktally.traces.columns import kind_of

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Value"]


class Value(Part):
    """One value: `now` to read it, assign `now` to change it. Its kind is that of its start value.

    A float is a number, an int a count, a bool a flag, a str a label; `labels` are all that a label can be.
    """

    kept = ("now",)

    def __init__(self, sim: Sim, name: str, start: float | int | bool | str, labels: Iterable[str] = ()) -> None:
        super().__init__(sim, name)
        kind = kind_of(start)
        if kind is None:
            raise ModelError(f"value {name!r} starts as {start!r}; a value is a float, an int, a bool or a str")
        listed = tuple(dict.fromkeys((str(start), *labels))) if kind == "label" else ()
        self.now: Any = start
        self._shown = (Shown("", "now", kind, listed),)

    def channels(self) -> tuple[Shown, ...]:
        return self._shown
