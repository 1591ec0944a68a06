"""The shared optimiser: a truncated Newton method for linear classifiers.

Directions are found in float32; values and gradients, and with them the stopping rule, are float64. Sums are taken in a fixed
order, so that the result does not depend on the number of processors."""

import numpy as np

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.dual import DualAscent, DualProblem, compiled, is_worthwhile, run_dual_passes
from upsort.core.classifiers.losses import Columns, Loss
from upsort.core.classifiers.optimiser_partitions import PartitionStates
from upsort.core.classifiers.problem_arrays import Singles, frobenius
from upsort.core.lazy import record

_SUFFICIENT = 1e-4  # share of the predicted decrease that a step must bring (Armijo's rule)
_HALVINGS = 30
_FLAT = 0.2  # slope at the end of a search along a step, as a share of that at its beginning
_SEARCHES = 8
_MOST_INNER = 60
_NO_CURVATURE = 1e-12  # where the value bends less than this along a direction of length 1, they go no further along it
_FORCING = 0.3  # conjugate gradients stop when the residual is this share of what it was
_FIRST_DAMPING = 0.1  # of the gradient over the weights: a step may then be ten times as long as the weights
_STRONGER = 100.0
_SHORT, _WHOLE = 0.25, 0.8  # shares of a step: what was gone of one that leads too far, and of one that could be longer
_TIGHTER, _LOOSER = 10.0, 4.0
_MOST_DAMPINGS = 5  # where none of so many helps, neither the value nor the gradient can be told to fall any further
_ROUNDING = 1e-14  # of a value of this many times its size nothing can be reported


@record(frozen=True, kw_only=True)
class OptimiserReport:
    """How training ended.

    iterations: steps taken. products: pairs of products with the matrix. optimality: the norm of the (least sub-)gradient at the
    end as a share of its norm at zero weights. reached: whether that is within the tolerance. passes: over the documents, before
    the steps, see `dual`. uncompiled: whether there were none because what compiles them cannot be loaded."""

    iterations: int = 0
    products: int = 0
    optimality: float = 0.0
    reached: bool = True
    passes: int = 0
    uncompiled: bool = False


@record(frozen=True)
class Stopping:
    """When training stops: at this share of the gradient's norm at zero weights, or after so many steps.

    reference: that norm, where it is known already."""

    tolerance: float
    most_iterations: int
    reference: float | None = None


@record(frozen=True, kw_only=True)
class Objective:
    """F: documents with the loss of their scores for so many labels, and both penalties."""

    partitions: PartitionStates
    n_labels: int
    ridge: float
    lasso: float = 0.0

    @property
    def loss(self) -> Loss:
        """That of all documents."""
        return self.partitions.loss


@record(frozen=True)
class _SearchDirection:
    """From where a step of the active labels leads where. columns: of the active labels. before, step, downhill: (p + 1, c)."""

    columns: Columns
    before: Floats
    step: Floats
    downhill: Floats


def minimise(
    objective: Objective, stopping: Stopping, start: Floats | None = None, ascent: DualAscent | None = None
) -> tuple[Floats, OptimiserReport]:
    """(p + 1, k) the weights at the minimum, and how the search ended.

    start: (p + 1, k) where to begin; without it, where passes over the documents lead (see `dual`) if the problem is large enough
    for them, else zero weights and the intercepts that alone are best or nearly so. ascent: passes to resume.

    What is minimised, over weights W whose last row is the unpenalised intercepts, is

        F(W) = loss(X·W) + ridge / 2 · Σ W² + lasso · Σ |W|."""
    reference = reference_norm(objective) if stopping.reference is None else stopping.reference
    if start is None and ascent is None:
        ascent = ascent_on(objective)
    weights = np.zeros((objective.partitions.width, objective.n_labels)) if start is None else start.copy()
    if start is None:
        weights[-1] = objective.loss.first_intercepts()
    passes = 0
    if ascent is not None:
        ascended, norm = run_dual_passes(ascent, stopping.tolerance * reference, reference)
        passes = ascent.passes
        if norm <= stopping.tolerance * reference:
            return ascended, OptimiserReport(products=1, optimality=norm / reference if reference > 0 else 0.0, passes=passes)
        if _value(objective, ascended) < _value(objective, weights):
            weights = ascended
    search = _NewtonSearch(objective, weights, reference, stopping.tolerance)
    while not search.converged() and search.steps < stopping.most_iterations and search.step():
        pass
    return search.weights, OptimiserReport(
        iterations=search.steps,
        products=search.products,
        optimality=search.optimality,
        reached=search.optimality <= stopping.tolerance,
        passes=passes,
        uncompiled=ascent is None and objective.lasso == 0.0 and is_worthwhile(_problem(objective)) and compiled() is None,
    )


class _NewtonSearch:
    """Where the search for the minimum stands.

    weights: (p + 1, k), of which those of the `active` labels still change. norms: (k,) of the gradient, of each label where the
    loss is separable. products: pairs of products with the matrix so far. damping: added to the diagonal of H. failed: steps in a
    row that brought no decrease."""

    def __init__(self, objective: Objective, weights: Floats, reference: float, tolerance: float) -> None:
        self.objective, self.weights, self.reference = objective, weights, reference
        self.separable = objective.loss.separable
        self.enough = tolerance * reference / (np.sqrt(objective.n_labels) if self.separable else 1.0)
        self.active = np.arange(objective.n_labels)
        self.norms = np.full(objective.n_labels, np.inf)
        self.steps, self.products = 0, 1
        self.damping, self.failed = 0.0, 0
        objective.partitions.update_quietly("begin", weights)

    @property
    def columns(self) -> Columns:
        """Those of the active labels."""
        return slice(None) if self.active.size == self.objective.n_labels else self.active

    @property
    def optimality(self) -> float:
        """The norm of the whole gradient as a share of the reference."""
        whole = float(np.sqrt((self.norms**2).sum())) if self.separable else float(self.norms[0])
        return whole / self.reference if self.reference > 0 else 0.0

    def converged(self) -> bool:
        """Whether the gradient is small enough here. The gradient is worked out for the next step."""
        objective, columns = self.objective, self.columns
        slopes = objective.partitions.update("gradient", columns)
        slopes[:-1] += objective.ridge * self.weights[:-1, columns]
        self.products += 1
        self.downhill, self.free = _pseudo_gradient(slopes, self.weights[:, columns], objective.lasso)
        self.norms[self.active] = _norms(self.downhill, self.separable)
        return not (self.norms[self.active] > self.enough).any()

    def step(self) -> bool:
        """Go one step. Returns False where no damping helps any more."""
        objective, lasso = self.objective, self.objective.lasso
        self._drop_converged_labels()
        first = _FIRST_DAMPING * frobenius(self.downhill) / (1.0 + frobenius(self.weights))
        if lasso > 0.0 and self.steps == 0:
            self.damping = first
        step, inner = _direction(objective, self.downhill, self.free, self.columns, self.damping)
        way = _SearchDirection(self.columns, self.weights[:, self.columns].copy(), step, self.downhill)
        moved = _line_search(objective, self.weights, way, self.active)
        self.products += inner + 1
        self.steps += 1
        if moved.any():
            self.failed = 0
            went = _accepted_share(self.weights, way) if lasso > 0.0 else 0.0
            self.damping = _next_damping(self.damping, first, went) if lasso > 0.0 else self.damping / _STRONGER
        elif self.failed == _MOST_DAMPINGS:
            return False
        else:
            self.damping, self.failed = max(_STRONGER * self.damping, first), self.failed + 1
        return True

    def _drop_converged_labels(self) -> None:
        """Labels of a separable loss whose gradients are small enough take no part in further steps."""
        unconverged = self.norms[self.active] > self.enough
        if self.separable and not unconverged.all():
            self.active = self.active[unconverged]
            self.downhill, self.free = self.downhill[:, unconverged], self.free[:, unconverged]
            self.objective.partitions.update_quietly("keep_columns", self.active)


def _accepted_share(weights: Floats, way: _SearchDirection) -> float:
    """The share of a step that was gone."""
    return frobenius(weights[:, way.columns] - way.before) / frobenius(way.step)


def _next_damping(damping: float, first: float, accepted_share: float) -> float:
    """The damping after a step of which a share was gone. first: the least that dampens anything, where there was none."""
    if accepted_share < _SHORT:
        return max(_TIGHTER * damping, first)
    return damping / _LOOSER if accepted_share > _WHOLE else damping


def _value(objective: Objective, weights: Floats) -> float:
    """What is minimised; not a number where the weights are none."""
    loss = objective.partitions.query("loss_of_weights", weights).sum()
    return float(loss + _penalty(weights, objective.ridge, objective.lasso, separable=False).sum())


def ascent_on(objective: Objective) -> DualAscent | None:
    """Passes over the documents of a problem; None where there are none, or they do not pay."""
    problem = _problem(objective)
    if objective.lasso > 0.0 or not is_worthwhile(problem) or compiled() is None:
        return None
    return DualAscent(problem)


def _problem(objective: Objective) -> DualProblem:
    return DualProblem(partitions=objective.partitions, n_labels=objective.n_labels, ridge=objective.ridge)


def reference_norm(objective: Objective) -> float:
    """The norm of the whole gradient at zero weights."""
    slopes = objective.partitions.query("gradient_at_zero", objective.n_labels)
    downhill, _ = _pseudo_gradient(slopes, np.zeros(slopes.shape), objective.lasso)
    return float(_norms(downhill, separable=False)[0])


def _norms(values: Floats, separable: bool) -> Floats:
    """(c,) the norm of each column, or that of all columns together for each."""
    squares = np.einsum("ij,ij->j", values, values)
    norms: Floats = np.sqrt(squares if separable else np.full_like(squares, squares.sum()))
    return norms


def _pseudo_gradient(slopes: Floats, weights: Floats, lasso: float) -> tuple[Floats, Bools]:
    """The subgradient of least norm, and which weights are free: not held at 0 by the lasso."""
    if lasso == 0.0:
        return slopes, np.ones(slopes.shape, dtype=bool)
    pseudo = slopes + lasso * np.sign(weights)
    at_zero = weights == 0.0
    pseudo[at_zero] = np.sign(slopes[at_zero]) * np.maximum(np.abs(slopes[at_zero]) - lasso, 0.0)
    pseudo[-1] = slopes[-1]
    free = ~at_zero | (pseudo != 0.0)
    free[-1] = True
    return pseudo, free


def _direction(objective: Objective, downhill: Floats, free: Bools, columns: Columns, damping: float) -> tuple[Floats, int]:
    """(p + 1, c) an approximate solution of (H + damping)·D = −gradient on the free weights, and the pairs of products used.

    Each step solves H·D = −G by conjugate gradients, preconditioned by the diagonal of H and stopped early (Dembo & Steihaug
    1983; Nocedal & Wright 2006, section 7.1), and goes along D as far as Armijo's rule allows; how the loss changes on the way
    needs no further product, since scores are linear. With a lasso part the step is taken among the weights that are not held at
    0, and no weight crosses 0 in a step (Andrew & Gao 2007, *Scalable training of L1-regularized log-linear models*, for the
    orthant; Schmidt 2010, section 2.3.2, for Newton steps on the free weights). Then H is damped from the first step on, the less
    the further steps can be gone along (Levenberg 1944, *A method for the solution of certain non-linear problems in least
    squares*; Moré 1978 for a damping that follows how well the last step did): without a ridge, weights of rare labels have next
    to no curvature. Without a lasso it is damped where no length of a step brings a decrease, as where every probability is 0 or
    1 and H all but 0, until one does. Labels of a separable loss are trained side by side, each with its own step lengths, and
    drop out when they are done."""
    partitions, ridge, separable = objective.partitions, objective.ridge, objective.loss.separable
    diagonal = partitions.query("diagonal", columns)
    diagonal[:-1] += ridge
    diagonal += damping + 1e-8 * diagonal.max(axis=0)
    inverse = (1.0 / np.maximum(diagonal, 1e-12)).astype(np.float32)
    fixed = None if free.all() else ~free
    residual = (-downhill).astype(np.float32)
    if fixed is not None:
        residual[fixed] = 0.0
    ridge32, damping32 = np.float32(ridge), np.float32(damping)

    def dot(a: Singles, b: Singles) -> Floats:
        each = np.einsum("ij,ij->j", a, b, dtype=np.float64)
        return each if separable else np.full_like(each, each.sum())

    step = np.zeros_like(residual)
    scaled = inverse * residual
    direction = scaled.copy()
    size = dot(residual, scaled)
    first = size.copy()
    inner = 0
    while inner < _MOST_INNER:
        running = size > _FORCING**2 * first
        if not running.any():
            break
        curved = partitions.query("hessian_product", direction, columns)
        curved[:-1] += ridge32 * direction[:-1]
        if damping > 0.0:
            curved += damping32 * direction
        if fixed is not None:
            curved[fixed] = 0.0
        inner += 1
        bending = dot(direction, curved)
        running &= bending > _NO_CURVATURE * dot(direction, direction)
        if not running.any():
            break
        length = np.where(running, np.divide(size, bending, out=np.zeros_like(size), where=bending > 0), 0.0)
        step += length.astype(np.float32) * direction
        residual -= length.astype(np.float32) * curved
        scaled = inverse * residual
        fresh = dot(residual, scaled)
        ratio = np.where(running, np.divide(fresh, size, out=np.zeros_like(size), where=size > 0), 0.0)
        direction = scaled + ratio.astype(np.float32) * direction
        size = np.where(running, fresh, size)
    return step.astype(np.float64), inner


def _line_search(objective: Objective, weights: Floats, way: _SearchDirection, active: Ints) -> Bools:
    """Move `weights` and the scores of the active labels along the way as far as the value falls; returns which moved."""
    partitions, loss, ridge, lasso = objective.partitions, objective.loss, objective.ridge, objective.lasso
    columns, before, step, downhill = way.columns, way.before, way.step, way.downhill
    value = partitions.query("value", columns) + _penalty(before, ridge, lasso, loss.separable)
    orthant = np.where(before != 0.0, np.sign(before), -np.sign(downhill))
    length = np.ones(active.size)
    if lasso == 0.0:
        partitions.update_quietly("prepare_step", step, columns)
        length = _best_length(objective, way)
    moved = np.zeros(active.size, dtype=bool)
    waiting = np.ones(active.size, dtype=bool)
    for _ in range(_HALVINGS):
        trial = before + length * step
        if lasso > 0.0:
            crossed = np.sign(trial) != orthant
            crossed[-1] = False
            trial[crossed] = 0.0
        there = (
            partitions.update("loss_at", trial, columns) if lasso > 0.0 else partitions.update("loss_along_step", columns, length)
        )
        trial_value = there + _penalty(trial, ridge, lasso, loss.separable)
        expected = np.einsum("ij,ij->j", downhill, trial - before)
        expected = expected if loss.separable else np.full_like(expected, expected.sum())
        slack = _ROUNDING * np.abs(value)
        fine = trial_value <= value + _SUFFICIENT * expected + slack
        accepted = waiting & np.broadcast_to(fine, waiting.shape) & (expected < 0)
        if accepted.any():
            weights[:, active[accepted]] = trial[:, accepted]
            partitions.update_quietly("accept_step", active, accepted)
        moved |= accepted
        waiting &= ~accepted
        if not waiting.any():
            break
        length = np.where(waiting, length / 2.0, length)
    return moved


def _best_length(objective: Objective, way: _SearchDirection) -> Floats:
    """(c,) how far to go along a step: where the slope of the value along it is a small share of what it was."""
    partitions, loss, ridge = objective.partitions, objective.loss, objective.ridge
    before, step, downhill = way.before, way.step, way.downhill

    def summed(each: Floats) -> Floats:
        return each if loss.separable else np.full_like(each, each.sum())

    along = ridge * np.einsum("ij,ij->j", before[:-1], step[:-1])
    square = ridge * np.einsum("ij,ij->j", step[:-1], step[:-1])

    def slope(length: Floats) -> Floats:
        return summed(partitions.query("directional_derivative", way.columns, length) + along + length * square)

    many = step.shape[1]
    low, high = np.zeros(many), np.full(many, np.inf)
    low_slope, high_slope = summed(np.einsum("ij,ij->j", downhill, step)), np.full(many, np.nan)
    flat = _FLAT * np.abs(low_slope)
    length = np.ones(many)
    for _ in range(_SEARCHES):
        current = slope(length)
        if (np.abs(current) <= flat).all():
            break
        rising = current > 0
        high, high_slope = np.where(rising, length, high), np.where(rising, current, high_slope)
        low, low_slope = np.where(rising, low, length), np.where(rising, low_slope, current)
        bounded = np.isfinite(high)
        gap, fall = np.where(bounded, high - low, 1.0), np.where(bounded, low_slope - high_slope, 1.0)
        secant = low + gap * np.divide(low_slope, fall, out=np.ones_like(fall), where=fall < 0)
        inside = np.clip(secant, low + 0.1 * gap, low + 0.9 * gap)
        length = np.where(np.abs(current) <= flat, length, np.where(bounded, inside, 4.0 * length))
    return length


def _penalty(weights: Floats, ridge: float, lasso: float, separable: bool) -> Floats:
    """(c,) the penalty of each label, or (1,) of all."""
    terms = weights[:-1]
    each = 0.5 * ridge * np.einsum("ij,ij->j", terms, terms)
    if lasso:
        each += lasso * np.abs(terms).sum(axis=0)
    return each if separable else np.array([each.sum()])
