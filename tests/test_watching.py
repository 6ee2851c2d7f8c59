"""Watching a file, as its page meets it: saves, numbers, questions, playing, keeping, and whoever should not be there."""

import http.client
import json
import shutil
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from tests.watching import GAME, Watching, column_of, unpacked
from websockets.exceptions import ConnectionClosed, InvalidStatus

import larktally as lt
from larktally.demo import quay
from larktally.runs.model_files import load_scenarios
from larktally.runs.numbers import AskedNumbers
from larktally.runs.playing import PlayedRun
from larktally.runs.record import record_watched
from larktally.traces.marks import marks_of, with_marks, without_marks
from larktally.views.page.packing import Packing
from larktally.views.page.run_view import RunView, packed_runs
from larktally.watch.keeping import keep, kept_claims

pytestmark = [
    pytest.mark.slow,
    pytest.mark.skipif(not Path("/proc/self").exists(), reason="looks at /proc for processes left behind"),
]


@pytest.fixture
def game(tmp_path):
    (tmp_path / "steps.py").write_text("SPEED = 2.0\n")
    path = tmp_path / "game.py"
    path.write_text(GAME)
    return path


def measure(run):
    return run["runs"][0]["measures"][0]["value"]


def test_a_save_of_the_file_or_of_a_module_beside_it_runs_it_again(game):
    with Watching(game) as watching, watching.page() as page:
        run = page.hear("run")
        (first,) = run["runs"]
        trace = lt.record(load_scenarios(str(game))[0])
        assert [c["name"] for c in first["columns"]] == trace.channels and first["rows"] == trace.rows
        assert column_of(first, "y", run["bytes"]) == trace["y"].tolist()
        assert column_of(first, "hop", run["bytes"]) == trace.inputs["hop"].tolist()
        assert [c["verdict"] for c in first["claims"]] == ["broken", "kept"] and first["claims"][0]["rows"] == [9]
        assert measure(run) == trace["y"].max()
        verdicts = {m["scenario"]: m["passed"] for m in (page.hear("verdicts"), page.hear("verdicts"))}
        assert verdicts == {"walk": False, "stand": True}
        (game.parent / "steps.py").write_text("SPEED = 1.0\n")
        again = page.hear("run")
        assert [c["verdict"] for c in again["runs"][0]["claims"]] == ["broken", "broken"]
        game.write_text(GAME.replace('"leap", 6', '"leap", 3'))
        assert measure(page.hear("run")) < measure(run)


def test_numbers_are_turned_and_come_with_the_line_that_says_them(game):
    with Watching(f"{game}:walk") as watching, watching.page() as page:
        run = page.hear("run")
        (number,) = run["runs"][0]["numbers"]
        assert (number["name"], number["default"], number["least"], number["greatest"]) == ("leap", 6, 1, 20)
        page.say(do="turn", params={"leap": 12})
        turned = page.hear("run")
        assert measure(turned) > measure(run)
        assert turned["runs"][0]["numbers"][0]["code"] == 'self.leap = setup.number("leap", 12, least=1, greatest=20)'
        page.say(do="turn", params={"leap": 99})
        assert "above its greatest, 20" in page.hear("failed")["text"]
        page.say(do="turn", params={})
        assert measure(page.hear("run")) == measure(run)
        page.say(do="rate", rate="30")
        assert page.hear("run")["runs"][0]["rateText"] == "30"
        page.say(do="rate", rate="fast")
        assert "rate" in page.hear("failed")["text"]


def test_a_breach_is_asked_why_and_a_page_that_comes_later_sees_the_same(game):
    with Watching(game) as watching, watching.page() as page:
        page.hear("run")
        page.say(do="why", claim="a hop starts on the ground", row=9, ask=7)
        why = page.hear("why")
        assert why["ask"] == 7 and "game.py:" in why["text"] and "row 9" in why["text"]
        page.say(do="why", claim="no such", row=9, ask=8)
        assert "no claim 'no such'" in page.hear("why")["text"]
        page.say(do="choose", scenario="stand")
        assert page.hear("run")["runs"][0]["name"] == "stand"
        with watching.page() as later:
            assert later.hear("hello")["chosen"] == "stand"
            assert later.hear("run")["runs"][0]["name"] == "stand"
        page.say(do="choose", scenario="nowhere")
        page.say(do="nonsense")
        page.socket.send("[1, 2")
        page.socket.send('"text"')
        page.say(do="choose", scenario="walk")
        assert page.hear("run")["runs"][0]["name"] == "walk"


def test_what_is_played_is_judged_kept_and_replays_identical(game):
    with Watching(game, "--build", "b12") as watching, watching.page() as page:
        page.hear("run")
        page.say(do="play")
        start = page.hear("play")["runs"][0]
        assert start["rows"] == 1 and start["actions"][1] == {"name": "hop", "analog": False, "keys": ["Space"]}
        page.say(do="step", frames=[{"right": 1}, {"right": 1, "hop": 1}, {}])
        rows = page.hear("rows")
        assert rows["first"] == 1 and [row[0] for row in rows["rows"]] == [2.0, 4.0, 4.0]
        assert rows["held"] == [[1, 0.0], [1, 1], [0.0, 0.0]] and rows["events"][0][:2] == [2, "hop"]
        page.say(do="mark", note="too high </script> “here”")
        page.say(do="step", frames=[{"hop": 1}])
        page.hear("rows")
        page.say(do="judge")
        played = page.hear("played")
        assert [c["verdict"] for c in played["runs"][0]["claims"]] == ["broken", "broken"]
        page.say(do="keep", name="../odd hop")
        kept = page.hear("kept")
        assert kept["same"] and "hop" in kept["claims"]
        assert {Path(file).parent for file in kept["files"]} == {game.parent}
        # What was played is what a save runs from now on.
        game.write_text(GAME.replace('"leap", 6', '"leap", 7'))
        assert page.hear("played")["runs"][0]["rows"] == 5
        page.say(do="own")
        assert page.hear("run")["runs"][0]["rows"] == 61
    recording = next(Path(file) for file in kept["files"] if file.endswith(".parquet"))
    trace = lt.load_trace(recording)
    assert [(m.row, m.note) for m in marks_of(trace)] == [(3, "too high </script> “here”")]
    assert trace.header.made_with["build"] == "b12"
    script = lt.InputScript.from_csv(next(file for file in kept["files"] if file.endswith(".csv")))
    assert [(s.action, s.start, s.frames) for s in script.spans] == [("right", 1, 2), ("hop", 2, 1), ("hop", 4, 1)]


def test_one_plays_at_a_time_and_is_told_when_it_is_over(game):
    with Watching(f"{game}:walk") as watching, watching.page() as first, watching.page() as second:
        first.hear("run")
        for page in (first, second):
            page.say(do="play")
            page.hear("play")
        first.hear("left")
        first.say(do="step", frames=[{}])
        second.say(do="step", frames=[{}, {}])
        assert len(second.hear("rows")["rows"]) == 2
        second.say(do="judge")
        assert second.hear("left", "played")["is"] == "played" == first.hear("played")["is"]
        second.hear("left")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("def f(:\n", "line 1"),
        ("import nowhere_at_all\n", "nowhere_at_all"),
        ("x = 1\n", "no scenario at the top level"),
        (GAME.replace("class Walker", "class Walker_").replace("    Walker,", "    Walker_,", 1), "Walker"),
        (GAME.replace("hops = now.pressed", "hops = now.prest"), "prest"),
        (
            GAME.replace("self.x += SPEED", "import os; os._exit(3)\n        self.x += SPEED"),
            "ended before it had a result",
        ),
    ],
)
def test_what_goes_wrong_is_told_and_the_last_good_run_stays(game, text, told):
    with Watching(game) as watching, watching.page() as page:
        page.hear("run")
        game.write_text(text)
        assert told in page.hear("failed")["text"]
        with watching.page() as later:
            assert later.hear("run")["runs"][0]["name"] == "walk"
            assert told in later.hear("failed")["text"]
        game.write_text(GAME)
        assert page.hear("run")["runs"][0]["stopped"] in (None, "")


def test_a_run_that_fails_on_the_way_shows_the_rows_before_it(game):
    game.write_text(GAME.replace("hops = now.pressed", "hops = 1 / (20 - now.frame) and now.pressed"))
    with Watching(game) as watching, watching.page() as page:
        for _ in range(2):
            run = page.hear("run")["runs"][0]
            assert run["rows"] == 20 and "ZeroDivisionError" in run["stopped"] and "game.py, line" in run["stopped"]
            game.write_text(GAME)
            assert page.hear("run")["runs"][0]["rows"] == 61
            game.write_text(GAME.replace("hops = now.pressed", "hops = 1 / (20 - now.frame) and now.pressed"))
        page.hear("run")
        # The last good one stays beside it.
        with watching.page() as later:
            assert [later.hear("run")["runs"][0]["rows"] for _ in range(2)] == [61, 20]


def test_a_claim_or_a_measure_that_does_not_fit_is_told_and_the_rest_is_judged(game):
    game.write_text(GAME.replace("apex(y)", "apex(yy)"))
    with Watching(game) as watching, watching.page() as page:
        run = page.hear("run")["runs"][0]
        assert "yy" in run["notes"][0] and len(run["claims"]) == 2 and not run["stopped"]
        assert page.hear("verdicts")["passed"] is False
        game.write_text(GAME.replace("eventually(x > 50)", "eventually(xx > 50)"))
        run = page.hear("run")["runs"][0]
        assert "xx" in run["notes"][0] and not run["claims"] and run["measures"]
        assert page.hear("verdicts")["passed"] is False


def test_a_loop_is_ended_from_the_page_and_by_a_save_and_a_flood_is_bounded(game):
    looping = GAME.replace("hops = now.pressed", "\n        while True: pass\n        hops = now.pressed")
    with Watching(game) as watching, watching.page() as page:
        page.hear("run")
        game.write_text(looping)
        page.hear("running")
        page.say(do="stop")
        assert "stopped from the page" in page.hear("failed")["text"]
        game.write_text(looping + "\n")
        page.hear("running")
        game.write_text(GAME.replace("hops = now.pressed", "print('x' * 3000)\n        hops = now.pressed"))
        page.hear("run")
        printed = page.hear("printed")["text"]
        assert printed.startswith("xxx") and "bytes left out" in printed and len(printed) < 100_000


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_nothing_is_left_behind_however_it_ends(game, how):
    game.write_text(GAME.replace("hops = now.pressed", "\n        while True: pass\n        hops = now.pressed"))
    watching = Watching(game)
    with watching.page() as page:
        page.hear("running")
        time.sleep(0.3)
        watching.end(how)
    assert not watching.left_behind()


def test_a_program_in_another_language_is_watched_and_played(tmp_path):
    folder = Path(__file__).parent.parent / "examples"
    shutil.copytree(folder, tmp_path / "examples")
    file = tmp_path / "watched.py"
    program = tmp_path / "program.py"
    program.write_text((Path(__file__).parent / "planted_program.py").read_text())
    program_of = f"lt.Program([sys.executable, {str(program)!r}])"
    file.write_text(f"import sys\nimport larktally as lt\nrun = lt.Scenario({program_of}, frames=20)\n")
    with Watching(file) as watching, watching.page() as page:
        assert page.hear("run")["runs"][0]["rows"] == 21
        page.say(do="play")
        actions = page.hear("play")["runs"][0]["actions"]
        page.say(do="step", frames=[{actions[0]["name"]: 1}, {}])
        assert len(page.hear("rows")["rows"]) == 2


def asked(port, path, **headers):
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=5)
    connection.request("GET", path, headers=headers)
    answer = connection.getresponse()
    return answer.status, answer.read().decode(), dict(answer.getheaders())


def test_nobody_else_gets_in(game):
    with Watching(game) as watching, watching.page() as page:
        page.hear("run")
        right = f"/?token={watching.token}"
        status, text, headers = asked(watching.port, right)
        assert status == 200 and '<div id="page">' in text and watching.token not in text
        assert (
            "default-src 'none'" in headers["content-security-policy"]
            and "unsafe-" not in headers["content-security-policy"]
        )
        for path, more in [
            ("/", {}),
            ("/?token=", {}),
            (f"/?token={watching.token[:-1]}", {}),
            (right, {"Host": f"evil.example:{watching.port}"}),
            (right, {"Host": "127.0.0.1"}),
            (right, {"Origin": "http://evil.example"}),
            (right, {"Origin": "null"}),
        ]:
            status, text, _ = asked(watching.port, path, **more)
            assert status == 403 and "SPEED" not in text and watching.token not in text, (path, more)
        for path in (
            f"/../game.py?token={watching.token}",
            "/..%2f..%2fetc/passwd",
            "/game.py",
            f"/live/../game.py?token={watching.token}",
        ):
            assert asked(watching.port, path)[0] == 404
        for changed in (
            {"token": "x"},
            {"token": ""},
            {"origin": "http://evil.example"},
            {"origin": "null"},
            {"origin": f"https://127.0.0.1:{watching.port}"},
        ):
            with pytest.raises((InvalidStatus, ConnectionClosed)), watching.page(**changed) as other:
                other.hear("run", within=3)
        with pytest.raises(ConnectionClosed), watching.page() as other:
            other.hear("run")
            other.socket.send("x" * 10_000_000)
            while True:
                other.socket.recv(5)
        # It still serves.
        page.say(do="turn", params={"leap": 2})
        assert page.hear("run")["is"] == "run"


def test_a_thousand_connections_are_turned_away_and_it_serves_on(game):
    import socket

    with Watching(game) as watching, watching.page() as page:
        page.hear("run")
        held = []
        for _ in range(1000):
            try:
                held.append(socket.create_connection(("127.0.0.1", watching.port), timeout=1))
                held[-1].send(b"GET /?token=x HTTP/1.1\r\n")
            except OSError:
                break
        page.say(do="turn", params={"leap": 2})
        assert page.hear("run")["is"] == "run"
        for one in held:
            one.close()


def test_a_port_that_is_taken_is_one_message(game):
    with Watching(game) as watching:
        ran = subprocess.run(
            [sys.executable, "-m", "larktally", "watch", str(game), "--no-browser", "--port", str(watching.port)],
            capture_output=True,
            text=True,
        )
    assert ran.returncode == 2 and f"port {watching.port}" in ran.stderr and "Traceback" not in ran.stderr


def test_a_watch_in_the_terminal_says_measures_before_and_after(game):
    process = subprocess.Popen(
        [sys.executable, "-m", "larktally", "watch", f"{game}:walk", "--plain"],
        stdout=subprocess.PIPE,
        text=True,
        cwd=game.parent,
    )
    # What is waited for in vain ends with the command.
    limit = threading.Timer(30, process.kill)
    limit.start()
    lines = iter(process.stdout.readline, "")
    assert any("height 39" in line for line in lines)
    assert any("drawn: traces/walk.png" in line for line in lines)
    game.write_text(GAME.replace('"leap", 6', '"leap", 4'))
    assert any("height 39 → 20" in line for line in lines)
    assert any("drawn: traces/walk.png" in line for line in lines)
    game.write_text(GAME.replace('"leap", 6', '"leap", 4oo'))
    assert any("game.py, line 11" in line for line in lines)
    process.send_signal(signal.SIGINT)
    assert process.wait(10) == 130
    limit.cancel()
    process.stdout.close()


NUMBERS = [
    [],
    [0.0],
    [5.0, 5.0],
    [0.0, -0.0],
    [1.5, -2.25, 1e300, 5e-324, float("nan"), float("inf"), float("-inf"), 0.1 + 0.2],
    [2**53, -(2**53), 1.0],
    [2.0**53 + 2, 3.0],
    [-1, 1, -128, 127, 128, 70000, -(2**31), 2**40],
]


@pytest.mark.parametrize("values", NUMBERS)
def test_packed_columns_come_back_bit_by_bit(values):
    for kind in (np.float64, np.int64, bool):
        if kind is not np.float64 and any(
            value != value or abs(value) == float("inf") or value != int(value) for value in values
        ):
            continue
        array = np.array(values).astype(kind)
        packing = Packing()
        column = packing.column(array) | {"name": "a"}
        packed = unpacked(packing.packed({"columns": [column], "inputs": []}))
        found = np.array(column_of(packed, "a", packed["bytes"]), dtype=np.float64)
        assert found.tobytes() == array.astype(np.float64).tobytes()


def test_a_played_run_is_its_own_recording():
    script = quay.INPUTS
    scenario = quay.dusk_run.named("dusk")
    whole = lt.record(scenario)
    played = PlayedRun(scenario)
    for frame in range(1, whole.rows):
        played.step({name: float(values[frame]) for name, values in whole.inputs.items() if values[frame]})
    trace = played.trace()
    assert lt.compare(whole, trace).identical and script.last_frame <= trace.frames
    assert lt.check(trace, scenario.claims).passed
    with pytest.raises(lt.LarkTallyError, match="no action 'hopp'"):
        PlayedRun(scenario).step({"hopp": 1})
    with pytest.raises(lt.LarkTallyError, match="nothing was played"):
        PlayedRun(scenario).trace()


def test_marks_stand_in_the_trace_and_a_replay_does_not_miss_them(tmp_path, dusk_trace):
    marked = with_marks(dusk_trace, [lt_mark(30, "hop"), lt_mark(0, ""), lt_mark(30, "again"), lt_mark(220, "end")])
    assert [(m.row, m.note) for m in marks_of(marked)] == [(0, ""), (30, "hop"), (30, "again"), (220, "end")]
    assert without_marks(marked).digest == dusk_trace.digest
    again = lt.load_trace(marked.save(tmp_path / "marked.jsonl"))
    assert marks_of(again) == marks_of(marked)
    assert lt.replay(again, quay.dusk_run).identical


def lt_mark(row, note):
    from larktally.traces.marks import Mark

    return Mark(row, note)


def test_what_is_kept_never_takes_the_place_of_what_was_kept_before(tmp_path, dusk_trace):
    scenario = quay.dusk_run.named("dusk_run")
    first, second = (keep(dusk_trace, scenario, tmp_path, "an odd/hop") for _ in range(2))
    assert len({*first.files, *second.files}) == 4 and all(path.exists() for path in (*first.files, *second.files))
    assert first.replay.identical
    claims = list(kept_claims(dusk_trace))
    assert claims
    for line in claims:
        made = eval(line.rstrip(","), {"lt": lt})
        assert lt.check(dusk_trace, [made]).passed
    with pytest.raises(lt.LarkTallyError, match="needs a name"):
        keep(dusk_trace, scenario, tmp_path, "  ")


def test_the_line_with_a_turned_number_is_the_models_or_the_params():
    def model(setup):
        sim = lt.Sim(setup)
        setup.number("leap", 340)
        setup.duration("rest", "0.8s")
        setup.number(
            "far",
            12,
        )
        setup.param("lit", True)
        setup.number("share", "3/4")
        return sim

    given = {"leap": 300, "rest": "0.5s", "far": 13, "lit": False, "share": "1/2"}
    watched = AskedNumbers(given)
    record_watched(lt.Scenario(model, frames=1, params=given), [watched])
    assert {one.name: one.code for one in watched.found} == {
        "leap": 'setup.number("leap", 300)',
        "rest": 'setup.duration("rest", "0.5s")',
        "far": 'params={"far": 13}',
        "lit": 'setup.param("lit", False)',
        "share": 'setup.number("share", "1/2")',
    }
    assert {one.kind for one in watched.found} == {"number", "duration", "param"}


def test_a_page_holds_hostile_texts_as_texts(tmp_path):
    class Odd:
        def reset(self, setup):
            pass

        def step(self, now):
            return [lt.Event("said", "odd", text="</script><img src=x onerror=alert(1)>")]

        def observe(self):
            return {"mood": "</script><b>x", "n": float("nan")}

    trace = lt.record(lt.Scenario(Odd, frames=3, allow_nan=True, name="</title><script>"))
    packed = unpacked(packed_runs([RunView(trace)]))
    assert packed["runs"][0]["columns"][0]["labels"] == ["</script><b>x"]
    path = tmp_path / "odd.parquet"
    trace.save(path)
    ran = subprocess.run(
        [sys.executable, "-m", "larktally", "plot", str(path), "--out", str(tmp_path / "odd.html")],
        capture_output=True,
        text=True,
    )
    assert ran.returncode == 0
    text = (tmp_path / "odd.html").read_text()
    assert "onerror=alert" not in text and "</title><script>" not in text
    json.dumps(packed["runs"], allow_nan=False)
