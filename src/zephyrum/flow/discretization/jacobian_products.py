"""The exact product J v of the linearised residual, from the arrays kept by `jacobian`.

Gradient, limited increment to the face, blocks, viscous flux of the mean gradients, sum over the faces of each cell.
Verified by tests/test_flow.py and tests/test_viscous.py (J v against differences of the residual).
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import inner_inlined, inner_serial, parallel, prange
from zephyrum.flow.discretization.boundary_fluxes import boundary_order_factor
from zephyrum.flow.physics.boundary_conditions import IMPOSED, NO_SLIP
from zephyrum.flow.physics.turbulence import SST, equation_count

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import (
        Boundary,
        CellFaces,
        CellJacobian,
        Direction,
        Faces,
        JacobianArrays,
        SchemeNumbers,
    )


FACE_BLOCK = 64  # faces that share one set of work arrays


@parallel
def face_products(
    direction: "Direction",
    faces: "Faces",
    boundary: "Boundary",
    scheme: "SchemeNumbers",
    orders: np.ndarray,
    jacobian: "JacobianArrays",
    dims: tuple,
    out: np.ndarray,
):
    """Change of every face's flux for a direction.

    Parameters
    ----------
    direction : Direction
        Change of the cells, of their gradients and of the closure.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    scheme : SchemeNumbers
        Scheme.
    orders : (nb,) array
        1 for unknowns that are reconstructed at second order, else 0.
    jacobian : JacobianArrays
        Jacobians of the faces.
    dims : tuple
        As long as there are active unknowns: so the compiler knows their number and unrolls the loops over blocks.
    out : (nf, nb) array
        Written.
    """
    nb, ni, nf = len(dims), len(faces.right), len(out)
    for block in prange((nf + FACE_BLOCK - 1) // FACE_BLOCK):
        low, high = np.int64(block) * FACE_BLOCK, min(np.int64(block + 1) * FACE_BLOCK, nf)
        if low < ni:
            _interior_products(low, min(high, ni), direction, (faces, scheme, jacobian), orders, dims, out)
        vl, fixed = np.empty(nb, dtype=np.float32), np.zeros((1, nb, 3), dtype=np.float32)
        for f in range(max(low, ni), high):  # type: ignore[call-overload]
            _boundary_product(direction, f, faces, boundary, scheme, jacobian, (orders, vl, fixed, dims), out)


@inner_inlined
def _dot(g, c, k, r):
    """Gradient of unknown k of cell c times r (3)."""
    return g[c, k, 0] * r[0] + g[c, k, 1] * r[1] + g[c, k, 2] * r[2]


@inner_inlined
def _single(vectors, f):
    """Row f of vectors (n, 3) in single precision."""
    return np.float32(vectors[f, 0]), np.float32(vectors[f, 1]), np.float32(vectors[f, 2])


@inner_inlined
def _interior_products(low, high, direction, data, orders, dims, out):
    """`face_products` of the interior faces low to high."""
    faces, scheme, jacobian = data
    v, g, nb, nt = direction.v, direction.gradient, len(dims), equation_count(scheme.model)
    left, right, blocks, viscous = faces.left, faces.right, jacobian.blocks, jacobian.viscous_jacobian
    by_increment, by_weight, by_limiter = (
        jacobian.increment_jacobian,
        jacobian.weight_jacobian,
        jacobian.limiter_jacobian,
    )
    kappa, changing = np.float32(scheme.kappa), len(by_limiter) > 0
    # changes of the two face states, and of the difference of the cells beyond what the gradients give
    vl, vr, jumps = np.empty(nb, dtype=np.float32), np.empty(nb, dtype=np.float32), np.empty(nb, dtype=np.float32)
    for f in range(low, high):
        a, b = left[f], right[f]
        r, s = _single(faces.to_left, f), _single(faces.to_right, f)
        d, e = _single(faces.vector_to_right, f), _single(faces.vector_to_left, f)
        kl, kr = kappa * np.float32(faces.fraction[f, 0]), kappa * np.float32(faces.fraction[f, 1])
        limited, change = jacobian.limited[f], np.float32(0.0)
        if limited and changing:
            step = v[a, 0] - v[b, 0]
            change = by_limiter[f, 2 * nb] * (np.float32(2.0) * _dot(g, a, 0, d) + step)
            change += by_limiter[f, 2 * nb + 1] * (np.float32(2.0) * _dot(g, b, 0, e) + step)
            for k in range(nb):
                change += by_limiter[f, k] * v[a, k] + by_limiter[f, nb + k] * v[b, k]
        for k in range(nb):
            jump = v[b, k] - v[a, k]
            gr_l, gd_l = _dot(g, a, k, r), _dot(g, a, k, d)
            gr_r, gd_r = _dot(g, b, k, s), _dot(g, b, k, e)
            if limited:
                up_l = by_increment[f, 0, 0, k] * gr_l + by_increment[f, 0, 1, k] * gd_l
                up_r = by_increment[f, 1, 0, k] * gr_r + by_increment[f, 1, 1, k] * gd_r
                vl[k] = v[a, k] + up_l + by_increment[f, 0, 2, k] * jump
                vr[k] = v[b, k] + up_r + by_increment[f, 1, 2, k] * jump
                if changing:
                    vl[k] += by_weight[f, 0, k] * change
                    vr[k] += by_weight[f, 1, k] * change
            else:
                vl[k] = v[a, k] + orders[k] * (gr_l + kl * (jump - gd_l))
                vr[k] = v[b, k] + orders[k] * (gr_r - kr * (jump - gd_r))
            if len(viscous) > 0:
                jumps[k] = jump - np.float32(0.5) * (gd_l + gd_r)
        for m in range(nb):
            total = np.float32(0.0)
            for k in range(nb):
                total += blocks[f, 0, m, k] * vl[k] + blocks[f, 1, m, k] * vr[k]
            out[f, m] = total
        if len(viscous) > 0:
            for m in range(nb):
                total = np.float32(0.0)
                for k in range(nb):
                    total -= viscous[f, m, k] * jumps[k]
                out[f, m] += total
            _subtract_viscous_product(g, (a, b), f, faces.normal, jacobian, nt, dims, out)
        if len(jacobian.closure_jacobian) > 0:
            for t in range(2):
                mean = direction.closure[a, t] + direction.closure[b, t]
                for m in range(nb):
                    out[f, m] += jacobian.closure_jacobian[f, t, m] * mean


@inner_serial
def _boundary_product(direction, f, faces, boundary, scheme, jacobian, work, out):
    """Change of the flux of boundary face f into out[f]."""
    orders, vl, fixed, dims = work
    v, g, nb = direction.v, direction.gradient, len(dims)
    a, e = faces.left[f], f - boundary.first
    code, r = boundary.code[e], _single(faces.to_left, f)
    for k in range(nb):
        vl[k] = v[a, k] + np.float32(boundary_order_factor(code, orders[k])) * _dot(g, a, k, r)
    row = boundary.wall_row[e]
    if row >= 0:  # see `wall_pressure_rise`
        normal, slopes = _single(boundary.wall_normal, row), jacobian.wall_slope_jacobian
        rise = -_dot(g, a, 0, normal)
        for k in range(nb):
            rise += slopes[row, k] * v[a, k]
        height = r[0] * normal[0] + r[1] * normal[1] + r[2] * normal[2]
        vl[0] += np.float32(0.5) * orders[0] * height * rise
    for m in range(nb):
        total = np.float32(0.0)
        for k in range(nb):
            total += jacobian.blocks[f, 0, m, k] * vl[k]
        if len(jacobian.viscous_jacobian) > 0:
            for k in range(nb):
                total += jacobian.viscous_jacobian[f, m, k] * v[a, k]
        out[f, m] = total
    if len(jacobian.viscous_jacobian) > 0 and code in (NO_SLIP, IMPOSED):
        # what the gradient of the cell has to do with the gradients at the face: see `boundary_gradients`
        fitted = nb - 1 if scheme.model == SST else nb  # log(omega) has no wall value to be fitted
        along = np.float32(1.0) if code == IMPOSED else np.float32(0.0)
        factor, normal = np.float32(boundary.wall_gradient_factor[e]), _single(faces.normal, f)
        for k in range(1, nb):
            gn = _dot(g, a, k, normal)
            up = factor * gn if k < fitted else np.float32(0.0)
            for d in range(3):
                fixed[0, k, d] = along * (g[a, k, d] - gn * normal[d]) - up * normal[d]
        only = np.int32(0), np.int32(0)  # literals would be compiled apart
        nt = equation_count(scheme.model)
        _subtract_viscous_product(fixed, only, f, faces.normal, jacobian, nt, dims, out)


@inner_inlined
def _subtract_viscous_product(g, cells, f, normals, jacobian, nt, dims, out):
    """Subtract the viscous flux of the mean of the gradients of two cells from out[f]; nt: turbulence equations."""
    a, b = cells
    half, c = np.float32(0.5), jacobian.viscous_coefficients
    nb = len(dims)
    nv = nb - 2 - nt
    two = nv == 2
    n = _single(normals, f)
    bulk = np.float32(0.0)
    for i in range(nv):
        d = 2 * i if two else i
        bulk += half * (g[a, 1 + i, d] + g[b, 1 + i, d])
    bulk *= np.float32(2.0 / 3.0)
    work = np.float32(0.0)
    for i in range(nv):
        d = 2 * i if two else i
        total = half * (_dot(g, a, 1 + i, n) + _dot(g, b, 1 + i, n))
        for j in range(nv):
            total += half * (g[a, 1 + j, d] + g[b, 1 + j, d]) * n[2 * j if two else j]
        total -= bulk * n[d]
        total *= c[f, 0]
        out[f, 1 + i] -= total
        work += c[f, 4 + i] * total
    for j in range(1 + nv, nb):
        out[f, j] -= c[f, j - nv] * half * (_dot(g, a, j, n) + _dot(g, b, j, n))
    out[f, 1 + nv] -= work


@parallel
def sum_face_products(
    flux: np.ndarray,
    faces: "CellFaces",
    cells: "CellJacobian",
    v: np.ndarray,
    gv: np.ndarray,
    dims: tuple,
    out: np.ndarray,
):
    """Sum of the face products of every cell with inertia and sources, times row_scale.

    Parameters
    ----------
    flux : (nf, nb) array
        Face products.
    faces : CellFaces
        Faces of each cell.
    cells : CellJacobian
        Jacobians of the cells.
    v : (n, nb) array
        Direction.
    gv : (n, nb, 3) array
        Its gradient.
    dims : tuple
        See `face_products`.
    out : (n, nb) array
        Written.
    """
    nb, nt = len(dims), cells.by_state.shape[1]
    for i in prange(len(out)):
        c = np.int64(i)
        first, last = faces.start[c], faces.start[c + 1]
        for k in range(nb):
            total = np.float32(0.0)
            for m in range(nb):
                total += cells.inertia[c, k, m] * v[c, m]
            for e in range(first, last):
                total += np.float32(faces.sign[e]) * flux[faces.faces[e], k]
            out[c, k] = total
        for t in range(nt):
            k, total = nb - nt + t, np.float32(0.0)
            for m in range(nb):
                total += cells.by_state[c, t, m] * v[c, m]
                for d in range(3):
                    total += cells.by_gradient[c, t, m, d] * gv[c, m, d]
            out[c, k] -= total
        for k in range(nb):
            out[c, k] *= cells.row_scale[c, k]
