"""Modes of small disturbances of a steady state: the eigenvalues of its exact Jacobian near given shifts.

Verified by tests/test_stability.py and validation/stability.py.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from threadpoolctl import threadpool_limits

from zephyrum.errors import FlowError, InputError
from zephyrum.flow.linear.shift_invert import EigenPairs, EigenvalueOptions, ShiftedOperator, eigenvalues_near
from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
from zephyrum.flow.nonlinear.flow_problem import FlowProblem

LARGEST_RESIDUAL = 1e-4  # of that of the undisturbed stream, below which states are taken for a steady solution
UNCERTAIN = 0.1  # error of the leading growth over it above which it is found again, from a shift so much beside it
SAME = 1.0  # distance of two eigenvalues over the sum of their errors below which they are the same
LEAST_DISTANCE = 1e-3  # and over their size


@dataclass(frozen=True, eq=False)
class SteadyModes:
    """Modes exp(lambda t) of the small disturbances of a steady state, in scaled time.

    Attributes
    ----------
    values : (k,) array of complex
        Eigenvalues lambda, fastest growing first.
    vectors : (k, n, m) array of complex64
        Disturbances of the unknowns; 0 where an unknown is not solved for.
    errors : (k,) array
        Estimated errors of the eigenvalues.
    krylov_vectors : int
        Of all linear solutions.
    missed : tuple of int
        Positions of the shifts near which no eigenvalue was found to the accuracy asked for.
    """

    values: np.ndarray
    vectors: np.ndarray
    errors: np.ndarray
    krylov_vectors: int
    missed: tuple[int, ...]


def steady_modes(
    problem: FlowProblem,
    q: np.ndarray,
    first_order_cells: np.ndarray,
    shifts: Sequence[complex],
    options: EigenvalueOptions,
    on_shift: Callable[[int, EigenPairs], None] | None = None,
) -> SteadyModes:
    """Modes of a steady state nearest to some shifts.

    Parameters
    ----------
    problem : FlowProblem
        With the numerics that the state was solved with.
    q : (n, m) array
        Steady state.
    first_order_cells : (n,) array of bool
        Cells of first order.
    shifts : sequence of complex
        In scaled time; of a pair of conjugate eigenvalues that with the positive imaginary part is found.
    options : EigenvalueOptions
    on_shift : callable, optional
        Receives the number of each shift and what was found there.

    Raises
    ------
    InputError
        q is no steady state.
    FlowError
        The linear systems have no finite solution.
    """
    level = DiscreteProblem(problem)
    level.demote_to_first_order(first_order_cells)
    now = level.evaluate(q)
    size = level.norm(now.R) / float(np.linalg.norm(level.start_norm))
    if not size <= LARGEST_RESIDUAL:
        raise InputError(
            f"the residual of the solution is {size:.2g} of that of the undisturbed stream: it is no steady state "
            "whose stability could be found; solve it until it converges, or follow it in time."
        )
    level.linearise(now)
    least = options.least_inertia * max(abs(shift) for shift in shifts)

    def near(shift: complex) -> EigenPairs:
        operator = ShiftedOperator(level.jacobian, level.preconditioner, shift, least)
        with threadpool_limits(1, "blas"):  # waiting threads of BLAS slow down those of the kernels 4 times
            return eigenvalues_near(operator, shift, options)

    found = []
    for k, shift in enumerate(shifts):
        found.append(near(shift))
        if on_shift is not None:
            on_shift(k, found[-1])
    missed = tuple(k for k, pairs in enumerate(found) if not pairs.accurate)
    if (beside := _shift_beside_uncertain(found, max(shift.real for shift in shifts))) is not None:
        found.append(near(beside))
    values = np.concatenate([pairs.values for pairs in found])
    if not np.isfinite(values).all():
        raise FlowError(
            "the linear systems of the eigenvalues have no finite solution; raise least_inertia of the options."
        )
    errors = np.concatenate([pairs.errors for pairs in found])
    vectors = np.concatenate([pairs.vectors for pairs in found])
    values, vectors = _upper_half(values, vectors)
    kept = _distinct(values, errors)
    full = np.zeros((len(kept), len(q), q.shape[1]), dtype=np.complex64)
    full[:, :, level.domain.axes] = vectors[kept]
    krylov = sum(pairs.krylov_vectors for pairs in found)
    return SteadyModes(values[kept], full, errors[kept], krylov, missed)


def _shift_beside_uncertain(found: list[EigenPairs], growth: float) -> complex | None:
    """Shift beside the leading eigenvalue, if its growth is not certain to a tenth; growth: that of the shifts."""
    accurate = [one for pairs in found if pairs.accurate for one in zip(pairs.values, pairs.errors, strict=True)]
    if not accurate:
        return None
    leading, error = max(accurate, key=lambda one: one[0].real)
    if error < UNCERTAIN * abs(leading.real):
        return None
    return leading + UNCERTAIN * growth


def _upper_half(values: np.ndarray, vectors: np.ndarray):
    """Of a pair of conjugate eigenvalues that with the positive imaginary part."""
    lower = values.imag < 0.0
    return np.where(lower, values.conj(), values), np.where(lower[:, None, None], vectors.conj(), vectors)


def _distinct(values: np.ndarray, errors: np.ndarray) -> list[int]:
    """Positions of different eigenvalues, fastest growing first; of equal ones that of the smallest error."""
    kept: list[int] = []
    for i in np.argsort(errors):
        near = [
            abs(values[i] - values[k]) < SAME * (errors[i] + errors[k]) + LEAST_DISTANCE * abs(values[k]) for k in kept
        ]
        if not any(near):
            kept.append(int(i))
    return sorted(kept, key=lambda k: -values[k].real)
