"""Speaking to a program: JSON-RPC 2.0, a request and an answer a line, each answer checked to be what was asked for."""

from __future__ import annotations

import time
from typing import Any

import msgspec

from larktally.errors import LarkError
from larktally.programs.process import Running
from larktally.programs.wire import WireError

__all__ = ["Conversation", "Refused", "Misspoke", "PROTOCOL"]

PROTOCOL = 1


class Refused(LarkError):
    """The program answered with an error of its own: `code` and, where it says so, the `frame`."""

    def __init__(self, message: str, code: int, frame: int | None = None) -> None:
        super().__init__(message)
        self.code, self.frame = code, frame


class Misspoke(LarkError):
    """The program said what is no answer: not JSON, not the id asked, not an object."""


class Conversation:
    """Requests to a running program, one at a time."""

    def __init__(self, running: Running) -> None:
        self.running = running
        self._id = 0

    def ask(self, method: str, params: dict[str, Any], within: float) -> dict[str, Any]:
        """The result of a request. Raises Refused, Misspoke or WireError."""
        self._id += 1
        request = {"jsonrpc": "2.0", "id": self._id, "method": method, "params": params}
        answer = self.exchange(msgspec.json.encode(request), within)
        return self._result(answer, method)

    def exchange(self, line: bytes, within: float) -> bytes:
        """Sends a line as it is, and returns the next one."""
        deadline = time.monotonic() + within
        try:
            self.running.wire.send(line, deadline)
            return self.running.wire.line(deadline)
        except WireError as error:
            ended = self.running.how_it_ended() if error.ended else ""
            limit = f" (within {within:g} s)" if "in time" in str(error) else ""
            raise WireError(f"{ended or str(error) + limit}{self._heard()}", error.ended) from None

    def _result(self, line: bytes, method: str) -> dict[str, Any]:
        try:
            answer = msgspec.json.decode(line)
        except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
            raise Misspoke(
                f"what it answered to {method!r} is no JSON: {shown(line)}; one message a line on standard output, "
                "everything else on standard error"
            ) from None
        if not isinstance(answer, dict) or answer.get("jsonrpc") != "2.0" or "id" not in answer:
            raise Misspoke(f"what it answered to {method!r} is no JSON-RPC 2.0 answer: {shown(line)}")
        if "error" in answer:
            raise _refused(answer["error"], method)
        if answer["id"] != self._id:
            raise Misspoke(f"it answered request {answer['id']!r}, where {self._id} ({method!r}) was asked")
        result = answer.get("result")
        if not isinstance(result, dict):
            raise Misspoke(f"the result of {method!r} is an object, not {shown(line)}")
        return result

    def _heard(self) -> str:
        said = self.running.said()
        return f"; the end of its standard error:\n{_indented(said)}" if said else ""


def _refused(error: Any, method: str) -> LarkError:
    if (
        not isinstance(error, dict)
        or not isinstance(error.get("message"), str)
        or not isinstance(error.get("code"), int)
    ):
        return Misspoke(f"its error for {method!r} has no code and message: {error!r}"[:300])
    extra = error.get("data")
    frame = extra.get("frame") if isinstance(extra, dict) and isinstance(extra.get("frame"), int) else None
    return Refused(f"it refused {method!r}: {error['message']} (code {error['code']})", error["code"], frame)


def shown(line: bytes, most: int = 120) -> str:
    """The start of a line, for messages."""
    text = line[:most].decode("utf-8", "replace")
    return repr(text + "…" if len(line) > most else text)


def _indented(text: str) -> str:
    return "\n".join(f"    {line}" for line in text.splitlines())
