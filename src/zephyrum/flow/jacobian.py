"""The linearised residual: a Jacobian block for each side of each face; with `products` the exact product J v.

The blocks are derivatives of the face flux with respect to the two face states, by forward differences of the flux
itself, kept in single precision. The compact matrix of the preconditioner takes the blocks as if the face states were
the cell states, so that it has the nearest neighbours only.
Verified by tests/test_flow.py (J v against differences of the residual).
"""

import numpy as np

from zephyrum._core.jit import parallel, prange, serial
from zephyrum.flow.boundary import IMPOSED, NO_SLIP
from zephyrum.flow.gas import conserved_jacobian
from zephyrum.flow.lanes import (
    ACROSS,
    ALONG_L,
    ALONG_R,
    AREA,
    BLEND,
    FLOOR,
    FLUX,
    LANES,
    MOST,
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
    convect,
    gather,
    nudge,
    reconstruct,
    upwind_pressure,
)
from zephyrum.flow.limiter import limit_weight, van_albada
from zephyrum.flow.products import face_products, sum_products
from zephyrum.flow.residual import Residual, edge_flux, edge_friction, edge_unknowns
from zephyrum.flow.sources import DIFFERENCE, closure_products, source_jacobians
from zephyrum.flow.turbulence import added
from zephyrum.flow.viscous import coefficients, correct_slopes, diffuse, viscosity

GROWTH = 2.0  # inertia that turbulence gets for each unit of its growth: more than 1 so that the matrix stays positive
# CFL number above which that inertia fades as 1 / CFL. Production exceeds destruction in many cells of a steady solution: an inertia that
# stays caps the CFL number of k there. NACA 0012, SST, alpha 0 / 10 / 15 on 16k cells: 200 steps or stalled with it, 17 to 21 steps without.
FADING_CFL = 1e5
LEAN = 1e-4  # relative difference for derivatives to the closure


@serial
def _step(m):
    """Difference by which unknown m is moved: turbulence is counted in hundreds."""
    return DIFFERENCE if m < 5 else 1e3 * DIFFERENCE


@parallel
def interior_jacobians(
    q, g, closure, left, right, normal, area, to_left, to_right, ahead, back, share, kappa, slope, turbulent_slope, floor,
    eps, law, model, axes, blocks, stiff, loose, lean, limited, bend, sway, reach, speed
):  # fmt: skip
    """Blocks (nf, 2, nb, nb) = area dF/d(left, right state); wave speed times area (nf,) of every interior face.

    `limited` (ni,) marks faces where the limiter acts (or the rise was refused); bend (ni, 2, 3, nb) holds there the
    factors of (g.r, g.d, jump) in the rise of each side. Where the limiter is fading in, its weight changes too:
    sway (ni, 2 nb + 2) are the weight's derivatives to the left and right states and the two upwind pressure
    differences, reach (ni, 2, nb) the derivative of each rise to the weight; both are empty where the weight never changes.
    In viscous flow stiff (nf, nb, nb) is minus the derivative of the flux to the difference of the cell values, and
    loose (nf, 7) are area times (viscosity, conductivity, two diffusions of turbulence) and the velocity at the face.
    lean (ni, 2, nb) is half the derivative of the flux to the mean of the closure of SST (see `sources`).
    """
    ni, nb, nt = len(right), len(axes), added(model)
    for block in prange((ni + LANES - 1) // LANES):
        low = np.int64(block) * LANES
        many = min(LANES, ni - low)
        s = np.empty(SIZE)
        base = np.empty(MOST * LANES)
        gather(s, low, q, g, closure, left, right, normal, area, to_left, to_right, ahead, back, share, axes, model)
        reconstruct(s, kappa, slope, turbulent_slope, floor, eps, law.gamma, axes)
        if len(model) > 0:
            correct_slopes(s, axes)
        for col in range(-1, 2 * nb):
            j, side = col % nb, col // nb
            h = _step(axes[j])
            if col >= 0:
                nudge(s, axes[j], h * (side == 0), h * (side == 1))
            convect(s, nt, law.gamma)
            if len(model) > 0:
                diffuse(s, model, law)
            if col < 0:
                for k in range(MOST * LANES):
                    base[k] = s[FLUX + k]
                continue
            nudge(s, axes[j], -h * (side == 0), -h * (side == 1))
            for i in range(nb):
                row = axes[i] * LANES
                for k in range(many):
                    blocks[low + k, side, i, j] = (s[FLUX + row + k] - base[row + k]) / h
        if len(model) > 2:
            for t in range(2):
                row = FLOOR if t == 0 else BLEND
                for k in range(LANES):
                    s[row + k] += LEAN * (s[row + k] + LEAN)
                convect(s, nt, law.gamma)
                diffuse(s, model, law)
                for k in range(LANES):
                    s[row + k] = (s[row + k] - LEAN * LEAN) / (1.0 + LEAN)
                for k in range(many):
                    h = LEAN * (s[row + k] + LEAN)
                    for i in range(nb):
                        at = axes[i] * LANES + k
                        lean[low + k, t, i] = 0.5 * (s[FLUX + at] - base[at]) / h
        for k in range(many):
            f = low + k
            un = 0.0
            for i in range(3):
                row = (1 + i) * LANES + k
                un += 0.5 * (s[STATE_L + row] + s[STATE_R + row]) * s[NORMAL + i * LANES + k]
            heat = 0.5 * (s[STATE_L + 4 * LANES + k] + s[STATE_R + 4 * LANES + k])
            speed[f] = area[f] * (abs(un) + np.sqrt(heat))
            if len(model) > 0:
                _stiffen(s, k, axes, law, model, stiff[f], loose[f])
                rho = (1.0 + 0.5 * law.gamma * (s[STATE_L + k] + s[STATE_R + k])) / heat
                speed[f] += 2.0 * loose[f, 0] / (rho * s[ACROSS + k])
            weight = s[WEIGHT + k]
            limited[f] = slope == 0.0 or weight > 0.0 or s[SAFE_L + k] == 0.0 or s[SAFE_R + k] == 0.0
            if limited[f]:
                for j in range(nb):
                    m = axes[j]
                    on = slope if m < 5 else turbulent_slope
                    share_l, share_r = s[SHARE_L + k] * kappa, -s[SHARE_R + k] * kappa
                    by_l = _bend(s, k, m, REACH_L, ALONG_L, share_l, weight, eps[m], on * s[SAFE_L + k], bend[f, 0], j)
                    by_r = _bend(s, k, m, REACH_R, ALONG_R, share_r, weight, eps[m], on * s[SAFE_R + k], bend[f, 1], j)
                    if len(sway) > 0:
                        reach[f, 0, j], reach[f, 1, j] = by_l, by_r
                if len(sway) > 0:
                    _sway(s, k, floor, law.gamma, axes, sway[f])


@serial
def _stiffen(s, k, axes, law, model, stiff, loose):
    """Fill the viscous coefficients of lane k (see `interior_jacobians`)."""
    nb = len(axes)
    nt = added(model)
    state = np.zeros(MOST)
    for j in range(nb):
        row = axes[j] * LANES + k
        state[axes[j]] = 0.5 * (s[STATE_L + row] + s[STATE_R + row])
    mu, heat, spread, spread_w = coefficients(
        state[0], state[4], state[5], state[6], s[FLOOR + k], s[BLEND + k], model, law
    )
    area, across = s[AREA + k], s[ACROSS + k]
    loose[0], loose[1], loose[2], loose[3] = area * mu, area * heat, area * spread, area * spread_w
    stiff[:, :] = 0.0
    nv = nb - 2 - nt  # active velocities
    for i in range(nv):
        m = axes[1 + i]
        loose[4 + i] = state[m]
        for j in range(nv):
            nn = s[NORMAL + (m - 1) * LANES + k] * s[NORMAL + (axes[1 + j] - 1) * LANES + k] / 3.0
            stiff[1 + i, 1 + j] = area * mu / across * (nn + (1.0 if i == j else 0.0))
    for i in range(nv):
        for j in range(nv):
            stiff[1 + nv, 1 + j] += state[axes[1 + i]] * stiff[1 + i, 1 + j]
    stiff[1 + nv, 1 + nv] = area * heat / across
    for t in range(nt):
        stiff[2 + nv + t, 2 + nv + t] = loose[2 + t] / across


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
def _sway(s, k, floor, gamma, axes, out):
    """Derivatives of the limiter weight to the active unknowns of both cells and to the upwind pressure differences."""
    nb = len(axes)
    out[:] = 0.0
    if s[WEIGHT + k] <= 0.0 or s[WEIGHT + k] >= 1.0:
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
            floor, state[0], state[1], state[2], state[3], state[4], state[5], state[6], state[7], state[8], state[9],
            far_l + DIFFERENCE * (i == 2 * nb), far_r + DIFFERENCE * (i == 2 * nb + 1), gamma,
        )  # fmt: skip
        if i < 2 * nb:
            state[at] -= DIFFERENCE
        out[i] = (moved - s[WEIGHT + k]) / DIFFERENCE


@serial
def boundary_jacobians(
    q, g, left, normal, area, to_left, lever, code, outer, slope, law, model, axes, first, blocks, stiff, loose, speed
):  # fmt: skip
    """The same for the boundary faces, `first` being the number of the first one.

    blocks[:, 0] are derivatives to the edge state at a fixed cell, stiff those to the cell at a fixed edge state.
    """
    nb, only = len(axes), np.int32(0)
    for e in range(len(code)):
        f = first + e
        c = left[f]
        F, G = np.empty(MOST), np.empty(MOST)
        for j in range(-1, nb):  # one call for the base and every unknown: a second would be compiled again
            at = axes[j] if j >= 0 else -1
            h = _step(at) if j >= 0 else 0.0
            edge_flux(q, g, c, f, e, normal, to_left, lever, code, outer, slope, law, model, at, h, G)
            if j < 0:
                F[:] = G
                continue
            for n in range(nb):
                blocks[f, 0, n, j] = area[f] * (G[axes[n]] - F[axes[n]]) / h
        u, v, w = q[c, 1], q[c, 2], q[c, 3]
        un = u * normal[f, 0] + v * normal[f, 1] + w * normal[f, 2]
        speed[f] = area[f] * (abs(un) + np.sqrt(q[c, 4]))
        if len(model) > 0 and (code[e] == NO_SLIP or code[e] == IMPOSED):
            # one more cell that only this face sees: the cell's own friction, at gradients held fixed
            own, frozen = np.empty((1, q.shape[1])), np.empty((1, q.shape[1], 3))
            own[0], frozen[0] = q[c], g[c]
            for j in range(-1, nb):
                h = _step(axes[max(j, 0)])
                G[:] = 0.0
                if j >= 0:
                    own[0, axes[j]] += h
                edge_friction(own, frozen, only, f, e, normal, to_left, lever, code, outer, law, model, G)
                own[0] = q[c]
                if j < 0:
                    F[:] = G
                    continue
                for n in range(nb):
                    stiff[f, n, j] = area[f] * (G[axes[n]] - F[axes[n]]) / h
            nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
            high = to_left[f, 0] * nx + to_left[f, 1] * ny + to_left[f, 2] * nz
            speed[f] += 2.0 * area[f] * viscosity(q[c, 4], law) / high
            _loosen(q, c, e, code, outer, area[f], high, axes, law, model, loose[f])


@serial
def _loosen(q, c, e, code, outer, area, high, axes, law, model, loose):
    """Fill the viscous coefficients of a wall or an imposed boundary (see `interior_jacobians`)."""
    nb = len(axes)
    nt = added(model)
    state = np.zeros(q.shape[1])
    conducts, mu, heat, spread, spread_w = edge_unknowns(q, c, e, code, outer, high, law, model, state)
    loose[0], loose[1], loose[2], loose[3] = area * mu, conducts * area * heat, area * spread, area * spread_w
    for i in range(nb - 2 - nt):
        loose[4 + i] = state[axes[1 + i]]


@parallel
def inertia_blocks(q, rate, axes, gamma, out):
    """Pseudo-time term: rate (n,) = volume / time step, times d(conserved)/d(unknowns), into out (n, nb, nb)."""
    nb = len(axes)
    for i in prange(len(q)):
        c = np.int64(i)
        full = np.empty((MOST, MOST))
        conserved_jacobian(q[c, 0], q[c, 1], q[c, 2], q[c, 3], q[c, 4], gamma, full)
        rho = (1.0 + gamma * q[c, 0]) / q[c, 4]
        for m in range(5, q.shape[1]):
            full[m, 0], full[m, 4], full[m, m] = full[0, 0] * q[c, m], full[0, 4] * q[c, m], rho
        for k in range(nb):
            for m in range(nb):
                out[c, k, m] = rate[c] * full[axes[k], axes[m]]


class Blocks:
    """What `interior_jacobians` finds of nf faces, the first ni of them between two cells."""

    def __init__(self, nf: int, ni: int, nb: int, model: str, floor: float):
        single = np.float32
        fading = ni if 0.0 <= floor < 1.0 else 0  # faces whose limiter may count more or less: see `limit_weight`
        self.blocks = np.zeros((nf, 2, nb, nb), dtype=single)
        friction = nf if model != "euler" else 0
        self.stiff = np.zeros((friction, nb, nb), dtype=single)
        self.loose = np.zeros((friction, 7), dtype=single)
        self.lean = np.zeros((ni if model == "sst" else 0, 2, nb), dtype=single)
        self.limited = np.zeros(ni, dtype=np.bool_)
        self.bend = np.zeros((ni, 2, 3, nb), dtype=single)
        self.sway = np.zeros((fading, 2 * nb + 2), dtype=single)
        self.reach = np.zeros((fading, 2, nb), dtype=single)
        self.speed = np.zeros(nf)


class Jacobian(Blocks):
    """Linearisation of a `Residual` about a state, with its storage."""

    def __init__(self, residual: Residual):
        self.residual = residual
        d = residual.domain
        nf, ni, n, nb = d.mesh.n_faces, d.mesh.n_interior, d.mesh.n_cells, len(d.axes)
        nt = d.columns - 5
        single = np.float32
        self.dims = d.dims
        _, floor, slope, turbulent_slope = residual.numbers
        super().__init__(nf, ni, nb, residual.model, floor)
        sst = residual.model == "sst"
        self.across = None if d.seam is None else Blocks(len(d.seam.one), len(d.seam.one), nb, residual.model, floor)
        self.inertia = np.zeros((n, nb, nb), dtype=single)
        self.by_state = np.zeros((n if nt else 0, nt, nb), dtype=single)
        self.by_slope = np.zeros((n if nt else 0, nt, nb, 3), dtype=single)
        self.closure_state = np.zeros((n, 2 if sst else 0, nb), dtype=single)
        self.closure_slope = np.zeros((n, 2 if sst else 0, nb, 3), dtype=single)
        self._change = np.zeros((n if sst else 0, 2), dtype=single)
        self.rows = np.ones((n, nb), dtype=single)
        # the farfield's answer to lift: flux change of each boundary face per unit of lift, and lift per wall flux
        self.swirl: np.ndarray | None = None
        self.lift_row: np.ndarray | None = None
        self._gradient = d.gradient.single(d.axes)
        self._gv = np.zeros((n, nb, 3), dtype=single)
        self._flux = np.empty((nf, nb), dtype=single)
        self._slopes = np.where(d.axes < 5, slope, turbulent_slope).astype(single)

    def linearise(self, q: np.ndarray) -> None:
        """Blocks and wave speeds at the state of the last call of the residual (whose gradients are used)."""
        r = self.residual
        d = r.domain
        kappa, floor, slope, turbulent_slope = r.numbers
        interior_jacobians(q, r.slopes, r.closure, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.ahead, d.back, d.share, kappa,
                           slope, turbulent_slope, floor, r.eps, r.law, r.key, d.axes, self.blocks, self.stiff, self.loose,
                           self.lean, self.limited, self.bend, self.sway, self.reach, self.speed)  # fmt: skip
        boundary_jacobians(q, r.slopes, d.left, d.normal, d.area, d.to_left, d.lever, d.code, r.outer, slope, r.law, r.key,
                           d.axes, d.mesh.n_interior, self.blocks, self.stiff, self.loose, self.speed)  # fmt: skip
        if d.seam is not None:
            s, a = d.seam, self.across
            interior_jacobians(s.rows(q), s.slopes(r.slopes), s.closure(r.closure), s.left, s.right, s.normal, s.area, s.to_left, s.to_right, s.apart, s.apart,
                               s.share, kappa, slope, turbulent_slope, floor, r.eps, r.law, r.key, d.axes, a.blocks, a.stiff, a.loose,
                               a.lean, a.limited, a.bend, a.sway, a.reach, a.speed)  # fmt: skip
            self.blocks[s.one, 0], self.blocks[s.two, 0] = a.blocks[:, 0], -s.turned_back(a.blocks[:, 1])
            self.speed[s.one] = self.speed[s.two] = a.speed
            if len(a.stiff):
                self.stiff[s.one], self.stiff[s.two] = a.stiff, s.turned_back(a.stiff)
        if d.columns > 5:
            source_jacobians(q, r.slopes, r.near, d.volume, r.law, r.key, d.axes, self.by_state, self.by_slope,
                             self.closure_state, self.closure_slope)  # fmt: skip

    def wave_sum(self) -> np.ndarray:
        """(n,) half the sum of wave speed times area over each cell's faces: volume over time step at CFL 1."""
        m = self.residual.domain.mesh
        total = np.bincount(m.left, self.speed, m.n_cells) + np.bincount(m.right, self.speed[: m.n_interior], m.n_cells)
        return 0.5 * total

    def set_inertia(self, q: np.ndarray, rate: np.ndarray) -> None:
        """Fix the pseudo-time term for volume / time step = `rate` (n,)."""
        d = self.residual.domain
        inertia_blocks(q, rate, d.axes, self.residual.law.gamma, self.inertia)
        if len(d.hoop) and self.residual.model != "euler":
            self.inertia[:, 2, 2] += 4.0 / 3.0 * d.volume * self.residual.viscosities(q) * d.hoop**2

    def stabilise_source_diagonal(self, cfl: float) -> np.ndarray:
        """Add inertia (n, nt), which is returned, to the equations of turbulence where their sources grow with the unknown.

        There turbulence rises exponentially until it is in balance: a step that is long against that growth would put the matrix on the wrong side of
        singular. With this it about doubles at most. Above `FADING_CFL` the inertia fades, so that the last steps are Newton's.
        """
        nt = self.by_state.shape[1]
        first = self.inertia.shape[1] - nt
        own = np.arange(nt)
        faded = GROWTH * min(1.0, FADING_CFL / cfl)
        growth = faded * np.maximum(self.by_state[:, own, first + own], 0.0)
        if nt:
            self.inertia[:, first + own, first + own] += growth
        return growth

    def product(self, v: np.ndarray, out: np.ndarray) -> None:
        """out (n, nb) = rows (inertia + dR/dq) v, single precision."""
        r = self.residual
        d = r.domain
        if self._slopes[0] or r.model != "euler":
            self._gradient(v, self._gv)
        if len(self._change):
            closure_products(v, self._gv, self.closure_state, self.closure_slope, self._change)
        face_products(v, self._gv, self._change, d.left, d.right, d.normal, d.to_left, d.to_right, d.ahead, d.back, d.share, d.lever, d.code,
                      r.scheme.kappa, self._slopes, r.key, self.blocks, self.stiff, self.loose, self.lean, self.limited, self.bend,
                      self.sway, self.reach, self.dims, self._flux)  # fmt: skip
        if d.seam is not None:
            s, a = d.seam, self.across
            flux = np.empty((len(s.one), v.shape[1]), dtype=np.float32)
            change = s.closure(self._change)
            face_products(s.rows(v), s.slopes(self._gv), change, s.left, s.right, s.normal, s.to_left, s.to_right, s.apart, s.apart, s.share, d.lever,
                          d.code, r.scheme.kappa, self._slopes, r.key, a.blocks, a.stiff, a.loose, a.lean, a.limited, a.bend,
                          a.sway, a.reach, self.dims, flux)  # fmt: skip
            s.give(flux, self._flux)
        if self.swirl is not None and self.lift_row is not None:
            ni = d.mesh.n_interior
            self._flux[ni:] += self.swirl * np.float32(np.sum(self._flux[ni:] * self.lift_row))
        sum_products(self._flux, d.start, d.faces, d.sign, self.inertia, v, self._gv, self.by_state, self.by_slope,
                     self.rows, self.dims, out)  # fmt: skip
