"""A ray fan under a barge's edge: how many of five rays still see ground, as a count that rules can use."""

import sys

import numpy as np

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
    footing = sim.value("wick.footing", 5)
    balance = sim.machine("wick.balance", states=("firm", "teetering", "falling"), start="firm")

    @balance.during("firm", "teetering")
    def step_out(now: lt.StepContext) -> None:
        footing.value = len(lt.geometry.fan(wick, "-y", 5, 4))
        wick.vx = 60 if now.held("right") else 0

    balance.transition("firm", to="teetering", when="wick.footing <= 3")
    balance.transition("teetering", to="firm", when="wick.footing > 3")
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
        lt.claim("ground is lost ray by ray", "always(delta(wick.footing) >= -1)"),
    ],
)

if __name__ == "__main__":
    trace = lt.record(to_the_edge)
    tally = lt.check(trace, to_the_edge.claims)
    for row in lt.rows_where(trace, "changed(wick.footing)"):
        print(f"row {row}: {trace['wick.footing'][row]} of 5 rays see ground at x = {trace['wick.x'][row]:g}")
    print(tally)
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        teeters = next(iter(lt.rows_where(trace, "wick.balance == 'teetering'")))
        figure = draw_run(trace, rows=range(20, 48), ghosts=[teeters])
        x, y = trace["wick.x"][teeters], trace["wick.y"][teeters]
        starts = np.column_stack([np.linspace(x + 0.5, x + 19.5, 5), np.full(5, y + 0.5)])
        found, _ = lt.geometry.many_rays(BARGE, starts, np.tile((0.0, -1.0), (5, 1)), 4.5)
        for (at, top), far in zip(starts, found, strict=True):
            met = bool(np.isfinite(far))
            figure.axes[0].plot(
                [at, at], [top, top - (far if met else 4.5)], "-" if met else ":", color="#D55E00", lw=2
            )
        save_picture(figure, sys.argv[1])
