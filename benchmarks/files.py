"""Writing and reading a trace as Parquet, against the same table through pyarrow alone."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Iterable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import larktally as lt
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header

ROWS = 500_000


def a_run() -> lt.Trace:
    draw = np.random.default_rng(1)
    numbers = {f"wick.{name}": np.cumsum(draw.normal(size=ROWS)) for name in ("x", "y", "vx", "vy")}
    counts = {f"timer.{n}": draw.integers(0, 60, ROWS) for n in range(3)}
    flags = {f"flag.{n}": draw.random(ROWS) < 0.1 for n in range(2)}
    states = Channel("wick.gait", "label", ("standing", "airborne", "climbing"))
    plain = lt.Trace.from_columns(
        {**numbers, **counts, **flags, "input:hop": (draw.random(ROWS) < 0.02).astype(float)}, 60
    )
    columns = {**plain.columns, "wick.gait": Column(states, draw.integers(0, 3, ROWS).astype(np.int32))}
    header = Header(rate_text="60", channels=tuple(c.channel for c in columns.values()), inputs=("hop",))
    events = EventLog()
    for row in range(0, ROWS, 60):
        events.append(row, "landed", "wick", '{"speed":1.5}')
    return lt.Trace(header, columns, plain.inputs, events)


def as_table(trace: lt.Trace) -> pa.Table:
    """What a user would hand to pyarrow: the same columns, events as a list of structs."""
    arrays = {name: pa.array(trace.columns[name].stored) for name in trace.channels if name != "wick.gait"}
    gait = trace.columns["wick.gait"]
    arrays["wick.gait"] = pa.DictionaryArray.from_arrays(pa.array(gait.stored), pa.array(gait.channel.labels))
    arrays["input:hop"] = pa.array(trace.inputs["hop"] != 0)
    said: list[list[dict[str, str]]] = [[] for _ in range(trace.rows)]
    for event in trace.events:
        said[event.row].append({"name": event.name, "source": event.source, "data": '{"speed":1.5}'})
    arrays["events"] = pa.array(said)
    return pa.table(arrays)


def rows() -> Iterable[tuple[str, float, object, object]]:
    trace, folder = a_run(), Path(tempfile.mkdtemp())
    table = as_table(trace)
    ours, theirs = folder / "ours.parquet", folder / "theirs.parquet"

    def save() -> None:
        trace.__dict__.pop("digest", None)
        trace.save(ours)

    def save_alone() -> None:
        pq.write_table(table, theirs, compression="zstd", write_page_checksum=True)

    def load_alone() -> dict[str, object]:
        read = pq.read_table(theirs, memory_map=False, page_checksum_verification=True)
        plain = {name: read[name].to_numpy() for name in read.column_names if name not in ("events", "wick.gait")}
        gait, said = read["wick.gait"].combine_chunks(), read["events"].combine_chunks().flatten()
        texts = {field: said.field(field).to_pylist() for field in ("name", "source", "data")}
        return {**plain, "wick.gait": gait.dictionary_encode(), **texts}

    save(), save_alone()
    yield "save a trace of 500,000 rows / pyarrow alone", 1.3, save, save_alone
    yield "load it / pyarrow alone", 1.3, lambda: lt.load_trace(ours), load_alone


def still_world() -> tuple[int, int]:
    """Bytes of a million rows in which nothing moves: as Parquet, and as CSV."""
    still = lt.Trace.from_columns({f"c{n}": np.full(1_000_000, 16.0) for n in range(12)}, 60)
    small, large = io.BytesIO(), io.BytesIO()
    from larktally.traces.formats import csv_tables, parquet

    parquet.write(still, small)
    csv_tables.write(still, large)
    return len(small.getvalue()), len(large.getvalue())


if __name__ == "__main__":
    small, large = still_world()
    print(
        f"a million rows of a still world: {small} bytes of Parquet, {100 * small / large:.3f} % of {large} bytes of CSV"
    )
