"""Values of a user's own: registered, so that they are channels, saved and restored."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.checks import number
from larktally.traces.columns import kind_of
from larktally.turning import short_way

__all__ = ["Value"]


class Value(Part):
    """One value: `value` to read it, assign `value` to change it. Its kind is that of its start value.

    A float is a number, an int a count, a bool a flag, a str a label; `labels` are all that a label can be. `wraps=360`
    makes a number an angle: it stays as rules set it, what compares it goes the short way round, and `turn` leads it so.
    Raises ModelError for a start that is none of these, or a whole turn that is no number above 0.
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
        self._wraps = wraps
        self._shown = (ChannelSpec("", "value", kind, listed, wraps=wraps),)

    def turn(self, goal: float, by: float) -> bool:
        """Turns an angle to a goal the short way, by at most so many units/s in this frame; whether it is there.

        Half a turn goes upward. Raises ModelError for a value that does not wrap, a goal that is not finite, or a speed that
        is not above 0.
        """
        if self._wraps is None:
            raise ModelError(f"value {self.name!r} is no angle: say wraps=360 where it is made")
        goal, by = number(f"value {self.name!r}", "goal", goal), number(f"value {self.name!r}", "by", by)
        if not by > 0:
            raise ModelError(f"value {self.name!r} turns by a speed above 0, in units/s, not {by!r}")
        left, most = short_way(goal - self.value, self._wraps), by / float(self.sim.rate)
        if abs(left) <= most:
            self.value = goal
            return True
        self.value += math.copysign(most, left)
        return False

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._shown
