"""The linearised residual: a Jacobian block for each side of each face, the exact product J v, the compact matrix.

The blocks are derivatives of the face flux with respect to the two face states, by forward differences of the flux
itself, kept in single precision. The exact second-order product lets v take the same road as the state: gradient,
limited rise to the face, blocks, sum. The compact matrix takes the blocks as if the face states were the cell states;
it has the nearest neighbours only and serves the preconditioner.
Verified by tests/test_flow.py (J v against differences of the residual).
"""

import numpy as np

from zephyrum.flow.boundary import boundary_flux
from zephyrum.flow.flux import roe_flux
from zephyrum.flow.gas import conserved_jacobian
from zephyrum.flow.gradient import gradient
from zephyrum.flow.kernels import parallel, prange, serial
from zephyrum.flow.limiter import limit_weight, van_albada
from zephyrum.flow.residual import Residual, edge_slope, edge_state, face_states, face_weight, upwind_pressure

DIFFERENCE = 1e-7
DIMS = {4: (0, 0, 0, 0), 5: (0, 0, 0, 0, 0)}  # a tuple's length is known to the compiler: block loops unroll


@parallel
def face_jacobians(
    q, g, left, right, normal, area, to_left, to_right, apart, share, code, outer, kappa, slope, mode, eps, gamma,
    axes, blocks, limited, bend, sway, reach, speed
):  # fmt: skip
    """Blocks (nf, 2, nb, nb) = area dF/d(left, right state); wave speed times area (nf,) of every face.

    `limited` (ni,) marks faces where the limiter acts (or the rise was refused); bend (ni, 2, 3, nb) holds there the
    factors of (g.r, g.d, jump) in the rise of each side. Where the limiter is fading in, its weight changes too:
    sway (ni, 2 nb + 2) are the weight's derivatives to the left and right states and the two upwind pressure
    differences, reach (ni, 2, nb) the derivative of each rise to the weight.
    """
    ni, nb = len(right), len(axes)
    for i in prange(len(left)):
        f = np.int64(i)
        nx, ny, nz, s = normal[f, 0], normal[f, 1], normal[f, 2], area[f]
        a = left[f]
        if f < ni:
            b = right[f]
            weight = face_weight(q, g, a, b, apart, f, mode, gamma) if slope != 0.0 else 0.0
            L, R = face_states(q, g, a, b, f, to_left, to_right, apart, share, kappa, slope, weight, eps, gamma)
            F = roe_flux(L[0], L[1], L[2], L[3], L[4], R[0], R[1], R[2], R[3], R[4], nx, ny, nz, gamma)
            for col in range(2 * nb):
                k = axes[col % nb]
                hl = DIFFERENCE if col < nb else 0.0
                hr = DIFFERENCE - hl
                G = roe_flux(
                    L[0] + hl * (k == 0), L[1] + hl * (k == 1), L[2] + hl * (k == 2), L[3] + hl * (k == 3), L[4] + hl * (k == 4),
                    R[0] + hr * (k == 0), R[1] + hr * (k == 1), R[2] + hr * (k == 2), R[3] + hr * (k == 3), R[4] + hr * (k == 4),
                    nx, ny, nz, gamma,
                )  # fmt: skip
                c = s / DIFFERENCE
                j = col % nb
                side = col // nb
                blocks[f, side, 0, j] = (G[0] - F[0]) * c
                blocks[f, side, 1, j] = (G[1] - F[1]) * c
                if nb == 5:
                    blocks[f, side, 2, j] = (G[2] - F[2]) * c
                blocks[f, side, nb - 2, j] = (G[3] - F[3]) * c
                blocks[f, side, nb - 1, j] = (G[4] - F[4]) * c
            un = 0.5 * ((L[1] + R[1]) * nx + (L[2] + R[2]) * ny + (L[3] + R[3]) * nz)
            speed[f] = s * (abs(un) + np.sqrt(0.5 * (L[4] + R[4])))
            refused_l = slope == 0.0 or (L[0] == q[a, 0] and L[1] == q[a, 1] and L[4] == q[a, 4])
            refused_r = slope == 0.0 or (R[0] == q[b, 0] and R[1] == q[b, 1] and R[4] == q[b, 4])
            limited[f] = weight > 0.0 or refused_l or refused_r
            if limited[f]:
                for j in range(nb):
                    k = axes[j]
                    reach[f, 0, j] = _bend(
                        q, g, a, b, k, 1.0, f, to_left, apart, share[f, 0], kappa, weight, eps[k], refused_l, bend, 0, j
                    )
                    reach[f, 1, j] = _bend(
                        q,
                        g,
                        b,
                        a,
                        k,
                        -1.0,
                        f,
                        to_right,
                        apart,
                        share[f, 1],
                        kappa,
                        weight,
                        eps[k],
                        refused_r,
                        bend,
                        1,
                        j,
                    )
                _sway(q, g, a, b, f, apart, mode, gamma, weight, axes, sway)
        else:
            e = f - ni
            L = edge_state(q, g, a, f, to_left, edge_slope(code[e], slope), gamma)
            op, ou, ov, ow, ot = outer[e, 0], outer[e, 1], outer[e, 2], outer[e, 3], outer[e, 4]
            F = boundary_flux(code[e], L[0], L[1], L[2], L[3], L[4], op, ou, ov, ow, ot, nx, ny, nz, gamma)
            for j in range(nb):
                k = axes[j]
                h = DIFFERENCE
                G = boundary_flux(
                    code[e], L[0] + h * (k == 0), L[1] + h * (k == 1), L[2] + h * (k == 2), L[3] + h * (k == 3), L[4] + h * (k == 4),
                    op, ou, ov, ow, ot, nx, ny, nz, gamma,
                )  # fmt: skip
                c = s / h
                blocks[f, 0, 0, j] = (G[0] - F[0]) * c
                blocks[f, 0, 1, j] = (G[1] - F[1]) * c
                if nb == 5:
                    blocks[f, 0, 2, j] = (G[2] - F[2]) * c
                blocks[f, 0, nb - 2, j] = (G[3] - F[3]) * c
                blocks[f, 0, nb - 1, j] = (G[4] - F[4]) * c
            speed[f] = s * (abs(L[1] * nx + L[2] * ny + L[3] * nz) + np.sqrt(L[4]))


@serial
def _bend(q, g, own, other, k, towards, f, to_face, apart, share, kappa, weight, eps, refused, bend, side, j):
    """Derivative of the rise of variable k: factors of (g.r, g.d, jump), the last two along `apart`."""
    if refused:
        bend[f, side, 0, j] = bend[f, side, 1, j] = bend[f, side, 2, j] = 0.0
        return 0.0
    jump = q[other, k] - q[own, k]
    gd = towards * (g[own, k, 0] * apart[f, 0] + g[own, k, 1] * apart[f, 1] + g[own, k, 2] * apart[f, 2])
    up = (
        g[own, k, 0] * to_face[f, 0]
        + g[own, k, 1] * to_face[f, 1]
        + g[own, k, 2] * to_face[f, 2]
        + kappa * share * (jump - gd)
    )
    s, s_a, s_b = van_albada(2.0 * gd - jump, jump, eps)
    keep = 1.0 - weight * (1.0 - s)
    along = -keep * kappa * share + weight * up * 2.0 * s_a
    bend[f, side, 0, j] = keep
    bend[f, side, 1, j] = towards * along
    bend[f, side, 2, j] = towards * (keep * kappa * share + weight * up * (s_b - s_a))
    return -(1.0 - s) * up


@serial
def _sway(q, g, a, b, f, apart, mode, gamma, weight, axes, out):
    """Derivatives of the limiter weight to the active unknowns of both cells and to the upwind pressure differences."""
    nb = len(axes)
    for i in range(2 * nb + 2):
        out[f, i] = 0.0
    if mode != 0 or weight <= 0.0 or weight >= 1.0:
        return
    far_a, far_b = upwind_pressure(q, g, a, b, apart, f)
    for i in range(2 * nb + 2):
        k = axes[i % nb] if i < 2 * nb else -1
        hl = DIFFERENCE if i < nb else 0.0
        hr = DIFFERENCE if nb <= i < 2 * nb else 0.0
        moved = limit_weight(
            mode, q[a, 0] + hl * (k == 0), q[a, 1] + hl * (k == 1), q[a, 2] + hl * (k == 2), q[a, 3] + hl * (k == 3), q[a, 4] + hl * (k == 4),
            q[b, 0] + hr * (k == 0), q[b, 1] + hr * (k == 1), q[b, 2] + hr * (k == 2), q[b, 3] + hr * (k == 3), q[b, 4] + hr * (k == 4),
            far_a + DIFFERENCE * (i == 2 * nb), far_b + DIFFERENCE * (i == 2 * nb + 1), gamma,
        )  # fmt: skip
        out[f, i] = (moved - weight) / DIFFERENCE


@parallel
def face_products(
    v,
    gv,
    left,
    right,
    to_left,
    to_right,
    apart,
    share,
    code,
    kappa,
    slope,
    blocks,
    limited,
    bend,
    sway,
    reach,
    dims,
    out,
):
    """Change of every face's flux for a change v (n, nb) of the cells with gradient gv (n, nb, 3), into out (nf, nb)."""
    nb = len(dims)
    ni = len(right)
    for i in prange(len(left)):
        f = np.int64(i)
        a = left[f]
        rx, ry, rz = np.float32(to_left[f, 0]), np.float32(to_left[f, 1]), np.float32(to_left[f, 2])
        for m in range(nb):
            out[f, m] = np.float32(0.0)
        if f < ni:
            b = right[f]
            sx, sy, sz = np.float32(to_right[f, 0]), np.float32(to_right[f, 1]), np.float32(to_right[f, 2])
            dx, dy, dz = np.float32(apart[f, 0]), np.float32(apart[f, 1]), np.float32(apart[f, 2])
            kl, kr = np.float32(kappa * share[f, 0]), np.float32(kappa * share[f, 1])
            second = np.float32(slope)
            drift = np.float32(0.0)
            if limited[f]:
                far_l = np.float32(2.0) * (gv[a, 0, 0] * dx + gv[a, 0, 1] * dy + gv[a, 0, 2] * dz) - v[b, 0] + v[a, 0]
                far_r = np.float32(2.0) * (gv[b, 0, 0] * dx + gv[b, 0, 1] * dy + gv[b, 0, 2] * dz) - v[b, 0] + v[a, 0]
                drift = sway[f, 2 * nb] * far_l + sway[f, 2 * nb + 1] * far_r
                for k in range(nb):
                    drift += sway[f, k] * v[a, k] + sway[f, nb + k] * v[b, k]
            for k in range(nb):
                jump = v[b, k] - v[a, k]
                gr_l = gv[a, k, 0] * rx + gv[a, k, 1] * ry + gv[a, k, 2] * rz
                gd_l = gv[a, k, 0] * dx + gv[a, k, 1] * dy + gv[a, k, 2] * dz
                gr_r = gv[b, k, 0] * sx + gv[b, k, 1] * sy + gv[b, k, 2] * sz
                gd_r = gv[b, k, 0] * dx + gv[b, k, 1] * dy + gv[b, k, 2] * dz
                if limited[f]:
                    vl = (
                        v[a, k]
                        + bend[f, 0, 0, k] * gr_l
                        + bend[f, 0, 1, k] * gd_l
                        + bend[f, 0, 2, k] * jump
                        + reach[f, 0, k] * drift
                    )
                    vr = (
                        v[b, k]
                        + bend[f, 1, 0, k] * gr_r
                        + bend[f, 1, 1, k] * gd_r
                        + bend[f, 1, 2, k] * jump
                        + reach[f, 1, k] * drift
                    )
                else:
                    vl = v[a, k] + second * (gr_l + kl * (jump - gd_l))
                    vr = v[b, k] + second * (gr_r - kr * (jump - gd_r))
                for m in range(nb):
                    out[f, m] += blocks[f, 0, m, k] * vl + blocks[f, 1, m, k] * vr
        else:
            second = np.float32(edge_slope(code[f - ni], slope))
            for k in range(nb):
                vl = v[a, k] + second * (gv[a, k, 0] * rx + gv[a, k, 1] * ry + gv[a, k, 2] * rz)
                for m in range(nb):
                    out[f, m] += blocks[f, 0, m, k] * vl


@parallel
def sum_products(flux, start, faces, sign, inertia, v, rows, dims, out):
    """out (n, nb) = rows * (signed sum of face products + inertia block times v)."""
    nb = len(dims)
    for i in prange(len(out)):
        c = np.int64(i)
        for k in range(nb):
            total = np.float32(0.0)
            for m in range(nb):
                total += inertia[c, k, m] * v[c, m]
            for e in range(start[c], start[c + 1]):
                total += np.float32(sign[e]) * flux[faces[e], k]
            out[c, k] = rows[c, k] * total


@parallel
def inertia_blocks(q, rate, axes, gamma, out):
    """Pseudo-time term: rate (n,) = volume / time step, times d(conserved)/d(unknowns), into out (n, nb, nb)."""
    nb = len(axes)
    for i in prange(len(q)):
        c = np.int64(i)
        full = np.empty((5, 5))
        conserved_jacobian(q[c, 0], q[c, 1], q[c, 2], q[c, 3], q[c, 4], gamma, full)
        for k in range(nb):
            for m in range(nb):
                out[c, k, m] = rate[c] * full[axes[k], axes[m]]


class Jacobian:
    """Linearisation of a `Residual` about a state, with its storage."""

    def __init__(self, residual: Residual):
        self.residual = residual
        d = residual.domain
        nf, ni, n, nb = d.mesh.n_faces, d.mesh.n_interior, d.mesh.n_cells, len(d.axes)
        self.dims = DIMS[nb]
        self.blocks = np.zeros((nf, 2, nb, nb), dtype=np.float32)
        self.limited = np.zeros(ni, dtype=np.bool_)
        self.bend = np.zeros((ni, 2, 3, nb), dtype=np.float32)
        self.sway = np.zeros((ni, 2 * nb + 2), dtype=np.float32)
        self.reach = np.zeros((ni, 2, nb), dtype=np.float32)
        self.speed = np.zeros(nf)
        self.inertia = np.zeros((n, nb, nb), dtype=np.float32)
        self.rows = np.ones((n, nb), dtype=np.float32)
        # the farfield's answer to lift: flux change of each boundary face per unit of lift, and lift per wall flux
        self.swirl: np.ndarray | None = None
        self.lift_row: np.ndarray | None = None
        self._weights = d.g_weight.astype(np.float32)
        self._gv = np.zeros((n, nb, 3), dtype=np.float32)
        self._flux = np.empty((nf, nb), dtype=np.float32)

    def linearise(self, q: np.ndarray) -> None:
        """Blocks and wave speeds at the state of the last call of the residual (whose gradients are used)."""
        r = self.residual
        d = r.domain
        kappa, mode, slope = r.scheme.numbers()
        face_jacobians(q, r.slopes, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.apart, d.share, d.code,
                       r.outer, kappa, slope, mode, r.eps, r.gamma, d.axes, self.blocks, self.limited, self.bend,
                       self.sway, self.reach, self.speed)  # fmt: skip

    def wave_sum(self) -> np.ndarray:
        """(n,) half the sum of wave speed times area over each cell's faces: volume over time step at CFL 1."""
        m = self.residual.domain.mesh
        total = np.bincount(m.left, self.speed, m.n_cells) + np.bincount(m.right, self.speed[: m.n_interior], m.n_cells)
        return 0.5 * total

    def set_inertia(self, q: np.ndarray, rate: np.ndarray) -> None:
        """Fix the pseudo-time term for volume / time step = `rate` (n,)."""
        inertia_blocks(q, rate, self.residual.domain.axes, self.residual.gamma, self.inertia)

    def product(self, v: np.ndarray, out: np.ndarray) -> None:
        """out (n, nb) = rows (inertia + dR/dq) v, single precision."""
        r = self.residual
        d = r.domain
        kappa, _, slope = r.scheme.numbers()
        if slope:
            gradient(v, d.g_start, d.g_cell, self._weights, self._gv)
        face_products(v, self._gv, d.left, d.right, d.to_left, d.to_right, d.apart, d.share, d.code, kappa, slope, self.blocks,
                      self.limited, self.bend, self.sway, self.reach, self.dims, self._flux)  # fmt: skip
        if self.swirl is not None and self.lift_row is not None:
            ni = d.mesh.n_interior
            self._flux[ni:] += self.swirl * np.float32(np.sum(self._flux[ni:] * self.lift_row))
        sum_products(self._flux, d.start, d.faces, d.sign, self.inertia, v, self.rows, self.dims, out)
