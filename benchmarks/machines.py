"""What a machine costs: 3 states and 6 transitions against an if/elif chain, and a text guard against a lambda."""

from __future__ import annotations

from collections.abc import Iterable

import larktally as lt

FRAMES = 20_000


def script() -> lt.InputScript:
    return lt.InputScript.at_random({"go": 0.05, "stop": 0.05, "hop": 0.02}, FRAMES, seed=3)


def by_hand(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("go", "stop", "hop"), events=("changed",))
    x, warm = sim.value("wick.x", 0.0), sim.value("wick.warm", 1.0)
    state, age = sim.value("gait", "standing", labels=("walking", "airborne")), sim.value("gait.age", 0)

    def step(now: lt.StepContext) -> None:
        age.value += 1
        current = state.value
        new = ""
        if current == "standing":
            if now.pressed("hop") and warm.value > 0:
                new = "airborne"
            elif now.held("go"):
                new = "walking"
        elif current == "walking":
            if now.pressed("hop") and warm.value > 0:
                new = "airborne"
            elif now.held("stop"):
                new = "standing"
        elif (age.value >= 20 and x.value > 5) or age.value >= 30:
            new = "standing"
        if new:
            now.emit("changed", **{"from": current, "to": new, "by": "hand", "age": age.value})
            state.value, age.value = new, 0
        x.value += 0.25

    sim.before("machines", step)
    return sim


def by_machine(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("go", "stop", "hop"))
    x = sim.value("wick.x", 0.0)
    sim.value("wick.warm", 1.0)
    gait = sim.machine("gait", ("standing", "walking", "airborne"), "standing")
    for source in ("standing", "walking"):
        gait.transition(source, to="airborne", when="pressed('hop') and wick.warm > 0")
    gait.transition("standing", to="walking", when="held('go')")
    gait.transition("walking", to="standing", when="held('stop')")
    gait.transition("airborne", to="standing", after=20, when="wick.x > 5")
    gait.transition("airborne", to="standing", after=30)

    @gait.during("standing", "walking", "airborne")
    def drift(now: lt.StepContext) -> None:
        x.value += 0.25

    return sim


def guarded(text: bool) -> lt.Scenario:
    def build(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, actions=("go", "stop", "hop"))
        x, warm = sim.value("wick.x", 0.0), sim.value("wick.warm", 1.0)
        for n in range(10):
            one = sim.machine(f"m{n}", ("a", "b"), "a")
            when = "wick.x > 1 and wick.warm < 0.5 or wick.x < -2"
            one.transition(
                "a", to="b", when=when if text else lambda now: (x.value > 1 and warm.value < 0.5) or x.value < -2
            )
        sim.after("machines", lambda now: setattr(x, "value", x.value + 0.25))
        return sim

    return lt.Scenario(build, frames=FRAMES // 2)


def rows() -> Iterable[tuple[str, float, object, object]]:
    machine, chain = (lt.Scenario(model, frames=FRAMES, inputs=script()) for model in (by_machine, by_hand))
    text, function = guarded(True), guarded(False)
    yield (
        "a machine of 3 states, 6 transitions / if-elif chain in a hook",
        1.3,
        lambda: lt.record(machine),
        lambda: lt.record(chain),
    )
    yield "ten text guards / ten lambdas", 1.5, lambda: lt.record(text), lambda: lt.record(function)
