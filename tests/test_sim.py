"""Sims: the order of a frame, parts that are recorded, saved and restored by themselves, guards as text."""

import pytest

import larktally as lt
from larktally.inputs.view import InputFeed

QUAY = lt.Level.from_rows("........\n........\n########", cell=16)


def model(build, **options):
    """A model function around `build(sim)`, with a floor and the usual actions."""

    def made(setup):
        sim = lt.Sim(
            setup, **{"level": QUAY, "actions": ("left", "right", "hop", "burst"), "events": ("hop",), **options}
        )
        build(sim)
        return sim

    return made


def run(build, frames=20, script=None, **options):
    return lt.record(model(build, **options), script, frames=frames)


def assert_restores(made, script, frames, starts):
    """Loads the states of some rows into the same sim and runs on: every row, event and later state comes out the same."""
    setup = lt.Setup(seed=11)
    sim = made(setup)
    sim.reset(setup)

    def feed_at(frame):
        feed = InputFeed(script, sim.actions, lt.Rate(60))
        for k in range(1, frame + 1):
            feed.advance(k)
        return feed

    def step(feed, frame):
        feed.advance(frame)
        return [repr(event) for event in sim.step(feed.view)], repr(sim.channel_values()), sim.save()

    feed = feed_at(0)
    rows = [None, *(step(feed, frame) for frame in range(1, frames + 1))]
    for start in starts:
        sim.load(rows[start][2])
        assert repr(sim.channel_values()) == rows[start][1]
        feed = feed_at(start)
        for frame in range(start + 1, frames + 1):
            assert step(feed, frame) == rows[frame], frame


def test_a_cooldown_used_in_row_k_is_ready_in_row_k_plus_n():
    def build(sim):
        rest = sim.cooldown("burst", 3)
        sim.after("machines", lambda now: now.pressed("burst") and rest.use())

    trace = run(build, 16, lt.InputScript().press("burst", 10).press("burst", 12))
    assert trace["burst.left"].tolist()[9:14] == [0, 3, 2, 1, 0]
    assert trace["burst.ready"].tolist()[9:14] == [True, False, False, False, True]
    assert [(e.row, e.name) for e in trace.events] == [(10, "used"), (12, "refused"), (13, "ready")]


def test_a_request_waits_until_it_is_taken_or_expires():
    def build(sim):
        ask = sim.press_buffer("ask", "hop", keep=2)
        sim.before("machines", lambda now: now.held("burst") and ask.take())

    trace = run(build, 16, lt.InputScript().press("hop", 5).press("hop", 10).press("burst", 12))
    assert [row for row, waiting in enumerate(trace["ask.waiting"]) if waiting] == [5, 6, 7, 10, 11]
    assert [(e.row, e.name) for e in trace.events] == [(5, "asked"), (8, "expired"), (10, "asked"), (12, "taken")]


def test_a_body_at_rest_is_grounded_in_row_0_and_a_launch_lets_go_at_once():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
        sim.after("machines", lambda now: now.pressed("hop") and wick.launch(vy=360))

    trace = run(build, 60, lt.InputScript().press("hop", 4))
    assert trace["wick.grounded"].tolist()[:6] == [True, True, True, True, False, False]
    assert trace["wick.y"].max() - 16 == lt.geometry.apex(360, 900, 60) == 69.0
    assert trace["wick.y"][-1] == 16.0
    assert [e.name for e in trace.events] == ["left_ground", "landed"]


@pytest.mark.parametrize(("order", "ages"), [("transition-first", "0 1 2 0 1 2"), ("during-first", "0 1 2 0 1 2")])
def test_a_state_entered_in_row_k_with_after_n_is_left_in_row_k_plus_n(order, ages):
    ran = []

    def build(sim):
        swing = sim.machine("swing", states=("idle", "struck"), start="idle", order=order)
        swing.transition("idle", to="struck", after=3)
        swing.transition("struck", to="idle", after=3)
        swing.during("struck")(lambda now: ran.append(now.frame))

    trace = run(build, 5)
    assert trace["swing"].tolist() == ["idle"] * 3 + ["struck"] * 3
    assert trace["swing.age"].tolist() == [int(age) for age in ages.split()]
    assert ran == ([3, 4, 5] if order == "transition-first" else [4, 5])


def test_the_phases_and_their_parts_stand_in_the_header_in_order(dusk_trace):
    order = {phase.phase: phase.parts for phase in dusk_trace.header.order}
    assert list(order) == ["inputs", "timers", "animations", "machines", "motion", "zones"]
    assert order["timers"] == ("wick.burst",) and order["machines"] == ("wick.gait",) and order["motion"] == ("wick",)
    assert dusk_trace.header.machines == {"wick.gait": ("standing", "airborne")}
    assert dusk_trace.header.settings == {"rest": 48}


def test_machines_see_timers_after_they_moved_and_bodies_before():
    def build(sim):
        sim.body("wick", size=(2, 2), at=(24, 20), velocity=(60, 0))
        rest = sim.cooldown("rest", 3)
        sim.after("machines", lambda now: rest.ready and rest.use())
        sim.machine("m", states=("a", "b"), start="a").transition("a", to="b", when="rest.left == 1 and wick.x >= 26")

    scenario = lt.Scenario(model(build), frames=6, claims=[lt.claim("c", "always(seen(wick.x) == prev(wick.x))")])
    trace = lt.record(scenario)
    assert lt.check(trace, scenario.claims).passed
    assert trace.columns["seen:rest.left"].stored.tolist()[:5] == [0, 0, 2, 1, 0]
    assert trace["m"].tolist().index("b") == 3
    assert lt.replay(trace, scenario).identical


def test_every_part_is_saved_and_restored_without_further_code():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
        facing = sim.value("wick.facing", 1)
        rest = sim.cooldown("wick.burst", 7)
        ask = sim.press_buffer("wick.ask", "hop", keep=3)
        gait = sim.machine("wick.gait", states=("standing", "airborne"), start="standing")
        gait.setting("airborne", wick, bounce=0.0, air_steering=0.5)

        @gait.during("standing", "airborne")
        def steer(now):
            wick.steer(vx=120 * now.axis("left", "right") + now.random.between(-3, 3))
            facing.value = -facing.value if rest.use() else facing.value

        gait.transition("standing", to="airborne", when="wick.ask.waiting")(
            lambda now: (ask.take(), wick.launch(vy=300))
        )
        gait.transition("airborne", to="standing", when="wick.grounded")

    script = lt.InputScript.at_random({"left": 0.1, "right": 0.2, "hop": 0.05}, 200, seed=2)
    assert_restores(model(build), script, 200, (30, 77, 140))


def test_one_more_part_does_not_change_the_others_random_numbers():
    def moths(count):
        def build(sim):
            for n in range(count):
                moth = sim.under(f"moth.{n}")
                drift = moth.value("drift", 0.0)
                flight = moth.machine("flight", states=("up",), start="up")
                flight.during("up")(lambda now, drift=drift: setattr(drift, "value", now.random.unit()))

        return run(build, 5)

    two, three = moths(2), moths(3)
    assert two["moth.1.drift"].tolist() == three["moth.1.drift"].tolist()
    assert two["moth.1.drift"].tolist() != two["moth.0.drift"].tolist()
    assert lt.rows_where(two, "moth.1.drift > 0").tolist() == [1, 2, 3, 4, 5]


def test_a_clock_at_0_stands_still_and_at_a_half_ticks_in_every_second_frame():
    def build(sim):
        play = sim.clock("play", "1/2")
        rest = sim.cooldown("rest", 3, clock="play")
        sim.after("machines", lambda now: now.pressed("burst") and rest.use())
        sim.after("zones", lambda now: now.pressed("hop") and play.pause())

    trace = run(build, 14, lt.InputScript().press("burst", 1).press("hop", 5))
    assert trace["play.count"].tolist()[:9] == [0, 0, 1, 1, 2, 2, 2, 2, 2]
    assert trace["rest.left"].tolist()[:9] == [0, 3, 2, 2, 1, 1, 1, 1, 1]


def broken_start(sim):
    sim.machine("wick.gait", states=("standing", "airborne"), start="airbourne")


def no_start(sim):
    sim.machine("wick.gait", states=("standing", "airborne"))


def unknown_target(sim):
    sim.machine("g", states=("standing",), start="standing").transition("standing", to="standng", when="true")


def unknown_channel(sim):
    sim.body("wick", size=(1, 1), at=(40, 40))
    sim.machine("g", states=("a",), start="a").transition("a", to="a", when="wick.yy > 3")


def looks_back(sim):
    sim.body("wick", size=(1, 1), at=(40, 40))
    sim.machine("g", states=("a",), start="a").transition("a", to="a", when="prev(wick.y) > 3")


def emits_in_guard(sim):
    sim.machine("g", states=("a",), start="a").transition("a", to="a", when=lambda now: now.emit("hop"))


def draws_in_guard(sim):
    sim.machine("g", states=("a",), start="a").transition("a", to="a", when=lambda now: now.random.unit() > 1)


def twice(sim):
    sim.value("wick.facing", 1)
    sim.value("wick.facing", 2)


@pytest.mark.parametrize(
    ("build", "said"),
    [
        (broken_start, "no state 'airbourne'; did you mean 'airborne'"),
        (no_start, "has no start state; there are: 'standing', 'airborne'"),
        (unknown_target, "no state 'standng'; did you mean 'standing'"),
        (unknown_channel, r"transition 'a to a': no channel 'wick.yy' in this sim; did you mean 'wick.vy'|'wick.y'"),
        (looks_back, "looks at other rows, and a guard sees only this frame"),
        (emits_in_guard, "row 1: step failed: a guard of 'g' emits 'hop'; guards only look"),
        (draws_in_guard, "a guard of 'g' draws a random number"),
        (twice, "two parts are called 'wick.facing'"),
        (lambda sim: sim.cooldown("rest", 0), "at least 1"),
        (lambda sim: sim.value("wick facing", 1), "words joined by dots"),
        (lambda sim: sim.before("machine", print), "no phase 'machine'; did you mean 'machines'"),
        (lambda sim: sim.setup.param("warmth", 3.0), "no param 'rest'"),
    ],
)
def test_a_model_that_contradicts_itself_is_told_so(build, said):
    scenario = lt.Scenario(model(build), frames=3, params={"rest": 5} if "rest'" in said else {})
    with pytest.raises(lt.LarkTallyError, match=said):
        lt.record(scenario)


@pytest.mark.parametrize(
    ("rule", "row", "said"),
    [
        (lambda p: setattr(p["wick"], "gravty", 3), 21, "the model sets 'gravty', which a body does not have; did you mean 'gravity'"),
        (lambda p: setattr(p["facing"], "now", 3), 21, "which a value does not have; it has value. A value of your own is sim.value"),
        (lambda p: p["reach"].close(), 9, "row 9: step failed: hitbox 'reach' has no 'close'; it has open, shut, "),
        (lambda p: p["wick"].lunch(vy=3), 9, "body 'wick' has no 'lunch'; did you mean 'launch'?"),
        (lambda p: p["wick"].grounded.value, 9, "AttributeError: 'bool' object has no attribute 'value'"),
    ],
)  # fmt: skip
def test_a_misspelt_attribute_of_a_part_is_told_and_not_silently_nothing(rule, row, said):
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16))
        sim.value("facing", 1)
        sim.hitbox("reach", wick, size=(4, 4), offset=(8, 0), targets=[])
        sim.before("machines", lambda now: now.frame == 9 and rule(sim.parts))

    with pytest.raises(lt.SubjectFailed) as failed:
        run(build)
    assert said in str(failed.value) and failed.value.row == row and failed.value.trace.rows == row


def test_an_attribute_set_by_mistake_while_the_model_is_built_is_told_too():
    with pytest.raises(
        lt.SubjectFailed, match="the model sets 'bouncy', which a body does not have; did you mean 'bounce'"
    ):
        run(lambda sim: setattr(sim.body("wick", size=(12, 20), at=(24, 16)), "bouncy", 0.5))


def test_a_hook_hears_what_was_said_in_its_row_so_far():
    heard = []

    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16))
        moth = sim.under("moth")
        body = moth.body("body", size=(4, 4), at=(30, 20))
        reach = moth.hitbox("reach", body, size=(8, 8), offset=(0, 0), targets=[wick])
        sim.before("machines", lambda now: now.frame == 5 and reach.open("3f"))
        sim.after(
            "zones", lambda now: heard.extend((now.frame, e.data["target"]) for e in now.emitted("struck", "moth"))
        )
        sim.before("zones", lambda now: heard.extend(("early", e) for e in now.emitted("struck")))

    run(build)
    assert heard == [(5, "wick")]
    with pytest.raises(lt.SubjectFailed, match="no event 'stuck' in this sim; did you mean 'struck'"):
        run(lambda sim: (build(sim), sim.after("zones", lambda now: now.emitted("stuck"))))
    with pytest.raises(lt.SubjectFailed, match="row 1: step failed: now has no 'pres'; did you mean 'pressed'"):
        run(lambda sim: sim.after("zones", lambda now: now.pres("hop")))
