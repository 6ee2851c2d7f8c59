"""Named windows: for which shifts of a press a claim is kept, under the name that people use for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from larktally.claims.claim import Claim, claim
from larktally.claims.named import Wanted, bounds_of
from larktally.errors import ClaimError
from larktally.inputs.shift import Shift
from larktally.language.forms import Form

__all__ = ["NamedWindow", "named_windows"]


@dataclass(frozen=True, slots=True)
class NamedWindow:
    """A window under a name: the shifts of a press for which `that` is kept: a claim, its text, or the name of one of the
    scenario's. `wanted` is the least and the greatest number of frames that will do, shown and no claim; `runs` a pattern of the
    scenarios that have it."""

    that: str | Claim
    shift: Shift
    wanted: tuple[float, float] | None = None
    name: str = ""
    runs: str = "*"

    def __init__(
        self, that: str | Claim | Form, shift: Shift, *, wanted: Wanted | None = None, name: str = "", runs: str = "*"
    ) -> None:
        """Raises ClaimError for what is wanted where that is no number, and for a shift that is none."""
        if not isinstance(shift, Shift):
            raise ClaimError(f"a window takes an lt.Shift(…), not {shift!r}")
        judged = that
        if isinstance(judged, Form):
            judged = claim(name or "the press is taken", judged)
        values = {"that": judged, "shift": shift, "wanted": bounds_of(wanted), "name": name, "runs": runs}
        for key, value in values.items():
            # A value: it is only set here, while it is made.
            object.__setattr__(self, key, value)

    def claim_among(self, claims: Iterable[Claim]) -> Claim:
        """What is judged: itself, or the one of these that has its name. Raises ClaimError for a text that is neither."""
        if isinstance(self.that, Claim):
            return self.that
        for one in claims:
            if one.name == self.that:
                return one
        return claim(self.name or "the press is taken", self.that)


def named_windows(given: Mapping[str, NamedWindow]) -> tuple[NamedWindow, ...]:
    """Windows by their names; raises ClaimError for what is none, and for an empty name."""
    found = []
    for name, one in given.items():
        if not isinstance(name, str) or not name.strip():
            raise ClaimError(f"a window has a name that is not empty, not {name!r}")
        if not isinstance(one, NamedWindow):
            raise ClaimError(f"window {name!r} is an lt.NamedWindow(that, lt.Shift(…)), not {one!r}")
        found.append(replace(one, name=name))
    return tuple(found)
