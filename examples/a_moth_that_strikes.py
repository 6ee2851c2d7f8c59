"""A moth that notices at 80 px, chases, strikes in range and only when rested, and gives up; one function builds each.

The wrong version first: its strike ends as soon as its prey is in sight, and its prey always is, so that the two rules
fight and the moth is thrown out of every strike in the next frame. Coverage shows it: no stay in `strike` is longer than 1.
"""

import sys

import larktally as lt

QUAY = lt.Level.from_rows("\n".join(("." * 56, "." * 56, "#" * 56)), cell=16)


def build_moth(sim: lt.Sim, wick: lt.Body, x: float, wrong: bool) -> None:
    body = sim.body("body", size=(8, 8), at=(x, 24))
    facing, gap = sim.value("facing", -1), sim.value("gap", 999.0)
    rest = sim.cooldown("rest", "0.8s")
    flight = sim.machine("flight", ("idle", "chase", "strike"), "idle")

    def measure_gap(now: lt.StepContext) -> None:
        gap.value = lt.geometry.distance(body, wick)

    sim.before("machines", measure_gap)

    @flight.during("chase")
    def close_in(now: lt.StepContext) -> None:
        facing.value = 1 if wick.x > body.x else -1
        body.vx = 90.0 * facing.value

    flight.leave("chase")(lambda now: body.halt())
    flight.transition("idle", to="chase", when="gap < 80", name="notices")
    flight.transition("chase", to="idle", when="gap > 160", name="loses him")
    strikes = flight.transition("chase", to="strike", when="gap < 20 and rest.ready", name="strikes")
    strikes(lambda now: rest.use())
    flight.transition("strike", to="chase", name="chases on", **{"when": "gap < 80"} if wrong else {"after": "24f"})


def canal(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=QUAY, actions=("left", "right"))
    wick = sim.body("wick", size=(12, 20), at=(504, 16), gravity=900)
    gait = sim.machine("wick.gait", ("walking",), "walking")
    gait.during("walking")(lambda now: wick.steer(vx=130 * now.axis("left", "right")))
    for n, x in enumerate((654, 764), 1):
        build_moth(sim.under(f"moth.{n}"), wick, x, setup.param("wrong", False))
    return sim


walk = lt.Scenario(
    canal,
    frames=520,
    inputs=lt.InputScript().hold("right", start=10, frames=46).hold("left", start=200, frames=220),
    claims=[
        lt.claim("a strike lasts its 24 frames", "stays(moth.1.flight == 'strike', exactly=24)"),
        lt.claim("it strikes only when rested", "spaced(began(moth.1.flight == 'strike'), at_least='0.8s')"),
        lt.claim("it gives up", "in_order(moth.1.flight == 'strike', moth.1.flight == 'idle')", allow="untested"),
        lt.claim(
            "it keeps its facing when it gives up",
            "always(implies(moth.1.flight == 'idle', not changed(moth.1.facing)))",
        ),
    ],
)

if __name__ == "__main__":
    fighting = walk.changed(params={"wrong": True}, claims=())
    print("two rules that fight:")
    print(lt.coverage(lt.record(fighting), "moth.1.flight"))
    trace = lt.record(walk)
    tally = lt.check(trace, walk.claims)
    print("\nmended:")
    print(lt.coverage(trace, "moth.1.flight", walk))
    (strike, *_) = trace.events.named("used", source="moth.1")
    print(f"\nwhy in row {strike.row}?\n{lt.why(trace, walk, strike.row, 'moth.1.flight')}\n\n{tally}")
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        save_picture(draw_run(trace), sys.argv[1])
