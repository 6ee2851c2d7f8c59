"""The pytest plugin and the project that `larktally new` writes, as a user's own test run meets them."""

import subprocess
import sys

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.demo import quay

pytest_plugins = ["pytester"]

TEST = """
import pytest
import larktally as lt
from larktally.demo.quay import dusk_run, faulty_run

def test_good(lark_tally):
    lark_tally.record(dusk_run)

def test_bad(lark_tally):
    lark_tally.record(faulty_run)

@pytest.mark.rates(30, 60)
def test_rates(lark_tally):
    trace = lark_tally.record(lt.Scenario(dusk_run.subject, frames="1s"))
    assert trace.rate == lark_tally.rate and trace.frames == lark_tally.rate

class Breaks:
    def reset(self, setup):
        self.row = 0
    def step(self, now):
        self.row += 1
        if self.row == 9:
            raise ValueError("no oil left")
    def observe(self):
        return {"oil": 9 - self.row}

def test_subject(lark_tally):
    lark_tally.record(lt.Scenario(Breaks, frames=20))

def test_baseline(lark_tally):
    lark_tally.baseline(lark_tally.record(dusk_run.named("dusk"), claims=[]))
"""


def run(pytester, *words):
    # Not loading what the machine happens to have: each run starts twice as fast.
    return pytester.runpytest_subprocess(
        "-p", "no:cacheprovider", "-p", "no:hypothesispytest", "-p", "no:xdist", *words
    )


@pytest.mark.slow
def test_a_failing_claim_tells_its_story_and_leaves_trace_and_picture(pytester):
    pytester.makepyfile(test_it=TEST)
    result = run(pytester, "--tally-keep", "kept", "-k", "good or bad or rates or subject")
    result.assert_outcomes(passed=3, failed=2)
    result.stdout.fnmatch_lines(
        ["*BROKEN  a hop starts on the ground*", "*first in row 52*", "*why      wick.gait: airborne*"]
    )
    result.stdout.fnmatch_lines(["*>  hop again*taken*quay.py:52", "*kept by lark tally*"])
    assert lt.load_trace(pytester.path / "kept" / "test_it.py" / "test_bad" / "faulty_lamplighter.parquet").rows == 221
    assert (pytester.path / "kept" / "test_it.py" / "test_bad" / "faulty_lamplighter.png").stat().st_size > 10_000
    # The summary names the broken claim and its row; a subject that failed shows its own lines, and is kept too.
    text = result.stdout.str()
    summary = text[text.index("short test summary info") :]
    assert "test_bad - Failed: row 52: broken: a hop starts on" in summary
    assert "test_subject - Failed: row 9: step failed:" in summary
    assert "test_it.py, line" in text and 'raise ValueError("no oil left")' in text and "9 rows were recorded" in text
    assert "larktally/runs" not in text
    assert lt.load_trace(pytester.path / "kept" / "test_it.py" / "test_subject" / "Breaks.parquet").rows == 9


ALIKE = """
import pytest
import larktally as lt
from larktally.demo.quay import faulty_run

@pytest.mark.parametrize("way", ["a b", "a_b"])
def test_alike(lark_tally, way):
    for name in {"a b": ("dusk", "dusk"), "a_b": ("n" * 300, "$(dusk)$")}[way]:
        lark_tally.check(lt.record(faulty_run.changed(name=name)), [lt.claim("it has begun", "at(0, true)")])
    assert False

def test_passes():
    assert True
"""


@pytest.mark.slow
def test_failures_of_one_name_are_kept_apart_and_never_end_a_session(pytester):
    pytester.makepyfile(test_it=ALIKE)
    pytester.mkdir("sub")
    (pytester.path / "sub" / "test_other.py").write_text(ALIKE)
    result = run(pytester)
    result.assert_outcomes(passed=2, failed=4)
    kept = sorted((pytester.path / "tally-failures").rglob("*.parquet"))
    assert len(kept) == 8 and len({path.parent for path in kept}) == 4
    assert all(path.with_suffix(".png").exists() for path in kept)
    # Where nothing can be written the report says so, and the other tests run all the same.
    (pytester.path / "taken").write_text("a file")
    for folder in ("taken", "/proc/none"):
        result = run(pytester, "--tally-keep", folder)
        result.assert_outcomes(passed=2, failed=4)
        assert f"{folder}/test_it.py/" in result.stdout.str() and "cannot be made" in result.stdout.str()


@pytest.mark.slow
def test_a_baseline_is_asked_for_accepted_and_kept(pytester):
    pytester.makepyfile(test_it=TEST)
    first = run(pytester, "-k", "baseline")
    first.assert_outcomes(failed=1)
    first.stdout.fnmatch_lines(["*no baseline yet*", "*--tally-accept makes this run the baseline*"])
    run(pytester, "-k", "baseline", "--tally-accept").assert_outcomes(passed=1)
    run(pytester, "-k", "baseline").assert_outcomes(passed=1)
    lt.record(quay.faulty_run.named("dusk")).save(pytester.path / "baselines" / "dusk.jsonl")
    changed = run(pytester, "-k", "baseline")
    changed.assert_outcomes(failed=1)
    changed.stdout.fnmatch_lines(["*first divergence in row 52*"])


@pytest.mark.slow
def test_claims_files_beside_a_trace_are_tests_of_their_own(pytester):
    lt.record(quay.faulty_run).save(pytester.path / "walk.parquet")
    (pytester.path / "walk.claims.toml").write_text(
        "[[claim]]\nname = 'on the ground'\nthat = \"always(implies(event('hop'), prev(wick.grounded)))\"\n"
        "[[claim]]\nname = 'above it'\nthat = 'always(wick.y >= 16)'\n"
        "[[claim]]\nname = 'misspelt'\nthat = 'always(wick.yy >= 16)'\n"
    )
    result = run(pytester, "-v")
    result.assert_outcomes(passed=1, failed=2)
    result.stdout.fnmatch_lines(
        ["*walk.claims.toml::on the ground FAILED*", "*BROKEN  on the ground*", "*no channel 'wick.yy'*did you mean*"]
    )
    (pytester.path / "walk.claims.toml").write_text("[[claim]\n")
    result = run(pytester)
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(["*walk.claims.toml: not TOML*"])


@pytest.mark.slow
def test_the_new_project_works_and_catches_a_planted_fault(tmp_path):
    folder = tmp_path / "game"
    done = CliRunner().invoke(main, ["new", str(folder)])
    assert done.exit_code == 0 and "Next: cd" in done.output, done.output
    assert CliRunner().invoke(main, ["new", str(folder)]).exit_code == 2

    def pytest_in_it():
        words = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider"]
        return subprocess.run(words, cwd=folder, capture_output=True, text=True)

    assert "8 passed" in pytest_in_it().stdout
    model = folder / "model.py"
    model.write_text(
        model.read_text().replace('gait.transition("standing", to="airborne"', 'gait.transition(lt.ANY, to="airborne"')
    )
    done = pytest_in_it()
    assert done.returncode == 1 and "BROKEN  a hop starts on the ground" in done.stdout


@pytest.mark.slow
@pytest.mark.parametrize(("words", "drawn"), [((), 5), (("--tally-pictures",), 7)])
def test_the_first_failures_are_drawn_and_a_missing_baseline_never(pytester, words, drawn):
    body = "import pytest\nimport larktally as lt\nfrom larktally.demo.quay import dusk_run\n"
    body += "@pytest.mark.parametrize('n', range(7))\ndef test_bad(lark_tally, n):\n"
    body += "    lark_tally.record(dusk_run, claims=[lt.claim('c', 'never(wick.grounded)')])\n"
    body += "def test_baseline(lark_tally):\n    lark_tally.baseline(lark_tally.record(dusk_run, claims=[]))\n"
    pytester.makepyfile(test_it=body)
    result = run(pytester, "--tally-keep", "kept", *words)
    result.assert_outcomes(failed=8)
    kept = pytester.path / "kept"
    assert len(list(kept.rglob("*.parquet"))) == 8 and len(list(kept.rglob("*.png"))) == drawn
    assert not list((kept / "test_it.py" / "test_baseline").glob("*.png"))
    result.stdout.fnmatch_lines(["*not drawn: larktally plot kept*"])
