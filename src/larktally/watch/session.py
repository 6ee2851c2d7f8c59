"""What is watched: the file, the scenario that is looked at, its turned numbers, and the process that has its last run.

Pages come and go; all of them see the same.
"""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from larktally.runs.targets import split_target
from larktally.watch.saved_files import SavedFiles
from larktally.watch.warm_process import Job, WarmProcesses

__all__ = ["Page", "Session", "Watched"]

# A page that does not read what it is sent is let go of before it fills the memory.
MOST_WAITING = 200


@dataclass(frozen=True, slots=True)
class Watched:
    """What the command was asked to watch: FILE[:NAME], the build that kept runs are said to be of, a trace to lay behind, and
    the folder in which a picture of each run is kept."""

    target: str
    build: str = ""
    beside: str = ""
    pictures: str = ""


class Page:
    """A page that is connected: what is on its way to it, text as a dict and runs as bytes."""

    def __init__(self) -> None:
        self.waiting: asyncio.Queue[Mapping[str, Any] | bytes | None] = asyncio.Queue()

    def send(self, message: Mapping[str, Any] | bytes) -> None:
        """Puts a message on its way; ends the page's connection where too many wait."""
        if self.waiting.qsize() > MOST_WAITING:
            self.waiting.put_nowait(None)
        else:
            self.waiting.put_nowait(message)


@dataclass(slots=True)
class _Shown:
    """What a page that comes later is shown first."""

    scenarios: list[str] = field(default_factory=list)
    chosen: str = ""
    params: dict[str, Any] = field(default_factory=dict)
    rate: str | None = None
    # What was played last, as the CSV of its script and its number of frames: it is run at each save, until it is put aside.
    script: str = ""
    frames: int = 0
    pack: bytes = b""
    # The last run that came to its end, before that one.
    whole_before: bytes = b""
    whole: bool = False
    verdicts: dict[str, Mapping[str, Any]] = field(default_factory=dict)
    failed: str = ""


class Session:
    """Runs what is watched, tells every page, and answers them. All of it happens in one event loop; `done` hears each run."""

    def __init__(self, watched: Watched, done: Callable[[Mapping[str, Any]], None] | None = None) -> None:
        self._watched, self._done = watched, done
        self._warm: WarmProcesses | None = None
        self._pages: set[Page] = set()
        self._shown = _Shown()
        self._running: Job | None = None
        # The process that has the last good run, and is asked about it.
        self._last: Job | None = None
        self._played: Job | None = None
        self._player: Page | None = None
        self._loop: asyncio.AbstractEventLoop | None = None
        path = split_target(watched.target)[0]
        self._files = SavedFiles([str(path)])
        self.file = path.name

    async def watch(self) -> None:
        """Runs it now, and again at each save, for ever."""
        self._loop = asyncio.get_running_loop()
        # The page is served while the libraries are being loaded.
        self._warm = await asyncio.to_thread(WarmProcesses)
        self.run("opened")
        async for _ in self._files.saves():
            self.run("saved")

    def end(self) -> None:
        """Ends every process."""
        for job in {self._running, self._last, self._played}:
            if job is not None:
                job.end()
        if self._warm is not None:
            self._warm.end()

    def join(self, page: Page) -> None:
        """A page comes: it is shown what the others see."""
        self._pages.add(page)
        shown = self._shown
        page.send(self._hello())
        for verdict in shown.verdicts.values():
            page.send(verdict)
        for pack in filter(None, (shown.whole_before, shown.pack)):
            page.send(pack)
        if self._running is not None:
            page.send({"is": "running", "why": "opened"})
        elif shown.failed:
            page.send({"is": "failed", "text": shown.failed})

    def leave(self, page: Page) -> None:
        """A page goes; what it played goes with it."""
        self._pages.discard(page)
        if page is self._player:
            self._stop_playing()

    def asked(self, page: Page, message: Mapping[str, Any]) -> None:
        """What a page asks for; what it cannot ask is nothing."""
        answers: dict[str, Callable[[Page, Mapping[str, Any]], None]] = {
            "choose": self._choose,
            "turn": self._turn,
            "rate": self._rate,
            "stop": lambda page, message: self._stop(),
            "why": self._ask_last,
            "keep": self._ask_last,
            "own": lambda page, message: self._own_script(),
            "play": lambda page, message: self._play(page),
            "leave": lambda page, message: self._leave_play(page),
            "step": self._ask_played,
            "mark": self._ask_played,
            "judge": self._ask_played,
        }
        answer = answers.get(str(message.get("do")))
        if answer is not None:
            answer(page, message)

    def run(self, why: str) -> None:
        """Runs the chosen scenario in a fresh process; a run that is still on its way is ended."""
        if self._warm is None:
            return
        if self._running is not None:
            self._running.end()
        self._tell({"is": "running", "why": why})
        self._running = self._started(
            {"do": "run", "beside": self._watched.beside, "pictures": self._watched.pictures}, self._of_run
        )

    def _started(self, order: Mapping[str, Any], hear: Callable[[Job, Mapping[str, Any] | None], None]) -> Job:
        shown = self._shown
        assert self._warm is not None and self._loop is not None  # both are there from `watch` on
        job = self._warm.start(
            {
                "target": self._watched.target,
                "build": self._watched.build,
                "scenario": shown.chosen or None,
                "params": shown.params,
                "rate": shown.rate,
                "script": shown.script,
                "frames": shown.frames,
                **order,
            }
        )
        loop = self._loop

        def listen() -> None:
            # A pipe is waited for in a thread of its own; what it says is heard in the loop.
            while True:
                message = job.told()
                try:
                    loop.call_soon_threadsafe(hear, job, message)
                except RuntimeError:
                    return
                if message is None:
                    return

        threading.Thread(target=listen, daemon=True).start()
        return job

    def _of_run(self, job: Job, message: Mapping[str, Any] | None) -> None:
        """What the process of a run says; of one that was ended meanwhile nothing is heard."""
        if job.ended:
            return
        if message is None:
            self._gone(job)
            return
        told = message["is"]
        if told == "files":
            self._files.watch(message["files"])
        elif told == "scenarios":
            self._shown.scenarios, self._shown.chosen = message["names"], message["chosen"]
            self._tell(self._hello())
        elif told == "run":
            self._arrived(job, message)
        elif told == "verdicts":
            self._shown.verdicts[message["scenario"]] = message
            self._tell(message)
        elif told == "failed":
            self._failed(job, message)
        elif told == "picture" and self._done is not None:
            self._done(message)
        elif told != "done":
            self._tell(message)

    def _arrived(self, job: Job, message: Mapping[str, Any]) -> None:
        if self._last is not None and self._last is not job:
            self._last.end()
        self._last, self._running = job, None
        shown = self._shown
        # The last good run before stays beside it, for a page that is opened again.
        if shown.whole:
            shown.whole_before = shown.pack
        shown.pack, shown.whole, shown.failed = message["pack"], message["whole"], ""
        self._tell(message["pack"])
        if self._done is not None:
            self._done(message)

    def _failed(self, job: Job, message: Mapping[str, Any]) -> None:
        if "files" in message:
            self._files.watch(message["files"])
        if job is self._running:
            self._running, self._shown.failed = None, message["text"]
            job.end()
            if self._done is not None:
                self._done(message)
        self._tell({"is": "failed", "text": message["text"]})

    def _gone(self, job: Job) -> None:
        """A process ended by itself: the model ended it, or it was killed from elsewhere."""
        if job is self._running:
            self._failed(
                job, {"text": "the run's process ended before it had a result: the model ended it, or the memory did"}
            )
        elif job is self._last:
            self._last = None

    def _stop(self) -> None:
        if self._running is not None:
            self._running.end()
            self._running = None
            self._shown.failed = "stopped from the page, before the run came to its end; a save runs it again"
            self._tell({"is": "failed", "text": self._shown.failed})

    def _choose(self, page: Page, message: Mapping[str, Any]) -> None:
        name = message.get("scenario")
        if name in self._shown.scenarios:
            verdicts, scenarios = self._shown.verdicts, self._shown.scenarios
            self._shown = _Shown(scenarios, str(name), verdicts=verdicts)
            self._tell(self._hello())
            self.run("chosen")

    def _turn(self, page: Page, message: Mapping[str, Any]) -> None:
        params = message.get("params")
        if isinstance(params, dict) and all(isinstance(one, bool | int | float | str) for one in params.values()):
            self._shown.params = {str(name): value for name, value in params.items()}
            self.run("turned")

    def _rate(self, page: Page, message: Mapping[str, Any]) -> None:
        rate = message.get("rate")
        self._shown.rate = None if rate is None else str(rate)
        self.run("turned")

    def _own_script(self) -> None:
        """The played script is put aside: the scenario has its own again."""
        self._shown.script, self._shown.frames = "", 0
        self._tell(self._hello())
        self.run("chosen")

    def _ask_last(self, page: Page, message: Mapping[str, Any]) -> None:
        if self._last is not None:
            self._last.ask(message)
        else:
            page.send({"is": "failed", "text": "there is no run to ask about: it is run again at the next save"})

    def _play(self, page: Page) -> None:
        if self._warm is None:
            return
        # One plays at a time: who played before is told.
        if self._player is not None:
            self._leave_play(self._player)
        self._player = page
        self._played = self._started({"do": "play"}, self._of_play)

    def _of_play(self, job: Job, message: Mapping[str, Any] | None) -> None:
        # What was played is asked about like any run, once it was judged.
        if job is self._last:
            self._of_run(job, message)
            return
        page = self._player
        if job.ended or page is None:
            return
        if message is None:
            self._leave_play(page)
            page.send({"is": "failed", "text": "the played run's process ended"})
        elif message["is"] == "play":
            page.send(message["pack"])
        elif message["is"] == "run":
            # What was played is the last run from now on: it is asked about, and kept.
            self._played, self._player = None, None
            self._shown.script, self._shown.frames = message["script"], message["frames"]
            self._tell(self._hello())
            self._arrived(job, message)
            page.send({"is": "left"})
        elif message["is"] == "failed":
            self._leave_play(page)
            page.send({"is": "failed", "text": message["text"]})
        elif message["is"] in ("rows", "printed", "kept", "why"):
            page.send(message)

    def _ask_played(self, page: Page, message: Mapping[str, Any]) -> None:
        if page is self._player and self._played is not None:
            self._played.ask(message)

    def _leave_play(self, page: Page) -> None:
        # A page plays until it is told so: a run that a save made meanwhile does not end it.
        if page is self._player:
            self._stop_playing()
            page.send({"is": "left"})

    def _stop_playing(self) -> None:
        if self._played is not None:
            self._played.end()
        self._played = self._player = None

    def _hello(self) -> dict[str, Any]:
        shown = self._shown
        return {
            "is": "hello",
            "file": self.file,
            "scenarios": shown.scenarios,
            "chosen": shown.chosen,
            "params": shown.params,
            "rate": shown.rate,
            "script": bool(shown.script),
        }

    def _tell(self, message: Mapping[str, Any] | bytes) -> None:
        for page in self._pages:
            page.send(message)
