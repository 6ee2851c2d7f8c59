"""Columns on their way to the page: each as its steps from row to row, whole numbers in as few bytes as they need, the bytes of
a kind together, and all of it compressed. Every value comes back bit by bit (`web/src/unpack.js`)."""

from __future__ import annotations

import struct
import zlib
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

__all__ = ["Packing"]

# Of a run that was just made, speed counts; of a file that is kept, its size does.
QUICK, SMALL = 1, 9


class Packing:
    """Takes columns, each described by a small table that says where its bytes stand; `packed` is all of it."""

    def __init__(self) -> None:
        self._chunks: list[bytes] = []
        self._length = 0

    def column(self, values: npt.NDArray[Any]) -> dict[str, Any]:
        """Adds a column of numbers, whole numbers or flags, and describes it: the code, and where its bytes stand.

        >>> Packing().column(np.array([3, 3, 4]))
        {'code': 'steps', 'width': 1, 'from': 0, 'rows': 3}
        """
        rows = len(values)
        whole = _whole(values)
        if rows == 0:
            return {"code": "same", "value": 0, "rows": 0}
        if whole is not None and (whole == whole[0]).all():
            return {"code": "same", "value": int(whole[0]), "rows": rows}
        if whole is not None:
            steps = np.diff(whole, prepend=0)
            # Small steps either way are small numbers: 0, -1, 1, -2 are 0, 1, 2, 3.
            folded = ((steps << 1) ^ (steps >> 63)).view(np.uint64)
            width = max((int(folded.max()).bit_length() + 7) // 8, 1)
            return {"code": "steps", "width": width, "from": self._add(folded, width), "rows": rows}
        bits = np.ascontiguousarray(values, dtype=np.float64).view(np.uint64)
        steps_of_bits = np.diff(bits, prepend=np.uint64(0))
        return {"code": "bits", "from": self._add(steps_of_bits, 8), "rows": rows}

    def packed(self, described: Any, level: int = QUICK) -> bytes:
        """The description and all columns: zlib over a length (4 bytes, little-endian), JSON, and the columns' bytes."""
        text = msgspec.json.encode(described)
        return zlib.compress(b"".join([struct.pack("<I", len(text)), text, *self._chunks]), level)

    def _add(self, words: npt.NDArray[np.uint64], width: int) -> int:
        """Adds the lowest bytes of each word, byte by byte: those that seldom change stand together, and vanish."""
        planes = words.astype("<u8").view(np.uint8).reshape(-1, 8)[:, :width].T
        chunk = planes.tobytes()
        start, self._length = self._length, self._length + len(chunk)
        self._chunks.append(chunk)
        return start


def _whole(values: npt.NDArray[Any]) -> npt.NDArray[np.int64] | None:
    """The same values as whole numbers; None where that would not be the same, down to the sign of 0."""
    if values.dtype.kind in "biu":
        return values.astype(np.int64)
    with np.errstate(invalid="ignore"):
        found = values.astype(np.int64)
    same = found.astype(np.float64).view(np.uint64) == np.ascontiguousarray(values, dtype=np.float64).view(np.uint64)
    # Steps of numbers beyond this could be too large for 64 bits.
    if same.all() and (np.abs(found) < 2**53).all():
        return found
    return None
