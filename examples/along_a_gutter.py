"""Edging along a gutter: a zone that Wick snaps to, with no gravity while it is held, and nothing undone by hand."""

import sys

import larktally as lt

YARD = lt.Level.from_rows(
    """
    ..............
    ..............
    ..gggggggg....
    ..............
    ..............
    ##############
    """,
    cell=16,
    zones={"g": "gutter"},
)


def lamplighter(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=YARD, actions=("left", "right", "hop", "grab"))
    wick = sim.body("wick", size=(12, 20), at=(60, 16), gravity=900)
    gutter = sim.zone("gutter", watch=[wick])
    gait = sim.machine("wick.gait", states=("walking", "airborne", "edging"), start="walking")
    gait.setting("edging", wick, gravity=0.0)

    @gait.during("walking", "airborne")
    def walk(now: lt.StepContext) -> None:
        wick.vx = 120 * now.axis("left", "right")

    @gait.during("edging")
    def edge_along(now: lt.StepContext) -> None:
        wick.vx = 40 * now.axis("left", "right")

    @gait.enter("edging")
    def hold_on(now: lt.StepContext) -> None:
        wick.halt()
        gutter.snap(wick, "y")

    @gait.transition("walking", to="airborne", when="pressed('hop')")
    def push_off(now: lt.StepContext) -> None:
        wick.launch(vy=400)

    gait.transition("airborne", to="edging", when="gutter.wick and held('grab')")
    gait.transition("edging", to="airborne", when="not held('grab') or not gutter.wick", name="let go")
    gait.transition("airborne", to="walking", when="wick.grounded", name="land")
    return sim


gutter_run = lt.Scenario(
    lamplighter,
    frames=170,
    inputs=lt.InputScript().press("hop", 5).hold("grab", 8, 100).hold("right", 30, 60),
    claims=[
        lt.claim("Wick hangs still while edging", "always(implies(wick.gait == 'edging', wick.vy == 0))"),
        lt.claim(
            "letting go gives the fall back", "follows(ended(wick.gait == 'edging'), event('landed'), within='1s')"
        ),
    ],
)

if __name__ == "__main__":
    trace = lt.record(gutter_run)
    tally = lt.check(trace, gutter_run.claims)
    print(tally)
    start = lt.measure(trace, "value_when(wick.x, wick.gait == 'edging')")
    rows = lt.measure(trace, "longest(wick.gait == 'edging')")
    print(f"edged from x = {start:g}, for {rows:g} rows")
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        save_picture(draw_run(trace), sys.argv[1])
