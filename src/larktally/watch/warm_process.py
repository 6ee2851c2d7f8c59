"""A process that is ready before it is needed: the libraries are loaded, the model is not.

Each does one job, and the next one is made ready. Where there is fork, it is a copy of one that loaded them once.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
from collections.abc import Mapping
from typing import Any

import msgspec

__all__ = ["Job", "WarmProcesses"]

_METHOD = "forkserver" if "forkserver" in multiprocessing.get_all_start_methods() else "spawn"


def _work(connection: Any) -> None:
    # Loaded where it is needed: the one who serves is there at once, and runs nothing.
    from larktally.watch.worker import work

    work(connection)


class Job:
    """A process and the wire to it: orders and questions go, its messages come, until it is ended."""

    def __init__(self, process: Any, connection: Any) -> None:
        self._process, self._connection = process, connection
        self.ended = False

    def ask(self, question: Mapping[str, Any]) -> None:
        """Asks it something, or does nothing where it is gone."""
        with contextlib.suppress(OSError, ValueError):
            self._connection.send_bytes(msgspec.msgpack.encode(question))

    def told(self) -> dict[str, Any] | None:
        """Its next message, waited for; None once it is gone."""
        try:
            return msgspec.msgpack.decode(self._connection.recv_bytes())  # type: ignore[no-any-return]
        except (EOFError, OSError, ValueError, TypeError):
            return None

    def end(self) -> None:
        """Ends it and all that it started, whatever it is doing."""
        self.ended = True
        with contextlib.suppress(OSError, ProcessLookupError):
            os.killpg(self._process.pid, signal.SIGKILL)
        # Before it has a group of its own, there is only itself.
        with contextlib.suppress(OSError, AttributeError, ValueError):
            self._process.kill()
            self._process.join(2)
            self._connection.close()


class WarmProcesses:
    """Hands out processes that are ready; one waits at any time."""

    def __init__(self) -> None:
        self._context: Any = multiprocessing.get_context(_METHOD)
        if _METHOD == "forkserver":
            self._context.set_forkserver_preload(["larktally.watch.preloaded"])
        self._ready = self._made()

    def start(self, order: Mapping[str, Any]) -> Job:
        """Gives a job to the process that waits, and makes the next one ready."""
        job = self._ready
        job.ask(order)
        self._ready = self._made()
        return job

    def end(self) -> None:
        """Ends the one that waits."""
        self._ready.end()

    def _made(self) -> Job:
        ours, theirs = self._context.Pipe()
        process = self._context.Process(target=_work, args=(theirs,), daemon=True)
        process.start()
        theirs.close()
        return Job(process, ours)
