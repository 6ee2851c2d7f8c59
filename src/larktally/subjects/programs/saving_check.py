"""Whether what a program saves is all of its state: put back after all that may have come between, run on as before and with
other inputs, in the same process and in one that never ran."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from larktally.subjects.programs.exercise import BATCH, Exercise, Inputs, Run, Untested, check_moves, check_same
from larktally.subjects.programs.rpc import ProtocolError
from larktally.timing import Rate

__all__ = ["RUN_ON", "SavingCheck"]

# Rows from which a state is saved, and how long it is run on from each.
SAVED_AT = (1, 13, 40, 77, 121, 180)
RUN_ON = 40


class SavingCheck:
    """States saved in some frames of some scripts, of which `runs` are the rows; `busiest` names the scripts, those first
    in which most happens."""

    def __init__(
        self,
        exercise: Exercise,
        scripts: Mapping[str, Inputs],
        runs: Mapping[str, Run],
        rate: Rate,
        busiest: Sequence[str],
    ) -> None:
        self.exercise, self.program = exercise, exercise.program
        self._scripts, self._runs, self._rate, self._busiest = scripts, runs, rate, busiest
        self._frames = max(run.frames for run in runs.values())

    def _names(self) -> list[str]:
        return [action.name for action in self.program.actions]

    def loads(self) -> str:
        moved, size = 0, 0
        probes = self._probes()
        for n, (name, at) in enumerate(self._places_to_save(3)):
            probe, held = probes[n % len(probes)]
            inputs, whole = self._scripts[name], self._runs[name]
            state, row = self._saved_at(inputs, at)
            size = max(size, len(state))
            # On as before; then with other inputs, which no run had: what `load` forgets is what the run before left.
            stop = min(at + 1 + RUN_ON, whole.frames + 1)
            control = self.exercise.run(held, at + 1, stop, BATCH)
            for before in ("the run going on", "a reset", "another run"):
                self._disturb(before)
                self._load(self.exercise, state, at, row)
                on = self.exercise.run(inputs, at + 1, stop, BATCH)
                check_same(
                    self.program.channels,
                    whole.since(at + 1, stop),
                    on,
                    f"{name}: saved in frame {at}, loaded after {before}",
                )
                self._disturb(before)
                self._load(self.exercise, state, at, row)
                again = self.exercise.run(held, at + 1, stop, BATCH)
                check_same(
                    self.program.channels,
                    control,
                    again,
                    f"{name}: saved in frame {at}, {probe} held from there, after {before}",
                )
                moved += on.last_move() > on.first
        if not moved:
            raise Untested("nothing moves after a load in any script, so that a state that forgot all would do")
        return f"states of up to {size} bytes, {moved} times"

    def _probes(self) -> list[tuple[str, Inputs]]:
        """What is held after a load beside the script itself: all, and each action alone, by name."""
        none = dict.fromkeys(self._names(), [0.0] * self._frames)
        found: list[tuple[str, Inputs]] = [("all", dict.fromkeys(none, [1.0] * self._frames))]
        for name in none:
            found.append((name, {**none, name: [1.0] * self._frames}))
        return found

    def _places_to_save(self, scripts: int) -> list[tuple[str, int]]:
        """Frames of the busiest scripts, of which some rows are left to run on."""
        return [(name, at) for name in self._busiest[:scripts] for at in SAVED_AT if at + 2 <= self._runs[name].frames]

    def _saved_at(self, inputs: Inputs, at: int) -> tuple[bytes, tuple[Any, ...]]:
        """A state saved in a frame of a script, and the row that stood there."""
        self.exercise.reset(self._rate)
        self.exercise.run(inputs, 1, at + 1, BATCH)
        return self.program.save(), self.program.row()

    def _disturb(self, before: str) -> None:
        """Leads it somewhere else, and leaves all that a press can leave: a key held, a press remembered."""
        if before == "a reset":
            self.exercise.reset(self._rate, seed=23)
        elif before == "another run":
            self.exercise.reset(self._rate, seed=5)
            self.exercise.run(self._scripts["all, densely"], 1, 1 + RUN_ON, BATCH)
        else:
            self._go_on(self._scripts["all, sparsely"], RUN_ON)
        # The other way after a reset: what looks where it goes last looked the one way or the other.
        last = {action.name: -1.0 if action.analog and before == "a reset" else 1.0 for action in self.program.actions}
        self._go_on({name: [0.0, value] for name, value in last.items()}, 2)

    def _go_on(self, inputs: Inputs, frames: int) -> None:
        """Some frames on from where it stands, whichever frame that is."""
        first = self.program.frame + 1
        shifted = {}
        for name, values in inputs.items():
            shifted[name] = [0.0] * (first - 1) + list(values)
        self.exercise.run(shifted, first, first + frames, BATCH)

    def _load(self, exercise: Exercise, state: bytes, frame: int, row: tuple[Any, ...]) -> None:
        exercise.program.load(state)
        if exercise.program.frame != frame:
            raise ProtocolError(f"load says frame {exercise.program.frame}, and the state is of frame {frame}")
        if list(map(repr, exercise.program.row())) != list(map(repr, row)):
            raise ProtocolError(f"load answers the row {exercise.program.row()}, which was {row} where it was saved")

    def loads_elsewhere(self, fresh: Callable[[], Exercise]) -> str:
        """The same in processes that did nothing before, each made by `fresh`."""
        name = self._busiest[0]
        whole = self._runs[name]
        check_moves(whole)
        for _, at in self._places_to_save(1):
            state, row = self._saved_at(self._scripts[name], at)
            other = fresh()
            other.reset(self._rate, seed=31)
            self._load(other, state, at, row)
            on = other.run(self._scripts[name], at + 1, whole.frames + 1, BATCH)
            other.program.stop()
            check_same(self.program.channels, whole.since(at + 1), on, f"{name}: saved in frame {at}")
        return ""
