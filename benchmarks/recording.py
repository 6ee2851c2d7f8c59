"""What recording costs: a user's own subject, and a sim, each against the same rules in a loop that keeps dicts."""

from __future__ import annotations

from collections.abc import Iterable

import larktally as lt

FRAMES = 20_000
CELL = 16.0


class Lamp:
    """A user's own subject with 12 channels: a body that walks, hops and rests, in plain Python."""

    actions = ("left", "right", "hop")

    def reset(self, setup: lt.Setup) -> None:
        self.x = self.y = self.vx = self.vy = 0.0
        self.grounded, self.facing, self.rest, self.hops, self.age = True, 1, 0, 0, 0
        self.gait, self.oil, self.warmth = "standing", 7, 100.0

    def step(self, now: lt.FrameInput) -> None:
        self.advance(now.held("left"), now.held("right"), now.pressed("hop"))

    def advance(self, left: bool, right: bool, hop: bool) -> None:
        way = right - left
        if way:
            self.facing = way
        self.vx = 120.0 * way
        self.age += 1
        if self.rest:
            self.rest -= 1
        if hop and self.grounded and not self.rest:
            self.vy, self.grounded, self.gait, self.age = 360.0, False, "airborne", 0
            self.rest, self.hops = 48, self.hops + 1
        if not self.grounded:
            self.vy -= 15.0
            self.y += self.vy / 60
            if self.y <= 0.0:
                self.y, self.vy, self.grounded, self.gait, self.age = 0.0, 0.0, True, "standing", 0
        self.x += self.vx / 60
        self.warmth = max(0.0, self.warmth - 0.01)

    def observe(self) -> dict[str, float | int | bool | str]:
        return {
            "x": self.x,
            "y": self.y,
            "vx": self.vx,
            "vy": self.vy,
            "grounded": self.grounded,
            "facing": self.facing,
            "rest": self.rest,
            "hops": self.hops,
            "age": self.age,
            "gait": self.gait,
            "oil": self.oil,
            "warmth": self.warmth,
        }


def script(frames: int) -> lt.InputScript:
    return lt.InputScript.at_random({"left": 0.02, "right": 0.03, "hop": 0.02}, frames, seed=5)


def held_frames(frames: int) -> list[dict[str, bool]]:
    """The same inputs as a list of dicts, one a frame: what a hand loop would read."""
    held = [{"left": False, "right": False, "hop": False} for _ in range(frames + 1)]
    for span in script(frames).spans:
        for frame in range(int(span.start), int(span.start) + int(span.frames)):
            held[frame][span.action] = True
    return held


def by_hand(inputs: list[dict[str, bool]]) -> list[dict[str, object]]:
    lamp = Lamp()
    lamp.reset(lt.Setup())
    rows: list[dict[str, object]] = [dict(lamp.observe())]
    before = inputs[0]
    for held in inputs[1:]:
        lamp.advance(held["left"], held["right"], held["hop"] and not before["hop"])
        rows.append(lamp.observe())
        before = held
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


def walker(count: int) -> lt.Scenario:
    """1 body, 1 machine, 2 timers, so many boxes."""
    ground = level(count)

    def model(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=ground, actions=("left", "right", "hop"))
        wick = sim.body("wick", size=(12, 20), at=(1024, 16), gravity=900)
        hop_rest = sim.cooldown("wick.hop", 48)
        turn_rest = sim.cooldown("wick.turn", 20)
        gait = sim.machine("wick.gait", states=("standing", "airborne"), start="standing")

        @gait.during("standing", "airborne")
        def steer(now: lt.Now) -> None:
            wick.vx = 120 * now.axis("left", "right")
            if now.pressed("left") and turn_rest.ready:
                turn_rest.use()

        @gait.transition("standing", to="airborne", when="pressed('hop') and wick.hop.ready")
        def push_off(now: lt.Now) -> None:
            wick.launch(vy=360)
            hop_rest.use()

        gait.transition("airborne", to="standing", when="wick.grounded")
        return sim

    return lt.Scenario(model, frames=FRAMES, inputs=script(FRAMES))


def walker_by_hand(solids: list[tuple[float, float, float, float]], inputs: list[dict[str, bool]]) -> list[dict[str, object]]:
    """The same rules, hand-coded: every box is tried on each axis in turn, and a row is a dict."""
    x, y, vx, vy, width, height = 1024.0, 16.0, 0.0, 0.0, 12.0, 20.0
    grounded, hop_left, turn_left, state, age = True, 0, 0, "standing", 0
    rows: list[dict[str, object]] = []

    def keep() -> None:
        rows.append(
            {
                "wick.x": x,
                "wick.y": y,
                "wick.vx": vx,
                "wick.vy": vy,
                "wick.grounded": grounded,
                "wick.hop.left": hop_left,
                "wick.hop.ready": hop_left == 0,
                "wick.turn.left": turn_left,
                "wick.turn.ready": turn_left == 0,
                "wick.gait": state,
                "wick.gait.age": age,
            }
        )

    keep()
    before = inputs[0]
    for held in inputs[1:]:
        hop_left, turn_left, age = max(hop_left - 1, 0), max(turn_left - 1, 0), age + 1
        if state == "standing":
            if held["hop"] and not before["hop"] and hop_left == 0:
                vy, hop_left, state, age = 360.0, 48, "airborne", 0
        elif grounded:
            state, age = "standing", 0
        vx = 120.0 * (held["right"] - held["left"])
        if held["left"] and not before["left"] and turn_left == 0:
            turn_left = 20
        vy -= 15.0
        grounded = False
        old_x, x = x, x + vx / 60
        for low_x, low_y, high_x, high_y in solids:
            if x < high_x and x + width > low_x and y < high_y and y + height > low_y:
                x = low_x - width if x > old_x else high_x
                vx = 0.0
        y += vy / 60
        for low_x, low_y, high_x, high_y in solids:
            if x < high_x and x + width > low_x and y < high_y and y + height > low_y:
                if vy < 0:
                    y, grounded = high_y, True
                else:
                    y = low_y - height
                vy = 0.0
        keep()
        before = held
    return rows


def rows() -> Iterable[tuple[str, float, object, object]]:
    inputs, spans = held_frames(FRAMES), script(FRAMES)
    few, many = walker(40), walker(4000)
    solids = boxes(40)
    yield (
        "record a user's own subject, 12 channels / hand loop of dicts",
        1.3,
        lambda: lt.record(Lamp, spans, frames=FRAMES),
        lambda: by_hand(inputs),
    )
    yield "a sim (body, machine, 2 timers, 40 boxes) / hand-coded", 1.5, lambda: lt.record(few), lambda: walker_by_hand(solids, inputs)
    yield "the same sim with 4,000 boxes / 40", 1.2, lambda: lt.record(many), lambda: lt.record(few)
