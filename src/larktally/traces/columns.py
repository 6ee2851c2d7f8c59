"""Channels and their columns: four kinds of value, each in one compact array, and how rows become columns.

number is float64, count int64, flag bool, and label int32 codes into a closed tuple of strings.
"""

from __future__ import annotations

import marshal
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal, TypeAlias, cast

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError, TraceError
from larktally.names import did_you_mean, name_fault

__all__ = [
    "ArrayColumn",
    "Kind",
    "Channel",
    "Column",
    "ChunkReader",
    "RowError",
    "check_size",
    "check_events",
    "check_input",
    "column_of",
    "kind_of",
    "check_channel_name",
    "half_letter",
]

Kind: TypeAlias = Literal["number", "count", "flag", "label"]
Array: TypeAlias = npt.NDArray[np.generic]

_DTYPES: dict[str, type[np.generic]] = {"number": np.float64, "count": np.int64, "flag": np.bool_, "label": np.int32}
# Some 8 GB: more than any run holds, and small enough to refuse before it is unfolded.
MOST_CELLS = 1_000_000_000
MOST_EVENTS = 20_000_000
# Columns of their own in Parquet and CSV, where a channel of that name would be lost.
_RESERVED = ("events", "frame")
_LAYOUTS = {
    "number": np.dtype([("type", "u1"), ("value", "<f8")]),
    "count": np.dtype([("type", "u1"), ("value", "<i4")]),
    "flag": np.dtype([("type", "u1")]),
}
# The type bytes of marshal, version 2: 'g' a binary float, 'i' a 32-bit int, 'T' and 'F' for the two flags. An int that
# needs more has another byte, another length, and takes the slow way.
_TAGS = {"number": ord("g"), "count": ord("i")}
_TYPES: dict[str, frozenset[type]] = {
    "number": frozenset({float, int, np.float64, np.float32}),
    "count": frozenset({int, np.int64, np.int32}),
    "flag": frozenset({bool, np.bool_}),
    "label": frozenset({str}),
}


class Channel(msgspec.Struct, frozen=True):
    """A named value per row: its kind, for a label the strings it can be, and for an angle what a whole turn is (360)."""

    name: str
    kind: Kind
    labels: tuple[str, ...] = ()
    wraps: float | None = None

    @property
    def dtype(self) -> type[np.generic]:
        """The NumPy type of its column."""
        return _DTYPES[self.kind]


class Column(msgspec.Struct, frozen=True):
    """A channel with its values: an array of R rows, int32 codes where it is a label."""

    channel: Channel
    stored: Array

    @property
    def values(self) -> Array:
        """The values as users read them: float64, int64, bool, or strings."""
        if self.channel.kind != "label":
            return self.stored
        texts = np.array(self.channel.labels or ("",), dtype=object)
        return np.asarray(texts[cast("npt.NDArray[np.int32]", self.stored)])

    def at(self, row: int) -> float | int | bool | str:
        """The plain Python value in one row."""
        value = self.stored[row].item()
        return self.channel.labels[value] if self.channel.kind == "label" else value  # type: ignore[no-any-return]


def kind_of(value: object) -> Kind | None:
    """The kind that a first observation makes a channel, or None for what cannot be recorded."""
    for kind in ("flag", "count", "number", "label"):
        if type(value) in _TYPES[kind]:
            return kind
    return None


def column_of(name: str, values: Array, labels: Sequence[str] | None = None) -> Column:
    """A column of a plain array: its type gives the kind. Raises LarkTallyError for what is none of the four kinds."""
    check_channel_name(name)
    values = np.asarray(values)
    if values.dtype.kind in "OUT":
        texts = [str(value) for value in values.tolist()]
        for text in dict.fromkeys(texts):
            if half_letter(text):
                raise LarkTallyError(f"column {name!r} holds {text!a}, which is not valid Unicode")
        known = tuple(dict.fromkeys([*(labels or ()), *texts]))
        codes = {label: code for code, label in enumerate(known)}
        return Column(Channel(name, "label", known), np.array([codes[text] for text in texts], dtype=np.int32))
    kind: Kind | None = {"b": "flag", "i": "count", "u": "count", "f": "number"}.get(values.dtype.kind)  # type: ignore[assignment]
    if kind is None or (values.dtype.kind == "u" and bool((values.astype(np.uint64) > 2**63 - 1).any())):
        raise LarkTallyError(
            f"column {name!r} is {values.dtype}; a channel is numbers, whole numbers, true and false, or text"
        )
    stored = np.array(values, dtype=_DTYPES[kind])
    return Column(Channel(name, kind), np.where(np.isnan(stored), np.nan, stored) if kind == "number" else stored)


def check_size(place: object, rows: int, columns: int) -> None:
    """Raises TraceError for a file that would take more memory than any run does: a small file can unfold to a large one."""
    if rows * max(columns, 1) > MOST_CELLS:
        raise TraceError(
            f"{place}: {rows} rows of {columns} columns are more than the {MOST_CELLS} values that are read at once"
        )


def check_events(place: object, count: float) -> None:
    """Raises TraceError for more events than any run says: a small file can hold a billion that are all the same."""
    if count > MOST_EVENTS:
        raise TraceError(f"{place}: {count:.0f} events are more than the {MOST_EVENTS} that are read at once")


def check_input(name: str, values: Array) -> None:
    """Raises LarkTallyError for an input that leaves [-1, 1], or is NaN somewhere, with the row."""
    if values.dtype == np.bool_ or not len(values):
        return
    numbers = values.astype(np.float64, copy=False)
    # Of a NaN neither holds.
    if not (numbers.min() >= -1 and numbers.max() <= 1):
        row = int((~(np.abs(numbers) <= 1)).argmax())
        raise LarkTallyError(f"input {name!r} is {values[row].item()!r} in row {row}; an input is in [-1, 1]")


def half_letter(text: str) -> bool:
    """Whether a text holds a lone surrogate: Python can, and neither JSON nor Parquet."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return True
    return False


def check_channel_name(name: object) -> str:
    """The name, where a channel may have it; raises LarkTallyError otherwise."""
    fault = name_fault(name)
    if fault or not isinstance(name, str):
        raise LarkTallyError(f"a channel cannot be called {name!a}: the name {fault}")
    if name in _RESERVED or name.startswith(("input:", "event:", "seen:")):
        raise LarkTallyError(f"a channel cannot be called {name!r}: trace files keep that name for themselves")
    return name


class ArrayColumn(Sequence[Any]):
    """A column that came as an array, of a label as codes of its channel's labels; read like any sequence of plain values."""

    __slots__ = ("_values", "array", "channel")

    def __init__(self, channel: Channel, array: Array) -> None:
        self.channel, self.array = channel, array
        self._values: list[Any] | None = None

    @property
    def values(self) -> list[Any]:
        """The plain values, made once: who takes the array as it is does without them."""
        if self._values is None:
            self._values = self.array.tolist()
            if self.channel.kind == "label":
                self._values = [self.channel.labels[code] for code in self._values]
        return self._values

    def __len__(self) -> int:
        return len(self.array)

    def __getitem__(self, place: Any) -> Any:
        if isinstance(place, slice):
            return ArrayColumn(self.channel, self.array[place])
        # One of them, such as the last, is no reason to make all.
        value = self.array[place].item()
        if self.channel.kind == "label":
            return self.channel.labels[value]
        return value

    def __iter__(self) -> Iterator[Any]:
        return iter(self.values)


class ChunkReader:
    """Turns chunks of rows into arrays, and finds the row that does not fit."""

    def __init__(
        self, channels: Sequence[Channel], closed: Iterable[str] = (), nan_ok: bool | Iterable[str] = False
    ) -> None:
        self.channels = list(channels)
        if nan_ok is True:
            self._nan_ok = frozenset(channel.name for channel in channels)
        else:
            self._nan_ok = frozenset(nan_ok or ())
        self._closed = frozenset(closed)
        self._codes = {c.name: {label: code for code, label in enumerate(c.labels)} for c in channels}

    def arrays(self, columns: Iterable[Sequence[object]], first_row: int) -> list[Array]:
        """One array a channel for a chunk of rows, given column by column; raises RowError for what does not fit."""
        pairs = zip(self.channels, columns, strict=True)
        return [self._array(channel, column, first_row) for channel, column in pairs]

    def finished(self) -> list[Channel]:
        """The channels with every label that occurred, in the order of declaration and then of first sight."""
        found: list[Channel] = []
        for channel in self.channels:
            if channel.kind == "label":
                channel = msgspec.structs.replace(channel, labels=tuple(self._codes[channel.name]))
            found.append(channel)
        return found

    def _array(self, channel: Channel, column: Sequence[object], first_row: int) -> Array:
        if isinstance(column, ArrayColumn):
            # Of its kind already, and a label within its list: whoever made it has looked.
            if channel.kind == "number":
                return self._without_nan(channel, column.array, first_row)
            return column.array
        if channel.kind == "label":
            return self._labels(channel, cast("Sequence[str]", column), first_row)
        quick = _read_alike(channel.kind, column)
        if quick is None:
            quick = self._checked(channel, column, first_row)
        if channel.kind == "number":
            return self._without_nan(channel, quick, first_row)
        return quick

    def _checked(self, channel: Channel, column: Sequence[object], first_row: int) -> Array:
        """The plain way, for whole numbers among others (`vx = 120 * way`): every value's type is looked at."""
        if not set(map(type, column)) <= _TYPES[channel.kind]:
            self._find_wrong_kind(channel, column, first_row)
        whole = [value for value in column if isinstance(value, int)]
        if whole and not -(2**63) <= min(whole) <= max(whole) < 2**63:
            for offset, value in enumerate(column):
                if isinstance(value, int) and not -(2**63) <= value < 2**63:
                    raise RowError(channel.name, first_row + offset, f"is {value}, outside 64 bits")
        return np.array(column, dtype=channel.dtype)

    def _without_nan(self, channel: Channel, numbers: Array, first_row: int) -> Array:
        unknown = np.isnan(numbers)
        if not unknown.any():
            return numbers
        if channel.name not in self._nan_ok:
            row = first_row + int(unknown.argmax())
            raise RowError(channel.name, row, "is NaN; where that is meant, say allow_nan=True in the scenario")
        return np.where(unknown, np.nan, numbers)

    def _labels(self, channel: Channel, column: Sequence[str], first_row: int) -> Array:
        codes = self._codes[channel.name]
        try:
            return np.fromiter(map(codes.__getitem__, column), np.int32, len(column))
        except (KeyError, TypeError):
            pass
        if not set(map(type, column)) <= _TYPES["label"]:
            self._find_wrong_kind(channel, column, first_row)
        for label in dict.fromkeys(column):
            if label not in codes:
                self._check_label(channel, label, codes, first_row + column.index(label))
                codes[label] = len(codes)
        return np.fromiter(map(codes.__getitem__, column), np.int32, len(column))

    def _check_label(self, channel: Channel, label: str, codes: Mapping[str, int], row: int) -> None:
        if channel.name in self._closed:
            near = did_you_mean(label, codes)
            raise RowError(channel.name, row, f"is {label!r}, not one of its labels {list(codes)}{near}")
        if half_letter(label):
            raise RowError(channel.name, row, f"is {label!a}, which is not valid Unicode")

    def _find_wrong_kind(self, channel: Channel, column: Iterable[object], first_row: int) -> None:
        for offset, value in enumerate(column):
            if type(value) not in _TYPES[channel.kind]:
                raise RowError(
                    channel.name,
                    first_row + offset,
                    f"is {value!r} ({type(value).__name__}), but the channel was a {channel.kind} in row 0"
                    + (
                        "; start it as a float (0.0) where it can have fractions"
                        if channel.kind == "count" and isinstance(value, float)
                        else ""
                    ),
                )


def _read_alike(kind: Kind, column: Sequence[object]) -> Array | None:
    """The array of a column whose values are all exactly of one built-in type; None where they are not.

    marshal writes each value behind one byte for its type, in one pass in C (version 2: no references). Where every
    such byte is the expected one, the values are read off where they stand; checking each type in Python costs five
    times as much.
    """
    layout = _LAYOUTS[kind]
    # 5 bytes of head: the type of the whole and its length; then the values, each behind its type byte.
    written = marshal.dumps(column, 2)  # type: ignore[arg-type]
    if len(written) != 5 + len(column) * layout.itemsize:
        return None
    values = np.frombuffer(written, dtype=layout, offset=5)
    if kind == "flag":
        flags: Array = values["type"] == ord("T")
        if bool((flags | (values["type"] == ord("F"))).all()):
            return flags
        return None
    if not bool((values["type"] == _TAGS[kind]).all()):
        return None
    return values["value"].astype(_DTYPES[kind])


class RowError(LarkTallyError):
    """A row that cannot be recorded: which channel, in which row, and why."""

    def __init__(self, channel: str, row: int, why: str) -> None:
        super().__init__(f"row {row}: channel {channel!r} {why}" if channel else f"row {row}: {why}")
        self.row = row
