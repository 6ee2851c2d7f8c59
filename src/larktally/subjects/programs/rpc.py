"""Speaking to a program: JSON-RPC 2.0, a request and an answer a line, each answer checked to be what was asked for."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Mapping
from typing import TypeAlias, TypeVar

import msgspec

from larktally.errors import LarkTallyError
from larktally.subjects.programs.process import Running
from larktally.subjects.programs.wire import WireError

__all__ = ["Conversation", "RpcError", "ProtocolError", "PROTOCOL", "request_line"]

PROTOCOL = 1
T = TypeVar("T")
#: Reads a line as the good answer to a request of that number; None where it is none.
Shape: TypeAlias = Callable[[bytes, int], Mapping[str, object] | None]


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

    def ask(
        self, method: str, params: Mapping[str, object], within: float, shape: Shape | None = None
    ) -> Mapping[str, object]:
        """The result of a request, read by its shape where it has one. Raises RpcError, ProtocolError or WireError."""
        # The answer to the first request, hello, may be here already: it is how a program that connects is recognised.
        answer, self.running.greeted = self.running.greeted, b""
        if answer:
            self._id += 1
            return self._result(answer, method)
        deadline = time.monotonic() + within
        self.begin(method, params, within)
        return self.answer(method, max(deadline - time.monotonic(), 0.0), shape, within)

    def begin(self, method: str, params: Mapping[str, object], within: float) -> None:
        """Sends a request whose answer is taken later, by `answer`: the program is at work meanwhile."""
        self._id += 1
        line = request_line(self._id, method, params)
        self._spoken(within, lambda deadline: self.running.wire.send(line, deadline))

    def answer(
        self, method: str, within: float, shape: Shape | None = None, told: float | None = None
    ) -> Mapping[str, object]:
        """The result of the request that was begun; `told` is how many seconds a message says that it had, where those were not
        all its own."""
        line = _with_minus_zeros(self._spoken(within, self.running.wire.line, told))
        found = None
        if shape is not None:
            found = shape(line, self._id)
        return self._result(line, method) if found is None else found

    def following(self, size: int, within: float) -> bytes:
        """So many bytes that follow the line of the last answer."""
        return self._spoken(within, lambda deadline: self.running.wire.exactly(size, deadline))

    def exchange(self, line: bytes, within: float) -> bytes:
        """Sends a line as it is, and returns the next one."""

        def there_and_back(deadline: float) -> bytes:
            self.running.wire.send(line, deadline)
            return self.running.wire.line(deadline)

        return self._spoken(within, there_and_back)

    def _spoken(self, within: float, speak: Callable[[float], T], told: float | None = None) -> T:
        """What `speak` gives, by a deadline; raises WireError with what became of the program."""
        try:
            return speak(time.monotonic() + within)
        except WireError as error:
            if error.ended:
                ended = self.running.how_it_ended()
            else:
                ended = ""
            limit = ""
            if "in time" in str(error):
                limit = f" (within {within if told is None else told:g} s)"
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


# A text, which may hold anything, or a minus zero.
_TEXT_OR_MINUS_ZERO = re.compile(rb'"(?:[^"\\]|\\.)*"|-0(?=[,\]}\s])')
_MINUS_ZERO = re.compile(rb"-0[,\]}\s]")


def _with_minus_zeros(line: bytes) -> bytes:
    """A line whose minus zeros are numbers with a point: C writes them as -0, which readers of JSON take for a whole number."""
    if _MINUS_ZERO.search(line) is None:
        return line
    return _TEXT_OR_MINUS_ZERO.sub(lambda found: b"-0.0" if found[0] == b"-0" else found[0], line)


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
