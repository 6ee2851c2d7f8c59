"""Values of a user's own: registered, so that they are channels, saved and restored."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.traces.columns import kind_of

__all__ = ["Value"]


class Value(Part):
    """One value: `value` to read it, assign `value` to change it. Its kind is that of its start value.

    A float is a number, an int a count, a bool a flag, a str a label; `labels` are all that a label can be.
    """

    state_fields = ("value",)

    def __init__(
        self, sim: SimProtocol, name: str, start: float | int | bool | str, labels: Iterable[str] = ()
    ) -> None:
        super().__init__(sim, name)
        kind = kind_of(start)
        if kind is None:
            raise ModelError(f"value {name!r} starts as {start!r}; a value is a float, an int, a bool or a str")
        listed: tuple[str, ...] = ()
        if kind == "label":
            listed = tuple(dict.fromkeys((str(start), *labels)))
        self.value: Any = start
        self._shown = (ChannelSpec("", "value", kind, listed),)

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._shown
