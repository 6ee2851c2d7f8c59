"""Hops in closed form, under the integrator in use, exact to the discrete frames.

With speed v upward, gravity g, rate r and n = the rising frames, the height after k frames is, summed over the steps:
semi-implicit k·v/r - g·k(k+1)/(2r²); explicit k·v/r - g·k(k-1)/(2r²); leapfrog k·v/r - g·k²/(2r²). (Semi-implicit and
explicit Euler, and leapfrog in its kick-drift-kick form: Hairer, Lubich and Wanner, "Geometric Numerical Integration",
section I.1.)
"""

from __future__ import annotations

import math
from fractions import Fraction
from typing import Literal, TypeAlias

from larktally.errors import ModelError
from larktally.timing import Duration, RateLike, as_rate, frames_in

__all__ = ["Integrator", "INTEGRATORS", "apex", "launch_for"]

Integrator: TypeAlias = Literal["semi-implicit", "explicit", "leapfrog"]
INTEGRATORS: tuple[Integrator, ...] = ("semi-implicit", "explicit", "leapfrog")
_SHIFT = {"semi-implicit": 1, "explicit": -1, "leapfrog": 0}


def apex(speed: float, gravity: float, rate: RateLike | Fraction, integrator: Integrator = "semi-implicit") -> float:
    """Height a launch reaches, in level units.

    speed is in units/s, upward; gravity in units/s², downward, > 0. Semi-implicit, with n = floor(speed·rate/gravity)
    rising frames: n·speed/rate - gravity·n·(n+1)/(2·rate²), lower than v²/2g; explicit is higher; leapfrog in between.

    Raises ModelError where gravity is not positive, or an integrator is unknown.

    >>> from larktally.timing import Rate
    >>> apex(360, 900, Rate(60)), apex(365, 900, Rate(60))
    (69.0, 71.0)
    """
    shift = _shift(integrator)
    if not gravity > 0:
        raise ModelError(f"gravity is above 0, in units/s², not {gravity!r}")
    if speed <= 0:
        return 0.0
    # Fractions of the very floats that were given: the result is rounded once, at its end.
    v, g, r = Fraction(speed), Fraction(gravity), as_rate(rate)
    # The frames until the speed turns; the apex is in one of those next to it, whatever the integrator.
    around = math.floor(v * r / g)
    return float(max(_height(k, v, g, r, shift) for k in range(max(around - 1, 0), around + 3)))


def launch_for(
    height: float,
    time_to_apex: Duration,
    rate: RateLike | Fraction,
    integrator: Integrator = "semi-implicit",
    per: str = "second",
) -> tuple[float, float]:
    """(speed, gravity) of a hop that reaches `height` after exactly `time_to_apex` (n frames) under the integrator.

    speed = g·(2n+s)/(2r) and g = 2·height·r²/n², with s = 1 semi-implicit, -1 explicit, 0 leapfrog: the speed is zero
    half-way between the frames around the apex, or at it. `per="frame"` gives units/frame and units/frame² instead.

    Raises ModelError for a height that is not above 0.

    >>> from larktally.timing import Rate
    >>> launch_for(72, "0.4s", Rate(60))
    (367.5, 900.0)
    """
    shift = _shift(integrator)
    if not height > 0 or per not in ("second", "frame"):
        raise ModelError(f"a hop has a height above 0, per 'second' or 'frame', not {height!r} per {per!r}")
    rate = as_rate(rate)
    n = frames_in(time_to_apex, rate, least=1, what="time to apex")
    # Heights and speeds per frame are those at one frame a second.
    r: Fraction = Fraction(1)
    if per == "second":
        r = rate
    gravity = 2 * Fraction(height) * r * r / (n * n)
    return float(gravity * (2 * n + shift) / (2 * r)), float(gravity)


def _height(k: int, v: Fraction, g: Fraction, r: Fraction, shift: int) -> Fraction:
    return k * v / r - g * k * (k + shift) / (2 * r * r)


def _shift(integrator: str) -> int:
    if integrator not in _SHIFT:
        raise ModelError(f"an integrator is one of {', '.join(INTEGRATORS)}, not {integrator!r}")
    return _SHIFT[integrator]
