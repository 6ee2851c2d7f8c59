"""Motion and collision against brute force, closed forms and frame tables."""

import itertools
import math
import random
from functools import partial

import numpy as np
import pytest
from hypothesis import assume, example, given, reject, settings
from hypothesis import strategies as st
from tests.test_sim import QUAY, assert_restores, model, run

import larktally as lt
from larktally.parts.space import movers, rays
from larktally.parts.space.body import Body
from larktally.parts.space.crate import Crate
from larktally.parts.space.door import Door
from larktally.parts.space.movers import Movers
from larktally.parts.space.moving_box import MovingBox
from larktally.parts.space.platform import Platform
from larktally.parts.space.solid_box import SolidBox
from larktally.parts.space.sweep import grow, overlapping, sweep

quarter = st.integers(-24, 24).map(lambda n: n / 4)
awkward = st.floats(-6, 6, allow_subnormal=False).map(lambda x: round(x, 7))


def worlds(axes):
    """Boxes, a body's size, a start that overlaps nothing, and a displacement."""
    side = st.integers(1, 12).map(lambda n: n / 4) | st.floats(0.1, 3).map(lambda x: round(x, 5))
    corner = st.tuples(*[quarter | awkward] * axes)
    box = st.builds(lambda low, size: lt.geometry.box_at(low, size), corner, st.tuples(*[side] * axes))
    return st.tuples(
        st.lists(box, min_size=1, max_size=6),
        st.tuples(*[side] * axes),
        corner,
        st.tuples(*[st.floats(-15, 15) | quarter] * axes),
    )


def swept(boxes, size, start, move):
    solids = [grow(box, (0.0,) * len(size), size) for box in boxes]
    if any(overlapping(start, solid) for solid in solids):
        reject()
    position, way, velocity = list(start), list(move), [w * 60 for w in move]
    return position, sweep(position, way, velocity, solids), velocity, solids


@pytest.mark.slow
@settings(max_examples=250, deadline=None)
@given(worlds(2) | worlds(3))
def test_after_a_sweep_nothing_overlaps_and_contacts_are_exactly_on_the_surface(world):
    boxes, size, start, move = world
    position, contacts, velocity, solids = swept(boxes, size, start, move)
    assert not any(overlapping(position, solid) for solid in solids)
    assert [c.time for c in contacts] == sorted(c.time for c in contacts) and all(0 <= c.time <= 1 for c in contacts)
    for contact in contacts:
        solid = next(s for s in solids if s.box is contact.box)
        assert position[contact.axis] == (solid.low if contact.normal < 0 else solid.high)[contact.axis]
        assert velocity[contact.axis] == 0.0
    for i, way in enumerate(move):
        if i not in [c.axis for c in contacts]:
            assert math.isclose(position[i], start[i] + way, abs_tol=1e-9)


@pytest.mark.slow
@settings(max_examples=150, deadline=None)
@given(worlds(2) | worlds(3))
def test_no_box_is_passed_through(world):
    boxes, size, start, move = world
    *_, solids = swept(boxes, size, start, move)
    _, contacts, _, _ = swept(boxes, size, start, move)
    first = contacts[0].time if contacts else 1.0
    for n in range(401):
        share = n / 400
        if share < first - 1e-9:
            there = [p + way * share for p, way in zip(start, move)]
            inside = [s for s in solids if all(a + 1e-9 < p < b - 1e-9 for a, p, b in zip(s.low, there, s.high))]
            assert not inside, (share, first)


@pytest.mark.slow
@settings(max_examples=120, deadline=None)
@given(worlds(2))
def test_a_mirrored_world_gives_the_mirrored_path(world):
    boxes, size, start, move = world
    position, contacts, *_ = swept(boxes, size, start, move)
    assume(all(abs(a.time - b.time) > 1e-9 for a, b in itertools.combinations(contacts, 2)))
    mirrored = [lt.Box((-b.high[0], b.low[1]), (-b.low[0], b.high[1])) for b in boxes]
    other, turned, *_ = swept(mirrored, size, (-start[0] - size[0], start[1]), (-move[0], move[1]))
    assume([c.axis for c in contacts] == [c.axis for c in turned])
    assert math.isclose(other[0], -position[0] - size[0], abs_tol=1e-6) and math.isclose(
        other[1], position[1], abs_tol=1e-6
    )


def test_where_impacts_fall_together_the_first_axis_stops_first():
    boxes = [lt.geometry.box_at((2, -4), (1, 4)), lt.geometry.box_at((2, 0), (1, 1))]
    position, contacts, *_ = swept([boxes[0]], (1.0, 1.0), (0.0, 1.0), (2.0, -2.0))
    assert [c.axis for c in contacts] == [0] and position == [1.0, -1.0]


@pytest.mark.parametrize("speed", [10_000, 1_000_000])
def test_a_thin_wall_stops_a_body_at_any_speed(speed):
    level = lt.Level([lt.geometry.box_at((900, 0), (1, 50))])

    def model(setup):
        sim = lt.Sim(setup, level=level)
        sim.body("spark", size=(2, 2), at=(0, 10), velocity=(speed, 0))
        return sim

    trace = lt.record(model, frames=10)
    assert trace["spark.x"][-1] == 898.0
    (bump,) = trace.events.named("bumped")
    assert bump.data["axis"] == "x" and bump.data["normal"] == -1


@pytest.mark.parametrize("integrator", ["semi-implicit", "explicit", "leapfrog"])
@pytest.mark.parametrize(("height", "frames"), [(72, 24), (50, 17), (3.5, 1)])
def test_a_hop_reaches_its_apex_in_its_frame_under_each_integrator(integrator, height, frames):
    speed, gravity = lt.geometry.launch_for(height, frames, 60, integrator)

    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=gravity, integrator=integrator)
        sim.after("machines", lambda now: now.pressed("hop") and wick.launch(vy=speed))

    trace = run(build, 3 * frames + 10, lt.InputScript().press("hop", 1))
    height_reached = trace["wick.y"] - 16
    assert height_reached.max() == pytest.approx(height, rel=1e-12)
    assert height_reached.argmax() in (frames, frames + 1)
    assert lt.geometry.apex(speed, gravity, 60, integrator) == pytest.approx(height, rel=1e-12)


def test_units_per_frame_and_per_second_give_the_same_path():
    def build(sim):
        sim.body("a", size=(2, 2), at=(20, 40), velocity=(60, 0), gravity=900)
        sim.body("b", size=(2, 2), at=(20, 40), velocity=(1, 0), gravity=0.25, per="frame")

    trace = run(build, 40)
    assert trace["a.y"].tolist() == trace["b.y"].tolist() and trace["a.x"].tolist() == trace["b.x"].tolist()


def test_one_way_planks_hold_from_above_let_through_from_below_and_on_request():
    level = lt.Level.from_rows("....\n.==.\n....\n####", cell=16, one_way="=")

    def build(sim):
        wick = sim.body("wick", size=(8, 8), at=(20, 16), gravity=900)
        sim.after("machines", lambda now: now.pressed("hop") and wick.launch(vy=400))
        sim.before("machines", lambda now: setattr(wick, "falls_through", now.held("burst")))

    trace = run(build, 140, lt.InputScript().press("hop", 2).hold("burst", 90, 5), level=level)
    assert [e.row for e in trace.events.named("bumped")] == []
    assert trace["wick.y"][80] == 48.0 and trace["wick.y"][-1] == 16.0


def test_bounce_returns_a_share_of_the_speed_and_knock_holds_it():
    def build(sim):
        sim.body("ball", size=(4, 4), at=(30, 60), gravity=900, bounce=0.5)
        moth = sim.body("moth", size=(4, 4), at=(60, 16), gravity=900)

        def rule(now):
            moth.vx = -10
            if now.pressed("burst"):
                moth.knock(5, vx=60, vy=0)

        sim.after("machines", rule)

    trace = run(build, 60, lt.InputScript().press("burst", 10))
    assert trace["moth.vx"].tolist()[9:17] == [-10, 60, 60, 60, 60, 60, -10, -10]
    peaks = [v for v in trace["ball.vy"] if v > 0]
    assert max(peaks) == 142.5


def test_grounded_by_contact_and_by_probe_disagree_for_a_while_and_recent_bridges_an_edge():
    level = lt.Level.from_rows("......\n......\n##....", cell=16)

    def build(sim):
        sim.body("wick", size=(8, 8), at=(16, 16), velocity=(120, 0), gravity=900, probe=3)
        sim.recent("wick.on_edge", "wick.grounded", keep=4)

    trace = run(build, 20, level=level)
    off = trace["wick.grounded"].tolist().index(False)
    assert trace["wick.near_ground"].tolist().index(False) == off - 1
    assert trace["wick.on_edge"].tolist().index(False) == off + 5
    assert [e.name for e in trace.events][:1] == ["left_ground"]


def test_trouble_is_told_once_when_it_begins():
    def build(sim):
        wick = sim.body("wick", size=(8, 8), at=(20, 20))
        sim.after("machines", lambda now: now.pressed("hop") and wick.put(20, 10))
        sim.body("lost", size=(2, 2), at=(100, 30), velocity=(240, 0))

    trace = run(build, 30, lt.InputScript().press("hop", 5))
    assert [(e.row, e.name, e.source) for e in trace.events] == [
        (5, "overlapping", "wick"),
        (8, "out_of_bounds", "lost"),
    ]


def test_anchors_and_questions():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(40, 16), anchor="feet")
        moth = sim.body("moth", size=(4, 4), at=(60, 30), anchor="centre")
        assert wick.low == (34, 16) and wick.high == (46, 36) and wick.centre == (40, 26) and wick.feet == (40, 16)
        assert (
            lt.geometry.distance(wick, moth) == math.hypot(20, 4) and lt.geometry.distance(wick, moth, "edges") == 12.0
        )
        assert lt.geometry.nearest(wick, [wick, moth])[0] is moth and lt.geometry.touching(wick, [moth]) == []
        crate = lt.geometry.box_at((60, 16), (4, 4))
        assert lt.geometry.nearest(wick, [crate, lt.geometry.box_at((90, 16), (4, 4))], "edges") == (crate, 14.0)
        assert lt.geometry.in_front(wick, moth, 1) and not lt.geometry.in_front(wick, moth, -1)
        assert lt.geometry.within_radius_ahead(wick, moth, 15, 4, 1) and not lt.geometry.within_radius_ahead(
            wick, moth, 15, 2.9, 1
        )
        assert wick.would_overlap((0, -1)) and not wick.would_overlap((0, 0)) and wick.position == (40, 16)

    run(build, 1)


def test_a_strike_hits_each_target_once_for_each_opening_on_the_side_faced():
    def build(sim):
        wick = sim.body("wick", size=(8, 8), at=(40, 16))
        moths = [sim.body(f"moth.{n}", size=(4, 4), at=(x, 18)) for n, x in enumerate((50, 30, 90))]
        facing = sim.value("wick.facing", 1)
        swat = sim.hitbox("wick.swat", wick, size=(10, 10), offset=(9, 0), targets=moths, facing=facing)

        def rule(now):
            facing.value = -1 if now.frame >= 10 else 1
            if now.pressed("burst"):
                swat.open(4)

        sim.after("machines", rule)

    trace = run(build, 30, lt.InputScript().press("burst", 3).press("burst", 12))
    assert [(e.row, e.data["target"]) for e in trace.events.named("struck")] == [(3, "moth.0"), (12, "moth.1")]
    assert [k for k, v in enumerate(trace["wick.swat.open"]) if v] == [3, 4, 5, 6, 12, 13, 14, 15]


def test_an_animation_says_its_marks_before_the_machines_and_opens_strikes_in_its_spans():
    def build(sim):
        moth = sim.body("moth", size=(8, 8), at=(40, 16))
        wick = sim.body("wick", size=(4, 8), at=(52, 16))
        blade = sim.hitbox("moth.blade", moth, size=(12, 8), offset=(8, 0), targets=[wick])
        clips = {"hover": lt.Clip(2, loop=True), "swing": lt.Clip(8, marks={"blow": 3}, spans={"blade": (3, 5)})}
        pose = sim.animation("moth.pose", clips, "hover")
        pose.opens(blade, "blade")
        mood = sim.machine("moth.mood", ("idle", "strike", "struck"), "idle")
        mood.transition("idle", to="strike", when="pressed('hop')")(lambda now: pose.play("swing"))
        mood.transition("strike", to="struck", when="event('mark', source='moth.pose')")

    made, script = model(build), lt.InputScript().press("hop", 5)
    trace = lt.record(made, script, frames=18)
    assert trace["moth.pose.frame"].tolist()[:16] == [0, 1, 0, 1, 0, 0, 1, 2, 3, 4, 5, 6, 7, 7, 7, 7]
    assert [k for k, v in enumerate(trace["moth.blade.open"]) if v] == [8, 9, 10]
    said = [(e.row, e.name) for e in trace.events if e.name in ("mark", "struck", "finished")]
    assert said == [(8, "mark"), (8, "struck"), (13, "finished")] and trace["moth.mood"].tolist().index("struck") == 8
    assert_restores(made, script, 18, (3, 8, 11))


def test_zones_are_entered_left_gathered_snapped_to_and_end_a_run():
    level = lt.Level.from_rows(
        "........\n.r.m..f.\n########", cell=16, zones={"r": "rope", "m": "match", "f": "finish"}
    )

    def build(sim):
        wick = sim.body("wick", size=(4, 8), at=(4, 16), velocity=(60, 0), gravity=900)
        rope = sim.zone("rope", watch=[wick])
        sim.zone("match", watch=[wick], once=True)
        sim.zone("finish", watch=[wick], ends="home")
        sim.before("machines", lambda now: now.pressed("hop") and rope.snap(wick))

    trace = run(build, 200, lt.InputScript().press("hop", 15), level=level)
    named = [(e.name, e.source) for e in trace.events if e.name != "landed"]
    assert named == [
        ("entered", "rope"),
        ("left", "rope"),
        ("entered", "match"),
        ("gathered", "match"),
        ("entered", "finish"),
        ("end", "finish"),
    ]
    assert trace.header.end == "home" and trace["match.used"][-1]
    assert trace["wick.x"][15] == 22.0 + 1.0
    assert trace["rope.wick"].tolist().index(True) == trace.events.named("entered", "rope")[0].row


def test_a_platform_carries_who_stands_on_it_pushes_who_is_in_its_way_and_stops_short_of_crushing():
    def build(sim):
        sim.platform("barge", size=(16, 4), path=[(32, 16), (64, 16)], speed=60)
        sim.body("rider", size=(4, 8), at=(36, 20), gravity=900)
        sim.body("pushed", size=(4, 8), at=(60, 16), gravity=900)

    trace = run(build, 60)
    assert (np.diff(trace["rider.x"]) == np.diff(trace["barge.x"])).all() and (trace["rider.y"] == 20).all()
    assert trace["pushed.x"].max() == 80.0
    walled = lt.Level.from_rows("........\n.....#..\n########", cell=16)
    crushed = run(build, 60, level=walled)
    assert crushed.events.named("crushed")[0].data == {"body": "pushed"}
    assert not crushed.events.named("overlapping") and crushed["barge.x"].max() == 80 - 4 - 16


def test_inside_a_drifting_resizing_enclosure_a_body_stays_inside():
    def build(sim):
        wick = sim.body("wick", size=(4, 8), at=(44, 31), gravity=900)
        punt = sim.enclosure("punt", at=(30, 30), size=(30, 20), holds=[wick])

        def rule(now):
            punt.drift(60 * math.sin(now.frame / 9), 12 * math.cos(now.frame / 5))
            punt.resize(18 + 8 * math.cos(now.frame / 7), 18)
            wick.vx = 200 * now.axis("left", "right")

        sim.before("motion", rule)

    script = lt.InputScript.at_random({"left": 0.1, "right": 0.1}, 300, seed=3)
    trace = run(build, 300, script, level=lt.Level())
    say, ch = lt.language, lt.ch
    inside = (
        (ch("wick.x") >= ch("punt.x"))
        & (ch("wick.x") + 4 <= ch("punt.x") + ch("punt.width") + 1e-9)
        & (ch("wick.y") >= ch("punt.y"))
    )
    assert lt.check(trace, [lt.claim("inside", say.always(inside))]).passed
    assert not trace.events.named("overlapping")


def test_a_pool_has_every_slot_in_every_row():
    def build(sim):
        def spark(view):
            body = view.body("", size=(2, 2), at=(20, 40), velocity=(120, 0))
            mood = view.machine("mood", states=("bright", "dim"), start="bright")
            mood.transition("bright", to="dim", after=3)
            return body

        sparks = sim.pool("spark", spark, slots=2)

        def rule(now):
            if now.pressed("burst"):
                sparks.spawn()
            for one in sparks:
                if one.x > 30:
                    sparks.remove(one)

        sim.after("machines", rule)

    trace = run(build, 24, lt.InputScript().tap("burst", 3, 2, 3).press("burst", 20))
    assert [(e.row, e.name) for e in trace.events if e.source == "spark"][:3] == [
        (3, "spawned"),
        (5, "spawned"),
        (7, "full"),
    ]
    assert trace["spark.0.mood"].tolist()[2:9] == ["absent", "bright", "bright", "bright", "dim", "dim", "dim"]
    assert math.isnan(trace["spark.0.x"][2]) and trace["spark.0.x"][3] == 22.0 and trace["spark.0.x"][20] == 22.0
    assert trace["spark.1.present"].tolist()[4:7] == [False, True, True]


box_world = worlds(2) | worlds(3)


@pytest.mark.slow
@settings(max_examples=80, deadline=None)
@given(box_world)
@example(([lt.geometry.box_at((0.0, 0.0), (0.25, 0.25))], (0.25, 0.25), (0.0, 0.0), (1.0, -2.2250738585e-313)))
def test_rays_agree_with_many_rays_and_with_stepping_along(world):
    boxes, _, origin, direction = world
    assume(math.hypot(*direction) > 0.1)
    level = lt.Level(boxes, axes="xyz"[: len(origin)])
    found = lt.geometry.ray(level, origin, direction, 12.0)
    distances, _ = lt.geometry.many_rays(level, [origin], [direction], 12.0)
    unit = np.array(direction) / math.hypot(*direction)
    inside = next(
        (
            n
            for n in range(2401)
            if any(all(a < p < b for a, p, b in zip(x.low, np.array(origin) + unit * n / 200, x.high)) for x in boxes)
        ),
        None,
    )
    if found is None:
        assert not np.isfinite(distances[0]) and inside is None
    else:
        assert distances[0] == pytest.approx(found.distance, abs=1e-9)
        assert inside is None or found.distance <= inside / 200 + 1e-6


def test_a_fan_sees_the_ground_from_a_flush_body_and_lists_exactly_its_hits():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(40, 16))
        hits = lt.geometry.fan(wick, "-y", 5, 4)
        assert [hit.distance for hit in hits] == [0.0] * 5
        assert [hit.point[0] for hit in hits] == [40.5, 43.25, 46, 48.75, 51.5] and hits[0].normal == (0, 1)
        wick.put(122, 18)
        singles = [lt.geometry.ray(wick.level, (x, 18.5), (0, -1), 4.5) for x in (122.5, 125.25, 128, 130.75, 133.5)]
        assert len(lt.geometry.fan(wick, "-y", 5, 4)) == sum(hit is not None for hit in singles) == 2
        assert lt.geometry.fan(wick, "+x", 2, 9) == [] and lt.geometry.fan(wick, "-y", 5, 1) == []

    run(build, 1)


@pytest.mark.parametrize("seed", range(20))
def test_rays_meet_what_is_near_as_those_do_that_ask_everything_that_moves(seed, monkeypatch):
    hits = []

    def build(sim):
        pick, places = random.Random(seed), list(itertools.product((40, 48, 100, 160), (16, 24, 60)))
        movers = [sim.crate("crate", size=(8, 8), at=(200, 16), gravity=900, layer="wood")]
        moths = [sim.body(f"moth.{n}", size=(8, 8), at=(20 + 60 * n, 70), gravity=900, layer="moth") for n in range(3)]
        moths.append(sim.body("bold", size=(8, 8), at=(70, 70), gravity=900, layers=["solid", "wood"]))
        # Two in one place, too: of what is equally near the first that was made is met.
        for n, kind in enumerate(pick.choices(("platform", "door", "crate", "enclosure"), k=9)):
            name, at, size = f"{kind}.{n}", pick.choice(places), (pick.choice((8, 24)), 8)
            match kind:
                case "platform":
                    movers.append(sim.platform(name, size=size, path=[at, pick.choice(places)], speed=90))
                case "door":
                    movers.append(sim.door(name, at=at, size=size))
                case "crate":
                    movers.append(sim.crate(name, size=size, at=at, gravity=900))
                case "enclosure":
                    movers.append(sim.enclosure(name, at=at, size=(40, 40), holds=moths[n % 4 :][:1]))
        for n, moth in enumerate(moths):
            sim.fan(f"fan.{n}", moth, pick.choice(("+x", "-x", "-y")), 3, 60)

        def look(now):
            draw = now.random
            for moth in moths:
                side, length = draw.pick(("+x", "-x", "+y", "-y")), draw.pick((0.5, 40, 300))
                hits.extend(lt.geometry.fan(moth, side, 3, length, layers=draw.pick((None, ["moth", "wood"]))))
            way = draw.pick(((1, 0), (0, -1), (-1, -2)))
            hits.append(lt.geometry.ray(sim, (draw.pick((36, 50.5, 130)), 40), way, 500, bodies=[draw.pick(moths)]))
            for one in movers:
                if isinstance(one, Crate) and draw.chance(0.05):
                    one.solid = not one.solid
                if isinstance(one, (Door, Crate)) and draw.chance(0.05):
                    one.put(*draw.pick(places))

        # While it is built nothing has begun.
        hits.append(lt.geometry.ray(sim, (0, 20), (1, 0), 300))
        sim.before("motion", look)
        sim.after("motion", look)

    scenario = lt.Scenario(model(build, level=lt.Level([lt.geometry.box_at((0, 0), (256, 16))])), frames=60, seed=seed)

    def found():
        hits.clear()
        digest = lt.record(scenario).digest
        return digest, [hit and (*hit[:3], getattr(hit.what, "name", ""), hit.ray) for hit in hits]

    near = found()
    monkeypatch.setattr(rays, "_movers_near", lambda sim, low, high: (sim.parts_of(MovingBox), sim.parts_of(Crate)))
    assert found() == near and len(near[1]) > 300 and len({hit[3] for hit in near[1] if hit}) > 4


@pytest.mark.parametrize(
    ("build", "said"),
    [
        (lambda sim: sim.body("w", size=(-1, 2), at=(0, 0)), "body 'w': size is above 0"),
        (lambda sim: sim.body("w", size=(1, 2), at=(math.nan, 0)), "at is a finite number"),
        (lambda sim: sim.body("w", size=(1, 2, 3), at=(0, 0)), "size is 2 numbers"),
        (lambda sim: sim.body("w", size=(1, 2), at=(0, 0), layers=["oil"]), "no layer 'oil' in this level"),
        (
            lambda sim: sim.body("w", size=(1, 2), at=(0, 0), integrator="leap"),
            "no integrator 'leap' in body 'w'; did you mean 'leapfrog'",
        ),
        (lambda sim: sim.zone("rope", watch=[]), "no zone 'rope' in this level"),
        (lambda sim: lt.geometry.fan(sim.body("w", size=(4, 4), at=(40, 20)), "down", 3, 4), "looks along an axis"),
        (lambda sim: lt.geometry.fan(sim.body("w", size=(4, 4), at=(40, 20)), "-y", 1, 4), "at least 2 rays"),
        (lambda sim: lt.Level.from_rows("..\n...", cell=4), "row 2 has 3 characters, row 1 has 2"),
        (lambda sim: lt.Level.from_rows("..\n.x", cell=4), "row 2, column 2: 'x' stands for nothing"),
        (lambda sim: lt.Level([lt.Box((0, 0), (0, 1))]), "is not below high"),
        (lambda sim: lt.geometry.box_at((0, 0), (4, 0)), "sizes are finite and above 0"),
        (
            lambda sim: lt.geometry.box_at((0, 0, 0), (4, 4)),
            "a corner and a size have a number an axis each",
        ),
        (
            lambda sim: sim.animation("pose", {"swing": lt.Clip(4, marks={"blow": 4})}, "swing"),
            "a clip of 4 frames has no frames 4..4",
        ),
        (lambda sim: sim.animation("pose", {"swing": lt.Clip(4)}, "swin"), "no clip 'swin'; did you mean 'swing'"),
        (lambda sim: lt.geometry.ray(QUAY, (0, 0), (0, 0), 5), "a direction and a length"),
    ],
)
def test_what_cannot_stand_in_a_world_is_told_by_its_place(build, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(build, 1)


def test_everything_in_a_world_is_saved_and_restored():
    def build(sim):
        wick = sim.body("wick", size=(4, 8), at=(20, 16), gravity=900, probe=2)
        moth = sim.body("moth", size=(4, 4), at=(80, 30), gravity=300, bounce=0.8)
        facing = sim.value("wick.facing", 1)
        sim.recent("wick.on_edge", "wick.grounded", keep=3)
        swat = sim.hitbox("wick.swat", wick, size=(30, 30), offset=(9, 0), targets=[moth], facing=facing)
        sim.platform("barge", size=(16, 4), path=[(40, 20), (70, 20), (70, 40)], speed=45, round_trip="round")
        punt = sim.enclosure("punt", at=(76, 20), size=(30, 40), holds=[moth])
        sim.zone("rope", (30, 16), (50, 60), watch=[wick], once=True)
        sparks = sim.pool("spark", lambda view: view.body("", size=(2, 2), at=(20, 40), velocity=(90, 0)), slots=2)

        def rule(now):
            wick.vx = 90 * now.axis("left", "right")
            punt.drift(12 * math.sin(now.frame / 9), 0)
            if now.pressed("hop"):
                wick.launch(vy=260)
                swat.open(5)
            if now.pressed("burst"):
                sparks.spawn() or [sparks.remove(one) for one in sparks]
                moth.knock(4, vx=50)

        sim.after("machines", rule)

    script = lt.InputScript.at_random({"left": 0.06, "right": 0.1, "hop": 0.05, "burst": 0.05}, 160, seed=6)
    assert_restores(model(build), script, 160, (25, 70, 121))


@pytest.mark.slow
@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(-2, 30), st.integers(0, 5), st.booleans()), max_size=8),
    st.integers(0, 10**6),
    st.sampled_from([0.0, 900.0]),
    st.sampled_from([0.0, 0.5]),
    st.sampled_from(["+y", "-y"]),
    st.sampled_from([(256,), (64, 64, 64, 64), (100, 6, 50, 100), (150, 40)]),
    st.booleans(),
)
def test_the_short_way_through_a_frame_gives_the_same_bits_as_the_sweep(
    crates, seed, gravity, bounce, up, floor, ferry
):
    script = lt.InputScript.at_random({"left": 0.05, "right": 0.08, "hop": 0.05}, 200, seed)
    boxes = [lt.geometry.box_at((x * 8, 16 + y * 8), (8, 8)) for x, y, _ in crates]
    starts = [sum(floor[:n]) for n in range(len(floor))]
    ground = [lt.geometry.box_at((x, 0), (width, 16)) for x, width in zip(starts, floor)]
    level = lt.Level([*ground, *boxes], up=up)

    def traced(short):
        def build(sim):
            wick = sim.body("wick", size=(6, 10), at=(100, 120), gravity=gravity, bounce=bounce)
            wick._short = wick._short and short
            if ferry:
                sim.platform("ferry", size=(30, 6), path=[(40, 30), (180, 30), (180, 90)], speed=70)

            def steer(now):
                wick.vx = 90.5 * now.axis("left", "right")
                if now.pressed("hop"):
                    wick.launch(vy=250 * wick.up_sign)

            sim.before("motion", steer)
            sim.after(
                "motion",
                lambda now: [now.emit("met", at=list(c[:2]), time=c.time, box=list(c.box.low)) for c in wick.contacts],
            )

        return run(build, 200, script, level=level, events=("met",))

    assert traced(True).digest == traced(False).digest


def meddle(body, chance):
    """What rules do to a body beside steering it: numbers turned, places and speeds set, and what only the sweep can tell."""
    match chance.pick(range(16)):
        case 0:
            body.gravity = chance.pick([0.0, 400.0, 900.0, 900])
        case 1:
            body.limit = chance.pick([{}, {"x": 60}, {"down": 100}])
        case 2:
            body.limit.pop("x", None)
        case 3:
            body.put(body.x + chance.pick([-8.0, 0.25, 8.0]), body.y)
        case 15:
            body.put(body.x, chance.pick([16.0, 40.0]))
            body.grounded = chance.pick([False, True])
        case 4:
            body.x += chance.pick([-64, -0.5, 8, 64])
        case 5:
            body.y += chance.pick([-0.5, 0.5, 16])
        case 14:
            # At -0.0 the sign stays where it does not move.
            body.x, body.vx = -0.0, 0.0
        case 6:
            body.vy = chance.pick([-0.0, -3.0, 60.0])
        case 7:
            body.bounce = chance.pick([0.0, 0.5])
        case 8:
            body.falls_through = not body.falls_through
        case 9:
            body.launch(vy=250 * body.up_sign, gravity="later" if body.integrator == "semi-implicit" else "now")
        case 10:
            body.knock(3, vx=chance.pick([-60.0, 240.0]))
        case 11:
            body.integrator = chance.pick(["semi-implicit", "explicit", "leapfrog"])
        case 12:
            body.on_contact = chance.pick(
                [None, lambda one, contact: one.emit("landed", on="", speed=0.0, time=contact.time)]
            )
        case 13:
            body.probe = chance.pick([None, 2.0])


def tell_contacts(sim, bodies):
    """Says in each row what every body met, so that a digest holds that, too."""
    sim.after(
        "motion",
        lambda now: [
            now.emit("met", at=list(c[:2]), time=c.time, speed=c.speed, box=list(c.box.low))
            for body in bodies
            for c in body.contacts
        ],
    )


def assert_short_as_swept(made, build, seed, frames, every):
    """Asserts that a world is the same where no body of it goes a short way, and comes back from its saved states."""
    runs = []
    for short in (True, False):
        scenario = lt.Scenario(made(partial(build, short=short)), seed=seed, frames=frames, allow_nan=True)
        runs.append(lt.record(scenario, states=range(0, frames, every)))
    one, other = runs
    assert one.digest == other.digest
    assert one.states == other.states
    # Back and forth in one sim: what was known of a body's way where it came from is not known where it goes.
    live = lt.Live(lt.Scenario(made(build), seed=seed, frames=frames, allow_nan=True))
    rows = list(one.states)
    for row, later in random.Random(seed).sample(list(zip(rows, rows[1:])), 12):
        live.load(one.states[row], row)
        live.to(later)
        assert live.save() == one.states[later]


@pytest.mark.parametrize("seed", range(60))
def test_rules_that_meddle_with_a_body_see_no_difference_between_the_short_way_and_the_sweep(seed):
    def build(sim, short=True):
        start = sim.stream("start")
        bodies = []
        for n in range(4):
            # On whole cells and beside them, at flush edges and in the air.
            at = (start.pick([40, 64, 100, 128, 150.5]) + 8 * n, start.pick([16, 16, 17, 60]))
            body = sim.body(f"moth.{n}", size=(8, 8), at=at, gravity=900, bounce=start.pick([0, 0, 0.5]))
            body._short = short
            bodies.append(body)

        if seed % 2:
            # Carried, pushed and walked over, flush with the quay and above it.
            sim.platform("barge", size=(24, 8), path=[(90, 16), (140, 16), (140, 40)], speed=start.pick([45, 480]))
            sim.platform("raft", size=(30, 4), path=[(-60, 12), (0, 12)], speed=60, one_way=True)
            if seed % 4 == 1:
                sim.crate("crate", size=(8, 8), at=(24, 16), gravity=900, share=1.0)

        def rule(now):
            for body in bodies:
                chance = now.random
                if chance.chance(0.2):
                    body.vx = chance.pick([0.0, -0.0, 60.0, -60.0, 480.0, -480.0, 75.5])
                if body.grounded and chance.chance(0.05):
                    body.launch(vy=250)
                if chance.chance(0.04):
                    meddle(body, chance)

        sim.before("motion", rule)
        tell_contacts(sim, bodies)

    floor = [lt.geometry.box_at((64 * n, 0), (64, 16)) for n in (2, 0, -1, 1, 3)]
    more = [lt.geometry.box_at((160, 16), (8, 8)), lt.geometry.box_at((56, 24), (40, 2), one_way=True)]
    level = lt.Level([*floor, *more, lt.geometry.box_at((120, 48), (40, 8))])
    assert_short_as_swept(partial(model, events=("met",), level=level), build, seed, frames=240, every=7)


def test_who_is_put_onto_a_floor_and_said_to_be_grounded_has_landed():
    def build(sim):
        moth = sim.body("moth", size=(8, 8), at=(40, 60), gravity=900)

        def rule(now):
            if now.frame == 3:
                moth.put(40, 16)
                moth.grounded = True

        sim.before("motion", rule)

    trace = run(build, 8, level=lt.Level([lt.geometry.box_at((0, 0), (400, 16))]))
    assert [(event.row, event.name) for event in trace.events] == [(3, "landed")]


# As far above its place as one of half its size, and not as far below.
WIDE = {"size": (16, 16), "anchor": "centre"}


@pytest.mark.parametrize(
    "other",
    [{"size": (8, 24)}, {"size": (24, 8)}, {"anchor": "centre"}, {"anchor": "feet"}, {"layers": ["rope"]}, WIDE],
)
def test_what_one_body_found_in_a_level_is_not_what_one_of_another_shape_meets(other):
    # A beam that is too low for some, a rope that stops others, and a wall.
    solids = [lt.geometry.box_at((0, 0), (400, 16)), lt.Box((120, 16), (130, 60)), lt.Box((70, 30), (80, 36))]
    boxes = [*solids, lt.Box((90, 8), (110, 24), "rope")]

    def built(kinds, level):
        def build(sim):
            for name, options in kinds.items():
                moth = sim.body(
                    name, **({"size": (8, 8), "at": (40, 60), "gravity": 900, "layers": ["solid"]} | options)
                )
                sim.before("motion", lambda now, moth=moth: moth.steer(vx=60.0))

        return run(build, 120, level=level)

    shared = lt.Level(boxes)
    both = built({"moth": {}, "other": other}, shared)
    after = built({"other": other}, shared)
    alone = built({"other": other}, lt.Level(boxes))
    for name in alone.channels:
        assert list(both[name]) == list(after[name]) == list(alone[name])
    assert list(alone["other.x"]) != list(both["moth.x"]) or list(alone["other.y"]) != list(both["moth.y"])


@pytest.mark.parametrize("place", [{"x": -20.0, "vx": 1440.0}, {"y": 140.0, "vy": -1500.0}])
def test_who_is_put_beyond_a_wall_that_was_out_of_reach_does_not_come_back_through_it(place):
    def build(sim):
        moth = sim.body("moth", size=(8, 8), at=(60, 60))

        def rule(now):
            if now.frame == 10:
                for name, value in place.items():
                    setattr(moth, name, value)

        sim.before("motion", rule)

    # Both in cells of their own, which the moth had no reason to look at.
    walls = [lt.geometry.box_at((-12, 0), (4, 120)), lt.geometry.box_at((0, 130), (120, 4))]
    floors = [lt.geometry.box_at((x, -64), (64, 64)) for x in range(-128, 256, 64)]
    trace = run(build, 20, level=lt.Level([*floors, *walls, lt.geometry.box_at((-128, 400), (64, 64))]))
    assert [event.name for event in trace.events] == ["bumped" if "x" in place else "landed"]
    assert (trace["moth.x"][20], trace["moth.y"][20]) == ((-20, 60) if "x" in place else (60, 134))


@pytest.mark.parametrize("speed", [-60.0, -75.5, -240.0])
def test_a_body_meets_what_is_where_it_stands_wherever_it_looked_or_was_before(speed):
    # Tiles of a floor, and a plank over them that begins with a cell: it is walked off to the left.
    tiles = [lt.geometry.box_at((40 * n, 0), (40, 16)) for n in range(6)]
    level = lt.Level([*tiles, lt.geometry.box_at((240, 60), (40, 4))])

    def build(sim, looks=None):
        moth = sim.body("moth", size=(8, 8), at=(251.5, 64), gravity=900)

        def rule(now):
            # By a limit it is swept in every frame.
            moth.limit, moth.vx = {"x": 600}, speed
            if looks is not None:
                moth.would_overlap((looks, -20))

        sim.before("motion", rule)

    plain = lt.record(lt.Scenario(model(build, level=level), frames=40), states=1)
    assert [event.name for event in plain.events] == ["left_ground", "landed"]
    for looks in range(-90, 10, 4):
        assert run(partial(build, looks=looks), 40, level=level).digest == plain.digest
    live = lt.Live(lt.Scenario(model(build, level=level), frames=40))
    for row, was in itertools.product(range(30), (0, 10, 25, 39)):
        live.load(plain.states[was], was)
        live.to(was + 1)
        live.load(plain.states[row], row)
        live.to(row + 1)
        assert live.save() == plain.states[row + 1]


def test_an_integrator_that_a_rule_sets_counts_from_the_next_row_on():
    def build(sim):
        moth = sim.body("moth", size=(4, 4), at=(20, 100), velocity=(0, 60), gravity=600)

        def turn(now):
            if now.frame > 1:
                moth.integrator = "explicit" if now.frame < 4 else "leapfrog"

        sim.before("motion", turn)

    # Each row's way: by the speed after its gravity, by the one before it, and by the mean of both.
    speeds = [60 - 10 * n for n in range(6)]
    ways = [speeds[1], speeds[1], speeds[2], (speeds[3] + speeds[4]) / 2, (speeds[4] + speeds[5]) / 2]
    assert np.allclose(np.diff(run(build, 5)["moth.y"]) * 60, ways)


def test_a_rule_that_stands_a_platform_elsewhere_or_changes_its_size_is_met_where_it_is_now():
    def build(sim):
        moth = sim.body("moth", size=(4, 4), at=(300, 40), gravity=900)
        barge = sim.platform("barge", size=(8, 8), path=[(20, 30)], speed=0)
        far = sim.platform("far", size=(8, 8), path=[(900, 30)], speed=0)

        def rule(now):
            match now.frame:
                case 20:
                    barge.position = [296, 60]
                    moth.put(300, 90)
                case 60:
                    barge.size = (4, 8)
                case 90:
                    moth.put(300, 90)
                    barge.size, barge.position = (8, 8), (298, 60)
                    barge.one_way = True
                case 91:
                    moth.put(300, 62)
                case 120:
                    # Larger than all cells of a look.
                    far.position, far.size = (-2000, 70), (5000, 8)
                    moth.put(300, 90)

        sim.before("motion", rule)

    trace = run(build, 150, level=lt.Level([lt.geometry.box_at((0, 0), (1200, 16))]))
    y = trace["moth.y"]
    # On the quay, on the platform that came, off it where it became narrow, through it from inside of it, on the long one.
    assert [y[row] for row in (19, 59, 89, 119, 149)] == [16, 68, 16, 16, 78]
    assert y[91] < 62 and [event.name for event in trace.events if event.name == "overlapping"] == []


@pytest.mark.parametrize("kinds", list(itertools.permutations(("platform", "door", "crate"), 2)))
def test_of_two_that_are_met_at_once_the_one_that_was_made_first_is_landed_on(kinds):
    def build(sim):
        # Two of each, the left one made first or last, so that their places say nothing.
        for at, places in ((40, (0, 1)), (140, (1, 0))):
            for n in places:
                x, name = at + 12 * n, f"{kinds[n]}.{at}.{n}"
                match kinds[n]:
                    case "platform":
                        sim.platform(name, size=(12, 8), path=[(x, 16)], speed=0)
                    case "door":
                        sim.door(name, at=(x, 16), size=(12, 8))
                    case "crate":
                        sim.crate(name, size=(12, 8), at=(x, 16))
        for at in (40, 140):
            sim.body(f"moth.{at}", size=(4, 4), at=(at + 10, 30), gravity=900)

    landed = [event.data["on"] for event in run(build, 30).events if event.name == "landed"]
    assert sorted(landed) == sorted([f"{kinds[0]}.40.0", f"{kinds[1]}.140.1"])


@pytest.mark.parametrize("seed", range(30))
def test_who_is_plainly_too_far_from_what_moves_makes_no_difference(seed, monkeypatch):
    def build(sim):
        chance = random.Random(seed)
        for n in range(chance.randint(1, 3)):
            # A way of 0 to -0.0, and one that is no float64 exactly.
            ends = [chance.randint(0, 200), -0.0, 0.1, chance.uniform(1e-9, 200)]
            path = [(chance.choice(ends), chance.choice([16, 16, 40])) for _ in range(chance.randint(2, 4))]
            speed = chance.choice([30, 60, 960, 5000])
            sim.platform(
                f"barge.{n}", size=(chance.choice([8, 40]), 8), path=path, speed=speed, one_way=chance.random() < 0.2
            )
        gate = sim.door("gate", at=(120, 16), size=(8, 20))
        for n in range(chance.randint(0, 4)):
            # Side by side, so that one that is pushed pushes the next.
            sim.crate(f"crate.{n}", size=(8, 8), at=(60 + 8 * n, 16), gravity=900, share=1.0)
        leaves = chance.choice(["nothing", "whole"])
        bodies = [
            sim.body(
                f"moth.{n}",
                size=(6 + 20 * (n == 5), 6),
                at=(20 + 31 * n, chance.choice([19, 27, 60])),
                gravity=900,
                leaves_with=leaves,
                anchor="centre",
            )
            for n in range(6)
        ]

        def rule(now):
            for body in bodies:
                if now.random.chance(0.05):
                    body.vx = now.random.between(-200, 200)
                if body.grounded and now.random.chance(0.03):
                    body.launch(vy=250)
            if now.frame % 40 == 5:
                gate.lead_to(now.random.pick([40, 120, 180]), 16, speed=now.random.pick([60, 2000]))
            if now.frame % 40 == 25:
                speed = now.random.pick([30, 600, None])
                gate.resize(now.random.pick([8, 40]), now.random.pick([20, 60.5]), speed=speed)

        sim.before("motion", rule)

    level = lt.Level([lt.geometry.box_at((0, 0), (256, 16)), lt.geometry.box_at((200, 16), (8, 30))])
    near = run(build, 160, level=level)
    # One of each is looked at anew from both sides: the platform at the bodies, and the bodies at all that moves.
    monkeypatch.setattr(SolidBox, "bodies_within", lambda self, low, high: self.sim.parts_of(Body))
    assert run(build, 160, level=level).digest == near.digest
    monkeypatch.setattr(Movers, "near", lambda self, low, high: self.all)
    assert run(build, 160, level=level).digest == near.digest


@pytest.mark.parametrize("seed", range(12))
def test_whoever_moves_a_body_it_is_found_where_it_is(seed, monkeypatch):
    pick = random.Random(seed)
    # The last of six with a third axis, and the one before upside down.
    deep, rest = (8,) * (seed % 6 == 5), (0,) * (seed % 6 == 5)
    sign = 1 - 2 * (seed % 6 == 4)
    floor = lt.geometry.box_at((-200, -16 * (sign > 0), *rest), (1800, 16, *deep))
    level = lt.Level([floor], axes="xyz" if deep else "xy", up="-y" if sign < 0 else "+y")
    found, swept = [], []
    monkeypatch.setattr(Body, "_swept", lambda body, known=Body._swept: known(body) or swept.append(body))

    def look(sim):
        bodies = sim.parts_of(Body)
        for body in bodies:
            for side in (0, 90):
                low, high = [p - side for p in body.low], [p + side for p in body.high]
                near = sim.movers.bodies_near(low, high)
                there = [one for one in bodies if not (any(map(math.isnan, one.position)) or apart(one, low, high))]
                assert set(there) <= set(near) and near == [one for one in bodies if one in near]
                found.append(len(near))

    def apart(body, low, high):
        sides = list(zip(body.low, body.high, low, high))[:2]
        return any(here_high < start or here_low > end for here_low, here_high, start, end in sides)

    def build(sim):
        for n in range(4):
            at = (300.0 * n, 40.0 * sign, *rest)
            sim.platform(
                f"barge.{n}", size=(pick.choice([8, 24]), 8, *deep), path=[at, (at[0] + 90, *at[1:])], speed=60
            )
        bodies = [sim.crate("crate", size=(8, 8, *deep), at=(500, 0 if sign > 0 else -8, *rest), gravity=900)]
        for n in range(8):
            # One is in more cells than are looked through.
            size = (3000, 40, *deep) if n == 5 else (pick.choice([6, 30]), 8, *deep)
            at = (pick.randint(0, 1200), 200 * sign if n == 5 else 0 if sign > 0 else -8, *rest)
            bodies.append(sim.body(f"moth.{n}", size=size, at=at, gravity=900 * (n != 5)))
        bodies[2].on_contact = lambda body, contact: look(sim)

        def rule(now):
            draw = now.random
            for body in bodies:
                if draw.chance(0.03):
                    body.vx = draw.pick([0.0, 60.0, -240.0, 977.0])
                if draw.chance(0.02) and body.grounded:
                    body.launch(vy=300 * sign)
                if draw.chance(0.01):
                    body.x += draw.pick([-64, 64, 0.5, 300])
                if draw.chance(0.01):
                    body.y += draw.pick([-1.5, 48]) * sign
                if draw.chance(0.005):
                    body.put(draw.pick([0.0, 600.0, 1e7]), 90 * sign, *rest)
                if draw.chance(0.003):
                    body.x = draw.pick([math.nan, math.inf])
                if draw.chance(0.01):
                    body.shift([draw.pick([90.0, -7.0]), 0.0, *rest])
                if not math.isfinite(body.x) and draw.chance(0.3):
                    body.put(draw.pick([40.0, 700.0]), 60 * sign, *rest)

        sim.before("motion", rule)
        sim.after("motion", lambda now: look(sim))

    scenario = lt.Scenario(model(build, level=level), seed=seed, frames=150, allow_nan=True)
    trace = lt.record(scenario, states=30)
    assert (deep or len(swept) < 0.8 * 9 * 150) and sum(found) / len(found) < 8
    live = lt.Live(scenario).to(140)
    for row in (60, 120, 30):
        live.load(trace.states[row], row)
        live.to(row + 20)


@pytest.mark.parametrize(
    ("at", "move", "end"),
    [
        # It stands at the edge of two cells, is away for no row, comes back into one of them, and goes into the other one.
        (158, lambda moth, x: moth.put(x, 100), 149),
        (158, lambda moth, x: setattr(moth, "x", x), 149),
        (158, lambda moth, x: moth.shift([x - moth.x, 0]), 149),
        # It was in one alone, stands less than what touches from the edge, and goes over it.
        (150, None, 165.5),
    ],
)
def test_who_went_into_another_cell_in_plain_steps_is_pushed_out_of_there(at, move, end):
    def build(sim):
        gate = sim.door("gate", at=(end, 60), size=(8, 8))
        moth = sim.body("moth", size=(4, 4), at=(at, 100))

        def rule(now):
            if move and now.frame == 12:
                move(moth, 500.0)
                move(moth, 165.0)
            elif not move and now.frame == 4:
                moth.x = 155.5
            moth.vx = (-120.0 if move else 75.0) * (12 <= now.frame < 20)
            if now.frame in (1, 20):
                gate.lead_to(end, 61 if now.frame == 1 else 110, speed=6000)

        sim.before("motion", rule)

    trace = run(build, 40, level=lt.Level([lt.geometry.box_at((0, 0), (600, 16))]))
    assert trace["moth.x"][19] == end and trace["moth.y"][39] == 118


@pytest.mark.parametrize("seed", range(40))
def test_who_is_known_to_be_clear_of_what_moves_goes_as_who_looks_in_every_frame(seed, monkeypatch):
    def build(sim):
        chance = random.Random(seed)
        doors = []
        for n in range(chance.randint(1, 5)):
            side = chance.choice([4, 8, 16])
            doors.append(
                sim.door(f"gate.{n}", at=(40 * n, chance.choice([16, 40])), size=(side, chance.choice([8, 32])))
            )
        for n in range(chance.randint(0, 2)):
            path = [(chance.randint(0, 200), 60), (chance.choice([0, 96, 160]), 60)]
            sim.platform(f"barge.{n}", size=(24, 8), path=path, speed=chance.choice([30, 60, 960]), one_way=n > 0)
        bodies = [sim.body(f"moth.{n}", size=(8, 8), at=(20 + 40 * n, 16 + 8 * n), gravity=900) for n in range(5)]

        def rule(now):
            draw = now.random
            for body in bodies:
                if draw.chance(0.06):
                    # Whole cells, fast through a thin door, and to where it stands flush.
                    body.vx = draw.pick([0.0, 60.0, -60.0, 240.0, -480.0, 1920.0, -0.0, draw.between(-200, 200)])
                if draw.chance(0.03):
                    body.launch(vy=draw.pick([120, 300, 480]))
                if draw.chance(0.01):
                    body.put(draw.pick([32.0, 48.0, 120.5]), draw.pick([16.0, 48.0, 90.0]))
            if draw.chance(0.1):
                door = draw.pick(doors)
                match draw.pick(["lead", "put", "resize", "place", "halt", "away", "huge"]):
                    case "lead":
                        door.lead_to(draw.pick([8, 48, 112]), draw.pick([16, 24, 48]), speed=draw.pick([60, 120, 960]))
                    case "put":
                        door.put(draw.pick([8, 56, 120]), 16)
                    case "resize":
                        door.resize(draw.pick([4, 16]), draw.pick([8, 24, 40]), speed=draw.pick([None, 60]))
                    case "place":
                        door.position = (draw.pick([0, 64, 100]), 16)
                    case "halt":
                        door.halt()
                    case "away":
                        door.position = (1e300, 16)
                    case "huge":
                        # In so many cells that it is near everything.
                        door.resize(4000, 8)

        # In the middle of the motion, too: a door moved by hand after some bodies have gone, and before others.
        sim.before("motion", rule)
        if seed % 3 == 0:
            sim.after("motion", rule)

    level = lt.Level([lt.geometry.box_at((0, 0), (256, 16)), lt.geometry.box_at((224, 16), (8, 64))])
    if seed % 2:
        # The table is made anew every few cells, as in a level that is as large as can be.
        monkeypatch.setattr(movers, "MOST_KNOWN", 8)
    known = run(build, 240, level=level)
    looked = []
    monkeypatch.setattr(Movers, "patch", lambda self, low, high: looked.append(low))
    assert run(build, 240, level=level).digest == known.digest
    assert len(looked) > 50  # it was taken away, and is asked for as long as something moves


def walled(sim, then):
    """A moth that walks toward a tall door, in plain steps after two frames, while something happens with the door."""
    gate = sim.door("gate", at=(300, 16), size=(8, 200))
    moth = sim.body("moth", size=(8, 8), at=(20, 16), gravity=900)
    sim.before("motion", lambda now: setattr(moth, "vx", 60.0))
    sim.before("motion", lambda now: now.frame == 60 and then(gate))


def test_a_wall_that_comes_to_be_everywhere_is_met_by_who_was_clear_of_all():
    def build(sim):
        sim.door("post", at=(500, 16), size=(8, 8))
        walled(sim, lambda gate: None)

        def widen(now):
            post = now.sim.parts["post"]
            if now.frame == 60:
                post.resize(100_000, 40)
            if now.frame == 62:
                post.position = (120, 16)

        sim.before("motion", widen)

    trace = run(build, 120, level=lt.Level([lt.geometry.box_at((0, 0), (1000, 16))]))
    assert trace["moth.x"][-1] == 120 - 8


def test_a_table_made_anew_is_heard_of_by_who_was_clear_of_all(monkeypatch):
    # Who flies through many cells has the table made anew, in which the door comes nearer.
    monkeypatch.setattr(movers, "MOST_KNOWN", 8)

    def build(sim):
        sim.body("wick", size=(8, 8), at=(20, 400), velocity=(30_000, 0))
        walled(sim, lambda gate: gate.lead_to(100, 16, speed=600))

    trace = run(build, 120, level=lt.Level([lt.geometry.box_at((0, 0), (100_000, 16))]))
    assert trace["moth.x"][-1] == 100 - 8


def test_who_stands_hardly_farther_than_what_counts_as_near_is_stopped_all_the_same():
    def build(sim):
        sim.door("gate", at=(120, 16), size=(8, 40))
        moth = sim.body("moth", size=(8, 8), at=(120 - 8 - 1.0000005, 16), gravity=900)
        sim.before("motion", lambda now: setattr(moth, "vx", 6.0 * (now.frame > 5)))

    trace = run(build, 40, level=lt.Level([lt.geometry.box_at((0, 0), (1000, 16))]))
    assert trace["moth.x"][-1] == 112


def test_a_path_that_a_rule_changes_is_measured_anew(monkeypatch):
    def build(sim):
        lift = sim.platform("lift", size=(8, 8), path=[(10, 60), (20, 60), (20, 72)], speed=6000)

        def change(now):
            if now.frame == 10:
                lift.round_trip = "round"
            if now.frame == 20:
                lift.path[1] = (31.0, 60.0)
            if now.frame == 30:
                lift.path = [[10.0, 60.0], [50.0, 60.0]]

        sim.before("motion", change)

    known = run(build, 40)

    def measured(lift):
        legs = math.fsum(map(math.dist, lift.path, lift.path[1:]))
        return legs + math.dist(lift.path[-1], lift.path[0]) if lift.round_trip == "round" else 2 * legs

    monkeypatch.setattr(Platform, "_round_way", measured)
    assert run(build, 40).digest == known.digest


@pytest.mark.parametrize("anchor, y", [("corner", 80), ("centre", 90), ("feet", 100)])
def test_who_stands_on_a_lift_is_carried_where_y_grows_downward(anchor, y):
    level = lt.Level([lt.geometry.box_at((0, 200), (400, 16))], up="-y")

    def build(sim):
        sim.platform("lift", size=(40, 8), path=[(20, 100), (80, 40)], speed=60)
        sim.body("wick", size=(12, 20), at=(30, y), anchor=anchor, gravity=900)

    trace = run(build, 40, level=level)
    assert trace["wick.grounded"].all()
    assert np.allclose(trace["wick.y"] - trace["lift.y"], y - 100) and np.allclose(
        trace["wick.x"] - trace["lift.x"], 10
    )
