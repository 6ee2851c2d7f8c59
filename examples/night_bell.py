"""The night bell: light the last lamp with time left and win; at zero the run is lost; the bell stops when it is lit.

The wrong version first: a bell that nobody stops goes on, and a win is followed by a loss.
"""

import larktally as lt


def evening(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("light",), events=("won", "lost"))
    bell = sim.countdown("bell", setup.param("time", "10s"), each="second", last="3s", running=True)
    lamps = sim.value("lamps", 3)
    stops = not setup.param("wrong", False)

    @sim.before("machines")
    def light(now: lt.StepContext) -> None:
        if now.pressed("light") and lamps.value:
            lamps.value -= 1
            if lamps.value == 0:
                now.emit("won", left=bell.left)
                if stops:
                    bell.stop()
                    now.end("won")
        if now.sim.count_emitted("over", "bell"):
            now.emit("lost")
            now.end("lost")

    return sim


CLAIMS = [
    lt.claim("a win is never followed by a loss", "never(event('lost') and count(event('won')) > 0)"),
    lt.claim("the bell warns 3 s before its end", "always(implies(event('last'), near(bell.left, 180, 0)))"),
    lt.claim("it ends one way or the other", "exactly(event('end'), 1)"),
]
three_lamps = lt.InputScript().tap("light", start=60, every=90, times=3, frames=2)
won = lt.Scenario(evening, frames="12s", inputs=three_lamps, claims=CLAIMS[::2])
lost = lt.Scenario(evening, frames="12s", inputs=three_lamps.keep(1, 200), claims=CLAIMS)

if __name__ == "__main__":
    wrong = lt.check(lt.record(won.changed(params={"wrong": True})), CLAIMS)
    print(f"a bell that nobody stops:\n{wrong['a win is never followed by a loss']}\n")
    assert wrong["a win is never followed by a loss"].verdict == "broken"
    for name, scenario in (("in time", won), ("too late", lost)):
        trace = lt.record(scenario)
        print(f"{name}: {trace.header.end} in row {trace.rows - 1}, {trace['bell.seconds'][-1]} s left on the screen")
        assert lt.check(trace, scenario.claims).passed, lt.check(trace, scenario.claims)
        assert trace.header.end == ("won" if scenario is won else "lost")
    assert lt.record(lost).rows - 1 == 600, "10 s at 60 frames a second, to the frame"
