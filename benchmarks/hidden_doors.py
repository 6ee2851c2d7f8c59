"""Small models with a rule that no random script finds, and a walk to be run many times."""

import larktally as lt


def three(setup):
    sim = lt.Sim(setup, actions=("a", "b"))
    door = sim.machine("door", ("shut", "one", "two", "open"), "shut")
    door.transition("shut", to="one", when="pressed('a')", name="first")
    door.transition("one", to="two", when="pressed('b') and door.age >= 20 and door.age <= 24", name="second")
    door.transition("one", to="shut", when="door.age > 30", name="late")
    door.transition("two", to="open", when="pressed('a') and door.age >= 10 and door.age <= 13", name="third")
    door.transition("two", to="shut", when="door.age > 15", name="late again")
    return sim


def narrow(setup):
    sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((0, 0), (800, 16))]), actions=("left", "right", "pull"))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    lever = sim.machine("lever", ("up", "down"), "up")
    sim.before("motion", lambda now: wick.steer(vx=120 * now.axis("left", "right")))
    lever.transition("up", to="down", when="pressed('pull') and abs(wick.x - 501) < 1.5", name="pulled")
    return sim


def counter(setup):
    sim = lt.Sim(setup, actions=("hit", "rest"))
    hits = sim.value("hits", 0)
    bell = sim.machine("bell", ("still", "rings"), "still")

    def hit(now):
        hits.value = 0 if now.pressed("rest") else hits.value + now.pressed("hit")

    sim.before("machines", hit)
    bell.transition("still", to="rings", when="hits == 7", name="seventh")
    return sim


def chain(setup):
    sim = lt.Sim(setup, actions=("strike", "dodge"))
    arm = sim.machine("arm", ("idle", "one", "two", "three"), "idle")
    arm.transition("idle", to="one", when="pressed('strike')")
    arm.transition("one", to="two", when="pressed('strike') and arm.age >= 12 and arm.age < 16")
    arm.transition("two", to="three", when="pressed('strike') and arm.age >= 12 and arm.age < 16")
    arm.transition(("one", "two", "three"), to="idle", when="arm.age > 20", name="over")
    return sim


def paused(setup):
    sim = lt.Sim(setup, actions=("pause", "go"))
    play, _ = sim.clock("play"), sim.clock("front")
    menu = sim.machine("menu", ("open", "shut"), "open", clock="front")
    menu.transition("open", to="shut", when="pressed('pause')", name="closes")
    menu.enter("open")(lambda now: play.pause())
    menu.leave("open")(lambda now: play.run(1))
    hero = sim.machine("hero", ("stand", "run"), "stand", clock="play")
    hero.transition("stand", to="run", when="pressed('go')")
    hero.during("stand")(lambda now: play.pause() if menu.state == "open" else None)
    return sim


def stroll(setup):
    sim = lt.Sim(
        setup, level=lt.Level([lt.geometry.box_at((0, 0), (4000, 16))]), actions=("right", "hop"), events=("hop",)
    )
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    rest = sim.cooldown("rest", 30)
    gait = sim.machine("gait", ("ground", "air"), "ground")

    @gait.transition("ground", to="air", when="rest.ready and wick.grounded")
    def up(now):
        rest.use()
        wick.launch(vy=now.random.between(200, 300))
        now.emit("hop")

    gait.transition("air", to="ground", when="wick.grounded")
    sim.before("motion", lambda now: wick.steer(vx=120 * now.held("right")))
    return sim


walk = lt.Scenario(
    stroll,
    frames=600,
    inputs=lt.InputScript().hold("right", 1, 600),
    claims=[lt.claim("he hops on", "at_least(event('hop'), 5)")],
)
doors = {
    one.__name__: lt.Scenario(one, frames=60, name=one.__name__) for one in (three, narrow, counter, chain, paused)
}
