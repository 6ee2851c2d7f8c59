"""Trace files: bit-exact both ways, readable by others, and broken ones refused with the place."""

import json
import math

import msgspec
import numpy as np
import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import larktally as lt
from larktally.names import name_fault
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header

texts = st.text(st.characters(exclude_categories=["Cs"]), max_size=6)
names = texts.filter(lambda text: not name_fault(text))
events = st.tuples(
    names, names | st.just(""), st.dictionaries(texts, st.integers(-9, 9) | st.booleans() | texts, max_size=2)
)


@st.composite
def traces(draw):
    rows = draw(st.integers(0, 6))
    floats = st.floats(allow_nan=True, allow_infinity=True, allow_subnormal=True)
    labels = tuple(draw(st.lists(texts, min_size=1, max_size=3, unique=True)))
    channels = {
        "number": (Channel("a.x", "number"), draw(st.lists(floats, min_size=rows, max_size=rows)), np.float64),
        "count": (
            Channel("größe", "count"),
            draw(st.lists(st.integers(-(2**63), 2**63 - 1), min_size=rows, max_size=rows)),
            np.int64,
        ),
        "flag": (Channel("f", "flag"), draw(st.lists(st.booleans(), min_size=rows, max_size=rows)), np.bool_),
        "label": (
            Channel("l", "label", labels),
            draw(st.lists(st.integers(0, len(labels) - 1), min_size=rows, max_size=rows)),
            np.int32,
        ),
    }
    kept = draw(st.lists(st.sampled_from(list(channels)), unique=True))
    columns = {}
    for kind in kept:
        channel, values, dtype = channels[kind]
        array = np.array(values, dtype=dtype)
        columns[channel.name] = Column(channel, np.where(np.isnan(array), np.nan, array) if kind == "number" else array)
    analog = draw(st.booleans())
    inputs = {
        "hop": np.array(
            draw(st.lists(st.sampled_from([0.0, 1.0, 0.5] if analog else [0.0, 1.0]), min_size=rows, max_size=rows))
        )
    }
    inputs = inputs if columns or rows else {}
    log = EventLog()
    for row in sorted(draw(st.lists(st.integers(0, rows - 1), max_size=4))) if rows and columns else []:
        log.add(row, *draw(events))
    header = Header(
        rate_text="60000/1001",
        channels=tuple(c.channel for c in columns.values()),
        inputs=tuple(inputs),
        allow_nan=True,
    )
    return lt.Trace(header, columns, inputs if rows else dict.fromkeys(inputs, np.zeros(0)), log)


@pytest.mark.slow
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(trace=traces())
def test_every_kind_of_value_comes_back_bit_for_bit(tmp_path, trace):
    for suffix in ("parquet", "jsonl"):
        back = lt.load_trace(trace.save(tmp_path / f"trace.{suffix}"))
        assert back.digest == trace.digest, suffix
        assert back.header == trace.header and back.events == trace.events
        for name, column in trace.columns.items():
            assert back.columns[name].stored.tobytes() == column.stored.tobytes()
            assert back.columns[name].stored.dtype == column.stored.dtype


def test_other_readers_open_the_parquet(tmp_path, dusk_trace):
    path = dusk_trace.save(tmp_path / "run.parquet")
    table = pq.read_table(path)
    assert table["wick.gait"].to_pylist() == dusk_trace["wick.gait"].tolist()
    assert table["input:hop"].to_pylist()[30] is True
    assert [event["name"] for event in table["events"].to_pylist()[30]] == ["hop", "changed", "left_ground"]
    assert json.loads(table.schema.metadata[b"larktally"])["rate"] == "60"


def test_json_lines_hold_a_row_a_line_with_what_changed(tmp_path, lamp_trace):
    lines = [json.loads(line) for line in lamp_trace.save(tmp_path / "run.jsonl").read_text().splitlines()]
    assert lines[1] == {"frame": 0, "set": {"y": 0.0, "count": 0, "lit": False, "mood": "dark"}}
    assert lines[2] == {"frame": 1}
    assert lines[4] == {"frame": 3, "set": {"y": 0.5, "count": 1}, "input": {"hop": 1.0}}
    assert lines[11]["events"] == [["lit", "lamp", {"count": 2}]]
    assert lines[-1] == {"rows": 21, "digest": lamp_trace.digest}


@pytest.mark.slow
@pytest.mark.parametrize("suffix", ["parquet", "jsonl"])
def test_a_file_cut_short_anywhere_or_with_a_bit_turned_is_refused_or_the_same(tmp_path, lamp_trace, suffix):
    whole = lamp_trace.save(tmp_path / f"run.{suffix}").read_bytes()
    path = tmp_path / f"broken.{suffix}"
    cuts = range(0, len(whole), max(1, len(whole) // 150))
    flips = range(0, len(whole), max(1, len(whole) // 300))
    broken = [whole[:n] for n in cuts] + [whole[:n] + bytes([whole[n] ^ (1 << n % 8)]) + whole[n + 1 :] for n in flips]
    for content in broken:
        path.write_bytes(content)
        try:
            assert lt.load_trace(path).digest == lamp_trace.digest
        except lt.TraceError as error:
            assert str(path) in str(error)


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "not a trace"),
        (b"frame,x\n0,1\n", "not a trace"),
        (b"{}\n", "not a Lark Tally trace"),
        (b'{"larktally": 99}\n{}\n', "format 99"),
        (b'{"larktally": 1, "rate": "-5"}\n{"rows":0,"digest":""}\n', "header is broken"),
        (b"{" * 100_000, "broken|not a TestRuns"),
    ],
)
def test_files_of_another_kind_are_refused(tmp_path, content, said):
    path = tmp_path / "odd.jsonl"
    path.write_bytes(content)
    with pytest.raises(lt.TraceError, match=said):
        lt.load_trace(path)


def test_a_line_that_does_not_belong_is_named(tmp_path, lamp_trace):
    path = lamp_trace.save(tmp_path / "run.jsonl")
    lines = path.read_text().splitlines()
    lines[4] = lines[4].replace('"count":1', '"count":1.5')
    path.write_text("\n".join(lines) + "\n")
    with pytest.raises(lt.TraceError, match=r"line 5: 1.5 is not a count of channel 'count'"):
        lt.load_trace(path)
    with pytest.raises(lt.TraceError, match=r"no such file; did you mean 'run.jsonl'"):
        lt.load_trace(tmp_path / "rum.jsonl")
    with pytest.raises(lt.TraceError, match=r"saved as .parquet, .jsonl, .csv, .vcd, not"):
        lamp_trace.save(tmp_path / "run.txt")
    assert sorted(entry.name for entry in tmp_path.iterdir()) == ["run.jsonl"]


def test_event_data_is_plain(lamp_trace):
    for data in ({"x": math.nan}, {"x": object()}, {"x": 2**70}, {"x": {1: 2}}):
        with pytest.raises(lt.LarkTallyError, match="event data"):
            EventLog().add(0, "lit", "", data)
    assert msgspec.json.decode(lamp_trace.events.data[0]) == {"count": 2}


@pytest.fixture(scope="module")
def long_trace():
    """More rows than any writer or reader takes at once, with an event, an input and an odd number on the seams."""
    rows = 100_000
    at = np.arange(rows)
    half = np.where(at % 7 == 0, np.nan, at / 3)
    half[[16_383, 16_384, 32_768, rows - 1]] = [np.inf, -np.inf, -0.0, 1e300]
    columns = {
        "n": at * 3,
        "half": half,
        "on": at % 5 == 0,
        "still": np.zeros(rows),
        "input:hop": (at % 29 < 3).astype(float),
    }
    columns["mood"] = np.array(["calm", "a, b"], dtype=object)[(at // 16_384) % 2]
    whole = lt.Trace.from_columns(columns, rate=60)
    log = EventLog()
    for row in sorted({*range(0, rows, 997), 16_383, 16_384, 49_151, 49_152, rows - 1}):
        log.add(row, "lit", "lamp", {"n": row})
        log.add(row, "hop", "", {})
    return whole.changed(events=log)


@pytest.mark.slow
def test_a_run_longer_than_what_is_read_and_written_at_once_comes_back_the_same(tmp_path, long_trace, monkeypatch):
    from larktally.traces.formats import csv_tables, jsonl_reading, parquet

    saved = {suffix: long_trace.save(tmp_path / f"long.{suffix}") for suffix in ("jsonl", "parquet", "csv")}
    # The same bytes as when each piece is the whole.
    with monkeypatch.context() as whole:
        for name in ("csv_tables", "jsonl"):
            whole.setattr(f"larktally.traces.formats.{name}.small_pieces", lambda source: source.pieces())
        for suffix in ("jsonl", "csv"):
            again = long_trace.save(tmp_path / f"again.{suffix}")
            assert again.read_bytes() == saved[suffix].read_bytes(), suffix
    for most in (1 << 10, 1 << 30):
        monkeypatch.setattr(jsonl_reading, "_AT_ONCE", most)
        monkeypatch.setattr(parquet, "READ_AT_ONCE", most)
        monkeypatch.setattr(csv_tables, "READ_AT_ONCE", most)
        for suffix, path in saved.items():
            back = lt.load_trace(path, rate=None if suffix != "csv" else 60)
            assert list(back.inputs) == ["hop"] and back.inputs["hop"].tobytes() == long_trace.inputs["hop"].tobytes()
            for name, column in long_trace.columns.items():
                assert back.columns[name].stored.tobytes() == column.stored.tobytes(), (suffix, name)
            if suffix == "csv":
                assert [(e.row, e.name) for e in back.events[:4]] == [
                    (0, "lit"),
                    (0, "hop"),
                    (997, "lit"),
                    (997, "hop"),
                ]
            else:
                assert back.digest == long_trace.digest and back.events == long_trace.events


def test_a_table_whose_later_cells_are_of_another_kind_is_read_as_a_whole(tmp_path):
    # The first megabyte of a column decides nothing for the rest.
    rows = 300_000
    path = tmp_path / "late.csv"
    path.write_text(
        "frame,a,b\n"
        + "".join(f"{k},{k if k < rows - 1 else 0.5},{'x' if k == rows - 1 else 7}\n" for k in range(rows))
    )
    trace = lt.load_trace(path, rate=60)
    assert trace["a"].dtype == np.float64 and trace["a"][-1] == 0.5 and trace["b"][0] == "7" and trace["b"][-1] == "x"
