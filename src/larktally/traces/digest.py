"""The digest of a trace: SHA-256 over a canonical form, the same for the same run in every file format."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Collection, Iterator, Mapping
from typing import Any, Protocol

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.traces.columns import Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header, header_fields

__all__ = ["Piece", "Pieces", "checksum_of", "digest_of", "rows_digest", "sums_of"]


class Piece(Protocol):
    """Some rows in a row: columns, inputs, and events counted from the first of them."""

    @property
    def columns(self) -> Mapping[str, Column]: ...
    @property
    def inputs(self) -> Mapping[str, npt.NDArray[np.float64]]: ...
    @property
    def events(self) -> EventLog: ...
    @property
    def rows(self) -> int: ...


class Pieces(Protocol):
    """A trace as it is read from its first row to its last: the header, and the rows in pieces."""

    @property
    def header(self) -> Header: ...
    def pieces(self, names: Collection[str] | None = None) -> Iterator[Piece]:
        """All rows in order, with the columns named ("wick.y", "input:hop", "events"); all of them, by default."""


def sums_of(source: Pieces) -> tuple[str, int]:
    """The digest and the checksum, in one go over the rows: for what is read from a disk to be summed."""
    digest, checksum = _digest_begun(source), _checksum_begun(source)
    for part in _content(source):
        digest.update(part)
        checksum = zlib.crc32(part, checksum)
    return digest.hexdigest(), checksum


def digest_of(source: Pieces) -> str:
    """64 hex digits over, in this order: the header as JSON with sorted keys, without `made_with` and `outlines`;
    each channel's column; each input's; the events, one JSON array [row, name, source, data text] a line. Arrays are
    little-endian (float64, int64, one byte a flag, int32 label codes) and NaN is one pattern."""
    total = _digest_begun(source)
    for part in _content(source):
        total.update(part)
    return total.hexdigest()


def rows_digest(source: Pieces) -> str:
    """The same over columns, inputs and events alone: two runs with the same rows have the same, whatever they were made
    from."""
    total = hashlib.sha256()
    for part in _content(source):
        total.update(part)
    return total.hexdigest()


def checksum_of(source: Pieces) -> int:
    """CRC-32 over the same content with the whole header: what a file is checked by when it is read, which costs a
    tenth of the digest."""
    total = _checksum_begun(source)
    for part in _content(source):
        total = zlib.crc32(part, total)
    return total


def _digest_begun(source: Pieces) -> hashlib._Hash:
    total = hashlib.sha256(b"larktally trace 1\n")
    header = header_fields(source.header)
    # What the run was, not what wrote it down: another Python or another wording of a guard is the same run.
    del header["made_with"], header["outlines"]
    header.pop("measures", None)
    total.update(msgspec.json.encode(header, order="sorted"))
    return total


def _checksum_begun(source: Pieces) -> int:
    return zlib.crc32(msgspec.json.encode(header_fields(source.header), order="sorted"))


def _content(source: Pieces) -> Iterator[Any]:
    """The bytes of the columns, inputs and events, in canonical order."""
    for channel in source.header.channels:
        for piece in source.pieces((channel.name,)):
            stored = piece.columns[channel.name].stored
            # A view where the array is little-endian already, as nearly everywhere.
            yield np.ascontiguousarray(stored, dtype=stored.dtype.newbyteorder("<")).data
    for name in source.header.inputs:
        for piece in source.pieces((f"input:{name}",)):
            yield np.ascontiguousarray(piece.inputs[name], dtype="<f8").data
    first = 0
    for piece in source.pieces(("events",)):
        if not first:
            events = piece.events
        else:
            events = piece.events.shifted(first)
        yield msgspec.json.Encoder().encode_lines(list(events.fields()))
        first += piece.rows
