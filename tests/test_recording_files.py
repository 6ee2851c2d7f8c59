"""Recording into a file, other files of a run, logs from elsewhere, thinned recordings."""

import datetime
import json
import os
import random
import signal
import subprocess
import sys
import time

import duckdb
import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import vcd.reader
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.test_files import traces

import larktally as lt
from larktally.traces.recording_stream import RecordingStream
from larktally.traces.recording_writer import partial_path

SLOW = """
import sys, time
import larktally as lt

class Walk:
    actions = ("hop",)
    def reset(self, setup):
        self.n, self.mood = 0, "calm"
    def step(self, now):
        self.n += 1
        self.mood = f"mood {self.n // 3000}"
        if self.n % 500 == 0:
            return [lt.Event("mark", "walk", n=self.n)]
    def observe(self):
        return {"n": self.n, "half": self.n / 2, "mood": self.mood}

if __name__ == "__main__":
    lt.record(Walk(), lt.InputScript().tap("hop", 5, 50, 1000), frames=5_000_000, to=sys.argv[1])
"""


class Walk:
    """A subject with every kind of channel, whose labels come as it goes."""

    actions, events = ("hop",), ("mark",)

    def __init__(self, fails_at=None):
        self.fails_at = fails_at

    def reset(self, setup):
        self.n = 0

    def step(self, now):
        self.n += 1
        if self.n == self.fails_at:
            raise RuntimeError("a bad frame")
        return [lt.Event("mark", "walk", n=self.n)] if self.n % 500 == 0 else None

    def observe(self):
        return {"n": self.n, "half": self.n / 2, "odd": self.n % 2 == 1, "mood": f"mood {self.n // 3000}"}


TAPS = lt.InputScript().tap("hop", 5, 50, 100, frames=7)


@pytest.mark.slow
@pytest.mark.parametrize("suffix", ["parquet", "jsonl", "csv"])
def test_a_run_recorded_into_a_file_is_the_run_recorded_in_memory(tmp_path, suffix):
    in_memory = lt.record(Walk, TAPS, frames=7000)
    path = tmp_path / f"run.{suffix}"
    trace = lt.record(Walk, TAPS, frames=7000, to=path, only=None)
    assert trace.digest == in_memory.digest and trace.rows == 7001 and trace.header == in_memory.header
    assert not partial_path(path).exists() and [one.name for one in tmp_path.iterdir()] == [path.name]
    if suffix != "csv":
        assert trace["mood"].tolist() == in_memory["mood"].tolist()
        assert lt.load_trace(path).digest == in_memory.digest
    in_memory.save(tmp_path / f"again.{suffix}")
    assert suffix == "parquet" or (tmp_path / f"again.{suffix}").read_bytes() == path.read_bytes()


def test_a_run_that_fails_keeps_its_rows_beside_the_name_it_does_not_take(tmp_path):
    with pytest.raises(lt.SubjectFailed, match="row 4000: step failed: RuntimeError: a bad frame") as failed:
        lt.record(Walk(4000), TAPS, frames=7000, to=tmp_path / "run.parquet")
    assert failed.value.trace.rows == 4000
    assert [one.name for one in tmp_path.iterdir()] == ["run.stopped.parquet"]
    assert lt.load_trace(tmp_path / "run.stopped.parquet")["n"][-1] == 3999


@pytest.mark.slow
def test_a_recorder_killed_at_any_moment_leaves_whole_frames_to_recover(tmp_path):
    script = tmp_path / "slow.py"
    script.write_text(SLOW)
    for n in range(3):
        path = tmp_path / f"run{n}.parquet"
        process = subprocess.Popen([sys.executable, str(script), str(path)])
        began = time.monotonic()
        while not (partial_path(path).exists() and partial_path(path).stat().st_size > 200_000):
            assert process.poll() is None and time.monotonic() - began < 60
            time.sleep(0.01)
        time.sleep(random.random() * 0.3)
        process.send_signal(signal.SIGKILL)
        process.wait()
        assert not path.exists()
        partial = RecordingStream(partial_path(path))
        assert partial.rows >= 2048 and "was cut off" in partial.header.stopped
        trace = partial.whole()
        assert (
            trace["n"].tolist() == list(range(trace.rows)) and trace["mood"][-1] == f"mood {(trace.rows - 1) // 3000}"
        )
        assert [event.data["n"] for event in trace.events] == list(range(500, trace.rows, 500))
        content = partial_path(path).read_bytes()
        for cut in (len(content) - 1, len(content) // 2, 3000, 100):
            (tmp_path / "cut.partial").write_bytes(content[:cut])
            try:
                part = RecordingStream(tmp_path / "cut.partial").whole()
                assert part["n"].tolist() == list(range(part.rows))
            except lt.TraceError:
                assert cut <= 3000


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(trace=traces())
def test_a_csv_reads_back_to_the_same_bits(tmp_path, trace):
    path = trace.save(tmp_path / "run.csv")
    try:
        back = lt.load_trace(path, rate="60000/1001")
    except lt.TraceError as error:
        assert (
            "label" not in str(error)
            or trace.rows == 0
            or any("\n" in x or "\r" in x for c in trace.columns.values() for x in c.channel.labels)
        )
        return
    for name, column in trace.columns.items():
        if column.channel.kind != "label" and trace.rows:
            assert back.columns[name].stored.tobytes() == column.stored.tobytes() or column.channel.kind == "number"
            assert np.array_equal(back[name], trace[name], equal_nan=column.channel.kind == "number")


def test_other_programs_read_what_is_written(tmp_path, dusk_trace):
    path = dusk_trace.save(tmp_path / "run.parquet")
    assert pd.read_parquet(path)["wick.y"].tolist() == dusk_trace["wick.y"].tolist()
    found = duckdb.sql(f"select \"wick.gait\", count(*) from '{path}' group by 1 order by 1").fetchall()
    states, counts = np.unique(dusk_trace["wick.gait"].astype(str), return_counts=True)
    assert found == list(zip(states, counts, strict=True))
    hops = duckdb.sql(
        f"select count(*) from (select unnest(events) as e from '{path}') where e.name = 'hop'"
    ).fetchall()
    assert hops == [(len(dusk_trace.events.named("hop")),)]


def test_a_waveform_viewer_s_reader_finds_every_change(tmp_path, dusk_trace):
    path = dusk_trace.save(tmp_path / "run.vcd")
    names, now, seen = {}, 0, {}
    scope = []
    with path.open("rb") as file:
        for token in vcd.reader.tokenize(file):
            kind = token.kind.name
            if kind == "SCOPE":
                scope.append(token.scope.ident)
            elif kind == "UPSCOPE":
                scope.pop()
            elif kind == "VAR":
                names[token.var.id_code] = ".".join([*scope[1:], token.var.reference])
            elif kind == "CHANGE_TIME":
                now = token.time_change
            elif kind.startswith("CHANGE_"):
                change = token.data
                seen.setdefault(names[change.id_code], []).append((now, change.value))
    times = [round(row * 1_000_000 / 60) for row in range(dusk_trace.rows)]
    y = dusk_trace["wick.y"]
    assert seen["wick.y"] == [(times[r], y[r]) for r in range(len(y)) if r == 0 or y[r] != y[r - 1]]
    text = lambda value: value.to_bytes(8, "big").strip(b"\0").decode()  # noqa: E731
    assert [text(value) for _, value in seen["wick.gait"]] == ["standing", "airborne", "standing"]
    assert [value for _, value in seen["event.hop"]] == ["0", "1", "0"]


def log_files(folder, rows, mapping):
    (folder / "log.csv").write_text("\n".join(rows) + "\n")
    (folder / "map.toml").write_text(mapping)
    return folder / "log.csv", folder / "map.toml"


MAPPING = """
delimiter = ";"
time = "ms"
time_unit = "ms"
events = "said"
events_separator = "|"
rest = "drop"
[channels]
"wick.y" = { column = "PosY", scale = 0.01, offset = 1, unit = "px" }
"wick.gait" = { column = "st", labels = { "0" = "standing", "1" = "airborne" } }
"wick.alive" = { column = "ok", kind = "flag" }
"shots" = "n"
[inputs]
hop = "btn"
"""
LOG = ["ms;PosY;st;ok;n;btn;said", "0;1600;0;1;7;0;", "16.67;1625;1;1;7;1;Jump|Sound", "33.33;1600;0;1;6;0;Land"]


def test_a_log_from_elsewhere_becomes_a_trace_through_its_mapping(tmp_path):
    trace = lt.load_trace(log_files(tmp_path, LOG, MAPPING)[0], mapping=tmp_path / "map.toml")
    assert trace.rate == 60 and trace["wick.y"].tolist() == [17.0, 17.25, 17.0]
    assert trace["wick.gait"].tolist() == ["standing", "airborne", "standing"] and trace["wick.alive"].all()
    assert trace["shots"].tolist() == [7, 7, 6] and trace.inputs["hop"].tolist() == [0, 1, 0]
    assert [(e.row, e.name) for e in trace.events] == [(1, "Jump"), (1, "Sound"), (2, "Land")]
    assert lt.check(trace, [lt.claim("a", "always(implies(event('Jump'), pressed('hop')))")]).passed
    lines = '{"f": 3, "y": 1.5, "s": "a"}\n{"f": 4, "y": 2, "s": "b"}\n'
    (tmp_path / "log.jsonl").write_text(lines)
    (tmp_path / "j.toml").write_text('frame = "f"\nrate = "60000/1001"\n[channels]\n"wick.y" = "y"\n')
    trace = lt.load_trace(tmp_path / "log.jsonl", mapping=tmp_path / "j.toml")
    assert (
        trace["wick.y"].tolist() == [1.5, 2.0] and trace["s"].tolist() == ["a", "b"] and str(trace.rate) == "60000/1001"
    )
    pd.DataFrame({"f": [0, 1, 2], "y": [1.0, 2.0, 3.0], "s": ["a", "b", "a"]}).to_parquet(tmp_path / "log.parquet")
    assert lt.load_trace(tmp_path / "log.parquet", mapping=tmp_path / "j.toml")["wick.y"].tolist() == [1.0, 2.0, 3.0]


@pytest.mark.parametrize(
    ("rows", "mapping", "said"),
    [
        (
            [*LOG[:2], LOG[3]],
            MAPPING.replace('time = "ms"', 'rate = 60\ntime = "ms"'),
            "log.csv, line 3: a frame is missing",
        ),
        (
            [*LOG, LOG[3]],
            MAPPING.replace('time = "ms"', 'rate = 60\ntime = "ms"'),
            "log.csv, line 5: a frame is doubled",
        ),
        ([*LOG, "42;1;0;1;6;0;"], MAPPING.replace('time = "ms"', 'rate = 60\ntime = "ms"'), "a frame is uneven"),
        ([*LOG, "20;1;0;1;6;0;"], MAPPING.replace('time = "ms"', 'rate = 60\ntime = "ms"'), "goes back"),
        (LOG, MAPPING.replace("PosY", "PosX"), "channels, 'wick.y': no column 'PosX'; did you mean 'PosY'"),
        (LOG, MAPPING.replace("delimiter", "delimeter"), "no key 'delimeter'; did you mean 'delimiter'"),
        (LOG, MAPPING.replace('unit = "px"', 'units = "px"'), "not a mapping"),
        (LOG, MAPPING.replace('"ms"\ntime_unit', '"ms"\nframe = "n"\ntime_unit'), "only one of them"),
        (LOG, MAPPING.replace('"1" = "airborne"', '"2" = "airborne"'), "'1' is not one of its labels"),
        (
            LOG,
            MAPPING.replace('column = "ok"', 'column = "n"'),
            "line 2: column 'n' is true and false, or 1 and 0, not 7 .channels, 'wick.alive'",
        ),
        (LOG, MAPPING.replace('hop = "btn"', 'hop = "n"'), r"leaves \[-1, 1\]"),
        ([*LOG, "50;;0;1;6;0;"], MAPPING, "never"),
        ([*LOG, "50;1;0;1;6"], MAPPING, "broken CSV: .*Expected 7 columns, got 5"),
    ],
)
def test_a_log_that_does_not_fit_is_told_with_its_place(tmp_path, rows, mapping, said):
    path, rules = log_files(tmp_path, rows, mapping)
    if said == "never":
        assert np.isnan(lt.load_trace(path, mapping=rules)["wick.y"][-1])
        return
    with pytest.raises(lt.TraceError, match=said):
        lt.load_trace(path, mapping=rules)


@pytest.mark.slow
def test_broken_csv_files_are_one_message_and_never_a_crash(tmp_path, dusk_trace):
    path = tmp_path / "run.csv"
    content = dusk_trace.window(0, 30).save(path).read_bytes()
    for n in range(0, len(content), 7):
        path.write_bytes(content[:n])
        try:
            lt.load_trace(path)
        except lt.TraceError as error:
            assert str(path) in str(error)
    draw = random.Random(3)
    for _ in range(300):
        flipped = bytearray(content)
        flipped[draw.randrange(len(content))] = draw.randrange(256)
        path.write_bytes(flipped)
        try:
            lt.load_trace(path)
        except lt.TraceError as error:
            assert str(path) in str(error)
    for text, said in (
        ("", "line 1: empty"),
        ("a,a\n1,2\n", "two columns are called 'a'"),
        ("frame,x\n0,1\n2,3\n", "line 3: frame 2, where 1"),
    ):
        path.write_text(text)
        with pytest.raises(lt.TraceError, match=said):
            lt.load_trace(path)


MAPPED = 'frame = "f"\nrate = 60\n[channels]\n"wick.y" = { column = "y", kind = "number" }\n'


@pytest.mark.parametrize(
    ("suffix", "text", "mapping", "said"),
    [
        ("jsonl", '{"f":0,"y":{"v":1}}\n', MAPPED, "channels, 'wick.y': no column 'y'; did you mean 'y.v'"),
        ("jsonl", '{"f":0,"y":1,"l":["a"]}\n', MAPPED, 'line 1: key \'l\' is a list, \\["a"\\]'),
        ("jsonl", '{"f":0,"y":1,"s":"a"}\n{"f":1,"y":1,"s":null}\n', MAPPED, "line 2: key 's' is null, and \"a\" in line 1"),
        ("jsonl", '{"f":0,"y":1,"s":null}\n{"f":1,"y":1,"s":true}\n', MAPPED, "line 1: key 's' is null, and true in line 2"),
        ("jsonl", '{"f":0,"y":1}\n{"f":2,"y":1}\n{"f":3,"y":1}\n', MAPPED, "line 2: a frame is missing"),
        ("jsonl", '{"f":0,"y":1}\n{"f":"x","y":1}\n', MAPPED, "line 2: key 'f' is \"x\", and 0 in line 1"),
        ("csv", "f,y\n0,1\n1,2\nx2,3\n", MAPPED, "line 4: column 'f' counts, so it holds numbers, not 'x2'"),
        ("csv", "f,y\n0,1\n1,oops\n", MAPPED, "line 3: column 'y' is text there, 'oops'"),
        ("csv", "t,y\n0.0,1\nsoon,2\n", MAPPED.replace('frame = "f"', 'time = "t"'), "line 3: column 't' counts, .*'soon'"),
        ("csv", "t,y\n0.0,1\n,2\n", MAPPED.replace('frame = "f"', 'time = "t"'), "line 3: column 't' counts, .*not nothing"),
        ("csv", "f,y\n0,1.5\n1,2\n", MAPPED.replace("number", "count"), "line 2: column 'y' is 1.5 there"),
    ],
)  # fmt: skip
def test_a_cell_that_does_not_fit_a_log_is_shown_with_its_line(tmp_path, suffix, text, mapping, said):
    log, rules = tmp_path / f"log.{suffix}", tmp_path / "map.toml"
    log.write_text(text)
    rules.write_text(mapping)
    with pytest.raises(lt.TraceError, match=said):
        lt.load_trace(log, mapping=rules)
    rules.write_text('rest = "drop"\n' + mapping)
    if "'y'" not in said and "'f'" not in said and "'t'" not in said and "frame" not in said:
        assert lt.load_trace(log, mapping=rules)["wick.y"][0] == 1


def test_a_log_that_counts_by_a_calendar_is_told_so_with_its_row(tmp_path):
    log, rules = tmp_path / "log.parquet", tmp_path / "map.toml"
    began = datetime.datetime(2026, 1, 1)
    for column in ([began, began + datetime.timedelta(seconds=1)], [datetime.time(0), datetime.time(1)], [None, None]):
        pq.write_table(pa.table({"t": column, "y": [1.0, 2.0]}), log)
        for key in ("frame", "time"):
            rules.write_text(f'{key} = "t"\nrate = 60\n')
            with pytest.raises(
                lt.TraceError, match=r"row 0: column 't' counts, so it holds numbers, not (datetime\.|None)"
            ):
                lt.load_trace(log, mapping=rules)


def test_a_thinned_trace_reads_back_from_a_csv(tmp_path, dusk_trace):
    thin = dusk_trace.thinned(5)
    again = lt.load_trace(thin.save(tmp_path / "thin.csv"))
    assert again.header.every == 5 and again["wick.x"].tolist() == thin["wick.x"].tolist()
    assert again.at("wick.x", 12) == thin.at("wick.x", 12)


def test_windows_arrays_and_thinned_recordings(dusk_trace):
    part = dusk_trace.window("0.5s", "1s")
    assert part.rows == 31 and part["wick.y"].tolist() == dusk_trace["wick.y"][30:61].tolist()
    assert [e.row for e in part.events.named("hop")] == [0] and dusk_trace.window(-5).rows == 5
    array = dusk_trace.to_numpy()
    assert lt.Trace.from_numpy(array, 60)["wick.gait"].tolist() == dusk_trace["wick.gait"].tolist()
    back = lt.Trace.from_pandas(dusk_trace.to_pandas(), 60)
    assert {n: c.stored.tobytes() for n, c in back.columns.items() if c.channel.kind != "label"} == {
        n: c.stored.tobytes() for n, c in dusk_trace.columns.items() if c.channel.kind != "label"
    }
    thin = dusk_trace.thinned(4)
    assert thin.row_frames.tolist() == sorted({*range(0, dusk_trace.rows, 4), dusk_trace.frames})
    assert thin.at("wick.x", 40) == dusk_trace["wick.x"][40] and thin.at("wick.gait", 43) == dusk_trace["wick.gait"][40]
    assert thin.at("wick.x", 42.0) == (dusk_trace["wick.x"][40] + dusk_trace["wick.x"][44]) / 2
    thinning_error = thin.thinning_error(dusk_trace)
    assert thinning_error["wick.y"] == max(
        abs(thin.at("wick.y", n) - dusk_trace["wick.y"][n]) for n in range(dusk_trace.rows)
    )
    with pytest.raises(lt.LarkTallyError, match="its rows are not frames"):
        lt.check(thin, [lt.claim("a", "always(wick.y > 0)")])
    with pytest.raises(lt.LarkTallyError, match="no rows 3..900"):
        dusk_trace.window(3, 900)


@pytest.mark.parametrize("frames", [0, 1, 2, 6, 7, 8, 12, 13])
@pytest.mark.parametrize("every", [1, 3, 4])
def test_a_thinned_recording_keeps_its_last_row_and_every_event_with_its_frame(tmp_path, frames, every):
    class Count:
        events = ("tick",)

        def reset(self, setup):
            self.n = 0

        def step(self, now):
            self.n += 1
            return [lt.Event("tick", n=self.n)]

        def observe(self):
            return {"n": float(self.n * self.n), "odd": self.n % 2 == 1}

    full = lt.record(Count, frames=frames)
    thin = full.thinned(every)
    kept = sorted({*range(0, frames + 1, every), frames})
    for trace in (
        thin,
        lt.load_trace(thin.save(tmp_path / "a.parquet")),
        lt.load_trace(thin.save(tmp_path / "a.jsonl")),
    ):
        assert trace.row_frames.tolist() == kept and trace["n"].tolist() == [n * n for n in kept]
        assert trace.digest == thin.digest
        fell = [(kept[e.row], e.data["n"], e.data.get("frame", e.data["n"])) for e in trace.events]
        assert fell == [(min(k for k in kept if k >= n), n, n) for n in range(1, frames + 1)]
    off = []
    for frame in range(frames + 1):
        low, high = max(k for k in kept if k <= frame), min(k for k in kept if k >= frame)
        between = low**2 + (high**2 - low**2) * ((frame - low) / max(high - low, 1))
        assert thin.at("n", frame) == between and thin.at("odd", frame) == (low % 2 == 1)
        off.append(abs(between - frame**2))
    assert thin.thinning_error(full)["n"] == max(off)
    twice = thin.thinned(2)
    assert twice.row_frames.tolist() == sorted({*kept[::2], frames}) and twice.row(twice.rows - 1) == full.row(frames)
    if len(kept) > 3:
        assert lt.load_trace(thin.save(tmp_path / "a.csv"), rate=60).row_frames.tolist() == kept
        assert thin.window(1).row_frames.tolist() == [k - every for k in kept[1:]]


@pytest.mark.slow
def test_memory_stays_flat_while_a_long_run_goes_into_a_file(tmp_path):
    code = (
        "import resource, sys, larktally as lt\n"
        "from tests.test_recording_files import Walk, TAPS\n"
        "lt.record(Walk, TAPS, frames=20_000, to=sys.argv[1] + '/a.parquet')\n"
        "first = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss\n"
        "lt.record(Walk, TAPS, frames=400_000, to=sys.argv[1] + '/b.parquet')\n"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - first)"
    )
    environment = {**os.environ, "PYTHONPATH": os.getcwd()}
    done = subprocess.run([sys.executable, "-c", code, str(tmp_path)], capture_output=True, text=True, env=environment)
    assert done.returncode == 0, done.stderr
    assert int(done.stdout) < 40_000, "kilobytes more for 400,000 rows of 21 bytes"


@pytest.mark.slow
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(
        st.tuples(
            st.integers(-(10**6), 10**6),
            st.booleans(),
            st.sampled_from("abc"),
            st.sampled_from(["", "hop", "hop|land"]),
        ),
        min_size=2,
        max_size=20,
    ),
    st.sampled_from([30, 60, 144]),
    st.sampled_from([",", ";"]),
    st.sampled_from(["csv", "jsonl", "parquet"]),
)
def test_what_a_log_holds_stands_in_the_trace_under_its_new_name(tmp_path, rows, rate, delimiter, kind):
    path, mapping = tmp_path / f"log.{kind}", tmp_path / "map.toml"
    table = {
        "t": [round(1000 * k / rate, 3) for k in range(len(rows))],
        "cm": [row[0] for row in rows],
        "on": [int(row[1]) for row in rows],
        "state": [row[2] for row in rows],
        "what": [row[3] for row in rows],
    }
    frame = pd.DataFrame(table)
    if kind == "csv":
        frame.to_csv(path, sep=delimiter, index=False)
    elif kind == "jsonl":
        path.write_text("".join(json.dumps(line) + "\n" for line in frame.to_dict("records")))
    else:
        frame.to_parquet(path)
    mapping.write_text(
        f'time = "t"\ntime_unit = "ms"\nrate = {rate}\ndelimiter = "{delimiter}"\nevents = "what"\nevents_separator = "|"\n'
        'rest = "drop"\n[channels]\n"wick.y" = { column = "cm", scale = 0.01 }\n"wick.on" = { column = "on", kind = "flag" }\n'
        '"wick.gait" = { column = "state", labels = { "a" = "up", "b" = "down" } }\n'
    )
    if any(row[2] == "c" for row in rows):
        with pytest.raises(lt.TraceError, match="'c' is not one of its labels"):
            lt.load_trace(path, mapping=mapping)
        return
    trace = lt.load_trace(path, mapping=mapping)
    assert trace["wick.y"].tolist() == [row[0] * 0.01 for row in rows] and trace.rate == rate
    assert trace["wick.on"].tolist() == [row[1] for row in rows]
    assert trace["wick.gait"].tolist() == [{"a": "up", "b": "down"}[row[2]] for row in rows]
    expected = [(k, name) for k, row in enumerate(rows) for name in row[3].split("|") if name]
    assert [(e.row, e.name) for e in trace.events] == expected
    mapping.write_text(mapping.read_text().replace(f"rate = {rate}\n", ""))
    if len(rows) > 3:
        assert lt.load_trace(path, mapping=mapping).rate == rate


@pytest.mark.slow
def test_a_recording_that_goes_on_survives_flipped_bytes_as_one_message(tmp_path):
    lt.record(Walk, TAPS, frames=5200, to=tmp_path / "whole.parquet")
    from larktally.runs import file_recording

    class Stops(Exception):
        pass

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            file_recording.FileRecording,
            "finished",
            lambda self, *a, **k: (self._writer.close(), (_ for _ in ()).throw(Stops()))[1],
        )
        with pytest.raises(Stops):
            lt.record(Walk, TAPS, frames=5200, to=tmp_path / "cut.parquet")
    content = (tmp_path / "cut.parquet.partial").read_bytes()
    assert RecordingStream(tmp_path / "cut.parquet.partial").whole()["n"].tolist() == list(range(5201))
    draw = random.Random(9)
    for _ in range(120):
        flipped = bytearray(content)
        flipped[draw.randrange(4000)] ^= 1 << draw.randrange(8)
        (tmp_path / "f.partial").write_bytes(flipped)
        try:
            RecordingStream(tmp_path / "f.partial").whole()
        except lt.TraceError as error:
            assert "f.partial" in str(error)


def test_a_recording_that_goes_on_is_only_read_in_the_form_it_is_written_in(tmp_path):
    header = {"larktally": 1, "rate": "60", "channels": [{"name": "n", "kind": "count"}]}
    event = pa.struct([("name", pa.string()), ("source", pa.string()), ("data", pa.string())])

    def stream(kind, compression=None):
        path = tmp_path / "odd.parquet.partial"
        table = pa.table({"n": pa.array([0] * 4000, kind), "events": pa.array([[]] * 4000, pa.list_(event))})
        schema = table.schema.with_metadata({"larktally": json.dumps(header)})
        options = pa.ipc.IpcWriteOptions(compression=compression)
        with pa.OSFile(str(path), "wb") as file, pa.ipc.new_stream(file, schema, options=options) as writer:
            writer.write_table(table.cast(schema))
        return path

    assert RecordingStream(stream(pa.int64())).whole()["n"].tolist() == [0] * 4000
    with pytest.raises(lt.TraceError, match=r"odd\.parquet\.partial: broken: its columns are not the ones"):
        RecordingStream(stream(pa.float64()))
    for codec in ("zstd", "lz4"):
        with pytest.raises(lt.TraceError, match="its batches are compressed"):
            RecordingStream(stream(pa.int64(), codec))


@pytest.mark.slow
def test_a_long_text_in_every_row_of_a_small_file_is_held_once(tmp_path):
    header = {"larktally": 1, "rate": "60", "channels": [{"name": "s", "kind": "label", "labels": []}]}
    event = pa.struct([("name", pa.string()), ("source", pa.string()), ("data", pa.string())])
    long, rows = "hop" * 100_000, 4000
    header["channels"][0]["labels"] = [long]
    data = json.dumps({"who": long})
    said = pa.array([[{"name": "hop", "source": None, "data": data}]] * 10, pa.list_(event))
    columns = {"s": [pa.array([long] * 10)] * (rows // 10), "events": [said] * (rows // 10)}
    table = pa.table({name: pa.chunked_array(chunks) for name, chunks in columns.items()})
    with pq.ParquetWriter(tmp_path / "long.parquet", table.schema, store_schema=False) as writer:
        writer.write_table(table, row_group_size=1000)
        writer.add_key_value_metadata({"larktally": json.dumps(header)})
    pa.default_memory_pool().release_unused()
    before = pa.default_memory_pool().max_memory()
    trace = lt.load_trace(tmp_path / "long.parquet")
    assert pa.default_memory_pool().max_memory() <= max(before, 200_000_000)
    assert trace.frames == rows - 1 and set(trace.events.data) == {f'{{"who":"{long}"}}'}
    assert trace.events[3].source == "" and trace.events[3].data == {"who": long}


@pytest.mark.parametrize("data", ["{bad", "[1]", "[" * 5000, "7"])
def test_event_data_that_is_no_object_is_refused_when_it_is_read(tmp_path, data):
    lt.record(Walk, TAPS, frames=5000).save(tmp_path / "a.parquet")
    table = pq.read_table(tmp_path / "a.parquet")
    said = [[{**event, "data": data} for event in row] for row in table["events"].to_pylist()]
    at = table.column_names.index("events")
    bent = table.set_column(at, table.schema.field("events"), pa.array(said, table.schema.field("events").type))
    pq.write_table(bent, tmp_path / "b.parquet")
    with pytest.raises(lt.TraceError, match="the data of an event is not a JSON object"):
        lt.load_trace(tmp_path / "b.parquet")


@pytest.mark.parametrize("suffix", ["parquet", "jsonl"])
def test_a_run_that_only_says_events_keeps_its_rows_in_every_file(tmp_path, suffix):
    def bell(setup):
        sim = lt.Sim(setup, events=("toll",))

        @sim.before("inputs")
        def toll(now):
            if now.frame % 6 == 2:
                now.emit("toll")

        return sim

    trace = lt.record(bell, frames=20, to=tmp_path / f"bell.{suffix}")
    found = lt.load_trace(tmp_path / f"bell.{suffix}")
    assert (trace.frames, found.frames, found.digest) == (20, 20, trace.digest)
    assert [event.row for event in found.events] == [2, 8, 14, 20]
    assert lt.load_trace(trace.save(tmp_path / "bell.csv"), rate=60).frames == 20
    assert found.window(2, 9).frames == 7 and found.thinned(3).rows == 8 and lt.replay(found, bell).identical


def test_a_small_file_that_unfolds_beyond_any_run_is_refused(tmp_path, monkeypatch):
    from larktally.traces import columns

    still = lt.record(Walk, frames=3000)
    for suffix in ("parquet", "jsonl"):
        path = still.save(tmp_path / f"a.{suffix}")
        monkeypatch.setattr(columns, "MOST_CELLS", 3000)
        with pytest.raises(lt.TraceError, match="more than the 3000 values that are read at once"):
            lt.load_trace(path)
        monkeypatch.undo()
    said = lt.record(Walk, TAPS, frames=5000)
    monkeypatch.setattr(columns, "MOST_EVENTS", len(said.events) - 1)
    for suffix in ("parquet", "csv"):
        path = said.save(tmp_path / f"b.{suffix}")
        with pytest.raises(lt.TraceError, match=f"{len(said.events)} events are more than the"):
            lt.load_trace(path, rate=60 if suffix == "csv" else None)


def test_recording_saving_and_loading_leave_pandas_alone(tmp_path):
    code = (
        "import sys, larktally as lt\n"
        "from larktally.demo.quay import dusk_run\n"
        "trace = lt.record(dusk_run, to=sys.argv[1] + '/a.parquet')\n"
        "assert trace['wick.x'][3] == lt.load_trace(trace.save(sys.argv[1] + '/b.parquet'))['wick.x'][3]\n"
        "assert lt.load_trace(sys.argv[1] + '/b.parquet').digest == trace.digest\n"
        "assert 'pandas' not in sys.modules"
    )
    subprocess.run([sys.executable, "-c", code, str(tmp_path)], check=True)
