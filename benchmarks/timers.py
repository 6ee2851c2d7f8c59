"""Ten timers in a sim against ten hand-coded decrements, with the same recording."""

from __future__ import annotations

from collections.abc import Iterable

import larktally as lt

FRAMES, COUNT = 10_000, 10


def by_parts(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("use",))
    rests = [sim.cooldown(f"rest.{n}", 20 + 7 * n) for n in range(COUNT)]

    @sim.after("machines")
    def use(now: lt.StepContext) -> None:
        if now.pressed("use"):
            for rest in rests:
                if rest.ready:
                    rest.use()

    return sim


def by_hand(setup: lt.Setup) -> lt.Sim:
    """The same channels, kept as values and counted down in one hook."""
    sim = lt.Sim(setup, actions=("use",), events=("used", "ready"))
    lengths = [20 + 7 * n for n in range(COUNT)]
    left = [sim.value(f"rest.{n}.left", 0) for n in range(COUNT)]
    ready = [sim.value(f"rest.{n}.ready", True) for n in range(COUNT)]

    @sim.before("machines")
    def count(now: lt.StepContext) -> None:
        for one, free in zip(left, ready, strict=True):
            if one.value > 0:
                one.value -= 1
                if one.value == 0:
                    free.value = True
                    now.emit("ready")

    @sim.after("machines")
    def use(now: lt.StepContext) -> None:
        if now.pressed("use"):
            for one, free, length in zip(left, ready, lengths, strict=True):
                if free.value:
                    one.value, free.value = length, False
                    now.emit("used")

    return sim


def rows() -> Iterable[tuple[str, float, object, object]]:
    script = lt.InputScript.at_random({"use": 0.05}, FRAMES, seed=2)
    ours, control = (lt.Scenario(model, frames=FRAMES, inputs=script) for model in (by_parts, by_hand))
    yield "ten timers / ten hand-coded decrements", 1.5, lambda: lt.record(ours), lambda: lt.record(control)
