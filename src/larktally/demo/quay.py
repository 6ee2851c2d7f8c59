"""Wick on a quay: walks, hops, and bursts forward on a bellows that has to rest. All of it is made up."""

import larktally as lt

QUAY = lt.Level.from_rows(
    """
    ........................................
    ........................................
    ..................................##....
    ........................................
    ########################################
    """,
    cell=16,
    solid="#",
)

CLAIMS = [
    lt.claim(
        "a hop starts on the ground",
        "always(implies(event('hop'), prev(wick.grounded)))",
        why="a second hop in the air would carry Wick over the canal without a barge",
    ),
    lt.claim("every hop comes down within 1.5 s", "follows(event('hop'), event('landed'), within='1.5s')"),
    lt.claim("the bellows rest 0.8 s between bursts", "spaced(event('used', source='wick.burst'), at_least='0.8s')"),
    lt.claim("Wick never sinks into the quay", "always(wick.y >= 16)"),
]


def lamplighter(setup: lt.Setup, hops_in_the_air: bool = False) -> lt.Sim:
    """One body, one machine of two states, one cooldown, one value."""
    sim = lt.Sim(setup, level=QUAY, actions=("left", "right", "hop", "burst"), events=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    facing = sim.value("wick.facing", 1)
    bellows = sim.cooldown("wick.burst", setup.duration("rest", "0.8s"))
    gait = sim.machine("wick.gait", states=("standing", "airborne"), start="standing")

    @gait.during("standing", "airborne")
    def steer(now: lt.StepContext) -> None:
        if now.axis("left", "right"):
            facing.value = int(now.axis("left", "right"))
        if now.pressed("burst"):
            bellows.use()
        bursting = bellows.left > bellows.frames - 10
        wick.vx = 320 * facing.value if bursting else 120 * now.axis("left", "right")

    def push_off(now: lt.StepContext) -> None:
        wick.launch(vy=360)
        now.emit("hop")

    gait.transition("standing", to="airborne", when="pressed('hop')")(push_off)
    if hops_in_the_air:
        gait.transition("airborne", to="airborne", when="pressed('hop')", name="hop again")(push_off)
    gait.transition("airborne", to="standing", when="wick.grounded", name="land")
    return sim


def faulty_lamplighter(setup: lt.Setup) -> lt.Sim:
    """The mistake: the rule for a hop does not ask for ground."""
    return lamplighter(setup, hops_in_the_air=True)


INPUTS = (
    lt.InputScript()
    .hold("right", start=1, frames=190)
    .press("hop", start=30)
    .press("hop", start=52)
    .press("burst", start=100)
    .press("burst", start=130)
    .press("burst", start=150)
)

dusk_run = lt.Scenario(lamplighter, frames=220, inputs=INPUTS, claims=CLAIMS)
faulty_run = dusk_run.changed(subject=faulty_lamplighter)

if __name__ == "__main__":
    trace = lt.record(dusk_run)
    tally = lt.check(trace, dusk_run.claims)
    assert tally.passed, tally
    assert lt.replay(trace, dusk_run).identical
    print(tally)
