"""Right-preconditioned GMRES without restart, in single precision.

Source: Saad and Schultz (1986), SIAM J. Sci. Stat. Comput. 7:856. The Newton iteration around it corrects what single
precision loses. Sums run over fixed chunks, so that the answer does not depend on the number of threads.
Verified by tests/test_flow.py against a dense solve.
"""

import numpy as np

from zephyrum._core.jit import chunked, prange
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.linear.block_ilu import Preconditioner

REDUCTION_CHUNK = 2048  # numbers of a vector worked on at once: they stay in the nearest cache


@chunked
def _project(basis, used, w, partial):
    """Dot products of the first `used` rows of basis with w, chunk by chunk into partial (chunks, used)."""
    for i in prange(len(partial)):
        c = np.int64(i)
        low, high = c * REDUCTION_CHUNK, min((c + 1) * REDUCTION_CHUNK, len(w))
        own = w[low:high]
        for j in range(used):
            one = basis[j, low:high]  # a slice: indices into the whole keep the loop out of the vector registers
            total = np.float32(0.0)
            for e in range(len(own)):
                total += one[e] * own[e]
            partial[c, j] = total


@chunked
def _subtract(basis, used, h, w, partial):
    """w -= h basis; the squared length of what is left goes chunk by chunk into partial[:, 0]."""
    for i in prange(len(partial)):
        c = np.int64(i)
        low, high = c * REDUCTION_CHUNK, min((c + 1) * REDUCTION_CHUNK, len(w))
        own = w[low:high]
        for j in range(used):
            one, factor = basis[j, low:high], h[j]
            for e in range(len(own)):
                own[e] -= factor * one[e]
        total = np.float32(0.0)
        for e in range(len(own)):
            total += own[e] * own[e]
        partial[c, 0] = total


def gmres(jacobian: Jacobian, preconditioner: Preconditioner, rhs: np.ndarray, tolerance: float, most: int):
    """Solve the linear system by GMRES without restart (Saad and Schultz 1986, SIAM J. Sci. Stat. Comput. 7:856).

    Parameters
    ----------
    jacobian : Jacobian
        Matrix.
    preconditioner : Preconditioner
        Right preconditioner.
    rhs : (n, nb) array
        Right-hand side, times row_scale.
    tolerance : float
        Relative residual to reach.
    most : int
        Largest number of Krylov vectors.

    Returns
    -------
    x : (n, nb) array
        Solution.
    iterations : int
    residual : float
        Relative residual reached.

    Notes
    -----
    Sums run over fixed chunks, so the answer does not depend on threads. x is not finite where the matrix is not.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.linear.block_ilu import Preconditioner
    >>> from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference))
    >>> problem.linearise(problem.evaluate(np.tile(problem.scales.freestream, (mesh.n_cells, 1))))
    >>> problem.jacobian.set_inertia(problem.jacobian.wave_sum() / 10.0)
    >>> preconditioner = Preconditioner(problem.domain)
    >>> preconditioner.update(problem.jacobian)
    >>> rhs = np.ones((mesh.n_cells, 4), dtype=np.float32)
    >>> change, vectors, left = gmres(problem.jacobian, preconditioner, rhs, 0.1, 30)
    >>> bool(left <= 0.1)
    True
    """
    shape = rhs.shape
    size = rhs.size
    beta = float(np.sqrt(np.sum(rhs.astype(np.float64) ** 2)))
    if beta == 0.0:
        return np.zeros(shape, dtype=np.float32), 0, 0.0
    basis = np.empty((most + 1, size), dtype=np.float32)
    basis[0] = rhs.ravel() / np.float32(beta)
    partial = np.empty((-(-size // REDUCTION_CHUNK), most + 1), dtype=np.float32)
    H = np.zeros((most + 1, most))
    cos, sin = np.zeros(most), np.zeros(most)
    right = np.zeros(most + 1)
    right[0] = beta
    z = np.empty(shape, dtype=np.float32)
    w = np.empty(shape, dtype=np.float32)
    flat = w.ravel()
    used = most
    for j in range(most):
        preconditioner.solve(basis[j].reshape(shape), z)
        jacobian.product(z, w)
        _project(basis, j + 1, flat, partial)
        h = partial[:, : j + 1].sum(axis=0, dtype=np.float64)
        _subtract(basis, j + 1, h.astype(np.float32), flat, partial)
        length = float(np.sqrt(partial[:, 0].sum(dtype=np.float64)))
        H[: j + 1, j] = h
        for k in range(j):
            H[k, j], H[k + 1, j] = cos[k] * H[k, j] + sin[k] * H[k + 1, j], -sin[k] * H[k, j] + cos[k] * H[k + 1, j]
        radius = np.hypot(H[j, j], length)
        if not np.isfinite(radius) or radius == 0.0:
            used = j
            break
        cos[j], sin[j] = H[j, j] / radius, length / radius
        H[j, j] = radius
        right[j + 1] = -sin[j] * right[j]
        right[j] = cos[j] * right[j]
        if abs(right[j + 1]) <= tolerance * beta or length == 0.0:
            used = j + 1
            break
        basis[j + 1] = flat / np.float32(length)
    if used == 0:
        return np.full(shape, np.nan, dtype=np.float32), 0, 1.0
    y = np.linalg.solve(np.triu(H[:used, :used]), right[:used])
    flat[:] = 0.0
    _subtract(basis, used, -y.astype(np.float32), flat, partial)
    x = np.empty(shape, dtype=np.float32)
    preconditioner.solve(w, x)
    return x, used, abs(right[used]) / beta
