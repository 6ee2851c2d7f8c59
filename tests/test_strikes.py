"""Hitboxes and hurtboxes against a plain referee who looks at a whole row at once; chains, uses in the air, direct changes."""

import random

import pytest
from tests.test_sim import assert_restores, model, run

import larktally as lt

WORDS = ("both", "higher", "clash")


def duel(seed):
    """Two fighters (and a bystander) with hurtboxes, whose hitboxes open at random; and what they are made of."""
    pick = random.Random(seed)
    spec = {
        name: {
            "again": pick.choice((None, None, 1, 4)),
            "rank": pick.choice((None, 0, 1, 2)),
            "trade": pick.choice(WORDS),
            "team": pick.choice(("", "moths", "lamps")),
            "first": pick.random() < 0.5,
        }
        for name in ("a", "b")
    }
    boxes = {
        f"{name}.{place}": (name, offset, pick.choice(("", "moths", "lamps")))
        for name in "abc"
        for place, offset in (("head", (0, 6)), ("feet", (0, -6)))
    }
    opens = {name: {pick.randrange(1, 60): pick.choice((None, 1, 5, 12)) for _ in range(6)} for name in "ab"}
    shuts = {pick.randrange(1, 60): pick.choice("ab") for _ in range(3)}
    lulls = {pick.randrange(1, 60): pick.choice(sorted(boxes)) for _ in range(6)}
    speeds = {name: [pick.choice((-240, 0, 0, 240)) for _ in range(61)] for name in "abc"}

    def build(sim):
        bodies = {n: sim.body(n, size=(8, 16), at=(40 + 12 * k, 60)) for k, n in enumerate("abc")}
        hurt = {
            name: sim.hurtbox(
                name, bodies[of], size=(8, 6), offset=offset, team=team, tags=["soft"] if "head" in name else ()
            )
            for name, (of, offset, team) in boxes.items()
        }
        hits = {}
        for name in sorted("ab", key=lambda n: not spec[n]["first"]):
            options = {key: spec[name][key] for key in ("again", "rank", "trade", "team")}
            targets = [*hurt.values(), bodies["c"]] if name == "a" else list(hurt.values())
            hits[name] = sim.hitbox(
                f"{name}.blow", bodies[name], size=(20, 14), offset=(0, 0), targets=targets, **options
            )

        @sim.before("motion")
        def act(now):
            for name, body in bodies.items():
                body.vx = speeds[name][now.frame]
            for name, hit in hits.items():
                if now.frame in opens[name]:
                    hit.open(opens[name][now.frame])
            if now.frame in shuts:
                hits[shuts[now.frame]].shut()
            if now.frame in lulls:
                box = hurt[lulls[now.frame]]
                (box.shut if box.is_open else box.open)()

    return build, spec, boxes, opens, shuts, lulls


def referee(trace, spec, boxes, opens, shuts, lulls):
    """Every struck, beaten and clashed of a run, row by row, from where the bodies stand."""
    said, left, done, soft = [], {"a": 0, "b": 0}, {"a": {}, "b": {}}, dict.fromkeys(boxes, True)
    live = {"a": False, "b": False}

    def box(name, offset, size, row):
        x, y = trace[f"{name}.x"][row] + 4 + offset[0], trace[f"{name}.y"][row] + 8 + offset[1]
        return (x - size[0] / 2, y - size[1] / 2), (x + size[0] / 2, y + size[1] / 2)

    def meet(one, other):
        return all(one[0][i] < other[1][i] and other[0][i] < one[1][i] for i in (0, 1))

    for row in range(1, 61):
        for name in "ab":
            if row in opens[name]:
                left[name], done[name], live[name] = opens[name][row] or 10**9, {}, True
        if row in shuts:
            live[shuts[row]] = False
        if row in lulls:
            soft[lulls[row]] = not soft[lulls[row]]
        wants = {"a": {}, "b": {}}
        for name in "ab":
            if not live[name] or not left[name]:
                live[name] = False
                continue
            mine, again = box(name, (0, 0), (20, 14), row), spec[name]["again"]
            targets = [*boxes, *(["c"] if name == "a" else [])]
            for target in targets:
                owner = boxes[target][0] if target in boxes else target
                if target in boxes:
                    friend = spec[name]["team"] and spec[name]["team"] == boxes[target][2]
                    if owner == name or friend or not soft[target]:
                        continue
                    there = box(owner, boxes[target][1], (8, 6), row)
                else:
                    there = box(owner, (0, 0), (8, 16), row)
                ready = owner not in done[name] or (again and row - done[name][owner] >= again)
                if ready and owner not in wants[name] and meet(mine, there):
                    wants[name][owner] = target
        for name in sorted("ab", key=lambda n: not spec[n]["first"]):
            other = "b" if name == "a" else "a"
            for owner, target in wants[name].items():
                done[name][owner] = row
                policy = max(spec[name]["trade"], spec[other]["trade"], key=WORDS.index)
                mine, theirs = spec[name]["rank"] or 0, spec[other]["rank"] or 0
                if owner == other and name in wants[other] and policy != "both" and mine < theirs:
                    said.append((row, "beaten", f"{name}.blow", {"by": f"{other}.blow"}))
                elif owner == other and name in wants[other] and policy == "clash" and mine == theirs:
                    said.append((row, "clashed", f"{name}.blow", {"against": f"{other}.blow"}))
                else:
                    data = {"target": owner}
                    if target in boxes:
                        data["hurtbox"] = target
                        data |= {"tags": ["soft"]} if "head" in target else {}
                    if spec[name]["rank"] is not None:
                        data["rank"] = spec[name]["rank"]
                    said.append((row, "struck", f"{name}.blow", data))
            if live[name]:
                left[name] -= 1
    return said


@pytest.mark.slow
def test_blows_trades_teams_and_ranks_are_what_a_referee_says():
    kinds = set()
    for seed in range(250):
        build, *rest = duel(seed)
        trace = run(build, 60)
        told = [(e.row, e.name, e.source, e.data) for e in trace.events if e.name in ("struck", "beaten", "clashed")]
        assert told == referee(trace, *rest), seed
        kinds |= {e[1] for e in told}
    assert kinds == {"struck", "beaten", "clashed"}


@pytest.mark.slow
def test_strikes_are_saved_and_restored():
    for seed in (3, 11):
        assert_restores(model(duel(seed)[0]), lt.InputScript(), 60, (7, 20, 41))


def test_a_clip_says_in_which_frames_a_box_stands_and_where():
    clips = {
        "idle": lt.Clip(6, loop=True),
        "swing": lt.Clip(8, boxes={"blow": {3: ((10, 0), (8, 8)), 4: ((14, 0), (12, 8)), 6: ((-40, 0), (8, 8))}}),
    }

    def build(sim):
        wick = sim.body("wick", size=(8, 16), at=(40, 60))
        facing = sim.value("facing", 1)
        moths = [sim.body("moth.0", size=(4, 4), at=(62, 66)), sim.body("moth.1", size=(4, 4), at=(22, 66))]
        look = sim.animation("look", clips, "idle")
        blow = sim.hitbox("blow", wick, size=(1, 1), offset=(0, 0), targets=moths, facing=facing)
        look.opens(blow, "blow")

        @sim.after("machines")
        def act(now):
            if now.frame == 30:
                facing.value = -1
            if now.frame in (10, 30):
                look.play("swing", again=True)

    trace = run(build, 45)
    assert [row for row in range(46) if trace["blow.open"][row]] == [13, 14, 16, 33, 34, 36]
    struck = [(e.row, e.data["target"]) for e in trace.events.named("struck")]
    # Turned round, each box stands on the other side; frame 6 is an opening of its own.
    assert struck == [(14, "moth.0"), (34, "moth.1")]
    assert_restores(model(build), lt.InputScript(), 45, (12, 13, 33))
    for boxes, said in (
        ({"blow": {8: ((0, 0), (1, 1))}}, "no frame 8, where a box of 'blow' stands"),
        ({"blow": {1: ((0, 0), (0, 1))}}, "a box of 'blow': size is above 0"),
        ({"blow": {1: ((0,), (1, 1))}}, "the offset of 'blow' is 2 numbers"),
    ):
        with pytest.raises(lt.LarkTallyError, match=said):

            def wrong(sim, boxes=boxes):
                look = sim.animation("look", {"swing": lt.Clip(8, boxes=boxes)}, "swing")
                wick = sim.body("wick", size=(8, 16), at=(40, 60))
                look.opens(sim.hitbox("b", wick, size=(1, 1), offset=(0, 0), targets=[]), "blow")

            run(wrong, 2)
    with pytest.raises(lt.LarkTallyError, match="both a span and a box"):
        lt.Clip(4, spans={"blow": (1, 2)}, boxes={"blow": {1: ((0, 0), (1, 1))}})


def plain_chain(steps, windows, uses, lands):
    """next, left and what is said in each row, of a chain that opens on a landing: uses and landings are rows."""
    following, left, waiting, opened, rows, said = 0, 0, False, -1, [], []
    for row in range(1, 101):
        if left and opened != row:
            left -= 1
            if not left:
                said.append((row, "lapsed", following))
                following = 0
        if row in uses:
            said.append((row, "used", following))
            left, waiting, window = 0, True, windows[following]
            following = (following + 1) % steps
        if row in lands and waiting:
            waiting, left, opened = False, window, row
            said.append((row, "opened", None))
        rows.append((following, left))
    return rows, said


@pytest.mark.parametrize("seed", range(20))
def test_a_chain_that_opens_on_an_event_waits_for_it_and_each_step_has_its_own_time(seed):
    pick = random.Random(seed)
    steps = pick.choice((2, 3))
    windows = [pick.randrange(1, 12) for _ in range(steps)]
    uses, lands = ({pick.randrange(1, 100) for _ in range(12)} for _ in range(2))

    def build(sim):
        hops = sim.chain("hops", steps, within=windows, opens_on="event('landed', source='wick')")
        wick = sim.value("wick.any", 0)

        @sim.after("machines")
        def act(now):
            if now.frame in uses:
                hops.use()

        # A landing comes after the machines, and another's is none.
        sim.after("zones", lambda now: (now.frame in lands and wick.emit("landed"), now.emit("landed")))

    trace = run(build, 100, events=("landed",))
    rows, said = plain_chain(steps, windows, uses, lands)
    assert list(zip(trace["hops"].tolist()[1:], trace["hops.left"].tolist()[1:])) == rows
    assert [(e.row, e.name, e.data.get("step")) for e in trace.events if e.source == "hops"] == said
    assert_restores(model(build, events=("landed",)), lt.InputScript(), 100, (13, 50))


def test_the_frame_tables_of_a_chain_that_opens_on_a_landing_and_of_uses_in_the_air():
    def build(sim):
        hops = sim.chain("hops", 3, within=3, opens_on="event('hop')")
        wick = sim.body("wick", size=(4, 4), at=(24, 16), gravity=900)
        flaps = sim.air_uses("wick.flaps", wick, 2)
        told = []

        @sim.after("machines")
        def act(now):
            if now.frame in (10, 22):
                hops.use()
            if now.frame in (20, 40):
                now.emit("hop")
            if now.frame == 8:
                wick.launch(vy=330)
            if now.frame in (10, 14, 18):
                told.append(flaps.use())
            assert told in ([], [True], [True, True], [True, True, False])

    trace = run(build, 60)
    assert [(row, trace["hops"][row], trace["hops.left"][row]) for row in (10, 20, 21, 22, 40, 43)] == [
        (10, 1, 0), (20, 1, 3), (21, 1, 2), (22, 2, 0), (40, 2, 3), (43, 0, 0),
    ]  # fmt: skip
    (landed,) = trace.events.named("landed")
    assert [trace["wick.flaps"][row] for row in (9, 10, 14, 18, landed.row - 1, landed.row)] == [2, 1, 0, 0, 0, 2]
    assert [(e.name, e.row) for e in trace.events if e.source == "wick.flaps"] == [
        ("used", 10), ("used", 14), ("refused", 18), ("given_back", landed.row),
    ]  # fmt: skip


def direct(changes):
    """Two handlers that set a state in one frame, as a game's own code does."""

    def build(sim):
        mood = sim.machine("mood", ("calm", "hurt", "stunned"), "calm", changes=changes)
        for state in ("calm", "hurt", "stunned"):
            mood.enter(state)(lambda now, state=state: now.emit("in", state=state))
            mood.leave(state)(lambda now, state=state: now.emit("out", state=state))
        mood.transition("stunned", to="calm", after=3)

        @sim.before("machines")
        def early(now):
            if now.frame == 4:
                mood.go("hurt")

        @sim.after("machines")
        def late(now):
            if now.frame == 10:
                mood.go("hurt")
                mood.go("stunned")
                mood.go("hurt")
                mood.go("hurt")
                mood.go("stunned")

    return build


def test_direct_changes_run_each_with_its_hooks_and_the_row_shows_the_last():
    trace = run(direct("each"), 16, events=("in", "out"))
    assert trace["mood"].tolist()[3:6] == ["calm", "hurt", "hurt"] and trace["mood.age"].tolist()[3:6] == [3, 0, 1]
    assert trace["mood"].tolist()[9:14] == ["hurt", "stunned", "stunned", "stunned", "calm"]
    assert trace["mood.age"].tolist()[9:14] == [5, 0, 1, 2, 0]
    row = [(e.name, e.data.get("state") or e.data.get("to")) for e in trace.events.between(10, 10)]
    # Hurt is current at first, and once more in between: those two change nothing.
    there = [("out", "hurt"), ("changed", "stunned"), ("in", "stunned")]
    back = [("out", "stunned"), ("changed", "hurt"), ("in", "hurt")]
    assert row == [("go_refused", "hurt"), *there, *back, ("go_refused", "hurt"), *there]
    asked = run(direct("asked"), 16, events=("in", "out"))
    assert [e.row for e in asked.events.named("go_refused")] == [11] * 5
    assert_restores(model(direct("each"), events=("in", "out")), lt.InputScript(), 16, (3, 4, 10))


def test_hooks_that_ask_each_other_for_ever_are_told():
    def build(sim):
        mood = sim.machine("mood", ("calm", "hurt"), "calm", changes="each")
        mood.enter("hurt")(lambda now: mood.go("calm"))
        mood.enter("calm")(lambda now: now.frame and mood.go("hurt"))
        sim.before("machines", lambda now: now.frame == 3 and mood.go("hurt"))

    with pytest.raises(lt.LarkTallyError, match=r"row 3: .*hooks ask each other for changes and never end"):
        run(build, 5)


@pytest.mark.parametrize(
    ("build", "said"),
    [
        (lambda sim: sim.chain("c", 3, within=(1, 2)), "within= has 2 lengths: one for each"),
        (lambda sim: sim.chain("c", 2, within=(1, "0.01s")), "not a whole number"),
        (lambda sim: sim.chain("c", 3, 4, opens_on="wick.grounded"), "opens on an event"),
        (lambda sim: sim.chain("c", 3, 4, opens_on="event('lnded')"), "no event 'lnded'"),
        (lambda sim: sim.machine("m", ("a", "b"), "a", changes="all"), "no changes 'all'"),
        (lambda sim: sim.air_uses("u", sim.body("b", size=(1, 1), at=(9, 50)), 0), "at least 1, not 0"),
        (lambda sim: sim.hitbox("h", sim.body("b", size=(1, 1), at=(9, 50)), size=(1, 1), offset=(0, 0), targets=[], trade="low"), "no trade 'low'"),
        (lambda sim: sim.hitbox("h", sim.body("b", size=(1, 1), at=(9, 50)), size=(1, 1), offset=(0, 0), targets=[], again=0), "again"),
    ],
)  # fmt: skip
def test_what_no_part_can_be_is_told(build, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(build, 2)


@pytest.mark.parametrize(
    ("default", "given", "found"),
    [
        (120, 120, 120), (120, 120.5, 120.5), (120, "90", 90), (120, "1/2", 0.5), (0.5, 1, 1.0), (0.5, "0.1", 0.1),
        ("0.75", 0.1, "1/10"), ("0.75", "1/3", "1/3"), ("3", 2, "2"),
    ],
)  # fmt: skip
def test_a_number_of_a_model_takes_what_a_run_gives(default, given, found):
    from fractions import Fraction

    got = lt.Setup(params={"n": given}).number("n", default)
    wanted = Fraction(found) if isinstance(default, str) else found
    assert got == wanted and type(got) is type(wanted)


@pytest.mark.parametrize(
    "given", ["abc", True, None, float("nan"), float("inf"), "1e999999999", "1/0", [], "9" * 500, 99, -1]
)
def test_what_is_no_number_or_beyond_its_bounds_is_told_with_the_line(given):
    with pytest.raises(lt.LarkTallyError, match=r"test_strikes.py:\d+: param 'n' is "):
        lt.Setup(params={"n": given}).number("n", "0.75", least=0, greatest=9)
