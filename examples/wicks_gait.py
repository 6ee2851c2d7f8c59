"""Wick's gait as states instead of one tangled function; what a body keeps of the state it left.

The wrong version first: a rope that is grasped without clearing the velocity, so that Wick drifts up it with the speed of
his hop. A claim says so, and `lt.why` says which rule took him there.
"""

import sys

import larktally as lt

QUAY = lt.Level.from_rows(
    """
    ..........r.........
    ..........r.........
    ..........r.........
    ..........r.........
    ####################
    """,
    cell=16,
    zones={"r": "rope"},
)


def lamplighter(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=QUAY, actions=("left", "right", "hop", "grasp", "up"), events=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(60, 16), gravity=900)
    facing, wrong = sim.value("wick.facing", 1), setup.param("wrong", False)
    sim.zone("rope", watch=[wick])
    gait = sim.machine(
        "wick.gait", ("standing", "walking", "airborne/rising", "airborne/falling", "rope", "hurt"), "standing"
    )

    @gait.during("standing", "walking", "airborne")
    def steer(now: lt.StepContext) -> None:
        way = now.axis("left", "right")
        facing.value = int(way) or facing.value
        wick.vx = 110 * way

    @gait.enter("rope")
    def grasp(now: lt.StepContext) -> None:
        if not wrong:
            wick.halt()

    @gait.during("rope")
    def climb(now: lt.StepContext) -> None:
        if now.held("up"):
            wick.vy = 60
        elif not wrong:
            wick.vy = 0

    def push_off(now: lt.StepContext) -> None:
        wick.launch(vy=320)
        now.emit("hop")

    gait.setting("rope", wick, gravity=0.0)
    gait.transition(("standing", "walking"), to="airborne", when="pressed('hop')", name="hops")(push_off)
    gait.transition("rope", to="airborne", when="pressed('hop')", name="lets go")(push_off)
    gait.transition("airborne", to="rope", when="held('grasp') and rope.wick", name="grasps")
    gait.transition("airborne/rising", to="airborne/falling", when="wick.vy <= 0", name="turns")
    gait.transition("airborne", to="standing", when="wick.grounded", name="lands")
    gait.transition(("standing", "walking"), to="airborne/falling", when="not wick.grounded", name="falls")
    gait.transition("standing", to="walking", when="wick.vx != 0", name="walks")
    gait.transition("walking", to="standing", when="wick.vx == 0", name="stops")
    return sim


climb = lt.Scenario(
    lamplighter,
    frames=200,
    inputs=lt.InputScript()
    .hold("right", 5, 70)
    .press("hop", 40)
    .hold("grasp", 45, 90)
    .hold("up", 90, 30)
    .press("hop", 130),
    claims=[
        lt.claim(
            "a hop starts on the ground or the rope",
            "always(implies(event('hop'), not prev(in_state(wick.gait, 'airborne'))))",
        ),
        lt.claim("he hangs still where he grasped it", "lasts(began(wick.gait == 'rope'), wick.vy == 0, 20)"),
        lt.claim("each state shows for two frames or more", "stays(wick.gait == 'walking', at_least=2)"),
    ],
)

if __name__ == "__main__":
    wrong = lt.record(climb.changed(params={"wrong": True}))
    tally = lt.check(wrong, climb.claims)
    print(f"with the velocity of the hop kept:\n{tally}\n")
    assert not tally.passed
    (grasped,) = lt.rows_where(wrong, "began(wick.gait == 'rope')")
    print(lt.why(wrong, climb, int(grasped)))
    trace = lt.record(climb)
    mended = lt.check(trace, climb.claims)
    print(f"\nmended:\n{mended}\n\n{lt.coverage(trace)}\n")
    for finding in lt.charts.findings(trace.header.outlines["wick.gait"]):
        print(f"look at: {finding}")
    assert mended.passed, mended
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        save_picture(draw_run(trace), sys.argv[1])
