"""Checking a program: what is looked at, in which order, and when each line holds."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, Literal

from larktally.errors import SubjectFailed
from larktally.inputs.actions import Actions
from larktally.inputs.script import InputScript
from larktally.inputs.view import InputFeed
from larktally.subjects.programs.careless import careless_lines, check_refusal
from larktally.subjects.programs.exercise import (
    BATCH,
    Exercise,
    Inputs,
    Run,
    Untested,
    check_moves,
    check_same,
    difference,
    scripts_for,
)
from larktally.subjects.programs.handshake import Param
from larktally.subjects.programs.program import Program
from larktally.subjects.programs.program_check import CheckedLine, ProgramCheck, Verdict
from larktally.subjects.programs.rpc import ProtocolError, RpcError
from larktally.subjects.programs.saving_check import RUN_ON, SavingCheck
from larktally.subjects.programs.wire import WireError
from larktally.textfmt import plural
from larktally.timing import Duration, Rate, as_rate

__all__ = ["CheckedLine", "ProgramCheck", "check_program"]

# Long enough for a hop and a fall, short enough to be played many times over.
FRAMES = 240
# Some games hold so many frames in a buffer and no more; the library itself asks for 256.
LONG = 2000
# A game may well go another way at another rate, though hardly fifty times as far.
FARTHEST_APART = 50
_OWN_SCRIPT = "A script of your own: --inputs FILE.csv"


def check_program(
    command: Sequence[str] | None,
    *,
    folder: str | Path | None = None,
    over: str = "stdio",
    rate: str | int | None = None,
    within: Duration = "5s",
    inputs: InputScript | None = None,
    stop_at_failure: bool = False,
) -> ProgramCheck:
    """Speaks every method to a program: each action alone and together, in short and long batches, again after all that may
    have left something behind, from saved states, in two processes, at other rates and with other params.

    `inputs` is a script of the caller's own, for what no press by chance reaches; `stop_at_failure` looks no further than
    the first must that does not hold, for whoever mends one after the other.
    Raises LarkTallyError where it cannot be started at all, or for an action that it does not take.
    """

    def started(columns: Literal["json", "binary"] = "binary") -> Program:
        return Program(
            command,
            folder=folder,
            over=over,
            columns=columns,
            start_within=within,
            step_within=within,
            end_within=within,
        )

    check = _Check(started, rate, inputs, alone=command is None, stop_at_failure=stop_at_failure)
    try:
        check.run()
    except _Stopped:
        pass  # its lines so far are what was asked for
    finally:
        for program in check.programs:
            program.stop()
    return ProgramCheck(check.name, tuple(check.lines))


class _Stopped(Exception):
    """A must does not hold, and no more was asked for."""


class _Check:
    """One check going on."""

    def __init__(
        self,
        start: Callable[..., Program],
        rate: str | int | None,
        script: InputScript | None,
        alone: bool,
        stop_at_failure: bool,
    ) -> None:
        self._stop_at_failure = stop_at_failure
        self._start, self._wanted_rate, self._script, self._alone = start, rate, script, alone
        self.program = start()
        self.programs = [self.program]
        self.exercise = Exercise(self.program)
        self.name = self.program.name
        self.lines: list[CheckedLine] = []
        self._scripts: dict[str, Inputs] = {}
        self._runs: dict[str, Run] = {}
        self._restarted = False

    def run(self) -> None:
        """Every line, as far as the ones before allow it."""
        if not self._look("it starts and says what it can do", "hello", self._hello):
            return
        if not self._look("reset gives row 0, with every channel", "reset", self._reset):
            return
        if not self._look("each action alone, all together, and none, in one message each", "step", self._first_runs):
            return
        look = self._look
        look("it is alive to the end of a script", "step", self._stays_alive)
        for action in self.program.actions:
            look(f"action {action.name!r} changes rows", "step", partial(self._action_counts, action.name))
            if action.analog:
                look(f"analog action {action.name!r} counts by how much", "step", partial(self._analog, action.name))
        look("the same inputs give the same rows again", "Determinism", self._again)
        look("reset forgets all that was before, whatever was held", "reset", self._forgets)
        look("batches of 1, 2, 7 and 64 frames give the same rows", "step", self._batches)
        look(f"so does one message of {LONG} frames", "step", self._long)
        look("another process gives the same rows", "Determinism", self._another_process)
        if self.program.handshake.packed:
            look("columns as bytes are the same as text", "Columns as bytes", self._as_text)
        if self.program.saves:
            saving = SavingCheck(self.exercise, self._scripts, self._runs, self._rate(), self._by_changes())
            look("after a load the same inputs give the same rows, whatever was before", "save and load", saving.loads)
            look("so they do in a process that never ran", "save and load", lambda: saving.loads_elsewhere(self._fresh))
        look("each rate that it accepts is its own", "hello", self._rates)
        for param in self.program.params:
            look(f"param {param.name!r} changes rows", "hello", partial(self._param, param))
        look("numbers are written with all their digits", "Messages", self._digits)
        self._advice()

    def _advice(self) -> None:
        look = partial(self._look, must=False)
        look("every channel moves", "step", self._channels_move)
        look("every event comes", "hello", self._events_come)
        look("another seed gives other rows", "Determinism", self._seed)
        look("no frames at all give empty columns", "step", self._none)
        for careless in careless_lines(self._names()):
            what = f"{careless.what} is refused with {careless.code}, and it goes on"
            look(what, "Errors", partial(check_refusal, self.program, careless))
        look("after all that it still resets and gives the same rows", "Errors", self._still)
        look("it ends when it is asked to, with exit status 0", "end", self._end)

    def _look(self, what: str, section: str, look: Callable[[], str], must: bool = True) -> bool:
        verdict: Verdict = "holds"
        try:
            found = look()
        except Untested as missing:
            verdict, found = "untested", str(missing)
        except (ProtocolError, RpcError, WireError, SubjectFailed) as error:
            verdict, found = "fails", str(error)
            # A program that a careless line has ended is not one that goes on.
            self._restarted = not self.program.alive or self._restarted
            if not self.program.alive:
                self.program.stop()
        self.lines.append(CheckedLine(what, verdict, found, section, must))
        if must and self._stop_at_failure and verdict != "holds":
            raise _Stopped
        return verdict != "fails"

    def _names(self) -> list[str]:
        return [action.name for action in self.program.actions]

    def _rate(self) -> Rate:
        rates = self.program.handshake.rates
        return as_rate(self._wanted_rate or (rates[0] if rates else 60))

    def _play(self, inputs: Inputs, batch: int = BATCH, **setup: Any) -> Run:
        """A whole script from row 0."""
        self.exercise.reset(setup.pop("rate", self._rate()), **setup)
        frames = len(next(iter(inputs.values()), [0.0] * FRAMES))
        return self.exercise.run(inputs, 1, frames + 1, batch)

    def _busiest(self) -> str:
        """The name of the script in which most rows differ from the ones before."""
        own = "your script"
        if own in self._runs:
            return own
        return max(self._runs, key=lambda name: (self._runs[name].last_move(), self._runs[name].changes()))

    def _by_changes(self) -> list[str]:
        """The names of the scripts, those first in which most happens."""
        busiest = self._busiest()
        return sorted(self._runs, key=lambda name: (name != busiest, -self._runs[name].changes()))

    def _same(self, one: Run, other: Run, when: str = "") -> None:
        check_same(self.program.channels, one, other, when)

    def _hello(self) -> str:
        able = self.program.handshake
        self.name = f"{able.name} {able.version}".strip()
        self._scripts = scripts_for(able.actions, FRAMES)
        if self._script is not None:
            self._scripts["your script"] = self._as_columns(self._script)
        saves = "does not save"
        if able.saves:
            saves = "saves"
        params = f", {plural(len(able.params), 'param')}" if able.params else ""
        return (
            f"{self.name}, {plural(len(able.channels), 'channel')}, {plural(len(able.actions), 'action')}, "
            f"{plural(len(able.events), 'event')}{params}, {saves}"
        )

    def _as_columns(self, script: InputScript) -> Inputs:
        """A script as a value for each frame, some frames longer than it holds anything."""
        feed = InputFeed(script, Actions(self.program.actions), self._rate())
        found: dict[str, list[float]] = {name: [] for name in self._names()}
        for frame in range(1, script.last_frame + RUN_ON + 1):
            feed.advance(frame)
            for name, values in found.items():
                values.append(feed.view.value_by[name])
        return found

    def _reset(self) -> str:
        self.exercise.reset(self._rate())
        return ", ".join(f"{name} = {value!r}" for name, value in list(self.program.observe().items())[:4])

    def _first_runs(self) -> str:
        for name, inputs in self._scripts.items():
            self._runs[name] = self._play(inputs, batch=len(next(iter(inputs.values()), [])) or FRAMES)
        moved = len(self._moving())
        events = sum(len(run.events) for run in self._runs.values())
        return f"{moved} of {len(self.program.channels)} channels move, {plural(events, 'event')}"

    def _stays_alive(self) -> str:
        run = self._runs[self._busiest()]
        last = run.last_move()
        if last < run.frames // 2:
            raise Untested(
                f"nothing moves after frame {last} of {run.frames} in any script, so that nothing after it was looked at; "
                f"what keeps it going? {_OWN_SCRIPT}"
            )
        return ""

    def _moving(self) -> set[str]:
        moving = set()
        for run in self._runs.values():
            for channel, column in zip(self.program.channels, run.columns, strict=True):
                if len(set(map(repr, column))) > 1:
                    moving.add(channel.name)
        return moving

    def _action_counts(self, action: str) -> str:
        if difference(self.program.channels, self._runs["no action"], self._runs[f"{action} alone"]):
            return ""
        for name in ("all, sparsely", "your script"):
            if name in self._scripts:
                without = self._play({**self._scripts[name], action: [0.0] * self._runs[name].frames})
                if difference(self.program.channels, self._runs[name], without):
                    return ""
        raise Untested(f"no row changes with it, alone or beside the others: is it read? {_OWN_SCRIPT}")

    def _analog(self, action: str) -> str:
        names = self._scripts["no action"]
        runs = {}
        for value in (1.0, 0.6, 0.3, -1.0, 0.0):
            runs[value] = self._play({**names, action: [value] * FRAMES})
        if not difference(self.program.channels, runs[1.0], runs[0.0]):
            raise Untested("held from the first frame it changes no row")
        for one, other in ((1.0, 0.6), (0.3, 0.0), (1.0, -1.0)):
            if not difference(self.program.channels, runs[one], runs[other]):
                raise ProtocolError(f"{one:g} and {other:g} give the same rows: it is read as on or off")
        return ""

    def _again(self) -> str:
        check_moves(self._runs[self._busiest()])
        for name, inputs in self._scripts.items():
            self._same(self._runs[name], self._play(inputs), name)
        return ""

    def _forgets(self) -> str:
        check_moves(self._runs[self._busiest()])
        held = {name: [1.0] * FRAMES for name in self._names()}
        for name, inputs in self._scripts.items():
            for before, frames in ((held, 5), (self._scripts["all, densely"], 61), (held, FRAMES // 2 + 10)):
                self.exercise.reset(self._rate(), seed=11)
                # All are held in the frame before the reset: a press at once after it is a press.
                self.exercise.run(before, 1, frames, BATCH)
                self.exercise.run(held, frames, frames + 1, BATCH)
                self._same(self._runs[name], self._play(inputs), f"{name}, after {frames} frames of another run")
        return ""

    def _batches(self) -> str:
        name = self._busiest()
        check_moves(self._runs[name])
        for batch in (1, 2, 7, 64):
            self._same(self._runs[name], self._play(self._scripts[name], batch), f"{batch} at a time")
        return ""

    def _long(self) -> str:
        inputs = scripts_for(self.program.actions, LONG)["all, sparsely"]
        whole = self._play(inputs, batch=LONG)
        self._same(whole, self._play(inputs), f"{BATCH} at a time")
        return ""

    def _another_process(self) -> str:
        return self._same_in(self._fresh())

    def _as_text(self) -> str:
        return self._same_in(self._fresh("json"))

    def _same_in(self, other: Exercise) -> str:
        """Every script gives the same rows in another process."""
        for name, inputs in self._scripts.items():
            other.reset(self._rate())
            self._same(self._runs[name], other.run(inputs, 1, self._runs[name].frames + 1, BATCH), name)
        return ""

    def _fresh(self, columns: str = "binary") -> Exercise:
        """A process of its own that has done nothing yet; there is none where it runs already."""
        if self._alone:
            raise Untested("it runs already and is the only one")
        self.programs.append(self._start(columns))
        return Exercise(self.programs[-1])

    def _rates(self) -> str:
        accepted = self.program.handshake.rates
        rates = [as_rate(rate) for rate in accepted or ("30", "60", "60000/1001")]
        if len(rates) == 1:
            return f"{rates[0]}, and no other"
        name = self._busiest()
        check_moves(self._runs[name])
        runs = {rate: self._play(self._scripts[name], rate=rate) for rate in rates}
        first = rates[0]
        if all(not difference(self.program.channels, runs[first], runs[rate]) for rate in rates[1:]):
            raise ProtocolError(
                f"the rows are the same at {', '.join(map(str, rates))}: the rate changes nothing; announce the one that it "
                "runs at"
            )
        for rate in rates[1:]:
            self._as_far_in_a_second(first, runs[first], rate, runs[rate])
        return ", ".join(map(str, rates))

    def _as_far_in_a_second(self, first: Rate, run: Run, rate: Rate, other: Run) -> None:
        """A rate that is read as another, 60000/1001 as 60000, takes things a thousandth of their way."""
        for channel, mine, theirs in zip(self.program.channels, run.columns, other.columns, strict=True):
            if channel.kind != "number":
                continue
            ways = _way(mine) * float(first), _way(theirs) * float(rate)
            if 0 < min(ways) * FARTHEST_APART < max(ways):
                raise ProtocolError(
                    f"channel {channel.name!r} goes {ways[1]:.3g} in a second at {rate} frames/s, and {ways[0]:.3g} at {first}: "
                    "is the rate read whole? It is an exact fraction as text"
                )

    def _param(self, param: Param) -> str:
        name = self._busiest()
        plain = self._runs[name]
        given = self._play(self._scripts[name], params={param.name: param.default})
        self._same(plain, given, f"with its own default {param.default!r}")
        for value in _other_values(param):
            for script, inputs in self._scripts.items():
                other = self._play(inputs, params={param.name: value})
                if difference(self.program.channels, self._runs[script], other):
                    # And it is forgotten again.
                    self._same(plain, self._play(self._scripts[name]), f"after a run with {param.name} = {value!r}")
                    return f"{value!r} for {param.default!r}"
        raise Untested(
            f"no row changes with {', '.join(map(repr, _other_values(param)))} for {param.default!r}: is it read?"
        )

    def _digits(self) -> str:
        for n, channel in enumerate(self.program.channels):
            if channel.kind != "number":
                continue
            values = set()
            for run in self._runs.values():
                values |= {float(value) for value in run.columns[n] if not _is_round(value)}
            digits = [len(repr(value).replace("-", "").replace(".", "").lstrip("0").split("e")[0]) for value in values]
            places = [len(repr(value).partition(".")[2]) for value in values]
            # Many values, none with more digits than a short form has, and most with just as many: they were cut off.
            for counts, short in ((digits, range(4, 11)), (places, range(4, 9))):
                longest = max(counts, default=0)
                if len(values) >= 20 and longest in short and counts.count(longest) > len(counts) / 2:
                    raise ProtocolError(
                        f"channel {channel.name!r} never has more than {longest} digits, as in {min(values)!r}: write numbers "
                        "so that they read back to the same bits (%.17g)"
                    )
        return ""

    def _channels_move(self) -> str:
        moving = self._moving()
        still = [channel.name for channel in self.program.channels if channel.name not in moving]
        if still:
            raise Untested(f"these never do in any script: {', '.join(still)}")
        return ""

    def _events_come(self) -> str:
        said = " ".join(text for run in self._runs.values() for _, text in run.events)
        silent = [name for name in self.program.events if f"'{name}'" not in said]
        if silent:
            raise Untested(f"these never do in any script: {', '.join(silent)}")
        return ""

    def _seed(self) -> str:
        for name, inputs in self._scripts.items():
            if difference(self.program.channels, self._runs[name], self._play(inputs, seed=8)):
                return ""
        raise Untested("no row changes with it: nothing is random, or the seed is not read")

    def _none(self) -> str:
        _, emitted, failed = self.program.step_many(self.program.frame + 1, 0, {name: [] for name in self._names()})
        if failed is not None:
            raise failed
        if emitted:
            return "with events all the same"
        return ""

    def _still(self) -> str:
        if self._restarted:
            raise ProtocolError("it went away on the way here, and had to be started again")
        name = self._busiest()
        self._same(self._runs[name], self._play(self._scripts[name]))
        return ""

    def _end(self) -> str:
        status = self.program.stop()
        if status not in (0, None):
            raise ProtocolError(f"it ended with exit status {status}")
        return ""


def _way(column: Sequence[Any]) -> float:
    """How far a number goes in a frame, up and down, on average."""
    steps = (abs(float(after) - float(before)) for before, after in itertools.pairwise(column))
    return sum(step for step in steps if math.isfinite(step)) / max(len(column), 1)


def _other_values(param: Param) -> list[Any]:
    """Values that a param has not by default: its bounds, or twice and half of what it has."""
    default = param.default
    if isinstance(default, bool):
        return [not default]
    if isinstance(default, str):
        return []
    found = [bound for bound in (param.least, param.most) if bound is not None and bound != default]
    if not found:
        found = [default * 2 or 1, default / 2]
    if isinstance(default, int):
        return [int(value) for value in found if int(value) != default]
    return found


def _is_round(value: Any) -> bool:
    """Whether a number is one that any form writes in full: whole, or a few binary places; or none at all."""
    if not math.isfinite(value):
        return True
    return float(value) * 1024 == math.floor(float(value) * 1024)
