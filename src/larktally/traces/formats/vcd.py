"""Traces as VCD, the value change dump of IEEE 1364-2005 (section 18), for waveform viewers.

Numbers are `real`, counts 64-bit two's complement vectors, flags, on/off inputs and events 1-bit wires, and labels
vectors of 8-bit characters, which a viewer shows as ASCII: the standard has no strings. Time stands in microseconds
where a rate is known, else in frames.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt

from larktally.traces.columns import Channel
from larktally.traces.contents import Savable, TraceContents, event_names, small_pieces
from larktally.traces.header import frames_of_rows

__all__ = ["write"]

_DIGITS = "".join(chr(code) for code in range(33, 127))


def write(source: Savable, file: BinaryIO) -> None:
    """Writes a whole trace to an open file; a dotted name becomes a scope inside a scope."""
    header = source.header
    signals = []
    for c in header.channels:
        signals.append((c.name, _variable(c)))
    for n in header.inputs:
        signals.append((f"input.{n}", "real 64" if n in header.analog else "wire 1"))
    events = event_names(source)
    for n in events:
        signals.append((f"event.{n}", "wire 1"))
    codes = {name: _code(number) for number, (name, _) in enumerate(signals)}
    unit = "1 s"
    if header.rate is not None:
        unit = "1 us"
    file.write(f"$version Lark Tally $end\n$timescale {unit} $end\n".encode())
    file.write("\n".join(_declared(signals, codes)).encode() + b"\n$enddefinitions $end\n")
    if header.rate is not None:
        ticks = Fraction(1_000_000) / header.rate
    else:
        ticks = Fraction(1)
    first = 0
    frames = frames_of_rows(header, source.rows)
    before: dict[str, npt.NDArray[Any]] = {}
    for piece in small_pieces(source):
        lines: list[list[str]] = [[] for _ in range(piece.rows)]
        for name, values, write in _columns(piece, events):
            for row in _changed(values, before.get(name)):
                lines[row].append(write(values[row]) + codes[name])
            if piece.rows:
                before[name] = values[-1:]
        for row, changes in enumerate(lines):
            if changes or first + row == 0:
                time = round(int(frames[first + row]) * ticks)
                file.write(f"#{time}\n".encode() + "".join(change + "\n" for change in changes).encode())
        first += piece.rows
    # The last row is seen for as long as any other.
    end = 0
    if len(frames):
        end = int(frames[-1]) + header.every
    file.write(f"#{round(end * ticks)}\n".encode())


def _columns(
    piece: TraceContents, events: Sequence[str]
) -> Iterator[tuple[str, npt.NDArray[Any], Callable[[Any], str]]]:
    writers: dict[str, Callable[[Any], str]] = {"number": _real, "count": _vector, "flag": _bit, "label": _characters}
    for name, column in piece.columns.items():
        yield name, column.values, writers[column.channel.kind]
    for name, values in piece.inputs.items():
        if name in piece.header.analog:
            yield f"input.{name}", values, _real
        else:
            yield f"input.{name}", values != 0, _bit
    for name in events:
        yield f"event.{name}", piece.events.counts(name, None, piece.rows) > 0, _bit


def _changed(values: npt.NDArray[Any], before: npt.NDArray[Any] | None) -> list[int]:
    if not len(values):
        return []
    bits = values
    if values.dtype == np.float64:
        bits = values.view(np.int64)
    rows: list[int] = (np.flatnonzero(bits[1:] != bits[:-1]) + 1).tolist()
    if before is None or values[:1].tolist() != before.tolist():
        rows.insert(0, 0)
    return rows


def _real(value: float) -> str:
    return f"r{float(value)!r} "


def _vector(value: int) -> str:
    return f"b{int(value) & (2**64 - 1):b} "


def _bit(value: bool) -> str:
    if value:
        return "1"
    return "0"


def _characters(value: str) -> str:
    return f"b{int.from_bytes(value.encode('ascii', 'replace'), 'big'):b} "


def _variable(channel: Channel) -> str:
    """The type and width that a channel is declared with."""
    if channel.kind == "label":
        return f"reg {8 * max([1, *map(len, channel.labels)])}"
    return {"number": "real 64", "count": "integer 64", "flag": "wire 1"}[channel.kind]


def _code(number: int) -> str:
    """A short identifier of printable characters, one for each number."""
    digits = ""
    while True:
        number, digit = divmod(number, len(_DIGITS))
        digits += _DIGITS[digit]
        if not number:
            return digits
        number -= 1


def _declared(signals: list[tuple[str, str]], codes: dict[str, str]) -> Iterator[str]:
    """Scopes and variables: names that share their first words stand in one scope."""
    here: list[str] = []
    order = sorted(range(len(signals)), key=lambda n: (signals[n][0].split(".")[:-1], n))
    for number in order:
        name, kind = signals[number]
        # A word that begins with a dollar sign is a keyword.
        *scope, last = (re.sub(r"[^!-~]|^\$", "_", word) or "_" for word in name.split("."))
        scope = ["trace", *scope]
        shared = 0
        while shared < min(len(here), len(scope)) and here[shared] == scope[shared]:
            shared += 1
        yield from ("$upscope $end" for _ in here[shared:])
        yield from (f"$scope module {word} $end" for word in scope[shared:])
        here = scope
        yield f"$var {kind} {codes[name]} {last} $end"
    yield from ("$upscope $end" for _ in here)
