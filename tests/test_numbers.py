"""Numbers in a designer's words: named measures and windows of scenarios, and what they were before."""

import csv
import json
import math

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.runs.model_files import load_scenarios
from larktally.search.named_numbers import NamedNumber
from larktally.search.shifting import Window

MODEL = """
import larktally as lt


def duel(setup):
    sim = lt.Sim(setup, actions=("dodge",), events=("blow", "struck"))
    safe = setup.duration("safe", 9)
    guard = sim.machine("guard", ("ready", "swing"), "ready")
    stance = sim.machine("stance", ("open", "dodging"), "open")
    guard.transition("ready", to="swing", when="guard.age >= 20")

    @guard.transition("swing", to="ready", after=30)
    def blow(now):
        now.emit("blow")
        if stance.state == "open":
            now.emit("struck")

    stance.transition("open", to="dodging", when="pressed('dodge')")
    stance.transition("dodging", to="open", after=safe)
    return sim


def shy(setup):
    return duel(setup)


def broken(setup):
    sim = duel(setup)

    @sim.before("machines")
    def fails(now):
        if now.frame == 5:
            raise ValueError("no lamp")

    return sim


AROUND = lt.Shift("dodge", around="event('blow')", by=range(-20, 6))
first = lt.Scenario(
    duel,
    frames=70,
    claims=[lt.claim("unhurt", "never(event('struck'))")],
    measures={"blows": "rows_with(event('blow'))", "swing": lt.NamedMeasure("longest(guard == 'swing')", "frames", wanted=30)},
    windows={"dodge window": lt.NamedWindow("unhurt", AROUND, wanted=(5, 8))},
)
second = lt.Scenario(shy, frames=130, windows={
    "second": lt.NamedWindow("at_most(event('struck'), 1)", lt.Shift("dodge", around="event('blow')", nth=2, by=[-12, -3])),
    "both": lt.NamedWindow("never(event('struck'))", lt.Shift("dodge", around="event('blow')", nth="each", by=range(-11, 1))),
})
"""
RULES = """
[[measure]]
name = "rows"
of = "rows_with(guard == 'ready')"

[[measure]]
name = "held"
of = "never(event('struck'))"
shift = "dodge @ event('blow') #1 = -9..-8,0"
held = 2
runs = "f*"
"""


@pytest.fixture
def file(tmp_path):
    path = tmp_path / "duel.py"
    path.write_text(MODEL)
    return path


def cli(*words):
    return CliRunner().invoke(main, ["numbers", *map(str, words)])


def by_hand(scenario, presses, that):
    """Whether a claim is kept with these presses, one frame each."""
    inputs = lt.InputScript()
    for frame in presses:
        inputs = inputs.press("dodge", frame)
    trace = lt.record(scenario.changed(inputs=inputs, claims=(), measures=(), windows=()))
    return lt.check(trace, [lt.claim("that", that)]).passed


def test_windows_and_measures_are_what_loops_by_hand_find(file):
    first, second = load_scenarios(str(file))
    found = {(one.scenario, one.name): one for one in lt.numbers([first, second])}
    trace = lt.record(second.changed(windows=()))
    blows = [event.row for event in trace.events if event.name == "blow"]
    taken = [by for by in range(-20, 6) if by_hand(first, [blows[0] + by], "never(event('struck'))")]
    assert (
        list(found["first", "dodge window"].window) == taken and found["first", "dodge window"].value == len(taken) > 3
    )
    both = [by for by in range(-11, 1) if by_hand(second, [row + by for row in blows], "never(event('struck'))")]
    assert list(found["second", "both"].window) == both and 0 < len(both) < 12
    one = [by for by in (-12, -3) if by_hand(second, [blows[1] + by], "at_most(event('struck'), 1)")]
    assert list(found["second", "second"].window) == one == [-3]
    assert found["first", "blows"].value == 1 and found["first", "swing"].value == 30 and found["first", "swing"].fits
    assert not found["first", "dodge window"].fits and "wanted 5..8" in str(found["first", "dodge window"])


def test_what_they_were_stands_beside_them_in_every_form(file, tmp_path):
    out = tmp_path / "numbers.csv"
    assert cli(file, "--out", out).exit_code == 0
    with out.open(newline="") as lines:
        kept = {(one["scenario"], one["name"]): one for one in csv.DictReader(lines)}
    assert kept["first", "dodge window"]["value"] == "9.0" and kept["first", "dodge window"]["wanted"] == "5.0..8.0"
    file.write_text(MODEL.replace('"safe", 9', '"safe", 7'))
    told = cli(file, "--before", out, "--workers", "2").stdout
    line = next(line for line in told.splitlines() if line.startswith("  dodge window"))
    assert (
        line.strip().split("  ")[1].strip() == "7 frames (0.117 s), from 7 before the blow to 1 before"
        and "was 9" in line
    )
    assert "was" not in next(line for line in told.splitlines() if line.startswith("  blows"))
    for suffix, mark in ((".md", "| first | dodge window | 7 frames"), (".html", '<td class="name">dodge window</td>')):
        written = tmp_path / f"n{suffix}"
        assert cli(file, "--out", written, "--before", out).exit_code == 0
        assert mark in written.read_text() and "9" in written.read_text()
    # What a CSV held is what was, without a word.
    assert "was 9" in cli(file, "--out", out).stdout and "was" not in cli(file, "--out", out).stdout
    plain = json.loads(cli(file, "--json").stdout)
    assert plain["failed"] == {} and plain["numbers"][2]["shifts"] == list(range(-7, 0))


def test_a_claims_file_adds_what_fits_and_says_what_fits_nowhere(file, tmp_path):
    rules = tmp_path / "rules.toml"
    rules.write_text(RULES)
    told = json.loads(cli(file, "--claims", rules, "--json").stdout)["numbers"]
    found = {(one["scenario"], one["name"]): one for one in told}
    assert found["second", "rows"]["value"] > 0 and found["first", "held"]["shifts"] == [-9, -8]
    assert ("second", "held") not in found
    rules.write_text(RULES + '[[measure]]\nname = "lost"\nof = "apex(wick.y)"\n')
    ran = cli(file, "--claims", rules)
    assert ran.exit_code == 2 and "measure 'lost' fits no scenario" in ran.stderr
    for shift, told in (
        ("dodge", "PRESS @ CONDITION"),
        ("dodge @ event('blow') = 5..2", "goes up"),
        ("dodge @ x = 1.5", "whole numbers"),
    ):
        rules.write_text(f'[[measure]]\nname = "w"\nof = "never(event(\'struck\'))"\nshift = "{shift}"\n')
        ran = cli(file, "--claims", rules)
        assert ran.exit_code == 2 and told in ran.stderr and "measure 'w'" in ran.stderr


def test_what_has_no_numbers_or_fails_is_told(file, tmp_path):
    first = load_scenarios(f"{file}:first")[0]
    with pytest.raises(lt.LarkTallyError, match="no scenario has numbers"):
        lt.numbers(first.changed(measures=(), windows=()))
    with pytest.raises(lt.LarkTallyError, match="window 'w': .*holds in no row"):
        lt.numbers(
            first.changed(
                windows={
                    "w": lt.NamedWindow(
                        "unhurt",
                        lt.Shift("dodge", around="event('struck') and event('blow') and guard.age > 99", by=[0]),
                    )
                }
            )
        )
    with pytest.raises(lt.LarkTallyError, match="first: window 'w': .*has frames 1..70"):
        lt.numbers(
            first.changed(windows={"w": lt.NamedWindow("unhurt", lt.Shift("dodge", around="event('blow')", by=[-99]))})
        )
    with pytest.raises(lt.LarkTallyError, match="two of its numbers are called 'blows'"):
        lt.numbers(first.changed(windows={"blows": first.windows[0]}))
    file.write_text(MODEL.replace("duel,\n    frames=70", "broken,\n    frames=70"))
    ran = cli(file)
    assert ran.exit_code == 3 and "first: it failed" in ran.stdout and "no lamp" in ran.stdout and "both" in ran.stdout
    file.write_text(MODEL)
    bad = tmp_path / "bad.csv"
    for text, told in (
        ("a,b\n1,2\n", "no column 'scenario'"),
        ("scenario,name,value\na,b,much\n", "line 2: value is a number"),
        ("\0", "bad.csv"),
    ):
        bad.write_text(text)
        ran = cli(file, "--before", bad)
        assert ran.exit_code == 2 and told in ran.stderr, ran.output
    assert "did you mean '.csv'" in cli(file, "--out", tmp_path / "n.cs").stderr


@pytest.mark.parametrize(
    ("taken", "tried", "words"),
    [
        (range(-8, 1), range(-12, 13), "9 frames (0.150 s), from 8 before the blow to 0"),
        (
            [-6, -5, -2, 0],
            range(-12, 13),
            "4 frames (0.067 s), -6..-5 and -2 and 0, not -4..-3, -1, counted from the blow",
        ),
        ([3], range(-2, 4), "1 frame (0.017 s), at 3 after the blow alone, tried as far as 3"),
        ([0], [0], "1 frame (0.017 s), at the blow alone, tried as far as 0"),
        ([], range(-2, 4), "never, tried from 2 before the blow to 3 after"),
    ],
)
def test_a_window_is_told_in_words(taken, tried, words):
    window = Window(taken, tried, lt.Rate(60))
    number = NamedNumber("s", "n", float(len(window)), "frames", lt.Rate(60), window, "the blow")
    assert number.words == words


def test_a_number_that_was_none_or_is_none_is_told():
    number = NamedNumber("s", "n", math.nan, "px", before=3.0)
    assert str(number) == "n  none: there was nothing to measure; was 3"
    assert str(NamedNumber("s", "n", 2.0, "px", before=math.nan)) == "n  2 px; was none"
    assert not NamedNumber("s", "n", math.nan, before=math.nan).changed


@pytest.mark.parametrize(
    ("by", "frames"),
    [("-2..2", [-2, -1, 0, 1, 2]), ("-6,0,+6", [-6, 0, 6]), ("-12..12/6", [-12, -6, 0, 6, 12]), ("3", [3])],
)
def test_the_frames_of_a_shift_are_a_row_a_row_in_steps_or_a_list(by, frames):
    shift = lt.Shift.from_text(f"hop @ event('landed') #2 = {by}", 4)
    assert (shift.action, shift.around, shift.nth, shift.frames, list(shift.by)) == (
        "hop",
        "event('landed')",
        2,
        4,
        frames,
    )
    with pytest.raises(lt.LarkTallyError, match="goes up from A to B"):
        lt.Shift.from_text("hop @ event('landed') = -12..12/0")
