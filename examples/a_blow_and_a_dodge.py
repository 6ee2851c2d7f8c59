"""A moth's blow lands on frame 9 of its swing: a dodge one frame before it is safe, one frame after it hurts.

Three runs that differ by a frame of input, and the same two claims for all: that is what "to the frame" means.
"""

import larktally as lt


def meeting(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("lure", "dodge"), events=("hurt",))
    moth = sim.body("moth", size=(10, 10), at=(100, 0))
    wick = sim.body("wick", size=(12, 20), at=(84, 0))
    swing = sim.animation(
        "moth.pose", {"hover": lt.Clip(8, loop=True), "swing": lt.Clip(24, marks={"blow": 9})}, "hover"
    )
    reach = sim.hitbox("moth.reach", moth, size=(14, 10), offset=(-10, 0), targets=[wick])
    flight = sim.machine("moth.flight", ("hover", "swing"), "hover")
    flight.transition("hover", to="swing", when="pressed('lure')")
    flight.transition("swing", to="hover", after=24)
    swing.chosen_by(flight, {"hover": "hover", "swing": "swing"})

    @sim.before("motion")
    def move(now: lt.StepContext) -> None:
        if now.sim.count_emitted("mark", "moth.pose"):
            reach.open(1)
        wick.vx = -900.0 if now.held("dodge") else 0.0

    sim.after("zones", lambda now: now.sim.count_emitted("struck") and now.emit("hurt"))
    return sim


def dodging(plus: int) -> lt.Scenario:
    """A dodge of one frame, `plus` frames after the swing began."""
    began = "moth.flight == 'swing' and moth.flight.age == 0"
    script = lt.InputScript().press("lure", 30).press("dodge", on=began, plus=plus)
    return lt.Scenario(meeting, frames=80, inputs=script, name=f"dodge {plus} frames into the swing")


blow = lt.claim("the blow lands on frame 9", "always(implies(event('mark'), moth.flight.age == 9))")
before, at_once, after = dodging(8), dodging(9), dodging(10)

if __name__ == "__main__":
    for scenario, hurts in ((before, 0), (at_once, 0), (after, 1)):
        trace = lt.record(scenario)
        claims = [blow, lt.claim(f"hurt {hurts} times", f"exactly(event('hurt'), {hurts})")]
        tally = lt.check(trace, claims)
        print(f"{scenario.title}: {[str(event) for event in trace.events if event.name in ('mark', 'hurt')]}")
        assert tally.passed, tally
    print("a dodge in the frame of the blow is in time, since motion comes before zones; one frame later it is not")
