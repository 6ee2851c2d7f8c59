"""Whole-column arithmetic and the grid, on long inputs, against the plain way."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import larktally as lt
from larktally.language import rolling as spans
from larktally.parts.space.grid import Grid


@pytest.mark.parametrize("width", [1, 2, 7, 600, 2999, 3000, 10**15])
@pytest.mark.parametrize("rows", [1, 5, 3000])
def test_a_window_fold_is_the_fold_of_each_window(width, rows):
    values = np.random.default_rng(width % 97).integers(-9, 9, rows).astype(float)
    for fold in (np.minimum, np.maximum, np.add):
        expected = [fold.reduce(values[max(0, k - width + 1) : k + 1]) for k in range(rows)]
        assert spans.window_fold(values, width, fold).tolist() == expected


@pytest.mark.parametrize("fold", [np.maximum, np.minimum, np.add])
@pytest.mark.parametrize("seed", range(6))
def test_a_fold_between_rows_is_that_of_each_span_however_they_overlap(fold, seed):
    draw = np.random.default_rng(seed)
    values = draw.integers(-50, 50, 300).astype(float)
    starts = np.sort(draw.integers(0, 300, 40 if seed < 3 else 300))
    # Disjoint ones, ones that share their ends, and any at all.
    ends = np.minimum(starts + draw.integers(0, 9, len(starts)), 299)
    if seed % 3 == 1:
        ends = np.minimum((starts // 60 + 1) * 60, 299)
    if seed % 3 == 2:
        ends = np.array([draw.integers(start, 300) for start in starts])
    expected = [fold.reduce(values[a : b + 1]) for a, b in zip(starts, ends)]
    assert spans.fold_between(values, starts, ends, fold).tolist() == expected


@pytest.mark.parametrize("share", [0.0, 0.001, 0.02, 0.5, 1.0])
def test_a_sum_since_is_summed_from_its_own_start_in_order(share):
    draw = np.random.default_rng(4)
    values, flags = draw.normal(0, 1e9, 4000), draw.random(4000) < share
    expected, total = [], 0.0
    for value, flag in zip(values, flags):
        total = value if flag else total + value
        expected.append(total)
    assert spans.fold_since(values, flags, np.add).tolist() == expected


def test_windows_do_not_spread_what_has_left_them():
    values = np.array([np.inf, 1e300, 1.0, 2.0, 3.0, np.nan, 1.0, 1.0])
    assert spans.window_sum(values, 2).tolist()[3:5] == [3.0, 5.0]
    assert spans.window_sum(values, 2)[7] == 2.0


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.floats(-200, 200), st.floats(-200, 200), st.floats(0.5, 300), st.floats(0.5, 40)), max_size=30
    ),
    st.tuples(st.floats(-300, 300), st.floats(-300, 300), st.floats(0, 90), st.floats(0, 90)),
)
def test_the_grid_finds_every_box_of_a_region_in_the_level_s_order(boxes, region):
    level = [lt.geometry.box_at((x, y), (width, height), name=str(n)) for n, (x, y, width, height) in enumerate(boxes)]
    grid = Grid(level, 2)
    low, high = region[:2], (region[0] + region[2], region[1] + region[3])
    found = grid.boxes_in(grid.key(low, high))
    there = [b for b in level if all(b.low[i] <= high[i] and low[i] <= b.high[i] for i in (0, 1))]
    assert [box for box in found if box in there] == there
    assert [level.index(box) for box in found] == sorted(level.index(box) for box in found)


def test_a_long_recording_keeps_every_row_through_its_chunks():
    class Count:
        def reset(self, setup):
            self.n = 0

        def step(self, now):
            self.n += 1
            return [lt.Event("tick", "", n=self.n)] if self.n % 1000 == 0 else None

        def observe(self):
            return {"n": self.n, "x": self.n / 4, "odd": self.n % 2 == 1, "size": "big" if self.n > 5000 else "small"}

    trace = lt.record(Count, frames=9001)
    rows = np.arange(9002)
    assert (trace["n"] == rows).all() and (trace["x"] == rows / 4).all() and (trace["odd"] == (rows % 2 == 1)).all()
    assert (trace["size"] == np.where(rows > 5000, "big", "small")).all()
    assert [event.row for event in trace.events] == list(range(1000, 9001, 1000))
    part = trace.events.between(3000, 5000)
    assert [event.data["n"] for event in part] == [3000, 4000, 5000]
