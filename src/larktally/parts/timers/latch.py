"""Latches: what fires once, until it is armed again."""

from __future__ import annotations

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol

__all__ = ["Latch"]


class Latch(Part):
    """Fires once; `arm` makes it able to again. Channel: `armed`. Events: fired, armed."""

    channel_specs = (ChannelSpec("armed", "armed", "flag"),)
    state_fields = ("armed",)
    events = ("fired", "armed")

    def __init__(self, sim: SimProtocol, name: str, armed: bool = True) -> None:
        super().__init__(sim, name)
        if not isinstance(armed, bool):
            raise ModelError(f"latch {name!r}: armed is True or False, not {armed!r}")
        self.armed = armed

    def fire(self) -> bool:
        """Whether it was armed; it is not any more."""
        if not self.armed:
            return False
        self.armed = False
        self.emit("fired")
        return True

    def arm(self) -> None:
        """Makes it able to fire again."""
        if not self.armed:
            self.armed = True
            self.emit("armed")
