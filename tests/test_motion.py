"""Launches, limits, steering, sides and the apex against plain loops written from the docs."""

import math
import random

import numpy as np
import pytest
from tests.test_sim import assert_restores, model, run

import larktally as lt

FLOOR = 16.0


def plain_hops(script, gravity, limits, later, rate=60):
    """y, vy and the rows with an apex of a body on a floor, step by step; script is row -> launch speed."""
    y, vy, rose, rows, apexes = FLOOR, 0.0, False, [], []
    for row in range(1, 121):
        launched = row in script
        if launched:
            vy = script[row]
        rising, start = vy > 0, y
        if not (launched and later):
            vy -= gravity / rate
        for name, most in limits.items():
            if name in ("y", "up") and vy > most:
                vy = most
            if name in ("y", "down") and vy < -most:
                vy = -most
        y += vy / rate
        if y <= FLOOR and vy < 0:
            y, vy = FLOOR, 0.0
        if (rose or rising) and not vy > 0:
            apexes.append((row, max(start, y)))
        rose = vy > 0
        rows.append((y, vy))
    return rows, apexes


@pytest.mark.parametrize("later", [False, True])
@pytest.mark.parametrize(
    "limits", [{}, {"y": 200.0}, {"down": 150.0}, {"up": 180.0, "down": 260.0}, {"y": 240.0, "down": 90.0}]
)
@pytest.mark.parametrize("seed", range(4))
def test_a_hop_is_the_plain_loop_under_both_launch_conventions_and_limits_by_direction(later, limits, seed):
    pick = random.Random(seed)
    script = {row: pick.choice((60.0, 200.0, 360.0, 15.0)) for row in pick.sample(range(1, 110), 5)}
    gravity = pick.choice((900.0, 450.0))

    def build(sim):
        wick = sim.body(
            "wick", size=(12, 20), at=(24, FLOOR), gravity=gravity, limit=limits, shows=("apex", "limit", "gravity")
        )

        @sim.after("machines")
        def hop(now):
            if now.frame in script:
                wick.launch(vy=script[now.frame], gravity="later" if later else "now")

    trace = run(build, 120)
    rows, apexes = plain_hops(script, gravity, limits, later)
    assert trace["wick.y"].tolist()[1:] == [y for y, _ in rows] and trace["wick.vy"].tolist()[1:] == [
        vy for _, vy in rows
    ]
    assert [(event.row, event.data["at"]) for event in trace.events.named("apex")] == apexes
    assert set(trace["wick.gravity"]) == {gravity}
    for name, most in limits.items():
        assert set(trace[f"wick.limit.{name}"]) == {most}


def test_gravity_is_taken_off_in_the_launch_row_or_from_the_next_on():
    def build(when):
        def built(sim):
            wick = sim.body("wick", size=(12, 20), at=(24, FLOOR), gravity=900)
            sim.after("machines", lambda now: now.pressed("hop") and wick.launch(vy=300, gravity=when))

        return built

    script = lt.InputScript().press("hop", 3)
    now, later = (run(build(when), 8, script) for when in ("now", "later"))
    assert now["wick.vy"].tolist()[2:6] == [0, 285, 270, 255]
    assert later["wick.vy"].tolist()[2:6] == [0, 300, 285, 270]
    assert later["wick.y"][3] == FLOOR + 300 / 60


def test_a_launch_from_a_zone_counts_in_the_next_motion():
    def build(sim):
        pad = sim.zone(
            "pad",
            (40, 16),
            (50, 30),
            watch=[wick := sim.body("wick", size=(4, 4), at=(30, 16), velocity=(60, 0), gravity=900)],
        )
        sim.after("zones", lambda now: now.emitted("entered") and wick.launch(vy=300, gravity="later"))
        assert pad

    trace = run(build, 20)
    row = trace.events.named("entered")[0].row
    assert trace["wick.vy"].tolist()[row : row + 3] == [300, 300, 285] and trace["wick.y"][row + 1] == 21


@pytest.mark.parametrize("rate", [30, 60, 120])
def test_steering_by_an_acceleration_takes_the_same_time_at_every_rate_and_its_share_in_the_air(rate):
    def build(sim):
        walker = sim.body("walker", size=(4, 4), at=(0, 16), gravity=900)
        flyer = sim.body("flyer", size=(4, 4), at=(0, 60), air_steering=0.5)
        sim.before("motion", lambda now: (walker.steer(vx=120, by=480), flyer.steer(vx=-90, by=480)))

    trace = lt.record(model(build), frames=rate, rate=rate)
    for name, goal, by in (("walker", 120.0, 480.0), ("flyer", -90.0, 240.0)):
        speed, plain = 0.0, []
        for _ in range(rate):
            most = by / rate
            speed = goal if abs(goal - speed) <= most else speed + math.copysign(most, goal - speed)
            plain.append(speed)
        assert trace[f"{name}.vx"].tolist()[1:] == plain
    # A quarter of a second to 120 by 480 a second, whatever the rate.
    assert trace["walker.vx"].tolist().index(120.0) == math.ceil(rate / 4)


@pytest.mark.parametrize("up", ["+y", "-y", None])
@pytest.mark.parametrize("seed", range(6))
def test_touching_is_what_stands_exactly_flush_with_a_side(up, seed):
    pick = random.Random(seed)
    boxes = [lt.geometry.box_at((pick.randrange(0, 12) * 8, pick.randrange(0, 12) * 8), (8, 8)) for _ in range(14)]
    # Two of everything: boxes side by side, and one twice.
    boxes += [boxes[0], lt.geometry.box_at((boxes[1].low[0] + 8, boxes[1].low[1]), (8, 8))]
    level = lt.Level(boxes, up=up)
    speeds = [(pick.choice((-480, 0, 480, 90)), pick.choice((-480, 0, 480, -90))) for _ in range(60)]

    def build(sim):
        wick = sim.body("wick", size=(6, 8), at=(100, 100), shows=["touching"])

        @sim.before("motion")
        def go(now):
            wick.vx, wick.vy = speeds[now.frame - 1]
            if now.frame % 20 == 0:
                wick.put(pick.randrange(0, 12) * 8.0, 96.0)

    trace = run(build, 60, level=level)
    sides = {"left": (0, -1), "right": (0, 1), "below": (1, -1), "above": (1, 1)}
    if up == "-y":
        sides["below"], sides["above"] = sides["above"], sides["below"]
    met = 0
    for row in range(61):
        low = (trace["wick.x"][row], trace["wick.y"][row])
        high = (low[0] + 6, low[1] + 8)
        for side, (axis, way) in sides.items():
            flush = any(
                (low[axis] == box.high[axis] if way < 0 else high[axis] == box.low[axis])
                and low[1 - axis] < box.high[1 - axis]
                and box.low[1 - axis] < high[1 - axis]
                for box in boxes
            )
            met += flush
            assert trace[f"wick.touching.{side}"][row] == flush, (row, side)
    assert met > 2


def test_a_plank_is_touched_from_above_alone_and_a_wall_slide_needs_no_function():
    level = lt.Level.from_rows("......#.\n.==...#.\n......#.\n########", cell=16, one_way="=")

    def build(sim):
        moth = sim.body("moth", size=(8, 8), at=(20, 48), shows="touching")
        wick = sim.body("wick", size=(8, 8), at=(70, 60), gravity=900, limit={"down": 600}, shows="touching")
        gait = sim.machine("gait", ("air", "slide"), "air")
        gait.transition("air", to="slide", when="wick.touching.right and held('right') and not wick.grounded")
        gait.setting("slide", wick, limit={"down": 40.0})
        sim.before("motion", lambda now: wick.steer(vx=300 * now.axis("left", "right")))
        assert moth

    trace = run(build, 30, lt.InputScript().hold("right", 1, 30), level=level)
    assert trace["moth.touching.below"].all() and not trace["moth.touching.above"].any()
    row = int(np.flatnonzero(trace["gait"] == "slide")[0])
    assert trace["wick.touching.right"][row - 1] and trace["wick.vy"].tolist()[row : row + 3] == [-40, -40, -40]


@pytest.mark.parametrize(
    ("build", "said"),
    [
        (lambda sim: sim.body("b", size=(1, 1), at=(9, 50), shows="speed"), "no word 'speed'"),
        (lambda sim: sim.body("b", size=(1, 1), at=(9, 50), limit={"dwn": 3}), "no axis or direction 'dwn'"),
        (
            lambda sim: sim.body("b", size=(1, 1), at=(9, 50), limit={"down": -3}),
            "limit of down is a finite number of at least 0",
        ),
        (
            lambda sim: sim.body("b", size=(1, 1), at=(9, 50), integrator="explicit").launch(vy=9, gravity="later"),
            "not for explicit",
        ),
        (lambda sim: sim.body("b", size=(1, 1), at=(9, 50)).launch(vy=9, gravity="soon"), "no gravity 'soon'"),
        (lambda sim: sim.body("b", size=(1, 1), at=(9, 50)).steer(vx=9, by=0), "an acceleration above 0"),
        (lambda sim: sim.value("v", 3.0).turn(9, by=3), "is no angle"),
        (lambda sim: sim.value("v", 3.0, wraps=0), "wraps is a whole turn"),
        (lambda sim: sim.value("v", 3.0, wraps=360).turn(9, by=0), "a speed above 0"),
        (lambda sim: sim.value("v", 3.0, wraps=360).turn(math.nan, by=3), "goal is a finite number"),
        (lambda sim: sim.fan("f", sim.body("b", size=(4, 4), at=(9, 50)), "down", 3, 4), "looks along an axis"),
        (
            lambda sim: sim.fan("f", sim.body("b", size=(4, 4), at=(9, 50)), "-y", 3, math.inf),
            "a length is a finite number",
        ),
        (
            lambda sim: sim.hurtbox(
                "h", sim.body("b", size=(4, 4), at=(9, 50)), size=(1, 1), offset=(0, 0), shows="all"
            ),
            "no word 'all'",
        ),
    ],
)
def test_what_no_body_can_have_is_told(build, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        lt.record(model(build), frames=2)


@pytest.mark.parametrize(
    ("options", "said"),
    [({"limit": {"down": 3}}, "this level has no up"), ({"shows": "apex"}, "has no apex: this level has no up")],
)
def test_what_needs_an_up_is_an_error_without_one(options, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(lambda sim: sim.body("b", size=(1, 1), at=(9, 50), **options), 2, level=lt.Level([], up=None))


@pytest.mark.parametrize("full", [360.0, 1.0, 2 * math.pi])
@pytest.mark.parametrize("seed", range(6))
def test_an_angle_turns_to_its_goal_the_short_way_at_its_speed(full, seed):
    pick = random.Random(seed)
    start, speed = pick.uniform(-2, 3) * full, pick.uniform(0.1, 4) * full
    # The goal itself, a whole turn from it, and others.
    goals = [start, start + full, *(pick.uniform(-3, 3) * full for _ in range(4))]

    def build(sim):
        vane = sim.value("vane", start, wraps=full)
        there = sim.value("there", False)

        @sim.before("motion")
        def turn(now):
            there.value = vane.turn(goals[now.frame // 20 % len(goals)], by=speed)

    trace = run(build, 150)
    angle = start
    for row in range(1, 151):
        goal = goals[row // 20 % len(goals)]
        # The same angle in the nearest turn: of two as near, the one above.
        near = min((goal + full * n for n in range(-9, 10)), key=lambda g: (round(abs(g - angle), 9), -g))
        step = min(abs(near - angle), speed / 60)
        there = abs(near - angle) <= speed / 60
        angle = goal if there else angle + math.copysign(step, near - angle)
        assert trace["vane"][row] == pytest.approx(angle, abs=1e-9 * full) and trace["there"][row] == there, row
        angle = trace["vane"][row]


def test_half_a_turn_goes_upward():
    def build(sim):
        vane = sim.value("vane", 350, wraps=360)
        sim.before("motion", lambda now: vane.turn(170 if now.frame < 4 else 10, by=600))

    assert run(build, 6)["vane"].tolist() == [350, 360, 370, 380, 10, 10, 10]


@pytest.mark.parametrize("seed", range(4))
def test_a_fan_is_a_channel_for_each_of_its_rays_in_every_row(seed):
    pick = random.Random(seed)
    level = lt.Level(
        [lt.geometry.box_at((pick.randrange(0, 30) * 8, pick.randrange(0, 8) * 8), (8, 8)) for _ in range(40)]
    )
    seen = []

    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(100, 90), gravity=300)
        moth = sim.body("moth", size=(8, 8), at=(110, 80))
        feet = sim.fan("wick.feet", wick, "-y", 4, 40, bodies=[moth])
        gait = sim.machine("gait", ("low", "high"), "high")
        gait.transition("high", to="low", when="wick.feet.nearest < 20 and wick.feet.hits >= 1")
        sim.before("motion", lambda now: wick.steer(vx=60 * now.axis("left", "right")))

        @sim.after("zones")
        def plain(now):
            row = [math.inf] * 4
            for hit in lt.geometry.fan(wick, "-y", 4, 40, bodies=[moth]):
                row[hit.ray] = hit.distance
            seen.append(row)
            assert feet.nearest == min(row) and feet.hits == sum(d < math.inf for d in row)

    trace = run(build, 60, lt.InputScript.at_random({"left": 0.1, "right": 0.1}, 60, seed), level=level)
    assert [[trace[f"wick.feet.{n}"][row] for n in range(4)] for row in range(1, 61)] == seen
    assert trace["wick.feet.hits"].max() > 0


def test_parts_sims_and_live_runs_are_read_as_text():
    def build(sim):
        sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
        sim.cooldown("wick.rest", 9).use()
        sim.value("wick.mood", "calm")

    live = lt.Live(lt.Scenario(model(build), frames=9, name="dusk")).to(3)
    assert (
        repr(live) == "<Live dusk in row 3 of 9>"
        and repr(live.sim) == "<Sim in row 3: 3 parts, wick, wick.rest, wick.mood>"
    )
    assert repr(live.part("wick")) == "<Body wick: x 24, y 16, vx 0, vy 0, grounded true>"
    assert repr(live.part("wick.rest")) == "<Cooldown wick.rest: left 6, ready false>"
    assert repr(live.part("wick.mood")) == "<Value wick.mood: 'calm'>"
    assert live.part("wick.rest").table() == "wick.rest.left       6\nwick.rest.ready  false"
    assert live.table("wick.rest.*", "wick.m*").splitlines()[-1].split() == ["wick.mood", "'calm'"]
    assert live.table() == live.sim.table() and len(live.table().splitlines()) == 8
    with pytest.raises(lt.LarkTallyError, match="'wik'"):
        live.table("wik")
    # Before the run has begun a part says what it can.
    sim = lt.Sim(lt.Setup())
    assert repr(sim.body("wick", size=(1, 1), at=(0, 0))).startswith("<Body wick: x 0, y 0")


def test_a_recording_is_led_into_a_body_and_the_body_is_let_go_at_its_end():
    def walk(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
        sim.before("motion", lambda now: now.frame == 5 and wick.launch(vx=60, vy=300))

    recorded = run(walk, 40)
    for every in (1, "0.05s"):
        thin = recorded.thinned(every)

        def haunt(sim, thin=thin):
            ghost = sim.body("ghost", size=(12, 20), at=(24, 16))
            play = sim.playback("replay", thin, ghost, "wick")
            sim.after("machines", lambda now: now.frame == 10 and play.play())

        trace = run(haunt, 60)
        last = int(thin.row_frames[-1])
        for row in range(10, 10 + last + 1):
            frame = row - 10
            assert trace["replay.frame"][row] == frame and trace["replay.running"][row]
            place = [trace["ghost.x"][row], trace["ghost.y"][row]]
            assert place == pytest.approx([thin.at("wick.x", frame), thin.at("wick.y", frame)], abs=1e-9), row
        (done,) = trace.events.named("finished")
        assert done.row == 10 + last and not trace["replay.running"][done.row + 1]
        # Without a velocity of its own it stays where it was led.
        assert trace["ghost.x"][-1] == trace["ghost.x"][done.row] and trace["replay.off"].max() < 1e-9
        assert_restores(model(haunt), lt.InputScript(), 60, (9, 10, 30, done.row))
    wall = lt.Level([lt.geometry.box_at((0, 0), (300, 16)), lt.geometry.box_at((44, 16), (8, 80))])
    blocked = run(haunt, 60, level=wall)
    assert blocked["ghost.x"].max() == 32 and blocked["replay.off"].max() > 10
    with pytest.raises(lt.LarkTallyError, match="no channel 'wik.x' in the recording"):
        run(lambda sim: sim.playback("p", recorded, sim.body("b", size=(1, 1), at=(9, 50)), "wik"), 2)
    with pytest.raises(lt.LarkTallyError, match="not a whole number"):
        recorded.thinned("0.01s")


@pytest.mark.parametrize("full", [360.0, 7.0])
def test_guards_and_claims_turn_and_read_an_axis_alike(full):
    pick = random.Random(4)
    told = [
        (pick.choice((0.0, 350.0, -3.5, pick.uniform(-900, 900))), pick.choice((10.0, 180.0, 0.0))) for _ in range(200)
    ]

    def build(sim):
        a, b = sim.value("a", 0.0), sim.value("b", 0.0)
        sim.recent("near", f"turn(a, b, full={full}) >= 1.5", keep=0)
        sim.recent("right", "axis('left', 'right') > 0", keep=0)

        @sim.after("machines")
        def tell(now):
            a.value, b.value = told[now.frame - 1]

    script = lt.InputScript.at_random({"left": 0.2, "right": 0.2}, 200, 3)
    trace = run(build, 200, script)
    # Looked at in the timers phase: the values of the row before, and the inputs of its own.
    claims = [
        lt.claim("turn", f"always(near == prev(turn(a, b, full={full}) >= 1.5))"),
        lt.claim("axis", "always(right == (axis('left', 'right') > 0))"),
    ]
    assert lt.check(trace.window(1), claims[1:]).passed, str(lt.check(trace, claims))
    assert lt.check(trace, claims[:1]).passed and 20 < trace["near"].sum() < 180 and 5 < trace["right"].sum() < 195
