"""The shared optimiser: a truncated Newton method for smooth convex objectives.

Each outer step solves H·d = −g by conjugate gradients, stopped early (Dembo & Steihaug 1983), inside a trust region whose
radius follows how well the quadratic model predicted the decrease (Lin, Weng & Keerthi 2008, *Trust region Newton method
for large-scale logistic regression*, algorithms 1 and 2). Only products with the Hessian are needed, never the Hessian.

Sums of products are taken by `einsum`, not by a threaded library, so that the result does not depend on the number of
processors.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from upsort.core.arrays import Floats

Vector = Floats

_ACCEPT = 1e-4  # least ratio of actual to predicted decrease for a step to be taken
_ROUNDING = 1e-13  # a predicted decrease below this share of the value is lost in its rounding
_FORCING = 0.1  # conjugate gradients stop when the residual is this share of the gradient


class Objective(Protocol):
    """A smooth convex function of a vector."""

    def value_and_gradient(self, at: Vector) -> tuple[float, Vector]:
        """The value and gradient at a point; the point becomes the one that `hessian_product` speaks of."""

    def hessian_product(self, direction: Vector) -> Vector:
        """The Hessian at the last point, times a direction."""


@dataclass(frozen=True)
class Minimum:
    """Where the search ended.

    optimality: the gradient's norm there, as a share of its norm at the start.
    reached: whether that is within the tolerance.
    iterations: outer steps. products: products with the Hessian.
    """

    at: Vector
    value: float
    optimality: float
    reached: bool
    iterations: int
    products: int


def dot(a: Vector, b: Vector) -> float:
    """The sum of products of two vectors, in a fixed order."""
    return float(np.einsum("i,i->", a, b))


def minimise(
    objective: Objective,
    start: Vector,
    tolerance: float,
    most_iterations: int,
    start_norm: float | None = None,
    progress: Callable[[int, float], None] | None = None,
) -> Minimum:
    """Minimise a convex objective from `start` until ‖gradient‖ ≤ tolerance · ‖gradient at the start‖.

    start_norm: the gradient norm to compare with, when it is not that at `start` (a warm start).
    progress: called with the number of steps taken and the optimality reached.
    """
    at = start.copy()
    value, gradient = objective.value_and_gradient(at)
    norm = np.sqrt(dot(gradient, gradient))
    reference = norm if start_norm is None else start_norm
    radius = norm
    products = 0
    iterations = 0
    while norm > tolerance * reference and iterations < most_iterations:
        step, residual, used = _conjugate_gradients(objective, gradient, norm, radius)
        products += used
        slope = dot(gradient, step)
        predicted = -0.5 * (slope - dot(step, residual))
        trial = at + step
        trial_value, trial_gradient = objective.value_and_gradient(trial)
        actual = value - trial_value
        step_norm = np.sqrt(dot(step, step))
        if iterations == 0:
            radius = min(radius, step_norm)
        radius = _new_radius(radius, step_norm, actual, predicted, slope)
        iterations += 1
        trial_norm = np.sqrt(dot(trial_gradient, trial_gradient))
        within_rounding = predicted <= _ROUNDING * abs(value)
        if within_rounding and trial_norm >= norm:
            break  # neither the value nor the gradient can be told to fall any further
        if within_rounding or actual > _ACCEPT * predicted:
            at, value, gradient, norm = trial, trial_value, trial_gradient, trial_norm
        else:
            objective.value_and_gradient(at)
        if progress is not None:
            progress(iterations, norm / reference if reference else 0.0)
    optimality = norm / reference if reference else 0.0
    return Minimum(at, value, float(optimality), bool(norm <= tolerance * reference), iterations, products)


def _conjugate_gradients(
    objective: Objective, gradient: Vector, norm: float, radius: float
) -> tuple[Vector, Vector, int]:
    """An approximate Newton step within the trust region, its residual −g − H·step, and the products used."""
    step = np.zeros_like(gradient)
    residual = -gradient
    direction = residual.copy()
    squared = dot(residual, residual)
    products = 0
    while np.sqrt(squared) > _FORCING * norm and products < gradient.size + 10:
        curved = objective.hessian_product(direction)
        products += 1
        curvature = dot(direction, curved)
        if curvature <= 0:
            break
        length = squared / curvature
        longer = step + length * direction
        if np.sqrt(dot(longer, longer)) > radius:
            length = _to_boundary(step, direction, radius)
            return step + length * direction, residual - length * curved, products
        step = longer
        residual = residual - length * curved
        new_squared = dot(residual, residual)
        direction = residual + (new_squared / squared) * direction
        squared = new_squared
    return step, residual, products


def _to_boundary(step: Vector, direction: Vector, radius: float) -> float:
    """The positive length at which step + length · direction leaves the trust region."""
    along, squared = dot(step, direction), dot(direction, direction)
    room = radius**2 - dot(step, step)
    root = np.sqrt(along**2 + squared * room)
    return float(room / (along + root) if along >= 0 else (root - along) / squared)


def _new_radius(radius: float, step_norm: float, actual: float, predicted: float, slope: float) -> float:
    """The next radius, from the ratio of actual to predicted decrease (Lin, Weng & Keerthi 2008, equation 9)."""
    curvature = -actual - slope
    factor = 4.0 if curvature <= 0 else max(0.25, -0.5 * (slope / curvature))
    if actual < _ACCEPT * predicted:
        return min(max(factor, 0.25) * step_norm, 0.5 * radius)
    if actual < 0.25 * predicted:
        return max(0.25 * radius, min(factor * step_norm, 0.5 * radius))
    if actual < 0.75 * predicted:
        return max(0.25 * radius, min(factor * step_norm, 4.0 * radius))
    return max(radius, min(factor * step_norm, 4.0 * radius))
