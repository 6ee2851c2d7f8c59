"""Ports of this machine alone: nothing that is watched is reached from another."""

from __future__ import annotations

import socket

from larktally.errors import LarkTallyError

__all__ = ["HOST", "bound"]

HOST = "127.0.0.1"


def bound(port: int, instead: str = "leave --port out for a free one") -> socket.socket:
    """A socket that listens on a port, 0 for a free one; raises LarkTallyError for one that is taken, and says what to do
    `instead`."""
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((HOST, port))
    except OSError as error:
        listening.close()
        raise LarkTallyError(
            f"port {port} of this machine cannot be served on: {error.strerror or error}; {instead}"
        ) from None
    return listening
