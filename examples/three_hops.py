"""Three hops in a row, each higher, the second within 12 frames of landing, the third within 8; then back to the first.

The wrong version first: the time for the next hop runs in the air too, so that it is over before Wick lands.
"""

import larktally as lt

QUAY = lt.Level([lt.geometry.box_at((0, 0), (2000, 16))])
SPEEDS = (300.0, 345.0, 390.0)


def wick_hops(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=QUAY, actions=("hop",), events=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    opens_on = None
    if not setup.param("wrong", False):
        opens_on = "event('landed')"
    hops = sim.chain("wick.hops", 3, within=(12, 8, 12), opens_on=opens_on)
    gait = sim.machine("wick.gait", ("standing", "airborne"), "standing")

    @gait.transition("standing", to="airborne", when="pressed('hop')")
    def push_off(now: lt.StepContext) -> None:
        step = hops.use()  # the step as it was before the counter moved
        wick.launch(vy=SPEEDS[step])
        now.emit("hop", step=step, speed=SPEEDS[step])

    gait.transition("airborne", to="standing", when="wick.grounded")
    return sim


CLAIMS = [
    lt.claim("the third hop of a chain is the highest", "measured(apex('wick.y'), 81, 82)"),
    lt.claim(
        "a chain is three hops",
        "in_order(data('hop', 'step') == 0, data('hop', 'step') == 1, data('hop', 'step') == 2)",
    ),
]
landed = lt.InputScript().press("hop", 10).press("hop", on="event('landed')", plus=6)
chain = lt.Scenario(wick_hops, frames=240, inputs=landed, claims=CLAIMS)
too_late = chain.changed(
    inputs=lt.InputScript().press("hop", 10).press("hop", on="event('landed')", plus=12), claims=()
)

if __name__ == "__main__":
    wrong = lt.check(lt.record(chain.changed(params={"wrong": True})), CLAIMS)
    print(f"its time runs in the air too:\n{wrong['a chain is three hops']}\n")
    assert not wrong.passed
    for scenario in (chain, too_late):
        trace = lt.record(scenario)
        hops = [(event.row, event.data["step"]) for event in trace.events.named("hop")]
        print(f"hops (row, step): {hops}; apex {trace['wick.y'].max() - 16:g}")
    tally = lt.check(lt.record(chain), CLAIMS)
    print(tally)
    assert tally.passed, tally
    assert {event.data["step"] for event in lt.record(too_late).events.named("hop")} == {0}
