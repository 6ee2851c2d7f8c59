import random
from functools import partial

import numpy as np
import pytest
from tests.test_sim import model, run
from tests.test_space import assert_short_as_swept, meddle, tell_contacts

import larktally as lt
from larktally.parts.space import movers
from larktally.parts.space.walking import WalkingBox


@pytest.mark.parametrize("seed", range(60))
def test_who_rides_on_what_moves_goes_as_who_is_swept(seed):
    start = random.Random(seed)
    sign = 1 - 2 * (seed % 5 == 4)
    # A floor, a wall beside the ways of the lifts, a beam above one, a ledge that holds what hangs over, and a plank.
    solids = [
        ((0, 0), (640, 16)),
        ((190, 16), (8, 90)),
        ((20, 110), (60, 6)),
        ((104, 50), (10, 4)),
        ((240, 60), (40, 4)),
    ]
    boxes = [
        lt.geometry.box_at((x, y if sign > 0 else -y - h), (w, h), one_way=n == 4)
        for n, ((x, y), (w, h)) in enumerate(solids)
    ]
    level = lt.Level(boxes, up="+y" if sign > 0 else "-y")
    lifts = []
    for n in range(start.randint(1, 4)):
        # Close together, or so far apart that nothing else is near.
        x, y, w = 24 + n * (40.25, 66, 150)[seed % 3], start.choice([20, 30, 60]), start.choice([24, 40])
        way = start.choice([(0, 0), (0, 60), (0, 33.3), (60, 0), (70, 30), (-0.0, 80), (24, -30)])
        lifts.append((x, y * sign, w, (x + way[0], (y + way[1]) * sign), start.choice([0, 30, 60, 75.5, 480])))

    def build(sim, short=True):
        doors, carriers = [], []
        for n, (x, y, w, end, speed) in enumerate(lifts):
            if n % 3 == 2:
                doors.append(sim.door(f"hoist.{n}", at=(x, y), size=(w, 8)))
                carriers.append(doors[-1])
            else:
                lift = sim.platform(f"lift.{n}", size=(w, 8), path=[(x, y), end], speed=speed, one_way=n % 3 == 1)
                carriers.append(lift)
        bodies, feet = [], {}
        for n in range(6):
            anchor = ("corner", "centre", "feet")[n % 3 if seed % 2 else 0]
            x, y, w, _, _ = lifts[n % len(lifts)]
            # Upon it: side by side, at its edge, hanging over.
            left, foot = x + (0, w - 4, -4, 10, w - 8, 2)[n], y + 8 * (sign > 0)
            at = (left, foot if sign > 0 else foot - 8)
            if anchor != "corner":
                at = (left + 4, foot if anchor == "feet" else foot + 4 * sign)
            body = sim.body(
                f"moth.{n}",
                size=(8, 8),
                at=at,
                anchor=anchor,
                gravity=900 * (n != 5),
                leaves_with=("nothing", "whole")[n == 4],
            )
            body._short = short
            feet[body.name] = {"corner": 0 if sign > 0 else 8, "centre": 4, "feet": 0}[anchor]
            bodies.append(body)
        if seed % 7 == 6:
            sim.crate("crate", size=(8, 8), at=(300, 16 if sign > 0 else -24), gravity=900)

        def rule(now):
            chance = now.random
            for body in bodies:
                if chance.chance(0.03):
                    body.vx = chance.pick([0.0, 0.0, -0.0, 30.0, -60.0, 240.0])
                if not body.grounded and chance.chance(0.03):
                    on = chance.pick(carriers)
                    body.put(
                        on.x + chance.pick([0.0, 8.5, 20.0]),
                        (on.high if sign > 0 else on.low)[1] + feet[body.name] * sign,
                    )
                    body.vx = body.vy = 0.0
                if body.grounded and chance.chance(0.01):
                    body.launch(vy=250 * sign)
                if chance.chance(0.01):
                    meddle(body, chance)
                if chance.chance(0.01):
                    door = chance.pick([one for one in doors] or [None])
                    if door:
                        door.lead_to(
                            chance.pick([24, 90, 150]),
                            chance.pick([20, 60.5]) * sign,
                            speed=chance.pick([60, 90.5, 960]),
                        )
                        chance.chance(0.2) and door.resize(chance.pick([16, 40]), 8, speed=60)

        sim.before("motion", rule)
        if seed % 4 == 3:
            # In the middle of the motion, too.
            sim.after("motion", rule)
        tell_contacts(sim, bodies)

    assert_short_as_swept(partial(model, events=("met",), level=level), build, seed, frames=300, every=9)


def ridden(monkeypatch, build, frames, level=None):
    """A run in which a moth rides, asserted to be the same where nobody does."""
    level = level or lt.Level([lt.geometry.box_at((-300, 0), (900, 16))])
    known_ride, rode = WalkingBox.rides, []
    with monkeypatch.context() as counted:
        counted.setattr(WalkingBox, "rides", lambda *args: known_ride(*args) and not rode.append(args))
        known = run(build, frames, level=level)
    assert rode
    with monkeypatch.context() as swept:
        swept.setattr(WalkingBox, "_look_for_ride", lambda self, box, x, y: None)
        assert run(build, frames, level=level).digest == known.digest
    return known


def barge_and_moth(sim, path=((0, 60), (0, 160)), speed=60, **options):
    """A wide barge, and a moth on it that rides from the first frames on."""
    barge = sim.platform("barge", size=(200, 8), path=path, speed=speed)
    moth = sim.body("moth", **{"size": (8, 8), "at": (path[0][0] + 96, path[0][1] + 8), "gravity": 900, **options})

    return barge, moth


def test_who_rides_and_was_away_for_no_row_is_not_run_over_from_above():
    def build(sim):
        sim.platform("lift", size=(80, 8), path=[(280, 92)], speed=0)
        gate = sim.door("gate", at=(296, 150), size=(8, 8))
        moth = sim.body("moth", size=(4, 4), at=(318, 100), gravity=900)

        def rule(now):
            if now.frame == 12:
                assert moth.ride is not None
                # It rode at the edge of two cells, and comes back into one of them.
                moth.x = 700.0
                moth.x = 340.0
            moth.vx = -120.0 * (12 <= now.frame < 32)
            if now.frame in (1, 36):
                gate.lead_to(296, 149 if now.frame == 1 else 90, speed=6000)

        sim.before("motion", rule)

    trace = run(build, 40, level=lt.Level([lt.geometry.box_at((0, 0), (600, 16))]))
    assert trace["moth.x"][35] == 300 and trace["gate.y"][35] == 149 and trace["gate.y"][36:].min() == 104


@pytest.mark.parametrize(
    "at, size, goes",
    [
        # Beside it on both sides, over it, and under what of it hangs over the edge of the barge.
        ((150, 60), (8, 400), {"vx": 60.0}),
        ((20, 60), (8, 400), {"vx": -60.0}),
        ((60, 130), (80, 8), {}),
        ((-12, 20), (11, 8), {"x": -6.0, "path": [(0, 60), (0, 12)]}),
    ],
)
@pytest.mark.parametrize("moves", [False, True])
def test_who_rides_toward_another_that_moves_is_stopped_by_it(at, size, goes, moves, monkeypatch):
    def build(sim):
        # Where it is from the start, or led there while the moth rides.
        far = (at[0] - 300, at[1]) if "x" in goes else (at[0], at[1] + 300)
        start = far if moves else at
        gate = sim.door("gate", at=start, size=size)
        path = goes.get("path", [(0, 60), (0, 160)])
        _, moth = barge_and_moth(sim, path, 60, at=(goes.get("x", 96.0), path[0][1] + 8))

        def rule(now):
            if now.frame == 8 and moves:
                gate.lead_to(*at, speed=3600)
            if now.frame > 20:
                moth.vx = goes.get("vx", 0.0)

        sim.before("motion", rule)

    trace = ridden(monkeypatch, build, 100)
    x, y = trace["moth.x"], trace["moth.y"]
    gaps = np.stack([at[0] - (x + 8), x - (at[0] + size[0]), at[1] - (y + 8), y - (at[1] + size[1])]).max(axis=0)
    assert (gaps[20:] >= 0).all() and (gaps[20:] == 0).any()


@pytest.mark.parametrize("anew", [False, True])
def test_a_door_that_stands_beside_who_rides_and_closes_on_it_pushes_it(anew, monkeypatch):
    if anew:
        # Who flies through many cells has the table made anew, in which the door comes nearer.
        monkeypatch.setattr(movers, "MOST_KNOWN", 8)

    def build(sim):
        if anew:
            sim.body("wick", size=(8, 8), at=(20, 400), velocity=(30_000, 0))
        gate = sim.door("gate", at=(150 + 2_000 * anew, 70), size=(8, 60))
        barge_and_moth(sim, speed=6)
        sim.before("motion", lambda now: now.frame == 10 and gate.lead_to(60, 70, speed=240 + 60_000 * anew))

    trace = ridden(monkeypatch, build, 60, lt.Level([lt.geometry.box_at((-300, 0), (100_000, 16))]))
    assert trace["moth.x"][-1] == 60 - 8 or trace["moth.x"][-1] < 60


def test_who_a_rule_stands_beyond_a_wall_over_its_carrier_does_not_come_back_through_it(monkeypatch):
    def build(sim):
        _, moth = barge_and_moth(sim, speed=6)

        def rule(now):
            if now.frame == 10:
                moth.x, moth.vx = 160.0, -5400.0

        sim.before("motion", rule)

    wall = lt.geometry.box_at((130, 64), (8, 200))
    trace = ridden(monkeypatch, build, 20, lt.Level([lt.geometry.box_at((-300, 0), (900, 16)), wall]))
    assert trace["moth.x"][-1] == 138


@pytest.mark.parametrize("gravity", [0, 900])
def test_who_has_no_gravity_any_more_does_not_follow_a_barge_that_sinks(gravity, monkeypatch):
    def build(sim):
        _, moth = barge_and_moth(sim, [(0, 160), (0, 60)])
        sim.before("motion", lambda now: now.frame == 10 and setattr(moth, "gravity", gravity))

    trace = ridden(monkeypatch, build, 20)
    assert (trace["moth.y"] == trace["barge.y"] + 8)[10:].all() == (gravity > 0)


def test_a_crate_over_a_barge_holds_who_rides_up_to_it(monkeypatch):
    def build(sim):
        sim.crate("crate", size=(40, 8), at=(80, 100), gravity=0)
        sim.platform("barge", size=(200, 8), path=[(0, 60), (0, 160)], speed=60)
        sim.body("moth", size=(8, 8), at=(96, 68), gravity=900)

    trace = ridden(monkeypatch, build, 60)
    assert trace["moth.y"].max() + 8 <= trace["crate.y"].max()


def test_walls_that_come_about_who_rides_hold_it(monkeypatch):
    def build(sim):
        _, moth = barge_and_moth(sim)
        punt = sim.enclosure("punt", at=(60, 50), size=(100, 60), holds=[])
        sim.before("motion", lambda now: now.frame == 10 and punt.board(moth))

    trace = ridden(monkeypatch, build, 60)
    assert trace["moth.y"].max() == 50 + 60 - 8


@pytest.mark.parametrize("leaves", ["nothing", "whole", "upward"])
def test_who_rides_takes_along_what_is_said_of_it_where_it_hops_or_walks_off(leaves, monkeypatch):
    def build(sim):
        _, moth = barge_and_moth(sim, [(0, 60), (120, 110)], 90, leaves_with=leaves)
        sim.body("wick", size=(8, 8), at=(8, 68), gravity=900, leaves_with=leaves)
        wick = sim.parts["wick"]

        def rule(now):
            if now.frame == 30:
                moth.launch(vy=200)
            wick.vx = -60.0 * (now.frame > 20)

        sim.before("motion", rule)

    trace = ridden(monkeypatch, build, 60)
    assert [event.source for event in trace.events if event.name == "left_ground"] == ["moth", "wick"]


@pytest.mark.parametrize("speed", [47, 2010])
@pytest.mark.parametrize("first, last", [(-20.1, 40.7), (-0.0, -0.0), (0.1, -0.3)])
def test_places_about_0_are_come_to_bit_for_bit_by_who_rides(first, last, speed, monkeypatch):
    def build(sim):
        _, moth = barge_and_moth(sim, [(first, 0.1), (last, 0.1), (last, -33.3)], speed, at=(0.3, 8.1))

        def rule(now):
            if now.frame in (10, 40):
                moth.x = -0.0

        sim.before("motion", rule)

    ridden(monkeypatch, build, 200, lt.Level([lt.geometry.box_at((-300, -200), (900, 16))]))
