"""A ray fan under a barge's edge: how many of five rays still see ground, as a count that rules can use."""

import sys

import larktally as lt

BARGE = lt.Level.from_rows(
    """
    ................
    ................
    ########........
    ########........
    """,
    cell=16,
)


def edge_walk(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=BARGE, actions=("right",))
    wick = sim.body("wick", size=(20, 20), at=(84, 32), gravity=900)
    sim.fan("wick.feet", wick, "-y", rays=5, length=4)
    balance = sim.machine("wick.balance", states=("firm", "teetering", "falling"), start="firm")

    @balance.during("firm", "teetering")
    def step_out(now: lt.StepContext) -> None:
        wick.vx = 60 if now.held("right") else 0

    balance.transition("firm", to="teetering", when="wick.feet.hits <= 3")
    balance.transition("teetering", to="firm", when="wick.feet.hits > 3")
    balance.transition(("firm", "teetering"), to="falling", when="not wick.grounded")
    return sim


to_the_edge = lt.Scenario(
    edge_walk,
    frames=80,
    inputs=lt.InputScript().hold("right", 1, 60),
    claims=[
        lt.claim(
            "Wick teeters before falling", "precedes(wick.balance == 'teetering', began(wick.balance == 'falling'))"
        ),
        lt.claim("ground is lost ray by ray", "always(delta(wick.feet.hits) >= -1)"),
    ],
    intended=["trouble wick"],  # he falls out of the level: that is what the edge is for
)

if __name__ == "__main__":
    trace = lt.record(to_the_edge)
    tally = lt.check(trace, to_the_edge.claims)
    for row in lt.rows_where(trace, "changed(wick.feet.hits)"):
        print(f"row {row}: {trace['wick.feet.hits'][row]} of 5 rays see ground at x = {trace['wick.x'][row]:g}")
    print(tally)
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        teeters = next(iter(lt.rows_where(trace, "wick.balance == 'teetering'")))
        save_picture(draw_run(trace, rows=range(20, 48), ghosts=[teeters]), sys.argv[1])
