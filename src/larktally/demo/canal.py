"""Wick's canal at dusk: one level with everything in it, and an evening that lights the last lamp before the night bell.

Wick walks and hops between quays and a moored plank, one hop more in the air and three in a row each higher; climbs a rope,
edges along a gutter, rides a punt whose sides hold him; bursts forward on a bellows, throws sparks from an oil can that
refills, loses warmth, gathers matches, and is harried by moths that notice, chase and strike. All of it is made up.
"""

from typing import Any, NamedTuple

import larktally as lt

CANAL = lt.Level.from_rows(
    """
    ................................................................................
    ................................................................................
    ....................................r...........................................
    ....................................r..............gggggggggg...................
    ....................................r...........................................
    ....................................r...........................................
    ....................................r###########................................
    ....................................r...........................................
    ....................................r...........................................
    .....................====...........r...........................................
    .......m...........................mr.....................................l.....
    ##################.......############...........................################
    """,
    cell=16,
    zones={"r": "rope", "g": "gutter", "m": "matches", "l": "lamp"},
)
HOPS = (330.0, 355.0, 380.0)


def canal(setup: lt.Setup) -> lt.Sim:
    """The whole canal. Params: `x` and `y` where Wick starts, `bell` how long the evening is."""
    actions = ("left", "right", "up", "down", "hop", "burst", "spark", "light", "pause")
    sim = lt.Sim(setup, level=CANAL, actions=actions, events=("hop", "lit"))
    play, _ = sim.clock("play"), sim.clock("menu")
    wick = sim.body(
        "wick", size=(12, 20), at=(setup.param("x", 24.0), setup.param("y", 16.0)), gravity=900, limit={"y": 420}
    )
    moths = [build_moth(sim.under(f"moth.{n}"), wick, x) for n, x in ((1, 420.0), (2, 1250.0))]
    build_wick(sim, wick, moths)
    build_lamp(sim, wick)

    game = sim.machine("game", ("playing", "paused"), "playing", clock="menu")
    game.transition("playing", to="paused", when="pressed('pause')", name="pauses")
    game.transition("paused", to="playing", when="pressed('pause')", name="goes on")
    game.enter("paused")(lambda now: play.pause())
    game.leave("paused")(lambda now: play.run(1))
    return sim


def build_wick(sim: lt.Sim, wick: lt.Body, moths: list["Moth"]) -> None:
    """How Wick moves, what he carries, and what he feels."""
    facing = sim.value("wick.facing", 1)
    rope, gutter = sim.zone("rope", watch=[wick]), sim.zone("gutter", watch=[wick])
    gait = sim.machine("wick.gait", ("standing", "airborne", "bursting", "climbing", "edging"), "standing")
    for state in ("bursting", "climbing", "edging"):
        gait.setting(state, wick, gravity=0.0)
    gait.enter("bursting", "climbing", "edging")(lambda now: wick.halt())
    gait.enter("climbing")(lambda now: rope.snap(wick))
    gait.enter("edging")(lambda now: gutter.snap(wick, "y"))
    gait.leave("bursting")(lambda now: wick.halt())

    @gait.during("standing", "airborne")
    def steer(now: lt.StepContext) -> None:
        direction = now.axis("left", "right")
        facing.value = int(direction) or facing.value
        wick.vx = 120 * direction

    gait.during("bursting")(lambda now: setattr(wick, "vx", 320.0 * facing.value))
    gait.during("climbing")(lambda now: setattr(wick, "vy", 80.0 * now.axis("down", "up")))
    gait.during("edging")(lambda now: setattr(wick, "vx", 60.0 * now.axis("left", "right")))
    build_rules(sim, wick, gait)
    build_can(sim, wick, facing, moths)
    build_warmth(sim, wick, moths)


def build_rules(sim: lt.Sim, wick: lt.Body, gait: lt.Machine) -> None:
    """The rules of Wick's gait, in the order in which they are tried."""
    ask, edge = (
        sim.press_buffer("wick.ask_hop", "hop", keep="6f"),
        sim.recent("wick.on_edge", "wick.grounded", keep="5f"),
    )
    hops, spare = sim.chain("wick.hops", 3, within=12, runs_while="wick.grounded"), sim.latch("wick.spare_hop")
    bellows = sim.cooldown("wick.burst", "0.8s")
    ground_or_air, asked = ("standing", "airborne"), "wick.ask_hop.waiting"
    gait.enter("standing")(lambda now: spare.arm())

    @gait.transition("standing", to="bursting", when="pressed('burst') and wick.burst.ready", name="bursts")
    def burst(now: lt.StepContext) -> None:
        bellows.use()

    gait.transition("bursting", to="airborne", after=10, name="spent")
    gait.transition(ground_or_air, to="climbing", when="rope.wick and held('up')", name="takes the rope")
    gait.transition(
        "airborne", to="edging", when="gutter.wick and held('up') and not held('down')", name="takes the gutter"
    )

    @gait.transition(ground_or_air, to="airborne", when=f"{asked} and wick.on_edge", name="hops")
    def push_off(now: lt.StepContext) -> None:
        ask.take()
        edge.forget()
        step = hops.use()
        wick.launch(vy=HOPS[step])
        now.emit("hop", step=step)

    @gait.transition("airborne", to="airborne", when=f"{asked} and wick.spare_hop.armed", name="hops again")
    def hop_again(now: lt.StepContext) -> None:
        ask.take()
        spare.fire()
        wick.launch(vy=300.0)
        now.emit("hop", step=-1)

    @gait.transition("climbing", to="airborne", when=f"{asked} or not rope.wick", name="leaves the rope")
    def let_go(now: lt.StepContext) -> None:
        if ask.take():
            wick.launch(vy=250.0)

    gait.transition("edging", to="airborne", when="held('down') or not gutter.wick", name="lets go")
    gait.transition("standing", to="airborne", when="not wick.on_edge", name="falls")
    gait.transition("airborne", to="standing", when="wick.grounded", name="lands")


def build_can(sim: lt.Sim, wick: lt.Body, facing: Any, moths: list["Moth"]) -> None:
    """Seven sparks and a refill; a spark flies for 40 frames, and a moth that it meets is gone for a while."""
    oil = sim.stock("wick.oil", 7, "2.4s")

    def build(view: lt.SimScope) -> tuple[lt.Body, Any]:
        return view.body("body", size=(4, 4), at=(0, 0)), view.delay("life", "40f")

    sparks = sim.pool("spark", build, slots=7)

    @sim.before("motion")
    def throw(now: lt.StepContext) -> None:
        if now.pressed("spark") and oil.use():
            thrown = sparks.spawn()
            if thrown is not None:
                body, life = thrown
                body.put(wick.x + 6 + 10 * facing.value, wick.y + 8)
                body.vx = 260.0 * facing.value
                life.start()

    @sim.after("motion")
    def burn(now: lt.StepContext) -> None:
        for thrown in list(sparks):
            body, life = thrown
            met = [moth for moth in moths if not moth.gone.left and lt.geometry.distance(body, moth.body, "edges") == 0]
            for moth in met:
                moth.gone.start()
                moth.flight.go("idle")
            if met or life.due or body.touching:
                sparks.remove(thrown)


def build_warmth(sim: lt.Sim, wick: lt.Body, moths: list["Moth"]) -> None:
    """Warmth falls by itself and with every hurt, and once it is gone it stays so; 45 frames of grace after a hurt."""
    warmth = sim.meter("wick.warmth", 30, rate="-1/4", marks=[5], stuck_empty=True)
    grace = sim.grace("wick.grace", "45f")

    @sim.after("zones")
    def feel(now: lt.StepContext) -> None:
        if any(moth.reach.count for moth in moths if moth.reach.is_open) and grace.hurt():
            warmth.take(3)
        if warmth.empty or wick.y < -60:
            now.end("lost")


def build_lamp(sim: lt.Sim, wick: lt.Body) -> None:
    """Matches to gather, a lamp to light before the night bell, and a punt across the last of the water."""
    bell = sim.countdown("bell", sim.setup.param("bell", "40s"), each="second", last="10s", running=True)
    matches, held = sim.zone("matches", watch=[wick]), sim.value("wick.matches", 0)
    lamp, punt = sim.zone("lamp", watch=[wick]), sim.enclosure("punt", at=(800, 0), size=(70, 60), holds=[])

    @sim.before("motion")
    def ride(now: lt.StepContext) -> None:
        aboard = wick in punt.holds
        punt.drift(55.0 if aboard and punt.x < 950 else 0.0, 0.0)
        if not aboard and punt.x < 900 and punt.x < wick.x < punt.x + 58 and 2 < wick.y < 30:
            punt.board(wick)
        elif aboard and punt.x >= 950:
            punt.let_go(wick)
            wick.launch(vy=380.0)

    @sim.after("zones")
    def gather_and_light(now: lt.StepContext) -> None:
        if now.sim.count_emitted("entered", matches.name):
            held.value += 1
        if lamp.inside(wick) and now.pressed("light") and held.value:
            held.value -= 1
            bell.stop()
            now.emit("lit", left=bell.left)
            now.end("won")
        if now.sim.count_emitted("over", bell.name):
            now.end("lost")


class Moth(NamedTuple):
    """What the rest of the canal asks of a moth."""

    body: lt.Body
    flight: Any
    reach: Any
    gone: Any


def build_moth(sim: lt.SimScope, wick: lt.Body, x: float) -> Moth:
    """Notices at 80 px, chases, strikes at 20 px when it is rested, the blow on frame 9 of its swing; gives up at 160."""
    body = sim.body("body", size=(8, 8), at=(x, 30))
    facing, gap = sim.value("facing", -1), sim.value("gap", 999.0)
    rest, gone = sim.cooldown("rest", "0.8s"), sim.delay("gone", "3s")
    reach = sim.hitbox("reach", body, size=(16, 12), offset=(10, 0), targets=[wick], facing=facing)
    flight = sim.machine("flight", ("idle", "chase", "strike"), "idle")
    swing = sim.animation(
        "pose", {"hover": lt.Clip(8, loop=True), "swing": lt.Clip(24, spans={"blow": (9, 11)})}, "hover"
    )
    swing.chosen_by(flight, {"idle": "hover", "chase": "hover", "strike": "swing"})
    swing.opens(reach, "blow")
    sim.before("machines", lambda now: setattr(gap, "value", lt.geometry.distance(body, wick)))

    @flight.during("chase")
    def close_in(now: lt.StepContext) -> None:
        facing.value = 1 if wick.x > body.x else -1
        body.vx = 70.0 * facing.value
        body.vy = max(-40.0, min(40.0, 4 * (wick.y + 8 - body.y)))

    flight.leave("chase")(lambda now: body.halt())
    flight.transition("idle", to="chase", when="gap < 80 and gone.left == 0", name="notices")
    flight.transition("chase", to="idle", when="gap > 160", name="loses him")
    flight.transition("chase", to="strike", when="gap < 20 and rest.ready", name="strikes")(lambda now: rest.use())
    flight.transition("strike", to="chase", after="24f", name="chases on")
    return Moth(body, flight, reach, gone)
