"""A burst lasts 10 frames and rests 48, counted from its use; with charges, two bursts before a rest.

The wrong version first: time as a float, summed. It rests as long as it should at 60 frames a second, and one frame too
long at 30.
"""

import larktally as lt


def bellows(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("burst",), level=lt.Level([lt.geometry.box_at((0, 0), (4000, 16))]))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    rest = sim.cooldown(
        "wick.burst", "0.8s", charges=setup.param("charges", 1), style="summed" if setup.param("wrong", False) else None
    )
    gait = sim.machine("wick.gait", ("walking", "bursting"), "walking")
    gait.transition("walking", to="bursting", when="held('burst') and wick.burst.ready")(lambda now: rest.use())
    gait.transition("bursting", to="walking", after=10, name="spent")
    gait.setting("bursting", wick, gravity=0.0)
    gait.during("bursting")(lambda now: setattr(wick, "vx", 320.0))
    gait.leave("bursting")(lambda now: wick.halt("x"))
    return sim


CLAIMS = [
    lt.claim("a burst lasts 10 frames", "stays(wick.gait == 'bursting', exactly=10)", allow="unfinished"),
    lt.claim("a burst comes 48 frames after the one before", "spaced(event('used'), at_least=48, at_most=48)"),
    lt.claim("nothing is left of its speed", "always(implies(ended(wick.gait == 'bursting'), wick.vx == 0))"),
]
held = lt.Scenario(bellows, frames="4s", inputs=lt.InputScript().hold("burst", 10, 200), claims=CLAIMS)

if __name__ == "__main__":
    for rate in (60, 30):
        wrong = lt.record(held.changed(rate=rate, params={"wrong": True}, claims=()))
        rows = [event.row for event in wrong.events.named("used")]
        exact = lt.frames_in("0.8s", lt.Rate(rate))
        print(f"summed at {rate}: bursts in rows {rows}, {rows[1] - rows[0]} frames apart; 0.8 s is {exact}")
    tally = lt.check(lt.record(held), CLAIMS)
    print(f"\ncounted:\n{tally}")
    assert tally.passed, tally
    twice = lt.record(held.changed(params={"charges": 2}))
    print(f"\nwith two charges: bursts in rows {[event.row for event in twice.events.named('used')]}")
