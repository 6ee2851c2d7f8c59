"""Traces as Parquet: a row per frame, readable by any Parquet reader.

Channels and `input:NAME` are columns, events one list-of-struct column, the header JSON under one metadata key.
Pages carry checksums, and the digest in the header covers the rest: a file is read whole and true, or refused.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.parquet as pq

from larktally.errors import TraceError
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header, header_json, read_header
from larktally.traces.trace import Trace

__all__ = ["write_parquet", "read_parquet", "METADATA_KEY"]

METADATA_KEY = b"larktally"
_EVENT = pa.struct([("name", pa.string()), ("source", pa.string()), ("data", pa.string())])
_TYPES = {"number": pa.float64(), "count": pa.int64(), "flag": pa.bool_()}


def write_parquet(trace: Trace, file: BinaryIO) -> None:
    """Writes a whole trace to an open file."""
    arrays: dict[str, Any] = {name: _to_arrow(column) for name, column in trace.columns.items()}
    for name, values in trace.inputs.items():
        analog = name in trace.header.analog or not np.isin(values, (0.0, 1.0)).all()
        arrays[f"input:{name}"] = pa.array(values if analog else values != 0)
    arrays["events"] = _events_to_arrow(trace.events, trace.rows)
    table = pa.table(arrays)
    header = header_json(trace.header, digest=trace.digest)
    labels = [name for name, column in trace.columns.items() if column.channel.kind == "label"]
    pq.write_table(
        table.replace_schema_metadata({METADATA_KEY: header}),
        file,
        compression="zstd",
        write_page_checksum=True,
        use_dictionary=[*labels, *(name for name in arrays if _is_steady(arrays[name])), "events.list.element.name"],
        write_statistics=False,
    )


def read_parquet(path: Path) -> Trace:
    """Reads what write_parquet wrote; raises TraceError for a file that is broken or another kind of Parquet."""
    try:
        with pq.ParquetFile(path, page_checksum_verification=True, memory_map=False) as file:
            metadata = file.schema_arrow.metadata or {}
            if METADATA_KEY not in metadata:
                raise TraceError(f"{path}: Parquet, but not a trace: it has no {METADATA_KEY.decode()!r} metadata")
            header, raw = read_header(metadata[METADATA_KEY], str(path))
            table = file.read()
    except (pa.ArrowException, OSError, ValueError, MemoryError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(
            f"{path}: broken Parquet: {str(error).splitlines()[0] if str(error) else 'cannot be read'}"
        ) from None
    wanted = [channel.name for channel in header.channels] + [f"input:{name}" for name in header.inputs] + ["events"]
    if table.column_names != wanted:
        raise TraceError(f"{path}: broken: its columns are not the ones its header names")
    trace = _to_trace(path, header, table)
    if raw.get("digest") != trace.digest:
        raise TraceError(f"{path}: broken: its content does not match its digest")
    return trace


def _to_trace(path: Path, header: Header, table: pa.Table) -> Trace:
    try:
        columns = {c.name: Column(c, _from_arrow(c, table[c.name])) for c in header.channels}
        inputs = {name: _input_values(table[f"input:{name}"]) for name in header.inputs}
        return Trace(header, columns, inputs, _events_from_arrow(table["events"]))
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


def _from_arrow(channel: Channel, chunked: Any) -> npt.NDArray[Any]:
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


def _events_to_arrow(events: EventLog, rows: int) -> Any:
    per_row = np.bincount(np.array(events.rows, dtype=np.int64), minlength=rows)
    offsets = np.concatenate([[0], np.cumsum(per_row)]).astype(np.int32)
    texts = [pa.array(field, pa.string()) for field in (events.names, events.sources, events.data)]
    said = pa.StructArray.from_arrays(texts, fields=list(_EVENT))
    return pa.ListArray.from_arrays(pa.array(offsets, pa.int32()), said)


def _events_from_arrow(chunked: Any) -> EventLog:
    array = chunked.combine_chunks() if chunked.num_chunks != 1 else chunked.chunk(0)
    if not pa.types.is_list(array.type) or array.null_count:
        raise ValueError("the events column is not a list of events")
    said = array.flatten()
    lengths = np.diff(array.offsets.to_numpy())
    rows = np.repeat(np.arange(len(array)), lengths).tolist()
    names, sources, data = (said.field(name).to_pylist() for name in ("name", "source", "data"))
    return EventLog(rows, names, sources, data)
