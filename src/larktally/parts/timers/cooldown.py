"""Cooldowns: what was used rests for n frames; with charges, shared by a group, counted from the use or from its end."""

from __future__ import annotations

from typing import ClassVar, Literal

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.counted import COUNTED_DOWN, WHILE_RUNNING, CountedTimer
from larktally.summed import Style
from larktally.timing import Duration

__all__ = ["Cooldown"]


class Cooldown(CountedTimer):
    """Used in row k with n frames, it can be used again in row k+n and not before.

    n = 3, used in row 10 and, too early, in row 12:

    ====  ======  =======  ==========================
    row   left    ready    event
    ====  ======  =======  ==========================
    9     0       true
    10    3       false    used
    11    2       false
    12    1       false    refused
    13    0       true     ready
    ====  ======  =======  ==========================

    `charges=3` allows three uses before it has to rest; `refill="one"` gives one back every n frames, `refill="all"`
    all of them n frames after the first was used. `since="end"` begins the rest when `done()` is called, not at the
    use. `shared=` is another cooldown that every use uses too: one rest for a group, refused while either rests.

    Channels: `left` (frames), `ready`; with charges `charges`. Events: used, refused (left), ready, charged (charges),
    done, reset, paused, resumed, stopped. Raises LarkTallyError for a length below one frame.
    """

    events: ClassVar[tuple[str, ...]] = (
        "used",
        "refused",
        "ready",
        "charged",
        "done",
        "reset",
        "paused",
        "resumed",
        "stopped",
    )

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        frames: Duration,
        *,
        charges: int = 1,
        refill: Literal["one", "all"] = "one",
        since: Literal["use", "end"] = "use",
        shared: Cooldown | None = None,
        style: Style = None,
    ) -> None:
        super().__init__(sim, name, frames, style)
        if not isinstance(charges, int) or isinstance(charges, bool) or charges < 1:
            raise ModelError(f"cooldown {name!r} has a whole number of charges, at least 1, not {charges!r}")
        if refill not in ("one", "all") or since not in ("use", "end"):
            raise ModelError(
                f"cooldown {name!r}: refill is 'one' or 'all' and since 'use' or 'end', not {refill!r} and {since!r}"
            )
        self.most, self.refill, self.since, self.shared = charges, refill, since, shared
        self.charges = charges
        self.ready = True
        self.busy = False

    state_fields = (*CountedTimer.state_fields, "charges", "ready", "busy", "most", "refill", "since")

    def channels(self) -> tuple[ChannelSpec, ...]:
        shown = [ChannelSpec("left", "left", "count"), ChannelSpec("ready", "ready", "flag")]
        # One with a single charge has nothing to count: `ready` says it.
        if self.most > 1:
            shown.append(ChannelSpec("charges", "charges", "count"))
        return self._channels(*shown)

    def use(self) -> bool:
        """Uses it where it is ready; whether it was. A use while it rests changes nothing, and is an event `refused`."""
        if not self.ready:
            resting = self
        else:
            resting = None
            if self.shared is not None and not self.shared.ready:
                resting = self.shared
        if resting is not None:
            self.emit("refused", left=resting.left)
            return False
        self.charges -= 1
        self.busy = self.since == "end"
        # Before the event, so that who hears it sees what it says.
        self.ready = self.charges > 0 and not self.busy
        if not self.busy and not self.left:
            self._begin_anew()
        self.emit("used")
        # After its own: of two events in a row the one that was used comes first.
        if self.shared is not None:
            self.shared.use()
        return True

    def done(self) -> None:
        """The end of what was used, for one that rests `since="end"`: from now on it rests."""
        if self.since != "end":
            raise ModelError(f"cooldown {self.name!r} rests from its use on; done() is for since='end'")
        if self.busy:
            self.busy = False
            self.ready = self.charges > 0
            if not self.left:
                self._begin_anew()
            self.emit("done")

    def reset(self) -> None:
        """Ready at once, with all charges."""
        self.left, self.running, self.busy = 0, False, False
        self.charges, self.ready = self.most, True
        self.emit("reset")

    def stop(self) -> None:
        """Ends a rest before its time: all charges are back, and its end is not said. What is still in use stays so."""
        resting = self.left > 0
        super().stop()
        if resting:
            self.charges, self.ready = self.most, not self.busy

    def change(self, frames: Duration, now: bool = False) -> None:
        """Another length from the next rest on; with `now` the rest that is going on has it too, less what is over.

        Raises ModelError where a summed rest would be changed while it goes on.
        """
        if now and self.style is not None:
            raise ModelError(f"cooldown {self.name!r} is summed; change it for the next rest")
        # Of the rest that goes on, so much is over, whatever its new length.
        gone = self.frames - self.left
        super().change(frames)
        if now and self.left:
            self.left = max(self.frames - gone, 0)
            if not self.left:
                self.running = False
                self._rested()

    def step(self) -> None:
        if self.running and self._over():
            self._rested()

    def inlined(self) -> Inlined:
        if self.style is not None:
            return WHILE_RUNNING
        return Inlined(COUNTED_DOWN.format(over="me._rested()"))

    def _rested(self) -> None:
        was = self.ready
        if self.refill == "all":
            self.charges = self.most
        else:
            self.charges = self.charges + 1
        self.ready = not self.busy
        if self.most > 1:
            self.emit("charged", charges=self.charges)
        if self.ready and not was:
            self.emit("ready")
        if self.charges < self.most:
            self._begin()
