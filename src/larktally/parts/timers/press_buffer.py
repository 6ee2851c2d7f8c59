"""Press buffers: a press that is remembered for some frames, until one rule takes it."""

from __future__ import annotations

from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.timing import Duration, frames_in

__all__ = ["PressBuffer"]


class PressBuffer(Part):
    """Remembers a press of an action: `waiting` in the row of the press and `keep` rows after it, unless it is taken.

    keep = 2, pressed in row 5 and not taken:

    ====  =========  =======
    row   waiting    event
    ====  =========  =======
    5     true       asked
    6     true
    7     true
    8     false      expired
    ====  =========  =======
    """

    phase = "inputs"
    channel_specs = (ChannelSpec("waiting", "waiting", "flag"),)
    state_fields = ("waiting", "left", "keep")
    events = ("asked", "taken", "expired")

    def __init__(self, sim: SimProtocol, name: str, action: str, keep: Duration) -> None:
        super().__init__(sim, name)
        self.action = sim.actions.named(action)
        self.keep = frames_in(keep, sim.rate, what=f"press buffer {name!r}:")
        self.waiting = False
        self.left = 0

    def take(self) -> bool:
        """Takes the press where one waits; whether one did."""
        if not self.waiting:
            return False
        self.waiting = False
        self.emit("taken")
        return True

    def step(self) -> None:
        if self.inputs.pressed_by[self.action]:
            self.waiting = True
            self.left = self.keep
            self.emit("asked")
        elif self.waiting:
            # Asked before counting: a press is kept in its own row and `keep` rows after it.
            if self.left == 0:
                self.waiting = False
                self.emit("expired")
            self.left = max(self.left - 1, 0)
