"""Channels and events as Arrow arrays, and what an Arrow stream must be before any of it is unfolded."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from larktally.traces.columns import Channel, check_events
from larktally.traces.events import EventLog, canonical_text, check_event_name
from larktally.traces.header import Header

__all__ = [
    "METADATA_KEY",
    "EVENTS",
    "LABELS",
    "NUMERIC",
    "column_to_arrow",
    "column_from_arrow",
    "events_to_arrow",
    "events_from_arrow",
    "is_compressed",
    "recording_schema",
]

METADATA_KEY = b"larktally"
NUMERIC = {"number": pa.float64(), "count": pa.int64(), "flag": pa.bool_()}
LABELS = pa.dictionary(pa.int32(), pa.string())
_EVENT = pa.struct([("name", pa.string()), ("source", pa.string()), ("data", pa.string())])
EVENTS = pa.list_(_EVENT)
# From so many on it is faster to find the different ones first.
MANY_TEXTS = 4096
_LONGEST = 2**31 - 1
# The names of types that NumPy has under another name.
_FLOATS = {"halffloat": "float16", "float": "float32", "double": "float64"}


def recording_schema(header: Header, inputs: Sequence[str]) -> Any:
    """The columns of a recording that goes on: channels, inputs as numbers, and events."""
    fields = []
    for channel in header.channels:
        fields.append((channel.name, NUMERIC.get(channel.kind, LABELS)))
    for name in inputs:
        fields.append((f"input:{name}", pa.float64()))
    return pa.schema([*fields, ("events", EVENTS)])


def column_to_arrow(channel: Channel, stored: npt.NDArray[Any]) -> Any:
    """The stored values of a channel, labels with the dictionary they have by now."""
    if channel.kind == "label":
        return pa.DictionaryArray.from_arrays(to_arrow(stored), strings_to_arrow(channel.labels))
    return to_arrow(stored)


def to_arrow(values: npt.NDArray[Any]) -> Any:
    """An array of numbers or flags as an Arrow array, without a copy of numbers.

    From its buffer: pyarrow's own way first asks whether the values are a pandas Series, which loads pandas wherever it is
    installed, and that takes as long as a short run.
    """
    values = np.ascontiguousarray(values)
    if values.dtype == np.bool_:
        packed = np.packbits(values, bitorder="little")
        return pa.Array.from_buffers(pa.bool_(), len(values), [None, pa.py_buffer(packed)])
    return pa.Array.from_buffers(pa.from_numpy_dtype(values.dtype), len(values), [None, pa.py_buffer(values)])


def strings_to_arrow(texts: Sequence[str]) -> Any:
    """Texts as an Arrow array of strings, by its buffers too."""
    encoded = [text.encode() for text in texts]
    ends = np.cumsum([0, *map(len, encoded)], dtype=np.int64)
    # An offset is 32 bits wide in this type: what is longer goes the library's own way, which says so.
    if ends[-1] > _LONGEST:
        return pa.array(texts, pa.string())
    offsets = ends.astype(np.int32)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(b"".join(encoded))]
    return pa.Array.from_buffers(pa.string(), len(encoded), buffers)


def numbers_of(array: Any) -> npt.NDArray[Any]:
    """The values of an Arrow array of numbers or flags without nulls: a view of its buffer, or a copy of flags."""
    dtype, end = _dtype_of(array.type), array.offset + len(array)
    if not len(array):
        return np.zeros(0, dtype=dtype)
    buffer = array.buffers()[1]
    if dtype != np.bool_:
        return np.frombuffer(buffer, dtype=dtype, count=end)[array.offset :]
    bits = np.unpackbits(np.frombuffer(buffer, dtype=np.uint8), bitorder="little")
    # A buffer of a broken file may hold less than the file says.
    if len(bits) < end:
        raise ValueError(f"a column of {end} flags has {len(bits)} bits")
    return bits[array.offset : end].view(np.bool_)


def _dtype_of(kind: Any) -> np.dtype[Any]:
    """The NumPy type of an Arrow type of numbers or flags; by its name, since pyarrow's own answer may load pandas."""
    if not (pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_boolean(kind)):
        raise ValueError(f"a column of numbers or flags is {kind}")
    return np.dtype(_FLOATS.get(str(kind), str(kind)))


def column_from_arrow(channel: Channel, chunked: Any) -> npt.NDArray[Any]:
    """The stored values of a column; raises ValueError where it is not of the channel's kind."""
    if channel.kind != "label":
        if chunked.type != NUMERIC[channel.kind] or chunked.null_count:
            raise ValueError(f"column {channel.name!r} is {chunked.type}, not a {channel.kind}")
        return np.ascontiguousarray(chunked_numbers(chunked))
    # Dictionaries of several chunks number their labels each in their own way; combining makes one of them.
    if chunked.num_chunks != 1:
        array = chunked.combine_chunks()
    else:
        array = chunked.chunk(0)
    if not pa.types.is_dictionary(array.type):
        array = array.dictionary_encode()
    if array.null_count:
        raise ValueError(f"column {channel.name!r} has rows without a label")
    # A file's dictionary has its labels in its own order, the header's channel in the order of declaration.
    code_of = {}
    for code, label in enumerate(channel.labels):
        code_of[label] = code
    codes = np.array([code_of[label] for label in array.dictionary.to_pylist()] or [0], dtype=np.int32)
    return np.asarray(codes[numbers_of(array.indices)])


def chunked_numbers(chunked: Any) -> npt.NDArray[Any]:
    """The values of a chunked column of numbers or flags without nulls."""
    chunks = [numbers_of(chunk) for chunk in chunked.chunks]
    if len(chunks) == 1:
        return chunks[0]
    return np.concatenate([*chunks, np.zeros(0, dtype=_dtype_of(chunked.type))])


def events_to_arrow(events: EventLog, rows: int) -> Any:
    """The events as one list-of-struct column, a list for each of so many rows."""
    per_row = np.bincount(np.array(events.rows, dtype=np.int64), minlength=rows)
    offsets = np.concatenate([[0], np.cumsum(per_row)]).astype(np.int32)
    texts = []
    for field in (events.names, events.sources, events.data):
        texts.append(strings_to_arrow(field))
    emitted = pa.StructArray.from_arrays(texts, fields=list(_EVENT))
    return pa.ListArray.from_arrays(to_arrow(offsets), emitted)


def events_from_arrow(chunked: Any, place: object, trusted: bool = False) -> EventLog:
    """The events of a list-of-struct column, their rows counted from its first; `trusted` ones are in the one form already.

    Raises ValueError for another column, and TraceError, with the place, for more events than are read at once.
    """
    if chunked.num_chunks != 1:
        array = chunked.combine_chunks()
    else:
        array = chunked.chunk(0)
    if not _lists_events(array.type) or array.null_count:
        raise ValueError("the events column is not a list of events, each of the texts name, source and data")
    offsets = numbers_of(array.offsets)
    # Not `flatten`, which loads all of Arrow's computing for it: a tenth of the start of a command.
    emitted = array.values.slice(int(offsets[0]), int(offsets[-1] - offsets[0]))
    check_events(place, len(emitted))
    lengths = np.diff(offsets)
    with_some = np.flatnonzero(lengths)
    rows = np.repeat(with_some, lengths[with_some]).tolist()
    names, sources = _texts(emitted.field("name")), _texts(emitted.field("source"))
    if trusted:
        return EventLog(rows, names, sources, _texts(emitted.field("data")))
    data = _texts(emitted.field("data"), canonical_text)
    for name, source in dict.fromkeys(zip(names, sources, strict=True)):
        check_event_name(name, source)
    return EventLog(rows, names, sources, data)


def _lists_events(kind: Any) -> bool:
    """Whether a column's type is a list of structs with the three texts of an event."""
    if not pa.types.is_list(kind) or not pa.types.is_struct(kind.value_type):
        return False
    event = kind.value_type
    return all(event.get_all_field_indices(name) for name in ("name", "source", "data"))


def _texts(array: Any, in_form: Callable[[str], str] | None = None) -> list[str]:
    """The texts of an array, one object for all that are the same; "" where there is none. `in_form` gives each its one form."""
    if pa.types.is_string(array.type) and len(array) < MANY_TEXTS:
        return _few_texts(array.to_pylist(), in_form)
    if not pa.types.is_dictionary(array.type):
        array = array.cast(pa.string()).dictionary_encode()
    known = []
    for text in array.dictionary.to_pylist():
        if text and in_form is not None:
            text = in_form(text)
        known.append(text or "")
    # The last place stands for what is null.
    known.append("")
    indices = numbers_of(array.indices)
    if array.indices.null_count:
        indices = np.where(numbers_of(array.indices.is_valid()), indices, len(known) - 1)
    found: list[str] = []
    for index in indices.tolist():
        found.append(known[index])
    return found


def _few_texts(texts: Iterable[str | None], in_form: Callable[[str], str] | None) -> list[str]:
    """The same, one by one: encoding a dictionary of them loads all of Arrow's computing, a tenth of the start of a command."""
    known: dict[str | None, str] = {None: "", "": ""}
    found: list[str] = []
    for text in texts:
        one = known.get(text)
        if one is None:
            one = known[text] = in_form(str(text)) if in_form is not None else str(text)
        found.append(one)
    return found


def is_compressed(metadata: bytes) -> bool:
    """Whether a message of an Arrow IPC stream says that its buffers unfold to more than it carries.

    Reads the message's flatbuffer (Arrow columnar format, Message.fbs): Message.header is its third field,
    RecordBatch.compression the fourth; a DictionaryBatch holds its RecordBatch as the second.
    """
    message = struct.unpack_from("<I", metadata)[0]
    kind = _field(metadata, message, 1)
    if not kind or metadata[kind] not in (_DICTIONARY_BATCH, _RECORD_BATCH):
        return False
    batch = _inner(metadata, message, 2)
    if metadata[kind] == _DICTIONARY_BATCH:
        batch = _inner(metadata, batch, 1)
    return _field(metadata, batch, 3) != 0


_DICTIONARY_BATCH, _RECORD_BATCH = 2, 3


def _field(metadata: bytes, table: int, number: int) -> int:
    """Where a field of a flatbuffer table stands; 0 where the table does not have it."""
    # A table begins with the way back to its list of slots; a slot holds the way from the table to its field, 0 for none.
    slots = table - struct.unpack_from("<i", metadata, table)[0]
    size = struct.unpack_from("<H", metadata, slots)[0]
    slot = 4 + 2 * number
    offset = 0
    if slot < size:
        offset = struct.unpack_from("<H", metadata, slots + slot)[0]
    if offset:
        return table + offset
    return 0


def _inner(metadata: bytes, table: int, number: int) -> int:
    """Where the table stands that a field points to."""
    at = _field(metadata, table, number)
    return at + int(struct.unpack_from("<I", metadata, at)[0])
