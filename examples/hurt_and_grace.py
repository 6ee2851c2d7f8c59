"""A hurt counts once, then not for 45 frames, and a touch that lasts counts once however long it lasts.

The wrong version first: a touch takes warmth in every frame in which it lasts.
"""

import larktally as lt


def meeting(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, events=("chilled",))
    wick = sim.body("wick", size=(12, 20), at=(60, 16))
    moth = sim.body("moth", size=(8, 8), at=(20, 24), velocity=(15, 0))
    warmth = sim.value("wick.warmth", 100)
    grace = sim.grace("wick.grace", "45f", once=setup.param("once", True))
    wrong = setup.param("wrong", False)
    mood = sim.machine("wick.mood", ("calm", "hurt"), "calm")

    def touch(now: lt.StepContext) -> None:
        touching = lt.geometry.distance(wick, moth, "edges") == 0
        if touching and (wrong or grace.hurt()):
            warmth.value -= 10
            now.emit("chilled")
            mood.go("hurt")

    sim.after("zones", touch)
    mood.transition("hurt", to="calm", when="not wick.grace.active", name="recovers")
    return sim


brush = lt.Scenario(
    meeting,
    frames=420,
    claims=[
        lt.claim("one touch costs one hurt", "exactly(event('chilled'), 1)"),
        lt.claim("grace lasts 45 frames or as long as the touch", "stays(wick.grace == 'locked', at_least=45)"),
        lt.claim("he is hurt once, for as long", "exactly(began(wick.mood == 'hurt'), 1)"),
    ],
)

if __name__ == "__main__":
    wrong = lt.record(brush.changed(params={"wrong": True}))
    print(f"without a gate the touch costs {wrong['wick.warmth'][0] - wrong['wick.warmth'][-1]} warmth")
    assert not lt.check(wrong, brush.claims).passed
    again = lt.record(brush.changed(params={"once": False}))
    print(f"with grace alone it counts again when the grace is over: {len(again.events.named('chilled'))} hurts")
    trace = lt.record(brush)
    print(f"with its gate, once, in row {trace.events.named('chilled')[0].row}\n")
    tally = lt.check(trace, brush.claims)
    print(tally)
    assert tally.passed, tally
