"""A baseline: a run kept beside the tests. A change that nobody meant shows in frames and values; one that is meant is accepted.

Gravity is tuned from 900 to 880: what else did that move?
"""

import tempfile
from pathlib import Path

import larktally as lt

QUAY = lt.Level([lt.geometry.box_at((0, 0), (900, 16))])


def hopper(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=QUAY, actions=("right", "hop"))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=setup.param("gravity", 900.0))

    @sim.before("motion")
    def steer(now: lt.StepContext) -> None:
        wick.vx = 120 * now.value("right")
        if now.pressed("hop") and wick.grounded:
            wick.launch(vy=360)

    return sim


hop = lt.Scenario(hopper, frames=120, inputs=lt.InputScript().hold("right", 1, 90).press("hop", 20), name="hop")

if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        baselines = lt.Baselines(Path(folder) / "baselines")
        print(baselines.check(lt.record(hop), accept=True).comparison or "a new baseline was made")
        assert baselines.check(lt.record(hop)).passed
        tuned = lt.record(hop.changed(params={"gravity": 880.0}))
        result = baselines.check(tuned)
        print(f"\ngravity 880:\n{result.comparison}")
        assert not result.passed
        assert baselines.check(tuned, tolerance={"wick.*": 500}).comparison.events, "the landing moved all the same"
        baselines.check(tuned, accept=True)
        assert baselines.check(tuned).passed
