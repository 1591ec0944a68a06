"""The documents of a training as the optimiser sees them: in parts, each with its scores, of which it asks for sums.

Weights go out, sums over the documents of a part come back; a matrix in one piece is one part."""

from itertools import pairwise
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.losses import Columns, Loss, State
from upsort.core.classifiers.problem_arrays import Products, Singles
from upsort.core.matrices.partitioned import PartitionedMatrix, StatefulActors, SumTuple, as_partitioned


class PartitionState:
    """One part: its matrix, the loss of its documents, and where the search stands. What sets attributes is for
    `StatefulActors.update`.

    scores: (n, k) of the weights that the search is at. state: the derivatives there. change: (n, c) of the scores along a step.
    tried: (n, c) scores at the end of one."""

    def __init__(self, matrix: csr_array, loss: Loss, scale: Floats | None) -> None:
        self.products, self.loss = Products(matrix, scale), loss
        self.scores = self.tried = np.zeros((0, 0))
        self.state: State | None = None
        self.change: Floats | None = None

    def begin(self, weights: Floats) -> None:
        """Stand at these weights, (p + 1, k)."""
        self.scores = self.products.scores(weights)

    def gradient(self, columns: Columns) -> Floats:
        """(p + 1, c) the slopes of the loss of some labels here."""
        self.state = self.loss.state_at(self.scores[:, columns], columns)
        return self.products.sums(self.state.residuals, columns)

    def keep_columns(self, columns: Ints) -> None:
        """From here on the derivatives are those of fewer labels."""
        self.state = self.loss.state_at(self.scores[:, columns], columns)

    def diagonal(self, columns: Columns) -> Floats:
        """(p + 1, c) the diagonal of the second derivative."""
        assert self.state is not None
        return self.products.squared_sums(self.state.curvature_diagonal(), columns)

    def hessian_product(self, direction: Singles, columns: Columns) -> Singles:
        """(p + 1, c) the second derivative times a direction."""
        assert self.state is not None
        return self.products.fast_sums(self.state.hessian_product(self.products.fast_scores(direction, columns)), columns)

    def value(self, columns: Columns) -> Floats:
        """(c,) or (1,) the loss here."""
        return self.loss.values(self.scores[:, columns], columns)

    def prepare_step(self, step: Floats, columns: Columns) -> None:
        """Look along a step, (p + 1, c)."""
        self.state, self.change = None, self.products.scores(step, columns)

    def directional_derivative(self, columns: Columns, length: Floats) -> Floats:
        """(c,) the slope of the loss along the step, so far gone."""
        assert self.change is not None
        residuals = self.loss.state_at(self.scores[:, columns] + length * self.change, columns).residuals
        slopes: Floats = np.einsum("ij,ij->j", residuals, self.change)
        return slopes

    def loss_along_step(self, columns: Columns, length: Floats) -> Floats:
        """(c,) or (1,) the loss so far along the step."""
        assert self.change is not None
        self.tried = self.scores[:, columns] + length * self.change
        return self.loss.values(self.tried, columns)

    def loss_at(self, weights: Floats, columns: Columns) -> Floats:
        """(c,) or (1,) the loss at other weights of some labels, (p + 1, c)."""
        self.state = None
        self.tried = self.products.scores(weights, columns)
        return self.loss.values(self.tried, columns)

    def accept_step(self, labels: Ints, active: Bools) -> None:
        """Stand where was gone to. labels: (c,) whose those scores are; active: (c,) which of them move."""
        self.scores = self.scores.copy()
        self.scores[:, labels[active]] = self.tried[:, active]

    def gradient_at_zero(self, n_labels: int) -> Floats:
        """(p + 1, k) the slopes of the loss at zero weights."""
        return self.products.sums(self.loss.state_at(np.zeros((self.products.rows, n_labels)), slice(None)).residuals)

    def loss_of_weights(self, weights: Floats) -> Floats:
        """(k,) or (1,) the loss at other weights."""
        return self.loss.values(self.products.scores(weights), slice(None))

    def reset_scores(self, weights: Floats) -> None:
        """Stand at the scores that these weights give without their intercepts."""
        self.scores = self.products.scores(weights)
        self.scores -= weights[-1]

    def intercept_derivatives(self, intercepts: Floats) -> SumTuple:
        """The first and second derivative of the loss by intercepts, (k,), next to the scores."""
        return SumTuple(self.loss.intercept_derivatives(self.scores, intercepts))

    def intercept_gradient(self, intercepts: Floats) -> Floats:
        """(p + 1, k) the slopes of the loss with intercepts next to the scores."""
        return self.products.sums(self.loss.state_at(self.scores + intercepts, slice(None)).residuals)


class PartitionStates:
    """All parts. loss: of all documents together. width: terms and the intercept. nnz: values of the matrix."""

    def __init__(self, matrix: csr_array | PartitionedMatrix, loss: Loss, scale: Floats | None = None) -> None:
        self.loss, self.scale = loss, scale
        self.rows, self.width, self.nnz = int(matrix.shape[0]), int(matrix.shape[1]) + 1, int(matrix.nnz)
        partitioned = as_partitioned(matrix)
        self.executor, self.parts, starts = partitioned.executor, partitioned.parts, partitioned.starts.tolist()
        shared_scale = self.executor.put(scale)
        self.losses = [loss if len(self.parts) == 1 else loss.rows(slice(begin, end)) for begin, end in pairwise(starts)]
        self.actors = StatefulActors(
            [
                self.executor.submit(PartitionState, part, own, shared_scale)
                for part, own in zip(self.parts, self.losses, strict=True)
            ],
            self.executor,
        )

    def query(self, method: str, *given: Any) -> Any:
        """The sum of what a method of `PartitionState` gives that changes nothing."""
        return self.actors.query(method, *given)

    def update(self, method: str, *given: Any) -> Any:
        """The sum of what one gives that changes where the search stands."""
        return self.actors.update(method, *given)

    def update_quietly(self, method: str, *given: Any) -> None:
        """Change that without being reported anything."""
        self.actors.update_quietly(method, *given)

    def best_intercepts(self, start: Floats, enough: float) -> Floats:
        """(k,) the intercepts that are best next to the scores, see `PartitionState.reset_scores`. enough: the norm of their
        slopes to stop at."""

        def slopes(intercepts: Floats) -> tuple[Floats, Floats]:
            first, second = self.actors.query("intercept_derivatives", intercepts)
            return first, second

        return self.loss.best_intercepts(slopes, start, enough)
