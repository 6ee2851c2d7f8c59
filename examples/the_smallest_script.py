"""A search for presses that break a claim, and then the fewest that do.

Wick hops from the ground only, so it seems: the script that was written for it passes. The wrong version goes from a burst
back to `standing`, wherever Wick is. Nobody thought of a hop, a burst and a hop; a search does.
"""

import larktally as lt

QUAY = lt.Level(
    [
        lt.geometry.box_at((0, 0), (2000, 16)),
        lt.geometry.box_at((-16, 0), (16, 400)),
        lt.geometry.box_at((2000, 0), (16, 400)),
    ]
)


def wick_who(after_a_burst: str):
    def wick(setup: lt.Setup) -> lt.Sim:
        sim = lt.Sim(setup, level=QUAY, actions=("left", "right", "hop", "burst"), events=("hop",))
        body = sim.body("wick", size=(12, 20), at=(1000, 16), gravity=900)
        rest = sim.cooldown("wick.burst", "0.8s")
        gait = sim.machine("wick.gait", ("standing", "airborne", "bursting"), "standing")
        gait.during("standing", "airborne")(lambda now: body.steer(vx=120 * now.axis("left", "right")))

        @gait.transition("standing", to="airborne", when="pressed('hop')", name="hops")
        def push_off(now: lt.StepContext) -> None:
            body.launch(vy=360)
            now.emit("hop")

        @gait.transition(
            ("standing", "airborne"), to="bursting", when="pressed('burst') and wick.burst.ready", name="bursts"
        )
        def burst(now: lt.StepContext) -> None:
            rest.use()
            body.vx = 320

        gait.transition("bursting", to=after_a_burst, after="10f", name="burst over")
        gait.transition("airborne", to="standing", when="wick.grounded", name="lands")
        gait.transition("standing", to="airborne", when="not wick.grounded", name="walks off")
        return sim

    return wick


stroll = lt.Scenario(
    wick_who("standing"),
    frames="5s",
    inputs=lt.InputScript().hold("right", 1, 120).press("hop", 30).press("burst", 100).press("hop", 160),
    claims=[lt.claim("a hop starts on the ground", "always(implies(event('hop'), prev(wick.grounded)))")],
    name="stroll",
)

if __name__ == "__main__":
    assert lt.check(lt.record(stroll), stroll.claims).passed
    print("the script written by hand: kept")
    searched = lt.find_breach(stroll, tries=100)
    assert searched.broken is not None
    found = lt.shrink(searched.broken)
    print(f"\nfound, and then made smaller:\n{found}\n")
    print(lt.causes(found.trace, found.scenario, found.result.breaches[0].row))
    assert [span.action for span in found.scenario.inputs.spans] == ["hop", "burst", "hop"]
    mended = stroll.changed(subject=wick_who("airborne"))
    searched = lt.find_breach(mended, tries=100)
    print(f"\nmended, the burst ends in the air: {searched}")
    assert searched.broken is None and not searched.untested
