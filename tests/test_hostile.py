"""Hostile and broken input of every kind: one message of the library's own, or none; no crash, no hang, nothing lost.

Everything random prints its seed.
"""

import itertools
import json
import os
import random
import re
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from tests import hostile
from tests.test_cli import call
from tests.test_files import traces

import larktally as lt
from larktally.names import name_fault
from larktally.textfmt import printable
from larktally.traces.events import EventLog

SCRIPT = Path(hostile.__file__)
ROOT = SCRIPT.parent.parent


@pytest.fixture(scope="module")
def good(tmp_path_factory):
    folder = tmp_path_factory.mktemp("good")
    hostile.make(folder)
    return folder


def started(good, *words):
    env = {**os.environ, "PYTHONPATH": os.pathsep.join([str(ROOT), *filter(None, [os.environ.get("PYTHONPATH")])])}
    return subprocess.Popen([sys.executable, SCRIPT, good, *map(str, words)], stdout=-1, stderr=-1, text=True, env=env)


@pytest.mark.slow
@pytest.mark.parametrize("name", hostile.FORMATS)
def test_two_thousand_mutations_of_each_format_are_read_or_refused(good, name):
    # In a process of its own: one that ends the interpreter is a failure here, and not the end of all tests.
    seed = random.randrange(10**6)
    process = started(good, seed, 2000, name)
    told, errors = process.communicate(timeout=300)
    assert process.returncode == 0, f"seed {seed}: exit status {process.returncode}\n{told[-3000:]}{errors[-3000:]}"
    # What is refused at the door tries nothing behind it.
    assert int(told.split()[1]) > 20, told


@pytest.mark.slow
def test_a_hundred_mutated_files_on_the_command_line(good):
    seed = random.randrange(10**6)
    process = started(good, seed, 100, "--commands")
    told, errors = process.communicate(timeout=300)
    assert process.returncode == 0, f"seed {seed}: {told[-3000:]}{errors[-3000:]}"
    assert "Traceback" not in errors


WORDS = (
    "always", "never", "eventually", "follows", "lasts", "until", "spaced", "stays", "each", "implies", "prev", "since", "count", "highest",
    "in_state", "event", "data", "held", "measured", "apex", "(", ")", "(", ")", ",", ",", "'", '"', "[", "]", "{", "}", ".", "..", "=", "==",
    "<", "<=", "!=", "and", "or", "not", "in", "is", "lambda", "if", "else", "for", "*", "**", "//", "%", "-", "~", "&", "|", "@", ":=", "n",
    "wick.y", "mood", "'bright'", "'9f'", "'0.35s'", "'1e9s'", "0", "1", "-1", "1e308", "1e999", "9" * 400, "0x1f", "1_0", "1j", "b'x'",
    "f'{n}'", "within=", "after=", "last=", "since=", "at_least=", "up", "twice", "\\", "\n", "#", "\u202e", "\x00", "\ud800", "é", "None",
    "True", "__import__('os')", "x.__class__", "...", "'\\x1b[2J'",
)  # fmt: skip


@pytest.mark.slow
@pytest.mark.filterwarnings("error")
def test_two_thousand_hostile_texts_are_refused_or_judged(good):
    seed = random.randrange(10**6)
    print(f"seed {seed}")
    pick = random.Random(seed)
    trace = lt.load_trace(good / "lamp.jsonl")
    whole = (
        "always(n >= 0)", "follows(began(lit), n > 3, within='0.1s')", "never(half > 9)", "measured(apex(n), 0, 99)", "at(3, lit)",
        "stays(lit, at_least=1)", "always(implies(event('lit'), n > 0))", "lasts(lit, n >= 0, 3)", "spaced(lit, at_least=2)",
    )  # fmt: skip
    judged = 0
    for n in range(2000):
        if n % 2:
            text = " ".join(pick.choice(WORDS) for _ in range(pick.randrange(1, 14)))
        else:
            # A word in another's place: much of that can be judged.
            text = re.findall(r"'[^']*'|\w+|\W", pick.choice(whole))
            for _ in range(pick.choice((1, 1, 1, 2, 3))):
                text[pick.randrange(len(text))] = pick.choice((*WORDS, "n", "half", "lit", "3"))
            text = "".join(text)
        began = time.perf_counter()
        try:
            str(lt.check(trace, [lt.claim("hostile", text)]))
            judged += 1
        except lt.LarkTallyError as error:
            assert 5 < len(str(error)) <= 2000, text
        assert time.perf_counter() - began < 5, text
    assert judged > 10


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        (
            ["a0 = 'n > 0'", *(f"a{k} = 'a{k - 1} and a{k - 1}'" for k in range(1, 30))],
            "it grows to 16383 parts; at most 10000",
        ),
        (["a0 = 'n'", *(f"a{k} = '-(a{k - 1} + 1)'" for k in range(1, 90))], "it is nested 102 deep; at most 100"),
        (["prev = 'n > 0'"], "define 'prev': it is a word of the language"),
        (["frame = 'n > 0'"], "define 'frame': it is a word of the language"),
        (["true = 'n > 0'"], "define 'true': it is a word of the language"),
        (["'a b' = 'n > 0'"], "define 'a b': a name is a word, without dots or spaces"),
    ],
)
def test_what_a_define_grows_to_is_counted_and_its_name_is_its_own(tmp_path, lines, said):
    path = tmp_path / "claims.toml"
    path.write_text("\n".join(["[define]", *lines, "[[claim]]", "name = 'it'", "that = 'always(n >= 0)'"]))
    began = time.perf_counter()
    with pytest.raises(lt.ClaimError, match=said):
        lt.load_claims(path)
    assert time.perf_counter() - began < 5


ANSWERS = """
import json, random, sys
sys.path.insert(0, sys.argv[2])
from tests.mutations import mutated_answer
pick, n = random.Random(sys.argv[1]), 0
wrong_at = pick.randrange(1, 7)
asked_for = 0
for line in sys.stdin:
    asked = json.loads(line)
    method, params = asked["method"], asked["params"]
    asked_for += 1
    if method == "hello":
        result = {"protocol": 1, "name": "odd", "channels": [{"name": "n", "kind": "count"}, {"name": "half", "kind": "number"},
                  {"name": "mood", "kind": "label", "labels": ["calm", "cross"]}], "actions": ["hop", {"name": "walk", "analog": True}],
                  "events": ["mark"], "rates": [], "saves": True, "params": [{"name": "speed", "default": 120, "least": 10}]}
    elif method == "step":
        count = params["frames"]
        result = {"columns": {"n": list(range(n + 1, n + 1 + count)), "half": [0.5] * count, "mood": ["calm"] * count},
                  "events": [[params["first"], "mark", "odd", {"n": n}]] if count else []}
        n += count
    elif method == "load":
        n = int(params["state"])
        result = {"frame": n, "row": {"n": n, "half": 0.5, "mood": "calm"}}
    else:
        n = 0 if method == "reset" else n
        result = {"row": {"n": n, "half": 0.5, "mood": "calm"}, "events": [], "state": str(n)}
    answer = {"jsonrpc": "2.0", "id": asked["id"], "result": result}
    text = json.dumps(answer).encode()
    if asked_for == wrong_at:
        text = mutated_answer(answer, pick)
    sys.stdout.buffer.write(text + b"\\n")
    sys.stdout.buffer.flush()
    if method == "end":
        break
"""


@pytest.mark.slow
def test_a_hundred_odd_answers_of_a_program_are_one_message_or_a_run(tmp_path):
    first = random.randrange(10**6)
    print(f"seed {first}")
    script = tmp_path / "odd.py"
    script.write_text(ANSWERS)
    read = 0
    for seed in range(first, first + 100):
        limits = {"start_within": "5s", "step_within": "2s", "end_within": "1s"}
        program = lt.Program([sys.executable, script, str(seed), str(ROOT)], batch=8, **limits)
        began = time.perf_counter()
        try:
            trace = lt.record(program, lt.InputScript().press("hop", 3), frames=20, states=10)
            trace.save(tmp_path / "odd.jsonl")
            read += lt.load_trace(tmp_path / "odd.jsonl").digest == trace.digest
        except lt.LarkTallyError as error:
            assert 10 < len(str(error)) <= 2000, seed
        finally:
            program.stop(at_once=True)
        assert time.perf_counter() - began < 12, seed
    assert 0 < read < 100


NAMES = (
    "", " ", " n", "n ", "a\nb", "a\tb", "a\rb", "\x00", "\x1b[2J", "\x9b2J", "\x7f", "\u202egnp", "\u2028", "\ud800", "n" * 1001, "n" * 300,
    "$x$", "a,b", 'a"b', "a'b", "<b>", "&amp;", "[bold]", "{it}", "../up", "/etc/x", "C:\\x", "events", "frame", "input:hop", "event:hop",
    "seen:n", "größe", "雪", "🦊", "0", "-", "nan", "true", "__class__", "%s", "a.b", ".a", "a.", "a..b", "$end", "#", "\\", "`rm`", "=1+1",
)  # fmt: skip


class Named:
    """A subject of which something has a hostile name."""

    def __init__(self, what, name):
        self.what, self.name = what, name
        if what == "action":
            self.actions = (name,)
        if what == "event":
            self.events = (name,)

    def reset(self, setup): ...
    def step(self, now):
        if self.what == "event":
            return [lt.Event(self.name, "lamp", n=1)]
        if self.what == "source":
            return [lt.Event("lit", self.name, n=1)]
        if self.what == "data":
            return [lt.Event("lit", "lamp", **{self.name: self.name})]
        return None

    def observe(self):
        label = self.name if self.what == "label" else "dark"
        return {"n": 1.5, "mood": label, **({self.name: 2.5} if self.what == "channel" else {})}


@pytest.mark.parametrize("what", ["channel", "action", "event", "source", "data", "label", "scenario", "claim"])
def test_a_hostile_name_is_refused_with_a_message_or_goes_through_every_file_and_view(tmp_path, what):
    taken = 0
    for name in NAMES:
        inputs = lt.InputScript().press(name, 2) if what == "action" and not name_fault(name) else None
        title = name if what == "scenario" else "dusk"
        try:
            claims = [lt.claim(name if what == "claim" else "it is there", "always(frame >= 0)")]
            scenario = lt.Scenario(Named(what, name), frames=4, inputs=inputs, name=title, claims=claims)
            trace = lt.record(scenario)
        except lt.LarkTallyError as error:
            assert 10 < len(str(error)) <= 2000 and printable(str(error)) == str(error), (name, str(error))
            continue
        taken += 1
        for suffix in ("jsonl", "parquet", "csv", "vcd"):
            path = trace.save(tmp_path / f"run.{suffix}")
            if suffix in ("jsonl", "parquet"):
                assert lt.load_trace(path).digest == trace.digest, (what, name, suffix)
        table = lt.load_trace(tmp_path / "run.csv", rate=60)
        assert table.channels == trace.channels and list(table.inputs) == list(trace.inputs), name
        shown = [
            call("show", tmp_path / "run.parquet").output,
            call("show", tmp_path / "run.parquet", "--events").output,
        ]
        shown.append(str(lt.check(trace, scenario.claims)))
        for text in shown:
            assert printable(text) == text, (what, name)
    assert taken > 5


@pytest.mark.parametrize("what", ["channel", "label", "scenario"])
def test_a_picture_shows_a_hostile_name_as_it_is_written(tmp_path, what):
    for name in ("$x^2$", "$", "a\x1b[2Jb", "$\\frac{1}{0}$", "<b>&"):
        if what != "label" and name_fault(name):
            continue
        trace = lt.record(lt.Scenario(Named(what, name), frames=30, name=name if what == "scenario" else "dusk"))
        svg = lt.save_picture(lt.draw_run(trace, lines=[name] if what == "channel" else ["mood"]), tmp_path / "run.svg")
        assert "\x1b" not in svg.read_text()


CONVERTED = list(itertools.product(("parquet", "jsonl", "csv"), repeat=2))


@pytest.mark.slow
@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(trace=traces())
def test_what_is_read_can_be_converted_to_every_format_and_read_back(tmp_path, trace):
    for source, target in CONVERTED:
        first, second = tmp_path / f"a.{source}", tmp_path / f"b.{target}"
        trace.save(first)
        rate = ["--rate", "60000/1001"] if source == "csv" else []
        # A table of no channels has no rows either, and a CSV with none says of no column what it is.
        if source == "csv" and not (trace.channels and trace.rows):
            continue
        done = call("convert", first, second, *rate)
        assert done.exit_code == 0, done.output
        read = lt.load_trace(first, rate="60000/1001" if source == "csv" else None)
        again = lt.load_trace(second, rate="60000/1001" if target == "csv" else None)
        assert again.rows == read.rows or not read.channels
        if target != "csv":
            assert again.digest == read.digest
        elif read.rows:
            assert again.channels == read.channels
            assert [e.name for e in again.events] == sorted_in_rows(read)


def sorted_in_rows(trace):
    """The names of a CSV's events: in each row in the order of its columns."""
    order = list(trace.header.events) or list(dict.fromkeys(trace.events.names))
    return [e.name for e in sorted(trace.events, key=lambda e: (e.row, order.index(e.name)))]


@pytest.mark.parametrize(
    ("cells", "values"),
    [
        (["0x1f", "0x20"], ["0x1f", "0x20"]),
        (["12:00", "13:30"], ["12:00", "13:30"]),
        (["2026-11-25", "2026-11-26"], ["2026-11-25", "2026-11-26"]),
        (["2026-11-25T10:00:00", "2026-11-26T10:00:00"], ["2026-11-25T10:00:00", "2026-11-26T10:00:00"]),
        (["+1", "-2"], [1, -2]),
        ([" 1", "2 "], [1, 2]),
        (["007", "8"], [7, 8]),
        (["1e2", "3"], [100.0, 3.0]),
        (["+1.5", "2e+3"], [1.5, 2000.0]),
        (["9223372036854775807", "-9223372036854775808"], [2**63 - 1, -(2**63)]),
        (["9223372036854775808", "1"], [2.0**63, 1.0]),
        (["true", "FALSE"], [True, False]),
        (["true", "1"], ["true", "1"]),
        (["inf", "-inf"], [np.inf, -np.inf]),
        (['"a\nb"', '"c ""d"", e"'], ["a\nb", 'c "d", e']),
        (["1_000", "2"], ["1_000", "2"]),
    ],
)
def test_the_kind_of_a_csv_column_is_what_the_page_says(tmp_path, cells, values):
    path = tmp_path / "t.csv"
    path.write_text("frame,v\n" + "".join(f"{k},{cell}\n" for k, cell in enumerate(cells)), encoding="utf-8")
    found = lt.load_trace(path)["v"].tolist()
    assert found == values and [type(v) for v in found] == [type(v) for v in values]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("frame,event:\n0,1\n", "an event cannot be called '': the name is empty"),
        ("frame,input:\n0,1\n", "an action cannot be called '': the name is empty"),
        ("frame,event:lit\n0,1\n1,19999999\n", "line 3: 19999999 events in one row, column 'event:lit'; at most 10000"),
        ("frame,input:hop\n0,0\n1,2\n", "input 'hop' is 2 in row 1; an input is in [-1, 1]"),
        ("frame,n,n\n0,1,2\n", "two columns are called 'n'"),
        ("frame,a\x1bb\n0,1\n", "the name holds the character '\\x1b'"),
    ],
)
def test_a_csv_that_holds_what_no_recording_does_is_refused(tmp_path, text, said):
    (tmp_path / "t.csv").write_text(text)
    with pytest.raises(lt.TraceError) as told:
        lt.load_trace(tmp_path / "t.csv")
    assert said in str(told.value)


HEADER = {"larktally": 1, "rate": "60", "channels": [{"name": "n", "kind": "number"}], "inputs": ["hop"]}
GAIT = {"name": "gait", "kind": "label", "labels": ["up", "up"]}


@pytest.mark.parametrize(
    ("header", "lines", "said"),
    [
        ({}, ['{"frame":0,"set":{}}'], "line 2: channel 'n' is missing; in row 0 every channel stands"),
        ({}, ['{"frame":0,"set":{"n":1},"input":{"hop":1.5}}'], "line 2: input 'hop' is 1.5; an input is in [-1, 1]"),
        ({}, ['{"frame":0,"set":{"n":1},"input":{"hop":"nan"}}'], "line 2: input 'hop' is nan; an input is in [-1, 1]"),
        ({}, ['{"frame":0,"set":{"n":1,"n":2}}'], "line 2: the key 'n' stands twice"),
        ({}, ['{"frame":0,"frame":0,"set":{"n":1}}'], "line 2: the key 'frame' stands twice"),
        ({}, ['{"frame":0,"set":{"n":' + "9" * 400 + "}}"], "line 2: 9999"),
        ({}, ['{"frame":0,"set":{"n":' + "9" * 5000 + "}}"], "line 2: "),
        ({}, ['{"frame":0,"set":{"n":1},"events":[[""]]}'], "line 2: an event cannot be called '': the name is empty"),
        ({}, ['{"frame":0,"set":{"n":1},"events":[["a\\u001bb"]]}'], "the name holds the character '\\x1b'"),
        ({"every": 0}, [], "'every' is 0, and every n-th row is kept, n at least 1"),
        ({"inputs": ["hop", "hop"]}, [], "it names the input 'hop' twice"),
        ({"channels": [GAIT]}, [], "channel 'gait' has the label 'up' twice"),
        (
            {"channels": [{"name": "n", "kind": "number", "labels": ["a"]}]},
            [],
            "channel 'n' has labels, and is a number",
        ),
        ({"channels": [{"name": "n", "kind": "number", "wraps": 0}]}, [], "channel 'n' wraps at 0"),
        ({"channels": [{"name": "events", "kind": "number"}]}, [], "trace files keep that name"),
        ({"scene": {"boxes": [[1, 2]]}}, [], "its scene is of another shape"),
        ({"scene": {"bodies": {"wick": {"size": [1], "before": [0, 0]}}}}, [], "a place or size of 1 numbers"),
        ({"scene": {"bodies": 7}}, [], "its scene is of another shape"),
        ({"seed": -1}, [], "'seed' is -1"),
    ],
)
def test_a_json_lines_file_that_no_recording_writes_is_refused_with_its_line(tmp_path, header, lines, said):
    path = tmp_path / "run.jsonl"
    path.write_text("\n".join([json.dumps(HEADER | header), *lines, json.dumps({"rows": len(lines)})]) + "\n")
    with pytest.raises(lt.TraceError) as told:
        lt.load_trace(path)
    assert said in str(told.value) and len(str(told.value)) < 2000


@pytest.mark.parametrize(
    ("given", "kept"),
    [
        ('{"speed": 360}', '{"speed":360}'),
        ('{"b":1,"a":2}', '{"a":2,"b":1}'),
        ('{"v":1e2}', '{"v":100.0}'),
        ('{"v":"\\u0041\\/"}', '{"v":"A/"}'),
        ("{ }", ""),
    ],
)
def test_event_data_in_any_json_form_is_one_form_from_then_on(tmp_path, lamp_trace, given, kept):
    foreign = lamp_trace.changed(events=EventLog([3], ["lit"], ["lamp"], [given]))
    foreign.save(tmp_path / "foreign.parquet")
    hostile.without_sums(tmp_path / "foreign.parquet")
    read = lt.load_trace(tmp_path / "foreign.parquet")
    assert read.events.data == [kept]
    for target in ("jsonl", "parquet"):
        assert call("convert", tmp_path / "foreign.parquet", tmp_path / f"again.{target}").exit_code == 0
        assert lt.load_trace(tmp_path / f"again.{target}").digest == read.digest


def test_a_log_of_which_only_the_events_are_mapped_keeps_its_rows(tmp_path):
    (tmp_path / "log.csv").write_text("t,said\n0,\n1,lit\n2,\n3,\n")
    (tmp_path / "map.toml").write_text('frame = "t"\nrest = "drop"\nevents = "said"\nrate = 60\n')
    trace = lt.load_trace(tmp_path / "log.csv", mapping=tmp_path / "map.toml")
    assert trace.rows == 4 and [(e.row, e.name) for e in trace.events] == [(1, "lit")]
    assert lt.check(trace, [lt.claim("it is lit", "at(1, event('lit'))")]).passed
    for suffix in ("jsonl", "parquet"):
        assert lt.load_trace(trace.save(tmp_path / f"again.{suffix}")).rows == 4


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("hop,1,1,2.0", "action 'hop' takes a value in [-1, 1], not 2.0"),
        ("hop,1,1,nan", "takes a value in [-1, 1], not nan"),
        (",1,1,1.0", "an action cannot be called '': the name is empty"),
        ("hop,x,1,1.0", "is not an action, a start frame, a number of frames and a value"),
        ("hop,-1,1,1.0", "line 2: "),
        ('hop,1,1,"' + "x" * 200_000, "cannot be read as an input script"),
    ],
)
def test_an_input_script_that_does_not_fit_is_told_with_its_line(tmp_path, line, said):
    path = tmp_path / "script.csv"
    path.write_text(f"action,start,frames,value\n{line}\n")
    with pytest.raises(lt.InputError) as told:
        lt.InputScript.from_csv(path)
    assert said in str(told.value) and str(path) in str(told.value)


def test_settling_on_a_value_that_is_no_number_is_none_and_on_an_infinite_one_is_where_it_began():
    for values, settled in (
        ([0, 1, np.nan], np.nan),
        ([0, np.inf, np.inf], 1.0),
        ([3, 3, 3], 0.0),
        ([0, np.nan, 2], 2.0),
    ):
        found = lt.measure(lt.Trace.from_columns({"x": np.array(values, dtype=float)}, rate=60), "settling(x, 0.5)")
        assert found == settled or (np.isnan(found) and np.isnan(settled)), values


def test_an_event_that_is_none_in_the_middle_of_a_batch_is_told_with_its_own_row():
    class Batch(hostile.Lamp):
        def step(self, now):
            return [lt.Event("lit", "lamp", at=float("nan"))] if now.frame == 37 else None

    with pytest.raises(lt.SubjectFailed, match="row 37: event data.at is nan") as failed:
        lt.record(Batch(), frames=90)
    assert failed.value.row == 37 and failed.value.trace.rows == 37


def test_a_message_is_never_longer_than_a_screen_can_take():
    with pytest.raises(lt.LarkTallyError) as told:
        lt.Trace.from_columns({"n" * 500_000: np.zeros(3)})
    assert len(str(told.value)) <= 2000
