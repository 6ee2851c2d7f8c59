"""Pictures, strips and tables: what they hold, and what is refused."""

import base64
import html
import itertools
import json
import os
import re
import subprocess
import sys
import xml.etree.ElementTree as ET

import matplotlib
import numpy as np
import pytest
from click.testing import CliRunner
from tests.test_sim import assert_restores
from tests.watching import unpacked

import larktally as lt
from larktally.cli import main
from larktally.demo import evening, quay
from larktally.traces.events import EventLog
from larktally.views.thinning import PLACES, grid_points, line_points, path_points, shares, spread


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


def test_a_notebook_shows_runs_as_the_page_and_the_rest_as_the_terminals_tables(files, monkeypatch):
    import types

    shown = {}

    class Formatter:
        def for_type(self, kind, function):
            shown[kind.__name__] = function

    shell = types.SimpleNamespace(display_formatter=types.SimpleNamespace(formatters={"text/html": Formatter()}))
    lt.load_ipython_extension(shell)
    trace = lt.load_trace(files / "bad.parquet")
    tally = lt.check(trace, quay.CLAIMS)
    comparison = lt.compare(lt.load_trace(files / "good.parquet"), trace)
    for kind, result, names in (
        ("Trace", trace, ["bad"]),
        ("Tally", tally, ["bad"]),
        ("Comparison", comparison, ["now", "before"]),
    ):
        page = html.unescape(re.search('srcdoc="([^"]*)"', shown[kind](result))[1])
        runs = unpacked(base64.b64decode(re.search('id="recording">([^<]*)<', page)[1]))["runs"]
        assert [run["rows"] for run in runs] == [trace.rows] * len(names)
        assert [claim["name"] for claim in runs[0]["claims"]] == (
            [r.claim.name for r in tally] if kind == "Tally" else []
        )
    assert "standing" in shown["Coverage"](lt.coverage(trace))
    # What is too long for a notebook's file stays a table.
    monkeypatch.setattr("larktally.views.notebook.MOST_CELLS", 10)
    assert "BROKEN" in shown["Tally"](tally) and "wick.gait" in shown["Trace"](trace)
    assert "first divergence in row 52" in shown["Comparison"](comparison)


def test_what_a_picture_leaves_out_of_a_million_rows_could_not_be_seen():
    pick = np.random.default_rng(5)
    values = np.cumsum(pick.standard_normal(50_000))
    values[[0, 12_345, 49_999]] = [-900.0, 1e6, 900.0]
    values[20_000:20_100] = np.nan
    rows, drawn = line_points(range(7, 50_007), values)
    assert len(rows) <= 2 * PLACES + 2 and (values[rows - 7] == drawn)[~np.isnan(drawn)].all()
    # Of every place what is greatest and least, both ends, and the gap.
    edges = np.unique(np.linspace(0, 50_000, PLACES, endpoint=False).astype(int))
    for start, end in zip(edges, [*edges[1:], 50_000]):
        inside = drawn[(rows >= start + 7) & (rows < end + 7)]
        if np.isnan(values[start:end]).all():
            assert np.isnan(inside).all()
        else:
            assert np.nanmin(inside) == np.nanmin(values[start:end]) and np.nanmax(inside) == np.nanmax(
                values[start:end]
            )
    assert np.isnan(drawn).any() and drawn[0] == -900 and drawn[-1] == 900
    flags = pick.random(50_000) < 0.3
    starts, share = shares(flags)
    assert share.sum() / len(share) == pytest.approx(flags.mean(), abs=0.01) and len(starts) == PLACES
    x, y = np.tile(np.arange(100.0), 500), np.repeat(np.arange(500.0) % 3, 100)
    kept = grid_points(x, y)
    assert {(a, b) for a, b in zip(x[kept], y[kept])} == {(a, b) for a, b in zip(x, y)} and len(kept) == 300
    across, up = path_points(x, y)
    ways = {(across[n], up[n], across[n + 1], up[n + 1]) for n in range(0, len(across), 3)}
    assert ways == {(*a, *b) for a, b in itertools.pairwise(zip(x, y)) if a != b}
    assert spread(list(range(0, 50_000, 3)), 50_000)[:2] == [0, 15] and spread([4, 9], 50_000) == [4, 9]
    short = np.array([1.0, np.nan])
    assert line_points(range(2), short)[1] is short and grid_points(short, short).tolist() == [0, 1]


@pytest.mark.slow
def test_a_run_of_more_stretches_than_places_is_drawn_by_shares_and_its_events_are_listed(tmp_path, monkeypatch):
    monkeypatch.setitem(matplotlib.rcParams, "svg.fonttype", "none")
    rows = np.arange(60_000)
    columns = {
        "gait": np.array(["standing", "airborne"], dtype=object)[(rows % 4 == 0).astype(int)],
        "on": rows % 3 == 0,
    }
    columns |= {"y": np.sin(rows / 50), "rest.left": rows % 40, "input:hop": (rows % 5 == 0).astype(float)}
    trace = lt.Trace.from_columns(columns, rate=60)
    log = EventLog()
    for row in range(0, 60_000, 6):
        log.add(row, "lit" if row else "lit by a lamp", "lamp", {"n": row})
    trace.changed(events=log).save(tmp_path / "long.parquet")
    result = cli("plot", tmp_path / "long.parquet", "--out", tmp_path / "long.svg")
    assert result.exit_code == 0, result.output
    words = words_in(tmp_path / "long.svg")
    assert (tmp_path / "long.svg").stat().st_size < 5_000_000 and "standing" in words and "lit (lamp)" in words
    shown = cli("show", tmp_path / "long.parquet", "--events").output.splitlines()
    start = next(n for n, line in enumerate(shown) if line.split()[:3] == ["row", "s", "event"])
    assert len(shown) - start - 1 == 10_000
    assert shown[start + 1].split() == ["0", "0.000", "lit", "by", "a", "lamp", "lamp", "n=0"]
    # A column never becomes narrower on the way.
    assert len({line.index("lamp    n=") for line in shown[start + 2 :]}) <= 2
    few = cli("show", tmp_path / "long.parquet", "--events", "--frames", "6..12").output.splitlines()[-2:]
    assert [line.split()[0] for line in few] == ["6", "12"]
