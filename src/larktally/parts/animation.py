"""Animations as frames: which one plays and at which frame, with marks that fall and spans that open strike boxes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from larktally.errors import ModelError, unknown_name
from larktally.parts.part import Part, Shown

if TYPE_CHECKING:
    from larktally.parts.sim import Sim
    from larktally.parts.space.strike import Strike

__all__ = ["Animation", "Clip"]


@dataclass(frozen=True, slots=True)
class Clip:
    """One animation: its length in frames; whether it loops or holds its last frame; marks, a frame each; spans, the
    first and last frame of each. Raises ModelError for a frame that it does not have."""

    frames: int
    loop: bool = False
    marks: Mapping[str, int] = field(default_factory=dict)
    spans: Mapping[str, tuple[int, int]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if not isinstance(self.frames, int) or self.frames < 1:
            raise ModelError(f"a clip has at least 1 frame, not {self.frames!r}")
        for name, (first, last) in [*self.spans.items(), *((n, (m, m)) for n, m in self.marks.items())]:
            if not 0 <= first <= last < self.frames:
                raise ModelError(f"a clip of {self.frames} frames has no frames {first}..{last}, where {name!r} stands")


class Animation(Part):
    """Which of several clips plays, and at which frame; stepped before the machines, which see what falls in their row.

    Played in the machines of row 10, a clip of 4 frames with the mark blow at 2:

    ====  =====  ========
    row   frame  event
    ====  =====  ========
    10    0
    11    1
    12    2      mark
    13    3
    14    3      finished
    ====  =====  ========

    `opens(strike, span)` holds a strike box open in the rows of a span. Channels: the clip's name, `frame`. Events:
    mark (mark, clip), finished (clip). A loop begins again at frame 0 and never finishes.
    """

    phase = "animations"
    kept = ("clip", "frame", "finished", "_started")
    events = ("mark", "finished")

    def __init__(self, sim: Sim, name: str, clips: Mapping[str, Clip], start: str) -> None:
        super().__init__(sim, name)
        self.clips = dict(clips)
        self._check(start)
        self.clip, self.frame, self.finished = start, 0, False
        self._started = -1
        self._opens: list[tuple[Strike, str]] = []

    def channels(self) -> tuple[Shown, ...]:
        return (Shown("", "clip", "label", tuple(self.clips)), Shown("frame", "frame", "count"))

    def play(self, clip: str, again: bool = False) -> None:
        """Plays a clip from frame 0; one that plays already goes on, unless `again`."""
        self._check(clip)
        if clip == self.clip and not again and not self.finished:
            return
        self.clip, self.frame, self.finished = clip, 0, False
        self._started = self.sim.frame
        self._show()

    def opens(self, strike: Strike, span: str) -> None:
        """Holds a strike box open while the clip that plays is in a span of that name, anew each time it comes to it."""
        if not any(span in clip.spans for clip in self.clips.values()):
            raise ModelError(
                unknown_name("span", span, {s for clip in self.clips.values() for s in clip.spans}, self.name)
            )
        self._opens.append((strike, span))

    def within(self, span: str) -> bool:
        """Whether the clip that plays is in a span of that name."""
        first, last = self.clips[self.clip].spans.get(span, (0, -1))
        return first <= self.frame <= last and not self.finished

    def step(self) -> None:
        if self.finished or self._started == self.sim.frame:
            return
        clip = self.clips[self.clip]
        if self.frame + 1 < clip.frames:
            self.frame += 1
        elif clip.loop:
            self.frame = 0
        else:
            self.finished = True
            self.say("finished", clip=self.clip)
        self._show()

    def _show(self) -> None:
        """Says the marks of the frame now shown, and opens and shuts what hangs on its spans."""
        if not self.finished:
            for mark, frame in self.clips[self.clip].marks.items():
                if frame == self.frame:
                    self.say("mark", mark=mark, clip=self.clip)
        for strike, span in self._opens:
            first = self.clips[self.clip].spans.get(span, (-1, -1))[0]
            if not self.within(span):
                strike.shut()
            elif self.frame == first or not strike.is_open:
                strike.open()

    def _check(self, clip: str) -> None:
        if clip not in self.clips:
            raise ModelError(f"animation {self.name!r}: {unknown_name('clip', clip, self.clips)}")
