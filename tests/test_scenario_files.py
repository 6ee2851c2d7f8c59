"""Scenarios of a program in a TOML file: the same run as one written in Python, for every command, and every slip named."""

import json
import sys
from pathlib import Path

import junitparser
import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main

FAULTY = Path(__file__).parent / "faulty_program.py"
CLAIMS = """intended = ["flicker odd"]
[[claim]]
name = "it counts frames"
that = "always(implies(not (n == 0), delta(n) == 1))"
[[claim]]
name = "{it} is not negative"
that = "always({it} >= 0)"
for_each = ["n", "half"]
[[measure]]
name = "the end"
of = "greatest(n)"
"""
GAME = f"""
rate = 60
claims = "rules.claims.toml"

[program]
command = [{sys.executable!r}, {str(FAULTY)!r}, "well"]

[scenario.walk]
frames = "2s"
inputs = "walk.csv"
presses = [
    {{ action = "hop", start = 40, frames = 3 }},
    {{ action = "hop", on = "event('mark')", plus = 2 }},
]

[scenario."at two rates"]
frames = 30
rates = [30, "60000/1001"]
seed = 7
claims = []
intended = ["trouble n"]
"""


@pytest.fixture
def game(tmp_path):
    (tmp_path / "game.toml").write_text(GAME)
    (tmp_path / "rules.claims.toml").write_text(CLAIMS)
    (tmp_path / "walk.csv").write_text("action,start,frames,value\nhop,5,2,1.0\n")
    return tmp_path / "game.toml"


def cli(*words):
    return CliRunner().invoke(main, [str(word) for word in words])


def test_a_table_is_the_run_that_python_would_say(game):
    walk, slow, drop = lt.load_scenarios(game)
    script = lt.InputScript().hold("hop", 5, 2).hold("hop", 40, 3).press("hop", on="event('mark')", plus=2)
    written = lt.Scenario(
        lt.Program([sys.executable, FAULTY, "well"]), frames=120, inputs=script, name="walk", claims=walk.claims
    )
    assert lt.record(walk).digest == lt.record(written).digest
    assert [one.name for one in walk.claims] == ["it counts frames", "n is not negative", "half is not negative"]
    assert [one.name for one in walk.measures] == ["the end"] and walk.intended == ("flicker odd",)
    assert (slow.name, slow.rate, slow.seed, slow.claims, slow.intended) == (
        "at two rates at 30",
        30,
        7,
        (),
        ("trouble n",),
    )
    assert drop.rate == lt.Rate("60000/1001") and drop.subject is walk.subject
    assert lt.load_scenarios(f"{game}:walk")[0].title == "walk"


SLIPS = {
    "[program]\ncomand = ['x']": "[program]: no key 'comand'; did you mean 'command'?",
    "[scenario.a]\nframes = 3": "no table [program]; it says how the game is started",
    "[program]\ncommand = ['x']": "no scenario; write one as [scenario.NAME]",
    "[program]\ncommand = 'x'\n[scenario.a]\nframes = 1": "[program]: command is a list, not 'x'",
    "[program]\ncommand = ['x', 3]\n[scenario.a]\nframes = 1": "command is a list of texts",
    "[program]\ncommand = ['x']\nfolder = 'no'\n[scenario.a]\nframes = 1": "[program]: folder: there is no folder",
    "[program]\ncommand = ['x']\nover = 'pigeon'\n[scenario.a]\nframes = 1": "spoken to over 'stdio', 'tcp:PORT' or 'listen'",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = true": "scenario 'a': frames is a number of frames or a time",
    "[program]\ncommand = ['x']\n[scenario.a]\nseed = 1": "scenario 'a': frames is missing",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = '0.01s'": "scenario 'a': frames:",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\nrate = 30\nrates = [60]": "it says rate and rates",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\npreses = []": "no key 'preses'; did you mean 'presses'?",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\npresses = [3]": "press 1: it is a table",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\npresses = [{action='hop'}]": "press 1: say start = FRAME",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\npresses = [{start=1}]": "press 1: action is missing",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\npresses = [{action='a', start=1, plus=2}]": "plus goes with on",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\nclaims = 'no.toml'": "no.toml: no such file",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\ninputs = 'no.csv'": "no.csv: cannot be read as an input script",
    "[program]\ncommand = ['x']\n[scenario.a]\nframes = 1\nseed = -1": "scenario 'a': a seed is a whole number",
    "[program]\ncommand = ['x']\n[scenario]\na = 1": "scenario 'a': it is a table",
    "rat = 60\n[program]\ncommand = ['x']": "no key 'rat'; did you mean 'rate'?",
    "[program": "cannot be read as scenarios",
}


@pytest.mark.parametrize("text", SLIPS)
def test_every_slip_is_one_message_with_file_and_key(tmp_path, text):
    path = tmp_path / "game.toml"
    path.write_text(text)
    ran = cli("run", path)
    assert ran.exit_code == 2 and SLIPS[text] in ran.stderr and str(path.parent) in ran.stderr, ran.stderr
    assert "Traceback" not in ran.output


def test_rules_over_runs_are_not_left_unjudged(game, tmp_path):
    rules = CLAIMS + "[[across]]\nname = 'same'\nof = 'greatest(n)'\nover = 'rate'\nspread = 0\n"
    (tmp_path / "rules.claims.toml").write_text(rules)
    ran = cli("run", game)
    assert ran.exit_code == 2 and "[[across]] goes over several runs" in ran.stderr and "--claims" in ran.stderr


def test_a_build_of_the_program_is_a_save(game):
    from larktally.watch.files_read import FilesRead

    folder = game.parent
    (folder / "game").write_text(f"#!/bin/sh\nexec {sys.executable} {FAULTY} well\n")
    (folder / "game").chmod(0o755)
    text = GAME.replace(f'[{sys.executable!r}, {str(FAULTY)!r}, "well"]', '["./game"]')
    game.write_text(text)
    read = FilesRead(game)
    walk = lt.load_scenarios(f"{game}:walk")[0]
    lt.record(walk)
    walk.subject.stop()
    assert [Path(file).name for file in read.found()] == ["game.toml", "rules.claims.toml", "game", "walk.csv"]


def test_every_command_takes_the_file(game, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    ran = cli("run", game, "--to", "traces")
    assert ran.exit_code == 0, ran.output + ran.stderr
    assert "3 of 3 claims passed" in ran.output and "the end    120" in ran.output
    trace = tmp_path / "traces" / "walk.parquet"
    assert "identical" in cli("replay", trace, game).output
    assert cli("audit", f"{game}:walk", "--only", "unlike itself").exit_code == 0
    assert "2 of 2 runs" in cli("vary", f"{game}:walk", "--seed", "1,2").output
    assert "no claim is broken" in cli("shrink", f"{game}:walk").output
    explored = cli("explore", f"{game}:walk", "--runs", "5", "--out", "finds")
    assert explored.exit_code == 0 and "nothing is kept in finds" in explored.output
    assert "the end" in cli("numbers", game).output
    # In any order of processes the same is said.
    quiet = [cli("run", tmp_path, "--match", "walk", "--to", "t", "--workers", n, "--json").output for n in (1, 2)]
    assert json.loads(quiet[0])[0]["digest"] == json.loads(quiet[1])[0]["digest"]
    assert "did you mean 'walk'" in cli("run", f"{game}:wlk").stderr


def test_a_report_of_a_program_becomes_a_test(game, tmp_path):
    script = lt.InputScript().press("hop", 3)
    report = lt.record(lt.load_scenarios(f"{game}:walk")[0].changed(inputs=script, frames=20))
    report.save(tmp_path / "report.parquet")
    made = cli("new", tmp_path / "case", "--from", tmp_path / "report.parquet", "--of", f"{game}:walk")
    assert made.exit_code == 0, made.output
    text = (tmp_path / "case" / "test_report.py").read_text()
    names = {"__file__": str(tmp_path / "case" / "test_report.py")}
    exec(compile(text, "test_report.py", "exec"), names)
    names["test_what_was_reported"]()


def test_a_build_farm_runs_150_and_any_reader_has_the_verdicts(game, tmp_path):
    tables = "".join(f"[scenario.run{n}]\nframes = {10 + n}\nseed = {n}\n" for n in range(150))
    game.write_text(GAME[: GAME.index("[scenario.walk]")] + tables)
    rules = CLAIMS + "[[claim]]\nname = 'short'\nthat = 'always(n < 150)'\n"
    (tmp_path / "rules.claims.toml").write_text(rules)
    ran = cli("run", game, "--quiet", "--keep", "failed", "--to", tmp_path / "t", "--junit", tmp_path / "verdicts.xml")
    assert ran.exit_code == 1, ran.output + ran.stderr
    assert "150 scenarios" in ran.output
    suites = list(junitparser.JUnitXml.fromfile(str(tmp_path / "verdicts.xml")))
    assert len(suites) == 150 and sum(suite.tests for suite in suites) == 600
    failed = {suite.name for suite in suites if suite.failures}
    assert failed == {f"run{n}" for n in range(140, 150)} == {path.stem for path in (tmp_path / "t").glob("*.parquet")}
