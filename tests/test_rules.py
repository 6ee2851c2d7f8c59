"""Rules over many runs, named measures, expected tables, and what their reports say."""

import itertools
import json
import math
import random
import xml.etree.ElementTree as ET

import numpy as np
import pytest
from click.testing import CliRunner
from tests.test_sim import run

import larktally as lt
from larktally.claims.files import load_rules
from larktally.claims.over_runs import Tallies
from larktally.cli import main
from larktally.demo.quay import lamplighter

RULES = """
[[claim]]
name = "a hop starts on the ground"
that = "always(implies(event('hop'), prev(wick.grounded)))"

[[claim]]
name = "no speed beyond"
for_each = "wick.v*"
that = "always(abs({it}) < 400)"

[[claim]]
name = "low"
that = "never(wick.y > 85)"
why = "the lamps hang there"

[[measure]]
name = "hop height"
of = "apex(wick.y)"
unit = "units"
wanted = [68, 70]

[[across]]
name = "as high at every rate"
of = "apex(wick.y)"
over = "rate"
spread = 4
why = "a player's hop"
"""


def hop(rate=60, **params):
    script = lt.InputScript().press("hop", "0.5s").hold("right", 1, "1s")
    return lt.Scenario(
        lamplighter, frames="2s", rate=rate, params=params, inputs=script, measures={"apex": "apex(wick.y)"}
    )


@pytest.fixture(scope="module")
def runs():
    return {f"at {rate}": lt.record(hop(rate)) for rate in (30, 60, 120)}


# --- over several runs -------------------------------------------------------------------------------------------------


def expected_over(verdicts, allowed):
    """The verdict over several runs, as the page of the language says it, and whether it passes."""
    open_ones = [v for v in verdicts if v == "unfinished" and "unfinished" not in allowed]
    if "broken" in verdicts:
        return "broken", False
    if open_ones:
        return "unfinished", False
    if "kept" in verdicts:
        return "kept", True
    return "untested", "untested" in allowed


@pytest.mark.parametrize("allowed", [(), ("untested",), ("unfinished",), ("untested", "unfinished")])
@pytest.mark.parametrize("count", [1, 2, 3])
def test_a_claim_over_runs_is_broken_unfinished_kept_or_untested(allowed, count):
    columns = {
        "kept": {"a": [True, False, False], "b": [True, False, False]},
        "broken": {"a": [True, False, False], "b": [False] * 3},
        "untested": {"a": [False] * 3, "b": [False] * 3},
        "unfinished": {"a": [False, False, True], "b": [False] * 3},
    }
    claim = lt.claim("c", "follows(a, b, within=1)", allow=allowed)
    for verdicts in itertools.product(columns, repeat=count):
        traces = {
            f"{n} {verdict}": lt.Trace.from_columns({k: np.array(v) for k, v in columns[verdict].items()}, 60)
            for n, verdict in enumerate(verdicts)
        }
        tallies = lt.check_each(traces, [claim])
        (one,) = tallies.claims
        verdict, passed = expected_over(verdicts, allowed)
        if set(verdicts) <= {"unfinished", "untested"} and "unfinished" in verdicts and "unfinished" in allowed:
            verdict, passed = "untested", "untested" in allowed or set(verdicts) == {"unfinished"}
        assert (one.verdict, one.passed, tallies.passed) == (verdict, passed, passed), verdicts
        assert one.broken_in == tuple(name for name in traces if name.endswith("broken"))
        assert len(one.tested_in) == sum(v in ("kept", "broken") for v in verdicts)
        assert str(tallies) and tallies.report(everything=True).text()


def test_rules_of_a_file_over_runs_tell_where_and_by_how_much(tmp_path, runs):
    rules = tmp_path / "rules.toml"
    rules.write_text(RULES)
    tallies = lt.check_each(runs, rules)
    from concurrent.futures import ThreadPoolExecutor

    assert str(lt.check_each(runs, rules, executor=ThreadPoolExecutor(2))) == str(tallies)
    assert str(lt.check_each(runs, rules, workers=2)) == str(tallies)
    low = next(one for one in tallies.claims if one.name == "low")
    assert low.broken_in == ("at 120",) and low.margin == (-1.5, "at 120") and len(low.kept_in) == 2
    (across,) = tallies.across
    assert across.broken == ("4.5 apart: 66 at rate 30, 69 at rate 60, 70.5 at rate 120",) and across.margin == -0.5
    text = str(tallies)
    for words in (
        "no speed beyond (2 of them)",
        "at 120: 100, 101, 102, 103, …",
        "because  the lamps hang there",
        "BROKEN  as high at every rate",
        "because  a player's hop",
        "3 of 5 claims passed over 3 runs",
    ):
        assert words in text, words
    assert text.count("BROKEN") == 2 and "at 30" in tallies.report(everything=True).text()
    plain = json.loads(json.dumps(tallies.plain()))
    assert plain["claims"][-1]["broken_in"]["at 120"][:2] == [100, 101] and not plain["passed"]
    with pytest.raises(lt.LarkTallyError, match="no runs at all"):
        lt.check_each({}, [lt.claim("c", "always(true)")])
    with pytest.raises(lt.LarkTallyError, match="no claims"):
        print(Tallies({"a": lt.check(runs["at 30"], [])}).passed)


def test_a_run_on_which_a_claim_cannot_be_judged_is_told_by_name_and_the_whole_does_not_pass(runs):
    other = lt.Trace.from_columns({"x": np.zeros(3)}, 60)
    tallies = lt.check_each({**runs, "a log": other}, [lt.claim("c", "always(wick.y > 0)")])
    assert not tallies.passed and list(tallies.errors) == ["a log"] and "no channel 'wick.y'" in str(tallies)
    assert "1 run could not be judged" in str(tallies)
    with pytest.raises(lt.ClaimError, match="no channel 'wick.z'"):
        lt.check_each(runs, [lt.claim("c", "always(wick.z > 0)")])


@pytest.mark.parametrize(
    ("rule", "verdict"),
    [
        ("over = 'rate'\nspread = 4.5", "kept"),
        ("over = 'rate'\nspread = 4.4", "broken"),
        ("over = 'rate'\ntrend = 'rising'", "kept"),
        ("over = 'rate'\ntrend = 'falling'", "broken"),
        ("over = 'rate'\ntrend = 'constant'", "broken"),
        ("over = 'rate'\nspread = 0\nruns = 'at 60'", "untested"),
        ("over = 'seed'\nspread = 0", "untested"),
        ("over = 'rest'\ntrend = 'constant'", "kept"),
    ],
)
def test_rules_across_runs_compare_those_that_differ_in_one_thing_alone(tmp_path, runs, rule, verdict):
    more = {f"rest {n}": lt.record(hop(60, rest=f"{n}f")) for n in (20, 30)}
    rules = tmp_path / "rules.toml"
    rules.write_text(f"[[across]]\nname = 'c'\nof = 'apex(wick.y)'\n{rule}\n")
    (found,) = lt.check_each({**runs, **more}, rules).across
    assert found.verdict == verdict, found


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[[across]]\nname='a'\nof='apex(x)'\nover='rate'\n", "spread= or trend= is missing"),
        ("[[across]]\nname='a'\nof='apex(x)'\nover='rate'\ntrend='up'\n", "no trend 'up'"),
        ("[[across]]\nname='a'\nof='apex(x)'\nover='rate'\nspread=-1\n", "0 or more"),
        ("[[across]]\nname='a'\nof='apex('\nover='rate'\nspread=1\n", "across 'a'"),
        ("[[measure]]\nname='a'\n", "of is missing"),
        ("[[measure]]\nname='a'\nof='apex(x)'\nwanted=[3]\n", "wanted is a number, or"),
        ("[[measure]]\nname='a'\nof='apex(x)'\nwanted=[3, 2]\n", "wanted is a number, or"),
        ("[[measure]]\nname='a'\nof='apex(x)'\n" * 2, "two measures are called 'a'"),
        ("[[measure]]\nname='a'\nof='apex(x)'\nunits='px'\n", "no key 'units'; did you mean 'unit'"),
        ("[[claim]]\nname='a'\nthat='always(true)'\ntable='w.csv'\n", "and not both"),
        ("[[claim]]\nname='a'\ntable='w.csv'\n", "no such file"),
        ("[[claim]]\nname='a'\ntable='w.csv'\nfor_each='x*'\n", "for_each goes with that="),
        ("measure = 3\n", "written [[measure]]"),
    ],
)
def test_a_file_of_rules_that_does_not_fit_says_which_table_and_why(tmp_path, text, said):
    path = tmp_path / "rules.toml"
    path.write_text(text)
    with pytest.raises(lt.ClaimError) as told:
        load_rules(path)
    assert str(path) in str(told.value) and said in str(told.value)


# --- on the command line -----------------------------------------------------------------------------------------------

GAME = """
import larktally as lt
from tests.test_rules import hop

slow, usual, fast = hop(30), hop(60), hop(120)
"""


def command(*args):
    return CliRunner().invoke(main, list(map(str, args)))


def test_run_and_check_judge_rules_over_all_runs_and_show_measures_before_and_after(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "game.py").write_text(GAME)
    (tmp_path / "rules.toml").write_text(RULES)
    done = command("run", "game.py", "--claims", "rules.toml", "--junit", "j.xml")
    assert done.exit_code == 1 and "rules.toml over 3 runs" in done.output and "3 of 5 claims passed" in done.output
    assert "hop height" in done.output and "66 units" in done.output
    suite = ET.parse("j.xml").getroot()[-1]
    assert (suite.get("name"), suite.get("tests"), suite.get("failures")) == ("over all runs", "5", "2")
    checked = command("check", "traces", "rules.toml", "--json", "--junit", "k.xml")
    plain = json.loads(checked.output)
    assert checked.exit_code == 1 and [one["verdict"] for one in plain["claims"]] == ["kept"] * 3 + ["broken"]
    assert plain["measures"]["fast.parquet"][0]["value"] == 70.5 and ET.parse("k.xml").getroot()[0].get("tests") == "5"
    (tmp_path / "game.py").write_text(GAME.replace("hop(60)", "hop(60, rest='0.5s').changed(rate=120)"))
    again = command("run", "game.py:usual")
    assert "69 →  70.5" in again.output
    one = command("check", "traces/usual.parquet", "rules.toml")
    assert "wanted 68..70" in one.output and "no speed beyond (2 of them)" in one.output
    (tmp_path / "across.toml").write_text(RULES[RULES.index("[[across]]") :])
    assert "give a folder" in command("check", "traces/usual.parquet", "across.toml").output
    differ = command("compare", "traces/slow.parquet", "traces/usual.parquet")
    assert "66 →" in differ.output
    (tmp_path / "traces" / "broken.parquet").write_bytes(b"PAR1 and no more")
    broken = command("check", "traces", "rules.toml")
    assert broken.exit_code == 2 and "broken.parquet:" in broken.output and "1 run could not be judged" in broken.output
    (tmp_path / "rules.toml").write_text(RULES.replace("always(abs", "alway(abs"))
    early = command("run", "game.py", "--claims", "rules.toml")
    assert early.exit_code == 2 and "no function 'alway'" in early.output


def test_named_measures_are_in_the_header_and_not_in_the_digest_and_vary_reads_them(tmp_path):
    named = lt.NamedMeasure("apex(wick.y)", "units", 69)
    scenario = hop().changed(measures={"hop height": named})
    trace, plain = lt.record(scenario), lt.record(hop().changed(measures=()))
    assert trace.digest == plain.digest and trace.header.measures["hop height"].of == "apex(wick.y)"
    assert lt.load_trace(trace.save(tmp_path / "a.jsonl")).header.measures == trace.header.measures
    table = lt.vary(scenario, rates=[30, 60]).table()
    assert table[0] == ["rate", "hop height (units)", "claims"] and [row[1] for row in table[1:]] == ["66", "69"]
    listed = lt.vary(scenario, rates=[60], measures=["each(event('hop'), apex(wick.y), until=event('landed'))"])
    assert listed.table()[1][2] == "63.25"
    assert lt.Scenario(lamplighter, frames=2, measures={"a": "apex(wick.y) - 1"}).measures[0].name == "a"
    for wrong, said in (({"": "apex(x)"}, "a name that is not empty"), ({"a": "apex("}, "measure 'a'")):
        with pytest.raises(lt.ClaimError, match=said):
            lt.Scenario(lamplighter, frames=2, measures=wrong)
    with pytest.raises(lt.ClaimError, match="measure 'a'.*is no measure"):
        lt.NamedMeasure("wick.y > 3", name="a").read(trace)


# --- expected tables ---------------------------------------------------------------------------------------------------


def plain_table(trace, lines):
    """(cases, wrong rows, open, margin) of a table, cell by cell, as its page says."""
    cases, wrong, opened, margins = 0, [], 0, []
    for line in sorted(lines, key=lambda line: int(line["row"])):
        row = int(line["row"])
        for heading, text in line.items():
            name, _, tolerance = heading.partition("~")
            if heading == "row" or text == "":
                continue
            cases += 1
            if row >= trace.rows:
                opened += 1
                continue
            if name in trace.columns:
                found = trace.row(row)[name]
            else:
                found = sum(event.row == row and event.name == name for event in trace.events)
            if tolerance:
                margins.append(float(tolerance) - abs(float(text) - found))
                bad = margins[-1] < 0
            elif isinstance(found, bool):
                bad = found != (text == "true")
            else:
                bad = text != found if isinstance(found, str) else float(text) != found
            wrong += [row] if bad else []
    return cases, wrong, opened, min(margins, default=None)


@pytest.mark.parametrize("seed", range(30))
def test_a_random_table_is_judged_cell_by_cell(tmp_path, dusk_trace, seed):
    pick = random.Random(seed)
    headings = ["wick.x", "wick.y~0.5", "wick.gait", "wick.grounded", "hop", "wick.burst.left"]
    lines = []
    for row in pick.sample(range(dusk_trace.rows + 6), 12):
        line = {"row": str(row), **dict.fromkeys(headings, "")}
        values = dusk_trace.row(min(row, dusk_trace.rows - 1))
        for heading in headings:
            name = heading.partition("~")[0]
            if pick.random() < 0.3:
                continue
            if name == "hop":
                line[heading] = str(
                    pick.choice([0, sum(e.row == row and e.name == "hop" for e in dusk_trace.events), 1])
                )
            elif name == "wick.gait":
                line[heading] = pick.choice([values[name], "airborne"])
            elif name == "wick.grounded":
                line[heading] = pick.choice(["true", "false", str(values[name]).lower()])
            else:
                line[heading] = repr(values[name] + pick.choice([0, 0, 0, 0.5, 0.25, -0.75, 3]))
        lines.append(line)
    path = tmp_path / "walk.csv"
    rows = [",".join(line.values()) for line in lines]
    path.write_text("\n".join([",".join(["row", *headings]), *rows]) + "\n")
    (result,) = lt.check(dusk_trace, [lt.expect(path)])
    cases, wrong, opened, margin = plain_table(dusk_trace, lines)
    assert (result.cases, result.broken, result.open, [b.row for b in result.breaches]) == (
        cases, len(wrong), opened, wrong,
    )  # fmt: skip
    assert result.margin == margin and str(result)
    assert result.verdict == ("broken" if wrong else "unfinished" if opened else "kept")


def test_a_game_s_own_recording_that_is_late_is_told_so_and_convert_makes_a_table_that_is_kept(tmp_path, dusk_trace):
    samples = ["time,wick.x,wick.y"]
    for row in range(10, 200, 9):
        samples.append(f"{row}/60,{dusk_trace['wick.x'][row - 1]},{dusk_trace['wick.y'][row - 1]}")
    (tmp_path / "late.csv").write_text("\n".join(samples))
    told = str(lt.check(dusk_trace, [lt.expect(tmp_path / "late.csv", "the game's own")]))
    assert "all of it is what stands 1 row earlier" in told and "BROKEN  the game's own" in told
    dusk_trace.save(tmp_path / "run.parquet")
    done = command("convert", tmp_path / "run.parquet", tmp_path / "walk.csv", "--every", "10", "--only", "wick.*")
    assert done.exit_code == 0
    (tmp_path / "rules.toml").write_text("[[claim]]\nname = 'as it was'\ntable = 'walk.csv'\nallow = ['unfinished']\n")
    (claim,) = lt.load_claims(tmp_path / "rules.toml")
    (result,) = lt.check(dusk_trace, [claim])
    assert result.verdict == "kept" and result.cases > 500 and claim.allow == ("unfinished",)
    stopped = lt.record(hop().changed(claims=[lt.expect(tmp_path / "late.csv")]), stop_at_breach=True)
    assert stopped.rows < 40 and stopped.header.end == "breach of 'late.csv'"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "blank would be kept"),
        ("row,wick.x\n1,\n", "no cell of this table is filled"),
        ("row,wick.x\n1,2,3\n", "3 cells, under 2 headings"),
        ("wick.x\n1\n", "one column says where"),
        ("row,wick.q\n1,2\n", "no column 'wick.q' in this trace; did you mean 'wick.y'"),
        ("row,wick.x\n1,2\n1,3\n", "row 1 stands twice"),
        ("time,wick.x\n0.01,2\n", "it is 0.6 frames at 60 frames/s"),
        ("row,wick.x\n1,a\n", "'a' is no number"),
        ("row,hop~1\n1,1\n", "is an event, and has no tolerance"),
        ("row,hop\n1,-1\n", "is no number of events"),
        ("row,wick.grounded\n1,maybe\n", "neither true nor false"),
        ("row,wick.x\n-1,2\n", "is no row"),
        ("row,wick.x\n1e99999999,2\n", "is no row"),
        ("row,wick.gait\n1,standin\n", "no label 'standin'"),
        ("row,wick.x,wick.x\n1,2,3\n", "stands twice"),
        ('row,wick.x\n1,"2\n', "no CSV"),
        ("row,wick.x~much\n1,2\n", "a tolerance stands behind '~'"),
    ],
)
def test_a_table_that_does_not_fit_is_one_message(tmp_path, dusk_trace, text, said):
    (tmp_path / "w.csv").write_text(text)
    with pytest.raises(lt.ClaimError) as told:
        lt.check(dusk_trace, [lt.expect(tmp_path / "w.csv")])
    assert "w.csv" in str(told.value) and said in str(told.value)


# --- stories -----------------------------------------------------------------------------------------------------------


def test_a_breach_that_spans_a_pause_says_which_clock_stood_and_data_that_no_run_shows_are_noted():
    def build(sim):
        play = sim.clock("play")
        rest = sim.cooldown("rest", 20)

        @sim.after("machines")
        def lead(now):
            if now.frame == 5:
                rest.use()
            if now.frame == 10:
                play.pause()
            if now.frame == 40:
                play.run(1)

    trace = run(build, 90)
    late = lt.claim("ready in time", "follows(event('used'), event('ready'), within=20)")
    told = str(lt.check(trace, [late]))
    assert "play stood still in 15 of these 20 rows; on='play'?" in told and "it came 50 rows after" in told
    assert lt.check(trace, [lt.claim("c", "follows(event('used'), event('ready'), within=20, on='play')")]).passed
    excused = lt.check(trace, [lt.claim("c", "lasts(event('used'), rest.left > 9, 45, unless=rest.left < 12)")])
    assert "1 case arose, and unless excused each" in str(excused)

    def land(sim):
        sim.body("wick", size=(4, 4), at=(9, 60), gravity=900)

    floor = lt.Level([lt.geometry.box_at((0, 0), (300, 16))])
    fell = run(land, 60, level=floor)
    claims = [
        lt.claim("on wood", "never(text('landed', 'on') == 'sold')"),
        lt.claim("b", "never(event('landed', on='x'))"),
    ]
    notes = [line for line in str(lt.check(fell, claims)).splitlines() if line.startswith("note:")]
    assert "no 'landed' carried on = 'sold' here; did you mean 'solid'?" in notes[0] and len(notes) == 2
    assert "note" not in str(lt.check(fell, [lt.claim("c", "eventually(text('landed', 'on') == 'solid')")]))


def test_a_claim_over_angles_travels_the_short_way_and_nan_is_in_no_bounds():
    turning = lt.Trace.from_columns({"yaw": np.array([350.0, 10.0, 30.0, 350.0])}, 60, wraps={"yaw": 360})
    assert lt.measure(turning, "travelled(yaw, true)") == 0 and lt.measure(turning, "travelled(yaw, yaw < 90)") == 40
    assert lt.measure(turning, "travelled(yaw, true, since=yaw == 10)") == -20
    for that in ("first_row(yaw > 900) != 3", "first_row(yaw > 900) == first_row(yaw > 900)"):
        result = lt.check(turning, [lt.claim("c", that)])[0]
        assert result.verdict == "broken" and "found nothing to measure" in str(result)
    assert math.isnan(lt.measure(turning, "apex(yaw, since=yaw > 900)"))
