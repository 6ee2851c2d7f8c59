"""Evenings on Wick's canal: a scenario for each thing that can be done there, one that plays it all and wins, one that loses.

Each has its inputs and its claims. `larktally run evening.py` records and checks them all.
"""

import larktally as lt
from larktally.demo.canal import canal


def rule(name: str, that: str, why: str = "") -> lt.Claim:
    """A claim of this canal."""
    return lt.claim(name, that, why=why)


RIGHT = lt.InputScript().hold("right", 1, 150)
three_hops = lt.Scenario(
    canal,
    frames=170,
    inputs=lt.InputScript().press("hop", 20).press("hop", 68).press("hop", 118),
    claims=[
        rule(
            "three hops in a row",
            "in_order(data('hop', 'step') == 0, data('hop', 'step') == 1, data('hop', 'step') == 2)",
        ),
        rule("the third is the highest", "75 <= apex(wick.y) <= 80"),
        rule("every hop comes down within a second", "follows(event('hop'), event('landed'), within='1s')"),
    ],
    measures={"third hop": lt.NamedMeasure("apex(wick.y)", unit="px", wanted=(75, 80))},
)
one_more_in_the_air = lt.Scenario(
    canal,
    frames=120,
    inputs=lt.InputScript().tap("hop", 20, every=14, times=3),
    claims=[
        rule("one hop more in the air, and no second", "exactly(event('hop'), 2)"),
        rule(
            "the one in the air needs the latch",
            "always(implies(data('hop', 'step') == -1, prev(wick.spare_hop.armed)))",
        ),
    ],
    measures={"two hops high": lt.NamedMeasure("apex(wick.y)", unit="px")},
    windows={
        "hop buffer": lt.NamedWindow(
            "at_least(event('hop'), 3)", lt.Shift("hop", around="event('landed')", by=range(-12, 13))
        )
    },
)
burst_and_rest = lt.Scenario(
    canal,
    frames=160,
    inputs=lt.InputScript().tap("burst", 10, every=20, times=6, frames=2),
    claims=[
        rule("a burst lasts 10 frames", "stays(wick.gait == 'bursting', exactly=10)"),
        rule("it rests 48 frames", "spaced(event('used', source='wick.burst'), at_least=48)"),
        rule("nothing is left of its speed", "always(implies(ended(wick.gait == 'bursting'), wick.vx == 0))"),
    ],
    measures={
        "reach of the bursts": lt.NamedMeasure("reach(wick.x)", unit="px"),
        "in a burst": lt.NamedMeasure("rows_with(wick.gait == 'bursting')", unit="frames"),
    },
)
up_the_rope = lt.Scenario(
    canal,
    frames=160,
    params={"x": 560.0},
    inputs=lt.InputScript()
    .hold("right", 1, 12)
    .hold("up", 8, 45)
    .hold("up", 60, 43)
    .press("hop", 103)
    .hold("right", 103, 40),
    claims=[
        rule("the rope holds him to its middle", "always(implies(wick.gait == 'climbing', near(wick.x, 578, 0.001)))"),
        rule(
            "nothing pulls him down there", "always(implies(wick.gait == 'climbing' and not held('up'), wick.vy == 0))"
        ),
        rule("he gets onto the ledge", "eventually(wick.grounded and wick.y == 96)"),
    ],
)
along_the_gutter = lt.Scenario(
    canal,
    frames=200,
    params={"x": 740.0, "y": 96.0},
    inputs=lt.InputScript().hold("right", 1, 58).press("hop", 10).hold("up", 30, 40).hold("down", 110, 4),
    claims=[
        rule("he hangs still in height", "always(implies(lasted(wick.gait == 'edging') > 1, not changed(wick.y)))"),
        rule("he edges slower than he walks", "always(implies(wick.gait == 'edging', abs(wick.vx) <= 60))"),
        rule("letting go gives the fall back", "follows(ended(wick.gait == 'edging'), event('landed'), within='1s')"),
    ],
)
sparks_and_refill = lt.Scenario(
    canal,
    frames=400,
    inputs=lt.InputScript().tap("spark", 10, every=10, times=12),
    claims=[
        rule("seven sparks, then none until the refill", "exactly(event('spawned'), 7)"),
        rule("full again after 2.4 s", "follows(began(wick.oil == 0), wick.oil == 7, within='2.4s', after='2.4s')"),
        rule("a spark is gone after 40 frames", "stays(spark.0.present, at_most=41)"),
    ],
)
cold_and_moths = lt.Scenario(
    canal,
    frames=500,
    params={"x": 340.0, "y": 48.0},
    inputs=lt.InputScript().hold("right", 1, 55),
    claims=[
        rule("a moth notices at 80 px", "always(implies(ended(moth.1.flight == 'idle'), moth.1.gap < 80))"),
        rule("the blow lands on frame 9 of the swing", "always(implies(event('struck'), moth.1.pose.frame >= 9))"),
        rule("45 frames of grace after a hurt", "spaced(event('hurt'), at_least=45)"),
        rule("a hurt takes 3 of warmth", "always(implies(event('hurt'), delta(wick.warmth) < -2.9))"),
    ],
)
in_the_punt = lt.Scenario(
    canal,
    frames=300,
    params={"x": 830.0, "y": 60.0},
    inputs=lt.InputScript()
    .hold("left", 60, 40)
    .hold("right", 110, 60)
    .press("right", on="event('let_go')", plus=1, frames=60),
    claims=[
        rule(
            "its sides hold him",
            "until(event('boarded'), wick.x >= punt.x and wick.x + 12 <= punt.x + punt.width, event('let_go'))",
        ),
        rule("it carries him over", "follows(event('boarded'), event('let_go'), within='3s')"),
    ],
)
a_pause = lt.Scenario(
    canal,
    frames=120,
    inputs=RIGHT.keep(1, 110).press("spark", 20).hold("pause", 30, 12).hold("pause", 70, 3),
    claims=[
        rule("a press pauses once, however long it is held", "exactly(began(game == 'paused'), 1)"),
        rule(
            "nothing of the play moves",
            "always(implies(not clock('play'), not changed(wick.x) and not changed(bell.left)))",
        ),
        rule("the menu's clock goes on", "always(menu.ticking)"),
    ],
)
evening_won = lt.Scenario(
    canal,
    frames=2400,
    inputs=lt.InputScript()
    .hold("right", 1, 272)
    .press("hop", 20)
    .press("hop", 68)
    .press("hop", 118)
    .press("spark", 170)
    .hold("up", 268, 75)
    .hold("right", 343, 130)
    .press("hop", 345)
    .press("hop", 436)
    .hold("up", 455, 40)
    .hold("right", 495, 20)
    .hold("down", 530, 4)
    .press("pause", 600)
    .press("pause", 640)
    .press("right", on="event('let_go')", plus=1, frames=90)
    .press("burst", on="event('landed') and wick.x > 1030", plus=4)
    .press("right", on="event('landed') and wick.x > 1030", plus=16, frames=16)
    .press("spark", on="event('entered', source='lamp')", plus=6)
    .press("light", on="event('entered', source='lamp')", plus=30),
    claims=[
        rule("the last lamp is lit before the bell", "exactly(event('lit'), 1)"),
        rule("he has a match for it", "always(implies(event('lit'), prev(wick.matches) > 0))"),
        rule(
            "he comes by all of it",
            "in_order(wick.gait == 'climbing', wick.gait == 'edging', event('boarded'), event('lit'))",
        ),
        rule("he is never cold through", "never(wick.warmth.empty)"),
    ],
)
evening_lost = evening_won.changed(
    params={"bell": "10s"},
    claims=[
        rule("the bell ends the evening", "exactly(event('over', source='bell'), 1)"),
        rule("at 10 s, to the frame", "first_row(event('end')) == '10s'"),
        rule("no lamp is lit", "never(event('lit'))"),
    ],
)

SCENARIOS = {name: value.named(name) for name, value in list(globals().items()) if isinstance(value, lt.Scenario)}

if __name__ == "__main__":
    for name, scenario in SCENARIOS.items():
        trace = lt.record(scenario)
        tally = lt.check(trace, scenario.claims)
        assert tally.passed, tally
        print(
            f"{name}: {trace.frames} frames, {len(tally)} claims kept"
            + (f", {trace.header.end}" if trace.header.end else "")
        )
