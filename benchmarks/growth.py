"""What grows with the number of things: a frame of many against as many frames of a quarter of them, or of five, as are linear.

Each thing meets at most two others, as in a level that is spread out. Zones that watch every body are a row of their own: each
pair of a zone and a body is a channel, so that a row grows with the pairs whatever the look costs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import larktally as lt

FRAMES = 60
LEVEL = lt.Level([lt.geometry.box_at((120.0 * n, 0), (120, 16)) for n in range(330)])
Model = Callable[[lt.Setup], lt.Sim]


def walkers(sim: lt.Sim, count: int, speed: float) -> list[lt.Body]:
    """So many bodies far from each other, that walk to and fro."""
    bodies = [sim.body(f"moth.{n}", size=(10, 10), at=(120 * n + 20, 16), gravity=900) for n in range(count)]

    @sim.before("motion")
    def walk(now: lt.StepContext) -> None:
        for body in bodies:
            body.vx = speed - 2 * speed * (now.frame // 40 % 2)

    return bodies


def zones(count: int, all_watched: bool = False) -> Model:
    """Bodies that go to and fro through a zone each."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=LEVEL)
        bodies = walkers(sim, count, 90.0)
        for n in range(count):
            watch = bodies if all_watched else bodies[max(n - 1, 0) : n + 1]
            sim.zone(f"lamp.{n}", (120 * n + 40, 16), (120 * n + 80, 60), watch=watch)
        return sim

    return build


def platforms(count: int) -> Model:
    """Bodies that are each carried by a platform of their own."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=LEVEL)
        for n in range(count):
            sim.body(f"moth.{n}", size=(10, 10), at=(120 * n + 35, 24), gravity=900)
            sim.platform(f"barge.{n}", size=(40, 8), path=[(120 * n + 20, 16), (120 * n + 60, 16)], speed=30)
        return sim

    return build


def crates(count: int) -> Model:
    """Bodies that each walk to and fro, and push a crate of their own."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=LEVEL)
        walkers(sim, count, 60.0)
        for n in range(count):
            sim.crate(f"crate.{n}", size=(8, 8), at=(120 * n + 50, 16), gravity=900)
        return sim

    return build


def fans(count: int) -> Model:
    """Bodies that each look at a barge and a crate of their own."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=LEVEL)
        for n in range(count):
            body = sim.body(f"moth.{n}", size=(10, 10), at=(120 * n + 35, 16), gravity=900)
            sim.platform(f"barge.{n}", size=(20, 8), path=[(120 * n + 60, 40), (120 * n + 80, 40)], speed=30)
            sim.crate(f"crate.{n}", size=(8, 8), at=(120 * n + 64, 16), gravity=900)
            sim.fan(f"eye.{n}", body, "+x", 3, 30)
        return sim

    return build


def machines(count: int) -> Model:
    """Machines that each wait for an event of a timer of their own."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup)
        for n in range(count):
            sim.interval(f"drip.{n}", 7 + n % 5)
            mood = sim.machine(f"mood.{n}", ("dry", "wet"), "dry")
            mood.transition("dry", to="wet", when=f"event('due', source='drip.{n}')")
            mood.transition("wet", to="dry", after=3)
        return sim

    return build


def free_slots(count: int) -> Model:
    """Slots of a pool that nobody takes."""

    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=LEVEL)

        def spark(view: lt.SimScope) -> tuple[object, ...]:
            return view.body("body", size=(4, 4), at=(40, 40), velocity=(90, 20)), view.cooldown("rest", 3)

        sim.pool("spark", spark, count)
        return sim

    return build


def stepped(model: Model, times: int = 1) -> Callable[[], None]:
    """Steps a sim that is built already: so many frames, so many times."""
    live = lt.Live(lt.Scenario(model, frames=1))
    view = live.sim.inputs

    def work() -> None:
        for _ in range(FRAMES * times):
            view.frame = live.sim.frame + 1
            live.sim.step(view)

    return work


def rows() -> Iterable[tuple[str, float, object, object]]:
    for name, model, many in (
        ("machines that wait for events", machines, 320),
        ("free slots", free_slots, 320),
        ("zones that watch two bodies each", zones, 320),
        ("zones that watch every body", lambda count: zones(count, all_watched=True), 80),
        ("platforms with a body each", platforms, 320),
        ("crates with a body each", crates, 320),
        ("fans that look at a crate each", fans, 320),
    ):
        for few in (many // 4, 5):
            yield (
                f"{many} {name} / {many // few} times {few}",
                1.2,
                stepped(model(many)),
                stepped(model(few), many // few),
            )
