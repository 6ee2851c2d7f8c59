"""What a careless caller would send to a program, and the error that belongs to each."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

import msgspec

from larktally.subjects.programs.program import Program
from larktally.subjects.programs.rpc import ProtocolError, shown

__all__ = ["Careless", "careless_lines", "check_refusal"]

_REFUSALS = {-32700: "not JSON", -32600: "no request", -32601: "no such method", -32602: "params that do not fit"}


class Careless(NamedTuple):
    """One line: what it is, its bytes, and the code of the error that belongs to it."""

    what: str
    line: bytes
    code: int


def careless_lines(actions: Iterable[str]) -> list[Careless]:
    """What no program should be brought down by."""
    none: dict[str, list[float]] = {}
    for name in actions:
        none[name] = []
    return [
        Careless("a line that is not JSON", b'{"jsonrpc": "2.0", "id": 900000, "method": ', -32700),
        Careless("a method that does not exist", _request("stepp", {}), -32601),
        Careless("a step without frames", _request("step", {"first": 1}), -32602),
        Careless("a step of -1 frames", _request("step", {"first": 1, "frames": -1, "inputs": none}), -32602),
        Careless(
            "an action that it does not take",
            _request("step", {"first": 1, "frames": 1, "inputs": {"no such action": [1]}}),
            -32602,
        ),
    ]


def check_refusal(program: Program, careless: Careless) -> str:
    """Sends it; raises ProtocolError where the answer is another than the error that belongs there."""
    answer = program.exchange(careless.line)
    wanted = f"an error {careless.code} ({_REFUSALS[careless.code]})"
    try:
        found = msgspec.json.decode(answer)["error"]["code"]
    except (msgspec.MsgspecError, KeyError, TypeError, RecursionError):
        raise ProtocolError(f"it answered {shown(answer)}, where {wanted} belongs") from None
    if found != careless.code:
        raise ProtocolError(f"it refused with {found}, where {wanted} belongs")
    return ""


def _request(method: str, params: Any) -> bytes:
    return msgspec.json.encode({"jsonrpc": "2.0", "id": 900_000, "method": method, "params": params})
