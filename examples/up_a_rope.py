"""Up a rope: it holds Wick to its middle, takes his weight, and gives both back when he lets go.

The wrong version first: gravity is set to 0 on the way in, and nobody sets it back on one of the two ways out.
"""

import larktally as lt

YARD = lt.Level.from_rows(
    """
    ......r......
    ......r......
    ......r.#####
    ......r......
    ......r......
    #############
    """,
    cell=16,
    zones={"r": "rope"},
)


def climber(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=YARD, actions=("left", "right", "up", "hop"))
    wick = sim.body("wick", size=(12, 20), at=(60, 16), gravity=900, shows=("gravity",))
    rope = sim.zone("rope", watch=[wick])
    gait = sim.machine("wick.gait", ("walking", "climbing", "airborne"), "walking")
    by_hand = setup.param("wrong", False)
    if by_hand:
        gait.enter("climbing")(lambda now: setattr(wick, "gravity", 0.0))
    else:
        gait.setting("climbing", wick, gravity=0.0)

    @gait.enter("climbing")
    def hold_on(now: lt.StepContext) -> None:
        wick.halt()
        rope.snap(wick)

    def let_go(now: lt.StepContext) -> None:
        if by_hand:
            wick.gravity = 900.0  # and the other way out forgets it
        wick.launch(vy=200)

    gait.during("walking", "airborne")(lambda now: setattr(wick, "vx", 110 * now.axis("left", "right")))
    gait.during("climbing")(lambda now: setattr(wick, "vy", 70.0 * now.value("up")))
    gait.transition(
        ("walking", "airborne"), to="climbing", when="rope.wick and held('up') and wick.y <= 60", name="takes the rope"
    )
    gait.transition("climbing", to="airborne", when="pressed('hop')", name="hops off")(let_go)
    gait.transition("climbing", to="airborne", when="wick.y > 60", name="comes to the top")
    gait.transition("airborne", to="walking", when="wick.grounded", name="lands")
    return sim


rope_run = lt.Scenario(
    climber,
    frames=200,
    inputs=lt.InputScript().hold("right", 1, 18).hold("up", 16, 60),
    claims=[
        lt.claim("he falls when he has let go", "always(implies(wick.gait == 'airborne', wick.gravity == 900))"),
        lt.claim(
            "the rope holds him to its middle", "always(implies(wick.gait == 'climbing', near(wick.x + 6, 104, 0.001)))"
        ),
        lt.claim("he comes down again", "follows(ended(wick.gait == 'climbing'), event('landed'), within='1s')"),
    ],
)

if __name__ == "__main__":
    wrong = lt.check(lt.record(rope_run.changed(params={"wrong": True})), rope_run.claims)
    print(f"undone by hand:\n{wrong[0]}\n")
    assert wrong[0].verdict == "broken"
    trace = lt.record(rope_run)
    tally = lt.check(trace, rope_run.claims)
    print(f"a setting that falls away:\n{tally}")
    assert tally.passed, tally
