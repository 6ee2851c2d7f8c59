"""Cooldowns: what was used rests for n frames."""

from __future__ import annotations

from typing import TYPE_CHECKING

from larktally.parts.part import Part, Shown
from larktally.timing import Duration, frames_in

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Cooldown"]


class Cooldown(Part):
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

    Channels: `left` (frames), `ready`. Raises LarkError for a length below one frame.
    """

    phase = "timers"
    shown = (Shown("left", "left", "count"), Shown("ready", "ready", "flag"))
    kept = ("frames", "left", "ready", "_started")
    events = ("used", "refused", "ready")

    def __init__(self, sim: Sim, name: str, frames: Duration) -> None:
        super().__init__(sim, name)
        self.frames = frames_in(frames, sim.rate, least=1, what=f"cooldown {name!r}:")
        self.left = 0
        self.ready = True
        self._started = -1

    def use(self) -> bool:
        """Uses it where it is ready; whether it was. A use while it rests changes nothing, and is an event `refused`."""
        if not self.ready:
            self.say("refused", left=self.left)
            return False
        self.left = self.frames
        self.ready = False
        self._started = self.sim.frame
        self.say("used")
        return True

    def step(self) -> None:
        if self.ready or self._started == self.sim.frame:
            return
        self.left -= 1
        if self.left == 0:
            self.ready = True
            self.say("ready")
