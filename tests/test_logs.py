"""Logs that a game wrote in its own way: gaps, thinned ones, wrapped counters, events, lines of text, several of one run."""

import random
import re

import numpy as np
import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main


def read(folder, name, text, mapping, **more):
    """A log through its mapping; other files of the folder beside it."""
    for other, content in {name: text, "map.toml": mapping, **more}.items():
        (folder / other.replace("__", ".")).write_text(content, encoding="utf-8")
    return lt.load_trace(folder / name, mapping=folder / "map.toml")


def test_gaps_are_held_and_said_as_a_plain_loop_would(tmp_path):
    draw = random.Random(5)
    for _ in range(60):
        frames = sorted(draw.sample(range(1, 60), draw.randrange(1, 30)))
        start = frames[0]
        lines = [f"{frame},{frame * 0.5},{frame % 3},{frame % 2}" for frame in frames]
        mapping = 'frame = "f"\nrate = 60\ngaps = "hold"\n[inputs]\nhop = "b"\n'
        trace = read(tmp_path, "log.csv", "\n".join(["f,x,n,b", *lines]) + "\n", mapping)
        expected, last = [], None
        for frame in range(start, frames[-1] + 1):
            held = frame not in frames
            last = last if held else frame
            expected.append((last * 0.5, last % 3, float(last % 2), held))
        found = zip(trace["x"], trace["n"], trace.inputs["hop"], trace["held_row"], strict=True)
        assert [tuple(one) for one in found] == expected


def test_a_thinned_log_and_a_counter_that_starts_again(tmp_path):
    lines = [f"{frame % 256},{frame}" for frame in range(0, 900, 3)]
    trace = read(
        tmp_path, "log.csv", "\n".join(["f,x", *lines]) + "\n", 'frame = "f"\nrate = 60\nevery = 3\nframe_wraps = 256\n'
    )
    assert trace.header.every == 3 and trace["x"].tolist() == list(range(0, 900, 3))
    times = "".join(f"{frame * 1000 / 60:.3f},{frame}\n" for frame in range(0, 90, 3))
    trace = read(tmp_path, "log.csv", "t,x\n" + times, 'time = "t"\ntime_unit = "ms"\nrate = 60\nevery = 3\n')
    assert trace.header.every == 3 and trace.rate == 60 and trace.rows == 30


def test_semicolons_and_decimal_commas(tmp_path):
    mapping = (
        'delimiter = ";"\ndecimal = ","\ntime = "zeit"\ntime_unit = "ms"\n[channels]\n"wick.y" = "PosY"\nn = "n"\n'
    )
    trace = read(tmp_path, "log.csv", "zeit;PosY;n\n0,0;16,5;3\n16,67;-2,25e1;4\n33,33;0;5\n", mapping)
    assert trace["wick.y"].tolist() == [16.5, -22.5, 0.0] and trace["n"].tolist() == [3, 4, 5] and trace.rate == 60
    kept = [lt.claim("oil goes up", "always(n >= 3)"), lt.claim("low", "always(wick.y < 16)")]
    assert [one.verdict for one in lt.check(trace, kept)] == ["kept", "broken"]


def test_dotted_paths_reach_into_objects(tmp_path):
    lines = "".join(f'{{"f":{k},"pos":{{"x":{k},"deep":{{"y":2.5}}}},"tags":["a"]}}\n' for k in range(3))
    mapping = 'frame = "f"\nrate = 60\nrest = "drop"\n[channels]\n"wick.x" = "pos.x"\n"wick.y" = "pos.deep.y"\n'
    trace = read(tmp_path, "log.jsonl", lines, mapping)
    assert trace["wick.x"].tolist() == [0, 1, 2] and trace["wick.y"].tolist() == [2.5] * 3


EVENTS = """{"ms":0,"ev":"start","hp":10}
{"ms":50,"ev":"hop","by":"wick","speed":360}
{"ms":100,"hp":7}

{"ms":100,"ev":["hurt","flash"],"hp":5,"btn":1}
{"ms":200,"ev":"hop","by":"moth","speed":1.5,"btn":0}
"""
EVENTS_MAP = """kind = "events"
time = "ms"
time_unit = "ms"
rate = 60
events = "ev"
events_source = "by"
data = ["speed"]
[channels]
hp = "hp"
mood = { column = "mood", start = "calm" }
[inputs]
hop = "btn"
"""


def test_events_alone_make_rows_and_values_are_held_between(tmp_path):
    trace = read(tmp_path, "log.jsonl", EVENTS.replace('"hp":7', '"hp":7,"mood":"cross"'), EVENTS_MAP)
    assert trace.rows == 13 and trace.rate == 60
    assert trace["hp"].tolist() == [10] * 6 + [5] * 7 and trace["mood"].tolist() == ["calm"] * 6 + ["cross"] * 7
    assert trace.inputs["hop"].tolist() == [0.0] * 6 + [1.0] * 6 + [0.0]
    told = [(event.row, event.name, event.source, event.data) for event in trace.events]
    assert told == [
        (0, "start", "", {}),
        (3, "hop", "wick", {"speed": 360}),
        (6, "hurt", "", {}),
        (6, "flash", "", {}),
        (12, "hop", "moth", {"speed": 1.5}),
    ]
    claims = [
        lt.claim("a hop is fast", "always(implies(event('hop'), event('hop', speed=360)))"),
        lt.claim("hurt takes hp", "always(implies(event('hurt'), delta(hp) < 0))"),
    ]
    assert [one.verdict for one in lt.check(trace, claims)] == ["broken", "kept"]
    rows = "f;x;say\n3;1,5;a\n3;;b\n5;2;\n"
    trace = read(
        tmp_path,
        "log.csv",
        rows,
        'kind="events"\nframe="f"\nrate=60\ndelimiter=";"\ndecimal=","\nevents="say"\nfirst=2\n'
        '[channels]\nx={column="x",start=0.0}\n',
    )
    assert trace["x"].tolist() == [0.0, 1.5, 1.5, 2.0] and [(e.row, e.name) for e in trace.events] == [
        (1, "a"),
        (1, "b"),
    ]


LINES = """[0.000] boot
something else
[0.500] wick gait: standing -> airborne
[0.517] hop speed=360
[1.300] wick gait: airborne -> standing
[1.300] landed softly
"""
LINES_MAP = r"""kind = "lines"
rate = 60
time = "at"
tolerance = "1ms"
data = ["speed"]
pattern = [
    '\[(?P<at>[\d.]+)\] wick gait: (?P<from>\w+) -> (?P<to>\w+)',
    { text = '\[(?P<at>[\d.]+)\] hop speed=(?P<speed>\d+)', event = "hop" },
    { text = '\[(?P<at>[\d.]+)\] landed', event = "landed" },
    '\[(?P<at>[\d.]+)\]',
]
[channels]
"wick.gait" = { column = "to", before = "from", kind = "label" }
"""


def test_lines_of_text_by_patterns_with_a_state_from_arrows(tmp_path):
    trace = read(tmp_path, "game.log", LINES, LINES_MAP)
    assert trace.rows == 79 and trace["wick.gait"].tolist() == ["standing"] * 30 + ["airborne"] * 48 + ["standing"]
    assert [(e.row, e.name, e.data) for e in trace.events] == [(31, "hop", {"speed": 360}), (78, "landed", {})]
    broken = lt.claim("airborne at most half a second", "longest(wick.gait == 'airborne') <= 30")
    kept = lt.claim("a hop lands", "follows(event('hop'), event('landed'), within='1s')")
    assert [one.verdict for one in lt.check(trace, [broken, kept])] == ["broken", "kept"]


def test_several_logs_of_one_run_stand_in_one_trace(tmp_path):
    table = "frame,x\n" + "".join(f"{100 + k},{k / 2}\n" for k in range(10))
    also = '[[also]]\npath = "said.jsonl"\nkind = "events"\nframe = "f"\nevents = "ev"\n'
    also += '[[also]]\npath = "hp.csv"\nframe = "n"\ngaps = "hold"\n'
    mapping = 'frame = "frame"\nrate = 60\n' + also
    said = '{"f":103,"ev":"hop"}\n{"f":109,"ev":"landed"}\n'
    trace = read(tmp_path, "log.csv", table, mapping, said__jsonl=said, hp__csv="n,hp\n100,9\n104,8\n")
    assert trace["hp"].tolist() == [9] * 4 + [8] * 6 and [(e.row, e.name) for e in trace.events] == [
        (3, "hop"),
        (9, "landed"),
    ]
    assert trace["held_row"].tolist() == [k not in (0, 4) for k in range(10)]


REFUSED = [
    ("log.csv", "f,x\n0,1\n2,3\n", 'frame="f"\nrate=60\n', r"line 3: a frame is missing: .*gaps = 'hold'"),
    ("log.csv", "f,x\n0,1\n0,3\n", 'frame="f"\nrate=60\ngaps="hold"\n', "line 3: a frame is doubled"),
    ("log.csv", "f,x\n254,1\n255,1\n0,3\n", 'frame="f"\nrate=60\n', "line 4: .*frame_wraps = 256"),
    ("log.csv", "f,x\n0,1\n3,1\n7,3\n", 'frame="f"\nrate=60\nevery=3\n', "line 4: a frame is uneven"),
    ("log.csv", "f,x\n300,1\n", 'frame="f"\nrate=60\nframe_wraps=256\n', "line 2: .*has 0 to 255"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\ndecimal=";"\n', "decimal is '.' or ','"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\ngaps="fill"\n', "gaps is one of 'refuse', 'hold'"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\nevery=0\n', "every is a number of frames"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\ndata=["x"]\n', "data is for logs of events"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\n[channels]\nx={column="x",start=1}\n', "start is for logs that say what changes"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\npath="y"\n', "path belongs to"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\n[[also]]\nframe="f"\n', "also 1: path is missing"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\n[[also]]\nframe="f"\npath="no.csv"\n', "no.csv: no such file"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\n[[also]]\nframe="f"\npath="log.csv"\nrate=60\n', "rate is said once"),
    ("log.csv", "f,x\n0,1\n", 'frame="f"\nrate=60\n[[also]]\nframe="f"\npath="log.csv"\n', "'x' is in another log too"),
    ("log.jsonl", EVENTS, EVENTS_MAP.replace("rate = 60\n", ""), "the times of single events give no rate"),
    ("log.jsonl", EVENTS, EVENTS_MAP.replace(', start = "calm"', ""), "channels, 'mood': no line has 'mood'; there are"),
    ("log.jsonl", EVENTS.replace('"hp":10', '"n":1'), EVENTS_MAP, "'hp': nothing says what it is before line 3, which is row 6"),
    ("log.jsonl", EVENTS.replace('"ms":50', '"ms":55'), EVENTS_MAP, r"line 2: .*is 0\.3 frames from row 3; .*tolerance"),
    ("log.jsonl", EVENTS.replace('"ms":200', '"ms":90'), EVENTS_MAP, "line 6: a frame is uneven: .*goes back from 100 to 90"),
    ("log.jsonl", EVENTS.replace('"ms":50', '"ms":"soon"'), EVENTS_MAP, 'line 2: column .ms. counts.*not "soon"'),
    ("log.jsonl", EVENTS.replace('"ms":50,', ""), EVENTS_MAP, "line 2: column 'ms' counts.*not nothing"),
    ("log.jsonl", EVENTS.replace('"hp":5', '"hp":"few"'), EVENTS_MAP, 'line 5: channel .hp. is "few" there, and 10 before'),
    ("log.jsonl", EVENTS.replace('"ms":200', '"ms":1e18'), EVENTS_MAP, "values that are read at once|beyond what a double"),
    ("log.jsonl", EVENTS, EVENTS_MAP.replace('"btn"', '"bt"'), "inputs, 'hop': no line has 'bt'; did you mean 'btn'"),
    ("game.log", LINES, LINES_MAP.replace("(?P<from>", "(?P<from"), "pattern 1: "),
    ("game.log", LINES, LINES_MAP.replace('column = "to"', 'column = "two"'), "no line has 'two'; did you mean 'to'"),
    ("game.log", LINES.replace("airborne -> standing", "edging -> standing"), LINES_MAP, 'line 5: .*from "edging" there, and was "airborne" since line 3'),
    ("game.log", "nothing\n", LINES_MAP, "empty: no line in it says anything"),
    ("game.log", LINES, 'kind="lines"\nframe="at"\n', "pattern goes with kind = 'lines'"),
    ("game.log", LINES, "kind='lines'\nframe='at'\npattern='boot'\n", "pattern 1 has no named group"),
    ("game.log", LINES.replace("0.517", "0.51"), LINES_MAP, "line 4: .*0.4 frames from row 31"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "text", "mapping", "said"), REFUSED)
def test_what_does_not_fit_names_its_line_or_key(tmp_path, name, text, mapping, said):
    with pytest.raises(lt.TraceError, match=said) as failed:
        read(tmp_path, name, text, mapping)
    assert str(tmp_path) in str(failed.value)


def test_no_pattern_hangs_and_no_small_log_takes_the_machine_down(tmp_path):
    evil = r"kind='lines'" + "\nrate=60\nframe='n'\n" + r"pattern='(?P<n>\d+) (a+)+$'" + "\n"
    assert read(tmp_path, "game.log", f"1 {'a' * 50_000}b\n2 aa\n", evil).rows == 1
    with pytest.raises(lt.TraceError, match="values that are read at once"):
        read(tmp_path, "log.csv", "f,x\n0,1\n4000000000,1\n", 'frame="f"\nrate=60\ngaps="hold"\n')


@pytest.mark.slow
@pytest.mark.parametrize("name", ["log.jsonl", "game.log", "log.csv"])
def test_mutated_logs_and_mappings_are_read_or_refused_in_one_message(tmp_path, name):
    text, mapping = {
        "log.jsonl": (EVENTS, EVENTS_MAP),
        "game.log": (LINES, LINES_MAP),
        "log.csv": ("f;x;b\n" + "".join(f"{k};{k},5;{k % 2}\n" for k in range(0, 20, 2)), 'frame="f"\nrate=60\nevery=2\ndelimiter=";"\ndecimal=","\ngaps="hold"\n'),
    }[name]  # fmt: skip
    draw = random.Random(name)
    whole = [text.encode(), mapping.encode()]
    for _ in range(400):
        pieces = list(whole)
        for which in draw.sample((0, 1), draw.choice((1, 1, 2))):
            flipped = bytearray(pieces[which])
            for _ in range(draw.randrange(1, 4)):
                at = draw.randrange(len(flipped))
                flipped[at : at + draw.randrange(3)] = draw.choice(
                    (b"", b"\x00", b"9", b'"', b"\xff", b"e300", b"-", b".")
                )
            pieces[which] = bytes(flipped)
        (tmp_path / name).write_bytes(pieces[0])
        (tmp_path / "map.toml").write_bytes(pieces[1])
        try:
            trace = lt.load_trace(tmp_path / name, mapping=tmp_path / "map.toml")
        except lt.TraceError:
            continue
        assert trace.rows < 10_000_000
        if trace.rows < 10_000:
            assert lt.load_trace(trace.save(tmp_path / "again.parquet")).digest == trace.digest


SUGGESTED = {
    "semi.csv": (
        "zeit;PosY;st;said\n" + "".join(f"{k * 16.6667:.2f};{k / 2};{k // 3 % 3};{'hop' if k == 3 else ''}\n".replace(".", ",") for k in range(20) if k != 7),
        ['delimiter = ";"', 'decimal = ","', 'gaps = "hold"', 'time = "zeit"', 'events = "said"'],
    ),
    "log.jsonl": (EVENTS, ['kind = "events"', 'events = "ev"', 'time = "ms"']),
    "game.log": (LINES, ['kind = "lines"', 'before = "gait_from"', 'event = "hop"']),
    "wrap.csv": ("frame,x\n" + "".join(f"{k % 256},{k}\n" for k in range(0, 700, 2)), ["every = 2", "frame_wraps = 256"]),
    "flat.jsonl": ("".join(f'{{"tick":{k},"p":{{"x":{k}.5}}}}\n' for k in range(9)), ['frame = "tick"']),
}  # fmt: skip


@pytest.mark.parametrize("name", SUGGESTED)
def test_a_suggested_mapping_says_why_and_reads_the_log(tmp_path, name):
    text, said = SUGGESTED[name]
    (tmp_path / name).write_text(text)
    printed = CliRunner().invoke(main, ["convert", str(tmp_path / name), "--suggest"])
    assert printed.exit_code == 0 and all(one in printed.output for one in said), printed.output
    assert "# Read through it:" in printed.output
    for line in re.findall(r"^\w+ = (?!\[$).*$", printed.output, re.MULTILINE):
        assert "  # " in line, line
    (tmp_path / "map.toml").write_text(printed.output)
    trace = lt.load_trace(tmp_path / name, mapping=tmp_path / "map.toml")
    assert trace.rows > 5 and np.isfinite(trace.rows)
    written = CliRunner().invoke(main, ["convert", str(tmp_path / name), str(tmp_path / "map.toml"), "--suggest"])
    assert written.exit_code == 2 and "there is one already" in written.stderr


@pytest.mark.parametrize(
    ("text", "said"), [("", "empty"), ("a,b\n1,1\n1,1\n", "nothing counts"), ("x\ny\n", "no line begins")]
)
def test_what_nothing_can_be_guessed_of_is_said(tmp_path, text, said):
    (tmp_path / "log.txt").write_text(text)
    ran = CliRunner().invoke(main, ["convert", str(tmp_path / "log.txt"), "--suggest"])
    assert ran.exit_code == 2 and said in ran.stderr
