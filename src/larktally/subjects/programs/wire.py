"""Lines of bytes to and from a program, over a pipe or a socket: each within a time limit, none longer than a bound."""

from __future__ import annotations

import contextlib
import math
import os
import select
import socket
import time
from collections.abc import Callable

from larktally.errors import LarkTallyError

__all__ = ["Wire", "WireError", "pipe_wire", "socket_wire", "MOST_BYTES"]

MOST_BYTES = 64 * 1024 * 1024
_CHUNK = 1 << 16
_LARGE_CHUNK = 1 << 20


class WireError(LarkTallyError):
    """A program that said nothing in time, too much, or went away; `ended` says that it went away."""

    def __init__(self, message: str, ended: bool = False) -> None:
        super().__init__(message)
        self.ended = ended


class Wire:
    """One connection. Reading and writing wait at most until a deadline (of time.monotonic)."""

    def __init__(
        self,
        read_from: int,
        write_to: int,
        read: Callable[[int], bytes],
        write: Callable[[bytes], int],
        close: Callable[[], object],
    ) -> None:
        self._read_from, self._write_to = read_from, write_to
        self._read, self._write, self._close = read, write, close
        self._held = bytearray()
        self._looked = 0

    def send(self, line: bytes, deadline: float) -> None:
        """Sends a line; raises WireError where the program does not take it in time or is gone.

        A program that writes before it has read is waited for: what it says meanwhile is kept.
        """
        waiting = memoryview(line + b"\n")
        while waiting:
            try:
                waiting = waiting[self._write(bytes(waiting[:_CHUNK])) :]
            except BlockingIOError:
                readable, writable = self._wait(deadline, writing=True)
                if readable and not writable and not self._take():
                    raise WireError("it went away while it was spoken to", ended=True) from None
            except OSError:
                raise WireError("it went away while it was spoken to", ended=True) from None

    def line(self, deadline: float) -> bytes:
        """The next line, without its end; raises WireError where none comes in time, or one that is too long."""
        while True:
            end = self._held.find(b"\n", self._looked)
            if end >= 0:
                line = bytes(self._held[:end])
                del self._held[: end + 1]
                self._looked = 0
                return line.rstrip(b"\r")
            self._looked = len(self._held)
            if self._looked > MOST_BYTES:
                raise WireError(f"a line of more than {MOST_BYTES} bytes; a message is one line, at most that long")
            self._wait(deadline, writing=False)
            if not self._take():
                rest = ""
                if self._held:
                    rest = f" in the middle of a line: {_shown(bytes(self._held))}"
                raise WireError(f"it went away{rest}", ended=True)

    def exactly(self, size: int, deadline: float) -> bytes:
        """The next so many bytes; raises WireError where they do not come in time."""
        found = bytearray(self._held[:size])
        del self._held[:size]
        self._looked = 0
        while len(found) < size:
            self._wait(deadline, writing=False)
            # No more than is asked for, so that what follows stays where it is.
            if not self._take(found, min(size - len(found), _LARGE_CHUNK)):
                raise WireError(f"it went away after {len(found)} of {size} bytes", ended=True)
        return bytes(found)

    def rest(self) -> bytes:
        """What has come and was not asked for."""
        return bytes(self._held)

    def close(self) -> None:
        """Lets go of it."""
        self._close()

    def _wait(self, deadline: float, writing: bool) -> tuple[bool, bool]:
        left = deadline - time.monotonic()
        if left <= 0:
            raise WireError("no answer in time")
        # Not `select`, which takes no file whose number is above 1,023.
        waiting = select.poll()
        if writing:
            waiting.register(self._write_to, select.POLLOUT)
        if not writing or self._read_from != self._write_to:
            waiting.register(self._read_from, select.POLLIN)
        else:
            waiting.modify(self._write_to, select.POLLOUT | select.POLLIN)
        # Rounded up: one millisecond too few would be a loop without a pause.
        ready = dict(waiting.poll(math.ceil(left * 1000)))
        if not ready:
            raise WireError("no answer in time")
        # Its end, and an error on it, are read like anything else.
        readable = ready.get(self._read_from, 0) & ~select.POLLOUT
        writable = ready.get(self._write_to, 0) & ~select.POLLIN
        return bool(readable), bool(writing and writable)

    def _take(self, into: bytearray | None = None, most: int = _CHUNK) -> bool:
        """Reads what there is; False where the other side is gone."""
        try:
            chunk = self._read(most)
        except BlockingIOError:
            return True
        except OSError:
            return False
        if into is None:
            into = self._held
        into += chunk
        return bool(chunk)


def pipe_wire(read_from: int, write_to: int) -> Wire:
    """The two ends of a program's standard output and input."""
    os.set_blocking(write_to, False)
    _widen(read_from)

    def close() -> None:
        for end in (read_from, write_to):
            try:
                os.close(end)
            except OSError:
                pass

    return Wire(
        read_from, write_to, lambda size: os.read(read_from, size), lambda data: os.write(write_to, data), close
    )


def _widen(pipe: int) -> None:
    """Room for more than 64 KiB, so that a program with much to say waits less often: a tenth of a wide run."""
    # Not everywhere are there such pipes, nor the module that knows them; the library is loaded there all the same.
    with contextlib.suppress(ImportError, AttributeError, OSError):
        import fcntl

        fcntl.fcntl(pipe, fcntl.F_SETPIPE_SZ, _LARGE_CHUNK)


def socket_wire(connection: socket.socket) -> Wire:
    """A connected socket."""
    connection.setblocking(False)
    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    number = connection.fileno()
    return Wire(number, number, connection.recv, connection.send, connection.close)


def _shown(line: bytes) -> str:
    text = line[:80].decode("utf-8", "replace")
    return repr(text + "…" if len(line) > 80 else text)
