"""How a program is reached: over its pipes, at a port of this machine, or by waiting until it connects.

Over a port anybody of this machine may answer, a game that was left from before among them. The program that is started is
given a token in its environment, and the one that says it in its answer to hello is the one.
"""

from __future__ import annotations

import os
import socket
import subprocess
import time

import msgspec

from larktally.subjects.programs.wire import Wire, WireError, pipe_wire, socket_wire

__all__ = ["HOST", "connect", "connected", "says_token"]

# Never another machine, nor to be reached from one.
HOST = "127.0.0.1"
# Who connects and is not the program may say anything, or nothing: that many are listened to at once.
_MOST_STRANGERS = 64


def connected(
    process: subprocess.Popen[bytes],
    port: int,
    listening: socket.socket | None,
    deadline: float,
    hello: bytes,
    token: str,
) -> tuple[Wire, bytes]:
    """A connection to a program that was started, and its answer to `hello`, where it was asked for already (b"" where not)."""
    if listening is not None:
        return _first_with_token(process, listening, deadline, hello, token)
    if port:
        return socket_wire(connect(port, deadline, process)), b""
    assert process.stdin is not None and process.stdout is not None
    return pipe_wire(os.dup(process.stdout.fileno()), os.dup(process.stdin.fileno())), b""


def connect(port: int, deadline: float, process: subprocess.Popen[bytes] | None = None) -> socket.socket:
    """A connection to a port of this machine; raises WireError where nothing answers there in time."""
    while time.monotonic() < deadline:
        try:
            return socket.create_connection((HOST, port), timeout=max(deadline - time.monotonic(), 0.01))
        except OSError:
            if process is not None and process.poll() is not None:
                break
            time.sleep(0.02)
    raise WireError(f"nothing answers on port {port} of this machine")


def says_token(answer: bytes, token: str) -> bool:
    """Whether an answer to hello says the token; one that refuses hello says none."""
    try:
        found = msgspec.json.decode(answer)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return False
    result = found.get("result") if isinstance(found, dict) else None
    return isinstance(result, dict) and result.get("token") == token


def _first_with_token(
    process: subprocess.Popen[bytes], listening: socket.socket, deadline: float, hello: bytes, token: str
) -> tuple[Wire, bytes]:
    """Of all that connect the first that says the token; the others are let go of."""
    listening.settimeout(0.02)
    waiting: list[Wire] = []
    strangers, gone = 0, False
    try:
        while time.monotonic() < deadline and not gone:
            # Once more after it ended: what it had said by then may still be on its way.
            gone = process.poll() is not None
            try:
                wire = socket_wire(listening.accept()[0])
            except TimeoutError:
                pass
            else:
                waiting.append(wire)
                # One that does not take it is found out below.
                _sent(wire, hello)
                if len(waiting) > _MOST_STRANGERS:
                    waiting.pop(0).close()
                    strangers += 1
            for wire in list(waiting):
                answer = _heard(wire)
                if answer is None:
                    continue
                waiting.remove(wire)
                if says_token(answer, token):
                    return wire, answer
                wire.close()
                strangers += 1
    finally:
        for wire in waiting:
            wire.close()
    port = listening.getsockname()[1]
    if strangers or waiting:
        raise WireError(
            f"it did not connect to port {port} in time: what did connect does not say the token that the program was started "
            "with ('token' in its answer to hello, from LARKTALLY_TOKEN in its environment)"
        )
    raise WireError(f"it did not connect to port {port} in time")


def _sent(wire: Wire, line: bytes) -> None:
    try:
        wire.send(line, time.monotonic() + 0.1)
    except WireError:
        return


def _heard(wire: Wire) -> bytes | None:
    """The line that a connection has said, b"" where it went away, None where there is none yet."""
    try:
        return wire.line(time.monotonic() + 0.001)
    except WireError as error:
        return b"" if error.ended else None
