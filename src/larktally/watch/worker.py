"""What happens in a process of its own: a file's scenario is run and judged, its others after it, and questions about the run are
answered; or a scenario is played. The process is fresh, so that the model is as its file says, and is ended from outside."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Mapping
from multiprocessing import parent_process
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any

import msgspec

from larktally.claims.verdicts import Tally
from larktally.code_places import lines_of_users
from larktally.errors import LarkTallyError
from larktally.explain.causes import causes_in, channels_read
from larktally.inputs.script import InputScript
from larktally.runs.failed_story import failed_story
from larktally.runs.model_files import load_scenarios
from larktally.runs.playing import PlayedRun
from larktally.runs.scenario import Scenario
from larktally.runs.targets import split_target
from larktally.traces.trace import load_trace
from larktally.views.page.run_view import RunView, packed_runs
from larktally.watch.files_read import FilesRead
from larktally.watch.judged_run import JudgedRun, judged, judged_trace, turned
from larktally.watch.keeping import keep
from larktally.watch.printed import Printed
from larktally.whole_files import made_folder, plain_file_name

__all__ = ["work"]

Message = dict[str, Any]


def work(connection: Connection) -> None:
    """Waits for one job, does it, and answers questions about it until the other side is gone."""
    # A group of its own: what it starts is ended with it, and Ctrl-C in a terminal reaches the one who serves.
    os.setpgid(0, 0)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _end_with_parent()
    try:
        job = msgspec.msgpack.decode(connection.recv_bytes())
        _Desk(connection, job).serve()
    except (EOFError, OSError):
        # The one who asked is gone, or wants to know nothing any more.
        return


def _end_with_parent() -> None:
    """However the one who serves ends, this process ends too, in whatever loop its model may be."""
    parent = parent_process()
    if parent is None:
        return

    def watch() -> None:
        wait([parent.sentinel])
        os.killpg(0, signal.SIGKILL)

    threading.Thread(target=watch, daemon=True).start()


class _Desk:
    """One job and what is asked about it."""

    def __init__(self, connection: Connection, job: Mapping[str, Any]) -> None:
        self._connection, self._job = connection, job
        self._target: str = job["target"]
        self._path = split_target(self._target)[0]
        self._files = FilesRead(self._path)
        self._printed = Printed()
        self._run: JudgedRun | None = None
        self._played: PlayedRun | None = None
        self._answers: dict[str, Callable[[Mapping[str, Any]], None]] = {
            "why": self._why,
            "step": self._step,
            "mark": self._mark,
            "judge": self._judge,
            "keep": self._keep,
        }

    def serve(self) -> None:
        """The job, then questions."""
        self._guarded(self._play if self._job["do"] == "play" else self._run_all)
        self._say({"is": "done"})
        while True:
            asked = msgspec.msgpack.decode(self._connection.recv_bytes())
            self._guarded(lambda: self._answers[asked["do"]](asked))  # noqa: B023 - called before the next one is read

    def _guarded(self, does: Callable[[], None]) -> None:
        """What goes wrong is told in one message, whatever a model raises."""
        try:
            does()
        except (LarkTallyError, OSError) as error:
            self._say({"is": "failed", "text": str(error), "files": self._files.found()})
        except (Exception, SystemExit) as error:
            told = [f"{type(error).__name__}: {error}", *lines_of_users(error)]
            self._say({"is": "failed", "text": "\n".join(told), "files": self._files.found()})
        finally:
            if self._printed.text:
                self._say({"is": "printed", "text": self._printed.text})

    def _say(self, message: Message) -> None:
        self._connection.send_bytes(msgspec.msgpack.encode(message))

    def _scenarios(self) -> tuple[list[Scenario], Scenario]:
        """All scenarios of the file, and the one that is looked at: the one asked for, or the first."""
        self._folder_first()
        scenarios = load_scenarios(self._target)
        wanted = self._job.get("scenario")
        chosen = next((one for one in scenarios if one.title == wanted), None)
        if chosen is None and wanted:
            names = ", ".join(one.title for one in scenarios)
            raise LarkTallyError(f"{self._path}: no scenario {wanted!r} any more; there are: {names}")
        job = self._job
        return scenarios, turned(chosen or scenarios[0], job.get("params") or {}, job.get("rate"), self._script())

    def _script(self) -> tuple[InputScript, int] | None:
        """What was played before, where it is to be run in place of the scenario's own script."""
        if not self._job.get("script"):
            return None
        return InputScript.of_csv(self._job["script"]), self._job["frames"]

    def _folder_first(self) -> None:
        # What a model imports when it is called, and not when it is read, stands beside it too.
        folder = str(self._path.resolve().parent)
        if folder not in sys.path:
            sys.path.insert(0, folder)

    def _run_all(self) -> None:
        began = time.perf_counter()
        try:
            scenarios, chosen = self._scenarios()
            names = [one.title for one in scenarios]
            self._say({"is": "scenarios", "names": names, "chosen": chosen.title})
            self._run = judged(chosen)
        finally:
            # A file that cannot be run is watched all the same: that is where it will be mended.
            self._say({"is": "files", "files": self._files.found()})
        took = time.perf_counter() - began
        told = "played" if self._job.get("script") else "run"
        packed = packed_runs([self._run.view, *self._beside()], beside={"is": told, "took": took})
        self._say(
            {
                "is": "run",
                "scenario": chosen.title,
                "pack": packed,
                "sentence": self._run.sentence,
                "text": self._plain_text(),
                "measures": [one.plain() for one in self._run.measures],
                "passed": self._run.passed,
                "whole": not self._run.failure,
            }
        )
        self._say(_verdicts(chosen.title, self._run))
        self._draw(chosen.title)
        for other in scenarios:
            if other.title != chosen.title:
                self._say(_verdicts_of(other))

    def _draw(self, name: str) -> None:
        """Keeps one picture fresh, where one is asked for."""
        folder = self._job.get("pictures")
        if not folder or self._run is None:
            return
        # It takes longer than all of the rest, and is drawn when the verdicts are out.
        from larktally.views.picture import draw_run, save_picture

        figure = draw_run(self._run.trace, breaches=self._run.tally.breach_rows)
        path = save_picture(figure, made_folder(Path(folder)) / f"{plain_file_name(name)}.png")
        self._say({"is": "picture", "path": str(path)})

    def _beside(self) -> list[RunView]:
        """A second trace to lay behind the run, where one was named."""
        beside = self._job.get("beside")
        if not beside:
            return []
        return [RunView(load_trace(beside), name=str(beside))]

    def _plain_text(self) -> str:
        """The verdicts as a terminal has them."""
        run = self._run
        assert run is not None  # asked once it is made
        parts = [run.failure, *run.notes]
        if run.tally:
            parts.append(run.tally.report().text())
        elif not any(parts):
            parts.append("no claims in this scenario, so nothing was checked")
        return "\n\n".join(part for part in parts if part)

    def _why(self, asked: Mapping[str, Any]) -> None:
        """What made a row what it is, for the channels that a claim reads."""
        self._say({"is": "why", "ask": asked["ask"], "text": self._why_text(asked)})

    def _why_text(self, asked: Mapping[str, Any]) -> str:
        if self._run is None:
            return "there is no run to ask"
        trace, row = self._run.trace, int(asked["row"])
        if not 0 < row < trace.rows:
            return "row 0 is the state after reset, which no step made"
        try:
            names = channels_read(self._run.tally[asked["claim"]], trace, row)
            # An object's attributes need not be called like its channels.
            as_called = trace.header.order or trace.header.program
            found = causes_in(trace, self._run.scenario, {row: names if as_called else None})[row]
        except LarkTallyError as error:
            return str(error)
        return str(found)

    def _play(self) -> None:
        _, scenario = self._scenarios()
        played = PlayedRun(scenario)
        self._played = played
        start = played.first_row()
        actions = played.info.actions.all()
        run = JudgedRun(scenario, start, Tally([]), actions=actions)
        self._say({"is": "play", "pack": packed_runs([run.view], beside={"is": "play"})})

    def _step(self, asked: Mapping[str, Any]) -> None:
        played = self._played
        if played is None:
            return
        inputs = []
        for held in asked["frames"]:
            before = played.row
            played.step(held)
            if played.row > before:
                inputs.append(held)
        self._say({"is": "rows", **_rows_made(played, inputs), "over": played.over})

    def _mark(self, asked: Mapping[str, Any]) -> None:
        if self._played is not None:
            self._played.mark(str(asked.get("note", ""))[:500])

    def _judge(self, asked: Mapping[str, Any]) -> None:
        """Ends the playing: what was played is judged like any run."""
        played = self._played
        if played is None:
            return
        trace = played.trace()
        failure = "" if played.failure is None else failed_story(played.failure)
        scenario = played.scenario
        self._run = judged_trace(scenario, trace, played.numbers, played.info.actions.all(), failure)
        self._played = None
        script = InputScript.from_columns(trace.inputs).to_csv()
        packed = packed_runs([self._run.view], beside={"is": "played"})
        self._say({"is": "run", "pack": packed, "script": script, "frames": trace.frames, "whole": not failure})

    def _keep(self, asked: Mapping[str, Any]) -> None:
        if self._run is None:
            raise LarkTallyError("there is no run to keep")
        folder = self._path.resolve().parent
        kept = keep(self._run.trace, self._run.scenario, folder, str(asked["name"]), self._job.get("build") or "")
        self._say({"is": "kept", **kept.plain()})


def _verdicts(name: str, run: JudgedRun) -> Message:
    return {"is": "verdicts", "scenario": name, "sentence": run.sentence, "passed": run.passed}


def _verdicts_of(scenario: Scenario) -> Message:
    try:
        return _verdicts(scenario.title, judged(scenario))
    except LarkTallyError as error:
        told = str(error).splitlines()[0]
        return {"is": "verdicts", "scenario": scenario.title, "sentence": told, "passed": False}


def _rows_made(played: PlayedRun, inputs: list[Mapping[str, float]]) -> Message:
    """The rows that were made since the last time, row by row, with what was held in each and what was emitted."""
    actions = list(played.info.actions)
    rows: list[list[Any]] = []
    events: list[tuple[int, str, str, str]] = []
    first = None
    for stretch in played.new_rows():
        first = stretch.first if first is None else first
        rows += [list(row) for row in zip(*stretch.columns, strict=True)]
        events += stretch.events.fields()
    held = [[one.get(name, 0.0) for name in actions] for one in inputs]
    return {"first": first or 0, "rows": rows, "held": held, "events": events}
