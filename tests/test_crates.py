import random

import pytest
from tests.test_sim import model, run
from tests.test_space import tell_contacts

import larktally as lt
from larktally.parts.space.body import Body
from larktally.parts.space.movers import Movers
from larktally.parts.space.solid_box import SolidBox


def stood_somewhere(start, count, xs, ys, sign):
    """Places of boxes of 8 by 8, on or over a floor that ends at 16."""
    places = [(start.choice(xs), start.choice(ys)) for _ in range(count)]
    return [(x, y if sign > 0 else -y - 8) for x, y in places]


def world(seed):
    """A model with crates side by side, upon each other and on what moves, which rules and bodies push about."""
    start = random.Random(seed)
    up = start.choice(["+y", "+y", "+y", "-y", None])
    sign, gravity = -1 if up == "-y" else 1, 900 * (up is not None)
    solids = [((0, 0), (400, 16)), ((190, 16), (8, 40)), ((300, 30), (30, 6)), ((60, 60), (60, 4))]
    boxes = []
    for (x, y), (w, h) in solids:
        plank = up is not None and h == 4
        boxes.append(lt.geometry.box_at((x, y if sign > 0 else -y - h), (w, h), one_way=plank))
    places = stood_somewhere(start, start.randint(1, 7), [16, 24, 32, 40, 100, 108, 116, 250], [16, 24, 32, 64], sign)
    starts = stood_somewhere(start, start.randint(1, 5), [8, 50, 58, 124, 260, 64], [16, 24, 80], sign)
    sizes = [(start.choice([8, 8, 16]), 8) for _ in places]
    share = start.choice([0.5, 1.0])

    def build(sim):
        crates, bodies = [], []
        for n, (at, size) in enumerate(zip(places, sizes)):
            layer = ("crate", "wood")[n % 3 == 2]
            crates.append(sim.crate(f"crate.{n}", size=size, at=at, gravity=gravity, share=share, layer=layer))
        for n, at in enumerate(starts):
            layers = (None, None, ["solid", "crate"])[n % 3]
            leaves = ("nothing", "whole")[n % 4 == 3 and up is not None]
            bodies.append(sim.body(f"moth.{n}", size=(8, 8), at=at, gravity=gravity, layers=layers, leaves_with=leaves))
        if seed % 2:
            sim.platform("lift", size=(40, 8), path=[(100, 20 * sign), (100, 80 * sign)], speed=60)
            sim.platform("barge", size=(40, 8), path=[(20, 40 * sign), (160, 40 * sign)], speed=45)
        if seed % 5 == 0:
            sim.enclosure("punt", at=(200, 60 if sign > 0 else -120), size=(60, 60), holds=bodies[:1])

        def rule(now):
            draw = now.random
            for body in bodies:
                if draw.chance(0.06):
                    body.vx = draw.pick([0.0, 60.0, -60.0, 120.0, -240.0, 480.0, 75.5])
                if up is None and draw.chance(0.05):
                    body.vy = draw.pick([0.0, 60.0, -60.0])
                if body.grounded and draw.chance(0.04):
                    body.launch(vy=260 * sign)
            for body in (*crates, *bodies):
                if draw.chance(0.006):
                    body.put(draw.pick([24.0, 48.5, 100.0, 250.0]), draw.pick([16.0, 40.0, 90.0]) * sign)
                if draw.chance(0.006):
                    body.x += draw.pick([-8, 8, 0.5])
                if draw.chance(0.004):
                    body.y += draw.pick([8, 0.5])
            for crate in crates:
                if draw.chance(0.005):
                    crate.solid = not crate.solid
                if draw.chance(0.004):
                    crate.layer = draw.pick(["crate", "wood"])
                if draw.chance(0.004):
                    crate.vx = draw.pick([60.0, -120.0])

        sim.before("motion", rule)
        if seed % 7 == 3:
            # In the middle of the motion, too.
            sim.after("motion", rule)
        tell_contacts(sim, (*crates, *bodies))

    made = model(build, level=lt.Level(boxes, up=up), events=("met",))
    return lt.Scenario(made, seed=seed, frames=220, allow_nan=True)


@pytest.mark.parametrize("seed", range(60))
def test_crates_find_who_is_near_as_those_do_who_look_at_everybody(seed, monkeypatch):
    found = lt.record(world(seed), states=37)
    inits = Body.__init__

    def swept(self, *args, **options):
        inits(self, *args, **options)
        self._short = False

    monkeypatch.setattr(Body, "__init__", swept)
    monkeypatch.setattr(Movers, "near", lambda self, low, high: self.all)
    monkeypatch.setattr(SolidBox, "bodies_within", lambda self, low, high: self.sim.parts_of(Body))
    slow = lt.record(world(seed), states=37)
    assert slow.digest == found.digest
    assert slow.states == found.states
    live = lt.Live(world(seed))
    for row in (185, 74, 148):
        live.load(found.states[row], row)
        live.to(row + 37)
        assert row + 37 not in found.states or live.save() == found.states[row + 37]


QUAY = [lt.geometry.box_at((0, 0), (400, 16))]


def test_a_crate_is_not_in_its_own_way_wherever_it_is_put():
    def build(sim):
        crate = sim.crate("crate", size=(8, 8), at=(40, 16), gravity=900)

        def rule(now):
            if now.frame in (3, 9):
                crate.put(now.random.pick([80.0, 120.5]), 16)
            assert crate.would_overlap((0, 0)) == crate.would_overlap((0, 0), layers=["crate", "solid"]) == []

        sim.before("motion", rule)

    trace = run(build, 12, level=lt.Level(QUAY))
    assert not list(trace.events.named("overlapping")) and trace["crate.grounded"].all()


def test_a_crate_that_is_shifted_while_the_model_is_built_pushes_who_is_in_its_way():
    def build(sim):
        moth = sim.body("moth", size=(8, 8), at=(120, 16))
        crate = sim.crate("crate", size=(8, 8), at=(60, 16))
        assert crate.shift([60, 0]) == [] and moth.x == 128
        sim.before("motion", lambda now: setattr(moth, "x", moth.x + 4))

    assert run(build, 3, level=lt.Level(QUAY))["moth.x"].tolist() == [128, 132, 136, 140]


def test_a_crate_that_comes_back_to_where_it_began_is_met_there():
    def build(sim):
        crate = sim.crate("crate", size=(8, 8), at=(100, 16), share=0.0)
        moth = sim.body("moth", size=(8, 8), at=(20, 16), gravity=900)

        def rule(now):
            moth.vx = 60.0
            # Far off while the moth comes near, and back in one frame.
            if now.frame in (2, 50):
                crate.put(300.0 if now.frame == 2 else 100.0, 16)

        sim.before("motion", rule)

    assert run(build, 120, level=lt.Level(QUAY))["moth.x"][-1] == 92


@pytest.mark.parametrize("layers, pushed", [(["solid"], False), (["solid", "crate"], True)])
def test_a_crate_is_pushed_only_by_who_stops_at_its_layer(layers, pushed):
    def build(sim):
        sim.crate("crate", size=(8, 8), at=(60, 16), gravity=900)
        moth = sim.body("moth", size=(8, 8), at=(52, 16), gravity=900, layers=layers)
        sim.before("motion", lambda now: setattr(moth, "vx", 60.0))

    assert (run(build, 3, level=lt.Level(QUAY))["crate.x"][-1] > 60) == pushed


@pytest.mark.parametrize("change", [{"layer": "wood"}, {"solid": False}])
def test_who_stands_on_a_crate_that_is_none_any_more_falls(change):
    def build(sim):
        crate = sim.crate("crate", size=(24, 8), at=(60, 40), layer="crate")
        sim.crate("other", size=(8, 8), at=(300, 16), gravity=900, layer="wood")
        moth = sim.body("moth", size=(8, 8), at=(66, 48), gravity=900, layers=["solid", "crate"])

        def rule(now):
            if now.frame == 10:
                assert moth.ride is not None
                for name, value in change.items():
                    setattr(crate, name, value)

        sim.before("motion", rule)

    trace = run(build, 40, level=lt.Level(QUAY))
    assert trace["moth.grounded"][:10].all() and not trace["moth.grounded"][10] and trace["moth.y"][-1] == 16


def test_a_lift_takes_along_a_tall_crate_and_who_stands_on_that():
    def build(sim):
        sim.platform("lift", size=(40, 8), path=[(60, 20), (60, 80)], speed=60)
        sim.crate("crate", size=(8, 40), at=(70, 28), gravity=900)
        sim.body("moth", size=(8, 8), at=(70, 68), gravity=900)

    trace = run(build, 50, level=lt.Level(QUAY))
    assert trace["moth.grounded"].all()
    assert (trace["moth.y"] == trace["crate.y"] + 40).all() and (trace["crate.y"] == trace["lift.y"] + 8).all()
