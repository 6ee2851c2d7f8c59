"""Lines over a pipe, whatever way they are cut up; and the messages of the programs' page."""

import json
import math
import os
import pickle
import re
import shutil
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

import larktally as lt
from larktally.cli import main
from larktally.explain.causes import causes_of_breaches
from larktally.runs.observers import RunObserver
from larktally.runs.runner import Runner
from larktally.subjects.programs import rpc
from larktally.subjects.programs import wire as wires
from larktally.subjects.programs.handshake import Shapes, columns_of, events_of, handshake_of, row_of
from larktally.subjects.programs.rpc import ProtocolError
from larktally.subjects.programs.wire import WireError, pipe_wire
from larktally.traces.columns import Channel

ROOT = Path(__file__).parent.parent


def piped():
    """A wire, and the two ends that a program would hold."""
    there, ours = os.pipe()
    mine, theirs = os.pipe()
    return pipe_wire(mine, ours), there, theirs


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.binary(max_size=40).map(lambda b: b.replace(b"\n", b"").rstrip(b"\r")), max_size=8), st.integers(1, 17)
)
def test_lines_come_whole_however_they_are_cut_up(lines, size):
    wire, there, theirs = piped()
    sent = b"".join(line + b"\n" for line in lines)
    for at in range(0, len(sent), size):
        os.write(theirs, sent[at : at + size])
    assert [wire.line(time.monotonic() + 5) for _ in lines] == lines
    os.close(theirs)
    with pytest.raises(WireError, match="it went away"):
        wire.line(time.monotonic() + 5)
    wire.close()
    os.close(there)


def test_a_line_that_never_ends_is_given_up_by_time_and_by_size(monkeypatch):
    wire, _, theirs = piped()
    os.write(theirs, b"half")
    began = time.monotonic()
    with pytest.raises(WireError, match="no answer in time"):
        wire.line(began + 0.2)
    assert time.monotonic() - began < 2
    monkeypatch.setattr(wires, "MOST_BYTES", 100)
    os.write(theirs, b"x" * 200)
    with pytest.raises(WireError, match="a line of more than 100 bytes"):
        wire.line(time.monotonic() + 5)


def test_a_large_message_to_a_program_that_talks_back_first_does_not_lock_up():
    wire, there, theirs = piped()

    def talk():
        os.write(theirs, b"y" * 60_000 + b"\n")
        read = 0
        while read < 1_000_001:
            read += len(os.read(there, 1 << 16))
        os.write(theirs, b"done\n")

    thread = threading.Thread(target=talk)
    thread.start()
    wire.send(b"x" * 1_000_000, time.monotonic() + 10)
    assert len(wire.line(time.monotonic() + 10)) == 60_000 and wire.line(time.monotonic() + 10) == b"done"
    thread.join()


HELLO = {
    "protocol": 1,
    "name": "g",
    "channels": [{"name": "y", "kind": "number"}, {"name": "s", "kind": "label", "labels": ["a"]}],
}


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({"protocol": "1"}, "it speaks protocol '1'"),
        ({"channels": []}, "lists none"),
        ({"channels": "y"}, "'channels' is a list"),
        ({"channels": [{"name": "y"}]}, "a channel is"),
        ({"channels": [{"name": "y", "kind": "float"}]}, "a channel is"),
        ({"channels": [{"name": "y", "kind": "number"}] * 2}, "two channels are called 'y'"),
        ({"channels": [{"name": "s", "kind": "label"}]}, "announces no labels"),
        ({"channels": [{"name": "frame", "kind": "count"}]}, "cannot be called 'frame'"),
        ({"actions": ["hop", 3]}, "an action has a name"),
        ({"rates": [60, "fast"]}, "a rate is"),
        ({"events": [3]}, "'events' is a list of names"),
    ],
)
def test_an_answer_to_hello_that_does_not_fit_is_told_by_its_key(changed, said):
    with pytest.raises(ProtocolError, match=re.escape(said)):
        handshake_of({**HELLO, **changed})


def test_rows_columns_and_events_are_checked_where_they_come_in():
    able = handshake_of(HELLO)
    assert row_of({"row": {"y": "-inf", "s": "a"}}, able) == (float("-inf"), "a")
    assert columns_of({"columns": {"y": [1, "nan"], "s": ["a", "a"]}}, able, 2)[1] == ["a", "a"]
    assert [(f, e.name, e.source, e.data) for f, e in events_of({"events": [[3, "x"], [4, "y", "w", {"n": 1}]]}, ("x", "y"), 3, 4)] == [
        (3, "x", "", {}), (4, "y", "w", {"n": 1}),
    ]  # fmt: skip
    for call, said in (
        (lambda: row_of({"row": {"y": 1}}, able), "no channel 's'"),
        (lambda: row_of({"row": [1]}, able), "'row' is an object"),
        (lambda: columns_of({"columns": {"y": [1], "s": ["a"], "z": [1]}}, able, 1), "no channel 'z'"),
        (lambda: columns_of({"columns": {"y": [1], "s": 3}}, able, 1), "not 3"),
        (lambda: events_of({"events": [[5, "x"]]}, ("x", "y"), 3, 4), "not in order within 3..4"),
        (lambda: events_of({"events": [[4, "x"], [3, "y"]]}, ("x", "y"), 3, 4), "not in order"),
        (lambda: events_of({"events": [["x"]]}, ("x", "y"), 3, 4), "an event is"),
        (lambda: events_of({"events": [[3, "x", "", 4]]}, ("x", "y"), 3, 4), "an event is"),
    ):
        with pytest.raises(ProtocolError, match=re.escape(said)):
            call()


def test_every_message_on_the_programs_page_is_what_the_library_sends_and_takes():
    text = (ROOT / "docs" / "programs.md").read_text(encoding="utf-8")
    sent = [json.loads(line[2:]) for line in re.findall(r"^→ .*$", text, re.M)]
    taken = [json.loads(line[2:]) for line in re.findall(r"^← .*$", text, re.M)]
    assert [message["method"] for message in sent] == ["hello", "reset", "step", "save", "load", "end"]
    results = {message["method"]: answer.get("result") for message, answer in zip(sent, taken)}
    able = handshake_of(results["hello"])
    assert row_of(results["reset"], able) == (16, "standing") and able.saves and able.actions[1].analog
    step = sent[2]["params"]
    assert columns_of(results["step"], able, step["frames"])[0] == [16, 21.75, 27.25]
    assert events_of(results["step"], able.events, 1, 3)[0][1].data == {"speed": 360}
    assert set(step["inputs"]) == {action.name for action in able.actions}
    assert row_of(results["load"], able) == (27.25, "airborne") and taken[-1]["error"]["data"] == {"frame": 2}


def test_the_block_on_the_programs_page_runs(tmp_path, monkeypatch):
    if not shutil.which("cc"):
        pytest.skip("there is no C compiler here")
    (tmp_path / "build").mkdir()
    source = ROOT / "examples" / "programs" / "lantern.c"
    subprocess.run(["cc", "-O2", "-o", tmp_path / "build" / "game", source], check=True)
    monkeypatch.chdir(tmp_path)
    (block,) = re.findall(
        r"^```py\n(.*?)^```", (ROOT / "docs" / "programs.md").read_text(encoding="utf-8"), re.M | re.S
    )
    names = {}
    exec(block, names)
    assert names["trace"].rows == 601 and names["trace"].header.program["command"] == ["./game", "--headless"]


@pytest.mark.slow
def test_the_block_on_the_testing_page_runs_in_a_new_project(tmp_path):
    folder = tmp_path / "game"
    assert CliRunner().invoke(main, ["new", str(folder)]).exit_code == 0
    (block,) = re.findall(r"^```py\n(.*?)^```", (ROOT / "docs" / "testing.md").read_text(encoding="utf-8"), re.M | re.S)
    (folder / "test_model.py").write_text(block)
    shutil.copy(folder / "baselines" / "walk.claims.toml", folder / "walk.claims.toml")
    words = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_model.py"]
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True)
    assert "7 passed" in done.stdout, done.stdout


def test_a_program_that_sends_too_much_of_everything_is_bounded(tmp_path):
    script = tmp_path / "deep.py"
    script.write_text("import sys\nfor line in sys.stdin:\n    print('[' * 100000, flush=True)\n")
    with pytest.raises(lt.SubjectFailed, match="is no JSON"):
        lt.record(lt.Scenario(lt.Program([sys.executable, str(script)]), frames=3))


PACKED = str(ROOT / "tests" / "packed_program.py")


def packed(how="well", frames=5000, **options):
    return lt.Scenario(lt.Program([sys.executable, PACKED, how], **options), frames=frames)


def expected(frames):
    for n in range(frames + 1):
        yield (n / 2 - 3, -n, n % 2 == 1, ("calm", "cross")[n // 100 % 2])


def test_columns_as_bytes_are_the_rows_that_the_program_had_however_they_are_asked_for():
    digests = set()
    for options in ({}, {"columns": "json"}, {"batch": 1}, {"batch": 7}, {"batch": 65_536}):
        how = "text" if options.get("columns") == "json" else "well"
        trace = lt.record(packed(how, 3000, **options))
        found = zip(*(trace[name].tolist() for name in ("half", "n", "odd", "mood")), strict=True)
        assert list(found) == list(expected(3000))
        assert [event.row for event in trace.events] == list(range(100, 3001, 100))
        digests.add(b"".join(trace.column(name).stored.tobytes() for name in trace.channels))
    assert len(digests) == 1


def test_a_minus_zero_keeps_its_sign_as_text_as_bytes_and_as_a_word():
    for how in ("text", "minus"):
        trace = lt.record(packed(how, 10))
        assert trace["half"][6] == 0 and np.signbit(trace["half"][6]) == (how == "minus")
    assert re.sub(rb"x", b"", rpc._with_minus_zeros(b'{"a":[-0,1,-0],"b":"-0,","c":-0.5,"d":-0}')) == (
        b'{"a":[-0.0,1,-0.0],"b":"-0,","c":-0.5,"d":-0.0}'
    )
    channels = (Channel("x", "number"), Channel("n", "count"))
    line = rpc._with_minus_zeros(b'{"jsonrpc":"2.0","id":3,"result":{"columns":{"x":[1,-0,2.5],"n":[1,2,3]}}}')
    read = Shapes(channels).step(line, 3)
    assert [math.copysign(1, value) for value in read["columns"][0]] == [1, -1, 1] and read["columns"][1] == [1, 2, 3]
    assert Shapes(channels).step(line, 4) is None
    count = columns_of({"columns": {"x": [1.0], "n": [-0.0]}}, handshake_of({**HELLO_OF_TWO}), 1)
    assert count == [[1.0], [0]]


HELLO_OF_TWO = {"protocol": 1, "channels": [{"name": "x", "kind": "number"}, {"name": "n", "kind": "count"}]}


@settings(max_examples=150, deadline=None)
@given(
    st.lists(
        st.one_of(st.integers(-9, 9), st.floats(), st.just("nan"), st.booleans(), st.none()), min_size=1, max_size=4
    )
)
def test_what_is_read_in_c_is_what_is_read_value_by_value(values):
    handshake = handshake_of(HELLO_OF_TWO)
    written = json.dumps(values).replace("NaN", '"nan"').replace("-Infinity", '"-inf"').replace("Infinity", '"inf"')
    columns = f'{{"x":{written},"n":{json.dumps([1] * len(values))}}}'
    line = f'{{"jsonrpc":"2.0","id":1,"result":{{"columns":{columns}}}}}'.encode()
    quick = Shapes(handshake.channels).step(line, 1)
    if quick is not None:
        slow = columns_of(json.loads(line)["result"], handshake, len(values))
        assert columns_of(quick, handshake, len(values)) == slow
        assert all(type(value) is float for value in quick["columns"][0])


PACKED_FAULTS = {
    "flag": "row [0-9]+: .*channel 'odd' is 2 in frame [0-9]+, not 0 or 1",
    "label": r"channel 'mood' is 7 in frame [0-9]+, not one of \['calm', 'cross'\]",
    "length": "row 1: .*'bytes' is 19 for 1 frames of these channels, not 11",
    "half": "row 1: .*it went away after 5 of 19 bytes|it ended with exit status 0",
    "way": "'columns' is 'json' or 'binary', not 'pigeon'",
    "unasked": "it says 'bytes', and its answer to hello did not",
    "late note": "row 100: .*a note stands in frame 10099, which is not within 100..100",
    "whose note": "row 100: .*a note in frame 100: no channel 'nobody'",
    "dies": "row 500: .*it ended with exit status 3",
}


@pytest.mark.parametrize("how", PACKED_FAULTS)
def test_what_is_wrong_with_bytes_and_notes_is_told_with_its_frame(how):
    with pytest.raises(lt.SubjectFailed, match=PACKED_FAULTS[how]) as failed:
        lt.record(packed(how, 1200, batch=256))
    if how == "dies":
        assert failed.value.trace.rows == 500
        assert list(failed.value.trace["n"]) == [-n for n in range(500)]


def test_an_end_in_a_message_that_was_asked_ahead_of_is_the_end_and_what_is_saved_then_is_of_it():
    game = packed("ends", 5000, batch=64)
    trace = lt.record(game)
    assert trace.rows == 501 and trace.header.end == "won"
    live = lt.Live(game)
    live.to(500)
    assert live.values["n"] == -500 and game.subject.save() == b"500"
    # Led on as far as an end lies beyond it, put back, and led on again.
    run = Runner(packed("ends", 5000, batch=64))
    run.to(130)
    saved = run.snapshot()
    run.to(5000)
    assert run.row == 500 and run.subject.save() == b"500"
    run.restore(saved)
    run.to(200)
    assert run.row == 200 and run.subject.save() == b"200"


def test_a_run_that_was_put_back_and_fails_is_made_again_from_there_at_its_own_rate():
    class Rows(RunObserver):
        def begin(self, run):
            self.half = {}

        def rows(self, stretch):
            self.half |= dict(enumerate(list(stretch.columns[0]), stretch.first))

    seen = Rows()
    run = Runner(packed("rated", 5000).changed(rate=30), [seen])
    run.to(100)
    saved = run.snapshot()
    run.to(300)
    run.restore(saved)
    with pytest.raises(lt.SubjectFailed, match="row 500: .*it ended with exit status 3"):
        run.to(700)
    assert [seen.half[n] for n in range(500)] == [n * 30.0 for n in range(500)]


def test_notes_of_a_row_are_why_it_is_what_it_is(tmp_path):
    scenario = packed("well", 250).changed(claims=[lt.claim("few", "always(n > -200)")])
    trace = lt.record(scenario)
    told = lt.causes(trace, scenario, 200)
    assert [one.text for one in told.outside][:1] == ["n: noted: a hundred"]
    assert "mood: 'cross' → 'calm', for the first time" in str(told) and "events up to it: mark in row 100" in str(told)
    assert [one.channel for one in lt.causes(trace, scenario, 200, only="n").outside] == ["n", "n", "", ""]
    found = causes_of_breaches(trace, scenario, lt.check(trace, scenario.claims))["few"]
    assert [one.text for one in found.outside][:2] == ["n: noted: a hundred", "n: -199 → -200"]


def test_a_program_goes_to_another_process_as_what_it_is_started_from():
    game = lt.Program([sys.executable, PACKED, "well"], batch=9, columns="json", step_within="3s", folder=ROOT)
    again = pickle.loads(pickle.dumps(game))
    assert again.started_as == game.started_as and again.batch == 9 and again is not game
    assert lt.record(again, frames=20).digest == lt.record(game, frames=20).digest
