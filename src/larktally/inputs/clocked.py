"""What a clock's parts see of the inputs: the presses between two ticks, gathered, so that none is lost.

Row by row an edge lasts one row; a clock at 1/4 looks at every fourth. Here an edge waits for the clock's next tick.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from larktally.inputs.view import FrameInput

__all__ = ["ClockedInput"]


class ClockedInput(FrameInput):
    """A frame's inputs as the parts on one clock see them, in the rows in which it ticks.

    `held` and `value` are the row's own. `pressed`: a press began later than the tick before, and it is still held, or
    taps were kept when it began. `released`: one that was seen held or pressed was let go of later than the tick before.
    Both may hold in one tick, and several presses between two ticks are one. `held_for` counts ticks.
    """

    __slots__ = ("_began", "_let_go", "_seen", "_since", "_tapped", "_ticks", "_view")

    def __init__(self, view: FrameInput) -> None:
        super().__init__(view.actions, view.rate)
        # Presses that began since the last tick and are held, each with whether it counts should it be let go of; taps
        # that are over and count; what was let go of; and what the clock's parts have seen held.
        self._began: dict[str, bool] = {}
        self._tapped: dict[str, bool] = {}
        self._let_go: dict[str, bool] = {}
        self._seen: dict[str, bool] = {}
        # The tick before each press, by which `held_for` counts.
        self._since: dict[str, int] = {}
        self._ticks = 0
        self.follow(view)

    def follow(self, view: FrameInput) -> None:
        """Shows what this view shows, from now on."""
        self._view = view
        self.value_by, self.held_by, self.since_by = view.value_by, view.held_by, view.since_by
        self.held, self.value = view.held, view.value

    @property
    def view(self) -> FrameInput:
        """The view of every row that it is made from."""
        return self._view

    def note_row(self, ticks: int, keeps_taps: bool) -> None:
        """Takes up the edges of a row, before which the clock had ticked so often."""
        self.frame = self._view.frame
        if self.edges:
            self.clear_edges()
        for action in self._view.edges:
            if self.held_by[action]:
                self._began[action] = keeps_taps
                self._since[action] = ticks
            elif action not in self._began:
                if self._seen.pop(action, False):
                    self._let_go[action] = True
            elif self._began.pop(action):
                self._tapped[action] = self._let_go[action] = True

    def tick(self, ticks: int) -> None:
        """Shows what has gathered since the tick before; `ticks` counts this one."""
        self._ticks = ticks
        if not (self._began or self._tapped or self._let_go):
            return
        for action in (*self._tapped, *self._began):
            self.pressed_by[action] = True
        for action in self._let_go:
            self.released_by[action] = True
        self.edges[:] = dict.fromkeys([*self._tapped, *self._began, *self._let_go])
        self._seen.update(dict.fromkeys(self._began, True))
        for gathered in (self._began, self._tapped, self._let_go):
            gathered.clear()

    def held_for(self, action: str) -> int:
        """Ticks it has been held, this one included; 0 where it is not held."""
        if self.held_by[action]:
            return self._ticks - self._since.get(self.actions.named(action), 0)
        return 0

    def save(self) -> dict[str, Any]:
        """What is remembered from row to row."""
        return {
            "began": dict(self._began),
            "tapped": dict(self._tapped),
            "let_go": dict(self._let_go),
            "seen": dict(self._seen),
            "since": dict(self._since),
            "ticks": self._ticks,
        }

    def load(self, saved: Mapping[str, Any]) -> None:
        """Remembers again what was saved."""
        self.clear_edges()
        self._began, self._tapped = dict(saved["began"]), dict(saved["tapped"])
        self._let_go, self._seen = dict(saved["let_go"]), dict(saved["seen"])
        self._since, self._ticks = dict(saved["since"]), saved["ticks"]
