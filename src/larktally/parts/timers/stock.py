"""Stocks: so many uses, then a refill that takes its time: sparks from an oil can."""

from __future__ import annotations

from typing import ClassVar

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.counted import COUNTED_DOWN, WHILE_RUNNING, CountedTimer
from larktally.summed import Style
from larktally.timing import Duration

__all__ = ["Stock"]


class Stock(CountedTimer):
    """`uses` uses; at 0 a refill of n frames starts by itself, and at its end the stock is full again.

    2 uses, n = 3, used in rows 10 and 12 and, too early, in row 13:

    ====  ======  =====  ==========  ======================
    row   stock   left   refilling   event
    ====  ======  =====  ==========  ======================
    10    1       0      false       used
    11    1       0      false
    12    0       3      true        used, empty, refilling
    13    0       2      true        refused
    14    0       1      true
    15    2       0      false       full
    ====  ======  =====  ==========  ======================

    `by_itself=False` waits for `refill()`; `while_refilling=True` allows uses of what is left during a refill. A refill that
    was stopped leaves what there is; the next use that finds nothing is refused, and starts it anew.

    Channels: the stock, `left` (frames of the refill), `refilling`. Events: used (stock), refused, empty, refilling,
    full, paused, resumed, stopped.
    """

    events: ClassVar[tuple[str, ...]] = (
        "used", "refused", "empty", "refilling", "full", "paused", "resumed", "stopped",
    )  # fmt: skip

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        uses: int,
        refill: Duration,
        *,
        by_itself: bool = True,
        while_refilling: bool = False,
        style: Style = None,
    ) -> None:
        super().__init__(sim, name, refill, style)
        if not isinstance(uses, int) or isinstance(uses, bool) or uses < 1:
            raise ModelError(f"stock {name!r} has a whole number of uses, at least 1, not {uses!r}")
        self.most, self.by_itself, self.while_refilling = uses, by_itself, while_refilling
        self.stock = uses

    state_fields = (*CountedTimer.state_fields, "stock", "most", "by_itself", "while_refilling")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(
            ChannelSpec("", "stock", "count"),
            ChannelSpec("left", "left", "count"),
            ChannelSpec("refilling", "refilling", "flag"),
        )

    @property
    def refilling(self) -> bool:
        """Whether a refill is going on, paused or not."""
        return self.left > 0

    @property
    def ready(self) -> bool:
        """Whether a use would be allowed now."""
        return self.stock > 0 and (self.while_refilling or not self.left)

    def use(self) -> bool:
        """Uses one where it may; whether it did. A use that may not be is an event `refused`."""
        if not self.ready:
            self.emit("refused", left=self.left)
            if self.by_itself and self.stock == 0:
                self.refill()
            return False
        self.stock -= 1
        # Before `empty`, which is what this use led to.
        self.emit("used", stock=self.stock)
        if self.stock == 0:
            self.emit("empty")
            if self.by_itself:
                self.refill()
        return True

    def refill(self) -> bool:
        """Starts a refill, where none is going on and the stock is not full; whether it did."""
        if self.left or self.stock == self.most:
            return False
        self._begin_anew()
        self.emit("refilling", left=self.left)
        return True

    def fill(self) -> None:
        """Full at once."""
        self.left, self.running, self.stock = 0, False, self.most
        self.emit("full")

    def step(self) -> None:
        if self.running and self._over():
            self.fill()

    def inlined(self) -> Inlined:
        if self.style is not None:
            return WHILE_RUNNING
        return Inlined(COUNTED_DOWN.format(over="me.fill()"))
