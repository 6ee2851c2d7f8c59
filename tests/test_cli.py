"""The command line as its users meet it: output, exit statuses, messages."""

import json
import subprocess
import sys

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally import cli
from larktally.cli import main


def call(*args):
    return CliRunner().invoke(main, [str(arg) for arg in args])


def test_help_loads_nothing_slow():
    code = (
        "import sys; from click.testing import CliRunner; from larktally.cli import main;"
        "out = CliRunner().invoke(main, ['--help']).output;"
        "slow = {'numpy', 'rich', 'matplotlib', 'pyarrow', 'pandas'} & set(sys.modules); print(out); assert not slow, slow"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert "Check the claims of a TOML file on a trace, a log or a folder." in out


@pytest.mark.slow
def test_the_demo_runs_the_whole_thread(tmp_path):
    result = call("demo", tmp_path / "demo")
    assert result.exit_code == 0, result.output
    for words in (
        "4 of 4 claims passed",
        "identical: 221 rows",
        "BROKEN  a hop starts on the ground",
        "row 52",
        "Next: larktally",
    ):
        assert words in result.output
    written = sorted(path.name for path in (tmp_path / "demo").iterdir())
    models, runs = ["canal.py", "evening.py", "quay.py"], ["dusk_run", "evening_lost", "evening_won"]
    kept = [f"{run}.{suffix}" for run in runs for suffix in ("parquet", "png")]
    assert written == sorted([*models, *kept, "dusk_run.jsonl", "faulty_run.parquet"])
    assert "33 of the canal's 33 claims kept; the fault planted on the quay was found in row 52" in result.output
    again = call("run", tmp_path / "demo" / "evening.py:a_pause", "--to", tmp_path / "t")
    assert again.exit_code == 0 and "3 of 3 claims passed" in again.output
    assert (tmp_path / "demo" / "dusk_run.png").read_bytes()[16:24] == (1280).to_bytes(4) + (800).to_bytes(4)


def test_run_records_in_order_and_its_status_says_what_was_kept(model_file, tmp_path):
    result = call("run", model_file, "--to", tmp_path / "traces", "--format", "jsonl")
    assert result.exit_code == 1
    assert result.output.index("dusk_run: 220 frames") < result.output.index("faulty_run: 220 frames")
    assert call("run", f"{model_file}:dusk_run", "--to", tmp_path / "t").exit_code == 0
    plain = json.loads(call("run", model_file, "--to", tmp_path / "traces", "--json").output)
    assert [scenario["passed"] for scenario in plain] == [True, False]
    assert plain[1]["claims"][0]["breaches"] == [{"trigger": 52, "row": 52}]
    missing = call("run", f"{model_file}:dusk_rum")
    assert missing.exit_code == 2 and "no scenario 'dusk_rum'; did you mean 'dusk_run'" in missing.output


def test_replay_says_identical_or_where(model_file, tmp_path):
    call("run", model_file, "--to", tmp_path)
    same = call("replay", tmp_path / "dusk_run.parquet", model_file)
    assert same.exit_code == 0 and same.output.startswith("identical: 221 rows")
    other = call("replay", tmp_path / "dusk_run.parquet", f"{model_file}:faulty_run")
    assert other.exit_code == 1 and "first divergence in row 52" in other.output
    assert (
        json.loads(call("replay", tmp_path / "dusk_run.parquet", f"{model_file}:faulty_run", "--json").output)["row"]
        == 52
    )


def test_show_prints_rows_and_events(dusk_trace, tmp_path):
    path = dusk_trace.save(tmp_path / "run.parquet")
    shown = call("show", path, "--frames", "29..31,76", "--only", "wick.y")
    lines = shown.output.splitlines()
    assert lines[0].startswith("dusk_run: rows 0..220 at 60 frames/s")
    assert lines[1].startswith(
        "order  inputs → timers (wick.burst) → animations → machines (wick.gait) → motion (wick) → zones"
    )
    assert lines[3].split() == ["wick.gait", "saaa"] and "s standing, a airborne" in lines[4]
    lines = lines[next(n for n, line in enumerate(lines) if line.startswith("row ")) - 1 :]
    assert [line.split()[:3] for line in lines[2:6]] == [
        ["29", "0.483", "16"],
        ["30", "0.500", "21.75"],
        ["31", "0.517", "27.25"],
        ["76", "1.267", "16"],
    ]
    assert "hop(wick.gait)" in lines[3]
    events = call("show", path, "--events", "--frames", "0..60").output
    assert "left_ground" in events and "landed" not in events
    assert json.loads(call("show", path, "--frames", "30", "--json").output)[0]["inputs"] == {"right": 1.0, "hop": 1.0}
    for option, said in (
        (("--frames", "999"), "rows 0..220"),
        (("--frames", "x"), "takes a row"),
        (("--only", "wick.yy"), "matches no"),
    ):
        wrong = call("show", path, *option)
        assert wrong.exit_code == 2 and said in wrong.output


CLAIMS = """
[define]
aloft = "in_state(wick.gait, 'airborne')"
[[claim]]
name = "a hop starts on the ground"
that = "always(implies(event('hop'), prev(wick.grounded)))"
[[claim]]
name = "aloft is short"
that = "stays(aloft, at_most='{limit}')"
why = "the canal is narrow"
tags = ["air"]
"""


def test_check_reads_claims_from_toml(dusk_trace, tmp_path):
    trace, claims = dusk_trace.save(tmp_path / "run.jsonl"), tmp_path / "claims.toml"
    claims.write_text(CLAIMS.format(limit="1s"))
    kept = call("check", trace, claims)
    assert kept.exit_code == 0 and "2 of 2 claims passed" in kept.output
    claims.write_text(CLAIMS.format(limit="0.5s"))
    broken = call("check", trace, claims)
    assert broken.exit_code == 1 and "because  the canal is narrow" in broken.output
    assert call("check", trace, claims, "--tag", "air", "--json").output.count('"name"') == 1


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "no [[claim]]"),
        ("[[claim]]\nname='a'", "that is missing"),
        ("[[claim]]\nname='a'\nthat='always(wick.y > 1)'\nwhi='x'", "no key 'whi'; did you mean 'why'"),
        (
            "[[claim]]\nname='a'\nthat='always(wick.burts < 3)'",
            "claim 'a': no channel 'wick.burts' in this trace; did you mean",
        ),
        ("[[claim]]\nname='a'\nthat='always(wick.y >'", "claim 'a': cannot be read"),
        ("[[claim]]\nname='a'\nthat='always(event(\"hops\"))'", "declare it: events=('hops',)"),
        ("[claim", "not TOML"),
    ],
)
def test_a_claims_file_that_does_not_fit_is_told_by_name_and_place(dusk_trace, tmp_path, text, said):
    trace, claims = dusk_trace.save(tmp_path / "run.jsonl"), tmp_path / "claims.toml"
    claims.write_text(text)
    result = call("check", trace, claims)
    assert result.exit_code == 2 and said in result.output
    assert "Traceback" not in result.output


FAILING = """
import larktally as lt
class Oil:
    def reset(self, setup): self.level = 7.0
    def step(self, now):
        self.level -= 1
        if self.level < 3: raise RuntimeError("the can is empty")
    def observe(self): return {"oil": self.level}
sparks = lt.Scenario(Oil, frames=30)
"""


def test_a_subject_that_raises_ends_with_3_and_its_rows_are_kept(tmp_path):
    model = tmp_path / "oil.py"
    model.write_text(FAILING)
    result = call("run", model, "--to", tmp_path)
    assert result.exit_code == 3
    assert "row 5: step failed: RuntimeError: the can is empty" in result.output and "oil.py, line 7" in result.output
    assert lt.load_trace(tmp_path / "sparks.stopped.parquet")["oil"].tolist() == [7, 6, 5, 4, 3]
    assert not (tmp_path / "sparks.parquet").exists()


def test_a_model_that_cannot_be_built_is_told_with_its_scenario(model_file, tmp_path):
    model_file.write_text(model_file.read_text().replace('start="standing"', 'start="standng"'))
    result = call("run", model_file, "--to", tmp_path)
    assert result.exit_code == 2
    assert "larktally: dusk_run: machine 'wick.gait': no state 'standng'; did you mean 'standing'" in result.output


@pytest.mark.parametrize(
    ("args", "said"),
    [
        (("runn",), "no command 'runn'; did you mean 'run'"),
        (("run", "nothing.py"), "nothing.py: no such file"),
        (("check", "nothing.parquet", "c.toml"), "nothing.parquet: no such file"),
    ],
)
def test_bad_usage_is_one_message_and_status_2(args, said):
    result = call(*args)
    assert result.exit_code == 2 and said in result.output and "Traceback" not in result.output


def test_a_model_file_that_does_not_run_is_told_by_its_line(tmp_path):
    model = tmp_path / "broken.py"
    for text, said in (
        ("import larktally as lt\nx = y\n", "line 2: NameError"),
        ("def (", "line 1"),
        ("x = 1\n", "no scenario at the top level"),
    ):
        model.write_text(text)
        result = call("run", model, "--to", tmp_path)
        assert result.exit_code == 2 and said in result.output


@pytest.fixture
def two_traces(model_file, tmp_path):
    call("run", model_file, "--to", tmp_path)
    (tmp_path / "same.toml").write_text("[[claim]]\nname = 'as before'\nthat = \"same('wick.y', tol=1)\"\n")
    return tmp_path / "dusk_run.parquet", tmp_path / "faulty_run.parquet", tmp_path


def test_a_second_trace_a_tolerance_and_a_baseline_are_given_on_the_command_line(two_traces, model_file):
    good, bad, folder = two_traces
    assert call("check", good, folder / "same.toml", "--against", good).exit_code == 0
    broken = call("check", bad, folder / "same.toml", "--against", good)
    assert broken.exit_code == 1 and "same('wick.y', tol=1)" in broken.output and "row 52" in broken.output
    assert "there is no other one" in call("check", bad, folder / "same.toml").stderr
    assert call("replay", good, f"{model_file}:faulty_run", "--tolerance", "wick.*=1000").exit_code == 1
    assert call("replay", good, f"{model_file}:dusk_run", "--tolerance", "4u").exit_code == 0
    kept = folder / "baselines"
    assert call("run", f"{model_file}:dusk_run", "--to", folder, "--baseline", kept).exit_code == 1
    made = call("run", f"{model_file}:dusk_run", "--to", folder, "--baseline", kept, "--accept")
    assert made.exit_code == 0 and "a new baseline" in made.output
    plain = json.loads(call("run", f"{model_file}:dusk_run", "--to", folder, "--baseline", kept, "--json").output)
    assert plain[0]["baseline"]["passed"] and plain[0]["baseline"]["comparison"]["identical"]
    assert "goes with --baseline" in call("run", model_file, "--accept").stderr


def test_convert_goes_between_the_formats_and_says_what_a_thinned_one_loses(two_traces):
    good, _, folder = two_traces
    for suffix in ("jsonl", "parquet", "csv", "vcd"):
        done = call("convert", good, folder / f"x.{suffix}")
        assert done.exit_code == 0 and "221 rows, 10 channels, 10 events" in done.output
    assert lt.load_trace(folder / "x.jsonl").digest == lt.load_trace(good).digest
    thin = call("convert", good, folder / "thin.parquet", "--every", "5")
    assert "45 of 221 rows; farthest off in: wick.vy" in thin.output
    assert (
        "its rows are not frames"
        in call("check", folder / "thin.parquet", folder / "same.toml", "--against", good).stderr
    )
    assert "no recording of that name was cut off" in call("convert", good, folder / "y.parquet", "--recover").stderr
    assert (
        "no such file; did you mean 'dusk_run.parquet'"
        in call("convert", folder / "dusk_run.parqet", folder / "z.csv").stderr
    )


def test_durations_are_told_exactly_and_summed():
    done = call("durations", "0.1s", "0.35s", "--rates", "60,144")
    lines = done.output.splitlines()
    first = next(line.split() for line in lines if line.startswith("0.1s"))
    assert first[:4] == ["0.1s", "60", "6", "6"] and "(+1)" in first
    assert "they end in frame 27 at 60, 66 at 144" in done.output
    plain = json.loads(call("durations", "9f", "--rates", "60000/1001", "--json").output)
    assert plain[0]["exact"] == "9" and plain[0]["over_in"] == 9
    for words, said in (
        (("0.1x",), "neither frames"),
        (("0.1s", "--rates", "0"), "a rate is above 0"),
        (("0s",), "between 0 and"),
    ):
        failed = call("durations", *words)
        assert failed.exit_code == 2 and said in failed.stderr


@pytest.mark.parametrize("command", list(cli._COMMANDS))
def test_every_command_has_help_and_refuses_what_it_does_not_know(command):
    done = call(command, "--help")
    assert done.exit_code == 0 and "Usage:" in done.output and len(done.output.splitlines()) > 5
    assert call(command, "--no-such-option").exit_code == 2
    near = call(command[:-1] + "q")
    assert near.exit_code == 2 and "no command" in near.stderr


def test_a_machine_is_shown_with_its_rules_what_is_odd_and_what_traces_visited(dusk_trace, model_file, tmp_path):
    trace = dusk_trace.save(tmp_path / "run.parquet")
    plain = call("chart", f"{model_file}:dusk_run")
    assert plain.exit_code == 0 and plain.output.startswith("wick.gait") and "land" in plain.output
    covered = call("chart", f"{model_file}:dusk_run", trace, "--out", tmp_path / "gait.svg")
    assert covered.exit_code == 0 and "airborne" in covered.output and "drawn in" in covered.output
    assert (tmp_path / "gait.svg").read_text(encoding="utf-8").startswith("<?xml")
    for suffix, begins in ((".dot", "digraph"), (".scxml", "<?xml")):
        assert (
            call(
                "chart", f"{model_file}:dusk_run", "--machine", "wick.gait", "--out", tmp_path / f"g{suffix}"
            ).exit_code
            == 0
        )
        assert (tmp_path / f"g{suffix}").read_text(encoding="utf-8").startswith(begins)
    found = json.loads(call("chart", f"{model_file}:dusk_run", trace, "--json").output)
    assert "wick.gait" in json.dumps(found) and "visits" in json.dumps(found)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--machine", "wick.gate"), "did you mean 'wick.gait'"),
        (("--out", "gait.png"), "a machine is written as .svg, .dot, .scxml"),
    ],
)
def test_a_machine_that_is_not_there_or_a_format_that_is_none_is_told(model_file, words, said):
    done = call("chart", f"{model_file}:dusk_run", *words)
    assert done.exit_code == 2 and said in done.stderr


def test_a_long_run_shows_how_far_it_is_on_a_terminal_and_nothing_where_output_is_piped(monkeypatch, capsys):
    from larktally.cli import progress

    with progress.progress("recording") as piped:
        assert piped is None
    monkeypatch.setattr(sys.stderr, "isatty", lambda: True)
    clock = iter([0.0, *(0.5 + n for n in range(200))])
    monkeypatch.setattr(progress.time, "monotonic", lambda: next(clock))
    with progress.progress("recording") as on_progress:
        for row in (1, 50, 100):
            on_progress(row, 100)
    assert "recording" in capsys.readouterr().err


def test_a_command_is_named_in_the_messages_of_one_that_is_misspelt():
    done = call("chek")
    assert done.exit_code == 2 and "no command 'chek'; did you mean 'check'?" in done.stderr


JUDGED = """
import larktally as lt

def walks(setup):
    sim = lt.Sim(setup)
    at, speed, breaks = sim.value("wick.x", 0.0), setup.param("speed", 1.0), setup.param("breaks", 0)
    def step(now):
        at.value += speed
        if now.frame == breaks:
            raise ValueError("a moth ate the map")
    sim.before("machines", step)
    return sim

good = lt.Scenario(walks, frames=9, claims=[lt.claim("on", "always(wick.x < 90)"), lt.claim("far", "eventually(wick.x > 90)")])
breaks = lt.Scenario(walks, frames=9, params={"breaks": 5}, name="breaks", claims=[lt.claim("on", "always(wick.x < 90)")])
bare = lt.Scenario(walks, frames=9, name="bare")
"""


def test_junit_is_red_for_a_failed_subject_a_left_baseline_and_a_run_that_cannot_be_judged(tmp_path, monkeypatch):
    import xml.etree.ElementTree as ET

    monkeypatch.chdir(tmp_path)
    model = tmp_path / "model.py"
    model.write_text(JUDGED)
    words = ["run", "model.py", "--junit", "j.xml", "--baseline", "base"]
    assert call(*words, "--accept").exit_code == 3
    model.write_text(JUDGED.replace('"speed", 1.0', '"speed", 2.0'))
    assert call(*words).exit_code == 3
    suites = {one.get("name"): one for one in ET.parse("j.xml").getroot()}
    counts = {
        name: [one.get(key) for key in ("tests", "failures", "errors", "skipped")] for name, one in suites.items()
    }
    assert counts == {"good": ["3", "2", "0", "0"], "breaks": ["1", "0", "1", "0"], "bare": ["1", "1", "0", "0"]}
    error = suites["breaks"].find("testcase/error")
    assert error.get("message") == "the subject failed: row 5: step failed: ValueError: a moth ate the map"
    assert "model.py, line 10, in step" in error.text and "5 rows were recorded" in error.text
    assert all(float(one.get("time")) > 0 for one in suites.values())
    assert suites["good"].findall("testcase")[2].find("failure").text.startswith("baseline base/good.jsonl")
    model.write_text(JUDGED.replace("always(wick.x < 90)", "always(wick.xx < 90)", 1))
    assert call("run", "model.py", "--junit", "j.xml").exit_code == 2
    (only,) = ET.parse("j.xml").getroot()
    assert "no channel 'wick.xx'" in only.find("testcase/error").text
    model.write_text(JUDGED)
    assert call("run", "model.py:bare", "--junit", "j.xml").exit_code == 0
    assert ET.parse("j.xml").getroot()[0].find("testcase/skipped") is not None


def test_a_fault_of_our_own_is_status_70_in_one_line_and_its_traceback_is_asked_for(tmp_path, monkeypatch):
    from larktally import summed

    def broken(*args, **options):
        raise KeyError("apex")

    monkeypatch.setattr(summed, "durations", broken)
    done = call("durations", "0.1s")
    assert done.exit_code == 70 and done.output.count("\n") == 1 and "Traceback" not in done.output
    assert done.output.startswith("larktally: a fault of its own, KeyError: 'apex' (please report")
    assert "Traceback" in call("durations", "0.1s", "--debug").output
    for interruption, status in ((KeyboardInterrupt(), 130), (SystemExit(1), 70)):
        monkeypatch.setattr(summed, "durations", lambda *a, _error=interruption, **o: (_ for _ in ()).throw(_error))
        assert call("durations", "0.1s").exit_code == status


def test_a_model_that_ends_the_process_does_not_choose_the_status(tmp_path):
    model = tmp_path / "model.py"
    model.write_text(JUDGED.replace('raise ValueError("a moth ate the map")', "raise SystemExit(1)"))
    done = call("run", f"{model}:breaks", "--to", tmp_path)
    assert done.exit_code == 3 and "row 5: step failed: SystemExit: 1" in done.output
    model.write_text("import sys\nsys.exit(0)\n")
    done = call("run", model)
    assert done.exit_code == 2 and "model.py, line 2: SystemExit: 0" in done.output


def test_a_scenario_that_a_file_imports_is_run_with_its_own_file_or_by_name(tmp_path):
    (tmp_path / "model_of_wick.py").write_text(JUDGED)
    mine = (
        "import larktally as lt\nfrom model_of_wick import bare as theirs, walks\nmine = lt.Scenario(walks, frames=3)\n"
    )
    (tmp_path / "mine.py").write_text(mine)
    done = call("run", tmp_path / "mine.py", "--to", tmp_path)
    assert done.exit_code == 0 and "mine: 3 frames" in done.output and "bare" not in done.output
    assert "bare: 9 frames" in call("run", f"{tmp_path / 'mine.py'}:theirs", "--to", tmp_path).output
    (tmp_path / "star.py").write_text("from model_of_wick import *\n")
    done = call("run", tmp_path / "star.py")
    assert done.exit_code == 2 and "no scenario of its own; it imports good, breaks, bare" in done.output


def test_a_text_where_a_number_stood_names_the_file_and_line_that_set_it(tmp_path):
    model = tmp_path / "model.py"
    for line, where in (("at.value = 'fast'", "at = 'fast'"), ("wick.vx = '120'", "wick.vx = '120'")):
        model.write_text(
            "import lark" + "tally as lt\ndef walks(setup):\n    sim = lt.Sim(setup)\n    at = sim.value('at', 0.0)\n"
            "    wick = sim.body('wick', size=(4, 4), at=(0, 0))\n    @sim.before('machines')\n    def step(now):\n"
            f"        if now.frame == 3: {line}\n    return sim\nrun = lt.Scenario(walks, frames=9)\n"
        )
        done = call("run", model, "--to", tmp_path)
        assert done.exit_code == 3 and f"{where} (was 0), set by before machines: step at model.py:8" in done.output


def test_a_chart_with_traces_blames_no_state_that_go_entered_or_left(tmp_path):
    model = tmp_path / "model.py"
    model.write_text(
        "import larktally as lt\ndef moods(setup):\n    sim = lt.Sim(setup)\n    one = sim.machine('mood', ('calm', 'hurt'), 'calm')\n"
        "    @sim.before('machines')\n    def step(now):\n        if now.frame in (3, 6): one.go('hurt' if now.frame == 3 else 'calm')\n"
        "    return sim\nrun = lt.Scenario(moods, frames=9)\n"
    )
    assert call("run", model, "--to", tmp_path).exit_code == 0
    assert call("chart", model).output.count("look at: ") == 3
    assert "look at: " not in call("chart", model, tmp_path / "run.parquet").output


def test_a_reader_that_has_gone_is_no_fault(tmp_path, dusk_trace):
    path = dusk_trace.save(tmp_path / "dusk.parquet")
    code = f"import subprocess, sys; p = subprocess.Popen([sys.executable, '-m', 'larktally', 'show', {str(path)!r}, '--frames', '0..219'], "
    code += "stdout=subprocess.PIPE, stderr=subprocess.PIPE); p.stdout.readline(); p.stdout.close(); print(p.stderr.read(), p.wait())"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.startswith("b'' ")
