"""Fans, hurtboxes and doors in a sim against the same looked at by hand in one hook, with the same recording."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

import larktally as lt

FRAMES = 5_000
LIFTS = 8
LEVEL = lt.Level([lt.geometry.box_at((64.0 * n, 0), (48, 16)) for n in range(60)])


def walker(sim: lt.Sim) -> lt.Body:
    wick = sim.body("wick", size=(12, 20), at=(24, 16))
    sim.before("motion", lambda now: setattr(wick, "vx", 30.0 * (1 - now.frame // 1000 % 2 * 2)))
    return wick


def fan_by_part(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=LEVEL)
    sim.fan("feet", walker(sim), "-y", 5, 8)
    return sim


def fan_by_hand(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=LEVEL)
    wick = walker(sim)
    rays = [sim.value(f"feet.{n}", math.inf) for n in range(5)]
    nearest, hits = sim.value("feet.nearest", math.inf), sim.value("feet.hits", 0)
    cells: dict[int, list[lt.geometry.Box]] = {}
    for box in LEVEL.boxes:
        for cell in range(int(box.low[0] // 64), int(box.high[0] // 64) + 1):
            cells.setdefault(cell, []).append(box)

    def look(now: object = None) -> None:
        x, y, found = wick.x, wick.y, 0
        for n, ray in enumerate(rays):
            at, best = x + 0.5 + 11.0 * n / 4, math.inf
            for box in cells.get(int(at // 64), ()):
                if box.low[0] < at < box.high[0] and box.low[1] < y + 0.5 and y - box.high[1] <= 8:
                    best = min(best, y - box.high[1])
            ray.value = best
            found += best < math.inf
        nearest.value, hits.value = min(ray.value for ray in rays), found

    sim.after("motion", look)
    return sim


def strike(by_part: bool) -> Callable[[lt.Setup], lt.Sim]:
    """A blow every 40 frames, open for 6, at three moths that float by."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, events=("struck",))
        wick = sim.body("wick", size=(12, 20), at=(0, 0))
        moths = [sim.body(f"moth.{n}", size=(8, 8), at=(20 + 30 * n, 4)) for n in range(3)]

        @sim.before("motion")
        def drift(now: lt.StepContext) -> None:
            for n, moth in enumerate(moths):
                moth.vx = (30.0 + 10 * n) * (1 - now.frame // 50 % 2 * 2)

        if by_part:
            heads = [sim.hurtbox(f"{moth.name}.head", moth, size=(8, 4), offset=(0, 2)) for moth in moths]
            swat = sim.hitbox("swat", wick, size=(10, 12), offset=(12, 0), targets=heads)
            sim.after("machines", lambda now: now.frame % 40 == 0 and swat.open(6))
            return sim
        is_open, count = sim.value("swat.open", False), sim.value("swat.struck", 0)
        for moth in moths:
            sim.value(f"{moth.name}.head.open", True)
        struck: set[str] = set()
        left = 0

        @sim.after("machines")
        def shut(now: lt.StepContext) -> None:
            nonlocal left
            left -= 1
            if left == 0:
                is_open.value = False
            if now.frame % 40 == 0:
                is_open.value, count.value, left = True, 0, 6
                struck.clear()

        @sim.after("motion")
        def hit(now: lt.StepContext) -> None:
            if not is_open.value:
                return
            low_x, low_y = wick.x + 6 + 12 - 5, wick.y + 10 - 6
            for moth in moths:
                head_x, head_y = moth.x, moth.y + 4
                meets = low_x < head_x + 8 and head_x < low_x + 10 and low_y < head_y + 4 and head_y < low_y + 12
                if meets and moth.name not in struck:
                    struck.add(moth.name)
                    count.value += 1
                    now.emit("struck", target=moth.name)

        return sim

    return build


def door_by_part(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup)
    gate = sim.door("gate", at=(96, 16), size=(8, 40))
    sim.before(
        "motion", lambda now: now.frame % 60 == 1 and gate.lead_to(96, 56 - 40 * (now.frame // 60 % 2), speed=90)
    )
    return sim


def door_by_hand(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, events=("arrived",))
    x, y, width, height = (
        sim.value(f"gate.{n}", float(v)) for n, v in (("x", 96), ("y", 16), ("width", 8), ("height", 40))
    )
    vx, vy, moving = sim.value("gate.vx", 0.0), sim.value("gate.vy", 0.0), sim.value("gate.moving", False)
    goal = 16.0
    assert x and width and height and vx

    @sim.before("motion")
    def lead(now: lt.StepContext) -> None:
        nonlocal goal
        if now.frame % 60 == 1:
            goal, moving.value = 56.0 - 40 * (now.frame // 60 % 2), True
        before = y.value
        if moving.value:
            way = goal - before
            if abs(way) <= 1.5:
                y.value, moving.value = goal, False
                now.emit("arrived")
            else:
                y.value = before + math.copysign(1.5, way)
        vy.value = (y.value - before) * 60.0

    return sim


def lifts_by_part(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=LEVEL)
    for n in range(LIFTS):
        x = 20.0 + 100 * n
        sim.platform(f"lift.{n}", size=(32, 8), path=[(x, 60), (x, 120)], speed=60)
    for n in range(LIFTS):
        sim.body(f"moth.{n}", size=(12, 20), at=(24 + 100 * n, 68), gravity=900)
    return sim


def lifts_by_hand(setup: lt.Setup) -> lt.Sim:
    """Each lift looks whether its moth stands on it, and takes it along; each moth falls, and is stopped by its lift."""
    sim = lt.Sim(setup, level=LEVEL, events=("landed",))
    lifts, moths = [], []
    for n in range(LIFTS):
        places = [sim.value(f"lift.{n}.{axis}", p) for axis, p in (("x", 20.0 + 100 * n), ("y", 60.0))]
        lifts.append([*places, 120.0])
    for n in range(LIFTS):
        place = [sim.value(f"moth.{n}.{axis}", p) for axis, p in (("x", 24.0 + 100 * n), ("y", 68.0))]
        speed = [sim.value(f"moth.{n}.v{axis}", 0.0) for axis in "xy"]
        moths.append((*place, *speed, sim.value(f"moth.{n}.grounded", True)))

    @sim.before("motion")
    def ride(now: lt.StepContext) -> None:
        for lift, (x, y, vx, vy, grounded) in zip(lifts, moths, strict=True):
            left, low, goal = lift
            before, start = low.value, y.value
            over = left.value < x.value + 12 and x.value < left.value + 32
            if abs(goal - before) <= 1.0:
                low.value, lift[2] = goal, 180.0 - goal
            else:
                low.value = before + math.copysign(1.0, goal - before)
            top = low.value + 8
            if over and grounded.value and abs(start - before - 8) < 1e-9:
                start = top
            x.value += vx.value / 60
            vy.value -= 15.0
            y.value = start + vy.value / 60
            if over and start >= top >= y.value:
                y.value, vy.value, grounded.value = top, 0.0, True
            else:
                grounded.value = False

    return sim


def same(ours: lt.Trace, control: lt.Trace, named: str) -> None:
    """Asserts that both recorded the same rows, and as many events of a name in each."""
    for name in control.channels:
        mine = ours[name][1:] if name.startswith("feet") else ours[name]
        assert mine.tolist() == control[name][len(ours) - len(mine) :].tolist(), name
    rows = [[event.row for event in trace.events.named(named)] for trace in (ours, control)]
    assert rows[0] == rows[1], named


def rows() -> Iterable[tuple[str, float, object, object]]:
    for name, by_part, by_hand, event in (
        ("a fan of five rays / by hand from a cell table", fan_by_part, fan_by_hand, "landed"),
        ("a hitbox and three hurtboxes / by hand", strike(True), strike(False), "struck"),
        ("eight lifts, each with somebody / by hand", lifts_by_part, lifts_by_hand, "landed"),
        ("a door that is led / by hand", door_by_part, door_by_hand, "arrived"),
    ):
        ours, control = lt.Scenario(by_part, frames=FRAMES), lt.Scenario(by_hand, frames=FRAMES)
        same(lt.record(ours), lt.record(control), event)
        yield name, 3.0, lambda ours=ours: lt.record(ours), lambda control=control: lt.record(control)
