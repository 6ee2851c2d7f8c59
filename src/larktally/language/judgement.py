"""What a property comes to over one trace: cases, how many failed, which first, how many stayed open."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal, NamedTuple, TypeAlias

import msgspec

__all__ = ["Breach", "Judgement", "LISTED", "Margin", "Verdict"]

Verdict: TypeAlias = Literal["kept", "broken", "untested", "unfinished"]
#: A margin, or how it is found: it costs as much as the verdict, and most are never read.
Margin: TypeAlias = "float | Callable[[], float | None] | None"
LISTED = 100


class Breach(NamedTuple):
    """Where a claim failed: the row that raised the case, and the row in which it failed; None for neither."""

    trigger: int | None
    row: int | None


class Judgement(msgspec.Struct, frozen=True):
    """A property over one trace: cases that arose, how many failed, the first of them, how many stayed open.

    `slack` is its margin, or how that is found when it is first asked for.
    `waiting` is, where some stayed open, the row that raised the first of them and the row in which all are decided, None
    where no row is sure to be that. `excused` are those that ended undecided by `unless`: no cases.
    """

    cases: int
    broken: int = 0
    breaches: tuple[Breach, ...] = ()
    open: int = 0
    slack: Margin = None
    may_be_untested: bool = False
    waiting: Breach | None = None
    excused: int = 0

    @property
    def margin(self) -> float | None:
        """The signed slack of the one comparison that was judged, negative where broken; None where there is none."""
        found = self.slack
        if callable(found):
            found = found()
            # Not anew for each who asks: frozen means that what it says never changes.
            msgspec.structs.force_setattr(self, "slack", found)
        return found

    def __reduce__(self) -> tuple[Any, ...]:
        # What finds a margin holds a whole trace, and goes to no other process.
        values = [self.margin if name == "slack" else getattr(self, name) for name in self.__struct_fields__]
        return type(self), tuple(values)

    @property
    def verdict(self) -> Verdict:
        """broken, else unfinished, else untested, else kept."""
        if self.broken:
            return "broken"
        if self.open:
            return "unfinished"
        if self.may_be_untested and not self.cases:
            return "untested"
        return "kept"
