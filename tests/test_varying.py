"""One scenario with many values: every combination run, checked and measured, and where a claim turns."""

import json

import pytest
from tests.test_cli import call

import larktally as lt

MODEL = """
import larktally as lt


def hopper(setup):
    sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((0, 0), (400, 16))]), actions=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    speed, double = setup.param("speed", 300.0), setup.param("double", False)
    rest = setup.duration("rest", "0.5s")
    sim.cooldown("wick.rest", rest)
    if setup.param("broken", 0):
        sim.before("motion", lambda now: 1 / (now.frame - 7))

    @sim.before("motion")
    def hop(now):
        if now.pressed("hop") and (wick.grounded or double):
            wick.launch(vy=speed)

    return sim


leap = lt.Scenario(
    hopper,
    frames="1.5s",
    inputs=lt.InputScript().press("hop", "0.5s").press("hop", "0.8s"),
    claims=[
        lt.claim("he is over the rail", "measured(apex('wick.y'), 60, 500)"),
        lt.claim("and under the beam", "always(wick.y < 110)"),
    ],
)
"""


@pytest.fixture
def leap_file(tmp_path):
    path = tmp_path / "leap.py"
    path.write_text(MODEL)
    return path


@pytest.fixture
def leap(leap_file):
    from larktally.runs.model_files import load_scenarios

    return load_scenarios(str(leap_file))[0]


def test_every_combination_is_run_and_tells_its_measures_and_verdicts(leap):
    found = lt.vary(
        leap, {"speed": [300, 400, 500], "double": [False, True]}, rates=[60, 120], measures=["apex('wick.y')"]
    )
    assert len(found) == 12 and [list(run.values.values()) for run in found[:3]] == [
        [300, False, 60], [300, False, 120], [300, True, 60],
    ]  # fmt: skip
    by_hand = lt.record(leap.changed(params={"speed": 400, "double": True}, rate=120))
    run = next(run for run in found if list(run.values.values()) == [400, True, 120])
    assert run.measures == {"apex('wick.y')": lt.measure(by_hand, "apex('wick.y')")}
    assert [r.verdict for r in run.tally] == [r.verdict for r in lt.check(by_hand, leap.claims)]
    assert lt.record(run.scenario).digest == by_hand.digest
    assert set(found.kept) | set(found.broken) == set(found) and not found.passed
    assert found.turns() == {} and str(found).splitlines()[0].split()[:3] == ["speed", "double", "rate"]


def test_where_one_thing_is_varied_it_says_where_each_claim_turns(leap):
    found = lt.vary(leap, {"speed": range(300, 521, 20)})
    assert found.turns() == {
        "he is over the rail": [("300", "320", "broken"), ("340", "520", "kept")],
        "and under the beam": [("300", "400", "kept"), ("420", "520", "broken")],
    }
    assert "  and under the beam: kept 300..400, broken 420..520" in str(found)
    assert [run.values["speed"] for run in found.kept] == [340, 360, 380, 400]


def test_scripts_and_seeds_are_varied_and_a_run_that_fails_does_not_end_the_others(leap):
    scripts = {f"n{n}": lt.InputScript.at_random({"hop": 0.05}, frames=90, seed=n) for n in range(3)}
    found = lt.vary(leap.changed(claims=()), {"broken": [0, 1]}, seeds=[1, 2], inputs=scripts)
    assert [run.failed for run in found if run.values["broken"]] == [
        "row 7: step failed: ZeroDivisionError: division by zero"
    ] * 6  # fmt: skip
    assert all(run.kept and run.outcome == "" for run in found if not run.values["broken"])
    assert {run.scenario.inputs for run in found} == set(scripts.values()) and "failed: row 7" in str(found)
    still = lt.vary(leap.changed(claims=()), seeds=[1, 2])
    assert still.passed and str(still).endswith("2 runs; no claims in this scenario, so nothing was checked")


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({}, "needs something to vary"),
        ({"params": {"speed": []}}, "'speed' has no values"),
        ({"params": {"sped": [1]}}, "sped=1: no param 'sped'; did you mean 'speed'"),
        ({"params": {"rate": [60]}}, "say rates="),
        ({"params": {"rest": ["0.01s"]}}, "rest=0.01s: param 'rest': '0.01s' is"),
        ({"params": {"speed": range(400), "rest": range(400)}}, "160000 runs"),
        ({"seeds": [1], "measures": ["apex('wick.z')"]}, "no channel 'wick.z'"),
    ],
)
def test_what_cannot_be_varied_is_told(leap, given, said):
    with pytest.raises(lt.LarkTallyError, match=said.replace("(", ".").replace(")", ".")):
        lt.vary(leap, **given)


def test_vary_on_the_command_line(leap_file):
    rows = ("--param", "speed=300..340/20", "--param", "rest=0.5s", "--measure", "apex('wick.y')")
    done = call("vary", leap_file, *rows)
    assert done.exit_code == 1 and "1 of 3 runs kept every claim" in done.output
    assert "300  0.5s            47.5  he is over the rail (broken)" in done.output
    plain = json.loads(call("vary", leap_file, "--param", "speed=0.5..1.5/0.25,400", "--json").output)
    assert [run["values"]["speed"] for run in plain["runs"]] == [0.5, 0.75, 1.0, 1.25, 1.5, 400]
    kept = call("vary", f"{leap_file}:leap", "--param", "speed=400", "--param", "double=false", "--rate", "60,120")
    assert kept.exit_code == 0 and "2 of 2 runs kept every claim" in kept.output
    assert "3 of 3 runs" in call("vary", leap_file, "--seed", "1..3", "--param", "speed=360").output
    for said in ("speed", "speed=1..x", "speed=5..1", "speed=1..2/0", "speed=0..9e9"):
        bad = call("vary", leap_file, "--param", said)
        assert bad.exit_code == 2 and "--param" in bad.output


def test_the_smallest_script_that_breaks_a_claim_is_found_and_runs_to_the_same_breach(leap):
    doubled = leap.changed(
        params={"double": True},
        frames=400,
        inputs=lt.InputScript.at_random({"hop": 0.05}, 400, seed=3),
        claims=[lt.claim("one hop at a time", "always(implies(pressed('hop'), prev(wick.grounded)))")],
    )
    assert len(doubled.inputs.spans) > 10
    found = lt.shrink(doubled)
    assert found.after == (2, 3) and found.code == "lt.InputScript().press('hop', 1).press('hop', 3)"
    assert found.result.verdict == "broken" and found.runs <= 500 and found.before == (len(doubled.inputs.spans), 400)
    again = lt.record(found.scenario)
    assert again.digest == found.trace.digest and lt.check(again, doubled.claims)[0].breaches[0].row == 3
    assert "is still broken with 2 presses in 3 frames, where there were" in str(found)
    assert lt.shrink(doubled, most=3).runs == 3
    for given, said in ((("one hop at a time",), ""), (("one hop at",), "no claim 'one hop at'; did you mean")):
        if said:
            with pytest.raises(lt.LarkTallyError, match=said):
                lt.shrink(doubled, *given)
    with pytest.raises(lt.LarkTallyError, match="leap: no claim is broken in it"):
        lt.shrink(leap.changed(params={"speed": 360}))


def test_holds_are_shortened_and_moved_together_and_what_fails_is_no_breach():
    class Boiler:
        actions = ("stoke", "vent", "whistle")

        def reset(self, setup):
            self.heat = 0

        def step(self, now):
            self.heat += now.held("stoke") - (self.heat > 0 and now.held("vent"))
            if self.heat > 30:
                raise RuntimeError("burst")

        def observe(self):
            return {"heat": self.heat}

    script = lt.InputScript().hold("vent", 3, 5).hold("stoke", 40, 12).hold("vent", 60, 4).hold("stoke", 70, 15)
    run = lt.Scenario(
        Boiler, frames=200, inputs=script.tap("whistle", 5, 20, 9), claims=[lt.claim("cool", "always(heat < 15)")]
    )
    found = lt.shrink(run)
    assert found.after == (1, 15) and found.code == "lt.InputScript().hold('stoke', 1, 15)"
    assert found.trace["heat"][-1] == 15


class Stove:
    """Heats by how far a lever is pushed, by a param, and while a bell was rung and not rung again."""

    actions = (lt.Action("lever", analog=True), "ring")

    def reset(self, setup):
        self.gain, self.leak = setup.param("gain", 1.0), setup.param("leak", 3)
        self.heat, self.rung = 0.0, False

    def step(self, now):
        self.rung ^= now.pressed("ring")
        self.heat += self.gain * now.value("lever") * self.rung

    def observe(self):
        return {"heat": self.heat, "rung": self.rung}


def test_a_run_is_made_small_in_values_and_params_too_and_it_says_what_cannot_be_left_out():
    script = (
        lt.InputScript()
        .hold("lever", 5, 30, 0.837)
        .press("ring", 12)
        .press("ring", 40)
        .press("ring", 50)
        .hold("lever", 60, 20, 0.2)
    )
    run = lt.Scenario(
        Stove,
        frames=100,
        inputs=script,
        params={"gain": 9.75, "leak": 8},
        claims=[lt.claim("cool", "always(heat < 20)")],
    )
    found = lt.shrink(run)
    assert len(found.scenario.inputs.spans) == 2 and {one.value for one in found.scenario.inputs.spans} == {1.0}
    # The one param changes nothing; the other comes nearer to what the model has by itself.
    assert "leak" not in found.scenario.params and found.result.verdict == "broken" and found.done
    told = dict(found.without)
    assert set(told.values()) == {"kept"} and len(told) == len(found.scenario.inputs.spans) + len(found.scenario.params)
    assert "without ring in 2: kept" in str(found) and found.plain()["without"] == told
    # What it says is so: each of them alone keeps the claim.
    for span in found.scenario.inputs.spans:
        spans = [one for one in found.scenario.inputs.spans if one != span]
        again = lt.check(lt.record(found.scenario.changed(inputs=lt.InputScript(spans))), found.scenario.claims)
        assert again[0].verdict == told[f"{span.action} in {span.start}"]
    ended = lt.shrink(run, most=3)
    assert not ended.done and ended.runs == 3 and "the runs ended before all was tried" in str(ended)
    nothing = lt.shrink(
        run.changed(inputs=lt.InputScript(), params={}, claims=[lt.claim("hot", "eventually(heat > 5)")])
    )
    assert nothing.after == (0, 1) and "there is nothing to leave out" in str(nothing)


@pytest.mark.slow
def test_several_tries_at_once_come_to_the_same(leap_file):
    leap_file.write_text(MODEL.replace("300.0", "450.0"))
    words = ("shrink", leap_file, "--explore", "30", "--claim", "and under the beam", "--json")
    assert call(*words).output == call(*words, "--workers", "2").output


def test_a_search_looks_for_a_breach_and_the_same_call_finds_the_same(leap, leap_file):
    found = lt.find_breach(leap.changed(params={"speed": 450}), 50, "and under the beam")
    assert lt.check(lt.record(found.broken), leap.claims)["and under the beam"].verdict == "broken"
    again = lt.find_breach(leap.changed(params={"speed": 450}), 50, "and under the beam")
    assert again.broken.inputs == found.broken.inputs and again.tries == found.tries
    idle = lt.claim("never out", "always(implies(wick.x > 900, wick.y > 0))")
    none = lt.find_breach(leap.changed(params={"speed": 360}, claims=[*leap.claims[1:], idle]), 20)
    assert (none.broken, none.tries, none.untested) == (None, 20, ("never out",))
    assert str(none) == "no claim is broken in 20 runs\n  never put to the test: 'never out'"
    with pytest.raises(lt.LarkTallyError, match="no claim 'beam'"):
        lt.find_breach(leap, 5, "beam")
    with pytest.raises(lt.LarkTallyError, match="leap has no claims to break"):
        lt.find_breach(leap.changed(claims=()), 5)
    kept = call("shrink", leap_file, "--explore", "5", "--claim", "and under the beam")
    assert kept.exit_code == 0 and "leap: no claim is broken in 5 runs" in kept.output
    leap_file.write_text(MODEL.replace("300.0", "450.0"))
    script = leap_file.with_suffix(".csv")
    broken = call("shrink", leap_file, "--explore", "50", "--claim", "and under the beam", "--out", script)
    assert broken.exit_code == 1 and "is still broken with 1 press in" in broken.output and "why " in broken.output
    assert lt.InputScript.from_csv(script).spans[0].action == "hop"
    plain = json.loads(call("shrink", leap_file, "--json").output)
    assert plain["claim"]["verdict"] == "broken" and plain["code"].startswith("lt.InputScript().press('hop', 1)")


def test_a_claim_that_does_not_fit_a_rate_names_the_rate_and_a_param_without_effect_is_told():
    def can(setup):
        sim = lt.Sim(setup)
        sim.interval("drip", setup.duration("every", "0.5s"))
        setup.param("colour", 3)
        return sim

    claims = [lt.claim("drips", "spaced(event('due'), at_most='0.55s')")]
    one = lt.Scenario(can, frames="2s", claims=claims)
    with pytest.raises(lt.LarkTallyError, match="rate=30: .*'0.55s' is 16.5 frames at 30"):
        lt.vary(one, rates=[60, 30])
    found = lt.vary(one.changed(claims=()), {"every": ["0.5s", "1s"], "colour": [1, 2]})
    assert found.without_effect() == ["colour"] and found.plain()["without_effect"] == ["colour"]
    assert str(found).endswith("colour changed no row of any run: is it read?")
