"""The values that give a wanted measure: against functions whose answer is known, and against a dense look."""

import json
import math

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.search.vary import vary
from larktally.views.measure_picture import draw_tuned, draw_varied


def leap(of, default=1.0, ask="param", claims=()):
    """A scenario whose measure last(height) is a function of its param."""

    def model(setup):
        sim = lt.Sim(setup)
        height = sim.value("height", 0.0)
        p = getattr(setup, ask)("p", default)

        @sim.after("zones")
        def set_height(now):
            height.value = of(p)

        return sim

    return lt.Scenario(
        model, frames=2, claims=claims, name="leap", allow_nan=True, measures={"height": lt.NamedMeasure(MEASURE, "px")}
    )


MEASURE = "value_when(height, not (height == 0.0))"
SMOOTH = [
    ("a slope", lambda p: 2.0 * p + 1, 7.0, [3.0]),
    ("there and back", lambda p: 10 - (p - 5) ** 2, 6.0, [3.0, 7.0]),
    ("a wave", lambda p: 5 + 4 * math.sin(p), 5.0, [k * math.pi for k in (0, 1, 2, 3)]),
    ("on the low end", lambda p: p + 4, 4.0, [0.0]),
    ("on the high end", lambda p: p + 4, 14.0, [10.0]),
    ("steep and flat", lambda p: math.exp(p), 50.0, [math.log(50)]),
]


@pytest.mark.parametrize(("of", "wanted", "roots"), [one[1:] for one in SMOOTH], ids=[one[0] for one in SMOOTH])
def test_a_smooth_measure_is_had_at_each_of_its_roots(of, wanted, roots):
    found = lt.tune(leap(of), "p", 0.0, 10.0, measure="height", wanted=wanted)
    assert found.found and len(found.stretches) == len(roots)
    for one, root in zip(found.stretches, roots):
        assert one.low - 1e-5 <= root <= one.high + 1e-5 and one.high - one.low < 1e-3
        assert math.isclose(of(one.value), wanted, rel_tol=1e-6) and one.measured == of(one.value)
    # In few digits where few will do.
    assert [repr(one.value) for one in found.stretches][:1] == [repr(round(roots[0], 6))] or roots[0] != round(
        roots[0], 6
    )


STEPS = [
    ("whole frames", lambda p: float(math.floor(p * 1.7) + 1), 8.0),
    ("a plateau narrower than a step", lambda p: 5.0 + (p > 3.02) + (p >= 3.13), 6.0),
    ("down and up", lambda p: float(abs(math.floor(p) - 4) + 1), 3.0),
    ("everywhere", lambda p: 8.0, 8.0),
    ("to the end", lambda p: 3.0 + (p > 9.99), 4.0),
]


@pytest.mark.parametrize(("of", "wanted"), [one[1:] for one in STEPS], ids=[one[0] for one in STEPS])
def test_a_measure_in_whole_rows_is_had_over_all_of_each_plateau(of, wanted):
    found = lt.tune(leap(of), "p", 0.0, 10.0, measure=MEASURE, wanted=wanted, step=0.25)
    dense = [(n / 1000, of(n / 1000) == wanted) for n in range(10_001)]
    for value, had in dense:
        near_an_end = any(abs(value - end) < 1e-6 for one in found.stretches for end in (one.low, one.high))
        assert near_an_end or had == any(one.low <= value <= one.high for one in found.stretches), value
    assert all(of(one.value) == wanted for one in found.stretches)
    assert found.stretches[0].open_low == (of(0.0) == wanted) and found.stretches[-1].open_high == (of(10.0) == wanted)


def test_a_range_is_had_between_its_ends_and_what_is_leapt_over_is_not():
    found = lt.tune(leap(lambda p: p * p), "p", 0.0, 10.0, measure="height", wanted=(4, 9))
    (one,) = found.stretches
    assert abs(one.low - 2) < 1e-6 and abs(one.high - 3) < 1e-6 and 2 <= one.value <= 3
    leapt = lt.tune(leap(lambda p: p + 1 + (p > 4.2)), "p", 0.0, 10.0, measure="height", wanted=5.5)
    assert not leapt.found and len(leapt.jumps) == 1
    before, after = leapt.jumps[0]
    assert before.value <= 4.2 < after.value and after.value - before.value < 1e-6
    assert "height is 5.5 px for no p = 0..10" in str(leapt) and "it goes from 5.2 to 6.2 at once" in str(leapt)
    assert leapt.nearest in leapt.jumps[0] and "nearest is 5.2" in str(leapt)


def test_whole_numbers_and_durations_are_tried_in_whole_numbers_alone():
    tried = []

    def of(p):
        tried.append(p)
        return float(p // 3)

    found = lt.tune(leap(of, default=9), "p", 1, 1000, measure="height", wanted=50)
    (one,) = found.stretches
    assert (one.low, one.high, one.value) == (150, 152, 151) and all(isinstance(value, int) for value in tried)
    assert one.code == 'params={"p": 151}' or "151" in one.code
    frames = lt.tune(leap(float, default="0.5s", ask="duration"), "p", 2, 90, measure="height", wanted=40)
    assert [(one.low, one.high, one.value) for one in frames.stretches] == [(40, 40, 40)]
    between = lt.tune(leap(lambda p: p * 1.0, default=9), "p", 1.0, 10, measure="height", wanted=2.5)
    assert between.stretches[0].value == 2.5
    exact = lt.tune(leap(float, default="0.75", ask="number"), "p", 0, 1, measure="height", wanted=0.3)
    assert exact.stretches[0].value == 0.3


def test_runs_that_fail_or_measure_nothing_are_told_and_passed_over():
    def of(p):
        if p > 8:
            raise ValueError("too strong")
        return 0.0 if p < 2 else p

    found = lt.tune(leap(of), "p", 0.0, 10.0, measure="height", wanted=5.05, step=0.5)
    assert [one.value for one in found.stretches] == [5.05]
    assert "in 4 of " in str(found) and "there was nothing to measure" in str(found)
    assert "runs failed, first with 8.5: " in str(found) and "too strong" in str(found)
    none = lt.tune(leap(lambda p: 0.0), "p", 0.0, 10.0, measure="height", wanted=5)
    assert not none.found and none.nearest is None and json.dumps(none.plain()["nearest"]) == "null"


def test_claims_are_judged_at_what_is_found():
    low = lt.claim("low", "never(height > 4)")
    found = lt.tune(leap(lambda p: 10 - (p - 5) ** 2, claims=[low]), "p", 0.0, 10.0, measure="height", wanted=3)
    assert [one.broken for one in found.stretches] == [(), ()]
    found = lt.tune(leap(lambda p: p + 1, claims=[low]), "p", 0.0, 10.0, measure="height", wanted=6)
    assert found.stretches[0].broken == ("low",) and "does not pass: low" in str(found)
    figure = draw_tuned(found)
    assert [one.get_text() for one in figure.axes[-1].get_yticklabels()] == ["low"]
    figure = draw_varied(vary(leap(lambda p: p + 1, claims=[low]), {"p": [1.0, 2.0, 5.0]}))
    assert len(figure.axes) == 2
    with pytest.raises(lt.LarkTallyError, match="over one param"):
        draw_varied(vary(leap(lambda p: p + 1), {"p": [1.0]}, seeds=[1, 2]))


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"param": "q"}, "no param 'q' in leap"),
        ({"low": 3.0, "high": 3.0}, "goes up from low to high"),
        ({"low": math.nan}, "low is a finite number"),
        ({"step": -1.0}, "a step above 0"),
        ({"step": 1e-9}, "at most 100000 are looked at"),
        ({"wanted": math.inf}, "wanted is a finite number"),
        ({"wanted": "high"}, "wanted is a number"),
        ({"measure": "height > 2"}, "is no measure"),
        ({"measure": "apex('heigh')"}, "did you mean 'height'"),
    ],
)
def test_what_cannot_be_tuned_is_told(given, told):
    usual = {"param": "p", "low": 0.0, "high": 10.0, "measure": "height", "wanted": 5}
    words = usual | given
    with pytest.raises(lt.LarkTallyError, match=told):
        lt.tune(leap(lambda p: p + 1), words.pop("param"), words.pop("low"), words.pop("high"), **words)
    with pytest.raises(lt.LarkTallyError, match="in whole numbers, frames where it is a duration; low is 0.5"):
        lt.tune(leap(float, default=3, ask="duration"), "p", 0.5, 10, measure="height", wanted=5)
    with pytest.raises(lt.LarkTallyError, match="is 'x' by default, and not a number"):
        lt.tune(leap(lambda p: 1.0, default="x"), "p", 0.5, 10, measure="height", wanted=5)


def cli(*words):
    return CliRunner().invoke(main, ["vary", *map(str, words)])


def test_the_command_says_the_same_draws_it_and_refuses_what_does_not_fit(tmp_path):
    file = tmp_path / "t.py"
    file.write_text(
        "import larktally as lt\n\n\nclass Leap:\n    def reset(self, setup):\n        self.p = setup.param('p', 2.0)\n        self.y = 0.0\n\n"
        "    def step(self, now):\n        self.y = self.p * 3\n\n    def observe(self):\n        return {'y': self.y}\n\n\n"
        "leap = lt.Scenario(Leap, frames=3)\n"
    )
    ran = cli(
        f"{file}:leap",
        "--param",
        "p=0.0..10.0",
        "--measure",
        "apex('y')",
        "--wanted",
        "8.4",
        "--plot",
        tmp_path / "p.png",
    )
    assert ran.exit_code == 0 and "p = 2.8" in ran.stdout and "self.p = setup.param('p', 2.8)" in ran.stdout
    assert (tmp_path / "p.png").read_bytes().startswith(b"\x89PNG")
    shared = cli(
        file, "--param", "p=0.0..10.0/0.5", "--measure", "apex('y')", "--wanted", "6..9", "--workers", "2", "--json"
    )
    alone = cli(file, "--param", "p=0.0..10.0", "--step", "0.5", "--measure", "apex('y')", "--wanted", "6..9", "--json")
    assert shared.stdout == alone.stdout and json.loads(alone.stdout)["stretches"][0]["low"] == 2.0
    assert cli(file, "--param", "p=0.0..10.0", "--measure", "apex('y')", "--wanted", "99").exit_code == 1
    drawn = cli(file, "--param", "p=1..4", "--measure", "apex('y')", "--plot", tmp_path / "v.svg")
    assert drawn.exit_code == 0 and (tmp_path / "v.svg").exists() and "drawn: " in drawn.stdout
    for words, told in (
        (("--wanted", "5"), "goes with one --param and one --measure"),
        (("--param", "p=1,2", "--measure", "apex('y')", "--wanted", "5"), "looks between two numbers"),
        (("--param", "p=0..9", "--measure", "apex('y')", "--wanted", "much"), "--wanted takes a number"),
        (("--param", "p=0..9", "--measure", "apex('y')", "--wanted", "5", "--seed", "0..3"), "nothing else is varied"),
        (("--param", "p=0..9", "--plot", tmp_path / "x.png"), "drawn of measures"),
    ):
        ran = cli(file, *words)
        assert ran.exit_code == 2 and told in ran.stderr, ran.output
