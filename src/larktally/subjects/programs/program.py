"""A program in another language as a subject: started, spoken to, stopped, and always reaped."""

from __future__ import annotations

import math
import secrets
import time
from array import array
from collections.abc import Iterable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any, Literal, cast

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.event import Event
from larktally.inputs.actions import Action
from larktally.inputs.view import FrameInput
from larktally.setup import Asked, Setup
from larktally.subjects.programs.handshake import (
    Handshake,
    Param,
    Shapes,
    columns_of,
    events_of,
    handshake_of,
    notes_of,
    row_of,
)
from larktally.subjects.programs.packed import packed_columns, packed_size
from larktally.subjects.programs.process import attach, start
from larktally.subjects.programs.rpc import PROTOCOL, Conversation, ProtocolError, RpcError, request_line
from larktally.subjects.programs.wire import WireError
from larktally.subjects.protocol import Batch, Frames, OutsideSubject, Value
from larktally.timing import Duration, exact_seconds
from larktally.traces.columns import Channel
from larktally.version import __version__

__all__ = ["Program"]

# Seconds within which a frame is looked for that hung in a batch, at least; and how many times slower than any before.
LEAST_HANG, SLOWER = 0.4, 50
# Frames in one message: as text, and as bytes.
BATCH, PACKED_BATCH = 256, 2048
# Of what a program notes in one run: enough for a breach in each row of it.
MOST_NOTES = 100_000
# Of states that were saved: enough for an audit, and no more than some megabytes.
MOST_REMEMBERED = 1000
_FAILURES = (WireError, ProtocolError, RpcError)


class Program(OutsideSubject):
    """A headless build of a game, in any language, that speaks the protocol of docs/programs.md.

    `command` is the program and its arguments, started in `folder` (this one by default) with `env` added to the
    environment. `over` is how it is spoken to: "stdio", "tcp:PORT" (it listens on that port of this machine; with no
    command it runs already) or "listen" (it connects to the port in its environment as LARKTALLY_PORT, or where
    `{port}` stands in its command). Over a port it has to say in its answer to hello the token that stands in its environment
    as LARKTALLY_TOKEN. Frames are stepped `batch` at a time, 256, or 2,048 with one that says its columns as bytes;
    `columns="json"` asks it not to. The time limits are for the start, for each message, and for its end.

    A program that crashes, hangs or misspeaks inside a batch is run again frame by frame from the start, so that the
    frame is known and the rows before it are kept. Raises LarkTallyError for a command that cannot be started.
    """

    # For __del__ too, which runs however far the constructor came.
    _talk: Conversation | None = None  # there from the first, for a constructor that raises before it is set

    def __init__(
        self,
        command: Sequence[str] | None,
        *,
        folder: str | Path | None = None,
        env: Mapping[str, str] | None = None,
        over: str = "stdio",
        batch: int | None = None,
        columns: Literal["json", "binary"] = "binary",
        start_within: Duration = "10s",
        step_within: Duration = "10s",
        end_within: Duration = "5s",
    ) -> None:
        if isinstance(command, str) or (command is not None and not command):
            raise LarkTallyError(f"a program is a list of words, ['./game', '--headless'], not {command!r}")
        kind, _, port = over.partition(":")
        if kind not in ("stdio", "tcp", "listen") or (kind == "tcp" and not port.isdigit()):
            raise LarkTallyError(f"a program is spoken to over 'stdio', 'tcp:PORT' or 'listen', not {over!r}")
        if command is None and kind != "tcp":
            raise LarkTallyError("a program that runs already is spoken to over='tcp:PORT'")
        if batch is not None and (not isinstance(batch, int) or not 1 <= batch <= 65_536):
            raise LarkTallyError(f"a batch is 1 to 65536 frames, not {batch!r}")
        if columns not in ("json", "binary"):
            raise LarkTallyError(f"columns are 'json' or 'binary', not {columns!r}")
        if command is None:
            self.command = None
        else:
            self.command = [str(word) for word in command]
        if folder is None:
            self.folder = None
        else:
            self.folder = Path(folder)
        self.over, self._batch, self._columns = over, batch, columns
        self._environment = dict(env or {})
        self._within = (start_within, step_within, end_within)
        self._limits = [float(exact_seconds(d, None, what="limit:")) for d in (start_within, step_within, end_within)]
        self._talk: Conversation | None = None
        self._abilities: Handshake | None = None
        self._setup = Setup()
        self._row: tuple[Value, ...] = ()
        self._frame = 0
        self._done: list[tuple[int, int, dict[str, array[float]]]] = []
        # The most seconds a frame that any message took.
        self._slowest = 0.0
        # What was asked for before the answer to the step before was looked at: its frames, and the inputs of them.
        self._ahead: tuple[int, int, Mapping[str, Sequence[float]]] | None = None
        # The state that was put back last, None since a reset: what was done is what came after.
        self._base: bytes | None = None
        # Whether it was led beyond its frame by a message whose last frames did not happen.
        self._beyond = False
        #: What it noted in this run: row, channel, and why it is what it is there.
        self.notes: list[tuple[int, str, str]] = []
        # In which frame each state was saved, so that what `load` answers can be told from what it should.
        self._saved_at: dict[bytes, int] = {}

    def __reduce__(self) -> tuple[Any, ...]:
        # Another process starts one of its own.
        options = {"folder": self.folder, "env": self._environment, "over": self.over, "batch": self._batch}
        start_within, step_within, end_within = self._within
        limits = {"start_within": start_within, "step_within": step_within, "end_within": end_within}
        made: Any = partial(Program, self.command, columns=self._columns, **cast("Any", {**options, **limits}))
        return made, ()

    @property
    def started_as(self) -> tuple[object, ...]:
        """What it is started from: two that are alike in it are the same program."""
        folder = Path(self.folder or ".").resolve()
        return self.command, folder, self._environment, self.over

    @property
    def batch(self) -> int:
        """How many frames go in one message."""
        if self._batch is not None:
            return self._batch
        # Text of a number is eight times its bytes; known only once it has said hello.
        if self._abilities is not None and self._abilities.packed:
            return PACKED_BATCH
        return BATCH

    @property
    def name(self) -> str:
        """What headers and messages call it: the program's file name."""
        if self.command:
            return Path(self.command[0]).name
        return self.over

    @property
    def handshake(self) -> Handshake:
        """What it says of itself; starts it where it does not run."""
        if self._abilities is None:
            self._begin()
        assert self._abilities is not None
        return self._abilities

    @property
    def channels(self) -> tuple[Channel, ...]:
        """The channels that it announces."""
        return self.handshake.channels

    @property
    def actions(self) -> tuple[Action, ...]:
        """The actions that it takes."""
        return self.handshake.actions

    @property
    def events(self) -> tuple[str, ...]:
        """The events that it may say."""
        return self.handshake.events

    @property
    def params(self) -> tuple[Param, ...]:
        """The params that it announces."""
        return self.handshake.params

    @property
    def frame(self) -> int:
        """The frame at which it stands."""
        return self._frame

    @property
    def saves(self) -> bool:
        """Whether it saves and loads its state."""
        return self.handshake.saves

    @property
    def labels(self) -> dict[str, tuple[str, ...]]:
        """All that each label channel can be."""
        found: dict[str, tuple[str, ...]] = {}
        for c in self.handshake.channels:
            if c.kind == "label":
                found[c.name] = c.labels
        return found

    @property
    def plain(self) -> dict[str, object]:
        """What a trace's header keeps of it; of an absolute path the file name alone."""
        words = []
        for word in self.command or [self.over]:
            words.append(Path(word).name if Path(word).is_absolute() else word)
        return {"name": self.handshake.name, "version": self.handshake.version, "command": words}

    def reset(self, setup: Setup) -> Iterable[Event]:
        """Back to the beginning: row 0."""
        self._setup = setup
        try:
            emitted = self._reset()
        except _FAILURES as error:
            self.stop(at_once=_hangs(error))
            raise SubjectFailed(f"row 0: program {self.name!r}: {error}", 0) from None
        # A program reads its params where we do not see it: those that it announced count as read.
        for param in self.handshake.params:
            setup.settings[param.name] = setup.params.get(param.name, param.default)
            setup.asked[param.name] = Asked("param", param.default, param.least, param.most)
        return emitted

    def step(self, now: FrameInput) -> Iterable[Event]:
        """One frame on."""
        inputs = {}
        for action in self.actions:
            inputs[action.name] = [now.value(action.name)]
        try:
            columns, emitted = self._step(now.frame, 1, inputs)
        except _FAILURES as error:
            self.stop(at_once=_hangs(error))
            raise SubjectFailed(self._failed(now.frame, error), now.frame) from None
        self._row = tuple(column[0] for column in columns)
        return [event for _, event in emitted]

    def row(self) -> tuple[Value, ...]:
        """Every channel's value, in the order of the channels."""
        return self._row

    def observe(self) -> dict[str, Value]:
        """Every channel's value."""
        found: dict[str, Value] = {}
        for channel, value in zip(self.handshake.channels, self._row, strict=True):
            found[channel.name] = value
        return found

    def step_many(
        self,
        first: int,
        frames: int,
        inputs: Mapping[str, Sequence[float]],
        following: Frames | None = None,
    ) -> Batch:
        """So many frames in one message; `following` are the frames and inputs of the next call, where it is certain to be that:
        the program is at work on it while this one's answer is read."""
        try:
            columns, emitted = self._step(first, frames, inputs, following=following)
            if frames:
                self._row = tuple(column[-1] for column in columns)
            return Batch(columns, emitted, None)
        except _FAILURES as error:
            self.stop(at_once=_hangs(error))
            if frames <= 1:
                none: list[list[Value]] = []
                for _ in self.handshake.channels:
                    none.append([])
                return Batch(none, [], SubjectFailed(self._failed(first, error), first))
            return self._frame_by_frame(first, frames, inputs, error)

    def cut(self, frame: int, row: tuple[Value, ...]) -> None:
        """The frames of the last message after `frame` did not happen: the run ended there, with this row."""
        first, _, pressed = self._done.pop()
        kept = {name: values[: frame - first + 1] for name, values in pressed.items()}
        self._done.append((first, frame - first + 1, kept))
        self._frame, self._row, self._beyond = frame, row, True

    def save(self) -> bytes:
        """Its state, as it gives it."""
        try:
            self._come_back()
        except _FAILURES as error:
            raise SubjectFailed(f"program {self.name!r}: {error}", self._frame) from None
        state = self._ask("save", {}).get("state")
        if not isinstance(state, str):
            raise SubjectFailed(f"program {self.name!r}: save: 'state' is a string", self._frame)
        saved = state.encode()
        if len(self._saved_at) >= MOST_REMEMBERED:
            self._saved_at.clear()
        self._saved_at[saved] = self._frame
        return saved

    def load(self, saved: bytes) -> None:
        """Puts a state back."""
        answer = self._ask("load", {"state": saved.decode()}, of_row=True)
        frame = answer.get("frame")
        try:
            if not isinstance(frame, int) or isinstance(frame, bool):
                raise ProtocolError(f"load: 'frame' is the frame that the state is of, not {frame!r}")
            wanted = self._saved_at.get(saved, frame)
            if frame != wanted:
                raise ProtocolError(
                    f"load: it says that it stands at frame {frame}, and the state is of frame {wanted}"
                )
            self._row = row_of(answer, self.handshake, "load")
        except ProtocolError as error:
            raise SubjectFailed(f"program {self.name!r}: {error}", self._frame) from None
        self._frame, self._base, self._done, self._beyond = frame, saved, [], False

    @property
    def alive(self) -> bool:
        """Whether it runs now, as far as is known."""
        if self._talk is not None:
            process = self._talk.running.process
        else:
            process = None
        return self._talk is not None and (process is None or process.poll() is None)

    def stop(self, at_once: bool = False) -> int | None:
        """Ends it, by asking it to unless `at_once`; its exit status, where it is known. It is started again where it is used
        again."""
        if not at_once:
            self._let_go_ahead()
        talk, self._talk, self._ahead = self._talk, None, None
        if talk is None:
            return None
        if at_once:
            return talk.running.stop(0.0)
        polite = 0.0
        try:
            talk.ask("end", {}, self._limits[2])
            polite = self._limits[2]
        except _FAILURES:
            pass
        return talk.running.stop(polite)

    def __del__(self) -> None:
        if self._talk is not None:
            self._talk.running.stop(0.0)

    def _begin(self) -> Conversation:
        """Starts it, and asks what it can do."""
        if self._talk is None:
            within = self._limits[0]
            ways = ["json"]
            if self._columns == "binary":
                ways.append("binary")
            hello = {"protocol": PROTOCOL, "client": f"larktally {__version__}", "columns": ways}
            token = ""
            if self.command is None:
                running = attach(self.over, within)
            else:
                if self.over != "stdio":
                    token = secrets.token_hex(16)
                line = request_line(1, "hello", hello)
                running = start(self.command, self.folder, self._environment, self.over, within, line, token)
            self._talk = Conversation(running)
            try:
                answer = self._talk.ask("hello", hello, within)
                if token and answer.get("token") != token:
                    raise ProtocolError(_another(self.over))
                self._abilities = handshake_of(answer)
                self._shapes = Shapes(self._abilities.channels)
            except LarkTallyError as error:
                self._talk.running.stop(0.0)
                self._talk = None
                # Anything else is a mistake of the caller's own, such as a command that is not there.
                if isinstance(error, _FAILURES):
                    raise SubjectFailed(f"row 0: program {self.name!r} did not start: {error}", 0) from None
                raise
        return self._talk

    def _reset(self) -> list[Event]:
        talk = self._begin()
        self._let_go_ahead()
        setup, self._frame, self._done, self.notes = self._setup, 0, [], []
        self._base, self._beyond = None, False
        self.handshake.check_rate(setup.rate)
        self.handshake.check_params(setup.params)
        params = {"rate": str(setup.rate), "seed": setup.seed, "params": dict(setup.params)}
        answer = talk.ask("reset", params, self._limits[1], self._shapes.row)
        self._row = row_of(answer, self.handshake)
        self._keep_notes(answer, 0, 0)
        found: list[Event] = []
        for _, event in events_of(answer, self.handshake.events, 0, 0):
            found.append(event)
        return found

    def _step(
        self,
        first: int,
        frames: int,
        inputs: Mapping[str, Sequence[float]],
        within: float = math.inf,
        following: Frames | None = None,
    ) -> tuple[list[Sequence[Value]], list[tuple[int, Event]]]:
        within = min(within, self._limits[1])
        began = time.monotonic()
        talk = self._begin()
        if self._ahead != (first, frames, inputs):
            self._come_back()
            talk.begin("step", _step_params(first, frames, inputs), within)
        self._ahead = None
        last = first + frames - 1
        answer = talk.answer("step", within, self._shapes.step)
        content = self._packed_content(talk, answer, frames, within)
        if frames:
            self._slowest = max(self._slowest, (time.monotonic() - began) / frames)
        if following is not None:
            self._ask_ahead(talk, last + 1, following, within)
        columns: Sequence[Sequence[Value]]
        if content is None:
            columns = columns_of(answer, self.handshake, frames)
        else:
            columns = packed_columns(content, self.handshake.channels, first, frames)
        emitted = events_of(answer, self.handshake.events, first, last)
        self._keep_notes(answer, first, last)
        if frames:
            self._frame = last
            pressed = {}
            for name, values in inputs.items():
                if any(values):
                    # Kept for the run frame by frame; what is not held costs nothing.
                    pressed[name] = array("d", values)
            self._done.append((first, frames, pressed))
        return list(columns), emitted

    def _packed_content(
        self, talk: Conversation, answer: Mapping[str, object], frames: int, within: float
    ) -> bytes | None:
        """The bytes that follow an answer which says how many there are; None where its columns stand in it."""
        if "bytes" not in answer:
            return None
        if not self.handshake.packed:
            raise ProtocolError('step: it says \'bytes\', and its answer to hello did not say "columns":"binary"')
        wanted = packed_size(self.handshake.channels, frames)
        # Before any is waited for: a wrong number would have the next answer read in the middle.
        if answer["bytes"] != wanted:
            raise ProtocolError(
                f"step: 'bytes' is {wanted} for {frames} frames of these channels, not {answer['bytes']!r}"
            )
        return talk.following(wanted, within)

    def _ask_ahead(self, talk: Conversation, first: int, following: Frames, within: float) -> None:
        frames, inputs = following
        try:
            talk.begin("step", _step_params(first, frames, inputs), within)
        except WireError:
            # It ended after this answer, which is good all the same: the next step finds it out.
            return
        self._ahead = (first, frames, inputs)

    def _let_go_ahead(self) -> None:
        """Takes the answer to what was asked ahead, where it is not wanted any more; the program stands beyond this frame."""
        if self._ahead is None or self._talk is None:
            return
        (_, frames, _), self._ahead = self._ahead, None
        try:
            answer = self._talk.answer("step", self._limits[1])
            self._packed_content(self._talk, answer, frames, self._limits[1])
        except RpcError:
            # It refused a frame that nobody asks for now.
            pass

    def _come_back(self) -> None:
        """Leads it to this frame again, where it was led beyond it."""
        if self._ahead is None and not self._beyond:
            return
        self._let_go_ahead()
        self._make_again(self._done)

    def _make_again(self, done: Sequence[tuple[int, int, Mapping[str, array[float]]]]) -> None:
        """Goes back to where the run began, or was put back last, and makes its messages again."""
        base = self._base
        # Before a state too: the rate and the params of the run need not be in it, and the process may be a new one.
        self._reset()
        if base is not None:
            self._begin().ask("load", {"state": base.decode()}, self._limits[1])
            self._base = base
        for first, frames, pressed in done:
            self._step(first, frames, self._whole(frames, pressed))

    def _whole(self, frames: int, pressed: Mapping[str, Sequence[float]]) -> dict[str, list[float]]:
        """The inputs of a step that was made, of every action."""
        given = {}
        for action in self.actions:
            given[action.name] = list(pressed.get(action.name, [0.0] * frames))
        return given

    def _keep_notes(self, answer: Mapping[str, object], first: int, last: int) -> None:
        if "notes" in answer:
            self.notes += notes_of(answer, self.handshake, first, last)
            # The last ones: a breach is looked at where the run was led to.
            del self.notes[:-MOST_NOTES]

    def _frame_by_frame(
        self, first: int, frames: int, inputs: Mapping[str, Sequence[float]], error: LarkTallyError
    ) -> Batch:
        """Runs it again from the start, the last batch a frame at a time, to know in which frame it fails."""
        done = self._done
        columns: list[list[Value]] = []
        for _ in self.handshake.channels:
            columns.append([])
        emitted: list[tuple[int, Event]] = []
        last = first + frames - 1
        # One that hung has had its whole limit already: a frame that takes many times as long as any before is the one.
        within = math.inf
        if _hangs(error):
            within = max(LEAST_HANG, SLOWER * self._slowest)
        try:
            self._make_again(done)
            for frame in range(first, last + 1):
                one = {}
                for name, values in inputs.items():
                    one[name] = [values[frame - first]]
                found, events = self._step(frame, 1, one, within)
                for column, value in zip(columns, found, strict=True):
                    column.append(value[0])
                emitted += events
        except (*_FAILURES, SubjectFailed) as again:
            self.stop(at_once=_hangs(again))
            frame = self._frame + 1
            kept = max(frame - first, 0)
            # It was given its limit the first time, and that is what is told.
            told = error if _hangs(again) and _hangs(error) else again
            failed = SubjectFailed(self._failed(max(frame, first), told), max(frame, first))
            # A failure in the middle: the frames before it are as good as any.
            return Batch([column[:kept] for column in columns], emitted, failed)
        self.stop()
        # It ran well this time: the frame cannot be told, and a program that fails by chance is worth telling.
        message = f"row {first}: program {self.name!r} failed in frames {first}..{last}: {error}"
        empty: list[Sequence[Value]] = [[] for _ in columns]
        return Batch(empty, [], SubjectFailed(f"{message}; run again frame by frame it did not", first))

    def exchange(self, line: bytes) -> bytes:
        """Sends a line as it is, and returns the next one: for looking at how it takes what is no request."""
        self._come_back()
        return self._begin().exchange(line, self._limits[1])

    def _ask(self, method: str, params: Mapping[str, object], of_row: bool = False) -> Mapping[str, object]:
        try:
            # Only what it says now counts, and for a load nothing of what was before.
            self._let_go_ahead()
            talk = self._begin()
            return talk.ask(method, params, self._limits[1], self._shapes.row if of_row else None)
        except _FAILURES as error:
            raise SubjectFailed(f"program {self.name!r}: {error}", self._frame) from None

    def _failed(self, frame: int, error: Exception) -> str:
        at = frame
        if isinstance(error, RpcError) and error.frame is not None:
            at = error.frame
        return f"row {at}: program {self.name!r}: {error}"


def _step_params(first: int, frames: int, inputs: Mapping[str, Sequence[float]]) -> dict[str, object]:
    return {"first": first, "frames": frames, "inputs": inputs}


def _another(over: str) -> str:
    return (
        f"what answers at {over} does not say the token that the program was started with ('token' in its answer to hello, from "
        "LARKTALLY_TOKEN in its environment): it is another one, perhaps left from before; end it, or choose another port"
    )


def _hangs(error: Exception) -> bool:
    """Whether a program did not answer in time: then it will not answer a request to end either."""
    return isinstance(error, WireError) and not error.ended
