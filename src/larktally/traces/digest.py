"""The digest of a trace: SHA-256 over a canonical form, the same for the same run in every file format."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING

import msgspec
import numpy as np

if TYPE_CHECKING:
    from larktally.traces.trace import Trace

__all__ = ["digest_of"]


def digest_of(trace: Trace) -> str:
    """64 hex digits over, in this order: the header as JSON with sorted keys, without `made_with` and
    `outlines`; each channel's
    column; each input's; the events, one JSON array [row, name, source, data text] a line. Arrays are little-endian
    (float64, int64, one byte a flag, int32 label codes) and NaN is one pattern."""
    total = hashlib.sha256(b"larktally trace 1\n")
    header = msgspec.to_builtins(trace.header)
    del header["made_with"], header["outlines"]
    total.update(msgspec.json.encode(header, order="sorted"))
    for column in trace.columns.values():
        stored = column.stored
        total.update(np.ascontiguousarray(stored, dtype=stored.dtype.newbyteorder("<")).data)
    for values in trace.inputs.values():
        total.update(np.ascontiguousarray(values, dtype="<f8").data)
    events = trace.events
    for event in zip(events.rows, events.names, events.sources, events.data, strict=True):
        total.update(msgspec.json.encode(event) + b"\n")
    return total.hexdigest()
