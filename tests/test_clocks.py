"""What the parts on a clock see of the inputs, against a plain reading of the rule, row by row."""

import itertools
import random
from fractions import Fraction

import pytest
from tests.test_sim import assert_restores, model, run

import larktally as lt
from larktally.language.parsing import parse
from larktally.language.reading import evaluator

RATES = ("1", "1/2", "1/4", "2/3", "0", "1/7")
CLOCKS = 20


def plainly(held, ticking, rates, all_edges):
    """For each tick: pressed, released and held_for, as the rule says them."""
    rows = len(held)
    spans = []
    for row in range(1, rows):
        if held[row] and not held[row - 1]:
            spans.append([row, rows])
        if held[row - 1] and not held[row]:
            spans[-1][1] = row
    ticks = [row for row in range(rows) if ticking[row] or row == 0]
    found = {}
    for before, tick in itertools.pairwise(ticks):
        pressed = released = False
        lasted = 0
        for began, ended in spans:
            if began <= tick and ended > before:
                counts = rates[began] != 0 or all_edges
                pressed |= before < began and (ended > tick or counts)
                saw = counts or any(began <= k < ended for k in ticks)
                released |= ended <= tick and saw
                if ended > tick:
                    lasted = sum(began <= k <= tick for k in ticks)
        found[tick] = (pressed, released, lasted)
    return found


def gathering(seed):
    """A sim of many clocks that run, stand and are held by chance, with a machine, a buffer and a hook on each."""
    rng = random.Random(seed)
    changes = {}
    for row in range(1, 40):
        for n in range(CLOCKS):
            if rng.random() < 0.06:
                changes[row, n] = rng.choice([*RATES, "hold"])
    seen, rates = {}, {}

    def build(sim):
        clocks = [
            sim.clock(f"c{n}", rng.choice(RATES), edges="all" if n % 5 == 0 else "running") for n in range(CLOCKS)
        ]
        for n in range(CLOCKS):
            name = f"c{n}"
            machine = sim.machine(f"m{n}", ("a",), "a", clock=name)
            machine.transition("a", to=lt.STAY, when="pressed('hop')")

            def note(now, n=n):
                seen[n, now.frame] = (now.pressed("hop"), now.released("hop"), now.held_for("hop"))

            machine.during("a")(note)
            sim.press_buffer(f"ask{n}", "hop", keep=2, clock=name)
            sim.after("machines", lambda now, n=n: now.pressed("hop") and now.emit(f"saw{n}"), clock=name)

        @sim.after("inputs")
        def keep(now):
            for n, clock in enumerate(clocks):
                rates[n, now.frame] = clock.rate

        @sim.after("machines")
        def change(now):
            for n, clock in enumerate(clocks):
                change = changes.get((now.frame, n))
                if change == "hold":
                    clock.hold(3)
                elif change:
                    clock.run(change)

    script = lt.InputScript.at_random({"hop": 0.2, "left": 0.1}, 40, seed)
    trace = run(build, 40, script, events=tuple(f"saw{n}" for n in range(CLOCKS)))
    return trace, seen, rates


@pytest.mark.slow
def test_what_a_clocks_parts_see_is_the_plain_reading_of_the_rule():
    for seed in range(250):
        trace, seen, rates = gathering(seed)
        held = [value != 0 for value in trace.inputs["hop"]] if "hop" in trace.inputs else [False] * 41
        for n in range(CLOCKS):
            ticking = trace[f"c{n}.ticking"]
            rate = [rates.get((n, row), Fraction(1)) for row in range(41)]
            wanted = plainly(held, ticking, rate, n % 5 == 0)
            got = {row: values for (clock, row), values in seen.items() if clock == n}
            assert got == wanted, (seed, n)
            acted = {e.row for e in trace.events.named("acted", f"m{n}")}
            assert acted == {row for row, (pressed, _, _) in wanted.items() if pressed}
            assert {e.row for e in trace.events.named("asked", f"ask{n}")} == acted
            assert {e.row for e in trace.events.named(f"saw{n}")} == acted
            for column, text in enumerate((f"pressed('hop', on='c{n}')", f"released('hop', on='c{n}')")):
                signal = evaluator(trace).value(parse(text))
                assert {row for row in range(1, 41) if signal[row]} == {k for k, v in wanted.items() if v[column]}, (
                    seed,
                    n,
                )


def test_a_tap_in_a_pause_is_dropped_one_still_held_is_seen_after_it_and_a_release_in_it_is_not_lost():
    """Paused in rows 10 to 20: held over its start, tapped within, pressed within and held; a hit stop keeps its taps."""

    def build(sim):
        play, every = sim.clock("play"), sim.clock("every", edges="all")
        gait = sim.machine("gait", ("on",), "on")
        gait.transition("on", to=lt.STAY, when="pressed('hop')", name="hops")
        gait.transition("on", to=lt.STAY, when="released('hop')", name="lets go")
        keen = sim.machine("keen", ("on",), "on", clock="every")
        keen.transition("on", to=lt.STAY, when="pressed('hop') and released('hop')", name="tapped")
        wick = sim.body("wick", size=(4, 8), at=(20, 16))
        sim.before("motion", lambda now: now.pressed("hop") and wick.launch(vy=60), clock="play")

        @sim.before("inputs")
        def pause(now):
            if now.frame in (10, 21):
                play.run(0 if now.frame == 10 else 1)
                every.run(play.rate)
            if now.frame == 30:
                play.hold(4)

    script = lt.InputScript().hold("hop", 8, 4).tap("hop", 14, 2, 1).hold("hop", 19, 5).hold("hop", 31, 2)
    trace = run(build, 40, script)
    assert [(e.row, e.data["by"]) for e in trace.events.named("acted", "gait")] == [
        (8, "hops"),
        (21, "hops"),
        (24, "lets go"),
        (35, "hops"),
    ]
    assert [e.row for e in trace.events.named("acted", "keen")] == [21]
    assert trace["wick.vy"].tolist().index(60) == 8 and trace["wick.vy"][20] == 60
    claims = (
        "exactly(pressed('hop', on='play'), 3)",
        "exactly(pressed('hop'), 4)",
        "at(21, released('hop', on='play') and not pressed('hop') and pressed('hop', on='every'))",
    )
    assert lt.check(trace, [lt.claim(text, text) for text in claims]).passed


def test_what_a_clock_has_gathered_is_saved_and_restored():
    def build(sim):
        sim.clock("slow", "1/4")
        gait = sim.machine("gait", ("on",), "on", clock="slow")
        gait.transition("on", to=lt.STAY, when="pressed('hop')")
        gait.during("on")(lambda now: now.released("hop") and now.emit("let_go", after=now.held_for("left")))

    script = lt.InputScript.at_random({"hop": 0.4, "left": 0.4}, 60, 3)
    made = model(build, events=("let_go",))
    for row in range(8, 16):
        assert_restores(made, script, 60, (row,))


def test_a_key_stands_for_its_action_in_held_for_too():
    seen = []

    def build(sim):
        sim.after("inputs", lambda now: seen.append((now.held_for("KeyA"), now.held_for("left"))))

    run(build, 4, lt.InputScript().hold("left", 2, 5), actions=(lt.Action("left", keys=("KeyA",)),))
    assert seen == [(0, 0), (1, 1), (2, 2), (3, 3)]


@pytest.mark.parametrize(
    ("build", "said"),
    [
        (lambda sim: sim.clock("play", edges="every"), "no edges 'every' in clock 'play'"),
        (lambda sim: sim.before("machines", print, clock="plya"), "hook before machines: no clock 'plya'"),
        (lambda sim: [sim.clock("play"), sim.before("inputs", print, clock="play")], "runs before the clocks do"),
        (
            lambda sim: [
                sim.clock("play"),
                sim.machine("m", ("a",), "a").transition("a", to=lt.STAY, when="pressed('hop', on='plya')"),
            ],
            "no clock 'plya' in this sim; did you mean 'play'",
        ),
    ],
)
def test_a_clock_that_is_not_there_is_told(build, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(build, 1)
