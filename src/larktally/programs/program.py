"""A program in another language as a subject: started, spoken to, stopped, and always reaped."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from larktally.errors import LarkError, SubjectFailed
from larktally.inputs import Action, FrameInput
from larktally.programs.abilities import Abilities, abilities_of, columns_of, events_of, row_of
from larktally.programs.process import attach, start
from larktally.programs.speaking import PROTOCOL, Conversation, Misspoke, Refused
from larktally.programs.wire import WireError
from larktally.subject import Event, Setup
from larktally.timing import Duration, exact_seconds
from larktally.traces import Channel
from larktally.version import __version__

__all__ = ["Program"]

_FAILURES = (WireError, Misspoke, Refused)


class Program:
    """A headless build of a game, in any language, that speaks the protocol of docs/programs.md.

    `command` is the program and its arguments, started in `folder` (this one by default) with `env` added to the
    environment. `over` is how it is spoken to: "stdio", "tcp:PORT" (it listens on that port of this machine; with no
    command it runs already) or "listen" (it connects to the port in its environment as LARKTALLY_PORT, or where
    `{port}` stands in its command). Frames are stepped `batch` at a time. The time limits are for the start, for each
    message, and for its end.

    A program that crashes, hangs or misspeaks inside a batch is run again frame by frame from the start, so that the
    frame is known and the rows before it are kept. Raises LarkError for a command that cannot be started.
    """

    def __init__(
        self,
        command: Sequence[str] | None,
        *,
        folder: str | Path | None = None,
        env: Mapping[str, str] | None = None,
        over: str = "stdio",
        batch: int = 256,
        start_within: Duration = "10s",
        step_within: Duration = "10s",
        end_within: Duration = "5s",
    ) -> None:
        if isinstance(command, str) or (command is not None and not command):
            raise LarkError(f"a program is a list of words, ['./game', '--headless'], not {command!r}")
        kind, _, port = over.partition(":")
        if kind not in ("stdio", "tcp", "listen") or (kind == "tcp" and not port.isdigit()):
            raise LarkError(f"a program is spoken to over 'stdio', 'tcp:PORT' or 'listen', not {over!r}")
        if command is None and kind != "tcp":
            raise LarkError("a program that runs already is spoken to over='tcp:PORT'")
        if not isinstance(batch, int) or not 1 <= batch <= 65_536:
            raise LarkError(f"a batch is 1 to 65536 frames, not {batch!r}")
        self.command = None if command is None else [str(word) for word in command]
        self.folder = None if folder is None else Path(folder)
        self.over, self.batch = over, batch
        self._environment = dict(env or {})
        self._limits = [float(exact_seconds(d, None, what="limit:")) for d in (start_within, step_within, end_within)]
        self._talk: Conversation | None = None
        self._abilities: Abilities | None = None
        self._setup = Setup()
        self._row: tuple[Any, ...] = ()
        self._frame = 0
        self._done: list[tuple[int, int, dict[str, array[float]]]] = []

    @property
    def __name__(self) -> str:
        """What headers and messages call it: the program's file name."""
        return Path(self.command[0]).name if self.command else self.over

    @property
    def abilities(self) -> Abilities:
        """What it says of itself; starts it where it does not run."""
        if self._abilities is None:
            self._begin()
        assert self._abilities is not None
        return self._abilities

    @property
    def channels(self) -> tuple[Channel, ...]:
        """The channels that it announces."""
        return self.abilities.channels

    @property
    def actions(self) -> tuple[Action, ...]:
        """The actions that it takes."""
        return self.abilities.actions

    @property
    def events(self) -> tuple[str, ...]:
        """The events that it may say."""
        return self.abilities.events

    @property
    def saves(self) -> bool:
        """Whether it saves and loads its state."""
        return self.abilities.saves

    @property
    def labels(self) -> dict[str, tuple[str, ...]]:
        """All that each label channel can be."""
        return {c.name: c.labels for c in self.abilities.channels if c.kind == "label"}

    @property
    def plain(self) -> dict[str, Any]:
        """What a trace's header keeps of it; of an absolute path the file name alone."""
        words = [Path(word).name if Path(word).is_absolute() else word for word in self.command or [self.over]]
        return {"name": self.abilities.name, "version": self.abilities.version, "command": words}

    def reset(self, setup: Setup) -> Iterable[Event]:
        """Back to the beginning: row 0."""
        self._setup = setup
        try:
            said = self._reset()
        except _FAILURES as error:
            self.stop()
            raise SubjectFailed(f"row 0: program {self.__name__!r}: {error}", 0) from None
        setup.settings.update(setup.params)
        return said

    def step(self, now: FrameInput) -> Iterable[Event]:
        """One frame on."""
        inputs = {action.name: [now.value(action.name)] for action in self.actions}
        try:
            columns, said = self._step(now.frame, 1, inputs)
        except _FAILURES as error:
            self.stop()
            raise SubjectFailed(self._failed(now.frame, error), now.frame) from None
        self._row = tuple(column[0] for column in columns)
        return [event for _, event in said]

    def row(self) -> tuple[Any, ...]:
        """Every channel's value, in the order of the channels."""
        return self._row

    def observe(self) -> dict[str, Any]:
        """Every channel's value."""
        return {channel.name: value for channel, value in zip(self.abilities.channels, self._row, strict=True)}

    def step_many(
        self, first: int, frames: int, inputs: dict[str, list[float]]
    ) -> tuple[list[Sequence[Any]], list[tuple[int, Event]], SubjectFailed | None]:
        """So many frames in one message: the columns, the events with their frames, and what went wrong, where
        something did; the columns then end before that frame."""
        try:
            columns, said = self._step(first, frames, inputs)
            if frames:
                self._row = tuple(column[-1] for column in columns)
            return columns, said, None
        except _FAILURES as error:
            self.stop()
            if frames <= 1:
                return [[] for _ in self.abilities.channels], [], SubjectFailed(self._failed(first, error), first)
            return self._frame_by_frame(first, frames, inputs, error)

    def save(self) -> bytes:
        """Its state, as it gives it."""
        state = self._ask("save", {}).get("state")
        if not isinstance(state, str):
            raise SubjectFailed(f"program {self.__name__!r}: save: 'state' is a string", self._frame)
        return state.encode()

    def load(self, saved: bytes) -> None:
        """Puts a state back."""
        answer = self._ask("load", {"state": saved.decode()})
        self._row, self._frame = row_of(answer, self.abilities), int(answer.get("frame", self._frame))

    @property
    def alive(self) -> bool:
        """Whether it runs now, as far as is known."""
        process = self._talk.running.process if self._talk is not None else None
        return self._talk is not None and (process is None or process.poll() is None)

    def stop(self) -> int | None:
        """Ends it; its exit status, where it is known. It is started again where it is used again."""
        talk, self._talk = self._talk, None
        if talk is None:
            return None
        polite = 0.0
        try:
            talk.ask("end", {}, self._limits[2])
            polite = self._limits[2]
        except _FAILURES:
            pass
        return talk.running.stop(polite)

    def __del__(self) -> None:
        talk = getattr(self, "_talk", None)
        if talk is not None:
            talk.running.stop(0.0)

    def _begin(self) -> Conversation:
        """Starts it, and asks what it can do."""
        if self._talk is None:
            within = self._limits[0]
            if self.command is None:
                running = attach(self.over, within)
            else:
                running = start(self.command, self.folder, self._environment, self.over, within)
            self._talk = Conversation(running)
            try:
                answer = self._talk.ask("hello", {"protocol": PROTOCOL, "client": f"larktally {__version__}"}, within)
                self._abilities = abilities_of(answer)
            except LarkError as error:
                self._talk.running.stop(0.0)
                self._talk = None
                if isinstance(error, _FAILURES):
                    raise SubjectFailed(f"row 0: program {self.__name__!r} did not start: {error}", 0) from None
                raise
        return self._talk

    def _reset(self) -> list[Event]:
        talk = self._begin()
        setup, self._frame, self._done = self._setup, 0, []
        self.abilities.check_rate(setup.rate)
        params = {"rate": str(setup.rate), "seed": setup.seed, "params": dict(setup.params)}
        answer = talk.ask("reset", params, self._limits[1])
        self._row = row_of(answer, self.abilities)
        return [event for _, event in events_of(answer, 0, 0)]

    def _step(
        self, first: int, frames: int, inputs: dict[str, list[float]]
    ) -> tuple[list[Sequence[Any]], list[tuple[int, Event]]]:
        answer = self._begin().ask("step", {"first": first, "frames": frames, "inputs": inputs}, self._limits[1])
        columns = columns_of(answer, self.abilities, frames)
        said = events_of(answer, first, first + frames - 1)
        if frames:
            self._frame = first + frames - 1
            pressed = {name: array("d", values) for name, values in inputs.items() if any(values)}
            self._done.append((first, frames, pressed))
        return columns, said

    def _frame_by_frame(
        self, first: int, frames: int, inputs: dict[str, list[float]], error: LarkError
    ) -> tuple[list[Sequence[Any]], list[tuple[int, Event]], SubjectFailed]:
        """Runs it again from the start, the last batch a frame at a time, to know in which frame it fails."""
        done = self._done
        columns: list[list[Any]] = [[] for _ in self.abilities.channels]
        said: list[tuple[int, Event]] = []
        last = first + frames - 1
        try:
            self._reset()
            for start_at, count, pressed in done:
                given = {name: list(pressed.get(name, [0.0] * count)) for name in inputs}
                self._step(start_at, count, given)
            for frame in range(first, last + 1):
                one = {name: [values[frame - first]] for name, values in inputs.items()}
                found, events = self._step(frame, 1, one)
                for column, value in zip(columns, found, strict=True):
                    column.append(value[0])
                said += events
        except (*_FAILURES, SubjectFailed) as again:
            self.stop()
            frame = self._frame + 1
            kept = max(frame - first, 0)
            return (
                [c[:kept] for c in columns],
                said,
                SubjectFailed(self._failed(max(frame, first), again), max(frame, first)),
            )
        self.stop()
        message = f"row {first}: program {self.__name__!r} failed in frames {first}..{last}: {error}"
        empty: list[Sequence[Any]] = [[] for _ in columns]
        return empty, [], SubjectFailed(f"{message}; run again frame by frame it did not", first)

    def _ask(self, method: str, params: dict[str, Any]) -> dict[str, Any]:
        try:
            return self._begin().ask(method, params, self._limits[1])
        except _FAILURES as error:
            raise SubjectFailed(f"program {self.__name__!r}: {error}", self._frame) from None

    def _failed(self, frame: int, error: Exception) -> str:
        said = error.frame if isinstance(error, Refused) and error.frame is not None else frame
        return f"row {said}: program {self.__name__!r}: {error}"
