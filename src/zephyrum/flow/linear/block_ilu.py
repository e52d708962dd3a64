"""Block ILU(1) of the compact Jacobian, the preconditioner of one Newton step.

Source: Saad (2003), Iterative Methods for Sparse Linear Systems, ch. 10 (level-of-fill factorisation). Everything is
single precision: the Newton iteration around it corrects what is lost. Level 1 of fill takes a half to a third of the
iterations of level 0, level 2 gains nothing. The pieces of `order` are factorised and solved side by side. Verified by
tests/test_flow.py against a dense solve.
"""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_array, csr_array

from zephyrum._core.jit import inner_serial, parallel, prange, serial
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.linear.ordering import elimination_order


class Pattern(NamedTuple):
    """Sparsity pattern of the factors, rows in the order of elimination.

    Attributes
    ----------
    piece : (k,) array
        First rows of the pieces that are eliminated side by side; the last entry is that of the rows behind them.
    order : (n,) array
        Cell of each row.
    start : (n + 1,) array
        First entry of each row.
    columns : (nnz,) array
        Column of each entry.
    diagonal : (n,) array
        Entry of the diagonal.
    to_right, to_left : (ni,) arrays
        Entry of (left, right) and of (right, left) for each interior face.
    """

    piece: np.ndarray
    order: np.ndarray
    start: np.ndarray
    columns: np.ndarray
    diagonal: np.ndarray
    to_right: np.ndarray
    to_left: np.ndarray


class Factors(NamedTuple):
    """Blocks of the factors.

    Attributes
    ----------
    values : (nnz, nb, nb) array
    inverse : (n, nb, nb) array
        Inverse of the diagonal blocks.
    work : (n, nb) array
        Work array.
    """

    values: np.ndarray
    inverse: np.ndarray
    work: np.ndarray


@serial
def _set_fill(start, columns, mark, row_start, out):
    """Row starts and columns of ILU(1) for a pattern, each row unsorted; `mark` (n,) holds -1."""
    for i in range(len(start) - 1):
        used = row_start[i]
        for e in range(start[i], start[i + 1]):
            mark[columns[e]] = i
            out[used] = columns[e]
            used += 1
        for e in range(start[i], start[i + 1]):
            k = columns[e]
            if k >= i:
                continue
            for h in range(start[k], start[k + 1]):
                j = columns[h]
                if j > k and mark[j] != i:
                    mark[j] = i
                    out[used] = j
                    used += 1
        row_start[i + 1] = used


def _fill_pattern(start: np.ndarray, columns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Row starts and columns, each row unsorted, of ILU(1) for a pattern."""
    n = len(start) - 1
    most = len(columns) + int(np.diff(start)[columns].sum())  # room for every neighbour of a neighbour
    mark, row_start, out = np.full(n, -1, np.int32), np.zeros(n + 1, np.int32), np.empty(most, np.int32)
    _set_fill(start, columns, mark, row_start, out)
    return row_start, out[: row_start[-1]].copy()


@inner_serial
def _find_column(columns, low, high, value):
    while low < high:
        midpoint = (low + high) // 2
        if columns[midpoint] < value:
            low = midpoint + 1
        else:
            high = midpoint
    return low


@serial
def _entry_positions(start, columns, row, column):
    out = np.empty(len(row), dtype=np.int32)
    for e in range(len(row)):
        out[e] = _find_column(columns, start[row[e]], start[row[e] + 1], column[e])
    return out


@parallel
def _assemble(pattern, faces, blocks, viscous_jacobian, inertia, by_state, values):
    """Compact matrix into `values` (nnz, nb nb), row by row; every block as one row of nb nb numbers.

    faces: `CellFaces`; blocks (nf, 2, nb nb); viscous_jacobian (nf, nb nb); inertia (n, nb nb); by_state (n, nt nb) of
    the last nt equations.
    """
    size, n_interior = values.shape[1], len(pattern.to_right)
    first = size - by_state.shape[1]
    for i in prange(len(pattern.order)):
        row = np.int64(i)
        c, here = pattern.order[row], pattern.diagonal[row]
        for e in range(pattern.start[row], pattern.start[row + 1]):
            for k in range(size):
                values[e, k] = np.float32(0.0)
        for k in range(size):
            values[here, k] = inertia[c, k]
        for k in range(by_state.shape[1]):
            values[here, first + k] -= by_state[c, k]
        for e in range(faces.start[c], faces.start[c + 1]):
            f = faces.faces[e]
            there = here
            if faces.sign[e] > 0.0:
                for k in range(size):
                    values[here, k] += blocks[f, 0, k]
                if f < n_interior:
                    there = pattern.to_right[f]
                    for k in range(size):
                        values[there, k] += blocks[f, 1, k]
            else:
                there = pattern.to_left[f]
                for k in range(size):
                    values[here, k] -= blocks[f, 1, k]
                    values[there, k] -= blocks[f, 0, k]
            if len(viscous_jacobian) > 0:
                for k in range(size):
                    values[here, k] += viscous_jacobian[f, k]
                if f < n_interior:
                    for k in range(size):
                        values[there, k] -= viscous_jacobian[f, k]


@inner_serial
def _invert_block(values, e, dims, inverse, i):
    """inverse[i] = inverse of values[e], by Gauss-Jordan elimination without pivoting."""
    nb = len(dims)
    work = np.empty((nb, nb))
    for k in range(nb):
        for m in range(nb):
            work[k, m] = values[e, k, m]
    for p in range(nb):
        pivot = 1.0 / work[p, p]
        work[p, p] = 1.0
        for m in range(nb):
            work[p, m] *= pivot
        for k in range(nb):
            if k != p:
                factor = work[k, p]
                work[k, p] = 0.0
                for m in range(nb):
                    work[k, m] -= factor * work[p, m]
    for k in range(nb):
        for m in range(nb):
            inverse[i, k, m] = work[k, m]


@inner_serial
def _factor_rows(first, last, pattern, factors, dims):
    """Incomplete block LU of rows first to last in place; rows that they refer to are done."""
    nb, start, columns, diagonal = len(dims), pattern.start, pattern.columns, pattern.diagonal
    values, inverse = factors.values, factors.inverse
    where = np.full(len(diagonal), -1, dtype=np.int32)
    lower = np.empty((nb, nb), dtype=np.float32)
    for i in range(first, last):
        for e in range(start[i], start[i + 1]):
            where[columns[e]] = e
        for e in range(start[i], diagonal[i]):
            k = columns[e]
            for a in range(nb):
                for b in range(nb):
                    total = np.float32(0.0)
                    for c in range(nb):
                        total += values[e, a, c] * inverse[k, c, b]
                    lower[a, b] = total
            for a in range(nb):
                for b in range(nb):
                    values[e, a, b] = lower[a, b]
            for h in range(diagonal[k] + 1, start[k + 1]):
                t = where[columns[h]]
                if t >= 0:
                    for a in range(nb):
                        for b in range(nb):
                            total = values[t, a, b]
                            for c in range(nb):
                                total -= lower[a, c] * values[h, c, b]
                            values[t, a, b] = total
        for e in range(start[i], start[i + 1]):
            where[columns[e]] = -1
        _invert_block(values, diagonal[i], dims, inverse, i)


@parallel
def _factorize(pattern, factors, dims):
    """Incomplete block LU in place, the pieces side by side and then the rows behind them.

    The blocks and the inverses are left transposed: `_solve` then adds one column after the other in vector registers.
    """
    nb, n, pieces = len(dims), len(pattern.diagonal), len(pattern.piece) - 1
    for p in prange(pieces):
        _factor_rows(np.int64(pattern.piece[p]), np.int64(pattern.piece[p + 1]), pattern, factors, dims)
    _factor_rows(np.int64(pattern.piece[pieces]), n, pattern, factors, dims)
    for row in prange(n):
        i = np.int64(row)
        _transpose(factors.inverse, i, nb)
        for e in range(pattern.start[i], pattern.start[i + 1]):
            _transpose(factors.values, e, nb)


@inner_serial
def _transpose(blocks, i, nb):
    """Transpose block i in place."""
    for a in range(nb):
        for b in range(a):
            blocks[i, a, b], blocks[i, b, a] = blocks[i, b, a], blocks[i, a, b]


@inner_serial
def _forward(first, last, pattern, factors, x, scale, dims):
    """work = inverse(L) (x / scale) in rows first to last."""
    nb, order, start, columns, diagonal = len(dims), pattern.order, pattern.start, pattern.columns, pattern.diagonal
    values, work = factors.values, factors.work
    total = np.empty(nb, dtype=np.float32)
    for i in range(first, last):
        c = order[i]
        for a in range(nb):
            total[a] = x[c, a] / scale[c, a]
        for e in range(start[i], diagonal[i]):
            k = columns[e]
            for b in range(nb):
                w = work[k, b]
                for a in range(nb):
                    total[a] -= values[e, b, a] * w
        for a in range(nb):
            work[i, a] = total[a]


@inner_serial
def _backward(first, last, pattern, factors, dims, out):
    """out = inverse(U) work in rows last to first, work too."""
    nb, order, start, columns, diagonal = len(dims), pattern.order, pattern.start, pattern.columns, pattern.diagonal
    values, inverse, work = factors.values, factors.inverse, factors.work
    total, s = np.empty(nb, dtype=np.float32), np.empty(nb, dtype=np.float32)
    for back in range(last - first):
        i = last - 1 - back
        for a in range(nb):
            total[a] = work[i, a]
            s[a] = np.float32(0.0)
        for e in range(diagonal[i] + 1, start[i + 1]):
            k = columns[e]
            for b in range(nb):
                w = work[k, b]
                for a in range(nb):
                    total[a] -= values[e, b, a] * w
        c = order[i]
        for b in range(nb):
            w = total[b]
            for a in range(nb):
                s[a] += inverse[i, b, a] * w
        for a in range(nb):
            work[i, a] = out[c, a] = s[a]


@parallel
def _solve(pattern, factors, x, scale, dims, out):
    """out (n, nb) = inverse(LU) (x / scale), both in cell order; blocks as `_factorize` leaves them."""
    n, pieces = len(pattern.diagonal), len(pattern.piece) - 1
    behind = np.int64(pattern.piece[pieces])
    for p in prange(pieces):
        _forward(np.int64(pattern.piece[p]), np.int64(pattern.piece[p + 1]), pattern, factors, x, scale, dims)
    _forward(behind, n, pattern, factors, x, scale, dims)
    _backward(behind, n, pattern, factors, dims, out)
    for p in prange(pieces):
        _backward(np.int64(pattern.piece[p]), np.int64(pattern.piece[p + 1]), pattern, factors, dims, out)


class Preconditioner:
    """Block ILU(1) of the compact Jacobian of one domain; the pattern is found once, the values at every step.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference))
    >>> problem.linearise(problem.evaluate(np.tile(problem.scales.freestream, (mesh.n_cells, 1))))
    >>> problem.jacobian.set_inertia(problem.jacobian.wave_sum())
    >>> preconditioner = Preconditioner(problem.domain)
    >>> preconditioner.update(problem.jacobian)
    >>> x = np.ones((mesh.n_cells, 4), dtype=np.float32)
    >>> out = np.empty_like(x)
    >>> preconditioner.solve(x, out)
    >>> bool(np.isfinite(out).all())
    True
    """

    def __init__(self, domain: FaceData):
        mesh, nb = domain.mesh, len(domain.axes)
        n, ni = mesh.n_cells, mesh.n_interior
        self.domain, self.dims = domain, domain.dims
        order, piece = elimination_order(mesh)
        row = np.empty(n, dtype=np.int64)
        row[order] = np.arange(n)
        a, b = row[mesh.left[:ni]], row[mesh.right]
        rows = np.arange(n, dtype=np.int64)
        compact = coo_array((np.ones(2 * ni + n), (np.r_[a, b, rows], np.r_[b, a, rows])), shape=(n, n)).tocsr()
        compact.sum_duplicates()
        compact.sort_indices()
        filled = _fill_pattern(compact.indptr.astype(np.int32), compact.indices.astype(np.int32))
        filled = csr_array((np.ones(len(filled[1]), dtype=np.int8), filled[1], filled[0]), shape=(n, n))
        filled.sort_indices()  # sorted here: a sort inside a kernel takes seconds to compile
        start, columns = filled.indptr, filled.indices
        entries = [_entry_positions(start, columns, *at) for at in ((rows, rows), (a, b), (b, a))]
        self.pattern = Pattern(np.asarray(piece), order.astype(np.int32), start, columns, *entries)
        values, inverse = np.empty((len(columns), nb, nb), np.float32), np.empty((n, nb, nb), np.float32)
        self.factors = Factors(values, inverse, np.empty((n, nb), np.float32))
        self._row_scale = np.ones((n, nb), dtype=np.float32)

    def update(self, jacobian: Jacobian) -> None:
        """Assemble and factorise at the present linearisation.

        Parameters
        ----------
        jacobian : Jacobian
            Jacobian.
        """
        d, sources = self.domain, jacobian.sources
        self._row_scale = jacobian.row_scale
        made, values = jacobian.faces, self.factors.values
        size, n = values.shape[1] * values.shape[2], len(jacobian.inertia)
        by_state = sources.by_state.reshape(n, -1) if sources.by_state.size else np.zeros((n, 0), np.float32)
        _assemble(
            self.pattern,
            d.cells,
            made.blocks.reshape(-1, 2, size),
            made.viscous_jacobian.reshape(-1, size),
            jacobian.inertia.reshape(n, size),
            by_state,
            values.reshape(-1, size),
        )
        _factorize(self.pattern, self.factors, self.dims)

    def solve(self, x: np.ndarray, out: np.ndarray) -> None:
        """Apply the preconditioner: inverse(row_scale LU) x, in single precision.

        Parameters
        ----------
        x : (n, nb) array
            Vector.
        out : (n, nb) array
            Written.
        """
        _solve(self.pattern, self.factors, x, self._row_scale, self.dims, out)
