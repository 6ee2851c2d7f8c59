"""Animations as frames: which one plays and at which frame, with marks that fall and spans that open strike boxes."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from fractions import Fraction

import msgspec

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.context import StepContext
from larktally.parts.machine import Machine
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.checks import numbers, size_of
from larktally.parts.space.hitbox import Hitbox
from larktally.parts.value import Value
from larktally.timing import RateLike, as_rate

__all__ = ["Animation", "Clip"]


class Clip(msgspec.Struct, frozen=True):
    """One animation: its length in frames; whether it loops or holds its last frame; marks, a frame each; spans, the
    first and last frame of each; `rate`, its own frames per second where that is not the sim's; `moves`, a displacement
    for each frame, which a body can follow; `boxes`, for names of your own the frames in which a hitbox stands, each with its
    (offset, size) there. Raises ModelError for a frame that it does not have."""

    frames: int
    loop: bool = False
    marks: Mapping[str, int] = msgspec.field(default_factory=dict)
    spans: Mapping[str, tuple[int, int]] = msgspec.field(default_factory=dict)
    rate: RateLike | None = None
    moves: Sequence[Sequence[float]] = ()
    boxes: Mapping[str, Mapping[int, tuple[Sequence[float], Sequence[float]]]] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        if not isinstance(self.frames, int) or self.frames < 1:
            raise ModelError(f"a clip has at least 1 frame, not {self.frames!r}")
        for name, (first, last) in [*self.spans.items(), *((n, (m, m)) for n, m in self.marks.items())]:
            if not 0 <= first <= last < self.frames:
                raise ModelError(f"a clip of {self.frames} frames has no frames {first}..{last}, where {name!r} stands")
        for name, frames in self.boxes.items():
            if name in self.spans:
                raise ModelError(f"{name!r} is both a span and a box of a clip; a box says its own frames")
            for frame in frames:
                if not 0 <= frame < self.frames:
                    raise ModelError(
                        f"a clip of {self.frames} frames has no frame {frame}, where a box of {name!r} stands"
                    )
        if self.rate is not None:
            msgspec.structs.force_setattr(self, "rate", as_rate(self.rate))
        if self.moves and len(self.moves) != self.frames:
            raise ModelError(f"a clip of {self.frames} frames has a move for each of them, not {len(self.moves)}")
        if self.moves and self.rate is not None:
            raise ModelError(
                "a clip with moves runs at the sim's rate: leave rate= out, or write a move for each frame"
            )


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

    A clip with a rate of its own shows in the e-th row after it was chosen the frame floor(e * rate / the sim's rate);
    marks of frames that are passed over in one row are said in it, in order. A loop begins again at frame 0 and never
    finishes. `opens(strike, span)` holds a strike box open in the rows of a span; `leads(body)` lets a body's sweep
    follow the moves of the frame shown, in place of its velocity; `chosen_by(machine, clips)` plays a clip for each
    state, in the row in which it is entered.

    Channels: the clip's name, `frame`. Events: mark (mark, clip), finished (clip).
    """

    phase = "animations"
    state_fields = ("clip", "frame", "finished", "_started", "_first", "_elapsed")
    events = ("mark", "finished")

    def __init__(self, sim: SimProtocol, name: str, clips: Mapping[str, Clip], start: str) -> None:
        super().__init__(sim, name)
        self.clips = dict(clips)
        self._check(start)
        self.clip, self.frame, self.finished = start, 0, False
        self._started = -1
        self._first = self._elapsed = 0
        self._opens: list[tuple[Hitbox, str]] = []
        self._pace: dict[str, int | Fraction] = {}
        for clip, one in self.clips.items():
            pace = Fraction(one.rate or sim.rate) / sim.rate
            # Most clips run at the sim's rate, and whole numbers are many times faster than fractions.
            self._pace[clip] = 1 if pace == 1 else pace

    def channels(self) -> tuple[ChannelSpec, ...]:
        return (ChannelSpec("", "clip", "label", tuple(self.clips)), ChannelSpec("frame", "frame", "count"))

    def play(self, clip: str, *, again: bool = False, keep_phase: bool = False) -> None:
        """Plays a clip from frame 0; one that plays already goes on, unless `again`.

        `keep_phase` goes on at the same share of the new clip: from frame 6 of 12 to frame 4 of 8.
        """
        self._check(clip)
        if clip == self.clip and not again and not self.finished:
            return
        before = self.clips[self.clip]
        if keep_phase and not self.finished:
            self.frame = self.frame * self.clips[clip].frames // before.frames
        else:
            self.frame = 0
        self.clip, self.finished = clip, False
        self._first, self._elapsed = self.frame, 0
        self._started = self.sim.frame
        self._show([self.frame])

    def chosen_by(self, machine: Machine, clips: Mapping[str, str]) -> None:
        """Plays the clip of a state in the row in which the state is entered, from its frame 0 on."""
        for state, clip in clips.items():
            self._check(clip)
            machine.enter(state)(_Plays(self, clip))

    def leads(self, body: Body, facing: Value | None = None) -> None:
        """Lets a body follow the moves of the frame shown, mirrored along the first axis where `facing` is -1.

        Clips without moves leave the body to its velocity.
        """
        axes = len(body.axes)
        for name, clip in self.clips.items():
            if any(len(move) != axes for move in clip.moves):
                raise ModelError(f"animation {self.name!r}: the moves of clip {name!r} have {axes} numbers each")
        body.leader = lambda: self._move(facing)

    def _move(self, facing: Value | None) -> list[float] | None:
        """The displacement of the frame shown, or None where it has none."""
        moves = self.clips[self.clip].moves
        if not moves or self.finished:
            return None
        if facing is None:
            mirror = 1.0
        else:
            mirror = float(facing.value)
        found: list[float] = []
        for i, component in enumerate(moves[self.frame]):
            found.append(float(component) * (mirror if i == 0 else 1.0))
        return found

    def opens(self, strike: Hitbox, span: str) -> None:
        """Holds a strike box open while the clip that plays is in a span of that name, anew each time it comes to it; or in
        the frames for which the clip has a box of that name, in its place and size there."""
        known: set[str] = set()
        for clip in self.clips.values():
            known.update(clip.spans, clip.boxes)
            for offset, size in clip.boxes.get(span, {}).values():
                numbers(f"animation {self.name!r}", f"the offset of {span!r}", offset, len(strike.offset))
                size_of(f"animation {self.name!r}: a box of {span!r}", size, len(strike.size))
        if span not in known:
            raise ModelError(unknown_name("span", span, known, self.name))
        self._opens.append((strike, span))

    @property
    def opened(self) -> Sequence[tuple[Hitbox, str]]:
        """The strike boxes that it holds open, each with the span that does."""
        return self._opens

    def within(self, span: str) -> bool:
        """Whether the clip that plays is in a span of that name."""
        boxes = self.clips[self.clip].boxes.get(span)
        if boxes is not None:
            return self.frame in boxes and not self.finished
        first, last = self.clips[self.clip].spans.get(span, (0, -1))
        return first <= self.frame <= last and not self.finished

    def step(self) -> None:
        # Shown from its first frame in the row that started it, whatever phase did.
        if self.finished or self._started == self.sim.frame:
            return
        clip, pace = self.clips[self.clip], self._pace[self.clip]
        # From the whole time each frame: adding a share to a frame number would drift.
        before = self._first + math.floor(self._elapsed * pace)
        self._elapsed += 1
        reached = self._first + math.floor(self._elapsed * pace)
        self.finished = reached >= clip.frames and not clip.loop
        last = reached
        if self.finished:
            last = clip.frames - 1
        self.frame = last % clip.frames
        self._show([frame % clip.frames for frame in range(before + 1, last + 1)])
        if self.finished:
            self.emit("finished", clip=self.clip)

    def inlined(self) -> Inlined:
        return Inlined("if not me.finished and me._started != frame:\n    me.step()")

    def _show(self, passed: Iterable[int]) -> None:
        """Says the marks of the frames that this row came to, and opens and shuts what hangs on its spans."""
        marks = self.clips[self.clip].marks
        if marks:
            for frame in passed:
                for mark, at in marks.items():
                    if at == frame:
                        self.emit("mark", mark=mark, clip=self.clip)
        clip = self.clips[self.clip]
        for strike, span in self._opens:
            first = clip.spans.get(span, (-1, -1))[0]
            if not self.within(span):
                strike.shut()
                continue
            boxes = clip.boxes.get(span)
            if boxes is not None:
                offset, size = boxes[self.frame]
                strike.offset, strike.size = tuple(map(float, offset)), tuple(map(float, size))
                # The first of a row of frames with a box begins an opening, also in a loop that comes round to it.
                if self.frame - 1 not in boxes:
                    first = self.frame
            if self.frame == first or not strike.is_open:
                strike.open()

    def _check(self, clip: str) -> None:
        if clip not in self.clips:
            raise ModelError(f"animation {self.name!r}: {unknown_name('clip', clip, self.clips)}")


class _Plays:
    """An enter hook that plays a clip, under a name that readers know it by."""

    def __init__(self, animation: Animation, clip: str) -> None:
        self._animation, self._clip = animation, clip
        self.__name__ = f"play_{clip}"

    def __call__(self, now: StepContext) -> None:
        self._animation.play(self._clip, again=True)
