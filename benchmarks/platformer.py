"""A platformer and a crowd in a sim, against what a strong engineer writes by hand for the same rows.

Flat state in local names, a tuple a row, columns at the end; every channel and event is asserted to be the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

import larktally as lt

FRAMES = 6_000
LEFT, RIGHT = 40.0, 3900.0
ZONES = ((400.0, 480.0), (1000.0, 1060.0), (1800.0, 1900.0), (2600.0, 2700.0))
RESTS = {"hop": 20, "turn": 12, "call": 90, "look": 33, "wave": 47, "step": 15}
CHANNELS = [
    "wick.x", "wick.y", "wick.vx", "wick.vy", "wick.grounded", "facing", "hop.left", "hop.ready", "turn.left",
    "turn.ready", "call.left", "call.ready", "look.left", "look.ready", "wave.left", "wave.ready", "step.left",
    "step.ready", "gait", "gait.age", "mood", "mood.age", "lamp", "lamp.age", "lamp.0.wick", "lamp.1.wick",
    "lamp.2.wick", "lamp.3.wick",
]  # fmt: skip


def ground() -> lt.Level:
    """A floor of 99 boxes, 99 more out of reach, and a wall at each end: 200 in all."""
    floor = [lt.geometry.box_at((40.0 * n, 0), (40, 16)) for n in range(99)]
    above = [lt.geometry.box_at((40.0 * n, 200), (30, 10)) for n in range(99)]
    walls = [lt.geometry.box_at((0, 16), (40, 150)), lt.geometry.box_at((3912, 16), (40, 150))]
    return lt.Level([*floor, *above, *walls])


def by_parts(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=LEVEL, actions=("left", "right", "hop"))
    wick = sim.body("wick", size=(12, 20), at=(1024, 16), gravity=900)
    facing = sim.value("facing", 1)
    rests = {name: sim.cooldown(name, frames) for name, frames in RESTS.items()}
    gait = sim.machine("gait", ("standing", "airborne"), "standing")
    mood = sim.machine("mood", ("calm", "alert"), "calm")
    lamp = sim.machine("lamp", ("dark", "lit"), "dark")
    for n, (low, high) in enumerate(ZONES):
        sim.zone(f"lamp.{n}", watch=[wick], low=(low, 16), high=(high, 60))

    @gait.during("standing", "airborne")
    def steer(now: lt.StepContext) -> None:
        way = now.axis("left", "right")
        wick.vx = 150.0 * way
        facing.value = int(way) or facing.value
        if now.pressed("left") and rests["turn"].ready:
            rests["turn"].use()

    @gait.transition("standing", to="airborne", when="pressed('hop') and hop.ready")
    def push_off(now: lt.StepContext) -> None:
        wick.launch(vy=360)
        rests["hop"].use()

    gait.transition("airborne", to="standing", when="wick.grounded")
    mood.transition("calm", to="alert", when="lamp.0.wick or lamp.2.wick")
    mood.transition("alert", to="calm", after=50)
    lamp.transition("dark", to="lit", when="mood == 'alert' and step.ready")(lambda now: rests["step"].use())
    lamp.transition("lit", to="dark", after=25)

    @sim.after("machines")
    def idle(now: lt.StepContext) -> None:
        for name in ("call", "look", "wave"):
            if rests[name].ready:
                rests[name].use()

    return sim


def by_hand(held: list[tuple[bool, bool, bool]]) -> tuple[dict[str, Any], list[tuple[int, str]]]:
    """The same in one loop over local names; (columns, events)."""
    x, y, vx, vy, grounded, facing = 1024.0, 16.0, 0.0, 0.0, True, 1
    hop = turn = call = look = wave = step = 0
    gait, gait_age, mood, mood_age, lamp, lamp_age = "standing", 0, "calm", 0, "dark", 0
    # He stands in the second zone from the start.
    inside = [False, True, False, False]
    events: list[tuple[int, str]] = [(0, "entered")]
    emit = events.append
    rows = [(x, y, vx, vy, True, 1, *((0, True) * 6), gait, 0, mood, 0, lamp, 0, *inside)]
    was_left = was_hop = False
    for frame in range(1, FRAMES + 1):
        left, right, hopped = held[frame]
        if hop:
            hop -= 1
            if not hop:
                emit((frame, "ready"))
        if turn:
            turn -= 1
            if not turn:
                emit((frame, "ready"))
        if call:
            call -= 1
            if not call:
                emit((frame, "ready"))
        if look:
            look -= 1
            if not look:
                emit((frame, "ready"))
        if wave:
            wave -= 1
            if not wave:
                emit((frame, "ready"))
        if step:
            step -= 1
            if not step:
                emit((frame, "ready"))
        gait_age += 1
        launched = False
        if gait == "standing":
            if hopped and not was_hop and not hop:
                vy, hop, gait, gait_age, launched = 360.0, 20, "airborne", 0, True
                emit((frame, "used"))
                emit((frame, "changed"))
        elif grounded:
            gait, gait_age = "standing", 0
            emit((frame, "changed"))
        way = right - left
        vx = 150.0 * way
        facing = way or facing
        if left and not was_left and not turn:
            turn = 12
            emit((frame, "used"))
        mood_age += 1
        if mood == "calm":
            if inside[0] or inside[2]:
                mood, mood_age = "alert", 0
                emit((frame, "changed"))
        elif mood_age >= 50:
            mood, mood_age = "calm", 0
            emit((frame, "changed"))
        lamp_age += 1
        if lamp == "dark":
            if mood == "alert" and not step:
                step, lamp, lamp_age = 15, "lit", 0
                emit((frame, "used"))
                emit((frame, "changed"))
        elif lamp_age >= 25:
            lamp, lamp_age = "dark", 0
            emit((frame, "changed"))
        if not call:
            call = 90
            emit((frame, "used"))
        if not look:
            look = 33
            emit((frame, "used"))
        if not wave:
            wave = 47
            emit((frame, "used"))
        vy -= 15.0
        new_x, new_y = x + vx / 60.0, y + vy / 60.0
        if vx:
            if new_x < LEFT or new_x > RIGHT:
                new_x, vx = (LEFT if new_x < LEFT else RIGHT), 0.0
            x = new_x
        if new_y <= 16.0:
            y, vy = 16.0, 0.0
            if not grounded:
                emit((frame, "landed"))
            grounded = True
        else:
            y = new_y
            if launched:
                emit((frame, "left_ground"))
            grounded = False
        low, high, top = x, x + 12.0, y < 60.0
        for n, (first, last) in enumerate(ZONES):
            there = low < last and first < high and top
            if there is not inside[n]:
                emit((frame, "entered" if there else "left"))
                inside[n] = there
        was_left, was_hop = left, hopped
        rows.append(
            (
                x, y, vx, vy, grounded, facing,
                hop, not hop, turn, not turn, call, not call, look, not look, wave, not wave, step, not step,
                gait, gait_age, mood, mood_age, lamp, lamp_age, *inside,
            )
        )  # fmt: skip
    return {name: np.array(column) for name, column in zip(CHANNELS, zip(*rows, strict=True), strict=True)}, events


class Evening:
    """The same as a class has it: its state in attributes, a method a frame."""

    def __init__(self) -> None:
        self.x, self.y, self.vx, self.vy, self.grounded, self.facing = 1024.0, 16.0, 0.0, 0.0, True, 1
        self.rests = dict.fromkeys(RESTS, 0)
        self.gait, self.gait_age, self.mood, self.mood_age, self.lamp, self.lamp_age = (
            "standing",
            0,
            "calm",
            0,
            "dark",
            0,
        )
        self.inside = [False, True, False, False]
        self.was_left = self.was_hop = self.launched = False
        self.events: list[tuple[int, str]] = [(0, "entered")]

    def emit(self, frame: int, name: str) -> None:
        self.events.append((frame, name))

    def use(self, frame: int, name: str) -> None:
        self.rests[name] = RESTS[name]
        self.emit(frame, "used")

    def step(self, frame: int, left: bool, right: bool, hopped: bool) -> None:
        for name, rest in self.rests.items():
            if rest:
                self.rests[name] = rest - 1
                if rest == 1:
                    self.emit(frame, "ready")
        self.steer(frame, left, right, hopped)
        self.feel(frame)
        for name in ("call", "look", "wave"):
            if not self.rests[name]:
                self.use(frame, name)
        self.move(frame)
        self.look(frame)
        self.was_left, self.was_hop = left, hopped

    def steer(self, frame: int, left: bool, right: bool, hopped: bool) -> None:
        self.gait_age += 1
        self.launched = False
        if self.gait == "standing":
            if hopped and not self.was_hop and not self.rests["hop"]:
                self.vy, self.launched = 360.0, True
                self.use(frame, "hop")
                self.gait, self.gait_age = "airborne", 0
                self.emit(frame, "changed")
        elif self.grounded:
            self.gait, self.gait_age = "standing", 0
            self.emit(frame, "changed")
        way = right - left
        self.vx = 150.0 * way
        self.facing = way or self.facing
        if left and not self.was_left and not self.rests["turn"]:
            self.use(frame, "turn")

    def feel(self, frame: int) -> None:
        self.mood_age += 1
        if self.mood == "calm":
            if self.inside[0] or self.inside[2]:
                self.mood, self.mood_age = "alert", 0
                self.emit(frame, "changed")
        elif self.mood_age >= 50:
            self.mood, self.mood_age = "calm", 0
            self.emit(frame, "changed")
        self.lamp_age += 1
        if self.lamp == "dark":
            if self.mood == "alert" and not self.rests["step"]:
                self.use(frame, "step")
                self.lamp, self.lamp_age = "lit", 0
                self.emit(frame, "changed")
        elif self.lamp_age >= 25:
            self.lamp, self.lamp_age = "dark", 0
            self.emit(frame, "changed")

    def move(self, frame: int) -> None:
        self.vy -= 15.0
        x, y = self.x + self.vx / 60.0, self.y + self.vy / 60.0
        if self.vx:
            if x < LEFT or x > RIGHT:
                x, self.vx = (LEFT if x < LEFT else RIGHT), 0.0
            self.x = x
        if y <= 16.0:
            self.y, self.vy = 16.0, 0.0
            if not self.grounded:
                self.emit(frame, "landed")
            self.grounded = True
        else:
            self.y = y
            if self.launched:
                self.emit(frame, "left_ground")
            self.grounded = False

    def look(self, frame: int) -> None:
        for n, (first, last) in enumerate(ZONES):
            there = self.x < last and first < self.x + 12.0 and self.y < 60.0
            if there is not self.inside[n]:
                self.emit(frame, "entered" if there else "left")
                self.inside[n] = there

    def row(self) -> tuple[Any, ...]:
        rests = [value for left in self.rests.values() for value in (left, not left)]
        return (
            self.x, self.y, self.vx, self.vy, self.grounded, self.facing, *rests,
            self.gait, self.gait_age, self.mood, self.mood_age, self.lamp, self.lamp_age, *self.inside,
        )  # fmt: skip


def by_class(held: list[tuple[bool, bool, bool]]) -> tuple[dict[str, Any], list[tuple[int, str]]]:
    evening = Evening()
    rows = [evening.row()]
    for frame in range(1, FRAMES + 1):
        evening.step(frame, *held[frame])
        rows.append(evening.row())
    return {
        name: np.array(column) for name, column in zip(CHANNELS, zip(*rows, strict=True), strict=True)
    }, evening.events


LEVEL = ground()


def script() -> lt.InputScript:
    return lt.InputScript.at_random({"left": 0.015, "right": 0.02, "hop": 0.02}, FRAMES, seed=5, hold=60)


def held_of(trace: lt.Trace) -> list[tuple[bool, bool, bool]]:
    columns = [trace.inputs.get(name, np.zeros(trace.rows)) != 0 for name in ("left", "right", "hop")]
    return list(zip(*(column.tolist() for column in columns), strict=True))


def same(trace: lt.Trace, columns: dict[str, Any], events: list[tuple[int, str]]) -> None:
    """Asserts that both have the same rows, and as many events of each name in each row."""
    for name, column in columns.items():
        assert trace[name].tolist() == column.tolist(), name
    named = sorted((event.row, event.name) for event in trace.events if event.name != "bumped")
    assert named == sorted(events)


def crowd_by_parts(count: int) -> Callable[[lt.Setup], lt.Sim]:
    """So many bodies that walk to and fro by a cooldown each, with a machine each."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=LEVEL)
        for n in range(count):
            one(sim.under(f"moth.{n}"), n)
        return sim

    def one(view: lt.SimScope, n: int) -> None:
        body = view.body("body", size=(10, 10), at=(200 + 60 * n, 16), gravity=900)
        rest = view.cooldown("rest", 20 + n % 7)
        mood = view.machine("mood", ("go", "come"), "go")
        mood.transition("go", to="come", when="rest.ready")(lambda now: rest.use())
        mood.transition("come", to="go", when="rest.ready")(lambda now: rest.use())
        mood.during("go")(lambda now: setattr(body, "vx", 30.0))
        mood.during("come")(lambda now: setattr(body, "vx", -30.0))

    return build


class Moth:
    """One of a crowd as objects with slots have it."""

    __slots__ = ("age", "left", "mood", "rest", "vx", "x", "y")

    def __init__(self, n: int) -> None:
        self.x, self.y, self.vx = 200.0 + 60 * n, 16.0, 0.0
        self.rest, self.left, self.mood, self.age = 20 + n % 7, 0, "go", 0

    def step(self) -> None:
        if self.left:
            self.left -= 1
        self.age += 1
        if not self.left:
            self.mood = "come" if self.mood == "go" else "go"
            self.age, self.left = 0, self.rest
        self.vx = 30.0 if self.mood == "go" else -30.0
        x = self.x + self.vx / 60.0
        self.x = min(max(x, LEFT), RIGHT + 2.0)

    def row(self) -> tuple[Any, ...]:
        return (self.x, self.y, self.vx, 0.0, True, self.left, not self.left, self.mood, self.age)


def crowd_by_hand(count: int, frames: int) -> dict[str, Any]:
    moths = [Moth(n) for n in range(count)]
    rows = [sum((moth.row() for moth in moths), ())]
    for _ in range(frames):
        row: list[Any] = []
        for moth in moths:
            moth.step()
            row += moth.row()
        rows.append(tuple(row))
    names = ["body.x", "body.y", "body.vx", "body.vy", "body.grounded", "rest.left", "rest.ready", "mood", "mood.age"]
    keys = [f"moth.{n}.{name}" for n in range(count) for name in names]
    return {name: np.array(column) for name, column in zip(keys, zip(*rows, strict=True), strict=True)}


def rows() -> Iterable[tuple[str, float, object, object]]:
    scenario = lt.Scenario(by_parts, frames=FRAMES, inputs=script())
    trace = lt.record(scenario)
    held = held_of(trace)
    same(trace, *by_hand(held))
    assert len(trace.channels) == 28
    yield (
        "platformer of 28 channels / flat state by hand",
        2.0,
        lambda: lt.record(scenario),
        lambda: by_hand(held),
    )
    same(trace, *by_class(held))
    yield "the same / a class with attributes", 1.3, lambda: lt.record(scenario), lambda: by_class(held)
    many = lt.Scenario(crowd_by_parts(50), frames=600)
    crowd, columns = lt.record(many), crowd_by_hand(50, 600)
    for name, column in columns.items():
        assert crowd[name].tolist() == column.tolist(), name
    yield "a crowd of 50 / objects with slots", 2.0, lambda: lt.record(many), lambda: crowd_by_hand(50, 600)
