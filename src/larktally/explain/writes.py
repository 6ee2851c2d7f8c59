"""A write: a channel being set, by whom, in which phase and line, and why."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from larktally.textfmt import shown_value

__all__ = ["Write"]


@dataclass(frozen=True, slots=True)
class Write:
    """A channel being set: in which row, phase and part, from which file and line (the model's own, where one of its
    functions did), from which value to which; and why, where the part's own step did it and can say so."""

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
        return not self.place.startswith("larktally/")

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
        why = f", at {self.place}"
        if self.reason:
            why = f": {self.reason}"
        return f"{self.change}, set in row {self.row} {where}{why}"
