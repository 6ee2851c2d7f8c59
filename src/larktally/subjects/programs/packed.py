"""Columns as bytes: how a program says many frames without writing each number as text.

After the line of its answer stand the columns in the order of its channels, each whole, little-endian: 8 bytes of a number
(IEEE 754) or a count (two's complement), 1 of a flag, 2 of a label, which is its place among the channel's labels.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from larktally.subjects.programs.rpc import ProtocolError
from larktally.traces.columns import Array, ArrayColumn, Channel

__all__ = ["packed_columns", "packed_size"]

_TYPES: dict[str, np.dtype[Any]] = {
    "number": np.dtype("<f8"),
    "count": np.dtype("<i8"),
    "flag": np.dtype("u1"),
    "label": np.dtype("<u2"),
}


def packed_size(channels: Sequence[Channel], frames: int) -> int:
    """How many bytes the columns of so many frames are."""
    return frames * sum(_TYPES[channel.kind].itemsize for channel in channels)


def packed_columns(content: bytes, channels: Sequence[Channel], first: int, frames: int) -> list[ArrayColumn]:
    """The columns, one a channel; raises ProtocolError for a flag or a label that is none, with its frame."""
    found = []
    at = 0
    for channel in channels:
        raw = np.frombuffer(content, _TYPES[channel.kind], frames, at)
        at += raw.nbytes
        found.append(ArrayColumn(channel, _checked(channel, raw, first)))
    return found


def _checked(channel: Channel, raw: npt.NDArray[Any], first: int) -> Array:
    if channel.kind in ("number", "count"):
        return raw
    most, of = (1, "0 or 1") if channel.kind == "flag" else (len(channel.labels) - 1, f"one of {list(channel.labels)}")
    wrong = raw > most
    if wrong.any():
        place = int(wrong.argmax())
        raise ProtocolError(f"channel {channel.name!r} is {raw[place]} in frame {first + place}, not {of}")
    if channel.kind == "flag":
        return raw.astype(np.bool_)
    return raw.astype(np.int32)
