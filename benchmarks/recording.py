"""What recording costs: a user's own subject, and a sim, each against the same rules in a loop that keeps dicts."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import larktally as lt
from larktally.inputs.view import InputFeed

FRAMES = 10_000
CELL = 16.0


class HandCoded:
    """The gameplay as a user would code it by hand: a body among boxes, a machine, two timers; 12 channels."""

    actions = ("left", "right", "hop")

    def __init__(self, solids: list[tuple[float, float, float, float]]) -> None:
        self.solids = solids

    def reset(self, setup: lt.Setup) -> None:
        self.x, self.y, self.vx, self.vy = 1024.0, 16.0, 0.0, 0.0
        self.grounded, self.hop_left, self.turn_left, self.facing = True, 0, 0, 1
        self.state, self.age = "standing", 0

    def step(self, now: lt.FrameInput) -> None:
        self.hop_left = max(self.hop_left - 1, 0)
        self.turn_left = max(self.turn_left - 1, 0)
        self.age += 1
        if self.state == "standing":
            if now.pressed("hop") and self.hop_left == 0:
                self.vy, self.hop_left, self.state, self.age = 360.0, 48, "airborne", 0
        elif self.grounded:
            self.state, self.age = "standing", 0
        way = now.held("right") - now.held("left")
        self.facing = way or self.facing
        self.vx = 120.0 * way
        if now.pressed("left") and self.turn_left == 0:
            self.turn_left = 20
        self.move_x()
        self.move_y()

    def move_x(self) -> None:
        old, x, y = self.x, self.x + self.vx / 60, self.y
        for low_x, low_y, high_x, high_y in self.solids:
            if x < high_x and x + 12.0 > low_x and y < high_y and y + 20.0 > low_y:
                x, self.vx = (low_x - 12.0 if x > old else high_x), 0.0
        self.x = x

    def move_y(self) -> None:
        self.vy -= 15.0
        self.grounded = False
        x, y = self.x, self.y + self.vy / 60
        for low_x, low_y, high_x, high_y in self.solids:
            if x < high_x and x + 12.0 > low_x and y <= high_y and y + 20.0 > low_y:
                if self.vy < 0:
                    y, self.vy, self.grounded = high_y, 0.0, True
                elif y < high_y:
                    y, self.vy = low_y - 20.0, 0.0
        self.y = y

    def observe(self) -> dict[str, float | int | bool | str]:
        return {
            "wick.x": self.x,
            "wick.y": self.y,
            "wick.vx": self.vx,
            "wick.vy": self.vy,
            "wick.grounded": self.grounded,
            "wick.facing": self.facing,
            "wick.hop.left": self.hop_left,
            "wick.hop.ready": self.hop_left == 0,
            "wick.turn.left": self.turn_left,
            "wick.turn.ready": self.turn_left == 0,
            "wick.gait": self.state,
            "wick.gait.age": self.age,
        }


def script(frames: int) -> lt.InputScript:
    return lt.InputScript.at_random({"left": 0.02, "right": 0.03, "hop": 0.02}, frames, seed=5)


def held_frames(spans: lt.InputScript, frames: int) -> list[dict[str, bool]]:
    """The same inputs as a list of dicts, one a frame: what a hand loop would read."""
    held = [{"left": False, "right": False, "hop": False} for _ in range(frames + 1)]
    for span in spans.spans:
        for frame in range(int(span.start), int(span.start) + int(span.frames)):
            held[frame][span.action] = True
    return held


class Keys:
    """The least that a hand loop has to hand its subject: what is held now, and what was held before."""

    def __init__(self, held: dict[str, bool]) -> None:
        self.now = self.before = held

    def held(self, action: str) -> bool:
        return self.now[action]

    def pressed(self, action: str) -> bool:
        return self.now[action] and not self.before[action]


def by_hand(subject: HandCoded, spans: lt.InputScript) -> list[dict[str, object]]:
    """The hand-coded gameplay driven by a hand loop that appends a dict a frame."""
    inputs = held_frames(spans, FRAMES)
    keys = Keys(inputs[0])
    subject.reset(lt.Setup())
    rows = [subject.observe()]
    for held in inputs[1:]:
        keys.before, keys.now = keys.now, held
        subject.step(keys)  # type: ignore[arg-type]
        rows.append(subject.observe())
    return rows


def boxes(count: int) -> list[tuple[float, float, float, float]]:
    """A floor of one box, and the others as separate crates along it, out of the walker's way."""
    found = [(0.0, 0.0, 4000.0 * CELL, CELL)]
    for n in range(count - 1):
        x, y = 8 * CELL + n * 3 * CELL, 7 * CELL
        found.append((x, y, x + CELL, y + CELL))
    return found


def level(count: int) -> lt.Level:
    return lt.Level([lt.Box((x, y), (x2, y2)) for x, y, x2, y2 in boxes(count)])


def walker(count: int, frames: int = FRAMES) -> lt.Scenario:
    """1 body, 1 machine, 2 timers, so many boxes."""
    ground = level(count)

    def model(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=ground, actions=("left", "right", "hop"))
        wick = sim.body("wick", size=(12, 20), at=(1024, 16), gravity=900)
        hop_rest = sim.cooldown("wick.hop", 48)
        turn_rest = sim.cooldown("wick.turn", 20)
        facing = sim.value("wick.facing", 1)
        gait = sim.machine("wick.gait", states=("standing", "airborne"), start="standing")

        @gait.during("standing", "airborne")
        def steer(now: lt.StepContext) -> None:
            way = now.axis("left", "right")
            wick.vx = 120 * way
            facing.value = int(way) or facing.value
            if now.pressed("left") and turn_rest.ready:
                turn_rest.use()

        @gait.transition("standing", to="airborne", when="pressed('hop') and wick.hop.ready")
        def push_off(now: lt.StepContext) -> None:
            wick.launch(vy=360)
            hop_rest.use()

        gait.transition("airborne", to="standing", when="wick.grounded")
        return sim

    return lt.Scenario(model, frames=frames, inputs=script(frames))


def stepped(scenario: lt.Scenario) -> Callable[[], None]:
    """Leads a sim that is built already through the frames of a scenario, and keeps no row: put back to row 0, and stepped."""
    live = lt.Live(scenario)
    start, frames = live.save(), int(scenario.frames)

    def step() -> None:
        live.load(start, 0)
        sim, feed = live.sim, InputFeed(scenario.inputs, live.sim.actions, scenario.rate)
        for frame in range(1, frames + 1):
            if frame in feed.due:
                feed.advance(frame)
            else:
                feed.view.frame = frame
            sim.step(feed.view)

    return step


def rows() -> Iterable[tuple[str, float, object, object]]:
    spans, few, many = script(FRAMES), walker(40), walker(4000)
    own = HandCoded(boxes(40))
    yield (
        "record a user's own subject, 12 channels / hand loop of dicts",
        1.3,
        lambda: lt.record(own, spans, frames=FRAMES),
        lambda: by_hand(own, spans),
    )
    yield (
        "a sim (body, machine, 2 timers, 40 boxes) / hand-coded",
        1.5,
        lambda: lt.record(few),
        lambda: by_hand(own, spans),
    )
    yield "the same sim with 4,000 boxes / 40", 1.2, lambda: lt.record(many), lambda: lt.record(few)
    short = walker(40, 600)
    steps = stepped(short)
    yield (
        "600 frames built and recorded, ten times / their stepping alone",
        1.1,
        lambda: [lt.record(short) for _ in range(10)],
        lambda: [steps() for _ in range(10)],
    )
