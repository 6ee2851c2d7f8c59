"""Doors, gates and walls that rules move, and what a body takes along of what carried it."""

import itertools
import random

import numpy as np
import pytest
from tests.test_sim import assert_restores, model, run

import larktally as lt

FLOOR = lt.Level([lt.geometry.box_at((0, 0), (400, 16))])


def overlap(a, b):
    return all(a[0][i] < b[1][i] and b[0][i] < a[1][i] for i in range(2))


def box(trace, name, row, size=None):
    size = size or (trace[f"{name}.width"][row], trace[f"{name}.height"][row])
    low = (trace[f"{name}.x"][row], trace[f"{name}.y"][row])
    return low, (low[0] + size[0], low[1] + size[1])


def test_a_gate_is_led_to_its_place_at_a_speed_and_says_when_it_arrives():
    def build(sim):
        gate = sim.door("gate", at=(100, 16), size=(8, 40))

        @sim.after("machines")
        def act(now):
            if now.pressed("hop"):
                gate.lead_to(100, 56, speed=120)
            if now.pressed("burst"):
                gate.put(100, 16)

    trace = run(build, 60, lt.InputScript().press("hop", 5).press("burst", 40), level=FLOOR)
    assert trace["gate.y"].tolist()[4:8] == [16, 18, 20, 22] and trace["gate.y"][24] == 56 and trace["gate.y"][40] == 16
    assert [e.row for e in trace.events.named("arrived")] == [24, 40]
    assert trace["gate.vy"].tolist()[4:6] == [0, 120] and trace["gate.vy"][25] == 0 and trace["gate.vy"][40] == -2400
    assert [row for row in range(61) if trace["gate.moving"][row]] == list(range(5, 24))


@pytest.mark.parametrize("up", ["+y", "-y", None])
def test_a_wall_pushes_who_stands_in_its_way_on_all_sides_and_stops_short_of_whom_it_crushes(up):
    level = lt.Level([lt.geometry.box_at((160, 0), (16, 300))], up=up)

    def build(sim):
        wall = sim.door("wall", at=(40, 60), size=(8, 60))
        sim.body("wick", size=(12, 20), at=(100, 80))

        @sim.after("machines")
        def act(now):
            if now.frame == 2:
                wall.lead_to(200, 60, speed=600)
            if now.frame == 60:
                wall.lead_to(40, 60, speed=600)

    trace = run(build, 90, level=level)
    # From 48 + 10 a frame to the body at 100, and with it to the wall at 160.
    assert [(e.name, e.row, e.data["body"]) for e in trace.events if e.source == "wall" and e.name != "arrived"] == [
        ("pushed", 7, "wick"), ("crushed", 12, "wick"),
    ]  # fmt: skip
    assert trace["wick.x"][20] == 148 and trace["wall.x"][20] == 140 and trace["wall.x"][70] == 40
    assert all(not overlap(box(trace, "wall", row), box(trace, "wick", row, (12, 20))) for row in range(91))


def test_a_floor_that_grows_lifts_who_stands_on_it_and_a_wall_that_grows_pushes():
    def build(sim):
        block = sim.door("block", at=(40, 16), size=(40, 8))
        sim.body("wick", size=(12, 20), at=(50, 24), gravity=900)
        sim.body("moth", size=(10, 10), at=(90, 16), gravity=900)

        @sim.after("machines")
        def act(now):
            if now.frame == 3:
                block.resize(80, 20, speed=120)
            if now.frame == 30:
                block.resize(80, 8)

    trace = run(build, 40, level=FLOOR)
    assert trace["block.width"].tolist()[2:5] == [40, 42, 44] and trace["block.height"].tolist()[2:5] == [8, 10, 12]
    assert trace["wick.y"].tolist()[2:5] == [24, 26, 28] and trace["wick.y"][20] == 36 and trace["wick.grounded"].all()
    assert trace["moth.x"][29] == 120 and trace["block.width"][29] == 80
    # The floor sinks at once, and who has gravity goes with it.
    assert trace["wick.y"][30] == 24 and trace["block.moving"][4] and not trace["block.moving"][29]
    assert [e.data["body"] for e in trace.events.named("pushed")] == ["moth"]


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(25))
def test_whatever_a_door_does_nobody_is_inside_of_it_and_states_come_back(seed):
    pick = random.Random(seed)
    boxes = [lt.geometry.box_at((pick.randrange(30) * 8, 16 + pick.randrange(12) * 8), (8, 8)) for _ in range(12)]
    level = lt.Level([lt.geometry.box_at((0, 0), (260, 16)), *boxes], up=pick.choice(("+y", "+y", None)))
    moves = {
        pick.randrange(1, 100): (
            pick.choice(("lead", "put", "size", "halt")),
            pick.randrange(26) * 8.0,
            16 + pick.randrange(10) * 8.0,
            pick.choice((60.0, 240.0, 900.0)),
        )
        for _ in range(14)
    }
    starts = [(x * 8.0, y * 8.0) for x, y in itertools.product(range(2, 28, 5), (4, 9))]
    free = [s for s in starts if not any(overlap((s, (s[0] + 6, s[1] + 8)), (b.low, b.high)) for b in boxes)]

    def build(sim):
        door = sim.door("door", at=(200, 130), size=(16, 16))
        bodies = [sim.body(f"b{n}", size=(6, 8), at=at, gravity=900 * level.has_up) for n, at in enumerate(free)]

        @sim.after("machines")
        def act(now):
            if now.frame in moves:
                what, x, y, speed = moves[now.frame]
                if what == "lead":
                    door.lead_to(x, y, speed=speed)
                elif what == "put":
                    door.put(x, y)
                elif what == "size":
                    door.resize(8 + x / 8, 8 + y / 8, speed=pick.choice((None, 60.0)) if seed % 2 else None)
                else:
                    door.halt()
            for n, body in enumerate(bodies):
                body.vx = 90.0 * ((now.frame // 20 + n) % 3 - 1)

    trace = run(build, 110, level=level)
    # A step of rounding is what a box may share with a body that it stopped short of.
    for row in range(111):
        low, high = box(trace, "door", row)
        inside = (tuple(v + 1e-9 for v in low), tuple(v - 1e-9 for v in high))
        for n in range(len(free)):
            body = box(trace, f"b{n}", row, (6, 8))
            assert not overlap(inside, body), (row, n)
    if seed % 2 == 0:
        assert_restores(model(build, level=level), lt.InputScript(), 110, (20, 55))


@pytest.mark.parametrize(
    ("leaves", "within", "vx", "vy"),
    [("nothing", 0, 0, 285), ("whole", 0, 120, 345), ("upward", 0, 0, 345)],
)
def test_who_hops_off_a_barge_keeps_what_is_said_of_its_velocity(leaves, within, vx, vy):
    def build(sim):
        sim.platform(
            "barge", size=(40, 8), path=[(20, 40), (1220, 640)], speed=float(np.hypot(120, 60)), shows="velocity"
        )
        wick = sim.body("wick", size=(12, 20), at=(30, 48), gravity=900, leaves_with=leaves, leaves_within=within)
        sim.after("machines", lambda now: now.pressed("hop") and wick.launch(vy=300))

    trace = run(build, 30, lt.InputScript().press("hop", 10), level=FLOOR)
    assert trace["barge.vx"][9] == pytest.approx(120) and trace["barge.vy"][9] == pytest.approx(60)
    assert trace["wick.vx"][10] == pytest.approx(vx) and trace["wick.vy"][10] == pytest.approx(vy)
    assert trace["wick.vx"][20] == pytest.approx(vx)


@pytest.mark.parametrize(("within", "kept"), [(0, 0), (3, 120)])
def test_a_carrier_that_has_just_stopped_still_counts_for_some_frames(within, kept):
    def build(sim):
        barge = sim.door("barge", at=(20, 40), size=(60, 8))
        wick = sim.body("wick", size=(12, 20), at=(30, 48), gravity=900, leaves_with="whole", leaves_within=within)

        @sim.after("machines")
        def act(now):
            if now.frame == 2:
                barge.lead_to(80, 40, speed=120)
            if now.frame == 34:
                wick.launch(vy=300)

    trace = run(build, 50, level=FLOOR)
    assert trace.events.named("arrived")[0].row == 31
    assert trace["wick.vx"][33] == 0 and trace["wick.vx"][34] == pytest.approx(kept)


def test_who_walks_off_into_the_air_takes_it_along_and_who_walks_onto_other_ground_does_not():
    level = lt.Level([lt.geometry.box_at((0, 0), (400, 16)), lt.geometry.box_at((200, 40), (100, 8))])

    def build(sim):
        sim.platform("barge", size=(40, 8), path=[(20, 40), (160, 40)], speed=60)
        for name, at, speed, key in (("off", (22, 48), -90.0, "left"), ("onto", (50, 48), 90.0, "right")):
            body = sim.body(name, size=(8, 8), at=at, gravity=900, leaves_with="whole")

            @sim.before("motion")
            def walk(now, body=body, speed=speed, key=key):
                if body.grounded:
                    body.vx = speed * now.held(key)

        sim.after("machines", lambda now: now.pressed("hop") and body.launch(vy=300))

    script = lt.InputScript().hold("left", 1, 30).hold("right", 141, 30).press("hop", 190)
    trace = run(build, 220, script, level=level)
    left = trace.events.named("left_ground", "off")[0]
    assert trace["off.vx"][left.row - 1] == -90
    # What it leaves with is added at the end of the row in which it is off the barge.
    assert trace["off.vx"][left.row] == -30 and trace["onto.x"][189] > 210 and trace["onto.y"][189] == 48
    assert trace["onto.vx"][190] == 0 and not trace.events.named("left_ground", "onto")[0].row < 190


def test_what_no_door_can_be_is_told():
    for build, said in (
        (lambda sim: sim.door("d", at=(0, 0), size=(0, 4)), "size is above 0"),
        (lambda sim: sim.door("d", at=(0, 0), size=(4, 4)).lead_to(1, 2, 3, speed=4), "goal is 2 numbers"),
        (
            lambda sim: sim.door("d", at=(0, 0), size=(4, 4)).lead_to(1, 2, speed=-4),
            "speed is a finite number of at least 0",
        ),
        (lambda sim: sim.body("b", size=(1, 1), at=(0, 50), leaves_with="all"), "no leaves_with 'all'"),
        (lambda sim: sim.platform("p", size=(4, 4), path=[(0, 90)], speed=1, shows="vx"), "no word 'vx'"),
    ):
        with pytest.raises(lt.LarkTallyError, match=said):
            run(build, 2)
    with pytest.raises(lt.LarkTallyError, match="nothing is carried in a level without an up"):
        run(lambda sim: sim.body("b", size=(1, 1), at=(0, 50), leaves_with="whole"), 2, level=lt.Level([], up=None))


@pytest.mark.parametrize("seed", range(8))
def test_a_round_zone_holds_who_is_nearer_than_its_radius_by_the_nearest_point(seed):
    pick = random.Random(seed)
    centre, radius = (100.0 + pick.randrange(40), 100.0), pick.choice((8.0, 20.0, 5.0))
    # Flush ones too: exactly a radius away, along an axis and at a corner of a 3-4-5 triangle.
    places = [
        (centre[0] + radius, centre[1] - 3),
        (centre[0] + 0.6 * radius, centre[1] + 0.8 * radius),
        (centre[0] - radius - 6, 97.0),
    ]
    places += [(centre[0] + pick.uniform(-30, 30), centre[1] + pick.uniform(-30, 30)) for _ in range(40)]

    def build(sim):
        wick = sim.body("wick", size=(6, 8), at=(0, 0))
        glow = sim.zone("glow", centre=centre, radius=radius, watch=[wick])
        gap = sim.value("gap", 0.0)

        @sim.before("zones")
        def go(now):
            wick.put(*places[now.frame - 1])
            gap.value = lt.geometry.distance(wick, glow, "edges")

    trace = run(build, len(places), level=lt.Level([]))
    for row in range(1, len(places) + 1):
        low = (trace["wick.x"][row], trace["wick.y"][row])
        nearest = [min(max(c, a), a + side) for c, a, side in zip(centre, low, (6, 8))]
        away = float(np.hypot(nearest[0] - centre[0], nearest[1] - centre[1]))
        assert trace["glow.wick"][row] == (away < radius), row
        assert trace["gap"][row] == pytest.approx(max(away - radius, 0.0), abs=1e-9)
    # Touching is not inside.
    assert not trace["glow.wick"][[1, 3]].any()
    assert {"entered", "left"} <= {e.name for e in trace.events}


def test_a_cell_may_stand_for_a_plank_and_a_ladder_and_a_zone_for_several_cells():
    level = lt.Level.from_rows(
        "..M==.\n..H...\n..H...\n######", cell=16, one_way="=M", zones={"H": "ladder", "M": "ladder"}
    )
    assert [(box.low, box.high) for box in level.zones["ladder"]] == [((32.0, 16.0), (48.0, 64.0))]
    assert [(box.low, box.high) for box in level.boxes if box.one_way] == [
        ((32.0, 48.0), (48.0, 64.0)),
        ((48.0, 48.0), (80.0, 64.0)),
    ]


def test_what_no_round_zone_can_be_is_told():
    def zone(sim, **options):
        return sim.zone("glow", watch=[sim.body("b", size=(1, 1), at=(9, 50))], **options)

    for options, said in (
        ({"centre": (1, 2)}, "round with centre= and radius="),
        ({"centre": (1, 2), "radius": 0}, "a radius is above 0"),
        ({"centre": (1, 2, 3), "radius": 1}, "centre is 2 numbers"),
        ({"centre": (1, 2), "radius": 1, "low": (0, 0)}, "or has corners"),
    ):
        with pytest.raises(lt.LarkTallyError, match=said):
            run(lambda sim, options=options: zone(sim, **options), 2)
    with pytest.raises(lt.LarkTallyError, match="zone 'glow' is round"):
        run(lambda sim: lt.geometry.ray(sim, (0, 0), (1, 0), 9, bodies=[zone(sim, centre=(1, 2), radius=1)]), 2)


def test_a_crate_is_pushed_at_its_share_stood_on_and_let_through():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(20, 16), gravity=900)
        crate = sim.crate("crate", size=(16, 16), at=(40, 16), gravity=900, share=0.5)
        rider = sim.body("rider", size=(8, 8), at=(44, 32), gravity=900)
        assert rider

        @sim.before("motion")
        def walk(now):
            wick.vx = 120.0 * now.axis("left", "right")
            if now.frame == 60:
                crate.solid = False

    trace = run(build, 80, lt.InputScript().hold("right", 1, 80), level=FLOOR)
    x, c = trace["wick.x"], trace["crate.x"]
    # Four frames to the crate, which he meets in the fourth; then both at half his speed, and who stands on it too.
    assert x.tolist()[:7] == [20, 22, 24, 26, 28, 29, 30] and c.tolist()[:7] == [40, 40, 40, 40, 40, 41, 42]
    assert c[59] == 95 and x[59] == 83 and trace["rider.x"][59] == 44 + 55 and trace["rider.grounded"][:60].all()
    assert trace["crate.vx"][30] == 60 and trace["wick.x"][80] > trace["wick.x"][59] + 30
    assert not trace["rider.grounded"][61] and trace["rider.y"][80] == 16


def test_a_crate_stops_only_whom_its_layer_stops_and_rays_look_for_layers():
    seen = {}

    def build(sim):
        crate = sim.crate("crate", size=(16, 16), at=(60, 16), layer="heavy", share=0.0)
        wick = sim.body("wick", size=(12, 20), at=(20, 16), velocity=(240, 0), layers=("solid", "heavy"))
        moth = sim.body("moth", size=(8, 8), at=(20, 17), velocity=(240, 0), layers=("solid",), layer="moths")
        feet = sim.fan("fan", moth, "+x", 2, 40)
        assert feet

        @sim.after("motion")
        def look(now):
            wick.vx = 240.0
            if now.frame == 20:
                crate.layer = "light"
            for layers in (None, ("heavy",), ("moths",), ("solid",)):
                hit = lt.geometry.ray(sim, (33, 18), (1, 0), 500, layers=layers)
                seen[now.frame, layers] = hit and hit.what.name
            seen[now.frame, "named"] = lt.geometry.ray(sim, (0, 22), (1, 0), 500, bodies=[moth]).what.name
            (one,) = {hit.what.name for hit in lt.geometry.fan(wick, "+x", 2, 90)} or {""}
            seen[now.frame, "wick"] = one

    trace = run(build, 30, level=FLOOR)
    assert trace["wick.x"][9:20].tolist() == [48.0] * 11 and trace["wick.x"][21] == 52
    assert trace["moth.x"][30] == 20 + 4 * 30 and trace["fan.hits"][5] == 0
    assert seen[2, None] == seen[2, ("heavy",)] == "crate" and seen[2, ("solid",)] is None
    assert seen[20, ("heavy",)] is None and seen[21, ("moths",)] == "moth" and seen[2, "named"] == "moth"
    assert seen[8, "wick"] == "crate" and seen[24, "wick"] == ""
    for layers in ("hevy", "platform"):
        with pytest.raises(lt.LarkTallyError, match=f"no layer '{layers}'"):
            run(lambda sim, layers=layers: sim.body("a", size=(1, 1), at=(9, 50), layers=layers), 2)
    with pytest.raises(lt.LarkTallyError, match="those are met by every body"):
        run(lambda sim: sim.crate("a", size=(1, 1), at=(9, 50), layer="platform"), 2)


def test_two_who_push_from_both_sides_and_a_stack_on_a_lift():
    def build(sim):
        sim.platform("lift", size=(40, 8), path=[(100, 16), (100, 66)], speed=60)
        for n in range(3):
            sim.crate(f"crate.{n}", size=(16, 16), at=(110, 24 + 16 * n), gravity=900)
        wick = sim.body("wick", size=(8, 12), at=(114, 72), gravity=900)
        sim.crate("box", size=(16, 16), at=(40, 16), gravity=900, share=1.0)
        left, right = (
            sim.body("a", size=(8, 8), at=(32, 16), gravity=900),
            sim.body("b", size=(8, 8), at=(56, 16), gravity=900),
        )

        @sim.before("motion")
        def walk(now):
            left.vx, right.vx = 120.0, -60.0 if now.frame < 20 else -120.0

        assert wick

    trace = run(build, 45, level=FLOOR)
    assert trace["box.x"][10] - trace["box.x"][9] == 1 and trace["box.x"][30] == trace["box.x"][25]
    rise = trace["lift.y"] - 16
    assert rise[40] == 40
    for n in range(3):
        assert (trace[f"crate.{n}.y"] == 24 + 16 * n + rise).all()
    assert (trace["wick.y"] == 72 + rise).all() and not trace.events.named("crushed")


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(40))
def test_however_crates_are_pushed_nobody_is_inside_of_one_and_states_come_back(seed):
    pick = random.Random(seed)
    walls = [lt.geometry.box_at((pick.randrange(30) * 8, 16 + pick.randrange(8) * 8), (8, 8)) for _ in range(6)]
    level = lt.Level([lt.geometry.box_at((-50, 0), (400, 16)), *walls], up=pick.choice(("+y", "+y", None)))
    places = [(x * 24.0, 16 + y * 24.0) for x, y in itertools.product(range(1, 11), range(5))]
    size = {"a": (8, 12), "b": (6, 6), **{f"crate.{n}": pick.choice(((16, 16), (12, 20))) for n in range(4)}}
    start = {}
    for name, sides in size.items():
        free = [
            p
            for p in places
            if p not in start.values()
            and not any(overlap((p, (p[0] + sides[0], p[1] + sides[1])), (w.low, w.high)) for w in walls)
        ]
        start[name] = pick.choice(free)
    speeds = {
        name: [(pick.choice((-180, -90, 0, 90, 180)), pick.choice((None,) * 6 + (300, -200))) for _ in range(120)]
        for name in "ab"
    }
    heavy = 900.0 * level.has_up

    def build(sim):
        if seed % 3 == 0:
            sim.platform("lift", size=(40, 8), path=[(40, 20), (160, 60)], speed=90)
        bodies = {}
        for name in size:
            if name in "ab":
                bodies[name] = sim.body(name, size=size[name], at=start[name], gravity=heavy)
            else:
                sim.crate(
                    name,
                    size=size[name],
                    at=start[name],
                    gravity=heavy,
                    share=pick.choice((0.25, 0.5, 1.0)) if seed % 2 else 0.5,
                )

        @sim.before("motion")
        def walk(now):
            for name, body in bodies.items():
                vx, vy = speeds[name][(now.frame - 1) // 6 * 6]
                body.vx = vx
                if not level.has_up:
                    body.vy = vy or 0.0
                elif vy and body.grounded:
                    body.launch(vy=abs(vy))

    trace = run(build, 120, level=level)
    moved = 0.0
    # Where the lift came through somebody at the start it is no matter of the crates.
    apart = seed % 3 != 0
    for row in range(121):
        boxes = {name: box(trace, name, row, sides) for name, sides in size.items()}
        for one, other in itertools.combinations(size, 2):
            if not one.startswith("crate") and not other.startswith("crate"):
                continue
            low, high = boxes[one]
            inside = (tuple(v + 1e-7 for v in low), tuple(v - 1e-7 for v in high))
            if apart:
                assert not overlap(inside, boxes[other]), (row, one, other)
    for n in range(4):
        moved += float(np.ptp(trace[f"crate.{n}.x"]))
    if seed % 2 == 0:
        assert_restores(model(build, level=level), lt.InputScript(), 120, (20, 55, 90))


def test_a_gate_that_was_halted_says_again_whom_it_crushes():
    def build(sim):
        sim.body("wick", size=(12, 20), at=(80, 16), gravity=900)
        gate = sim.door("gate", at=(60, 16), size=(8, 40))

        @sim.before("motion")
        def act(now):
            if now.frame in (10, 60):
                gate.lead_to(90, 16, speed=60)
            if now.frame == 40:
                gate.halt()

    level = lt.Level([lt.geometry.box_at((0, 0), (400, 16)), lt.geometry.box_at((92, 16), (8, 60))])
    crushed = [event.row for event in run(build, 90, level=level).events.named("crushed")]
    assert len(crushed) == 2 and crushed[1] == 60


@pytest.mark.parametrize("waits, kept", [(3, 60), (12, 0)])
def test_a_gate_that_stands_counts_for_how_long_for_who_may_leave_it(waits, kept):
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(30, 24), gravity=900, leaves_with="whole", leaves_within=6)
        gate = sim.door("gate", at=(20, 16), size=(40, 8))

        @sim.before("motion")
        def act(now):
            if now.frame == 5:
                gate.lead_to(40, 16, speed=60)
            if now.frame == 25 + waits:
                wick.launch(vy=200)

    trace = run(build, 60, level=FLOOR)
    assert trace.events.named("arrived")[0].row == 24
    assert trace["wick.vx"][25 + waits] == kept
