"""Inside a drifting punt whose sides move in and out: Wick, who walks about in it, never gets through them."""

import math
import sys

import larktally as lt


def punt_ride(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("left", "right"))
    wick = sim.body("wick", size=(12, 20), at=(40, 40), gravity=900)
    punt = sim.enclosure("punt", at=(20, 40), size=(70, 40), holds=[wick])

    def drift(now: lt.StepContext) -> None:
        punt.drift(50, 18 * math.sin(now.frame / 12))
        punt.resize(52 + 26 * math.cos(now.frame / 20), 40)
        wick.vx = 160 * now.axis("left", "right")

    sim.before("motion", drift)
    return sim


ride = lt.Scenario(
    punt_ride,
    frames=300,
    inputs=lt.InputScript.at_random({"left": 0.05, "right": 0.05}, 300, seed=8),
    claims=[
        lt.claim(
            "Wick stays between the sides",
            "always(wick.x >= punt.x and wick.x + 12 <= punt.x + punt.width + 0.000001)",
        ),
        lt.claim("and on the floor", "always(wick.grounded and near(wick.y, punt.y, 0.000001))"),
        lt.claim("the sides are felt", "at_least(event('bumped'), 1)"),
    ],
)

if __name__ == "__main__":
    trace = lt.record(ride)
    tally = lt.check(trace, ride.claims)
    print(tally)
    print(
        f"the punt drifted {trace['punt.x'][-1] - trace['punt.x'][0]:.0f} units, {len(trace.events.named('bumped'))} bumps"
    )
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        save_picture(draw_run(trace), sys.argv[1])
