"""The one function of a sim's frame against each part's own step, over all examples and over sims made at random."""

from __future__ import annotations

import random
import traceback
from pathlib import Path

import pytest
from tests.test_parity import PRESSES, crowded

import larktally as lt
from larktally.errors import LarkTallyError
from larktally.parts import sim as sims

ROOT = Path(__file__).parent.parent
MODELS = sorted(
    {*(ROOT / "examples").glob("*.py"), *(ROOT / "src/larktally/demo").glob("*.py")}
    - {ROOT / "src/larktally/demo/__init__.py"}
)


def part_by_part(sim, runs):
    """What the generated function has to do."""

    def step():
        for run in runs:
            run.call()

    return step, ""


def both_ways(scenario, monkeypatch, **options):
    """The traces of a scenario as it is, and with each part's own step; the last is what failed where one cannot be run."""
    found = []
    for made in (None, part_by_part):
        with monkeypatch.context() as patch:
            if made is not None:
                patch.setattr(sims, "generated_step", made)
            try:
                found.append(lt.record(scenario, **options))
            except LarkTallyError as error:
                found.append(str(error))
    return found


def same(one, other):
    if isinstance(one, str):
        assert one == other
        return
    assert one.digest == other.digest
    assert [str(event) for event in one.events] == [str(event) for event in other.events]
    assert one.states == other.states


@pytest.mark.parametrize("path", MODELS, ids=lambda path: path.stem)
def test_every_example_runs_the_same_both_ways(path, monkeypatch):
    monkeypatch.chdir(path.parent)
    try:
        scenarios = lt.load_scenarios(path)
    except LarkTallyError as error:
        assert "no scenario" in str(error)
        return
    for scenario in scenarios:
        same(*both_ways(scenario, monkeypatch))


def test_a_part_of_every_kind_runs_the_same_both_ways_with_its_states(monkeypatch):
    scenario = lt.Scenario(crowded, frames=40, inputs=PRESSES, allow_nan=True)
    one, other = both_ways(scenario, monkeypatch, states=[3, 12, 15, 39])
    same(one, other)
    # A state of the one goes on in the other.
    live = lt.Live(scenario)
    with monkeypatch.context() as patch:
        patch.setattr(sims, "generated_step", part_by_part)
        plain = lt.Live(scenario)
        plain.to(15)
        live.load(plain.save(), 15)
        plain.to(35)
    live.to(35)
    assert live.row == plain.row == 35 and live.save() == plain.save()


def grown(seed):
    """A model made at random: two of everything, on clocks and off them, in pools, with guards over what is there."""

    def build(setup):
        chance = random.Random(seed)
        floor = ["." * 24] * 5 + ["#" * 11 + "." + "#" * 12]
        level = lt.Level.from_rows("\n".join(floor), cell=16)
        sim = lt.Sim(setup, level=level, actions=("left", "right", "hop"), events=("called",))
        clocks = [None]
        if chance.random() < 0.5:
            clocks.append(sim.clock("slow", "1/2").name)
        if chance.random() < 0.4:
            sim.clock("play", chance.choice(["1/1", "2/3"]))
        on = lambda: {"clock": clock} if (clock := chance.choice(clocks)) else {}  # noqa: E731 - drawn anew for each
        bodies, rests = [], []
        for n in range(chance.randint(1, 4)):
            options = chance.choice(
                [
                    {},
                    {},
                    {"limit": {"x": 90.0}},
                    {"probe": 2.0},
                    {"bounce": 0.5},
                    {"shows": ("touching",)},
                    {"leaves_with": "whole"},
                ]
            )
            at = (16.0 * chance.randint(1, 20) + chance.choice([0, 4]), chance.choice([16, 16, 40]))
            bodies.append(
                sim.body(f"b{n}", size=(12, 14), at=at, gravity=chance.choice([900, 900, 0]), **options, **on())
            )
        for n in range(chance.randint(1, 4)):
            style = chance.choice([None, None, "summed"])
            rests.append(sim.cooldown(f"r{n}", chance.randint(1, 9), charges=chance.randint(1, 2), style=style, **on()))
        timers = [
            sim.countdown("c", chance.randint(2, 20), each=chance.choice([None, "frame"]), **on()),
            sim.stopwatch("lap", running=chance.random() < 0.5, **on()),
            sim.delay("later", chance.randint(1, 6), **on()),
            sim.time_window("chance", 4, **on()),
            sim.stock("sparks", 3, chance.randint(2, 6), **on()),
            sim.gate("once", 3, **on()),
            sim.grace("grace", 3, **on()),
        ]
        look = sim.animation("look", {"idle": lt.Clip(6, loop=True), "swing": lt.Clip(3)}, "idle", **on())
        stat = sim.stat("damp", 120)
        flaps = sim.air_uses("flaps", bodies[0], 2)
        sim.platform("barge", size=(30, 4), path=[(40, 17), (120, 40)], speed=60)
        zones = []
        for n in range(chance.randint(0, 4)):
            left = 16.0 * chance.randint(0, 20)
            # Flush with where a body stands, once in a while.
            zone = sim.zone(
                f"z{n}",
                (left, 16),
                (left + chance.choice([12, 40]), 30),
                watch=bodies[: chance.randint(1, len(bodies))],
                once=chance.random() < 0.3,
                **on(),
            )
            zones.append(zone)
        pool = sim.pool(
            "spark",
            lambda scope: (
                scope.body("body", size=(2, 2), at=(40, 30), velocity=(90, 20), gravity=300),
                scope.cooldown("rest", 3),
            ),
            3,
        )
        guards = [
            "pressed('hop')",
            "r0.ready",
            "r0.left > 2",
            "b0.grounded",
            "b0.vy < 0",
            "event('used')",
            "held('left')",
            "c.left < 5",
            "not r0.ready and b0.x > 60",
            "b0.x / 7 > 9 or event('landed')",
        ]
        states = ("rest", "walk", "air")
        for n in range(chance.randint(1, 3)):
            extra = chance.choice([{}, {}, {"settle": 2}, {"order": "during-first"}, {"changes": "each"}])
            machine = sim.machine(f"m{n}", states, "rest", **extra, **on())
            for _ in range(chance.randint(1, 5)):
                rule = machine.transition(
                    chance.sample(states, chance.randint(1, 2)),
                    to=chance.choice(states),
                    after=chance.choice([None, None, 1, 4]),
                    when=chance.choice([*guards, lambda now: now.frame % 5 == 0]),
                )
                if chance.random() < 0.5:
                    one = chance.choice(rests)
                    rule(lambda now, one=one: one.use())
            if chance.random() < 0.7:
                body = chance.choice(bodies)
                machine.during("walk")(lambda now, body=body: setattr(body, "vx", 80.0 * now.axis("left", "right")))
            if n and chance.random() < 0.5:
                machine.enter("air")(lambda now: sim.parts["m0"].go("walk"))

        # Before the timers and after them, so that one is started in the step that would count it, too.
        @sim.before("timers")
        @sim.after("machines")
        def odd(now):
            if not now.random.chance(0.2):
                return
            what = now.random.pick(["launch", "start", "start", "spawn", "walk", "stat", "used", "ask", "stop", "zone"])
            if what == "launch":
                bodies[0].launch(vy=260)
            elif what == "start":
                for one in timers[:3]:
                    one.start()
                timers[3].open()
                look.play(now.random.pick(["idle", "swing"]))
            elif what == "spawn":
                pool.spawn()
            elif what == "walk":
                bodies[-1].vx = 60.0 - 120.0 * now.random.unit()
            elif what == "stat":
                stat.modify("rain", scale=0.5, frames=5)
            elif what == "used":
                rests[-1].use()
                flaps.use()
            elif what == "ask":
                timers[5].ask() and timers[5].take()
                timers[6].hurt()
                timers[4].use()
            elif what == "zone":
                for one in zones:
                    one.used = not one.used
            else:
                timers[0].stop()
                for thing in pool:
                    pool.remove(thing)

        return sim

    return build


@pytest.mark.parametrize("seed", range(60))
def test_sims_made_at_random_run_the_same_both_ways(seed, monkeypatch):
    script = lt.InputScript.at_random({"left": 0.05, "right": 0.05, "hop": 0.08}, 150, seed=seed, hold=12)
    scenario = lt.Scenario(grown(seed), frames=150, inputs=script, allow_nan=True)
    one, other = both_ways(scenario, monkeypatch, states=[0, 1, 40, 149])
    assert not isinstance(one, str), one
    same(one, other)


def test_who_is_launched_off_what_carries_it_takes_its_speed_along_both_ways(monkeypatch):
    def build(setup):
        sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((0, 0), (400, 8))]))
        wick = sim.body("wick", size=(8, 8), at=(30, 24), gravity=900, leaves_with="whole")
        sim.platform("barge", size=(40, 8), path=[(20, 16), (200, 16)], speed=60)
        sim.after("machines", lambda now: now.frame == 20 and wick.launch(vy=200))
        return sim

    one, other = both_ways(lt.Scenario(build, frames=40), monkeypatch)
    same(one, other)
    assert one["wick.vx"][19] == 0 and one["wick.vx"][21] == 60


def zones_among(seed):
    """Bodies that fly and are put among zones that nest, touch and lie on each other, at whole numbers and flush; a rule uses
    zones up, makes them fresh, says who they hold, and snaps."""

    def build(setup):
        chance = random.Random(seed)
        sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((-100, -12), (600, 12))]))
        bodies = []
        for n in range(chance.randint(1, 3)):
            at = (8 * chance.randint(0, 30), 8 * chance.randint(0, 10))
            bodies.append(
                sim.body(
                    f"b{n}",
                    size=(8, 8),
                    at=at,
                    gravity=chance.choice([0, 600]),
                    anchor=chance.choice(["corner", "centre"]),
                )
            )
        zones = []
        for n in range(chance.randint(3, 12)):
            low = (8 * chance.randint(-2, 30), 8 * chance.randint(-1, 10))
            high = (low[0] + 8 * chance.randint(1, 9), low[1] + 8 * chance.randint(1, 5))
            watch = chance.sample(bodies, chance.randint(1, len(bodies)))
            zones.append(sim.zone(f"z{n}", low=low, high=high, watch=watch, once=chance.random() < 0.3))

        @sim.after("machines")
        def meddle(now):
            for body in bodies:
                if now.random.chance(0.3):
                    body.vx, body.vy = (now.random.pick([-480.0, -37.5, -0.0, 60.0, 480.0]) for _ in "xy")
                if now.random.chance(0.05):
                    body.put(8.0 * now.random.whole(0, 30), 8.0 * now.random.whole(0, 10))
            if now.random.chance(0.05):
                one = now.random.pick(zones)
                one.used = not one.used
            if now.random.chance(0.05):
                one = now.random.pick(zones)
                one.holds = {name: now.random.chance(0.5) for name in one.holds}

        @sim.before("zones")
        def late(now):
            if now.random.chance(0.05):
                now.random.pick(zones).snap(bodies[0])

        return sim

    return build


@pytest.mark.parametrize("seed", range(40))
def test_zones_asked_together_say_what_each_says_also_when_it_is_put_back(seed, monkeypatch):
    scenario = lt.Scenario(zones_among(seed), frames=200)
    one, other = both_ways(scenario, monkeypatch, states=[0, 60, 150])
    same(one, other)
    live = lt.Live(scenario)
    live.to(200)
    for row in (150, 0, 60):
        live.load(one.states[row], row)
        for at in range(row + 1, row + 41):
            live.step()
            assert live.values == {name: other[name][at] for name in other.channels}, at


def test_its_text_is_read_and_printed_and_a_crowd_is_as_short_as_one(monkeypatch):
    def crowd(count):
        def build(setup):
            sim = lt.Sim(setup)
            for n in range(count):
                sim.cooldown(f"r{n}", 3)
            return sim

        return build

    texts = [lt.Live(lt.Scenario(crowd(count), frames=1)).sim.step_text() for count in (5, 500)]
    assert "# timers: r0, r1, r2, r3 and 1 more" in texts[0]
    assert texts[1] == texts[0].replace("1 more", "496 more")
    with pytest.raises(lt.ModelError, match="once it is reset"):
        lt.Sim(lt.Live(lt.Scenario(crowd(1), frames=1)).sim.setup).step_text()


def test_a_step_of_a_users_own_is_called_and_its_fault_is_shown_with_its_line():
    class Odd(type(lt.Live(lt.Scenario(crowded, frames=1)).sim.parts["rest"])):
        def step(self):
            super().step()
            if self.sim.frame == 3:
                raise ValueError("three")

    def build(setup):
        sim = lt.Sim(setup)
        sim.add(Odd(sim, "odd", 5))
        return sim

    with pytest.raises(lt.SubjectFailed, match="row 3: step failed: ValueError: three") as raised:
        lt.record(lt.Scenario(build, frames=9))
    shown = "".join(traceback.format_exception(raised.value))
    assert "me()" in shown and "larktally step" in shown


def test_who_watches_a_run_of_each_part_sees_it_and_then_it_is_one_function_again():
    live = lt.Live(lt.Scenario(crowded, frames=40, inputs=PRESSES, allow_nan=True))
    plain = lt.Live(lt.Scenario(crowded, frames=40, inputs=PRESSES, allow_nan=True))
    seen = []
    live.to(10)
    end = live.sim.watch_runs(lambda phase, name, run: (seen.append(name), run()))
    live.to(15)
    assert "# timers: rest" in live.sim.step_text()
    live.to(20)
    count = len(seen)
    end()
    live.to(30)
    plain.to(30)
    assert count == len(seen) == 10 * sum(len(names) for _, names in live.sim.order())
    assert live.save() == plain.save()
