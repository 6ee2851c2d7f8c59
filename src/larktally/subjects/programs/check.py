"""Checking a program: whether it is a good subject, line by line, with what a careless caller would send."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import msgspec

from larktally.errors import SubjectFailed
from larktally.report import Block, Line, Report, Tone
from larktally.setup import Setup
from larktally.subjects.programs.program import Program
from larktally.subjects.programs.rpc import ProtocolError, RpcError, shown
from larktally.subjects.programs.wire import WireError
from larktally.timing import Duration, as_rate

__all__ = ["CheckedLine", "ProgramCheck", "check_program"]

# Long enough for a hop and a fall, short enough to be played ten times over.
FRAMES = 240
_REFUSALS = {-32700: "not JSON", -32600: "no request", -32601: "no such method", -32602: "params that do not fit"}


@dataclass(frozen=True, slots=True)
class CheckedLine:
    """One line of a check: what was looked at, whether it holds, what was found, and where the page says so."""

    what: str
    holds: bool
    found: str
    section: str


@dataclass(frozen=True, slots=True)
class ProgramCheck:
    """What a check of a program found; `passed` where everything holds. `name` is what the program calls itself."""

    name: str
    lines: tuple[CheckedLine, ...]

    @property
    def passed(self) -> bool:
        """Whether every line holds."""
        return all(line.holds for line in self.lines)

    def report(self) -> Report:
        """A line for each thing that was looked at; what fails with what was found and where the page says so."""
        blocks: list[Block] = []
        for line in self.lines:
            if line.holds and line.found:
                found = f": {line.found}"
            else:
                found = ""
            tone: Tone = "bad"
            if line.holds:
                tone = "good"
            blocks.append(Line(f"{'holds' if line.holds else 'FAILS'}  {line.what}{found}", tone=tone))
            if not line.holds:
                for text in line.found.splitlines():
                    blocks.append(Line(f"       {text}"))
                blocks.append(Line(f"       docs/programs.md, {line.section!r}", tone="quiet"))
        held = sum(line.holds for line in self.lines)
        sum_tone: Tone = "bad"
        if self.passed:
            sum_tone = "good"
        blocks += [Line(""), Line(f"{self.name}: {held} of {len(self.lines)} lines hold", tone=sum_tone)]
        return Report.of(blocks)

    def plain(self) -> dict[str, Any]:
        """The check as plain data, for JSON."""
        lines = [{"what": f.what, "holds": f.holds, "found": f.found, "section": f.section} for f in self.lines]
        return {"name": self.name, "passed": self.passed, "lines": lines}

    def __str__(self) -> str:
        return self.report().text()


def check_program(
    command: Sequence[str] | None,
    *,
    folder: str | Path | None = None,
    over: str = "stdio",
    rate: str | int | None = None,
    within: Duration = "5s",
) -> ProgramCheck:
    """Speaks every method to a program, sends what a careless caller would, and runs the same inputs twice and after a
    load. Raises LarkTallyError where it cannot be started at all."""
    program = Program(command, folder=folder, over=over, start_within=within, step_within=within, end_within=within)
    check = _Check(program, rate)
    try:
        check.run()
    finally:
        program.stop()
    return ProgramCheck(check.name, tuple(check.lines))


class _Check:
    """One check going on."""

    def __init__(self, program: Program, rate: str | int | None) -> None:
        self.program, self._rate = program, rate
        self.name = program.name
        self.lines: list[CheckedLine] = []
        self._inputs: dict[str, list[float]] = {}
        self._first: Any = None
        self._restarted = False

    def run(self) -> None:
        """Every line, as far as the ones before allow it."""
        if not self._look("it starts and says what it can do", "hello", self._hello):
            return
        if not self._look("reset gives row 0, with every channel", "reset", self._reset):
            return
        if not self._look(f"{FRAMES} frames in one message", "step", self._many):
            return
        self._look("the same inputs give the same rows again", "Determinism", self._again)
        self._look("frame by frame they give the same rows", "step", self._one_by_one)
        self._look("no frames at all give empty columns", "step", self._none)
        if self.program.handshake.saves:
            self._look("after a load the same inputs give the same rows", "save and load", self._after_load)
        for what, line, code in self._careless():
            self._look(f"{what} is refused with {code}, and it goes on", "Errors", partial(self._refuses, line, code))
        self._look("after all that it still resets and gives the same rows", "Errors", self._still)
        self._look("it ends when it is asked to, with exit status 0", "end", self._end)

    def _look(self, what: str, section: str, look: Callable[[], str]) -> bool:
        try:
            found, holds = look(), True
        except (ProtocolError, RpcError, WireError, SubjectFailed) as error:
            found, holds = str(error), False
            # A program that a careless line has ended is not one that goes on.
            self._restarted = not self.program.alive or self._restarted
            if not self.program.alive:
                self.program.stop()
        self.lines.append(CheckedLine(what, holds, found, section))
        return holds

    def _hello(self) -> str:
        able = self.program.handshake
        self.name = f"{able.name} {able.version}".strip()
        # The same presses for everyone: two people who check one program see the same lines.
        draw = random.Random(1)
        self._inputs = {action.name: _some_inputs(draw, action.analog) for action in able.actions}
        if able.saves:
            saves = "saves"
        else:
            saves = "does not save"
        return f"{self.name}, {len(able.channels)} channels, {len(able.actions)} actions, {len(able.events)} events, {saves}"

    def _setup(self) -> Setup:
        rates = self.program.handshake.rates
        return Setup(as_rate(self._rate or (rates[0] if rates else 60)), seed=7)

    def _reset(self) -> str:
        self.program.reset(self._setup())
        return ", ".join(f"{name} = {value!r}" for name, value in list(self.program.observe().items())[:4])

    def _run(self, first: int = 1) -> Any:
        part = {}
        for name, values in self._inputs.items():
            part[name] = values[first - 1 :]
        columns, emitted, failed = self.program.step_many(first, FRAMES - first + 1, part)
        if failed is not None:
            raise failed
        self._check_kinds(columns)
        return [list(map(repr, column)) for column in columns], [(frame, repr(event)) for frame, event in emitted]

    def _many(self) -> str:
        self._first = self._run()
        moved = sum(len(set(column)) > 1 for column in self._first[0])
        return f"{moved} of {len(self._first[0])} channels move, {len(self._first[1])} events"

    def _again(self) -> str:
        self.program.reset(self._setup())
        self._compare(self._run(), 1)
        return ""

    def _still(self) -> str:
        if self._restarted:
            raise ProtocolError("it went away on the way here, and had to be started again")
        return self._again()

    def _one_by_one(self) -> str:
        self.program.reset(self._setup())
        columns: list[list[str]] = []
        for _ in self.program.handshake.channels:
            columns.append([])
        emitted = []
        for frame in range(1, 41):
            found, events, failed = self.program.step_many(
                frame, 1, {n: [v[frame - 1]] for n, v in self._inputs.items()}
            )
            if failed is not None:
                raise failed
            for kept, column in zip(columns, found, strict=True):
                kept.append(repr(column[0]))
            for at, event in events:
                emitted.append((at, repr(event)))
        whole = [column[:40] for column in self._first[0]], [one for one in self._first[1] if one[0] <= 40]
        self._same(whole, (columns, emitted), 1)
        return ""

    def _none(self) -> str:
        _, emitted, failed = self.program.step_many(41, 0, {name: [] for name in self._inputs})
        if failed is not None:
            raise failed
        if not emitted:
            return ""
        return "with events all the same"

    def _after_load(self) -> str:
        self.program.reset(self._setup())
        self.program.step_many(1, 60, {name: values[:60] for name, values in self._inputs.items()})
        state = self.program.save()
        self._run(61)
        self.program.load(state)
        self._compare(self._run(61), 61)
        return f"a state of {len(state)} bytes"

    def _compare(self, again: Any, first: int) -> None:
        whole = [column[first - 1 :] for column in self._first[0]], [one for one in self._first[1] if one[0] >= first]
        self._same(whole, again, first)

    def _same(self, whole: Any, again: Any, first: int) -> None:
        for channel, one, other in zip(self.program.handshake.channels, whole[0], again[0], strict=True):
            for offset, (value, value_again) in enumerate(zip(one, other, strict=True)):
                if value != value_again:
                    frame = first + offset
                    raise ProtocolError(
                        f"channel {channel.name!r} was {value} in frame {frame}, and now is {value_again}"
                    )
        if whole[1] != again[1]:
            at = next((i for i, (a, b) in enumerate(zip(whole[1], again[1], strict=False)) if a != b), None)
            if at is None:
                was = "another number of events"
            else:
                was = f"{whole[1][at]} was said, and now {again[1][at]}"
            raise ProtocolError(f"the events are not the same: {was}")

    def _check_kinds(self, columns: Sequence[Sequence[Any]]) -> None:
        types: dict[str, tuple[type, ...]] = {"number": (float, int), "count": (int,), "flag": (bool,), "label": (str,)}
        for channel, column in zip(self.program.handshake.channels, columns, strict=True):
            for offset, value in enumerate(column):
                wrong = not isinstance(value, types[channel.kind]) or (
                    isinstance(value, bool) and channel.kind != "flag"
                )
                if wrong or (channel.kind == "label" and value not in channel.labels):
                    if channel.kind != "label":
                        what = f"a {channel.kind}"
                    else:
                        what = f"one of {list(channel.labels)}"
                    raise ProtocolError(f"channel {channel.name!r} is {value!r} in frame {offset + 1}, not {what}")

    def _careless(self) -> list[tuple[str, bytes, int]]:
        def request(method: str, params: Any) -> bytes:
            return msgspec.json.encode({"jsonrpc": "2.0", "id": 900_000, "method": method, "params": params})

        none: dict[str, list[float]] = {}
        for name in self._inputs:
            none[name] = []
        unknown = {"first": 1, "frames": 1, "inputs": {"no such action": [1]}}
        return [
            ("a line that is not JSON", b'{"jsonrpc": "2.0", "id": 900000, "method": ', -32700),
            ("a method that does not exist", request("stepp", {}), -32601),
            ("a step without frames", request("step", {"first": 1}), -32602),
            ("a step of -1 frames", request("step", {"first": 1, "frames": -1, "inputs": none}), -32602),
            (
                "an action that it does not take",
                request("step", unknown),
                -32602,
            ),
        ]

    def _refuses(self, line: bytes, code: int) -> str:
        answer = self.program.exchange(line)
        try:
            refusal = msgspec.json.decode(answer)
            found = refusal["error"]["code"]
        except (msgspec.MsgspecError, KeyError, TypeError, RecursionError):
            raise ProtocolError(
                f"it answered {shown(answer)}, where an error {code} ({_REFUSALS[code]}) belongs"
            ) from None
        if found != code:
            raise ProtocolError(f"it refused with {found}, where {code} ({_REFUSALS[code]}) belongs")
        return ""

    def _end(self) -> str:
        status = self.program.stop()
        if status not in (0, None):
            raise ProtocolError(f"it ended with exit status {status}")
        return ""


def _some_inputs(draw: random.Random, analog: bool) -> list[float]:
    """Presses at random: on in three frames of ten."""
    values = [1.0]
    if analog:
        values += [0.5, -0.7]
    found: list[float] = []
    for _ in range(FRAMES):
        found.append(draw.choice(values) if draw.random() < 0.3 else 0.0)
    return found
