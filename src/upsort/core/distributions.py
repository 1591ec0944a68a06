"""Areas and quantiles of the distributions that figures are compared with. What has a short exact formula is worked out here;
loading a library of special functions would take longer than all else that a small evaluation does."""

from functools import cache
from math import cos, erfc, exp, lgamma, log, pi, sqrt, tan
from statistics import NormalDist

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.lazy import special

_FEW = 3.0
_MANY = 200.0
"""Degrees of freedom from which the four terms of the expansion are exact to nine digits."""


def normal_cdf(z: float) -> float:
    """The share of a standard normal distribution below z; exact far out too."""
    return erfc(-z / sqrt(2.0)) / 2.0


def normal_quantile(share: float) -> float:
    """The z below which a share (0 to 1, without the ends) of a standard normal distribution is."""
    return NormalDist().inv_cdf(share)


def student_quantile(degrees: float, share: float) -> float:
    """The t below which a share of Student's distribution is.

    Of many degrees of freedom from the normal quantile (Abramowitz & Stegun 1964, 26.7.5), of fewer by Newton's method on the
    area itself; of very few, and far out, from a library."""
    if degrees < _FEW or not 0.001 <= share <= 0.999:
        return float(special.stdtrit(degrees, share))
    if degrees < _MANY:
        return sqrt(degrees) * tan(_student_angle(degrees, abs(share - 0.5))) * (1.0 if share >= 0.5 else -1.0)
    x = normal_quantile(share)
    square = x * x
    terms = (
        (square + 1.0) / 4.0,
        ((5.0 * square + 16.0) * square + 3.0) / 96.0,
        (((3.0 * square + 19.0) * square + 17.0) * square - 15.0) / 384.0,
        ((((79.0 * square + 776.0) * square + 1482.0) * square - 1920.0) * square - 945.0) / 92160.0,
    )
    return x + x * sum(term / degrees**power for power, term in enumerate(terms, 1))


@cache
def _places_and_weights() -> tuple[Floats, Floats]:
    """Of Gauss and Legendre, between -1 and 1."""
    places, weights = np.polynomial.legendre.leggauss(40)
    return places, weights


def _student_angle(degrees: float, area: float) -> float:
    """The angle whose tangent is t / √degrees, where the area from 0 to t is given: with it the density is a power of the cosine,
    which falls, so that steps from 0 never pass the root."""
    logarithm = lgamma((degrees + 1.0) / 2.0) - lgamma(degrees / 2.0) - log(pi) / 2.0
    places, weights = _places_and_weights()
    angle = 0.0
    for _ in range(200):
        inside = angle * (places + 1.0) / 2.0
        reached = exp(logarithm) * angle / 2.0 * float(weights @ np.cos(inside) ** (degrees - 1.0))
        step = (area - reached) / exp(logarithm + (degrees - 1.0) * log(cos(angle)))
        angle += step
        if abs(step) <= 1e-14 * angle:
            break
    return angle


def chi_square_above(value: float, degrees: int) -> float:
    """The share of a chi-square distribution of whole degrees of freedom above a value: a sum of them / 2 terms (Abramowitz &
    Stegun 1964, 26.4.4 and 26.4.5)."""
    half = value / 2.0
    if half <= 0.0:
        return 1.0
    odd = degrees % 2
    powers = (number + odd / 2.0 for number in range(degrees // 2))
    terms = sum(exp(power * log(half) - half - lgamma(power + 1.0)) for power in powers)
    return min(1.0, terms + (erfc(sqrt(half)) if odd else 0.0))
