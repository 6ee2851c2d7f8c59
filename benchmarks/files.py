"""Writing and reading a trace as Parquet, against the same table through pyarrow alone."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import larktally as lt
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header

ROWS = 500_000


def a_run(count: int = ROWS) -> lt.Trace:
    draw = np.random.default_rng(1)
    numbers = {f"wick.{name}": np.cumsum(draw.normal(size=count)) for name in ("x", "y", "vx", "vy")}
    counts = {f"timer.{n}": draw.integers(0, 60, count) for n in range(3)}
    flags = {f"flag.{n}": draw.random(count) < 0.1 for n in range(2)}
    states = Channel("wick.gait", "label", ("standing", "airborne", "climbing"))
    plain = lt.Trace.from_columns(
        {**numbers, **counts, **flags, "input:hop": (draw.random(count) < 0.02).astype(float)}, 60
    )
    columns = {**plain.columns, "wick.gait": Column(states, draw.integers(0, 3, count).astype(np.int32))}
    header = Header(rate_text="60", channels=tuple(c.channel for c in columns.values()), inputs=("hop",))
    events = EventLog()
    for row in range(0, count, 60):
        events.append(row, "landed", "wick", '{"speed":1.5}')
    return lt.Trace(header, columns, plain.inputs, events)


def trace_of_lines() -> lt.Trace:
    return a_run(60_000)


def labels_or_numbers(trace: lt.Trace, name: str) -> Any:
    column = trace.columns[name]
    if column.channel.kind == "label":
        return np.array(column.channel.labels)[column.stored]
    return column.stored


def lines_alone(trace: lt.Trace) -> bytes:
    """The rows as a user would write them: what changed, a line a row."""
    columns = {name: labels_or_numbers(trace, name).tolist() for name in trace.channels}
    hop, said = trace.inputs["hop"].tolist(), {}
    for event in trace.events:
        said.setdefault(event.row, []).append([event.name, event.source, event.data])
    names, before, was, found = list(columns), [None] * len(columns), 0.0, []
    for k, row in enumerate(zip(*columns.values(), strict=True)):
        line: dict[str, Any] = {"frame": k}
        changed = {name: value for name, value, old in zip(names, row, before, strict=True) if value != old}
        if changed:
            line["set"] = changed
        if hop[k] != was:
            was = hop[k]
            line["input"] = {"hop": was}
        if k in said:
            line["events"] = said[k]
        found.append(line)
        before = row
    return msgspec.json.Encoder().encode_lines(found)


def rows_of(lines: bytes) -> list[Any]:
    return [one for one in msgspec.json.Decoder().decode_lines(lines) if "frame" in one]


def load_lines(path: Path) -> dict[str, Any]:
    """The columns of such a file, by hand."""
    head, *lines = msgspec.json.Decoder().decode_lines(path.read_bytes())
    names = [channel["name"] for channel in head["channels"]]
    columns: dict[str, list[Any]] = {name: [] for name in names}
    last: dict[str, Any] = {}
    for line in lines[:-1]:
        if "set" in line:
            last.update(line["set"])
        for name, values in columns.items():
            values.append(last[name])
    return {name: np.array(values) for name, values in columns.items()}


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

    few = trace_of_lines()
    lines = folder / "few.jsonl"
    few.save(lines)
    kept, alone = rows_of(lines.read_bytes()), rows_of(lines_alone(few))
    assert kept == alone
    assert all((lt.load_trace(lines).columns[n].stored == c.stored).all() for n, c in few.columns.items())
    assert all((values == labels_or_numbers(few, n)).all() for n, values in load_lines(lines).items())

    def save_lines() -> None:
        few.__dict__.pop("digest", None)
        few.save(lines)

    yield "save 60,000 rows as JSON Lines / msgspec and loops", 2.0, save_lines, lambda: lines_alone(few)
    yield "load them / msgspec and loops", 2.0, lambda: lt.load_trace(lines), lambda: load_lines(lines)
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
