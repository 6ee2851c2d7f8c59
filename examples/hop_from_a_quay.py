"""A hop from a quay, its apex measured: what v²/2g promises is not what a fixed timestep gives."""

import sys

import larktally as lt

QUAY = lt.Level.from_rows(
    """
    ....................
    ....................
    ....................
    ....................
    ########....########
    """,
    cell=16,
)
SPEED, GRAVITY = lt.geometry.launch_for(height=56, time_to_apex="0.35s", rate=60)


def lamplighter(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=QUAY, actions=("right", "hop"), events=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(40, 16), gravity=setup.param("gravity", GRAVITY))
    edge = sim.recent("wick.on_edge", "wick.grounded", keep="5f")
    ask = sim.press_buffer("wick.ask_hop", "hop", keep="6f")
    gait = sim.machine("wick.gait", states=("standing", "airborne"), start="standing")

    @gait.during("standing", "airborne")
    def steer(now: lt.StepContext) -> None:
        wick.vx = 110 if now.held("right") else 0

    @gait.transition(("standing", "airborne"), to="airborne", when="wick.ask_hop.waiting and wick.on_edge", name="hop")
    def push_off(now: lt.StepContext) -> None:
        ask.take()
        edge.forget()
        wick.launch(vy=SPEED)
        now.emit("hop")

    gait.transition("standing", to="airborne", when="not wick.on_edge", name="fall")
    gait.transition("airborne", to="standing", when="wick.grounded", name="land")
    return sim


dusk_hop = lt.Scenario(
    lamplighter,
    frames=130,
    inputs=lt.InputScript().hold("right", start=1, frames=110).press("hop", start=50),
    claims=[
        lt.claim("the apex is 56 units", "measured(apex('wick.y'), 55.999, 56.001)"),
        lt.claim("it is reached after 0.35 s", "at(70, wick.y > 71.9)"),
        lt.claim("the hop clears the gap", "eventually(wick.grounded and wick.x > 192)"),
    ],
)

if __name__ == "__main__":
    trace = lt.record(dusk_hop)
    apex = lt.measure(trace, "apex('wick.y')")
    print(f"speed {SPEED:g} units/s, gravity {GRAVITY:g} units/s²")
    print(f"v²/2g promises {SPEED**2 / 2 / GRAVITY:.3f}; the frames give {apex:.3f}")
    tally = lt.check(trace, dusk_hop.claims)
    print(tally)
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        save_picture(draw_run(trace), sys.argv[1])
