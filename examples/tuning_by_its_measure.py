"""Tuning a number by its measure: not tune, run, look and tune again, but the measure wanted and the number that gives it.

How fast must Wick push off to land on the next quay, 110 units away, and no farther than 130? And with what margin?
"""

import larktally as lt

CANAL = lt.Level([lt.geometry.box_at((0, 0), (100, 16)), lt.geometry.box_at((210, 0), (400, 16))])


def hopper(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=CANAL, actions=("right", "hop"))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    speed = setup.param("speed", 300.0)

    @sim.before("motion")
    def steer(now: lt.StepContext) -> None:
        wick.vx = 160.0 * now.value("right")
        if now.pressed("hop") and wick.grounded:
            wick.launch(vy=speed)

    return sim


leap = lt.Scenario(
    hopper,
    frames=100,
    inputs=lt.InputScript().hold("right", 1, 100).press("hop", 28),
    claims=[
        lt.claim("he lands on the next quay", "eventually(event('landed') and wick.x + 12 > 210)"),
        lt.claim("and not too far on it", "never(event('landed') and wick.x > 230)"),
    ],
)
MEASURES = ["apex('wick.y')", "value_when(wick.x, event('landed'))", "air_time(wick.grounded)"]

if __name__ == "__main__":
    tried = lt.vary(leap, {"speed": range(300, 461, 20)}, measures=MEASURES)
    print(f"{tried}\n")
    good = [run.values["speed"] for run in tried.kept]
    print(f"speeds that keep both claims: {good}; the middle one leaves room on both sides: {good[len(good) // 2]}")
    assert good and all(210 - 12 < run.measures[MEASURES[1]] <= 230 for run in tried.kept)
    assert "and not too far on it: kept 300..380, broken 400..460" in str(tried)
    tuned = lt.tune(leap, "speed", 300.0, 460.0, measure=MEASURES[2], wanted=47, step=10)
    print(f"{tuned}\n")
    # In the air for 47 frames over a stretch of speeds: one in the middle of it, and both claims are kept there.
    assert len(tuned.stretches) == 1 and not tuned.stretches[0].broken
    speed, gravity = lt.geometry.launch_for(height=80, time_to_apex="0.4s", rate=60)
    print(f"for an apex of 80 in 0.4 s, exact to the frame: speed {speed:g}, gravity {gravity:g}")
