"""Two folders of traces: which runs differ and by what causes, which verdicts turned, which numbers and events moved."""

import json

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main

MODEL = """
import larktally as lt


def lamp(setup):
    sim = lt.Sim(setup, actions=("spark",), events=("lit",))
    oil = sim.value("oil", 7)
    heat = sim.value("heat", 0.0)
    step = setup.param("step", 0.5)
    wait = sim.countdown("wait", setup.duration("wait", 6), running=True)

    @sim.before("machines")
    def burn(now):
        heat.value += step * GAIN
        if now.pressed("spark"):
            oil.value -= 1
        if wait.left == 0 and now.frame == 8 + LATE:
            now.emit("lit")

    return sim


GAIN, LATE = 1.0, 0
MEASURES = {"warmth": lt.NamedMeasure("greatest(heat)", "units")}
warm = lt.Scenario(lamp, frames=20, claims=[lt.claim("cool", "always(heat <= 10)")], measures=MEASURES)
hot = warm.changed(params={"step": 1.0}, claims=[lt.claim("hot", "eventually(heat > 15)")], inputs=lt.InputScript().press("spark", 3))
still = lt.Scenario(lamp, frames=20, params={"step": 0.0})
"""


def run(tmp_path, name, change=lambda text: text):
    folder = tmp_path / f"code_{name}"
    folder.mkdir(exist_ok=True)
    file = folder / "lamp.py"
    file.write_text(change(MODEL))
    CliRunner().invoke(main, ["run", str(file), "--to", str(tmp_path / name), "--quiet"])
    return tmp_path / name


def cli(*words):
    return CliRunner().invoke(main, ["compare", *map(str, words)])


def test_the_same_build_is_identical_and_a_run_before_is_no_run_of_today(tmp_path):
    old, new = run(tmp_path, "old"), run(tmp_path, "new")
    run(tmp_path, "new")
    assert (new / "warm.before.parquet").exists()
    ran = cli(old, new)
    assert ran.exit_code == 0 and ran.stdout.startswith("3 scenarios in both: 3 identical, 0 differ\n")
    assert lt.compare_folders(old, new).identical


def test_a_changed_number_is_one_cause_and_verdicts_and_measures_are_told(tmp_path):
    old = run(tmp_path, "old")
    new = run(tmp_path, "new", lambda text: text.replace("GAIN, LATE = 1.0", "GAIN, LATE = 1.25"))
    found = lt.compare_folders(old, new)
    assert {cause: [one.name for one in runs] for cause, runs in found.causes.items()} == {
        "heat parts first, and the file of the model is another": ["hot", "warm"]
    }
    ran = cli(old, new, "--claims", tmp_path / "code_new" / "lamp.py")
    assert ran.exit_code == 1 and "3 scenarios in both: 1 identical, 2 differ" in ran.stdout
    assert "row 1: heat was 0.5, now 0.625" in ran.stdout and "cool: kept → broken in warm" in ran.stdout
    assert "hot: " not in ran.stdout.partition("turned:")[2].partition("measures")[0]
    told = ran.stdout.partition("measures that moved:")[2]
    assert "warmth" in told and "+25.0%" in told and " 20 " in told and " 25 " in told
    plain = json.loads(cli(old, new, "--json", "--workers", "2").stdout)
    assert plain == json.loads(json.dumps(found.plain())) and [one["identical"] for one in plain["runs"]] == [
        False,
        True,
        False,
    ]
    # By a tolerance that holds the change nothing differs.
    assert cli(old, new, "--tolerance", "heat=5").exit_code == 0


def test_settings_are_causes_a_script_of_its_own_row_and_events_move(tmp_path):
    old = run(tmp_path, "old")
    new = run(
        tmp_path, "new", lambda text: text.replace('"wait", 6)', '"wait", 5)').replace("LATE = 1.0, 0", "LATE = 1.0, 2")
    )
    found = lt.compare_folders(old, new)
    assert {cause: len(runs) for cause, runs in found.causes.items()} == {"wait was 6, now 5": 3}
    assert "lit: moved by +2, in hot, still, warm" in str(found)
    other = run(tmp_path, "other", lambda text: text.replace('press("spark", 3)', 'press("spark", 4)'))
    assert [(cause, len(runs)) for cause, runs in lt.compare_folders(old, other).causes.items()] == [("the script", 1)]


def test_what_stands_in_one_folder_alone_and_what_cannot_be_read_is_told(tmp_path):
    old, new = run(tmp_path, "old"), run(tmp_path, "new", lambda text: text.replace("still =", "dark ="))
    (new / "hot.parquet").write_bytes(b"PAR1 and no more")
    (new / "still.parquet").unlink(missing_ok=True)
    ran = cli(old, new)
    assert ran.exit_code == 1 and "only in the old: still" in ran.stdout and "only in the new: dark" in ran.stdout
    line = next(line for line in ran.stdout.splitlines() if line.startswith("hot "))
    assert "cannot be compared: " in line and "hot.parquet" in line
    rules = tmp_path / "rules.toml"
    rules.write_text(
        '[[claim]]\nname = "warm"\nthat = "always(heat < 5)"\n[[claim]]\nname = "odd"\nthat = "always(lost < 5)"\n'
    )
    new = run(tmp_path, "newer", lambda text: text.replace("GAIN, LATE = 1.0", "GAIN, LATE = 0.1"))
    told = cli(old, new, "--claims", rules).stdout
    assert "warm: broken → kept in hot, warm" in told and "odd" not in told


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("old", "empty"), "no trace in this folder"),
        (("old", "old/warm.parquet"), "two traces are compared, or two folders"),
        (("old", "other"), "no trace of one name: hot, still, warm; night"),
        (("old", "old", "--tolerance", "lost=1"), "tolerance 'lost' matches no channel of any run"),
        (("old", "old", "--map", "a=b"), "are for two traces"),
        (("old/warm.parquet", "old/hot.parquet", "--workers", "2"), "are for two folders"),
        (("old", "twice"), "two traces are called 'warm'"),
    ],
)
def test_what_cannot_be_compared_is_told(tmp_path, monkeypatch, words, told):
    run(tmp_path, "old")
    (tmp_path / "empty").mkdir()
    lt.load_trace(tmp_path / "old" / "warm.parquet").save(tmp_path / "night.parquet")
    (tmp_path / "other").mkdir()
    (tmp_path / "night.parquet").rename(tmp_path / "other" / "night.parquet")
    (tmp_path / "twice").mkdir()
    for suffix in ("parquet", "jsonl"):
        lt.load_trace(tmp_path / "old" / "warm.parquet").save(tmp_path / "twice" / f"warm.{suffix}")
    monkeypatch.chdir(tmp_path)
    ran = cli(*words)
    assert ran.exit_code == 2 and told in ran.stderr, ran.output
