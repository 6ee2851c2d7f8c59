"""A program started, listened to on its standard error, and always ended and reaped."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import threading
import time
import weakref
from collections.abc import Mapping, Sequence
from pathlib import Path

from larktally.errors import LarkTallyError
from larktally.subjects.programs.connecting import HOST, connect, connected
from larktally.subjects.programs.wire import Wire, socket_wire

__all__ = ["Running", "start", "attach"]

# The end of what it said on standard error; a game that logs each frame would fill the memory.
_KEPT = 64 * 1024


class Running:
    """A program that runs, or one that was running already; `wire` is how it is spoken to, `greeted` its answer to hello where it
    was recognised by that."""

    def __init__(
        self,
        process: subprocess.Popen[bytes] | None,
        wire: Wire,
        watcher: subprocess.Popen[bytes] | None = None,
        greeted: bytes = b"",
    ) -> None:
        self.process, self.wire, self.greeted = process, wire, greeted
        self._stderr = bytearray()
        self._listener: threading.Thread | None = None
        if process is not None and process.stderr is not None:
            self._listener = threading.Thread(target=self._listen, args=(process.stderr,), daemon=True)
            self._listener.start()
        # However it is let go of, the process is ended: at the interpreter's exit too.
        self._finalizer = weakref.finalize(self, _end, process, wire, watcher)

    def stop(self, within: float) -> int | None:
        """Waits so long for it to end by itself, then ends it; its exit status, where it is known."""
        if self.process is not None:
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(within)
        self._finalizer()
        if self.process is not None:
            return self.process.returncode
        return None

    def how_it_ended(self) -> str:
        """What became of it, in words; "" where it still runs or was never ours."""
        if self.process is None:
            return ""
        with contextlib.suppress(subprocess.TimeoutExpired):
            # The pipe may close some milliseconds before the process is gone; its exit status is worth them.
            self.process.wait(0.5)
        status = self.process.returncode
        if status is None:
            return ""
        if status < 0:
            return f"it was ended by signal {-status} ({signal.Signals(-status).name})"
        return f"it ended with exit status {status}"

    def last_lines(self, lines: int = 5) -> str:
        """The last lines of its standard error."""
        if self._listener is not None:
            # What it said just before it ended may still be on its way through the pipe.
            self._listener.join(0.2)
        text = bytes(self._stderr).decode("utf-8", "replace")
        return "\n".join(text.splitlines()[-lines:])

    def _listen(self, stream: object) -> None:
        """Reads its standard error as it comes, so that it never waits for a reader, and keeps the last of it."""
        while chunk := stream.read1(1 << 16):  # type: ignore[attr-defined]
            self._stderr += chunk
            if len(self._stderr) > 2 * _KEPT:
                del self._stderr[:-_KEPT]


def start(
    command: Sequence[str],
    folder: Path | None,
    environment: Mapping[str, str] | None,
    over: str,
    within: float,
    hello: bytes,
    token: str,
) -> Running:
    """Starts a program and connects to it; raises LarkTallyError where it cannot be started or does not connect in time.

    Where it connects by itself, `hello` is what it is asked, and `token` what it has to answer.
    """
    deadline = time.monotonic() + within
    listening = _listen_for(over)
    if listening is not None:
        port = listening.getsockname()[1]
    else:
        port = int(over.partition(":")[2] or 0)
    words = []
    for word in command:
        words.append(word.replace("{port}", str(port)))
    more, piped = dict(environment or {}), subprocess.PIPE
    if over != "stdio":
        more |= {"LARKTALLY_PORT": str(port), "LARKTALLY_TOKEN": token}
        piped = subprocess.DEVNULL
    try:
        process = subprocess.Popen(
            words,
            cwd=folder,
            env={**os.environ, **more},
            stdin=piped,
            stdout=piped,
            stderr=subprocess.PIPE,
            # So that its children end with it, and Ctrl-C in the terminal reaches only us.
            start_new_session=True,
        )
    except OSError as error:
        where = ""
        if folder is not None:
            where = f" in {folder}"
        raise LarkTallyError(f"{words[0]!r} cannot be started{where}: {error.strerror or error}") from None
    watcher = _watch(process)
    try:
        wire, greeted = connected(process, port, listening, deadline, hello, token)
        return Running(process, wire, watcher, greeted)
    except BaseException:
        _end(process, None, watcher)
        raise
    finally:
        if listening is not None:
            listening.close()


def attach(over: str, within: float) -> Running:
    """Connects to a program that runs already and listens on a port of this machine."""
    return Running(None, socket_wire(connect(int(over.partition(":")[2]), time.monotonic() + within)))


def _listen_for(over: str) -> socket.socket | None:
    if not over.startswith("listen"):
        return None
    return socket.create_server((HOST, int(over.partition(":")[2] or 0)))


def _watch(process: subprocess.Popen[bytes]) -> subprocess.Popen[bytes] | None:
    """A shell that waits for this process to be gone, however it goes, and then ends the program and all that it started.

    A game that hangs reads no end of its input, and whoever is killed ends nothing: a job that was cancelled would leave it
    running. The end of a pipe that only this process holds open says that it is gone.
    """
    if os.name != "posix":
        return None
    read_end, write_end = os.pipe()
    try:
        watcher = subprocess.Popen(
            ["/bin/sh", "-c", 'read -r _; kill -s KILL -- "-$1"', "larktally", str(process.pid)],
            stdin=read_end,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
    except OSError:
        # Without a shell the program is ended wherever this process ends as it should.
        os.close(write_end)
        return None
    finally:
        os.close(read_end)
    weakref.finalize(watcher, os.close, write_end)
    return watcher


def _end(
    process: subprocess.Popen[bytes] | None, wire: Wire | None, watcher: subprocess.Popen[bytes] | None = None
) -> None:
    """Ends a program and everything that it started, and reaps it."""
    if watcher is not None:
        # First of all: a number that is free again must not be ended by one that waited for it.
        watcher.kill()
        watcher.wait()
    if wire is not None:
        wire.close()
    if process is None:
        return
    for stream in (process.stdin, process.stdout):
        if stream is not None:
            with contextlib.suppress(OSError):
                stream.close()
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()
