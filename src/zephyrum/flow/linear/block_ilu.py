"""Linear algebra of one Newton step: block ILU(1) of the compact matrix, and right-preconditioned GMRES.

Sources: Saad and Schultz (1986), SIAM J. Sci. Stat. Comput. 7:856 (GMRES); Saad (2003), Iterative Methods for Sparse
Linear Systems, ch. 10 (level-of-fill factorisation). Everything is single precision: the Newton iteration around it
corrects what is lost. Level 1 of fill takes a half to a third of the iterations of level 0, level 2 gains nothing.
The pieces of `order` are factorised and solved side by side.
Verified by tests/test_flow.py against a dense solve.
"""

import numpy as np
from scipy.sparse import coo_array, csr_array

from zephyrum._core.jit import chunked, parallel, prange, serial
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.linear.ordering import elimination_order

REDUCTION_CHUNK = 2048  # numbers of a vector worked on at once: they stay in the nearest cache


@serial
def _fill_pattern(start, columns):
    """Row starts and columns, each row unsorted, of ILU(1) for a pattern."""
    n = len(start) - 1
    mark = np.full(n, -1, dtype=np.int32)
    new_start = np.zeros(n + 1, dtype=np.int32)
    row = np.empty(n, dtype=np.int32)
    out = np.empty(max(16, 4 * len(columns)), dtype=np.int32)
    used = 0
    for i in range(n):
        count = 0
        for e in range(start[i], start[i + 1]):
            mark[columns[e]] = i
            row[count] = columns[e]
            count += 1
        for e in range(start[i], start[i + 1]):
            k = columns[e]
            if k >= i:
                continue
            for h in range(start[k], start[k + 1]):
                j = columns[h]
                if j > k and mark[j] != i:
                    mark[j] = i
                    row[count] = j
                    count += 1
        if used + count > len(out):
            grown = np.empty(2 * len(out) + count, dtype=np.int32)
            grown[:used] = out[:used]
            out = grown
        for h in range(count):
            out[used + h] = row[h]
        used += count
        new_start[i + 1] = used
    return new_start, out[:used].copy()


@serial
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
def _assemble(
    order, cell_start, faces, sign, n_interior, left, to_right, to_left, diagonal, start, blocks, viscous_jacobian, inertia,
    by_state, dims, values
):  # fmt: skip
    """Compact matrix into `values` (nnz, nb, nb), row by row; to_right, to_left: entry of (left, right), (right, left)."""
    nb = len(dims)
    for i in prange(len(order)):
        row = np.int64(i)
        c = order[row]
        for e in range(start[row], start[row + 1]):
            for k in range(nb):
                for m in range(nb):
                    values[e, k, m] = np.float32(0.0)
        here = diagonal[row]
        for k in range(nb):
            for m in range(nb):
                values[here, k, m] = inertia[c, k, m]
        for t in range(by_state.shape[1]):
            for m in range(nb):
                values[here, nb - by_state.shape[1] + t, m] -= by_state[c, t, m]
        for e in range(cell_start[c], cell_start[c + 1]):
            f = faces[e]
            there = here
            if sign[e] > 0.0:
                for k in range(nb):
                    for m in range(nb):
                        values[here, k, m] += blocks[f, 0, k, m]
                if f < n_interior:
                    there = to_right[f]
                    for k in range(nb):
                        for m in range(nb):
                            values[there, k, m] += blocks[f, 1, k, m]
            else:
                there = to_left[f]
                for k in range(nb):
                    for m in range(nb):
                        values[here, k, m] -= blocks[f, 1, k, m]
                        values[there, k, m] -= blocks[f, 0, k, m]
            if len(viscous_jacobian):
                for k in range(nb):
                    for m in range(nb):
                        values[here, k, m] += viscous_jacobian[f, k, m]
                        if f < n_interior:
                            values[there, k, m] -= viscous_jacobian[f, k, m]


@serial
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


@serial
def _factor_rows(first, last, start, columns, diagonal, values, inverse, dims):
    """Incomplete block LU of rows first to last in place; rows that they refer to are done."""
    nb = len(dims)
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
def _factorize(piece, start, columns, diagonal, values, inverse, dims):
    """Incomplete block LU in place, the pieces side by side and then the rows behind them; `inverse` (n, nb, nb) receives the inverted diagonal blocks.

    The blocks are left transposed, and so are the inverses: in `_solve` one column after the other is then added in vector registers.
    """
    nb, n = len(dims), len(diagonal)
    for p in prange(len(piece) - 1):
        _factor_rows(np.int64(piece[p]), np.int64(piece[p + 1]), start, columns, diagonal, values, inverse, dims)
    _factor_rows(np.int64(piece[-1]), n, start, columns, diagonal, values, inverse, dims)
    for row in prange(n):
        i = np.int64(row)
        for a in range(nb):
            for b in range(a):
                inverse[i, a, b], inverse[i, b, a] = inverse[i, b, a], inverse[i, a, b]
        for e in range(start[i], start[i + 1]):
            for a in range(nb):
                for b in range(a):
                    values[e, a, b], values[e, b, a] = values[e, b, a], values[e, a, b]


@serial
def _forward(first, last, order, start, columns, diagonal, values, x, scale, work, dims):
    """work = inverse(L) (x / scale) in rows first to last."""
    nb = len(dims)
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


@serial
def _backward(first, last, order, start, columns, diagonal, values, inverse, work, dims, out):
    """out = inverse(U) work in rows last to first, work too."""
    nb = len(dims)
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
def _solve(piece, order, start, columns, diagonal, values, inverse, x, scale, work, dims, out):
    """out (n, nb) = inverse(LU) (x / scale), both in cell order; `work` (n, nb) is in row order; blocks as `_factorize` leaves them."""
    n, behind = len(diagonal), np.int64(piece[-1])
    for p in prange(len(piece) - 1):
        _forward(
            np.int64(piece[p]), np.int64(piece[p + 1]), order, start, columns, diagonal, values, x, scale, work, dims
        )
    _forward(behind, n, order, start, columns, diagonal, values, x, scale, work, dims)
    _backward(behind, n, order, start, columns, diagonal, values, inverse, work, dims, out)
    for p in prange(len(piece) - 1):
        _backward(
            np.int64(piece[p]),
            np.int64(piece[p + 1]),
            order,
            start,
            columns,
            diagonal,
            values,
            inverse,
            work,
            dims,
            out,
        )


class Preconditioner:
    """Block ILU(1) of the compact Jacobian of one domain; the pattern is found once, the values at every step."""

    def __init__(self, domain: FaceData):
        mesh, nb = domain.mesh, len(domain.axes)
        n, ni = mesh.n_cells, mesh.n_interior
        self.domain, self.dims = domain, domain.dims
        order, self.piece = elimination_order(mesh)
        row = np.empty(n, dtype=np.int64)
        row[order] = np.arange(n)
        a, b = row[mesh.left[:ni]], row[mesh.right]
        pattern = coo_array(
            (np.ones(2 * len(a) + n), (np.r_[a, b, np.arange(n)], np.r_[b, a, np.arange(n)])), shape=(n, n)
        ).tocsr()
        pattern.sum_duplicates()
        pattern.sort_indices()
        filled = _fill_pattern(pattern.indptr.astype(np.int32), pattern.indices.astype(np.int32))
        pattern = csr_array((np.ones(len(filled[1]), dtype=np.int8), filled[1], filled[0]), shape=(n, n))
        pattern.sort_indices()  # sorted here: a sort inside a kernel takes seconds to compile
        self.start, self.columns = pattern.indptr, pattern.indices
        rows = np.arange(n, dtype=np.int64)
        self.diagonal = _entry_positions(self.start, self.columns, rows, rows)
        self._to_right = _entry_positions(self.start, self.columns, a, b)
        self._to_left = _entry_positions(self.start, self.columns, b, a)
        self.order = order.astype(np.int32)
        self.values = np.empty((len(self.columns), nb, nb), dtype=np.float32)
        self.inverse = np.empty((n, nb, nb), dtype=np.float32)
        self._work = np.empty((n, nb), dtype=np.float32)
        self._rows = np.ones((n, nb), dtype=np.float32)

    def update(self, jacobian: Jacobian) -> None:
        """Assemble and factorise at the present linearisation."""
        d = self.domain
        self._rows = jacobian.rows
        _assemble(self.order, d.start, d.faces, d.sign, d.mesh.n_interior, d.left, self._to_right, self._to_left, self.diagonal,
                  self.start, jacobian.blocks, jacobian.viscous_jacobian, jacobian.inertia, jacobian.by_state, self.dims, self.values)  # fmt: skip
        _factorize(self.piece, self.start, self.columns, self.diagonal, self.values, self.inverse, self.dims)

    def solve(self, x: np.ndarray, out: np.ndarray) -> None:
        """out = inverse(rows LU) x, for (n, nb) single precision."""
        _solve(
            self.piece,
            self.order,
            self.start,
            self.columns,
            self.diagonal,
            self.values,
            self.inverse,
            x,
            self._rows,
            self._work,
            self.dims,
            out,
        )


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
    """Solve rows (J) x = rhs approximately: x (n, nb), iterations, reached relative residual.

    No restart; stops at `most` vectors; x is not finite where the matrix is not. Its sums run over fixed chunks, so the answer does not depend on threads.
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
