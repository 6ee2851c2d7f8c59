"""Recording a user's own subject: every row kept, and one clear message where that cannot be."""

import math
import os
import subprocess
import sys

import numpy as np
import pytest
from tests.conftest import Lamp

import larktally as lt


def test_row_0_is_after_reset_and_row_k_after_step_k(lamp_trace):
    assert lamp_trace.rows == 21 and lamp_trace.frames == 20
    assert lamp_trace["y"].tolist()[:8] == [0, 0, 0, 0.5, 1, 1.5, 2, 2]
    assert lamp_trace.inputs["hop"].tolist()[:8] == [0, 0, 0, 1, 1, 1, 1, 0]
    assert [column.channel.kind for column in lamp_trace.columns.values()] == ["number", "count", "flag", "label"]
    assert lamp_trace.row(10) == {"y": 2.5, "count": 2, "lit": True, "mood": "bright"}
    assert [str(event) for event in lamp_trace.events] == ["row 10: lit from lamp count=2"]
    with pytest.raises(ValueError, match="read-only"):
        lamp_trace["y"][0] = 1.0


def test_a_trace_becomes_a_data_frame(lamp_trace):
    frame = lamp_trace.to_pandas()
    assert frame.index.name == "frame" and list(frame.columns) == ["y", "count", "lit", "mood", "input:hop"]
    assert frame["mood"].iloc[-1] == "bright"


class Faulty(Lamp):
    """Goes wrong in row 5, in a way of its own."""

    def __init__(self, fault):
        self.fault = fault

    def observe(self):
        row = super().observe()
        return row if self.row < 5 else self.fault(row)

    def reset(self, setup):
        super().reset(setup)
        self.row = 0

    def step(self, now):
        self.row = now.frame
        return super().step(now)


@pytest.mark.parametrize("frames", [10, 3000])
@pytest.mark.parametrize(
    ("fault", "said"),
    [
        (lambda row: {**row, "y": math.nan}, "row 5: channel 'y' is NaN.*allow_nan"),
        (lambda row: {**row, "count": 1.5}, "row 5: channel 'count' is 1.5.*was a count in row 0; start it as a float"),
        (lambda row: {**row, "y": True}, r"row 5: channel 'y' is True \(bool\)"),
        (lambda row: {**row, "lit": 1}, r"row 5: channel 'lit' is 1 \(int\)"),
        (lambda row: {**row, "mood": 3}, r"row 5: channel 'mood' is 3 \(int\)"),
        (lambda row: {**row, "count": 2**63}, "row 5: channel 'count' is 9223372036854775808, outside 64 bits"),
        (lambda row: {k: v for k, v in row.items() if k != "lit"}, "row 5: the channels are not.*'lit' gone"),
        (lambda row: {**row, "extra": 1}, "row 5: the channels are not.*'extra' new"),
        (lambda row: 1 / 0, "row 5: step failed: ZeroDivisionError"),
    ],
)
def test_a_subject_that_goes_wrong_is_told_by_its_row_and_keeps_what_was_recorded(fault, said, frames):
    with pytest.raises(lt.SubjectFailed, match=said) as failure:
        lt.record(Faulty(fault), frames=frames)
    assert failure.value.row == 5
    kept = failure.value.trace
    assert kept.rows == 5 and kept.header.stopped == str(failure.value)
    assert kept["y"].tolist() == [0.0] * 5


def test_values_that_are_equal_but_of_other_types_take_the_slow_way_to_the_same_numbers():
    class Mixed(Lamp):
        def observe(self):
            return {"y": int(self.y) if self.count else np.float64(self.y), "count": 2**40 + self.count}

    trace = lt.record(Mixed, lt.InputScript().hold("hop", 2, 3), frames=6)
    assert trace["y"].tolist() == [0.0, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0]
    assert trace["count"].tolist()[-1] == 2**40 + 1


def test_channels_may_come_in_another_order_and_one_dict_may_be_reused():
    class Turning(Lamp):
        def observe(self):
            row = super().observe()
            return dict(reversed(row.items())) if self.count else row

    class Reusing(Lamp):
        def __init__(self):
            self.kept = {}

        def observe(self):
            self.kept.update(super().observe())
            return self.kept

    script = lt.InputScript().hold("hop", 3, 4)
    plain, turned, reused = (lt.record(kind, script, frames=9) for kind in (Lamp, Turning, Reusing))
    assert plain["y"].tolist() == turned["y"].tolist() == reused["y"].tolist()


def test_a_dict_that_comes_back_later_is_told_and_the_rows_before_it_are_kept():
    class Stale(Lamp):
        def observe(self):
            self.row = getattr(self, "row", -1) + 1
            if self.row < 300:
                self.last = super().observe()
            return self.last

    with pytest.raises(lt.SubjectFailed, match="observe returns the same dict again") as failure:
        lt.record(Stale, frames=600)
    assert failure.value.trace.rows == failure.value.row == 257


def test_a_run_ends_at_an_end_event_or_where_until_holds():
    class Ending(Lamp):
        def step(self, now):
            return [*super().step(now), *([lt.Event("end", reason="win")] if now.frame == 7 else [])]

    ended = lt.record(Ending, frames=50)
    assert ended.rows == 8 and ended.header.end == "win"
    until = lt.record(lt.Scenario(Lamp, frames=50, inputs=lt.InputScript().hold("hop", 3, 9), until="y >= 2"))
    assert until.rows == 7 and until["y"][-1] == 2.0


def test_what_a_scenario_says_is_not_said_again():
    scenario = lt.Scenario(Lamp, frames=5)
    with pytest.raises(lt.LarkTallyError, match="says frames already"):
        lt.record(scenario, frames=6)
    with pytest.raises(lt.LarkTallyError, match="needs frames="):
        lt.record(Lamp)
    with pytest.raises(lt.LarkTallyError, match="no subject: it has no reset and no step"):
        lt.Scenario(object(), frames=3)


def test_only_keeps_the_channels_that_match():
    trace = lt.record(Lamp, frames=3, only=["l*", "y"])
    assert trace.channels == ["y", "lit"]
    assert lt.replay(trace, Lamp).identical
    with pytest.raises(lt.LarkTallyError, match="matches no channel"):
        lt.record(Lamp, frames=3, only="nothing*")


@pytest.mark.slow
def test_the_same_run_gives_the_same_bytes_in_every_process(dusk_trace):
    code = "import larktally as lt; from larktally.demo import quay; print(lt.record(quay.dusk_run.named('dusk_run')).digest)"
    digests = {
        subprocess.run(
            [sys.executable, "-c", code],
            capture_output=True,
            text=True,
            check=True,
            env={**os.environ, "PYTHONHASHSEED": seed},
        ).stdout.strip()
        for seed in ("1", "2")
    }
    assert digests == {dusk_trace.digest}


def test_a_replay_finds_the_first_divergence(lamp_trace):
    class Brighter(Lamp):
        def step(self, now):
            said = super().step(now)
            self.y += now.frame == 12
            return said

    class Without(Lamp):
        def observe(self):
            return {name: value for name, value in super().observe().items() if name != "lit"} | {"glow": 1.0}

    assert lt.replay(lamp_trace, Lamp).identical
    found = lt.replay(lamp_trace, Brighter)
    assert not found.identical
    assert (found.divergence.row, found.divergence.what) == (12, "y")
    assert "row 12 (0.200 s): y was 2.5, now 3.5" in str(found)
    other = lt.replay(lamp_trace, Without)
    assert other.added == ("glow",) and other.removed == ("lit",) and other.divergence is None
