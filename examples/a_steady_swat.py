"""A steady swat: every half second Wick swats at what is in range and in front, and at nothing behind.

The wrong version first: it swats at what is in range, whichever way Wick faces.
"""

import larktally as lt


def swatting(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("left", "right"), events=("swat",))
    wick = sim.body("wick", size=(12, 20), at=(100, 0))
    moths = [
        sim.body(f"moth.{n}", size=(8, 8), at=at, velocity=(way, 0))
        for n, at, way in ((1, (20, 6), 30), (2, (220, 6), -20))
    ]
    facing = sim.value("wick.facing", 1)
    steady = sim.interval("wick.swat", "0.5s")
    asks_for_front = not setup.param("wrong", False)

    @sim.before("motion")
    def swat(now: lt.StepContext) -> None:
        way = now.axis("left", "right")
        facing.value = int(way) or facing.value
        if not steady.due:
            return
        near, how_far = lt.geometry.nearest(wick, moths)
        if how_far > 40:
            return
        if asks_for_front and not lt.geometry.in_front(wick, near, facing.value):
            return
        now.emit("swat", at=near.name, side=1 if near.centre[0] > wick.centre[0] else -1)

    return sim


CLAIMS = [
    lt.claim("a swat goes where Wick looks", "always(implies(event('swat'), data('swat', 'side') == wick.facing))"),
    lt.claim("no two within half a second", "spaced(event('swat'), at_least='0.5s')"),
]
turning = lt.InputScript().press("right", 1).press("left", 250)
steady = lt.Scenario(swatting, frames=300, inputs=turning, claims=CLAIMS)

if __name__ == "__main__":
    wrong = lt.check(lt.record(steady.changed(params={"wrong": True})), CLAIMS)
    print(f"at whatever is near:\n{wrong[0]}\n")
    assert wrong[0].verdict == "broken"
    trace = lt.record(steady)
    tally = lt.check(trace, CLAIMS)
    print(f"in front:\n{tally}\nswats in rows {[event.row for event in trace.events.named('swat')]}")
    assert tally.passed, tally
