"""A pause that freezes the play and not the menu, and returns to where it was.

The wrong version first: it asks whether the key is held, so that a key held down pauses and goes on sixty times a second.
"""

import larktally as lt


def evening(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("pause", "right"))
    play = sim.clock("play")  # every part that names no other clock is on this one
    sim.clock("menu")
    sim.body("wick", size=(12, 20), at=(20, 16), velocity=(60, 0))
    rest = sim.cooldown("wick.burst", "0.5s")
    blink = sim.value("menu.blink", 0)
    game = sim.machine("game", ("walking", "running", "paused"), "walking", clock="menu")
    asks = "held('pause')" if setup.param("wrong", False) else "pressed('pause')"
    game.transition(("walking", "running"), to="paused", when=asks, push=True, name="pauses")
    game.transition("paused", to=lt.BACK, when=asks, name="goes on")
    game.transition("walking", to="running", when="held('right')", name="runs")(lambda now: rest.use())
    game.enter("paused")(lambda now: play.pause())
    game.leave("paused")(lambda now: play.run(1))

    @game.transition("paused", to=lt.STAY, every="10f", when="true", name="blinks")
    def turn_over(now: lt.StepContext) -> None:
        blink.value = 1 - blink.value

    return sim


pause = lt.Scenario(
    evening,
    frames=160,
    inputs=lt.InputScript().hold("right", 8, 20).hold("pause", 20, 30).hold("pause", 90, 4),
    claims=[
        lt.claim("a press pauses once", "exactly(began(game == 'paused'), 1)"),
        lt.claim(
            "nothing of the play moves in a pause",
            "always(implies(prev(game) == 'paused' and game == 'paused', not changed(wick.x)))",
        ),
        lt.claim(
            "the burst's rest stands still too",
            "always(implies(prev(game) == 'paused' and game == 'paused', not changed(wick.burst.left)))",
        ),
        lt.claim("the menu goes on", "eventually(game == 'paused' and changed(menu.blink))"),
        lt.claim("it goes back to where it was", "in_order(game == 'running', game == 'paused', game == 'running')"),
    ],
)

if __name__ == "__main__":
    wrong = lt.check(lt.record(pause.changed(params={"wrong": True})), pause.claims)
    print(f"asking whether it is held:\n{wrong['a press pauses once']}\n")
    assert not wrong.passed
    tally = lt.check(lt.record(pause), pause.claims)
    print(f"asking whether it was pressed:\n{tally}")
    assert tally.passed, tally
