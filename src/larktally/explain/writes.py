"""A write: a channel being set, by whom, in which phase and line, and why."""

from __future__ import annotations

from typing import Any

import msgspec
from msgspec.structs import asdict

from larktally.textfmt import shown_value

__all__ = ["Write"]


class Write(msgspec.Struct, frozen=True):
    """A channel being set: in which row, phase and part, from which file and line of the model's own ("" where the part's own
    step did it), from which value to which; and why, where that step can say so."""

    channel: str
    row: int
    phase: str
    part: str
    place: str
    before: Any
    after: Any
    reason: str = ""

    @property
    def by_model(self) -> bool:
        """Whether one of the model's own functions set it, rather than a part's own step."""
        return bool(self.place)

    @property
    def where(self) -> str:
        """The reason, the line, or that it was the part's own step."""
        return self.reason or self.place or "its own step"

    @property
    def change(self) -> str:
        """What it was set to, and from what."""
        return f"{self.channel} = {shown_value(self.after)} (was {shown_value(self.before)})"

    def plain(self) -> dict[str, Any]:
        """The write as plain data, for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        where = "while the model was built or reset"
        if self.phase:
            where = f"in the phase {self.phase!r}, {self.part}"
        why = f": {self.where}"
        if self.place and not self.reason:
            why = f", at {self.place}"
        return f"{self.change}, set in row {self.row} {where}{why}"
