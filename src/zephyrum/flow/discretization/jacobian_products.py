"""The exact product J v of the linearised residual: v takes the same road as the state, from blocks kept by `jacobian`.

Gradient, limited rise to the face, blocks, friction of the mean gradients, sum over the cell's faces.
Verified by tests/test_flow.py and tests/test_viscous.py (J v against differences of the residual).
"""

import numpy as np

from zephyrum._core.jit import parallel, prange, serial
from zephyrum.flow.physics.boundary_conditions import FARFIELD, IMPOSED, NO_SLIP
from zephyrum.flow.physics.turbulence import equation_count

FACE_BLOCK = 64  # faces that share one set of work arrays


@parallel
def face_products(
    v, gv, change, left, right, normal, to_left, to_right, vector_to_right, vector_to_left, fraction, wall_gradient_factor, code, kappa, gradients, model, blocks,
    viscous_jacobian, viscous_coefficients, closure_jacobian, limited, increment_jacobian, limiter_jacobian, weight_jacobian, dims, out
):  # fmt: skip
    """Change of every face's flux for a change v (n, nb) of the cells with gradient gv (n, nb, 3), into out (nf, nb).

    change (n, 2): that of the closure of SST (see `sources`).
    slopes (nb,): 1.0 for unknowns that are reconstructed at second order.
    """
    nb, ni = len(dims), len(right)
    for block in prange((len(left) + FACE_BLOCK - 1) // FACE_BLOCK):
        # changes of the two face states, and of the difference of the cells beyond what the gradients tell
        vl, vr, uncorrected_jump = (
            np.empty(nb, dtype=np.float32),
            np.empty(nb, dtype=np.float32),
            np.empty(nb, dtype=np.float32),
        )
        one = np.zeros((1, nb, 3), dtype=np.float32)
        for f in range(np.int64(block) * FACE_BLOCK, min(np.int64(block + 1) * FACE_BLOCK, len(left))):
            a = left[f]
            rx, ry, rz = np.float32(to_left[f, 0]), np.float32(to_left[f, 1]), np.float32(to_left[f, 2])
            if f >= ni:
                on = np.float32(0.0) if code[f - ni] == FARFIELD else np.float32(1.0)
                for k in range(nb):
                    vl[k] = v[a, k] + on * gradients[k] * (gv[a, k, 0] * rx + gv[a, k, 1] * ry + gv[a, k, 2] * rz)
                for m in range(nb):
                    total = np.float32(0.0)
                    for k in range(nb):
                        total += blocks[f, 0, m, k] * vl[k]
                        if len(model) > 0:
                            total += viscous_jacobian[f, m, k] * v[a, k]
                    out[f, m] = total
                if len(model) > 0 and (code[f - ni] == NO_SLIP or code[f - ni] == IMPOSED):
                    # what the cell's gradient has to do with the slopes at the face: see `boundary_gradients`
                    fitted = nb - 1 if len(model) > 2 else nb  # log(omega) has no wall value to be fitted
                    along = np.float32(1.0) if code[f - ni] == IMPOSED else np.float32(0.0)
                    for k in range(1, nb):
                        gn = np.float32(0.0)
                        for d in range(3):
                            gn += gv[a, k, d] * np.float32(normal[f, d])
                        for d in range(3):
                            n = np.float32(normal[f, d])
                            up = np.float32(wall_gradient_factor[f - ni]) * gn * n if k < fitted else np.float32(0.0)
                            one[0, k, d] = along * (gv[a, k, d] - gn * n) - up
                    _subtract_viscous_product(
                        one, 0, 0, f, normal, viscous_coefficients, nb, equation_count(model), out
                    )
                continue
            b = right[f]
            sx, sy, sz = np.float32(to_right[f, 0]), np.float32(to_right[f, 1]), np.float32(to_right[f, 2])
            dx, dy, dz = (
                np.float32(vector_to_right[f, 0]),
                np.float32(vector_to_right[f, 1]),
                np.float32(vector_to_right[f, 2]),
            )
            ex, ey, ez = (
                np.float32(vector_to_left[f, 0]),
                np.float32(vector_to_left[f, 1]),
                np.float32(vector_to_left[f, 2]),
            )
            kl, kr = np.float32(kappa * fraction[f, 0]), np.float32(kappa * fraction[f, 1])
            weight_change = np.float32(0.0)
            if limited[f] and len(limiter_jacobian) > 0:
                far_l = np.float32(2.0) * (gv[a, 0, 0] * dx + gv[a, 0, 1] * dy + gv[a, 0, 2] * dz) - v[b, 0] + v[a, 0]
                far_r = np.float32(2.0) * (gv[b, 0, 0] * ex + gv[b, 0, 1] * ey + gv[b, 0, 2] * ez) - v[b, 0] + v[a, 0]
                weight_change = limiter_jacobian[f, 2 * nb] * far_l + limiter_jacobian[f, 2 * nb + 1] * far_r
                for k in range(nb):
                    weight_change += limiter_jacobian[f, k] * v[a, k] + limiter_jacobian[f, nb + k] * v[b, k]
            for k in range(nb):
                jump = v[b, k] - v[a, k]
                gr_l = gv[a, k, 0] * rx + gv[a, k, 1] * ry + gv[a, k, 2] * rz
                gd_l = gv[a, k, 0] * dx + gv[a, k, 1] * dy + gv[a, k, 2] * dz
                gr_r = gv[b, k, 0] * sx + gv[b, k, 1] * sy + gv[b, k, 2] * sz
                gd_r = gv[b, k, 0] * ex + gv[b, k, 1] * ey + gv[b, k, 2] * ez
                if limited[f]:
                    increment_l = (
                        increment_jacobian[f, 0, 0, k] * gr_l
                        + increment_jacobian[f, 0, 1, k] * gd_l
                        + increment_jacobian[f, 0, 2, k] * jump
                    )
                    increment_r = (
                        increment_jacobian[f, 1, 0, k] * gr_r
                        + increment_jacobian[f, 1, 1, k] * gd_r
                        + increment_jacobian[f, 1, 2, k] * jump
                    )
                    vl[k], vr[k] = v[a, k] + increment_l, v[b, k] + increment_r
                    if len(limiter_jacobian) > 0:
                        vl[k] += weight_jacobian[f, 0, k] * weight_change
                        vr[k] += weight_jacobian[f, 1, k] * weight_change
                else:
                    vl[k] = v[a, k] + gradients[k] * (gr_l + kl * (jump - gd_l))
                    vr[k] = v[b, k] + gradients[k] * (gr_r - kr * (jump - gd_r))
                uncorrected_jump[k] = jump - np.float32(0.5) * (gd_l + gd_r)
            for m in range(nb):
                total = np.float32(0.0)
                for k in range(nb):
                    total += blocks[f, 0, m, k] * vl[k] + blocks[f, 1, m, k] * vr[k]
                    if len(model) > 0:
                        total -= viscous_jacobian[f, m, k] * uncorrected_jump[k]
                if len(model) > 2:
                    for t in range(2):
                        total += closure_jacobian[f, t, m] * (change[a, t] + change[b, t])
                out[f, m] = total
            if len(model) > 0:
                _subtract_viscous_product(gv, a, b, f, normal, viscous_coefficients, nb, equation_count(model), out)


@serial
def _subtract_viscous_product(gv, a, b, f, normal, viscous_coefficients, nb, nt, out):
    """Take the friction of the mean of two gradients off out[f]."""
    half = np.float32(0.5)
    nv = nb - 2 - nt
    two = nv == 2
    n0, n1, n2 = np.float32(normal[f, 0]), np.float32(normal[f, 1]), np.float32(normal[f, 2])
    bulk = np.float32(0.0)
    for i in range(nv):
        d = 2 * i if two else i
        bulk += half * (gv[a, 1 + i, d] + gv[b, 1 + i, d])
    bulk *= np.float32(2.0 / 3.0)
    work = np.float32(0.0)
    for i in range(nv):
        d = 2 * i if two else i
        total = half * (
            (gv[a, 1 + i, 0] + gv[b, 1 + i, 0]) * n0
            + (gv[a, 1 + i, 1] + gv[b, 1 + i, 1]) * n1
            + (gv[a, 1 + i, 2] + gv[b, 1 + i, 2]) * n2
        )
        for j in range(nv):
            e = 2 * j if two else j
            total += half * (gv[a, 1 + j, d] + gv[b, 1 + j, d]) * np.float32(normal[f, e])
        total -= bulk * np.float32(normal[f, d])
        total *= viscous_coefficients[f, 0]
        out[f, 1 + i] -= total
        work += viscous_coefficients[f, 4 + i] * total
    for j in range(1 + nv, nb):
        flow = half * (
            (gv[a, j, 0] + gv[b, j, 0]) * n0 + (gv[a, j, 1] + gv[b, j, 1]) * n1 + (gv[a, j, 2] + gv[b, j, 2]) * n2
        )
        out[f, j] -= viscous_coefficients[f, j - nv] * flow
    out[f, 1 + nv] -= work


@parallel
def sum_face_products(flux, start, faces, sign, inertia, v, gv, by_state, by_slope, rows, dims, out):
    """out (n, nb) = rows * (signed sum of face products + inertia block times v - change of the sources)."""
    nb = len(dims)
    for i in prange(len(out)):
        c = np.int64(i)
        for k in range(nb):
            total = np.float32(0.0)
            for m in range(nb):
                total += inertia[c, k, m] * v[c, m]
            for e in range(start[c], start[c + 1]):
                total += np.float32(sign[e]) * flux[faces[e], k]
            t = k - (nb - by_state.shape[1])
            if t >= 0:
                for m in range(nb):
                    total -= by_state[c, t, m] * v[c, m]
                    for d in range(3):
                        total -= by_slope[c, t, m, d] * gv[c, m, d]
            out[c, k] = rows[c, k] * total
