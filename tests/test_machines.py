"""Machines against a slow, obvious interpreter, and the faults that they make visible."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.test_sim import assert_restores, model, run

import larktally as lt

STATES = ("idle", "air/rise", "air/fall", "air/glide", "rest")
NAMES = [*STATES, "air"]


class Plain:
    """One machine, step by step as the rules are written; `log` is every hook that ran."""

    def __init__(self, rules, order, settle, remember):
        self.rules, self.order, self.settle, self.remember = rules, order, settle, remember
        self.state, self.age, self.history, self.log, self.stack = "idle", 0, {}, [], []
        self.enter(["idle"])

    def path(self, state):
        return ["air", state] if "/" in state else [state]

    def landing(self, target):
        if target == lt.BACK:
            return self.stack[-1]
        return target if target != "air" else self.history.get("air", "air/rise")

    def enter(self, states):
        self.log += [f"enter {state}" for state in states]

    def during(self):
        self.log += [f"during {state}" for state in self.path(self.state)]

    def step(self, frame, truth):
        self.age += 1
        entered = set()
        if self.order == "during-first":
            self.during()
        for _ in range(self.settle):
            rule = self.choose(frame, truth, entered)
            if rule is None:
                break
            self.take(rule)
            if self.rules[rule][1] == lt.STAY:
                break
            entered.add(self.state)
        if self.order == "transition-first":
            self.during()

    def choose(self, frame, truth, entered):
        for state in [*reversed(self.path(self.state)), lt.ANY]:
            for n, (source, target, after, every) in enumerate(self.rules):
                due = self.age >= after and (every == 0 or (self.age > 0 and self.age % every == 0))
                lost = target == lt.BACK and not self.stack
                fits = source == state and due and truth[frame][n] and not lost
                if fits and (target == lt.STAY or self.landing(target) not in entered):
                    return n
        return None

    def take(self, n):
        if self.rules[n][1] == lt.STAY:
            self.log.append(f"action {n}")
            return
        old, new = self.path(self.state), self.path(self.landing(self.rules[n][1]))
        if self.rules[n][1] == lt.BACK:
            self.stack.pop()
        elif n % 2:
            self.stack.append(self.state)
        if old[0] == new[0] and len(old) == len(new) == 2:
            old, new = old[1:], new[1:]
        self.log += [f"leave {state}" for state in reversed(old)]
        if "air" in old and self.remember:
            self.history["air"] = self.state
        self.log.append(f"action {n}")
        self.state, self.age = new[-1], 0
        self.enter(new)


@pytest.mark.slow
@settings(max_examples=120, deadline=None)
@given(
    st.lists(
        st.tuples(
            st.sampled_from([*NAMES, lt.ANY]),
            st.sampled_from([*NAMES, lt.STAY, lt.BACK]),
            st.integers(0, 3),
            st.integers(0, 3),
        ),
        min_size=1,
        max_size=6,
    ),
    st.lists(st.lists(st.booleans(), min_size=6, max_size=6), min_size=13, max_size=13),
    st.sampled_from(["transition-first", "during-first"]),
    st.integers(1, 3),
    st.booleans(),
)
def test_a_machine_agrees_with_the_plain_interpreter_in_state_age_and_hook_order(rules, truth, order, settle, remember):
    log = []

    def build(sim):
        one = sim.machine("m", STATES, "idle", order=order, settle=settle, remember=("air",) if remember else ())
        for kind in ("enter", "during", "leave"):
            for state in NAMES:
                getattr(one, kind)(state)(lambda now, said=f"{kind} {state}": log.append(said))
        for n, (source, target, after, every) in enumerate(rules):
            options = {"after": after or None, "every": every or None, "push": n % 2 == 1 and target in NAMES}
            rule = one.transition(source, to=target, when=lambda now, n=n: truth[now.frame][n], **options)
            rule(lambda now, n=n: log.append(f"action {n}"))

    trace = run(build, 12)
    plain = Plain(rules, order, settle, remember)
    states = [(plain.state, plain.age)]
    for frame in range(1, 13):
        plain.step(frame, truth)
        states.append((plain.state, plain.age))
    assert list(zip(trace["m"].tolist(), trace["m.age"].tolist())) == states
    assert log == plain.log


def test_every_change_is_an_event_with_what_its_guard_read():
    def build(sim):
        wick = sim.body("wick", size=(4, 8), at=(20, 16), gravity=900)
        gait = sim.machine("gait", ("standing", "airborne"), "standing")
        gait.transition("standing", to="airborne", when="pressed('hop') and wick.y < 20", name="hop")(
            lambda now: wick.launch(vy=200)
        )

    (changed,) = run(build, 8, lt.InputScript().press("hop", 4)).events.named("changed")
    read = {"pressed('hop')": True, "wick.y": 16.0}
    assert (changed.row, changed.data) == (
        4,
        {"from": "standing", "to": "airborne", "by": "hop", "age": 4, "read": read},
    )


def test_settings_hold_while_a_state_is_current_and_fall_away():
    def build(sim):
        wick = sim.body("wick", size=(4, 8), at=(20, 40), gravity=900)
        grip = sim.machine("grip", ("free", "rope"), "free")
        grip.setting("rope", wick, gravity=0.0)
        grip.enter("rope")(lambda now: wick.halt())
        grip.transition("free", to="rope", when="held('burst')")
        grip.transition("rope", to="free", when="not held('burst')")

    trace = run(build, 14, lt.InputScript().hold("burst", 3, 5))
    assert [k for k, y in enumerate(trace["wick.vy"]) if y == 0] == [0, 3, 4, 5, 6, 7]
    assert trace["wick.vy"][8] == -15.0


def test_a_request_from_outside_wins_in_its_frame_the_first_of_several_and_after_the_machines_in_the_next():
    def build(sim):
        one = sim.machine("m", ("a", "b", "c"), "a")
        one.transition("a", to="b", when="held('hop')")

        def ask(now):
            if now.frame == 4:
                one.go("c")
                one.go("b")

        sim.before("machines", ask)
        sim.after("zones", lambda now: now.frame == 7 and one.go("a"))

    trace = run(build, 9, lt.InputScript().press("hop", 4))
    assert "".join(trace["m"]) == "aaaaccccaa"
    assert trace.events.named("go_refused")[0].data == {"to": "b", "because": "c was asked for first"}
    assert [e.data["by"] for e in trace.events.named("changed")] == ["go", "go"]


def test_a_pause_freezes_its_clock_returns_where_it_was_and_a_held_key_does_not_flicker_it():
    def build(sim):
        play, _ = sim.clock("play"), sim.clock("always")
        sim.body("wick", size=(4, 8), at=(20, 16), velocity=(60, 0))
        menu = sim.machine("menu", ("walking", "running", "paused"), "walking", clock="always")
        menu.transition("walking", to="running", after=3)
        menu.transition(("walking", "running"), to="paused", when="pressed('burst')", push=True)
        menu.transition("paused", to=lt.BACK, when="pressed('burst')")
        menu.enter("paused")(lambda now: play.pause())
        menu.leave("paused")(lambda now: play.run(1))

    made, script = model(build), lt.InputScript().hold("burst", 6, 4).hold("burst", 14, 3)
    trace = lt.record(made, script, frames=20)
    assert trace["menu"].tolist()[5:16] == ["running", *["paused"] * 8, "running", "running"]
    assert trace["wick.x"][6] == trace["wick.x"][14] == 26.0 and trace["wick.x"][15] == 27.0
    assert_restores(made, script, 20, (3, 9, 15))


def test_the_states_that_a_rule_leads_out_of_stand_one_after_the_other_or_in_a_tuple():
    def outline(*sources):
        def build(sim):
            sim.machine("m", ("a", "b", "c"), "a").transition(*sources, to="c", when="true")

        return lt.Live(lt.Scenario(model(build), frames=1)).sim.outlines()["m"]

    assert outline("a", "b") == outline(("a", "b")) == outline(["a"], "b")
    with pytest.raises(lt.ModelError, match="transition needs the states that it is for"):
        outline()
    with pytest.raises(lt.ModelError, match="names the state 'a' twice"):
        outline("a", ("b", "a"))


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda sim: sim.machine("m", ("a", "a"), "a"), "declared twice"),
        (lambda sim: sim.machine("m", ("a", "b"), "a").during("b", "b"), "during names the state 'b' twice"),
        (lambda sim: sim.machine("m", "ab", "a"), "states as a list of names"),
        (lambda sim: sim.machine("m", ("a b/", "c"), "c"), "a state is a word"),
        (lambda sim: sim.machine("m", ("a",), "a", settle=0), "settle is how many"),
        (lambda sim: sim.machine("m", ("a",), "a", order="first"), "order is"),
        (lambda sim: sim.machine("m", ("a/x",), "a", initial={"a": "y"}), "no child of 'a' called 'y'"),
        (lambda sim: sim.machine("m", ("a", "b"), "a").transition("a", to="b"), "would fire at once, always"),
        (lambda sim: sim.machine("m", ("a", "b"), "a").transition("c", to="b", after=1), "no state 'c'"),
        (lambda sim: sim.machine("m", ("a",), "a").enter("z"), "no state 'z'"),
        (lambda sim: sim.machine("m", ("a",), "a").setting("a", sim.value("v", 1), weight=2), "no setting 'weight'"),
        (lambda sim: sim.machine("m", ("a",), "a").transition("a", to="a", when="1 + 1"), "a guard is a condition"),
        (lambda sim: sim.machine("m", ("a",), "a").transition("a", to="a", when="held('jump')"), "no action 'jump'"),
    ],
)
def test_a_machine_that_contradicts_itself_is_told_so(make, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(make, 1)


@pytest.mark.parametrize(
    ("guard", "value"),
    [
        ("1 / wick.x > 1", True),
        ("-1 / wick.x < 0 and 0 / wick.x != 0", True),
        ("7 // 2 == 3 and -7 % 3 == 2 and 2 ** 3 == 8", True),
        ("(-8) ** 0.5 > 0 or 9 ** 9 ** 9 < 1", False),
        ("wick.mood in ('bright', 'dim') and wick.mood != 'dim'", True),
        ("near(wick.x, 0.5, 0.5) and implies(held('hop'), false)", True),
        ("min(wick.x, 3) == 0 and max(abs(-2), 1) == 2", True),
        ("frame == 1 and time > 0.01", True),
        ("param('rest') == 48 and in_state(m, 'a')", True),
        ("event('hop') or events('hop', source='wick') > 0", False),
    ],
)
def test_text_guards_compute_what_the_claim_language_computes(guard, value):
    def build(sim):
        sim.setup.duration("rest", "0.8s")
        sim.value("wick.x", 0.0)
        sim.value("wick.mood", "bright", labels=("dim",))
        sim.machine("m", ("a", "b"), "a").transition("a", to="b", when=guard)

    trace = run(build, 1)
    assert (trace["m"][1] == "b") is value
    if "frame" not in guard and "in_state" not in guard:
        assert lt.check(trace, [lt.claim("same", f"always(({guard}) == {'true' if value else 'false'})")]).passed


def test_a_rule_looked_at_every_n_frames_is_not_due_in_the_step_that_entered_its_state():
    def build(sim):
        one = sim.machine("m", ("a", "b", "c"), "a", settle=3)
        one.transition("a", to="b", when="pressed('hop')", name="goes")
        one.transition("b", to="c", every=4, name="breathes")

    trace = run(build, 20, lt.InputScript().press("hop", 5))
    assert [(e.row, e.data["by"]) for e in trace.events.named("changed")] == [(5, "goes"), (9, "breathes")]


def test_a_thousand_rules_out_of_one_state_are_tried_in_order_and_events_are_counted_by_source():
    def build(sim):
        count = sim.value("count", 0)
        hub = sim.machine("hub", ("at", *(f"s{n}" for n in range(1000))), "at")
        for n in range(1000):
            hub.transition("at", to=f"s{n}", when=f"count == {n}")
            hub.transition(f"s{n}", to="at", after=1)
        timers = [sim.delay(f"t.{n}", 5 + n) for n in range(40)]
        heard = [sim.machine(f"m.{n}", ("waits", "heard"), "waits") for n in range(40)]
        for n, one in enumerate(heard):
            one.transition("waits", to="heard", when=f"event('due', source='t.{n}') and events('due', source='t') == 1")

        @sim.before("timers")
        def lead(now):
            count.value = (now.frame * 37) % 1000
            if now.frame == 1:
                for one in timers:
                    one.start()

    trace = run(build, 60)
    for row in range(1, 60, 2):
        assert trace["hub"][row] == f"s{(row * 37) % 1000}"
    for n in range(40):
        assert list(lt.rows_where(trace, f"began(m.{n} == 'heard')")) == [6 + n]
