"""Traces as Parquet: a row per frame, readable by any Parquet reader.

Channels and `input:NAME` are columns, events one list-of-struct column, the header JSON under one metadata key.
Pages carry checksums, and one in the metadata covers the rest: a file is read whole and true, or refused.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.parquet as pq

from larktally.errors import TraceError
from larktally.timing import RateLike
from larktally.traces.columns import Column, check_events, check_input, check_size
from larktally.traces.contents import Savable, TraceContents
from larktally.traces.digest import checksum_of
from larktally.traces.formats.arrow import (
    METADATA_KEY,
    chunked_numbers,
    column_from_arrow,
    column_to_arrow,
    events_from_arrow,
    events_to_arrow,
    to_arrow,
)
from larktally.traces.formats.parquet_footer import values_by_column
from larktally.traces.header import Header, header_json, read_header
from larktally.traces.saved_states import read_states, states_json

__all__ = ["write", "read"]

STATES_KEY = b"larktally.states"
# Some megabytes a group: large enough to compress well, small enough for a reader that wants some rows.
GROUP_ROWS = 1 << 18
# 64 MB of numbers: a run of an hour is read at once, and one of a day by the column.
READ_AT_ONCE = 1 << 23


def write(source: Savable, file: BinaryIO) -> None:
    """Writes a whole trace to an open file, piece by piece."""
    header, writer = source.header, None
    analog = _analog_inputs(source)
    waiting: list[pa.Table] = []
    metadata = {METADATA_KEY: header_json(header, digest=source.digest, check=source.checksum)}
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
    labels = []
    for channel in header.channels:
        if channel.kind == "label":
            labels.append(channel.name)
    steady = [name for name in first.column_names if _is_steady(first[name])]
    return pq.ParquetWriter(
        file,
        first.schema.with_metadata(metadata),
        compression="zstd",
        write_page_checksum=True,
        use_dictionary=[*labels, *steady, "events.list.element.name"],
        write_statistics=False,
    )


def _analog_inputs(source: Savable) -> frozenset[str]:
    """The inputs that are numbers: declared so, or anything but 0 and 1 somewhere."""
    found = set(source.header.analog)
    for piece in source.pieces([f"input:{name}" for name in source.header.inputs]):
        found |= {n for n, v in piece.inputs.items() if n not in found and not np.isin(v, (0.0, 1.0)).all()}
    return frozenset(found)


def _table(piece: TraceContents, analog: frozenset[str]) -> pa.Table:
    arrays: dict[str, Any] = {
        name: column_to_arrow(column.channel, column.stored) for name, column in piece.columns.items()
    }
    for name, values in piece.inputs.items():
        arrays[f"input:{name}"] = to_arrow(values if name in analog else values != 0)
    arrays["events"] = events_to_arrow(piece.events, piece.rows)
    return pa.table(arrays)


def read(path: Path, rate: RateLike | None = None) -> TraceContents:
    """Reads what `write` wrote; raises TraceError for a file that is broken or another kind of Parquet."""
    try:
        # Sizes first: what a file says of itself is refused before anything of it is unfolded.
        inside = pq.read_metadata(path)
        with _opened(path, inside) as file:
            metadata = file.schema_arrow.metadata or {}
            if METADATA_KEY not in metadata:
                raise TraceError(f"{path}: Parquet, but not a trace: it has no {METADATA_KEY.decode()!r} metadata")
            header, raw = read_header(metadata[METADATA_KEY], str(path))
            check_size(path, inside.num_rows, inside.num_columns)
            # Before it is read by its columns' names, which have to be there, and once.
            wanted = [
                *(channel.name for channel in header.channels),
                *(f"input:{name}" for name in header.inputs),
                "events",
            ]
            if file.schema_arrow.names != wanted:
                raise TraceError(f"{path}: broken: its columns are not the ones its header names")
            counts = values_by_column(path)
            emitted = max((count for name, count in counts.items() if name.startswith("events.")), default=0)
            # An empty list counts as one value.
            check_events(path, emitted - inside.num_rows)
            states = read_states(metadata.get(STATES_KEY, b""), str(path))
            trace = _to_trace(path, header, file, states)
    except (pa.ArrowException, OSError, ValueError, MemoryError) as error:
        # One of ours is a ValueError too, and says more.
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{path}: broken Parquet: {_first_line(error)}") from None
    if "check" in raw and raw["check"] != checksum_of(trace):
        raise TraceError(f"{path}: broken: its content does not match its checksum")
    if "check" not in raw and "digest" in raw and raw["digest"] != trace.digest:
        raise TraceError(f"{path}: broken: its content does not match its digest")
    return trace


def _opened(path: Path, inside: Any) -> Any:
    """The file, its texts to be read as dictionaries: a long one that stands in a million rows is held once."""
    columns = [inside.schema.column(n) for n in range(inside.num_columns)]
    texts = []
    for column in columns:
        if column.physical_type == "BYTE_ARRAY":
            texts.append(column.path)
    return pq.ParquetFile(
        path, metadata=inside, read_dictionary=texts, page_checksum_verification=True, memory_map=False
    )


def _columns(file: Any, names: Sequence[str]) -> Iterator[tuple[str, Any]]:
    """The columns, one after the other; no more of them stand beside what was made of them than READ_AT_ONCE values."""
    at_once = max(READ_AT_ONCE // max(file.metadata.num_rows, 1), 1)
    for first in range(0, len(names), at_once):
        wanted = names[first : first + at_once]
        table = file.read(columns=wanted)
        columns = {name: table[name] for name in wanted}
        del table
        for name in wanted:
            yield name, columns.pop(name)


def _events(file: Any) -> Any:
    """The column of events, a row group at a time, as each has dictionaries of its own."""
    groups = range(file.num_row_groups)
    if not groups:
        return file.read(columns=["events"])["events"]
    return pa.concat_tables(file.read_row_group(n, columns=["events"]).select(["events"]) for n in groups)["events"]


def _to_trace(path: Path, header: Header, file: Any, states: Mapping[int, bytes]) -> TraceContents:
    channels = {channel.name: channel for channel in header.channels}
    columns, inputs = {}, {}
    emitted = _events(file)
    try:
        events = events_from_arrow(emitted, path)
        del emitted
        for name, column in _columns(file, [*channels, *(f"input:{name}" for name in header.inputs)]):
            if name in channels:
                columns[name] = Column(channels[name], column_from_arrow(channels[name], column))
            else:
                inputs[name.removeprefix("input:")] = _input_values(name.removeprefix("input:"), column)
        return TraceContents(header, columns, inputs, events, file.metadata.num_rows, states)
    except (TraceError, pa.ArrowException, OSError):
        raise
    # Codes that no dictionary has are a LookupError, as a missing column is.
    except (ValueError, LookupError, TypeError) as error:
        raise TraceError(f"{path}: broken: {_first_line(error)}") from None


def _first_line(error: BaseException) -> str:
    """What Arrow says, without where in its own code it said so."""
    return (str(error).splitlines() or ["cannot be read"])[0]


def _is_steady(array: Any) -> bool:
    """Whether a column repeats so much that a dictionary pays: judged on its first rows, which is cheap."""
    if not pa.types.is_floating(array.type) and not pa.types.is_integer(array.type):
        return False
    # A dictionary that does not pay is given up by the writer only after it was built.
    sample = chunked_numbers(array[:2048])
    # By their bits, in which 0.0 and -0.0 are two.
    ordered = np.sort(sample.view(f"i{sample.itemsize}"))
    distinct = int(np.count_nonzero(ordered[1:] != ordered[:-1])) + min(len(ordered), 1)
    return distinct * 4 <= len(ordered)


def _input_values(name: str, chunked: Any) -> npt.NDArray[np.float64]:
    if chunked.null_count or not (pa.types.is_boolean(chunked.type) or pa.types.is_floating(chunked.type)):
        raise ValueError(f"input {name!r} is neither on/off nor numbers")
    values = np.array(chunked_numbers(chunked), dtype=np.float64)
    check_input(name, values)
    return values
