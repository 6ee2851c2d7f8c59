"""Stats: a base number and modifiers that last for a while; the value is always computed from the base."""

from __future__ import annotations

from typing import Any, ClassVar, Literal, TypeAlias

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.checks import number
from larktally.timing import Duration, frames_in

__all__ = ["Stat", "Stacking"]

Stacking: TypeAlias = Literal["refresh", "extend", "independent", "strongest"]
_STACKINGS = ("refresh", "extend", "independent", "strongest")
_KINDS = ("add", "scale", "set")


class Stat(Part):
    """A number with timed modifiers: it returns to the very same bits when they have fallen away.

    The value is `base`, or the last `set` in its place, plus every `add`, in the order in which they came, then times
    every `scale`, likewise. base = 120, `modify("damp", scale=0.5, frames=3)` in row 10:

    ====  ======  ==========  ===========
    row   value   modifiers   event
    ====  ======  ==========  ===========
    9     120     0
    10    60      1           modified
    11    60      1
    12    60      1
    13    120     0           lapsed
    ====  ======  ==========  ===========

    The same modifier again, before it has fallen away: `stacking="refresh"` (the default) takes the new amount for the
    new time; "extend" adds the new time to what is left; "independent" lets both count; "strongest" keeps the one that
    moves the value farther, for its own time.

    Channels: the value, `modifiers` (how many count). Events: modified (modifier, kind, amount), lapsed (modifier),
    lifted (modifier).
    """

    phase = "timers"
    state_fields = ("_base", "_modifiers")
    derived_fields = ("value",)
    channel_specs = (ChannelSpec("", "value", "number"), ChannelSpec("modifiers", "count", "count"))
    events: ClassVar[tuple[str, ...]] = ("modified", "lapsed", "lifted")

    def __init__(self, sim: SimProtocol, name: str, base: float) -> None:
        super().__init__(sim, name)
        self._base = number(f"stat {name!r}", "base", base)
        self.value = self._base
        self._modifiers: list[dict[str, Any]] = []

    @property
    def base(self) -> float:
        """The number without modifiers; assign it to change it for good."""
        return self._base

    @base.setter
    def base(self, base: float) -> None:
        self._base = number(f"stat {self.name!r}", "base", base)
        # From the base and what holds now, every time: a value that is added to and taken from drifts.
        self._compute()

    @property
    def count(self) -> int:
        """How many modifiers count now."""
        return len(self._modifiers)

    def modify(
        self,
        modifier: str,
        *,
        add: float | None = None,
        scale: float | None = None,
        set: float | None = None,
        frames: Duration | None = None,
        stacking: Stacking = "refresh",
    ) -> None:
        """A modifier under a name: one of add, scale and set, for so many frames or until it is lifted.

        Raises ModelError for none or several of the three, for a stacking that does not exist, and where the same name
        comes again as another kind.
        """
        chosen = [(kind, amount) for kind, amount in zip(_KINDS, (add, scale, set), strict=True) if amount is not None]
        # add and scale in one modifier would hang on which of the two comes first.
        if len(chosen) != 1:
            raise ModelError(f"stat {self.name!r}: modifier {modifier!r} takes one of add=, scale= and set=")
        if stacking not in _STACKINGS:
            raise ModelError(f"stat {self.name!r}: stacking is one of {', '.join(_STACKINGS)}, not {stacking!r}")
        kind, amount = chosen[0][0], number(f"stat {self.name!r}", chosen[0][0], chosen[0][1])
        what = f"modifier {modifier!r} of stat {self.name!r}:"
        if frames is None:
            left = -1
        else:
            left = frames_in(frames, self.sim.rate, least=1, what=what)
        new = {"name": modifier, "kind": kind, "amount": amount, "left": left, "started": self.sim.frame}
        self._stack(new, stacking)
        self.emit("modified", modifier=modifier, kind=kind, amount=amount)
        self._compute()

    def lift(self, modifier: str) -> bool:
        """Takes every modifier of that name away; whether there was one."""
        kept = []
        for one in self._modifiers:
            if one["name"] != modifier:
                kept.append(one)
        lifted = len(kept) < len(self._modifiers)
        if lifted:
            self._modifiers = kept
            self.emit("lifted", modifier=modifier)
            self._compute()
        return lifted

    def step(self) -> None:
        if not self._modifiers:
            return
        lapsed = []
        for one in self._modifiers:
            if one["left"] > 0 and one["started"] != self.sim.frame:
                one["left"] -= 1
                if one["left"] == 0:
                    lapsed.append(one)
        if lapsed:
            self._modifiers = [one for one in self._modifiers if one["left"] != 0]
            for one in lapsed:
                self.emit("lapsed", modifier=one["name"])
            self._compute()

    def inlined(self) -> Inlined:
        return Inlined("if me._modifiers:\n    me.step()")

    def after_load(self) -> None:
        self._compute()

    def _stack(self, new: dict[str, Any], stacking: str) -> None:
        old = next((one for one in self._modifiers if one["name"] == new["name"]), None)
        if old is not None and old["kind"] != new["kind"]:
            raise ModelError(
                f"stat {self.name!r}: modifier {new['name']!r} is one that {_DOES[old['kind']]}, and comes again as one "
                f"that {_DOES[new['kind']]}; give it another name"
            )
        if old is None or stacking == "independent":
            self._modifiers.append(new)
        elif stacking == "refresh":
            old.update(amount=new["amount"], left=new["left"], started=new["started"])
        elif stacking == "extend":
            old["amount"] = new["amount"]
            if -1 in (old["left"], new["left"]):
                old["left"] = -1
            else:
                old["left"] = old["left"] + new["left"]
        elif self._force(new) >= self._force(old):
            old.update(amount=new["amount"], left=new["left"], started=new["started"])

    def _force(self, one: dict[str, Any]) -> float:
        """How far a modifier alone moves the base."""
        return abs(_applied(self._base, [one]) - self._base)

    def _compute(self) -> None:
        self.value = _applied(self._base, self._modifiers)


_DOES = {"add": "adds", "scale": "scales", "set": "sets"}


def _applied(base: float, modifiers: list[dict[str, Any]]) -> float:
    value = base
    for one in modifiers:
        if one["kind"] == "set":
            value = one["amount"]
    for one in modifiers:
        if one["kind"] == "add":
            value += one["amount"]
    for one in modifiers:
        if one["kind"] == "scale":
            value *= one["amount"]
    return float(value)
