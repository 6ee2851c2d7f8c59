"""Values of a user's own: registered, so that they are channels, saved and restored."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.checks import number
from larktally.traces.columns import kind_of

__all__ = ["Value"]


class Value(Part):
    """One value: `value` to read it, assign `value` to change it. Its kind is that of its start value.

    A float is a number, an int a count, a bool a flag, a str a label; `labels` are all that a label can be. `wraps=360`
    makes a number an angle: it stays as rules set it, and what compares it goes the short way round. Raises ModelError
    for a start that is none of these, or a whole turn that is no number above 0.
    """

    state_fields = ("value",)

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        start: float | int | bool | str,
        labels: Iterable[str] = (),
        *,
        wraps: float | None = None,
    ) -> None:
        super().__init__(sim, name)
        if wraps is not None:
            if isinstance(start, bool | str):
                raise ModelError(f"value {name!r} wraps, and starts as {start!r}, which is no angle")
            # An angle is a number, also where it starts at a whole one.
            start, wraps = float(start), number(f"value {name!r}", "wraps", wraps)
            if not wraps > 0:
                raise ModelError(f"value {name!r}: wraps is a whole turn, such as 360, not {wraps!r}")
        kind = kind_of(start)
        if kind is None:
            raise ModelError(f"value {name!r} starts as {start!r}; a value is a float, an int, a bool or a str")
        listed: tuple[str, ...] = ()
        if kind == "label":
            listed = tuple(dict.fromkeys((str(start), *labels)))
        self.value: Any = start
        self._shown = (ChannelSpec("", "value", kind, listed, wraps=wraps),)

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._shown
