"""Input scripts and one frame's view of them."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import larktally as lt
from larktally.inputs.actions import Actions
from larktally.inputs.script import InputScript, Span
from larktally.inputs.view import InputFeed
from larktally.timing import Rate


def frames_of(script, actions, frames):
    """(held, pressed, released, value) of each action in each frame, by way of the feed."""
    feed = InputFeed(script, Actions(actions), lt.Rate(60))
    seen = []
    for frame in range(1, frames + 1):
        if frame in feed.due:
            feed.advance(frame)
        else:
            feed.view.frame = frame
        view = feed.view
        names = [a.name if isinstance(a, lt.Action) else a for a in actions]
        seen.append(
            {n: (view.held(n), view.pressed(n), view.released(n), view.value(n), view.held_for(n)) for n in names}
        )
    return seen


spans = st.lists(
    st.tuples(st.sampled_from("ab"), st.integers(1, 20), st.integers(1, 8), st.sampled_from([1.0, 0.25, -0.75, 0.0])),
    max_size=8,
)


@pytest.mark.slow
@given(spans)
def test_the_feed_agrees_with_painting_every_frame(written):
    script = lt.InputScript()
    for action, start, frames, value in written:
        script = script.hold(action, start, frames, value)
    painted = {name: [0.0] * 40 for name in "ab"}
    for action, start, frames, value in written:
        painted[action][start : start + frames] = [value] * frames
    actions = [lt.Action(name, analog=True) for name in "ab"]
    run = 0
    for frame, seen in enumerate(frames_of(script, actions, 35), 1):
        for name in "ab":
            now, before = painted[name][frame], painted[name][frame - 1]
            held, was = abs(now) >= 0.5, abs(before) >= 0.5
            if name == "a":
                run = run + 1 if held else 0
                assert seen["a"][4] == run
            assert seen[name][:4] == (held, held and not was, was and not held, now)


@given(spans)
def test_a_script_read_back_from_columns_gives_the_same_columns(written):
    script = lt.InputScript()
    for action, start, frames, value in written:
        script = script.hold(action, start, frames, abs(value) and 1.0)
    first = lt.record(Still, script, frames=40)
    again = lt.record(Still, lt.InputScript.from_columns(first.inputs), frames=40)
    assert {n: v.tolist() for n, v in first.inputs.items()} == {n: v.tolist() for n, v in again.inputs.items()}


class Still:
    actions = ("a", "b")

    def reset(self, setup): ...
    def step(self, now): ...
    def observe(self):
        return {"x": 0.0}


def test_scripts_join_shift_cut_and_tap():
    taps = lt.InputScript().tap("hop", start=5, every=10, times=3)
    assert [span.start for span in taps.spans] == [5, 15, 25]
    assert [span.start for span in taps.shifted(2).spans] == [7, 17, 27]
    assert [span.start for span in taps.keep(10, 20).spans] == [15]
    assert [span.start for span in taps.then(lt.InputScript().press("hop", 1)).spans] == [5, 15, 25, 26]
    ramp = lt.InputScript().ramp("tilt", 2, 5, 0.0, 1.0)
    values = [seen["tilt"][3] for seen in frames_of(ramp, [lt.Action("tilt", analog=True)], 8)]
    assert values == [0.0, 0.0, 0.25, 0.5, 0.75, 1.0, 0.0, 0.0]


def test_scripts_go_to_csv_and_back(tmp_path):
    script = lt.InputScript().hold("right", 1, 80).press("hop", 30).ramp("tilt", 2, 3, 0.0, 1.0)
    path = tmp_path / "script.csv"
    text = script.to_csv(path)
    assert text.splitlines()[:2] == ["action,start,frames,value", "right,1,80,1.0"]
    again = lt.InputScript.from_csv(path)
    assert again.to_csv() == text
    path.write_text("action,start,frames,value\nhop,0,1,1\n")
    with pytest.raises(lt.InputError, match="line 2.*first step is frame 1"):
        lt.InputScript.from_csv(path)


def test_random_scripts_come_from_their_seed():
    one, same, other = (lt.InputScript.at_random({"hop": 0.1, "left": 0.2}, 300, seed) for seed in (4, 4, 5))
    assert one == same and one != other
    assert one.last_frame <= 300


def test_a_script_can_be_written_in_keys():
    trace = lt.record(Keyed, lt.InputScript().press("KeyW", 3), frames=5)
    assert trace.inputs["hop"].tolist() == [0, 0, 0, 1, 0, 0]


class Keyed(Still):
    actions = (lt.Action("hop", keys=("KeyW", "pad:button0")),)


def test_a_press_placed_on_an_event_stands_in_the_trace_with_its_frame(lamp_trace):
    from tests.conftest import Lamp

    script = lt.InputScript().press("hop", 3).press("hop", 6).press("hop", on="event('lit')", plus=4)
    trace = lt.record(Lamp, script, frames=20)
    lit = trace.events.named("lit")[0].row
    assert [k for k, value in enumerate(trace.inputs["hop"]) if value] == [3, 6, lit + 4]
    assert lt.replay(trace, Lamp).identical


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda: lt.InputScript().press("hop", 0), "first step is frame 1"),
        (lambda: lt.InputScript().hold("hop", 1, 0), "at least 1"),
        (lambda: lt.InputScript().press("hop"), "start= or on="),
        (lambda: lt.InputScript().tap("hop", 1, 3, 2, frames=3), "one long hold"),
        (lambda: Actions(["hop", "hop"]), "declared twice"),
        (lambda: Actions([lt.Action("a", keys=("KeyW",)), lt.Action("b", keys=("KeyW",))]), "on two actions"),
        (lambda: lt.Action("a", keys=("KeyWW",)), "no key code 'KeyWW'; did you mean 'KeyW'"),
        (lambda: lt.record(Still, lt.InputScript().press("c", 1), frames=3), "no action 'c'"),
        (lambda: lt.record(Still, lt.InputScript().press("a", 9), frames=3), "never happens"),
        (lambda: lt.record(Still, lt.InputScript().hold("a", 1, 2, 0.5), frames=3), "on/off and cannot be 0.5"),
    ],
)
def test_scripts_that_cannot_be(make, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        make()


def test_an_axis_of_on_off_actions_is_a_whole_number_that_a_count_can_take():
    def turned(*actions):
        def made(setup):
            sim = lt.Sim(setup, actions=actions)
            facing = sim.value("facing", 1)
            sim.before("machines", lambda now: setattr(facing, "value", now.axis("left", "right")))
            return sim

        return lt.record(made, lt.InputScript().hold("left", 2, 1).press("right", on="facing < 0", plus=2), frames=5)

    assert turned("left", "right")["facing"].tolist() == [1, 0, -1, 0, 1, 0]
    with pytest.raises(lt.SubjectFailed, match="row 1: channel 'facing' is 0.0 .float., but the channel was a count"):
        turned("left", lt.Action("right", analog=True))


def test_scripts_that_go_on_from_the_same_one_do_not_see_each_other():
    start = lt.InputScript().press("hop", 3)
    one, other = start.press("hop", 9), start.hold("left", 5, 2)
    again = one.tap("hop", 20, 5, 3)
    assert [span.start for span in start.spans] == [3] and [span.start for span in one.spans] == [3, 9]
    assert [(span.action, span.start) for span in other.spans] == [("hop", 3), ("left", 5)]
    assert (
        len(again.spans) == 5
        and len(one.spans) == 2
        and one == start.press("hop", 9)
        and hash(one) == hash(start.press("hop", 9))
    )
    assert eval(repr(one), {"InputScript": lt.InputScript, "Span": type(one.spans[0])}) == one
    many = lt.InputScript()
    for n in range(20_000):
        many = many.press("hop", 2 * n + 1)
    assert len(many.spans) == 20_000


@settings(max_examples=120, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from("ab"), st.integers(1, 30), st.integers(1, 9), st.sampled_from((1.0, 0.5, 0.3, -1.0))),
        max_size=12,
    ),
    st.integers(0, 40),
)
def test_a_feed_set_to_a_row_is_one_that_was_led_there(presses, row):
    spans = [Span(action, start, frames, value) for action, start, frames, value in presses]
    script, actions = InputScript(spans), Actions([lt.Action("a", analog=True), lt.Action("b", analog=True)])
    led, put = InputFeed(script, actions, Rate(60)), InputFeed(script, actions, Rate(60), row)
    for frame in range(1, row + 1):
        led.advance(frame)
    for _ in range(5):
        assert put.save() == led.save() and put.noted == led.noted
        row += 1
        led.advance(row)
        put.advance(row)
    # The plan that is kept of a script is the same one for the next feed, and nobody's presses are left in it.
    again = InputFeed(script, actions, Rate(60))
    fresh = InputFeed(InputScript(spans), actions, Rate(60))
    assert again.due == fresh.due
