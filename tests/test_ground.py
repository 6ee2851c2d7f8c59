"""Ground of many boxes against the same ground as one, walls that move, and levels without an up."""

import itertools
import math
import random

import pytest
from tests.test_sim import run

import larktally as lt

INTEGRATORS = ("semi-implicit", "explicit", "leapfrog")
SIDES = (1.0, 2.5, 4.0, 8.0, 12.0, 16.0, 20.0, 33.3)
# Units a frame and parts of it: whole cells, halves, thirds, and what is no float.
SPEEDS = (0.0, 60.0, 120.0, 240.0, 480.0, 960.0, 100.0, 90.5, 20.1, 3.7)


def parted(box, cuts):
    """A box cut along each axis at the places that lie inside of it."""
    edges = []
    for low, high, places in zip(box.low, box.high, cuts, strict=True):
        edges.append(sorted({low, high, *(place for place in places if low < place < high)}))
    sides = [list(itertools.pairwise(one)) for one in edges]
    return [
        lt.Box(tuple(low for low, _ in part), tuple(high for _, high in part), box.layer, box.one_way)
        for part in itertools.product(*sides)
    ]


def ground(rng, axes, one_way):
    """Boxes that share faces, planks over them, and the same with every box cut into parts."""
    unit = rng.choice([16.0, 8.0, 7.3])
    deep = (0.0,) * (axes - 2)
    wide = (12 * unit,) * (axes - 2)
    whole = [lt.Box((0.0, *deep, 0.0), (24 * unit, *wide, unit)), lt.Box((0.0, *deep, unit), (unit, *wide, 9 * unit))]
    whole.append(lt.Box((23 * unit, *deep, unit), (24 * unit, *wide, 9 * unit)))
    for _ in range(rng.randrange(4)):
        x, y = rng.randrange(2, 20) * unit, rng.randrange(1, 7) * unit
        plank = one_way and rng.random() < 0.5
        size = (rng.randrange(1, 5) * unit, unit if plank else rng.randrange(1, 3) * unit)
        whole.append(lt.Box((x, *deep, y), (x + size[0], *wide, y + size[1]), "solid", plank))
    every = rng.choice([unit, unit / 2, 3 * unit, 5.7])
    cuts = [[n * every for n in range(1, int(24 * unit / every) + 1)] for _ in range(axes)]
    cut = []
    for box in whole:
        # Planks are cut from side to side only: from above there is one of them.
        places = cuts if not box.one_way else [*cuts[:-1], []]
        cut.extend(parted(box, places))
    rng.shuffle(cut)
    # On layers of their own, as characters of a drawn level are.
    layered = [lt.Box(box.low, box.high, rng.choice(["solid", "stone"]), box.one_way) for box in cut]
    return whole, layered, unit


def free_place(rng, boxes, size, unit):
    """A place where a body overlaps nothing: one that began inside of a box is held by none that it is in."""
    while True:
        at = [rng.choice([rng.randrange(1, 20) * unit, round(rng.uniform(unit, 20 * unit), 3)]) for _ in size]
        at[-1] = rng.choice([unit, 2 * unit, 3 * unit, 60.0, 110.0])
        ends = [p + side for p, side in zip(at, size, strict=True)]
        if not any(all(a < d and c < b for a, b, c, d in zip(at, ends, x.low, x.high, strict=True)) for x in boxes):
            return at


def walked(boxes, whole, seed, unit, frames, barge):
    """Thirty bodies of all sizes and speeds that walk, turn, hop and fall among the boxes: their rows and events."""
    axes = len(boxes[0].low)
    level = lt.Level(boxes, axes="xyz"[:axes])

    def build(sim):
        rng = random.Random(seed)
        bodies = []
        if barge:
            sim.platform(
                "barge", size=(4 * unit, unit), path=[(6 * unit, 2 * unit), (12 * unit, 2 * unit)], speed=barge
            )
        for n in range(30):
            size = [rng.choice(SIDES) for _ in range(axes)]
            at = free_place(rng, whole, size, unit)
            speed = [rng.choice((-1, 1)) * rng.choice([*SPEEDS, unit * 60, unit * 30]) for _ in range(axes - 1)]
            body = sim.body(
                f"wick{n}",
                size=size,
                at=at,
                gravity=rng.choice([880.0, 900.0, 0.0, 3600.0]),
                integrator=rng.choice(INTEGRATORS),
                bounce=rng.choice([0.0, 0.0, 0.0, 0.5]),
            )
            bodies.append((body, speed, rng.randrange(15, 40), rng.choice([0, 240.0, 360.0])))

        def steer(now):
            for body, speed, turn, hop in bodies:
                way = 1 - 2 * (now.frame // turn % 2)
                body.vx = speed[0] * way
                if axes == 3:
                    body.vy = speed[1] * way
                if hop and now.frame % turn == 5:
                    body.launch(**{"vz" if axes == 3 else "vy": hop})

        sim.before("motion", steer)

    trace = run(build, frames, level=level)
    events = [(e.row, e.name, e.source, {key: e.data[key] for key in e.data if key != "on"}) for e in trace.events]
    return {name: trace[name].tolist() for name in trace.channels}, events


def same_rows(one, other):
    """Row by row, bit by bit, NaN equal to itself."""
    return repr(one) == repr(other)


@pytest.mark.slow
@pytest.mark.parametrize("part", range(4))
def test_ground_of_many_boxes_is_the_same_ground_as_one_box(part):
    for seed in range(part * 42, part * 42 + 42):
        rng = random.Random(seed)
        axes = rng.choice([2, 2, 2, 3])
        whole, cut, unit = ground(rng, axes, one_way=seed % 2)
        barge = rng.choice([0, 0, 60.0, 97.0]) if axes == 2 else 0
        rows, events = walked(whole, whole, seed, unit, 16, barge)
        other_rows, other_events = walked(cut, whole, seed, unit, 16, barge)
        for name, values in rows.items():
            assert same_rows(values, other_rows[name]), (seed, name)
        assert events == other_events, seed


def test_walls_of_an_enclosure_push_alike_on_all_sides_and_drag_nobody():
    """Four punts without an up, each with its body at another wall, drift towards it and then away."""

    def build(sim):
        punts = []
        for n, (x, y) in enumerate(((40.0, 58.0), (76.0, 58.0), (58.0, 40.0), (58.0, 76.0))):
            wick = sim.body(f"wick{n}", size=(4, 4), at=(x + 1000 * n, y))
            punts.append(sim.enclosure(f"punt{n}", at=(40 + 1000 * n, 40), size=(40, 40), holds=[wick]))

        def drift(now):
            for n, (x, y) in enumerate(((1, 0), (-1, 0), (0, 1), (0, -1))):
                speed = 30 if now.frame <= 60 else -30
                punts[n].drift(speed * x, speed * y)

        sim.before("motion", drift)

    trace = run(build, 120, level=lt.Level(up=None))
    moved = [trace["wick0.x"] - 40, 76 - trace["wick1.x"] + 1000, trace["wick2.y"] - 40, 76 - trace["wick3.y"]]
    for along in moved:
        assert along[60] == pytest.approx(30.0) and along[60] == along[120]
    said = [(e.row, e.name, e.source, e.data) for e in trace.events]
    assert said == [(1, "pushed", f"punt{n}", {"body": f"wick{n}"}) for n in range(4)]
    assert not any(trace[f"wick{n}.grounded"].any() for n in range(4))


@pytest.mark.parametrize(("vx", "vy"), [(-60, 0), (60, 0), (0, -60), (0, 60)])
@pytest.mark.parametrize("flush", [0.0, 0.1, 1 / 3])
def test_a_wall_stops_short_of_a_body_that_cannot_give_way_and_says_so_once(vx, vy, flush):
    """Between a pillar and the wall that comes there is no room; merely flush is not crushed."""
    pillars = [lt.geometry.box_at((-20, -20), (20, 100)), lt.geometry.box_at((64 + flush, -20), (20, 100))]
    pillars += [lt.geometry.box_at((0, -20), (64 + flush, 20)), lt.geometry.box_at((0, 64 + flush), (64 + flush, 20))]

    def build(sim):
        wick = sim.body("wick", size=(4, 4), at=(30, 30))
        punt = sim.enclosure("punt", at=(20, 20), size=(24, 24), holds=[wick])
        sim.before("motion", lambda now: punt.drift(vx, vy))

    trace = run(build, 120, level=lt.Level(pillars, up=None))
    assert [e.name for e in trace.events] == ["pushed", "crushed"]
    ends = (trace["wick.x"][-1], trace["wick.y"][-1])
    far = 64 + flush - 4
    assert ends == ({-60: 0.0, 0: 30.0, 60: far}[vx], {-60: 0.0, 0: 30.0, 60: far}[vy])
    # Pushed exactly to the pillar and no further, it is flush with it and with the wall, and nobody overlaps.
    exact = run(build, 24 if vx + vy > 0 else 30, level=lt.Level(pillars, up=None))
    assert [e.name for e in exact.events] == ["pushed"] or flush


def test_an_enclosure_that_shrinks_on_a_blocked_body_keeps_its_size_and_one_too_small_says_so_once():
    def build(sim):
        wick = sim.body("wick", size=(4, 4), at=(30, 30))
        punt = sim.enclosure("punt", at=(20, 20), size=(24, 24), holds=[wick])
        sim.before("motion", lambda now: punt.resize(max(24 - now.frame, 3), 24))

    walled = lt.Level([lt.geometry.box_at((18, 0), (10, 60)), lt.geometry.box_at((90, 0), (10, 60))], up=None)
    trace = run(build, 40, level=walled)
    assert trace["punt.width"][-1] == 3.0 and [e.name for e in trace.events] == ["pushed", "crushed"]
    assert trace["wick.x"][-1] == 28.0 and trace["punt.width"][20] == 12.0


def test_without_gravity_a_body_is_carried_along_and_up_and_follows_no_floor_that_falls_away():
    def build(sim):
        sim.platform("lift", size=(40, 4), path=[(20, 40), (20, 20)], speed=60)
        sim.platform("barge", size=(40, 4), path=[(100, 40), (140, 40)], speed=60)
        punt = sim.enclosure("punt", at=(200, 40), size=(40, 40), holds=[sim.body("inside", size=(4, 4), at=(210, 40))])
        for name, x, gravity in (("mote", 22, 0), ("wick", 40, 900), ("rider", 110, 0)):
            sim.body(name, size=(4, 4), at=(x, 44), gravity=gravity)
        sim.before("motion", lambda now: punt.drift(30, 0))

    trace = run(build, 15, level=lt.Level())
    assert trace["mote.y"].tolist() == [44.0] * 16 and trace["wick.y"][-1] == trace["lift.y"][-1] + 4 == 29.0
    assert trace["rider.x"][-1] == 125.0 and trace["inside.x"][-1] == 217.5 and (trace["inside.y"] == 40).all()


def test_a_free_slot_is_neither_carried_nor_pushed_nor_crushed():
    def build(sim):
        sim.pool("spark", lambda view: view.body("", size=(4, 4), at=(40, 16), gravity=900), slots=2)
        sim.platform("barge", size=(16, 4), path=[(10, 16), (64, 16)], speed=60)

    assert not run(build, 60).events


def test_a_level_without_an_up_has_no_ground_and_every_contact_is_a_bump():
    room = lt.Level.from_rows("####\n#..#\n#..#\n####", cell=16, up=None)
    paths = []
    for vx, vy in ((-100, 0), (100, 0), (0, -100), (0, 100)):

        def build(sim, vx=vx, vy=vy):
            wick = sim.body("wick", size=(4, 4), at=(30, 30), air_steering=0.1)
            sim.before("motion", lambda now: wick.steer(vx=vx, vy=vy))

        trace = run(build, 20, level=room)
        (bump,) = trace.events
        assert (bump.name, bump.data["axis"], bump.data["normal"]) == (
            "bumped",
            "x" if vx else "y",
            -1 if vx + vy > 0 else 1,
        )
        assert not trace["wick.grounded"].any()
        paths.append(abs(trace["wick.x" if vx else "wick.y"] - 30).tolist())
    assert [path[1] for path in paths] == pytest.approx([100 / 60] * 4)
    assert trace.header.scene["up"] is None


@pytest.mark.parametrize(
    ("build", "said"),
    [
        (
            lambda sim: sim.body("w", size=(1, 2), at=(0, 0), gravity=900),
            "body 'w' has gravity .900.0., and this level has no up",
        ),
        (lambda sim: sim.body("w", size=(1, 2), at=(0, 0), probe=2), "has a probe for the ground"),
        (lambda sim: sim.body("w", size=(1, 2), at=(0, 0), anchor="feet"), "anchor='centre'"),
        (lambda sim: sim.body("w", size=(1, 2), at=(0, 0)).feet, "has no feet: its level has no up"),
        (
            lambda sim: sim.platform("p", size=(1, 2), path=[(0, 0)], speed=1, one_way=True),
            "'p' is one-way, and this level",
        ),
        (lambda sim: lt.Level([lt.geometry.box_at((0, 0), (1, 1), one_way=True)], up=None), "nothing comes from above"),
        (
            lambda sim: setattr(sim.body("w", size=(1, 2), at=(0, 0)), "gravity", 9.0),
            "has gravity .9.0., and this level",
        ),
    ],
)
def test_what_needs_an_up_is_an_error_without_one(build, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(build, 2, level=lt.Level(up=None))


def test_explicit_euler_rests_and_leaves_an_edge_in_the_same_row_whatever_the_parity():
    level = lt.Level([lt.geometry.box_at((0, 0), (100, 16))])
    falls = []
    for start in range(60, 76):

        def build(sim, start=start):
            wick = sim.body("wick", size=(12, 20), at=(start, 16), gravity=880, integrator="explicit")
            sim.before("motion", lambda now: setattr(wick, "vx", 60.0))

        trace = run(build, 60, level=level)
        off = trace.events.named("left_ground")[0].row
        assert (trace["wick.vy"][:off] == 0).all() and trace["wick.y"][off - 1] == 16.0
        falls.append((start + off, (trace["wick.y"][off : off + 5] - 16).tolist()))
    assert all(fall == falls[0] for fall in falls) and falls[0][0] == 100


def test_a_zone_in_pieces_snaps_to_the_nearest_and_is_as_far_as_its_nearest_piece():
    level = lt.Level.from_rows("r...r...\n........\n########", cell=16, zones={"r": "rope"})

    def build(sim):
        wick = sim.body("wick", size=(4, 8), at=(20, 30))
        rope = sim.zone("rope", watch=[wick])
        for at, low in (((20, 30), 0.0), ((44, 30), 64.0), ((70, 33), 64.0), ((2, 40), 0.0)):
            wick.put(*at)
            assert rope.nearest(wick).low == (low, 32.0)
            assert rope.snap(wick) and wick.centre[0] == low + 8
            assert lt.geometry.distance(wick, rope) == math.dist(wick.centre, (low + 8, 40))
        wick.put(30, 33)
        assert lt.geometry.touching(wick, rope) == [] and lt.geometry.in_front(wick, rope, -1)
        with pytest.raises(lt.ModelError, match="no axis 'X' in zone 'rope'.*did you mean 'x'"):
            rope.snap(wick, "X")

    run(build, 1, level=level)


def test_rays_keep_their_sign_see_what_moves_and_say_which_of_the_fan_they_are():
    geometry = lt.geometry

    def look(sim, wick, barge, punt):
        assert [hit.distance for hit in geometry.fan(wick, "-y", 3, 4)] == [-0.25] * 3
        wick.put(40, 14)
        assert {(hit.distance, hit.normal) for hit in geometry.fan(wick, "-y", 3, 4)} == {(-0.5, (0, 0))}
        wick.put(94, 44)
        hits = geometry.fan(wick, "-y", 5, 4)
        assert [(hit.ray, hit.distance, hit.what) for hit in hits] == [(n, 0.0, barge) for n in (3, 4)]
        assert geometry.fan(wick, "-y", 5, 4, layers=["solid"]) == []
        # What is given only once counts for every ray.
        assert geometry.fan(wick, "-y", 5, 4, ignore=iter([barge])) == []
        block = lt.Box((90, 36), (120, 40))
        assert len(geometry.fan(wick, "-y", 5, 4, bodies=iter([block]), ignore=[barge])) == 5
        assert geometry.ray(sim, (110, 60), (0, -1), 50).what is barge
        assert geometry.ray(sim.level, (110, 60), (0, -1), 20) is None
        assert geometry.ray(sim, (110, 60), (0, -1), 20, ignore=[barge]) is None
        assert geometry.ray(sim.level, (110, 60), (0, -1), 50, bodies=[barge, wick]).distance == 16.0
        assert geometry.ray(sim, (220, 60), (1, 0), 50) == geometry.Hit(20.0, (240.0, 60.0), (-1, 0), punt)
        # The walls of a punt are there for whom it holds.
        wick.put(214, 50)
        assert geometry.fan(wick, "+x", 3, 30) == []
        punt.board(wick)
        assert {hit.what for hit in geometry.fan(wick, "+x", 3, 30)} == {punt}
        punt.let_go(wick)
        wick.put(94, 44)
        assert geometry.distance(wick, barge, "edges") == 0.0 and geometry.touching(wick, barge) == [barge]
        assert geometry.in_front(wick, barge, 1) and geometry.nearest(wick, [punt, barge])[0] is barge

    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(40, 15.75))
        barge = sim.platform("barge", size=(40, 4), path=[(100, 40)], speed=1)
        punt = sim.enclosure("punt", at=(200, 40), size=(40, 40), holds=[])
        sim.before("motion", lambda now: look(sim, wick, barge, punt))

    run(build, 1)


def test_would_overlap_looks_at_the_layers_that_are_named_whatever_the_body_stops_at():
    def build(sim):
        ghost = sim.body("ghost", size=(4, 4), at=(40, 16), layers=())
        sim.platform("barge", size=(40, 4), path=[(30, 30)], speed=1)
        assert [box.layer for box in ghost.would_overlap((0, -1), layers=("solid",))] == ["solid"]
        assert ghost.would_overlap((0, -1)) == [] and ghost.would_overlap((0, 14), layers=("solid",)) == []
        sim.after("motion", lambda now: now.emit("over", n=len(ghost.would_overlap((0, 12), layers=("platform",)))))

    assert [e.data["n"] for e in run(build, 1, events=("over",)).events] == [1]


def test_a_lift_goes_down_past_a_ledge_that_holds_what_of_its_rider_hangs_over():
    def build(sim):
        sim.platform("lift", size=(20, 4), path=[(20, 60), (20, 10)], speed=60)
        sim.body("wick", size=(20, 8), at=(30, 64), gravity=900)
        sim.body("rider", size=(8, 8), at=(20, 64), gravity=900)

    ledge = lt.Level([lt.geometry.box_at((40, 0), (40, 40)), lt.geometry.box_at((-40, 0), (60, 4))])
    trace = run(build, 50, level=ledge)
    assert trace["lift.y"][50] == 10 and not trace.events.named("crushed")
    assert trace["wick.y"][50] == 40 and trace["rider.y"][50] == 14 and trace["wick.grounded"].all()


@pytest.mark.parametrize("trip", ["back", "round"])
@pytest.mark.parametrize("speed", [37.0, 600.0, 4800.0, 100_000.0])
def test_a_fast_platform_loses_nothing_of_its_way_whatever_the_legs_it_passes_in_a_frame(trip, speed):
    path = [(0, 40), (3, 40), (3, 47), (10, 47)]
    corners = [*path, *(path[-2:0:-1] if trip == "back" else ()), path[0]]
    legs = [math.dist(one, other) for one, other in itertools.pairwise(corners)]

    def place(way):
        way = math.fmod(way, math.fsum(legs))
        for (one, other), leg in zip(itertools.pairwise(corners), legs, strict=True):
            if way <= leg:
                return tuple(p + (q - p) * way / leg for p, q in zip(one, other, strict=True))
            way -= leg
        return path[0]

    trace = run(
        lambda sim: sim.platform("barge", size=(4, 2), path=path, speed=speed, round_trip=trip), 20, level=lt.Level()
    )
    for row in range(21):
        wanted = place(speed / 60 * row)
        assert math.dist((trace["barge.x"][row], trace["barge.y"][row]), wanted) < 1e-6, row
