"""Programs in other languages as subjects: recorded like any other, and every way to fail told with its frame."""

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.subjects.programs import check
from larktally.subjects.programs.rpc import Conversation

FAULTY = str(Path(__file__).parent / "faulty_program.py")
GAMES = Path(__file__).parent.parent / "examples" / "programs"


def program(how="well", **options):
    return lt.Program([sys.executable, FAULTY, how], **{"step_within": "5s", **options})


def scenario(how="well", frames=700, **options):
    return lt.Scenario(
        program(how, **options), frames=frames, inputs=lt.InputScript().tap("hop", 5, 20, min(frames // 25, 10))
    )


def is_gone(subject, process):
    return process.poll() is not None and not Path(f"/proc/{process.pid}").exists()


def started(subject):
    """The process of a program, which it starts where it does not run."""
    return subject._begin().running.process


def test_a_program_is_recorded_like_any_other_subject_in_any_batches():
    traces = [lt.record(scenario(batch=batch)) for batch in (1, 7, 256)]
    assert len({trace.digest for trace in traces}) == 1
    trace = traces[0]
    assert trace["n"].tolist() == list(range(701)) and trace["half"].dtype == float and trace["odd"].dtype == bool
    assert [(e.row, e.source, e.data) for e in trace.events][:1] == [(100, "faulty", {"n": 100})]
    assert trace.header.program["name"] == "faulty" and "/" not in trace.header.program["command"][0]
    assert trace.inputs["hop"].sum() == 10 and trace.header.subject == Path(sys.executable).name
    assert lt.replay(trace, scenario()).identical
    assert lt.run_to(trace, scenario(), 300).values["n"] == 300


def test_a_program_saves_is_rewound_and_audited():
    trace = lt.record(scenario(), states=200)
    assert sorted(trace.states) == [0, 200, 400, 600]
    assert lt.run_to(trace, scenario(), 450).values == trace.row(450)
    found = lt.audit(scenario(frames=60), rows=[10, 40], frames=10, fresh=False)
    assert found.passed and found.rerun.rewinds == 2


def test_presses_on_events_until_and_ends_work_frame_by_frame(tmp_path):
    script = lt.InputScript().press("hop", on="event('mark')", plus=3)
    trace = lt.record(lt.Scenario(program(), frames=250, inputs=script))
    assert [int(row) for row in trace.inputs["hop"].nonzero()[0]] == [103, 203]
    assert lt.record(scenario().changed(until="n == 321")).rows == 322
    stored = lt.record(scenario(frames=5000), to=tmp_path / "run.parquet")
    assert stored.rows == 5001 and stored["n"][-1] == 5000


FAILURES = {
    "exits": (0, "did not start: it ended with exit status 4; the end of its standard error:\n    no display"),
    "banner": (0, "is no JSON: 'Engine 4.2 (c) somebody'; one message a line on standard output"),
    "protocol": (0, "it speaks protocol 2, and this version speaks 1"),
    "dies": (
        500,
        "row 500: program 'python': it ended with exit status 3; the end of its standard error:\n    boom: a null lantern",
    ),
    "killed": (500, "it was ended by signal 9 (SIGKILL)"),
    "hangs": (500, "no answer in time (within 1 s)"),
    "out of order": (500, "it answered request"),
    "half a line": (500, "it ended with exit status 0"),
    "a long line": (500, "a line of more than 67108864 bytes"),
    "wrong kind": (500, "row 500: channel 'n' is 'many' (str), but the channel was a count in row 0"),
    "fraction": (500, "row 500: channel 'n' is 0.5 (float)"),
    "nan": (500, "row 500: channel 'half' is NaN"),
    "label": (500, "row 500: channel 'mood' is 'wild', not one of its labels"),
    "missing": (500, "step: 'columns' has no channel 'odd', which hello announced|for each of the"),
    "short": (500, "column 'n' has a value for each of the"),
    "event": (100, "event 'mark' stands in frame"),
    "refuses": (500, "row 500: program 'python': it refused 'step': out of oil (code -32000)"),
}


@pytest.mark.slow
@pytest.mark.parametrize("how", FAILURES)
def test_each_way_to_fail_has_its_message_its_frame_the_rows_kept_and_no_process_left(how, monkeypatch):
    row, said = FAILURES[how]
    within = "1s" if how == "hangs" else "60s"
    subject = program(how, step_within=within, start_within="60s", end_within="1s")
    processes = []
    begin = lt.Program._begin

    def noted(self):
        talk = begin(self)
        processes.append(talk.running.process)
        return talk

    monkeypatch.setattr(lt.Program, "_begin", noted)
    with pytest.raises(lt.SubjectFailed) as failed:
        lt.record(lt.Scenario(subject, frames=700))
    assert any(part in str(failed.value) for part in said.split("|")), failed.value
    assert failed.value.row == row
    if row:
        assert failed.value.trace.rows == row and failed.value.trace["n"].tolist() == list(range(row))
    subject.stop()
    assert all(process.poll() is not None for process in processes)


@pytest.mark.slow
def test_a_hang_is_waited_for_once_and_not_asked_to_end(monkeypatch):
    asked = []
    begin = Conversation.begin

    def noted(self, method, params, within):
        asked.append((method, params.get("frames"), within))
        return begin(self, method, params, within)

    monkeypatch.setattr(Conversation, "begin", noted)
    with pytest.raises(lt.SubjectFailed, match="row 500: .*no answer in time .within 1.5 s.") as failed:
        lt.record(lt.Scenario(program("hangs", step_within="1.5s"), frames=700))
    assert failed.value.trace.rows == 500
    first = asked.index(("step", 256, 1.5), asked.index(("step", 256, 1.5)) + 1)
    again = [one for one in asked[first + 1 :] if one[0] == "step" and one[1] == 1]
    assert len(again) == 500 - 256 and all(within < 1 for _, _, within in again)
    assert "end" not in [method for method, _, _ in asked]


@pytest.mark.slow
@pytest.mark.parametrize("sent", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGKILL])
def test_a_game_that_hangs_ends_with_whoever_runs_it(tmp_path, sent):
    """The game says its own number, and that of a child that it started, and hangs in its first frame."""
    game = tmp_path / "game.sh"
    game.write_text(f"#!/bin/sh\nsleep 600 &\necho $$ $! > {tmp_path}/pids\nexec {sys.executable} {FAULTY} hangs\n")
    game.chmod(0o755)
    model = tmp_path / "model.py"
    model.write_text(
        f"import larktally as lt\nhangs = lt.Scenario(lt.Program(['{game}'], step_within='60s'), frames=700)\n"
    )
    words = [sys.executable, "-m", "larktally", "run", str(model), "--to", str(tmp_path / "t")]
    # A runner in the background may ignore these, and its children would, too.
    heard = lambda: [signal.signal(one, signal.SIG_DFL) for one in (signal.SIGINT, signal.SIGHUP)]  # noqa: E731
    job = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, preexec_fn=heard)
    numbers = wait_for(lambda: (tmp_path / "pids").exists() and (tmp_path / "pids").read_text().split())
    wait_for(lambda: list((tmp_path / "t").glob("*.partial")))
    time.sleep(0.3)
    job.send_signal(sent)
    assert job.wait(10) != 0
    for number in numbers:
        wait_for(lambda number=number: not Path(f"/proc/{number}").exists())


def wait_for(found):
    """What comes within ten seconds."""
    for _ in range(500):
        what = found()
        if what:
            return what
        time.sleep(0.02)
    raise AssertionError("it did not come in time")


def test_a_flood_of_standard_error_holds_nothing_up_and_a_program_that_lingers_is_ended():
    assert lt.record(scenario("floods", frames=100)).rows == 101
    subject = program("lingers", end_within="300ms")
    assert lt.record(lt.Scenario(subject, frames=10)).rows == 11
    process = started(subject)
    began = time.monotonic()
    subject.stop()
    assert process.poll() is not None and time.monotonic() - began < 3
    subject = program()
    process = started(subject)
    del subject
    assert process.wait(5) is not None


def test_a_failure_that_does_not_come_again_frame_by_frame_is_said_to_be_so():
    with pytest.raises(
        lt.SubjectFailed, match="failed in frames 257..512: .*run again frame by frame it did not"
    ) as failed:
        lt.record(scenario("one frame only"))
    assert failed.value.trace.rows == 257


def test_a_program_that_cannot_be_used_is_bad_input(tmp_path):
    with pytest.raises(lt.LarkTallyError, match="cannot be started"):
        lt.record(lt.Scenario(lt.Program([str(tmp_path / "nope")]), frames=3))
    with pytest.raises(lt.LarkTallyError, match="runs at 60 frames/s, not at 30"):
        lt.record(scenario("rate").changed(rate=30))
    with pytest.raises(lt.InputError, match="no action 'hopp'; did you mean 'hop'"):
        lt.record(lt.Scenario(program(), frames=9, inputs=lt.InputScript().press("hopp", 3)))
    for bad, said in (("./game", "a list of words"), ([], "a list of words")):
        with pytest.raises(lt.LarkTallyError, match=said):
            lt.Program(bad)
    with pytest.raises(lt.LarkTallyError, match="over 'stdio', 'tcp:PORT' or 'listen'"):
        lt.Program(["game"], over="udp:3")
    with pytest.raises(lt.LarkTallyError, match="a subject that can save and load"):
        lt.record(scenario("no save"), states=[1])


def test_the_command_line_keeps_the_rows_of_a_program_that_dies(tmp_path):
    model = tmp_path / "model.py"
    model.write_text(
        f"import larktally as lt\ndies = lt.Scenario(lt.Program([{sys.executable!r}, {FAULTY!r}, 'dies']), frames=700)\n"
    )
    done = CliRunner().invoke(main, ["run", str(model), "--to", str(tmp_path / "t")])
    assert done.exit_code == 3 and "row 500" in done.stderr and "500 rows were recorded before it" in done.stderr
    assert lt.load_trace(tmp_path / "t" / "dies.stopped.parquet").rows == 500


FIELDS = ("vy", "rest", "hop_held", "burst_held", "facing", "buffer", "oil", "rng", "frame", "lamp")
PLANTED = [
    *(f"save forgets {name}" for name in FIELDS),
    *(f"reset leaves {name}" for name in ("rest", "hop_held", "rng", "buffer")),
    *("load says frame 0", "load answers the old row", "load lets go of keys", "state in few digits"),
    *("state by reference", "%.6g", "%f", "rate ignored", "rate of the first reset", "fraction read as 60000"),
    *("hop never read", "walk as on or off", "walk without sign", "params ignored", "params left", "seeded by process"),
    *("seeded by time", "NaN", "crash above 300", "first input of a batch", "events in the first frame"),
    *("undeclared event", "dies early", "drifts in a long process"),
]
PLANTED_PROGRAM = [sys.executable, str(Path(__file__).parent / "planted_program.py")]


def planted(fault):
    found = lt.check_program([*PLANTED_PROGRAM, fault], within="60s", stop_at_failure=True)
    return [(line.verdict, line.what) for line in found.lines if line.must and not line.holds]


@pytest.mark.slow
def test_check_program_finds_every_fault_that_adapters_have_and_blames_a_good_one_for_nothing(monkeypatch):
    # Shorter than a user's check, which is played some forty times here.
    monkeypatch.setattr(check, "LONG", 600)
    good = lt.check_program(PLANTED_PROGRAM, within="60s")
    assert good.passed and all(line.holds for line in good.lines), good
    # Each waits for its own program most of the time.
    with ThreadPoolExecutor(4) as pool:
        found = dict(zip(PLANTED, pool.map(planted, PLANTED), strict=True))
    assert len(PLANTED) == 38 and [fault for fault, lines in found.items() if not lines] == []
    assert found["hop never read"] == [("untested", "action 'hop' changes rows")]
    assert found["save forgets facing"][0][1].startswith("after a load the same inputs give the same rows")


def test_check_program_tells_musts_from_advice_what_never_came_and_takes_a_script(tmp_path):
    held = lt.check_program([sys.executable, FAULTY])
    fails = [line.what for line in held.lines if line.must and not line.holds]
    assert fails == ["action 'hop' changes rows", "each rate that it accepts is its own"] and not held.passed
    assert "a method that does not exist is refused with -32601, and it goes on" in str(held).partition("advice:")[2]
    assert "these never do in any script: mood" in str(held) and "had to be started again" in str(held)
    done = CliRunner().invoke(main, ["check-program", "--json", sys.executable, FAULTY, "banner"])
    found = json.loads(done.stdout)
    assert done.exit_code == 1 and found["lines"][0]["section"] == "hello" and not found["passed"]
    assert CliRunner().invoke(main, ["check-program", "/nope/game"]).exit_code == 2
    script = tmp_path / "own.csv"
    lt.InputScript().hold("hop", 2, 300).to_csv(script)
    done = CliRunner().invoke(main, ["check-program", "--inputs", str(script), *PLANTED_PROGRAM])
    assert done.exit_code == 0 and "19 of 19 musts hold; 11 of 11 pieces of advice hold" in done.output
    lt.InputScript().hold("hopp", 2, 300).to_csv(script)
    done = CliRunner().invoke(main, ["check-program", "--inputs", str(script), *PLANTED_PROGRAM])
    assert done.exit_code == 2 and "no action 'hopp'; did you mean 'hop'" in done.output
    assert CliRunner().invoke(main, ["check-program", "--inputs", "nope.csv", "game"]).exit_code == 2


def test_params_are_announced_checked_and_read_by_claims():
    made = lt.Scenario(lt.Program(PLANTED_PROGRAM), frames=20, inputs=lt.InputScript().hold("walk", 1, 20))
    trace = lt.record(made.changed(params={"speed": 240}))
    assert trace.header.settings == {"speed": 240, "oil": 7}
    assert lt.check(trace, [lt.claim("c", "always(abs(vx) <= param('speed'))")]).passed
    for params, said in (
        ({"sped": 3}, "no param 'sped'; did you mean 'speed'"),
        ({"speed": 900}, "param 'speed' is 900, and the program takes 10..400"),
        ({"oil": "much"}, "param 'oil' is 'much', where the program has 7"),
    ):
        with pytest.raises(lt.LarkTallyError, match=said):
            lt.record(made.changed(params=params))
    with pytest.raises(lt.LarkTallyError, match="it announces none"):
        lt.record(lt.Scenario(program(), frames=3, params={"speed": 3}))
    ignored = lt.Scenario(lt.Program([*PLANTED_PROGRAM, "params ignored"]), frames=20)
    told = str(lt.vary(ignored, {"speed": [60, 120, 240]}))
    assert "speed changed no row of any run: is it read?" in told
    assert "changed no row" not in str(lt.vary(made, {"speed": [60, 120]}))


def test_an_event_that_was_not_announced_is_the_programs_fault():
    undeclared = lt.Scenario(
        lt.Program([*PLANTED_PROGRAM, "undeclared event"]), frames=20, inputs=lt.InputScript().press("burst", 7)
    )
    with pytest.raises(
        lt.SubjectFailed, match="no event 'undeclared'. There are: 'hop', 'used' announced by hello .in frame 7"
    ):
        lt.record(undeclared)


def test_the_frame_that_load_answers_is_checked():
    for fault, said in (("load says frame 0", "it stands at frame 0, and the state is of frame 10"),):
        wrong = lt.Scenario(lt.Program([*PLANTED_PROGRAM, fault]), frames=30)
        with pytest.raises(lt.SubjectFailed, match=said):
            lt.audit(wrong, rows=[10], frames=5, fresh=False)


@pytest.fixture(scope="session")
def lantern(tmp_path_factory):
    if not shutil.which("cc"):
        pytest.skip("there is no C compiler here")
    path = tmp_path_factory.mktemp("game") / "lantern"
    subprocess.run(["cc", "-O2", "-Wall", "-Wextra", "-Werror", "-o", path, GAMES / "lantern.c"], check=True)
    return str(path)


@pytest.fixture(scope="session")
def moth():
    if not shutil.which("node"):
        pytest.skip("there is no Node here")
    return str(GAMES / "moth.js")


def test_the_game_in_c_is_a_good_subject(lantern):
    found = lt.check_program([lantern])
    assert found.passed, found


@pytest.mark.parametrize("over", ["stdio", "listen"])
def test_the_game_in_javascript_is_a_good_subject_over_a_pipe_and_a_socket(moth, over):
    found = lt.check_program(["node", moth, *(["--port", "{port}"] if over == "listen" else [])], over=over)
    assert found.passed, found


def test_a_program_that_listens_itself_is_spoken_to_where_it_runs_already(tmp_path):
    server = tmp_path / "server.py"
    server.write_text(
        "import socket, subprocess, sys\n"
        "with socket.create_server(('127.0.0.1', 0)) as s:\n"
        "    print(s.getsockname()[1], flush=True)\n"
        "    c = s.accept()[0]\n"
        f"    subprocess.run([sys.executable, {FAULTY!r}], stdin=c.makefile('rb'), stdout=c.makefile('wb'))\n"
    )
    process = subprocess.Popen([sys.executable, server], stdout=subprocess.PIPE, text=True)
    try:
        port = int(process.stdout.readline())
        subject = lt.Program(None, over=f"tcp:{port}")
        assert lt.record(lt.Scenario(subject, frames=300))["n"][-1] == 300
        subject.stop()
        assert process.wait(5) == 0
    finally:
        process.kill()
        process.wait()


# A game that listens at a port, or connects to one; it says how often it was stepped, from a number of its own on.
OVER_A_PORT = """
import json, os, socket, sys
how, port, start, token = sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), sys.argv[4]
n = start
if how == "serve":
    with socket.create_server(("127.0.0.1", port)) as server:
        print(server.getsockname()[1], flush=True)
        talk = server.accept()[0]
else:
    talk = socket.create_connection(("127.0.0.1", port))
for line in talk.makefile("rb"):
    asked = json.loads(line)
    method, params = asked["method"], asked["params"]
    if method == "hello":
        result = {"protocol": 1, "channels": [{"name": "n", "kind": "count"}]}
        if token:
            result["token"] = os.environ.get("LARKTALLY_TOKEN", "") if token == "own" else token
    elif method == "step":
        result = {"columns": {"n": list(range(n + 1, n + 1 + params["frames"]))}}
        n += params["frames"]
    else:
        n, result = start, {"row": {"n": start}}
    talk.sendall(json.dumps({"jsonrpc": "2.0", "id": asked["id"], "result": result}).encode() + b"\\n")
"""


def over_a_port(*words):
    return [sys.executable, "-c", OVER_A_PORT, *map(str, words)]


def free_port():
    with socket.create_server(("127.0.0.1", 0)) as free:
        return free.getsockname()[1]


@pytest.mark.parametrize("token", ["", "another's"])
def test_a_game_left_from_before_is_not_taken_for_the_one_that_was_started(token):
    port = free_port()
    stale = subprocess.Popen(over_a_port("serve", port, 1000, token), stdout=subprocess.PIPE, text=True)
    try:
        assert int(stale.stdout.readline()) == port
        started = lt.Program(over_a_port("serve", port, 0, "own"), over=f"tcp:{port}")
        with pytest.raises(lt.SubjectFailed, match=f"what answers at tcp:{port} does not say the token .* another one"):
            lt.record(started, frames=5)
    finally:
        stale.kill()
        stale.wait()
    assert lt.record(started, frames=5)["n"].tolist() == [0, 1, 2, 3, 4, 5]


def test_who_connects_first_and_is_not_the_game_is_let_go_of(tmp_path):
    # The game starts three strangers before it connects itself: one that is silent, one that talks nonsense, one that is a game.
    script = tmp_path / "game.py"
    script.write_text(
        "import os, socket, subprocess, sys, time\n"
        "port = int(os.environ['LARKTALLY_PORT'])\n"
        "silent = socket.create_connection(('127.0.0.1', port))\n"
        "rude = socket.create_connection(('127.0.0.1', port))\n"
        "rude.sendall(b'GET / HTTP/1.1\\r\\n\\r\\n')\n"
        f"game = {over_a_port('connect')!r}\n"
        "other = subprocess.Popen([*game, str(port), '1000', 'guessed'])\n"
        "time.sleep(0.5)\n"
        "sys.exit(subprocess.call([*game, str(port), '0', 'own']))\n"
    )
    subject = lt.Program([sys.executable, script], over="listen")
    assert lt.record(subject, frames=4)["n"].tolist() == [0, 1, 2, 3, 4]
    alone = lt.Program(over_a_port("connect", "{port}", 0, ""), over="listen", start_within="3 s")
    with pytest.raises(lt.SubjectFailed, match="what did connect does not say the token"):
        lt.record(alone, frames=4)


@pytest.mark.slow
def test_a_program_is_spoken_to_among_thousands_of_open_files():
    resource = pytest.importorskip("resource")
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if hard < 3000:
        pytest.skip(f"at most {hard} files may be open here")
    resource.setrlimit(resource.RLIMIT_NOFILE, (3000, hard))
    held = [os.open("/dev/null", os.O_RDONLY) for _ in range(1100)]
    try:
        assert lt.record(lt.Program(over_a_port("connect", "{port}", 0, "own"), over="listen"), frames=9)["n"][-1] == 9
        assert lt.record(lt.Program([sys.executable, FAULTY]), frames=300)["n"][-1] == 300
    finally:
        for one in held:
            os.close(one)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))


def test_a_connection_that_never_comes_is_given_up(tmp_path):
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    with pytest.raises(lt.LarkTallyError, match="nothing answers on port"):
        lt.record(lt.Scenario(lt.Program(None, over=f"tcp:{port}", start_within="200ms"), frames=3))
    silent = lt.Program([sys.executable, "-c", "import time; time.sleep(60)"], over="listen", start_within="300ms")
    with pytest.raises(lt.LarkTallyError, match="did not connect to port"):
        lt.record(lt.Scenario(silent, frames=3))
