"""Rates and durations: exact, or an error that says what to write."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

import larktally as lt


@pytest.mark.parametrize(
    ("duration", "rate", "frames"),
    [
        (9, 60, 9),
        ("9f", 60, 9),
        ("0.1s", 60, 6),
        ("350ms", 60, 21),
        ("1/30s", 60, 2),
        ("0.1s up", 144, 15),
        ("0.1s down", 144, 14),
        ("0.1s nearest", 144, 14),
        ("0.125s nearest", 20, 3),
        ("1.001s", "60000/1001", 60),
    ],
)
def test_durations_become_whole_frames(duration, rate, frames):
    assert lt.frames_in(duration, lt.Rate(rate)) == frames


@pytest.mark.parametrize(
    ("duration", "rate", "said"),
    [
        ("0.1s", 144, "14.4 frames"),
        (0.1, 60, "'0.1s'"),
        ("fast", 60, "neither frames"),
        ("1e9s", 60, "neither frames"),
        ("1/0s", 60, "neither frames"),
        (True, 60, "neither frames"),
        ("0.1s", None, "no rate is known"),
    ],
)
def test_what_is_not_exact_is_an_error(duration, rate, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        lt.frames_in(duration, rate and lt.Rate(rate))


@pytest.mark.parametrize("rate", [0, -1, 59.94, "abc", "1/0", True, 10**7])
def test_rates_that_are_no_rates(rate):
    with pytest.raises(lt.LarkTallyError, match="rate"):
        lt.Rate(rate)


@given(st.integers(0, 10**6), st.integers(1, 240))
def test_a_whole_number_of_frames_survives_as_time(frames, rate):
    exact = Fraction(frames, rate)
    assert lt.frames_in(f"{exact.numerator}/{exact.denominator}s", lt.Rate(rate)) == frames
