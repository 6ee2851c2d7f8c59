"""Clocks: named streams of time at an exact fraction of the rate; 0 is a pause, 1/4 slow motion."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from typing import Any, Literal

from larktally.errors import ModelError
from larktally.inputs.clocked import ClockedInput
from larktally.inputs.view import FrameInput
from larktally.names import unknown_name
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.timing import Duration, frames_in

__all__ = ["Clock", "clock_named"]


class Clock(Part):
    """Parts on a clock are stepped in the frames in which it ticks: `count` goes up by one there.

    At 1/2 it ticks in every second frame. A change of its rate by a rule of row k counts from row k+1 on. Where a sim
    has a clock called `play`, every part that names no other is on it; clocks themselves are on none.

    At 1/2 from the start, run at 1 by a rule of row 4, and held for 2 frames by one of row 5:

    ====  ======  ========
    row   count   ticking
    ====  ======  ========
    1     0       false
    2     1       true
    3     1       false
    4     2       true
    5     3       true
    6     3       false
    7     3       false
    8     4       true
    ====  ======  ========

    Parts on a clock see a press in its first tick after the press began, and a tap that is over by then too, but for one
    made while the clock stood at rate 0: `edges="all"` counts those as well. Channels: `count`, `ticking`, and `listening`:
    whether a tap that begins in this row will be seen.
    """

    phase = "inputs"
    runs_first = True
    channel_specs = (
        ChannelSpec("count", "count", "count"),
        ChannelSpec("ticking", "ticking", "flag"),
        ChannelSpec("listening", "listening", "flag"),
    )
    state_fields = (
        "count",
        "ticking",
        "listening",
        "gathered",
        "_numerator",
        "_denominator",
        "_part",
        "_held",
        "_held_of",
        "_held_from",
    )

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        rate: str | int | Fraction = 1,
        *,
        edges: Literal["running", "all"] = "running",
    ) -> None:
        super().__init__(sim, name)
        if edges not in ("running", "all"):
            raise ModelError(unknown_name("edges", edges, ("running", "all"), f"clock {name!r}"))
        self._all_edges = edges == "all"
        self.listening = True
        self._inputs = ClockedInput(sim.inputs)
        self.count = 0
        self.ticking = True
        self._part = 0
        self._held, self._held_of, self._held_from = 0, "", 0
        # Two whole numbers and not a Fraction: adding the one and comparing with the other is what a frame does.
        self._numerator, self._denominator = 0, 1
        self.run(rate)

    @property
    def rate(self) -> Fraction:
        """Its share of the sim's rate."""
        return Fraction(self._numerator, self._denominator)

    def run(self, rate: str | int | Fraction) -> None:
        """Runs at this share of the rate from the next frame on, in [0, 1]; raises ModelError outside it."""
        try:
            share = Fraction(rate)
        except (ValueError, ZeroDivisionError, TypeError):
            share = Fraction(-1)
        if isinstance(rate, float) or not 0 <= share <= 1 or share.denominator > 1_000_000:
            raise ModelError(f"clock {self.name!r} runs at an exact share in [0, 1], 1 or '1/4', not {rate!r}")
        # What had gathered of a tick at the old rate is not a part of one at the new.
        if share != self.rate:
            self._part = 0
        self._numerator, self._denominator = share.numerator, share.denominator

    def pause(self) -> None:
        """Stands still from the next frame on."""
        self.run(0)

    def hold(self, frames: Duration, of: Clock | None = None) -> None:
        """Stands still for so many frames, or for so many of another clock, and then goes on at its rate: a hit stop.

        The other clock has to be registered before this one. Raises ModelError where it is not.
        """
        # A clock is stepped before those that were made after it, so that what holds it has to come first.
        names = list(self.sim.parts)
        if of is not None and names.index(of.name) >= names.index(self.name):
            raise ModelError(f"clock {self.name!r} is held by {of.name!r}, which has to be made before it")
        self._held = frames_in(frames, self.sim.rate, least=1, what=f"hold of clock {self.name!r}:")
        self._held_of, self._held_from = "", self.sim.frame
        if of is not None:
            self._held_of, self._held_from = of.name, of.count

    @property
    def held(self) -> bool:
        """Whether a hit stop holds it."""
        return self._held > 0

    def _still_held(self) -> bool:
        other = self.sim.parts.get(self._held_of)
        gone = (other.count if isinstance(other, Clock) else self.sim.frame) - self._held_from
        if gone > self._held:
            self._held = 0
        return self._held > 0

    def seen_inputs(self, inputs: FrameInput) -> FrameInput:
        """These inputs as the parts on this clock see them."""
        if self._inputs.view is not inputs:
            self._inputs.follow(inputs)
        return self._inputs

    @property
    def gathered(self) -> dict[str, Any]:
        """What its parts have not seen yet of the inputs, and what they have: its state, as plain data."""
        return self._inputs.save()

    @gathered.setter
    def gathered(self, saved: Mapping[str, Any]) -> None:
        self._inputs.load(saved)

    def step(self) -> None:
        # One that is held for a hit stop still runs: its taps are kept.
        self.listening = self._all_edges or self._numerator > 0
        self.seen_inputs(self.sim.inputs)
        self._inputs.note_row(self.count, self.listening)
        self._advance()
        if self.ticking:
            self._inputs.tick(self.count)

    def _advance(self) -> None:
        if self._held and self._still_held():
            self.ticking = False
            return
        self._part += self._numerator
        # A third of the rate ticks in every third frame exactly, for ever: the remainder is whole.
        self.ticking = self._part >= self._denominator
        if self.ticking:
            self._part -= self._denominator
            self.count += 1


def clock_named(parts: Mapping[str, object], name: str, what: str) -> Clock:
    """The clock of a name, which has to be there already; raises ModelError naming `what` is to be on it."""
    found = parts.get(name)
    if isinstance(found, Clock):
        return found
    clocks = [one for one, part in parts.items() if isinstance(part, Clock)]
    raise ModelError(f"{what}: no clock {name!r}; clocks come first: sim.clock({name!r}); there are: {clocks}")
