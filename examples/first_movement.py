"""First movement: inputs into velocity, velocity into position, the same distance at every rate.

The wrong version first: so many units a frame. At 30 frames a second Wick walks half as far as at 60.
"""

import larktally as lt


def walker(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("left", "right", lt.Action("stick", analog=True)))
    wick = sim.body("wick", size=(12, 20), at=(0, 0), per="frame" if setup.param("wrong", False) else "second")
    speed = 2.0 if setup.param("wrong", False) else 120.0

    @sim.before("motion")
    def steer(now: lt.StepContext) -> None:
        wick.vx = speed * (now.axis("left", "right") or now.value("stick"))

    return sim


one_second = lt.Scenario(
    walker,
    frames="2s",
    inputs=lt.InputScript().hold("right", start=1, frames="1s").hold("stick", start="1.5s", frames="0.5s", value=-0.5),
    claims=[
        lt.claim("a second of walking is 120 units", "measured(greatest('wick.x'), 120, 120)"),
        lt.claim(
            "both at once stand still",
            "always(implies(held('left') and held('right'), wick.vx == 0))",
            allow="untested",
        ),
        lt.claim("half a stick is half the speed", "always(implies(value('stick') == -0.5, wick.vx == -60))"),
    ],
)

if __name__ == "__main__":
    for wrong in (True, False):
        print("units a frame:" if wrong else "units a second:")
        for rate in (30, 60, 120):
            trace = lt.record(one_second.changed(rate=rate, params={"wrong": wrong}))
            tally = lt.check(trace, one_second.claims)
            print(f"  at {rate:>3}: {trace['wick.x'].max():g} units in a second; {len(tally.failed)} claims not kept")
            assert wrong or tally.passed, tally
