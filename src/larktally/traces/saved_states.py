"""Saved states that a trace carries at some rows, so that a run goes on from there; each with a checksum of its own."""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Mapping
from typing import Any

import msgspec

from larktally.errors import TraceError

__all__ = ["read_states", "states_json", "state_text", "state_from_text"]


def states_json(states: Mapping[int, bytes]) -> bytes:
    """All states as one JSON object: row to text."""
    return msgspec.json.encode({str(row): state_text(state) for row, state in states.items()})


def read_states(text: bytes, place: str) -> dict[int, bytes]:
    """What states_json wrote; raises TraceError naming the place."""
    if not text:
        return {}
    try:
        raw = msgspec.json.decode(text, type=dict[str, str])
        found: dict[int, bytes] = {}
        for row, state in raw.items():
            found[int(row)] = state_from_text(state, place)
        return found
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{place}: its saved states are broken: {error}") from None


def state_text(state: bytes) -> str:
    """A state as text: 16 hex digits of its SHA-256, a colon, and base64."""
    return f"{hashlib.sha256(state).hexdigest()[:16]}:{base64.b64encode(state).decode()}"


def state_from_text(text: Any, place: str) -> bytes:
    """What state_text wrote; raises TraceError where its checksum does not fit."""
    check, _, body = str(text).partition(":")
    try:
        state = base64.b64decode(body, validate=True)
    except (binascii.Error, ValueError):
        # Fails the checksum below, which is the one message for whatever is wrong with it.
        state = b""
    if hashlib.sha256(state).hexdigest()[:16] != check:
        raise TraceError(f"{place}: a saved state is broken: its checksum does not fit")
    return state
