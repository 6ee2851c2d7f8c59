"""Machines as documents: why a rule was taken, coverage, findings, diagrams, and state charts out and in."""

import re
import shutil
from xml.etree import ElementTree

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.test_sim import assert_restores, model, run

import larktally as lt
from larktally.charts.layout import GLYPH, lay_out
from larktally.charts.reading import chart_from_text
from larktally.cli import main

SCRIPT = lt.InputScript().press("hop", 4).press("burst", 8)
HELD = lt.InputScript().hold("burst", 8, 10)


def gait(sim):
    one = sim.machine("gait", ("standing", "air/rise", "air/fall", "rest", "attic"), "standing", remember=("air",))
    sim.value("height", 0.0)
    one.during("air")(lambda now: None)
    one.transition("standing", to="air", when="pressed('hop') and height < 3", name="hops")
    one.transition("standing", to="rest", when="held('hop')", name="slower")
    one.transition("air/rise", to="air/fall", after=3, name="turns")
    one.transition("air", to="rest", when="event('hop') and height < 3", name="told")
    one.transition(lt.ANY, to="rest", when=lambda now: now.held("burst"), name="shove", label="shoved")(bang)
    one.transition("rest", to=lt.STAY, every=4, name="breathes")


def bang(now):
    now.emit("hop")


def scenario(build=gait, frames=20):
    return lt.Scenario(model(build), frames=frames, inputs=SCRIPT)


def test_why_names_every_rule_considered_what_it_read_and_what_it_out_ranked():
    trace = lt.record(scenario())
    found = lt.why(trace, scenario(), 4)
    (decision,) = found.decisions
    assert (found.before, found.age, found.after, found.taken) == ("standing", 4, "air/rise", ("hops",))
    assert [(c.transition, c.due, c.holds) for c in decision.considered] == [
        ("hops", True, True),
        ("slower", True, True),
        ("shove", True, False),
    ]
    assert decision.considered[0].read == {"pressed('hop')": True, "height": 0.0}
    assert [c.transition for c in decision.others] == ["slower"]
    assert "true as well, out-ranked by 'hops': 'slower'" in str(found)
    waiting = lt.why(trace, scenario(), 6, "gait")
    assert "not due: 2 of 3 frames" in str(waiting) and "nothing was taken" in str(waiting)
    for row, machine in ((0, "gait"), (99, "gait"), (3, "gate")):
        with pytest.raises(
            lt.LarkTallyError, match="row 0|no row 99|no machine 'gate' in this sim; did you mean 'gait'"
        ):
            lt.why(trace, scenario(), row, machine)


def test_why_tells_what_was_asked_for_from_outside():
    def build(sim):
        one = sim.machine("m", ("a", "b"), "a")
        sim.before("machines", lambda now: now.frame == 3 and one.go("b"))

    made = lt.Scenario(model(build), frames=5)
    found = lt.why(lt.record(made), made, 3)
    assert (found.asked, found.taken, found.after) == (("b by <lambda> (test_charts.py:68)",), ("go",), "b")


def test_a_rule_looked_at_every_n_frames_and_one_that_stays_where_it_is():
    trace = lt.record(scenario())
    assert [e.row for e in trace.events.named("acted")] == [12, 16, 20]
    assert trace["gait.age"][20] == 12 and trace["gait"][20] == "rest"


def test_nested_states_history_and_settings_are_restored_in_mid_run():
    assert_restores(model(gait), SCRIPT, 20, (3, 5, 7, 9, 13))


def test_coverage_counts_states_rules_and_pairs_and_finds_rules_that_never_get_their_turn():
    cover = lt.coverage([lt.record(scenario()), lt.record(scenario())], "gait", scenario())
    states = {s.state: (s.visits, s.least, s.median, s.most) for s in cover.states}
    assert (
        states["standing"] == (2, 4, 4.0, 4)
        and states["air/rise"] == (2, 3, 3.0, 3)
        and states["attic"] == (0, 0, 0, 0)
    )
    assert (
        cover.unvisited == ("attic",) and cover.untaken == ("slower", "told") and cover.always_outranked == ("slower",)
    )
    assert cover.pairs["air/fall", "rest"] == 2 and ("air/rise", "rest") in cover.unseen_pairs
    assert cover.taken_from("shove", "air") == 2 == cover.taken_from("shove", lt.ANY) and cover.plain()["rows"] == 42
    assert "slower" in str(cover)
    with pytest.raises(lt.LarkTallyError, match="no traces"):
        lt.coverage([])


def test_two_rules_that_fight_show_as_stays_of_one_row():
    def build(sim):
        one = sim.machine("m", ("chase", "strike"), "chase")
        one.transition("chase", to="strike", when="held('burst')")
        one.transition("strike", to="chase", when="held('burst')")

    strike = lt.coverage(run(build, 20, HELD)).states[1]
    assert (strike.visits, strike.most) == (5, 1)


def test_findings_name_states_without_a_way_in_or_out_and_rules_hidden_by_the_same_guard():
    def build(sim):
        one = sim.machine("m", ("a", "b", "won", "lost"), "a", final=("won",))
        one.transition("a", to="b", when="held('hop')")
        one.transition("a", to="won", when="held('hop')", after=3, name="late")
        one.transition("a", to="won", when="held('burst')", name="wins")

    outline = run(build, 2).header.outlines["m"]
    assert [(f.kind, f.about) for f in lt.charts.findings(outline)] == [
        ("unreachable", "lost"),
        ("no way out", "b"),
        ("no way out", "lost"),
        ("never taken", "late"),
    ]
    assert [(p["state"], p["rank"], p["rule"]) for p in lt.charts.priorities(outline)][1:] == [
        ("a", 2, "late"),
        ("a", 3, "wins"),
    ]


def test_names_in_the_text_of_a_view_s_machine_are_those_of_its_own_parts_first():
    def build(sim):
        for n in (1, 2):
            one = sim.under(f"moth.{n}")
            rest = one.cooldown("rest", 2 + n)
            flight = one.machine("flight", ("idle", "out"), "idle")
            flight.transition("idle", to="out", when="held('hop') and rest.ready")(lambda now, rest=rest: rest.use())
            flight.transition("out", to="idle", when="event('ready', source='rest') and moth.1.rest.ready")

    trace = run(build, 12, SCRIPT)
    assert "".join(s[0] for s in trace["moth.1.flight"]) == "iiiioooiiiiii"
    assert "".join(s[0] for s in trace["moth.2.flight"]) == "iiiiooooiiiii"


@pytest.mark.parametrize("layout", ["own", "graphviz"])
def test_diagrams_hold_every_state_and_rule_and_are_well_formed(layout):
    if layout == "graphviz" and not shutil.which("dot"):
        layout = "own"
    trace = lt.record(scenario())
    outline, cover = trace.header.outlines["gait"], lt.coverage(trace)
    drawn = lt.charts.chart_to_svg(outline, cover, layout)
    assert len(drawn) > 2000 and ElementTree.fromstring(drawn.encode()).tag.endswith("svg")
    for words in ("standing", "rise", "pressed('hop')", "every 4f", "any state", "×1"):
        assert words in drawn.replace("&#39;", "'").replace("&#45;", "-").replace("\xa0", " "), words
    dot = lt.charts.chart_to_dot(outline, cover)
    assert dot.count("{") == dot.count("}") and '":start" -> "standing"' in dot


def test_no_wire_of_a_diagram_crosses_a_word():
    outline = lt.record(scenario()).header.outlines["gait"]
    layout = lay_out(outline, {}, lambda rule, source: "")
    words_end = max(layout.words_at + len(w.words) * GLYPH for w in layout.wires)
    assert all(lane.x > words_end for lane in layout.lanes)
    heights = [wire.y for wire in layout.wires] + [layout.boxes[lane.target].entry for lane in layout.lanes]
    assert all(abs(a - b) >= 13 for i, a in enumerate(sorted(heights)) for b in sorted(heights)[i + 1 :])


def test_a_machine_goes_out_as_scxml_and_comes_back_the_same_and_runs():
    first = lt.record(scenario())
    outline = first.header.outlines["gait"]
    text = lt.charts.chart_to_scxml(outline)
    assert chart_from_text(text) == outline
    assert 'event="hop" cond="height &lt; 3"' in text and '<history id="air.history" type="deep">' in text

    def build(sim):
        calls = {"lambda": lambda now: None, "shoved": lambda now: now.held("burst"), "bang": bang}
        sim.machine_from("gait", chart_from_text(text), calls)
        sim.value("height", 0.0)

    again = lt.record(scenario(build))
    assert again["gait"].tolist() == first["gait"].tolist() and again.events == first.events
    with pytest.raises(lt.LarkTallyError, match="calls 'lambda', 'shoved', 'bang': give them in calls"):
        run(lambda sim: sim.machine_from("gait", outline))


STATES = ("idle", "air/rise", "air/fall", "rest", "air/loop/a", "air/loop/b")
NAMES = [*STATES, "air", "air/loop"]
GUARDS = [
    "held('hop')",
    "event('hop')",
    "event('hop') and held('burst')",
    "event('hop') and (held('hop') or true)",
    "x > 1 and x<2",
]


@pytest.mark.slow
@settings(max_examples=80, deadline=None)
@given(st.data())
def test_random_machines_survive_the_way_through_scxml(data):
    pick = lambda *options: data.draw(st.sampled_from(options))  # noqa: E731

    def build(sim):
        sim.value("x", 0.0)
        remember = data.draw(st.sets(st.sampled_from(["air", "air/loop"])))
        initial = pick({}, {"air": "fall"}, {"air": "air/loop", "air/loop": "b"})
        order, final = pick("transition-first", "during-first"), pick((), ("rest",), ("air",))
        one = sim.machine(
            "m",
            data.draw(st.permutations(STATES)),
            pick(*NAMES),
            remember=remember,
            initial=initial,
            order=order,
            final=final,
        )
        for n in range(data.draw(st.integers(0, 6))):
            sources = data.draw(st.lists(st.sampled_from([*NAMES, lt.ANY]), min_size=1, max_size=3, unique=True))
            to = pick(*NAMES, lt.STAY, lt.BACK)
            push = to in NAMES and pick(True, False)
            made = one.transition(
                sources, to=to, when=pick(*GUARDS), after=pick(None, 4), every=pick(None, 2), push=push, name=f"r {n}<&"
            )
            if pick(True, False):
                made(bang)
        one.enter("air", "rest")(bang)
        one.setting("rest", sim.value("y", 1), value=5)

    outline = run(build, 1).header.outlines["m"]
    assert chart_from_text(lt.charts.chart_to_scxml(outline)) == outline


DOC = '<scxml xmlns="http://www.w3.org/2005/07/scxml" version="1.0" initial="a">%s</scxml>'
AB = '<state id="a">%s</state><state id="b"/>'


def test_a_plain_document_of_another_tool_runs():
    text = DOC % (
        AB
        % "<onentry><raise event='lit'/></onentry><transition event='hop' target='b'/><transition event='x y' cond=\"held('hop')\" target='b'/>"
        + "<final id='end'/>"
    )
    outline = chart_from_text(text)
    assert [r.when for r in outline.rules] == ["event('hop')", "(event('x') or event('y')) and (held('hop'))"]
    assert (outline.final, outline.hooks) == (("end",), {"enter": {"a": ("emit('lit')",)}})

    def build(sim):
        sim.before("machines", lambda now: now.frame == 3 and now.emit("hop"))
        sim.machine_from("m", outline)

    trace = run(build, 5, events=("hop", "x", "y", "lit"))
    assert trace["m"].tolist() == ["a"] * 3 + ["b"] * 3 and trace.events[0].name == "lit"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("<scxml/>", "not scxml in the namespace"),
        ("<a", "not well-formed"),
        ('<!DOCTYPE x [<!ENTITY a "aaaa">]><x>&a;</x>', "DTD or entities"),
        ('<!DOCTYPE x SYSTEM "file:///etc/passwd"><x/>', "DTD or entities"),
        (DOC % "", "has no states"),
        (DOC % '<parallel id="p"/>', "'parallel', which machines do not have"),
        (DOC % AB % "<invoke/>", "'invoke', which machines do not have"),
        (DOC % AB % "<onentry><send event='x'/></onentry>", "runs 'send'; only raise"),
        (DOC % AB % '<transition event="*" target="b"/>', "is a pattern"),
        (DOC % AB % '<transition event="done.state.a" target="b"/>', "is a pattern or the interpreter's own"),
        (DOC % AB % '<transition cond="x ===" target="b"/>', "its condition is in the claims' language"),
        (DOC % AB % '<transition target="c"/>', "no state 'c'"),
        (DOC % AB % '<transition target="a b"/>', "several targets"),
        (DOC % (AB % "" + '<state id="a"/>'), "two states have the id 'a'"),
        (DOC % AB % ("<state>" * 3 + "</state>" * 3), "has no id"),
        (DOC.replace("version", "datamodel='ecmascript' version") % (AB % ""), "its data model is 'ecmascript'"),
        (DOC % ("".join(f'<state id="s{n}">' for n in range(60)) + "</state>" * 60), "more than 40 deep"),
    ],
)
def test_what_a_machine_does_not_have_is_refused_by_name(text, said):
    with pytest.raises(lt.LarkTallyError, match=re.escape(said)):
        chart_from_text(text)


def test_a_guard_that_is_a_lambda_is_shown_as_it_is_written():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 40), gravity=900)
        gait = sim.machine("gait", ("up", "down", "still"), "up")
        gait.transition("up", to="down", when=lambda now: wick.vy < -10 and (
            now.frame > 3 or wick.y < 20), name="falls")  # fmt: skip
        gait.transition("down", to="still", when=lambda now: wick.grounded, name="lands", label="on the ground")
        gait.transition("still", to="up", when=rising, name="rises")

    def rising(now):
        return False

    made = model(build)
    trace = lt.record(made, frames=30)
    rules = {rule.name: rule.condition for rule in trace.header.outlines["gait"].rules}
    assert rules == {
        "falls": "wick.vy < -10 and (now.frame > 3 or wick.y < 20)",
        "lands": "on the ground",
        "rises": "rising()",
    }
    assert "wick.vy < -10 and (now.frame > 3 or wick.y < 20)" in str(lt.why(trace, made, 2))


class Signal:
    """No sim: a label that is declared to be what it never is, and one that changes."""

    labels = {"lamp": ("dark", "lit", "broken")}

    def reset(self, setup):
        self.n = 0

    def step(self, now):
        self.n += 1

    def observe(self):
        return {"n": self.n, "lamp": "lit" if self.n % 10 in (3, 4, 5) else "dark"}


def test_a_label_of_what_is_no_sim_is_covered_by_the_changes_that_were_seen(tmp_path):
    trace = lt.record(Signal, frames=40)
    cover = lt.coverage(trace)
    assert cover.unvisited == ("broken",) and dict(cover.pairs) == {("dark", "lit"): 4, ("lit", "dark"): 4}
    assert [(r.rule, r.taken, r.first_row) for r in cover.rules] == [("dark → lit", 4, 3), ("lit → dark", 4, 6)]
    stays = {s.state: (s.visits, s.least, s.median, s.most) for s in cover.states}
    # 3 rows before the first, 7 between, 5 at the end.
    assert stays == {"dark": (5, 3, 7.0, 7), "lit": (4, 3, 3.0, 3), "broken": (0, 0, 0.0, 0)}
    assert "2 of 3 labels seen, 2 changes" in str(cover) and "first in row" in str(cover)
    both = lt.coverage([trace, lt.record(Signal, frames=4)], "lamp")
    assert both.runs == 2 and dict(both.pairs) == {("dark", "lit"): 5, ("lit", "dark"): 4}
    trace.save(tmp_path / "signal.jsonl")
    for words in ([str(tmp_path / "signal.jsonl")], [f"{__file__}:signal"]):
        result = CliRunner().invoke(main, ["chart", *words, "--out", str(tmp_path / "lamp.svg")])
        assert result.exit_code == 0 and "dark → lit" in result.output, result.output
        words_drawn = "".join(ElementTree.parse(tmp_path / "lamp.svg").getroot().itertext())
        assert "broken" in words_drawn and "lit" in words_drawn
    for words, said in ((["--machine", "lamb"], "no machine or label 'lamb'"),):
        assert said in CliRunner().invoke(main, ["chart", str(tmp_path / "signal.jsonl"), *words]).stderr
    bare = lt.Trace.from_columns({"x": np.arange(3.0)}, rate=60)
    with pytest.raises(lt.LarkTallyError, match="holds no machine"):
        lt.coverage(bare)


signal = lt.Scenario(Signal, frames=40)
