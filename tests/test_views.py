"""Pictures, strips and tables: what they hold, and what is refused."""

import json
import os
import subprocess
import sys
import xml.etree.ElementTree as ET

import pytest
from click.testing import CliRunner
from tests.test_sim import assert_restores

import larktally as lt
from larktally.cli import main
from larktally.demo import evening, quay


def cli(*words, columns=120):
    return CliRunner(env={"COLUMNS": str(columns)}).invoke(main, [str(word) for word in words])


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("traces")
    lt.record(quay.dusk_run).save(folder / "good.parquet")
    lt.record(quay.faulty_run).save(folder / "bad.parquet")
    lt.record(evening.SCENARIOS["evening_won"]).save(folder / "evening.parquet")
    (folder / "c.toml").write_text(
        "[[claim]]\nname = 'c'\nthat = \"always(implies(event('hop'), prev(wick.grounded)))\"\n"
    )
    return folder


def words_in(svg):
    return "".join(ET.parse(svg).getroot().itertext())


@pytest.mark.slow
def test_every_scenario_of_the_canal_keeps_its_claims_at_its_end():
    for name, scenario in evening.SCENARIOS.items():
        trace = lt.record(scenario)
        tally = lt.check(trace, scenario.claims)
        assert tally.passed, f"{name}: {tally}"
    ends = {
        name: lt.record(scenario).header.end
        for name, scenario in evening.SCENARIOS.items()
        if name.startswith("evening")
    }
    assert ends == {"evening_won": "won", "evening_lost": "lost"}


@pytest.mark.slow
def test_the_canal_is_restored_in_the_middle_of_its_evening():
    scenario = evening.SCENARIOS["evening_won"]
    inputs = lt.InputScript.from_columns(lt.record(scenario).inputs)
    assert_restores(scenario.subject, inputs, 864, (100, 300, 480, 600, 620, 800))


@pytest.mark.slow
def test_an_evening_gives_the_same_bytes_in_another_process_with_another_hash_seed():
    code = "import larktally as lt; from larktally.demo import evening as e; print(lt.record(e.SCENARIOS['evening_won']).digest)"
    digests = set()
    for seed in ("1", "77"):
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, env={**os.environ, "PYTHONHASHSEED": seed}
        )
        digests.add(done.stdout.strip())
    assert digests == {lt.record(evening.SCENARIOS["evening_won"]).digest}


@pytest.mark.slow
def test_a_picture_holds_path_lanes_lines_breaches_and_the_divergence(files, monkeypatch):
    import matplotlib

    monkeypatch.setitem(matplotlib.rcParams, "svg.fonttype", "none")
    done = cli("plot", files / "evening.parquet", "--out", files / "e.svg", "--ghosts", "30,300")
    assert done.exit_code == 0, done.output
    for word in (
        "evening_won: 865 frames",
        "climbing",
        "rope",
        "punt, row 0",
        "wick.gait",
        "inputs",
        "hop (wick.gait)",
        "row 300",
        "seconds",
    ):
        assert word in words_in(files / "e.svg"), word
    options = ("--claims", files / "c.toml", "--only", "wick.v*", "--dark", "--out", files / "b.svg")
    done = cli("plot", files / "good.parquet", files / "bad.parquet", *options)
    assert "0 breaches marked" in done.output
    assert "first divergence, row 52: wick.y" in words_in(files / "b.svg") and "dashed" in words_in(files / "b.svg")
    done = cli(
        "plot", files / "bad.parquet", "--claims", files / "c.toml", "--frames", "40..80", "--out", files / "b.png"
    )
    assert "1 breaches marked" in done.output and (files / "b.png").read_bytes()[:4] == b"\x89PNG"
    moth = lt.draw_run(lt.load_trace(files / "evening.parquet"), "moth.1.body").axes[0].get_legend()
    assert "chase" in [text.get_text() for text in moth.get_texts()]
    figure = lt.draw_run(lt.load_trace(files / "bad.parquet"), lines=["wick.y"])
    assert tuple(figure.get_size_inches() * figure.dpi) == (1280, 800)


def test_a_subject_without_a_level_is_drawn_by_its_lanes_and_lines(tmp_path):
    class Can:
        actions = ("tap",)

        def reset(self, setup):
            self.oil = 9

        def step(self, now):
            self.oil -= now.pressed("tap")

        def observe(self):
            return {"oil": self.oil}

    trace = lt.record(Can, lt.InputScript().tap("tap", 5, 9, 4), frames=50)
    assert len(lt.draw_run(trace).axes) == 2
    still = lt.record(Can, frames=5)
    with pytest.raises(lt.LarkTallyError, match="choose channels to draw"):
        lt.draw_run(still)


def test_labels_and_flags_of_what_is_no_sim_have_lanes_and_strips(tmp_path):
    class Gate:
        actions = ("pause",)

        def reset(self, setup):
            self.paused, self.row = False, 0

        def step(self, now):
            self.paused ^= now.held("pause")
            self.row += 1

        def observe(self):
            return {"mood": "late" if self.row > 30 else "early", "paused": self.paused, "still": False}

    trace = lt.record(Gate, lt.InputScript().hold("pause", 10, 2).press("pause", 20), frames=50)
    axes = lt.draw_run(trace).axes[0]
    assert [label.get_text() for label in axes.get_yticklabels()] == ["mood", "paused", "inputs"]
    bars = [
        (round(float(path.vertices[:, 0].min()), 1), round(float(path.vertices[:, 0].max()), 1))
        for bar in axes.collections
        for path in bar.get_paths()
    ]
    assert bars == [(9.5, 10.5), (19.5, 50.5)]
    shown = cli("show", trace.save(tmp_path / "gate.jsonl"), "--frames", "5..35").output
    assert "paused  ·····=·········================" in shown and "e early, l late" in shown


def test_the_terminal_shows_strips_frames_and_the_level(files):
    done = cli("show", files / "evening.parquet", "--only", "wick.x", "--frames", "270..275")
    assert "wick.gait" in done.output and "s standing, c climbing" in done.output and "578" in done.output
    done = cli("show", files / "evening.parquet", columns=100)
    lines = done.output.splitlines()
    assert (
        max(map(len, lines[:12])) <= 100
        and "rows a place" in done.output
        and "not shown for want of width" in done.output
    )
    level = cli("show", files / "evening.parquet", "--level", "--frames", "300").output
    assert "row 300; a character is" in level and "####" in level
    assert any("W" in line for line in level.splitlines()[1:-1]) and "\x1b[" not in level
    plain = json.loads(cli("show", files / "good.parquet", "--frames", "30", "--json").output)
    assert plain[0]["channels"]["wick.y"] == 21.75 and plain[0]["inputs"] == {"right": 1.0, "hop": 1.0}


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("plot", "good.parquet", "--out", "a.gif"), "a picture is written as .png, .svg, .pdf, not '.gif'"),
        (("plot", "good.parquet", "--body", "wik"), "no body 'wik' in this trace; did you mean 'wick'?"),
        (("plot", "good.parquet", "--only", "wick.z"), "matches no channel; did you mean"),
        (("plot", "good.parquet", "--frames", "9..4"), "this trace has rows 0..220"),
        (("show", "good.parquet", "--frames", "x"), "takes a row, 40, a span"),
    ],
)
def test_what_cannot_be_drawn_is_told(files, words, said, monkeypatch):
    monkeypatch.chdir(files)
    done = cli(*words)
    assert done.exit_code == 2 and said in done.stderr


def test_a_notebook_shows_the_same_tables(files):
    import types

    shown = {}

    class Formatter:
        def for_type(self, kind, function):
            shown[kind.__name__] = function

    shell = types.SimpleNamespace(display_formatter=types.SimpleNamespace(formatters={"text/html": Formatter()}))
    lt.load_ipython_extension(shell)
    trace = lt.load_trace(files / "bad.parquet")
    tally = lt.check(trace, quay.CLAIMS)
    assert "BROKEN" in shown["Tally"](tally) and "wick.gait" in shown["Trace"](trace)
    assert "first divergence in row 52" in shown["Comparison"](lt.compare(lt.load_trace(files / "good.parquet"), trace))
    assert "standing" in shown["Coverage"](lt.coverage(trace))
