"""Eigenvalues of the linearised flow nearest to a complex shift: shift-invert Arnoldi with an iterative solver.

A small disturbance v of a steady state obeys M dv/dt = -J v, with the exact Jacobian J of the residual and the mass
matrix M (volume times derivative of the conserved to the primitive unknowns). Its modes exp(lambda t) satisfy
-J v = lambda M v. Arnoldi's method (1951) with the operator inverse(J + s M) M finds those nearest to the shift s: an
eigenvalue mu of it is 1 / (s - lambda). Each product solves a linear system by GMRES in complex arithmetic, with the
real block ILU of the march at the inertia Re(s) + |Im(s)| as right preconditioner (a shifted operator without the
imaginary part; Erlangga 2008, Arch. Comput. Methods Eng. 15:37, gives the idea for waves).
Source: Natarajan and Acrivos (1993), J. Fluid Mech. 254:323, for flows; Saad (2011), Numerical Methods for Large
Eigenvalue Problems, ch. 8, for the method. Verified by tests/test_stability.py and validation/stability.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.flow.discretization.jacobian import Jacobian, pseudo_time_blocks
from zephyrum.flow.linear.block_ilu import Preconditioner


@dataclass(frozen=True)
class EigenvalueOptions:
    """How eigenvalues are found.

    Attributes
    ----------
    wanted : int
        Nearest eigenvalues that have to be found at each shift.
    max_vectors : int
        Arnoldi vectors at most. Behind a circle at Reynolds number 50 the leading one is found to 1e-4 of its distance
        from the shift with 5 vectors, the second to 2 % with 10.
    accuracy : float
        Error of an eigenvalue over its distance from the shift. The leading one is found again from a shift beside it
        where its error is more than a tenth of its growth.
    solver_tolerance : float
        Relative residual of each linear solution.
    max_krylov : int
        Krylov vectors of a linear solution at most; 120 were needed behind a circle (6,144 cells).
    least_inertia : float
        Least inertia of the preconditioner over the largest scale |s| of the shifts asked for [-]: without any, its
        factors of the steady operator are poor.

    Examples
    --------
    >>> EigenvalueOptions(wanted=3).max_vectors
    16
    """

    wanted: int = 1
    max_vectors: int = 16
    accuracy: float = 0.02
    solver_tolerance: float = 1e-4
    max_krylov: int = 250
    least_inertia: float = 0.1


@dataclass(frozen=True, eq=False)
class EigenPairs:
    """Eigenvalues nearest to a shift.

    Attributes
    ----------
    values : (k,) array of complex
        Nearest first.
    vectors : (k, n, nb) array of complex
        Active unknowns.
    errors : (k,) array
        Estimated errors of the values, from the residuals of Arnoldi's method and of the linear solutions.
    krylov_vectors : int
        Of all linear solutions.
    unsolved : float
        Largest relative residual of the linear solutions.
    accurate : bool
        Whether they were found to the accuracy asked for.
    """

    values: np.ndarray
    vectors: np.ndarray
    errors: np.ndarray
    krylov_vectors: int
    unsolved: float
    accurate: bool


class ShiftedOperator:
    """J + s M of a linearised flow, its preconditioner, and M, all with the rows scaled.

    Parameters
    ----------
    jacobian : Jacobian
        Linearised; its inertia is overwritten.
    preconditioner : Preconditioner
        Factorised here.
    shift : complex
        s.
    least_inertia : float
        Least inertia of the preconditioner, in the unit of the shift.
    """

    def __init__(self, jacobian: Jacobian, preconditioner: Preconditioner, shift: complex, least_inertia: float):
        self.jacobian, self.preconditioner = jacobian, preconditioner
        domain, state = jacobian.residual.domain, jacobian.state
        self.shape = jacobian.inertia.shape[:2]
        blocks = np.zeros_like(jacobian.inertia)
        pseudo_time_blocks(state.q, domain.volume, domain.axes, jacobian.residual.law.gamma, blocks)
        jacobian.set_inertia(domain.volume * max(shift.real + abs(shift.imag), least_inertia))
        preconditioner.update(jacobian)
        jacobian.set_inertia(domain.volume * shift.real)
        self._mass = blocks * jacobian.row_scale[:, :, None]
        self._imaginary = np.float32(shift.imag)
        self._out = np.empty(self.shape, dtype=np.float32)

    def mass(self, v: np.ndarray) -> np.ndarray:
        """M v for v (n, nb)."""
        return np.einsum("nij,nj->ni", self._mass, v)

    def product(self, z: np.ndarray) -> np.ndarray:
        """(J + s M) z for a flat complex vector z."""
        z = z.reshape(self.shape)
        turned = 1j * self._imaginary * self.mass(z)
        return (self._parts(self.jacobian.product, z) + turned).ravel()

    def precondition(self, z: np.ndarray) -> np.ndarray:
        """Preconditioner times a flat complex vector z."""
        return self._parts(self.preconditioner.solve, z.reshape(self.shape)).ravel()

    def _parts(self, operator, z: np.ndarray) -> np.ndarray:
        """A real operator on the real and the imaginary part."""
        out = np.empty(self.shape, dtype=np.complex64)
        operator(np.ascontiguousarray(z.real, dtype=np.float32), self._out)
        out.real = self._out
        operator(np.ascontiguousarray(z.imag, dtype=np.float32), self._out)
        out.imag = self._out
        return out


def complex_gmres(operator: ShiftedOperator, rhs: np.ndarray, tolerance: float, most: int):
    """Solve (J + s M) x = rhs by right-preconditioned GMRES without restart (Saad and Schultz 1986).

    Parameters
    ----------
    operator : ShiftedOperator
    rhs : (n,) array of complex
    tolerance : float
        Relative residual.
    most : int
        Krylov vectors at most.

    Returns
    -------
    x : (n,) array of complex64
    used : int
        Krylov vectors.
    residual : float
        Relative residual reached.
    """
    size = float(np.linalg.norm(rhs))
    basis = np.empty((most + 1, rhs.size), dtype=np.complex64)
    basis[0] = rhs / size
    H = np.zeros((most + 1, most), dtype=complex)
    y, left, used = np.zeros(0, dtype=complex), 1.0, 0
    for j in range(most):
        w = operator.product(operator.precondition(basis[j]))
        h = (basis[: j + 1] @ w.conj()).conj()
        w -= h @ basis[: j + 1]
        H[: j + 1, j], H[j + 1, j] = h, np.linalg.norm(w)
        if not np.isfinite(H[j + 1, j]):
            break
        used = j + 1
        if j % 5 == 4 or used == most or H[j + 1, j] == 0.0:
            first = np.zeros(used + 1, dtype=complex)
            first[0] = 1.0
            y = np.linalg.lstsq(H[: used + 1, :used], first, rcond=None)[0]
            left = float(np.linalg.norm(first - H[: used + 1, :used] @ y))
            if left <= tolerance or H[j + 1, j] == 0.0:
                break
        basis[j + 1] = w / H[j + 1, j].real
    return operator.precondition(size * (y.astype(np.complex64) @ basis[: len(y)])), used, left


def eigenvalues_near(operator: ShiftedOperator, shift: complex, options: EigenvalueOptions, seed: int = 0):
    """Eigenvalues of the linearised flow nearest to a shift.

    Parameters
    ----------
    operator : ShiftedOperator
        Made with the same shift.
    shift : complex
        s.
    options : EigenvalueOptions
    seed : int
        Of the random first vector.

    Returns
    -------
    EigenPairs
        Those that were found to `options.accuracy`, or the nearest one with its larger error: damped wakes have many
        modes close together, of which none stands out.
    """
    volume = operator.jacobian.residual.domain.volume
    weight = np.repeat(np.sqrt(volume), operator.shape[1])  # the inner product is an integral over the volume
    basis = np.empty((options.max_vectors + 1, weight.size), dtype=np.complex64)
    first = np.random.default_rng(seed).standard_normal(weight.size)
    basis[0] = first / np.linalg.norm(first)
    H = np.zeros((options.max_vectors + 1, options.max_vectors), dtype=complex)
    krylov, unsolved, used = 0, 0.0, 0
    for j in range(options.max_vectors):
        rhs = operator.mass((basis[j] / weight).reshape(operator.shape)).ravel()
        x, vectors, left = complex_gmres(operator, rhs, options.solver_tolerance, options.max_krylov)
        krylov, unsolved = krylov + vectors, max(unsolved, left)
        w = x * weight
        for _ in range(2):  # orthogonal to single precision
            h = (basis[: j + 1] @ w.conj()).conj()
            w = w - h @ basis[: j + 1]
            H[: j + 1, j] += h
        H[j + 1, j] = np.linalg.norm(w)
        basis[j + 1] = w / H[j + 1, j]
        used = j + 1
        mu, Y, error = _ritz_values(H, used)
        if used > options.wanted and np.sum(error[: options.wanted] < options.accuracy) == options.wanted:
            break
    good = np.flatnonzero(error < options.accuracy)
    if not len(good):  # the nearest as it is, with its large error
        good = np.arange(1)
    found = (Y[:, good].T @ basis[:used]) / weight
    values = shift - 1.0 / mu[good]
    errors = np.maximum(error[good], unsolved) * np.abs(values - shift)
    return EigenPairs(
        values, found.reshape(-1, *operator.shape), errors, krylov, unsolved, error[good[0]] < options.accuracy
    )


def _ritz_values(H: np.ndarray, used: int):
    """Eigenvalues of the Hessenberg matrix, largest first, their vectors and relative errors."""
    mu, Y = np.linalg.eig(H[:used, :used])
    order = np.argsort(-np.abs(mu))
    mu, Y = mu[order], Y[:, order]
    return mu, Y, np.abs(H[used, used - 1] * Y[-1]) / np.abs(mu)
