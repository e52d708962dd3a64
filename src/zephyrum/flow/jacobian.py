"""The linearised residual: a Jacobian block for each side of each face, the exact product J v, the compact matrix.

The blocks are derivatives of the face flux with respect to the two face states, by forward differences of the flux
itself, kept in single precision. The exact second-order product lets v take the same road as the state: gradient,
limited rise to the face, blocks, sum. The compact matrix takes the blocks as if the face states were the cell states;
it has the nearest neighbours only and serves the preconditioner.
Verified by tests/test_flow.py (J v against differences of the residual).
"""

import numpy as np

from zephyrum.flow.boundary import boundary_flux
from zephyrum.flow.gas import conserved_jacobian
from zephyrum.flow.gradient import gradient
from zephyrum.flow.kernels import parallel, prange, serial
from zephyrum.flow.lanes import (
    ALONG_L,
    ALONG_R,
    FLUX,
    LANES,
    NORMAL,
    OWN_L,
    OWN_R,
    REACH_L,
    REACH_R,
    SAFE_L,
    SAFE_R,
    SHARE_L,
    SHARE_R,
    SIZE,
    STATE_L,
    STATE_R,
    WEIGHT,
    fluxes,
    gather,
    reconstruct,
    upwind_pressure,
)
from zephyrum.flow.limiter import limit_weight, van_albada
from zephyrum.flow.residual import Residual, edge_slope, edge_state

DIFFERENCE = 1e-7


@parallel
def interior_jacobians(
    q, g, left, right, normal, area, to_left, to_right, apart, share, kappa, slope, mode, eps, gamma, axes, dims,
    blocks, limited, bend, sway, reach, speed
):  # fmt: skip
    """Blocks (nf, 2, nb, nb) = area dF/d(left, right state); wave speed times area (nf,) of every interior face.

    `limited` (ni,) marks faces where the limiter acts (or the rise was refused); bend (ni, 2, 3, nb) holds there the
    factors of (g.r, g.d, jump) in the rise of each side. Where the limiter is fading in, its weight changes too:
    sway (ni, 2 nb + 2) are the weight's derivatives to the left and right states and the two upwind pressure
    differences, reach (ni, 2, nb) the derivative of each rise to the weight.
    """
    ni, nb = len(right), len(dims)
    for block in prange((ni + LANES - 1) // LANES):
        low = np.int64(block) * LANES
        many = min(LANES, ni - low)
        s = np.zeros(SIZE)
        base = np.empty(5 * LANES)
        gather(s, low, q, g, left, right, normal, area, to_left, to_right, apart, share, dims)
        reconstruct(s, kappa, slope, mode, eps, gamma, dims)
        for col in range(-1, 2 * nb):
            j, side = col % nb, col // nb
            fluxes(s, DIFFERENCE * (side == 0), DIFFERENCE * (side == 1), axes[j], gamma)
            if col < 0:
                for k in range(5 * LANES):
                    base[k] = s[FLUX + k]
                continue
            for i in range(nb):
                row = axes[i] * LANES
                for k in range(many):
                    blocks[low + k, side, i, j] = (s[FLUX + row + k] - base[row + k]) / DIFFERENCE
        for k in range(many):
            f = low + k
            un = 0.0
            for i in range(3):
                row = (1 + i) * LANES + k
                un += 0.5 * (s[STATE_L + row] + s[STATE_R + row]) * s[NORMAL + i * LANES + k]
            heat = 0.5 * (s[STATE_L + 4 * LANES + k] + s[STATE_R + 4 * LANES + k])
            speed[f] = area[f] * (abs(un) + np.sqrt(heat))
            weight = s[WEIGHT + k]
            limited[f] = slope == 0.0 or weight > 0.0 or s[SAFE_L + k] == 0.0 or s[SAFE_R + k] == 0.0
            if limited[f]:
                for j in range(nb):
                    m = axes[j]
                    reach[f, 0, j] = _bend(
                        s,
                        k,
                        m,
                        REACH_L,
                        ALONG_L,
                        s[SHARE_L + k] * kappa,
                        weight,
                        eps[m],
                        slope * s[SAFE_L + k],
                        bend[f, 0],
                        j,
                    )
                    reach[f, 1, j] = _bend(
                        s,
                        k,
                        m,
                        REACH_R,
                        ALONG_R,
                        -s[SHARE_R + k] * kappa,
                        weight,
                        eps[m],
                        slope * s[SAFE_R + k],
                        bend[f, 1],
                        j,
                    )
                _sway(s, k, mode, gamma, axes, sway[f])


@serial
def _bend(s, k, m, towards, along, kappa, weight, eps, used, bend, j):
    """Derivatives of the limited rise of unknown m to (g.r, g.d, jump) into bend[:, j], to the weight as the result."""
    if used == 0.0:
        bend[0, j] = bend[1, j] = bend[2, j] = 0.0
        return 0.0
    row = m * LANES + k
    jump, gd = s[OWN_R + row] - s[OWN_L + row], s[along + row]
    up = s[towards + row] + kappa * (jump - gd)
    share, by_far, by_jump = van_albada(2.0 * gd - jump, jump, eps)
    keep = 1.0 - weight * (1.0 - share)
    bend[0, j] = keep
    bend[1, j] = -keep * kappa + weight * up * 2.0 * by_far
    bend[2, j] = keep * kappa + weight * up * (by_jump - by_far)
    return -(1.0 - share) * up


@serial
def _sway(s, k, mode, gamma, axes, out):
    """Derivatives of the limiter weight to the active unknowns of both cells and to the upwind pressure differences."""
    nb = len(axes)
    out[:] = 0.0
    if mode != 0 or s[WEIGHT + k] <= 0.0 or s[WEIGHT + k] >= 1.0:
        return
    far_l, far_r = upwind_pressure(s, k)
    state = np.empty(10)
    for i in range(5):
        state[i], state[5 + i] = s[OWN_L + i * LANES + k], s[OWN_R + i * LANES + k]
    for i in range(2 * nb + 2):
        if i < 2 * nb:
            at = axes[i % nb] + (5 if i >= nb else 0)
            state[at] += DIFFERENCE
        moved = limit_weight(
            mode, state[0], state[1], state[2], state[3], state[4], state[5], state[6], state[7], state[8], state[9],
            far_l + DIFFERENCE * (i == 2 * nb), far_r + DIFFERENCE * (i == 2 * nb + 1), gamma,
        )  # fmt: skip
        if i < 2 * nb:
            state[at] -= DIFFERENCE
        out[i] = (moved - s[WEIGHT + k]) / DIFFERENCE


@parallel
def boundary_jacobians(q, g, left, normal, area, to_left, code, outer, slope, gamma, axes, first, blocks, speed):
    """The same for the boundary faces, `first` being the number of the first one: blocks[:, 0] and speed."""
    nb = len(axes)
    for i in prange(len(code)):
        e = np.int64(i)
        f = first + e
        nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
        L = edge_state(q, g, left[f], f, to_left, edge_slope(code[e], slope), gamma)
        op, ou, ov, ow, ot = outer[e, 0], outer[e, 1], outer[e, 2], outer[e, 3], outer[e, 4]
        F = boundary_flux(code[e], L[0], L[1], L[2], L[3], L[4], op, ou, ov, ow, ot, nx, ny, nz, gamma)
        for j in range(nb):
            m, h = axes[j], DIFFERENCE
            G = boundary_flux(
                code[e], L[0] + h * (m == 0), L[1] + h * (m == 1), L[2] + h * (m == 2), L[3] + h * (m == 3), L[4] + h * (m == 4),
                op, ou, ov, ow, ot, nx, ny, nz, gamma,
            )  # fmt: skip
            for n in range(nb):
                blocks[f, 0, n, j] = area[f] * (G[axes[n]] - F[axes[n]]) / h
        speed[f] = area[f] * (abs(L[1] * nx + L[2] * ny + L[3] * nz) + np.sqrt(L[4]))


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
        self.dims = d.dims
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
        interior_jacobians(q, r.slopes, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.apart, d.share, kappa,
                           slope, mode, r.eps, r.gamma, d.axes, d.dims, self.blocks, self.limited, self.bend, self.sway,
                           self.reach, self.speed)  # fmt: skip
        boundary_jacobians(q, r.slopes, d.left, d.normal, d.area, d.to_left, d.code, r.outer, slope, r.gamma, d.axes,
                           d.mesh.n_interior, self.blocks, self.speed)  # fmt: skip

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
