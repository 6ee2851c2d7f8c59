"""Traces as Parquet: a row per frame, readable by any Parquet reader.

Channels and `input:NAME` are columns, events one list-of-struct column, the header JSON under one metadata key.
Pages carry checksums, and one in the metadata covers the rest: a file is read whole and true, or refused.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.parquet as pq

from larktally.errors import TraceError
from larktally.traces.columns import Channel, Column, check_size
from larktally.traces.digest import checksum_of
from larktally.traces.events import EventLog
from larktally.traces.header import Header, header_json, read_header
from larktally.traces.states import read_states, states_json
from larktally.traces.trace import Pieces, Trace

__all__ = ["write_parquet", "read_parquet", "column_from_arrow", "events_to_arrow", "events_from_arrow", "METADATA_KEY"]

METADATA_KEY = b"larktally"
STATES_KEY = b"larktally.states"
GROUP_ROWS = 1 << 18
_EVENT = pa.struct([("name", pa.string()), ("source", pa.string()), ("data", pa.string())])
_TYPES = {"number": pa.float64(), "count": pa.int64(), "flag": pa.bool_()}


def write_parquet(source: Pieces, file: BinaryIO) -> None:
    """Writes a whole trace to an open file, piece by piece."""
    header, writer = source.header, None
    analog = _analog_inputs(source)
    waiting: list[pa.Table] = []
    metadata = {METADATA_KEY: header_json(header, digest=source.digest, check=checksum_of(source))}
    if source.states:
        metadata[STATES_KEY] = states_json(source.states)
    for piece in source.pieces():
        table = _table(piece, analog)
        if writer is None:
            writer = _writer(file, table, metadata, header)
        waiting.append(table)
        if sum(one.num_rows for one in waiting) >= GROUP_ROWS:
            writer.write_table(pa.concat_tables(waiting), row_group_size=GROUP_ROWS)
            waiting.clear()
    if writer is not None:
        if waiting:
            writer.write_table(pa.concat_tables(waiting), row_group_size=GROUP_ROWS)
        writer.close()


def _writer(file: BinaryIO, first: pa.Table, metadata: dict[bytes, bytes], header: Header) -> Any:
    labels = [channel.name for channel in header.channels if channel.kind == "label"]
    steady = [name for name in first.column_names if _is_steady(first[name])]
    return pq.ParquetWriter(
        file,
        first.schema.with_metadata(metadata),
        compression="zstd",
        write_page_checksum=True,
        use_dictionary=[*labels, *steady, "events.list.element.name"],
        write_statistics=False,
    )


def _analog_inputs(source: Pieces) -> frozenset[str]:
    """The inputs that are numbers: declared so, or anything but 0 and 1 somewhere."""
    found = set(source.header.analog)
    for piece in source.pieces(()):
        found |= {n for n, v in piece.inputs.items() if n not in found and not np.isin(v, (0.0, 1.0)).all()}
    return frozenset(found)


def _table(piece: Trace, analog: frozenset[str]) -> pa.Table:
    arrays: dict[str, Any] = {name: _to_arrow(column) for name, column in piece.columns.items()}
    for name, values in piece.inputs.items():
        arrays[f"input:{name}"] = pa.array(values if name in analog else values != 0)
    arrays["events"] = events_to_arrow(piece.events, piece.rows)
    return pa.table(arrays)


def read_parquet(path: Path) -> Trace:
    """Reads what write_parquet wrote; raises TraceError for a file that is broken or another kind of Parquet."""
    try:
        with pq.ParquetFile(path, page_checksum_verification=True, memory_map=False) as file:
            metadata = file.schema_arrow.metadata or {}
            if METADATA_KEY not in metadata:
                raise TraceError(f"{path}: Parquet, but not a trace: it has no {METADATA_KEY.decode()!r} metadata")
            header, raw = read_header(metadata[METADATA_KEY], str(path))
            check_size(path, file.metadata.num_rows, file.metadata.num_columns)
            table = file.read()
    except (pa.ArrowException, OSError, ValueError, MemoryError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(
            f"{path}: broken Parquet: {str(error).splitlines()[0] if str(error) else 'cannot be read'}"
        ) from None
    states = read_states(metadata.get(STATES_KEY, b""), str(path))
    wanted = [channel.name for channel in header.channels] + [f"input:{name}" for name in header.inputs] + ["events"]
    if table.column_names != wanted:
        raise TraceError(f"{path}: broken: its columns are not the ones its header names")
    trace = _to_trace(path, header, table)
    trace.states = states
    if "check" in raw and raw["check"] != checksum_of(trace):
        raise TraceError(f"{path}: broken: its content does not match its checksum")
    if "check" not in raw and "digest" in raw and raw["digest"] != trace.digest:
        raise TraceError(f"{path}: broken: its content does not match its digest")
    return trace


def _to_trace(path: Path, header: Header, table: pa.Table) -> Trace:
    try:
        columns = {c.name: Column(c, column_from_arrow(c, table[c.name])) for c in header.channels}
        inputs = {name: _input_values(table[f"input:{name}"]) for name in header.inputs}
        return Trace(header, columns, inputs, events_from_arrow(table["events"]))
    except (pa.ArrowException, ValueError, KeyError, TypeError) as error:
        raise TraceError(f"{path}: broken: {error}") from None


def _is_steady(array: Any) -> bool:
    """Whether a column repeats so much that a dictionary pays: judged on its first rows, which is cheap."""
    if not pa.types.is_floating(array.type) and not pa.types.is_integer(array.type):
        return False
    sample = array[:2048]
    return len(sample.unique()) * 4 <= len(sample)


def _to_arrow(column: Column) -> Any:
    if column.channel.kind == "label":
        return pa.DictionaryArray.from_arrays(pa.array(column.stored), pa.array(column.channel.labels, pa.string()))
    return pa.array(column.stored)


def column_from_arrow(channel: Channel, chunked: Any) -> npt.NDArray[Any]:
    """The stored values of a column; raises ValueError where it is not of the channel's kind."""
    if channel.kind != "label":
        if chunked.type != _TYPES[channel.kind] or chunked.null_count:
            raise ValueError(f"column {channel.name!r} is {chunked.type}, not a {channel.kind}")
        return np.ascontiguousarray(chunked.to_numpy())
    array = chunked.combine_chunks() if chunked.num_chunks != 1 else chunked.chunk(0)
    if not pa.types.is_dictionary(array.type):
        array = array.dictionary_encode()
    if array.null_count:
        raise ValueError(f"column {channel.name!r} has rows without a label")
    code_of = {label: code for code, label in enumerate(channel.labels)}
    codes = np.array([code_of[label] for label in array.dictionary.to_pylist()] or [0], dtype=np.int32)
    return np.asarray(codes[array.indices.to_numpy()])


def _input_values(chunked: Any) -> npt.NDArray[np.float64]:
    if chunked.null_count or not (pa.types.is_boolean(chunked.type) or pa.types.is_floating(chunked.type)):
        raise ValueError("an input column is neither on/off nor numbers")
    return np.array(chunked.to_numpy(), dtype=np.float64)


def events_to_arrow(events: EventLog, rows: int) -> Any:
    """The events as one list-of-struct column, a list for each of so many rows."""
    per_row = np.bincount(np.array(events.rows, dtype=np.int64), minlength=rows)
    offsets = np.concatenate([[0], np.cumsum(per_row)]).astype(np.int32)
    texts = [pa.array(field, pa.string()) for field in (events.names, events.sources, events.data)]
    said = pa.StructArray.from_arrays(texts, fields=list(_EVENT))
    return pa.ListArray.from_arrays(pa.array(offsets, pa.int32()), said)


def events_from_arrow(chunked: Any) -> EventLog:
    """The events of a list-of-struct column, their rows counted from its first."""
    array = chunked.combine_chunks() if chunked.num_chunks != 1 else chunked.chunk(0)
    if not pa.types.is_list(array.type) or array.null_count:
        raise ValueError("the events column is not a list of events")
    said = array.flatten()
    lengths = np.diff(array.offsets.to_numpy())
    rows = np.repeat(np.arange(len(array)), lengths).tolist()
    names, sources, data = (said.field(name).to_pylist() for name in ("name", "source", "data"))
    return EventLog(rows, names, sources, data)
