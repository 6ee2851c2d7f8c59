"""What a model prints while it runs: the first and the last of it, however much it is."""

from __future__ import annotations

import os
import sys
import threading

__all__ = ["Printed"]

_KEPT = 16 * 1024


class Printed:
    """Takes the place of standard output and standard error of this process; `text` is what came so far."""

    def __init__(self) -> None:
        self._first, self._last, self._left_out = bytearray(), bytearray(), 0
        reads, writes = os.pipe()
        # The descriptors themselves: what a library in C prints goes there too.
        os.dup2(writes, 1)
        os.dup2(writes, 2)
        os.close(writes)
        # Streams of their own: those that were there may be of a file, which a pipe is not.
        sys.stdout = open(1, "w", buffering=1, encoding="utf-8", errors="replace", closefd=False)  # noqa: SIM115 - open as long as the process is
        sys.stderr = open(2, "w", buffering=1, encoding="utf-8", errors="replace", closefd=False)  # noqa: SIM115 - open as long as the process is
        # A flood must find a reader, or the model would wait for one.
        threading.Thread(target=self._read, args=(reads,), daemon=True).start()

    @property
    def text(self) -> str:
        """What was printed: all of it, or its beginning and its end with what was left out between."""
        first, last = (bytes(one).decode("utf-8", "replace") for one in (self._first, self._last))
        if self._left_out:
            return f"{first}\n… {self._left_out} bytes left out …\n{last}"
        return first + last

    def _read(self, reads: int) -> None:
        while chunk := os.read(reads, 1 << 16):
            room = max(_KEPT - len(self._first), 0)
            self._first += chunk[:room]
            self._last += chunk[room:]
            if len(self._last) > 2 * _KEPT:
                self._left_out += len(self._last) - _KEPT
                del self._last[:-_KEPT]
