"""Speaking to a program: JSON-RPC 2.0, a request and an answer a line, each answer checked to be what was asked for."""

from __future__ import annotations

import time
from collections.abc import Mapping

import msgspec

from larktally.errors import LarkTallyError
from larktally.subjects.programs.process import Running
from larktally.subjects.programs.wire import WireError

__all__ = ["Conversation", "RpcError", "ProtocolError", "PROTOCOL", "request_line"]

PROTOCOL = 1


class RpcError(LarkTallyError):
    """The program answered with an error of its own: `code` and, where it says so, the `frame`."""

    def __init__(self, message: str, code: int, frame: int | None = None) -> None:
        super().__init__(message)
        self.code, self.frame = code, frame


class ProtocolError(LarkTallyError):
    """The program said what is no answer: not JSON, not the id asked, not an object."""


class Conversation:
    """Requests to a running program, one at a time."""

    def __init__(self, running: Running) -> None:
        self.running = running
        self._id = 0

    def ask(self, method: str, params: Mapping[str, object], within: float) -> Mapping[str, object]:
        """The result of a request. Raises RpcError, ProtocolError or WireError."""
        self._id += 1
        # The answer to the first request, hello, may be here already: it is how a program that connects is recognised.
        answer, self.running.greeted = self.running.greeted, b""
        if not answer:
            answer = self.exchange(request_line(self._id, method, params), within)
        return self._result(answer, method)

    def exchange(self, line: bytes, within: float) -> bytes:
        """Sends a line as it is, and returns the next one."""
        deadline = time.monotonic() + within
        try:
            self.running.wire.send(line, deadline)
            return self.running.wire.line(deadline)
        except WireError as error:
            if error.ended:
                ended = self.running.how_it_ended()
            else:
                ended = ""
            limit = ""
            if "in time" in str(error):
                limit = f" (within {within:g} s)"
            raise WireError(f"{ended or str(error) + limit}{self._heard()}", error.ended) from None

    def _result(self, line: bytes, method: str) -> Mapping[str, object]:
        try:
            answer = msgspec.json.decode(line)
        except (msgspec.MsgspecError, ValueError, RecursionError):
            raise ProtocolError(
                f"what it answered to {method!r} is no JSON: {shown(line)}; one message a line on standard output, "
                "everything else on standard error"
            ) from None
        if not isinstance(answer, dict) or answer.get("jsonrpc") != "2.0" or "id" not in answer:
            raise ProtocolError(f"what it answered to {method!r} is no JSON-RPC 2.0 answer: {shown(line)}")
        if "error" in answer:
            raise _refused(answer["error"], method)
        # After the error: a program that could not read the request answers with the id null.
        if answer["id"] != self._id:
            raise ProtocolError(f"it answered request {answer['id']!r}, where {self._id} ({method!r}) was asked")
        result = answer.get("result")
        if not isinstance(result, dict):
            raise ProtocolError(f"the result of {method!r} is an object, not {shown(line)}")
        return result

    def _heard(self) -> str:
        last_lines = self.running.last_lines()
        if last_lines:
            return f"; the end of its standard error:\n{_indented(last_lines)}"
        return ""


def request_line(number: int, method: str, params: Mapping[str, object]) -> bytes:
    """A request as one line of JSON, without its end."""
    return msgspec.json.encode({"jsonrpc": "2.0", "id": number, "method": method, "params": params})


def _refused(error: object, method: str) -> LarkTallyError:
    if (
        not isinstance(error, dict)
        or not isinstance(error.get("message"), str)
        or not isinstance(error.get("code"), int)
    ):
        return ProtocolError(f"its error for {method!r} has no code and message: {error!r}"[:300])
    extra = error.get("data")
    if isinstance(extra, dict) and isinstance(extra.get("frame"), int):
        frame = extra.get("frame")
    else:
        frame = None
    return RpcError(f"it refused {method!r}: {error['message']} (code {error['code']})", error["code"], frame)


def shown(line: bytes, most: int = 120) -> str:
    """The start of a line, for messages."""
    text = line[:most].decode("utf-8", "replace")
    return repr(text + "…" if len(line) > most else text)


def _indented(text: str) -> str:
    return "\n".join(f"    {line}" for line in text.splitlines())
