"""How many values each column of a Parquet file says it has, read off its footer by hand.

Arrow's own way to these numbers ends the interpreter where a footer is broken in certain places (its metadata of a column
raises in C++ where nothing catches it). Here every length is checked against the bytes that are there.

The footer is a struct of the Thrift compact protocol (Apache Thrift, thrift-compact-protocol.md), FileMetaData of
parquet.thrift: field 4 are the row groups, whose field 1 are the column chunks, whose field 3 holds the path (3) and the number
of values (5).
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any, TypeAlias

__all__ = ["values_by_column"]

_TRUE, _FALSE, _BYTE, _DOUBLE, _BINARY, _LIST, _SET, _STRUCT = 1, 2, 3, 7, 8, 9, 10, 12
_INTEGERS = (4, 5, 6)
# The structs of a real footer are five deep.
_DEEPEST = 16

_ROW_GROUPS, _CHUNKS, _META_DATA, _PATH, _NUM_VALUES = 4, 1, 3, 3, 5
# The fields that are read, by their numbers; what lies in all others is stepped over.
_Wanted: TypeAlias = "dict[int, _Wanted]"
_WANTED: _Wanted = {_ROW_GROUPS: {_CHUNKS: {_META_DATA: {_PATH: {}, _NUM_VALUES: {}}}}}


def values_by_column(path: Path) -> dict[str, int]:
    """For each dotted path of a column the values that the file's footer says it has; raises ValueError for a broken footer."""
    with path.open("rb") as file:
        size = file.seek(0, 2)
        file.seek(max(size - 8, 0))
        length, mark = struct.unpack("<I4s", file.read(8).rjust(8, b"\0"))
        if mark != b"PAR1" or length > size - 12:
            raise ValueError("it does not end as Parquet does")
        file.seek(size - 8 - length)
        footer, _ = _Footer(file.read(length)).struct(0, _WANTED, 0)
    found: dict[str, int] = {}
    try:
        for group in footer[_ROW_GROUPS]:
            for chunk in group[_CHUNKS]:
                about = chunk[_META_DATA]
                name = b".".join(about[_PATH]).decode("utf-8", "replace")
                found[name] = found.get(name, 0) + about[_NUM_VALUES]
    except (KeyError, TypeError):
        raise ValueError("the footer is broken: it does not tell of each column") from None
    return found


class _Footer:
    """The bytes of a footer. What reads a value gives it, or None for what nobody asked for, and where the next one begins."""

    def __init__(self, content: bytes) -> None:
        self._content = content

    def struct(self, at: int, wanted: _Wanted | None, depth: int) -> tuple[dict[int, Any], int]:
        """The wanted fields of a struct by their numbers."""
        if depth > _DEEPEST:
            raise ValueError("the footer is broken: its structs are nested too deeply")
        content, number = self._content, 0
        fields: dict[int, Any] = {}
        while True:
            self._within(at, 1)
            head = content[at]
            at += 1
            kind = head & 15
            if not kind:
                return fields, at
            # The number of a field is told by how far it is from the one before, or whole where that is far.
            if head >> 4:
                number += head >> 4
            else:
                coded, at = self._number(at)
                number = _unfolded(coded)
            inner = None
            if wanted is not None:
                inner = wanted.get(number)
            # Of a flag the value stands in its head.
            if kind not in (_TRUE, _FALSE):
                value, at = self._value(kind, at, inner, depth)
                if inner is not None:
                    fields[number] = value

    def _value(self, kind: int, at: int, wanted: _Wanted | None, depth: int) -> tuple[Any, int]:
        if kind in _INTEGERS:
            coded, at = self._number(at)
            return _unfolded(coded), at
        if kind == _BINARY:
            length, at = self._number(at)
            end = self._within(at, length)
            return self._content[at:end], end
        if kind == _STRUCT:
            return self.struct(at, wanted, depth + 1)
        if kind in (_LIST, _SET):
            return self._list(at, wanted, depth + 1)
        if kind in (_TRUE, _FALSE, _BYTE):
            return None, self._within(at, 1)
        if kind == _DOUBLE:
            return None, self._within(at, 8)
        raise ValueError("the footer is broken: it holds what no Parquet file does")

    def _list(self, at: int, wanted: _Wanted | None, depth: int) -> tuple[list[Any] | None, int]:
        self._within(at, 1)
        kind, count = self._content[at] & 15, self._content[at] >> 4
        at += 1
        if count == 15:
            count, at = self._number(at)
        # Each takes a byte at least, so that no list says that it is longer than what is there.
        self._within(at, count)
        if wanted is None:
            for _ in range(count):
                _, at = self._value(kind, at, None, depth)
            return None, at
        found = []
        for _ in range(count):
            value, at = self._value(kind, at, wanted, depth)
            found.append(value)
        return found, at

    def _number(self, at: int) -> tuple[int, int]:
        """A number of seven bits a byte, the lowest first."""
        content, value, shift = self._content, 0, 0
        while at < len(content) and shift < 64:
            byte = content[at]
            at += 1
            value |= (byte & 127) << shift
            if byte < 128:
                return value, at
            shift += 7
        raise ValueError("the footer is broken: a number in it does not end")

    def _within(self, at: int, length: int) -> int:
        """Where so many bytes end; raises ValueError where they are not there."""
        end = at + length
        if end > len(self._content):
            raise ValueError("the footer is cut short")
        return end


def _unfolded(coded: int) -> int:
    """A signed number: 0, -1, 1, -2 … stand as 0, 1, 2, 3 …"""
    return (coded >> 1) ^ -(coded & 1)
