"""Warmth falls by 1 a second, recovers by a lamp after 1.5 s without a gust, and is stuck once it is empty.

The wrong version first: floats. After a minute of 60 frames a second nothing is quite where it should be.
"""

import larktally as lt


def cold_evening(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("gust", "lamp"))
    warmth = sim.meter("warmth", 20, rate=-1, stuck_empty=True, marks=[5], recovers=setup.param("recovers", 0))
    sim.before("machines", lambda now: now.pressed("gust") and warmth.take("2.5"))
    sim.before("machines", lambda now: now.held("lamp") and warmth.give("1/15"))
    return sim


CLAIMS = [
    lt.claim(
        "a minute of cold takes what a minute of cold takes",
        "always(implies(frame <= 1200, near(warmth * 60, 1200 - frame, 1e-12)))",
    ),
    lt.claim("it warns before it is empty", "precedes(event('passed'), event('emptied'))"),
    lt.claim("cold through, it stays so", "always(implies(prev(warmth.empty), warmth.empty))"),
]
cold = lt.Scenario(cold_evening, frames="22s", claims=CLAIMS)

if __name__ == "__main__":
    by_hand = 20.0
    for _ in range(1200):
        by_hand -= 1 / 60
    print(f"by hand, after 20 s at 1 a second: {by_hand!r} of 20 left, so that `== 0` never comes true")
    trace = lt.record(cold)
    tally = lt.check(trace, CLAIMS)
    print(f"a meter: {float(trace['warmth'][1200])!r}, emptied in row {trace.events.named('emptied')[0].row}\n{tally}")
    assert tally.passed, tally
    gusts = lt.InputScript().press("gust", 60).press("gust", 120).hold("lamp", 200, 120)
    windy = lt.record(cold.changed(inputs=gusts, claims=()))
    print(f"with two gusts and 2 s at a lamp: {float(windy['warmth'][320]):g} left in row 320")
    assert windy["warmth"][320] == float(20 - lt.Rate(320) / 60 - 5 + 8)
