"""The linearised residual: a Jacobian block for each side of each face; with `products` the exact product J v.

The blocks are derivatives of the face flux with respect to the two face states, by forward differences of the flux
itself, kept in single precision. The compact matrix of the preconditioner takes the blocks as if the face states were
the cell states, so that it has the nearest neighbours only.
Verified by tests/test_flow.py (J v against differences of the residual).
"""

import numpy as np

from zephyrum._core.jit import parallel, prange, serial
from zephyrum.flow.discretization.face_batches import (
    AREA,
    BATCH_SIZE,
    BLEND,
    CELL_L,
    CELL_R,
    FLOOR,
    FLUX,
    FRACTION_L,
    FRACTION_R,
    MAX_UNKNOWNS,
    NORMAL,
    NORMAL_DISTANCE,
    PHYSICAL_L,
    PHYSICAL_R,
    SCRATCH_SIZE,
    STATE_L,
    STATE_R,
    TO_CELL_L,
    TO_CELL_R,
    TO_FACE_L,
    TO_FACE_R,
    WEIGHT,
    gather_batch,
    perturb,
    reconstruct,
    set_inviscid_flux,
    upwind_pressure,
)
from zephyrum.flow.discretization.jacobian_products import face_products, sum_face_products
from zephyrum.flow.discretization.limiter import limiter_weight, van_albada
from zephyrum.flow.discretization.residual import (
    Residual,
    boundary_face_flux,
    boundary_unknowns,
    subtract_boundary_viscous_flux,
)
from zephyrum.flow.discretization.turbulence_sources import DIFFERENCE_STEP, closure_products, source_jacobians
from zephyrum.flow.discretization.viscous_terms import (
    correct_mean_gradients,
    diffusion_coefficients,
    subtract_viscous_flux,
    viscosity,
)
from zephyrum.flow.physics.boundary_conditions import IMPOSED, NO_SLIP
from zephyrum.flow.physics.gas_model import conserved_jacobian
from zephyrum.flow.physics.turbulence import equation_count

SOURCE_INERTIA = (
    2.0  # inertia that turbulence gets for each unit of its growth: more than 1 so that the matrix stays positive
)
# CFL number above which that inertia fades as 1 / CFL. Production exceeds destruction in many cells of a steady solution: an inertia that
# stays caps the CFL number of k there. NACA 0012, SST, alpha 0 / 10 / 15 on 16k cells: 200 steps or stalled with it, 17 to 21 steps without.
SOURCE_INERTIA_CFL = 1e5
CLOSURE_STEP = 1e-4  # relative difference for derivatives to the closure


@serial
def _difference_step(m):
    """Difference by which unknown m is moved: turbulence is counted in hundreds."""
    return DIFFERENCE_STEP if m < 5 else 1e3 * DIFFERENCE_STEP


@parallel
def interior_jacobians(
    q, g, closure, left, right, normal, area, to_left, to_right, vector_to_right, vector_to_left, fraction, kappa, order_factor, turbulence_order_factor, floor,
    eps, law, model, axes, blocks, viscous_jacobian, viscous_coefficients, closure_jacobian, limited, increment_jacobian, limiter_jacobian, weight_jacobian, speed
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
    ni, nb, nt = len(right), len(axes), equation_count(model)
    for block in prange((ni + BATCH_SIZE - 1) // BATCH_SIZE):
        low = np.int64(block) * BATCH_SIZE
        count = min(BATCH_SIZE, ni - low)
        s = np.empty(SCRATCH_SIZE)
        base = np.empty(MAX_UNKNOWNS * BATCH_SIZE)
        gather_batch(
            s,
            low,
            q,
            g,
            closure,
            left,
            right,
            normal,
            area,
            to_left,
            to_right,
            vector_to_right,
            vector_to_left,
            fraction,
            axes,
            model,
        )
        reconstruct(s, kappa, order_factor, turbulence_order_factor, floor, eps, law.gamma, axes)
        if len(model) > 0:
            correct_mean_gradients(s, axes)
        for col in range(-1, 2 * nb):
            j, side = col % nb, col // nb
            h = _difference_step(axes[j])
            if col >= 0:
                perturb(s, axes[j], h * (side == 0), h * (side == 1))
            set_inviscid_flux(s, nt, law.gamma)
            if len(model) > 0:
                subtract_viscous_flux(s, model, law)
            if col < 0:
                for k in range(MAX_UNKNOWNS * BATCH_SIZE):
                    base[k] = s[FLUX + k]
                continue
            perturb(s, axes[j], -h * (side == 0), -h * (side == 1))
            for i in range(nb):
                row = axes[i] * BATCH_SIZE
                for k in range(count):
                    blocks[low + k, side, i, j] = (s[FLUX + row + k] - base[row + k]) / h
        if len(model) > 2:
            for t in range(2):
                row = FLOOR if t == 0 else BLEND
                for k in range(BATCH_SIZE):
                    s[row + k] += CLOSURE_STEP * (s[row + k] + CLOSURE_STEP)
                set_inviscid_flux(s, nt, law.gamma)
                subtract_viscous_flux(s, model, law)
                for k in range(BATCH_SIZE):
                    s[row + k] = (s[row + k] - CLOSURE_STEP * CLOSURE_STEP) / (1.0 + CLOSURE_STEP)
                for k in range(count):
                    h = CLOSURE_STEP * (s[row + k] + CLOSURE_STEP)
                    for i in range(nb):
                        at = axes[i] * BATCH_SIZE + k
                        closure_jacobian[low + k, t, i] = 0.5 * (s[FLUX + at] - base[at]) / h
        for k in range(count):
            f = low + k
            un = 0.0
            for i in range(3):
                row = (1 + i) * BATCH_SIZE + k
                un += 0.5 * (s[STATE_L + row] + s[STATE_R + row]) * s[NORMAL + i * BATCH_SIZE + k]
            conductivity = 0.5 * (s[STATE_L + 4 * BATCH_SIZE + k] + s[STATE_R + 4 * BATCH_SIZE + k])
            speed[f] = area[f] * (abs(un) + np.sqrt(conductivity))
            if len(model) > 0:
                _set_viscous_jacobian(s, k, axes, law, model, viscous_jacobian[f], viscous_coefficients[f])
                rho = (1.0 + 0.5 * law.gamma * (s[STATE_L + k] + s[STATE_R + k])) / conductivity
                speed[f] += 2.0 * viscous_coefficients[f, 0] / (rho * s[NORMAL_DISTANCE + k])
            weight = s[WEIGHT + k]
            limited[f] = order_factor == 0.0 or weight > 0.0 or s[PHYSICAL_L + k] == 0.0 or s[PHYSICAL_R + k] == 0.0
            if limited[f]:
                for j in range(nb):
                    m = axes[j]
                    on = order_factor if m < 5 else turbulence_order_factor
                    kappa_l, kappa_r = s[FRACTION_L + k] * kappa, -s[FRACTION_R + k] * kappa
                    by_l = _increment_jacobian(
                        s,
                        k,
                        m,
                        TO_FACE_L,
                        TO_CELL_L,
                        kappa_l,
                        weight,
                        eps[m],
                        on * s[PHYSICAL_L + k],
                        increment_jacobian[f, 0],
                        j,
                    )
                    by_r = _increment_jacobian(
                        s,
                        k,
                        m,
                        TO_FACE_R,
                        TO_CELL_R,
                        kappa_r,
                        weight,
                        eps[m],
                        on * s[PHYSICAL_R + k],
                        increment_jacobian[f, 1],
                        j,
                    )
                    if len(limiter_jacobian) > 0:
                        weight_jacobian[f, 0, j], weight_jacobian[f, 1, j] = by_l, by_r
                if len(limiter_jacobian) > 0:
                    _limiter_jacobian(s, k, floor, law.gamma, axes, limiter_jacobian[f])


@serial
def _set_viscous_jacobian(s, k, axes, law, model, viscous_jacobian, viscous_coefficients):
    """Fill the viscous coefficients of lane k (see `interior_jacobians`)."""
    nb = len(axes)
    nt = equation_count(model)
    state = np.zeros(MAX_UNKNOWNS)
    for j in range(nb):
        row = axes[j] * BATCH_SIZE + k
        state[axes[j]] = 0.5 * (s[STATE_L + row] + s[STATE_R + row])
    mu, conductivity, diffusion, diffusion_w = diffusion_coefficients(
        state[0], state[4], state[5], state[6], s[FLOOR + k], s[BLEND + k], model, law
    )
    area, across = s[AREA + k], s[NORMAL_DISTANCE + k]
    viscous_coefficients[0], viscous_coefficients[1], viscous_coefficients[2], viscous_coefficients[3] = (
        area * mu,
        area * conductivity,
        area * diffusion,
        area * diffusion_w,
    )
    viscous_jacobian[:, :] = 0.0
    nv = nb - 2 - nt  # active velocities
    for i in range(nv):
        m = axes[1 + i]
        viscous_coefficients[4 + i] = state[m]
        for j in range(nv):
            nn = s[NORMAL + (m - 1) * BATCH_SIZE + k] * s[NORMAL + (axes[1 + j] - 1) * BATCH_SIZE + k] / 3.0
            viscous_jacobian[1 + i, 1 + j] = area * mu / across * (nn + (1.0 if i == j else 0.0))
    for i in range(nv):
        for j in range(nv):
            viscous_jacobian[1 + nv, 1 + j] += state[axes[1 + i]] * viscous_jacobian[1 + i, 1 + j]
    viscous_jacobian[1 + nv, 1 + nv] = area * conductivity / across
    for t in range(nt):
        viscous_jacobian[2 + nv + t, 2 + nv + t] = viscous_coefficients[2 + t] / across


@serial
def _increment_jacobian(s, k, m, towards, along, kappa, weight, eps, used, increment_jacobian, j):
    """Derivatives of the limited rise of unknown m to (g.r, g.d, jump) into bend[:, j], to the weight as the result."""
    if used == 0.0:
        increment_jacobian[0, j] = increment_jacobian[1, j] = increment_jacobian[2, j] = 0.0
        return 0.0
    row = m * BATCH_SIZE + k
    jump, gd = s[CELL_R + row] - s[CELL_L + row], s[along + row]
    increment = s[towards + row] + kappa * (jump - gd)
    fraction, by_far, by_jump = van_albada(2.0 * gd - jump, jump, eps)
    limited_factor = 1.0 - weight * (1.0 - fraction)
    increment_jacobian[0, j] = limited_factor
    increment_jacobian[1, j] = -limited_factor * kappa + weight * increment * 2.0 * by_far
    increment_jacobian[2, j] = limited_factor * kappa + weight * increment * (by_jump - by_far)
    return -(1.0 - fraction) * increment


@serial
def _limiter_jacobian(s, k, floor, gamma, axes, out):
    """Derivatives of the limiter weight to the active unknowns of both cells and to the upwind pressure differences."""
    nb = len(axes)
    out[:] = 0.0
    if s[WEIGHT + k] <= 0.0 or s[WEIGHT + k] >= 1.0:
        return
    far_l, far_r = upwind_pressure(s, k)
    state = np.empty(10)
    for i in range(5):
        state[i], state[5 + i] = s[CELL_L + i * BATCH_SIZE + k], s[CELL_R + i * BATCH_SIZE + k]
    for i in range(2 * nb + 2):
        if i < 2 * nb:
            at = axes[i % nb] + (5 if i >= nb else 0)
            state[at] += DIFFERENCE_STEP
        moved = limiter_weight(
            floor, state[0], state[1], state[2], state[3], state[4], state[5], state[6], state[7], state[8], state[9],
            far_l + DIFFERENCE_STEP * (i == 2 * nb), far_r + DIFFERENCE_STEP * (i == 2 * nb + 1), gamma,
        )  # fmt: skip
        if i < 2 * nb:
            state[at] -= DIFFERENCE_STEP
        out[i] = (moved - s[WEIGHT + k]) / DIFFERENCE_STEP


@serial
def boundary_jacobians(
    q, g, left, normal, area, to_left, wall_gradient_factor, code, exterior, order_factor, law, model, axes, first, blocks, viscous_jacobian, viscous_coefficients, speed
):  # fmt: skip
    """The same for the boundary faces, `first` being the number of the first one.

    blocks[:, 0] are derivatives to the edge state at a fixed cell, stiff those to the cell at a fixed edge state.
    """
    nb, only = len(axes), np.int32(0)
    for e in range(len(code)):
        f = first + e
        c = left[f]
        F, G = np.empty(MAX_UNKNOWNS), np.empty(MAX_UNKNOWNS)
        for j in range(-1, nb):  # one call for the base and every unknown: a second would be compiled again
            at = axes[j] if j >= 0 else -1
            h = _difference_step(at) if j >= 0 else 0.0
            boundary_face_flux(
                q, g, c, f, e, normal, to_left, wall_gradient_factor, code, exterior, order_factor, law, model, at, h, G
            )
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
                h = _difference_step(axes[max(j, 0)])
                G[:] = 0.0
                if j >= 0:
                    own[0, axes[j]] += h
                subtract_boundary_viscous_flux(
                    own, frozen, only, f, e, normal, to_left, wall_gradient_factor, code, exterior, law, model, G
                )
                own[0] = q[c]
                if j < 0:
                    F[:] = G
                    continue
                for n in range(nb):
                    viscous_jacobian[f, n, j] = area[f] * (G[axes[n]] - F[axes[n]]) / h
            nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
            wall_height = to_left[f, 0] * nx + to_left[f, 1] * ny + to_left[f, 2] * nz
            speed[f] += 2.0 * area[f] * viscosity(q[c, 4], law) / wall_height
            _set_boundary_viscous_coefficients(
                q, c, e, code, exterior, area[f], wall_height, axes, law, model, viscous_coefficients[f]
            )


@serial
def _set_boundary_viscous_coefficients(
    q, c, e, code, exterior, area, wall_height, axes, law, model, viscous_coefficients
):
    """Fill the viscous coefficients of a wall or an imposed boundary (see `interior_jacobians`)."""
    nb = len(axes)
    nt = equation_count(model)
    state = np.zeros(q.shape[1])
    conducts, mu, conductivity, diffusion, diffusion_w = boundary_unknowns(
        q, c, e, code, exterior, wall_height, law, model, state
    )
    viscous_coefficients[0], viscous_coefficients[1], viscous_coefficients[2], viscous_coefficients[3] = (
        area * mu,
        conducts * area * conductivity,
        area * diffusion,
        area * diffusion_w,
    )
    for i in range(nb - 2 - nt):
        viscous_coefficients[4 + i] = state[axes[1 + i]]


@parallel
def pseudo_time_blocks(q, rate, axes, gamma, out):
    """Pseudo-time term: rate (n,) = volume / time step, times d(conserved)/d(unknowns), into out (n, nb, nb)."""
    nb = len(axes)
    for i in prange(len(q)):
        c = np.int64(i)
        full = np.empty((MAX_UNKNOWNS, MAX_UNKNOWNS))
        conserved_jacobian(q[c, 0], q[c, 1], q[c, 2], q[c, 3], q[c, 4], gamma, full)
        rho = (1.0 + gamma * q[c, 0]) / q[c, 4]
        for m in range(5, q.shape[1]):
            full[m, 0], full[m, 4], full[m, m] = full[0, 0] * q[c, m], full[0, 4] * q[c, m], rho
        for k in range(nb):
            for m in range(nb):
                out[c, k, m] = rate[c] * full[axes[k], axes[m]]


class JacobianBlocks:
    """What `interior_jacobians` finds of nf faces, the first ni of them between two cells."""

    def __init__(self, nf: int, ni: int, nb: int, model: str, floor: float):
        single = np.float32
        fading = ni if 0.0 <= floor < 1.0 else 0  # faces whose limiter may count more or less: see `limiter_weight`
        self.blocks = np.zeros((nf, 2, nb, nb), dtype=single)
        friction = nf if model != "euler" else 0
        self.viscous_jacobian = np.zeros((friction, nb, nb), dtype=single)
        self.viscous_coefficients = np.zeros((friction, 7), dtype=single)
        self.closure_jacobian = np.zeros((ni if model == "sst" else 0, 2, nb), dtype=single)
        self.limited = np.zeros(ni, dtype=np.bool_)
        self.increment_jacobian = np.zeros((ni, 2, 3, nb), dtype=single)
        self.limiter_jacobian = np.zeros((fading, 2 * nb + 2), dtype=single)
        self.weight_jacobian = np.zeros((fading, 2, nb), dtype=single)
        self.speed = np.zeros(nf)


class Jacobian(JacobianBlocks):
    """Linearisation of a `Residual` about a state, with its storage."""

    def __init__(self, residual: Residual):
        self.residual = residual
        d = residual.domain
        nf, ni, n, nb = d.mesh.n_faces, d.mesh.n_interior, d.mesh.n_cells, len(d.axes)
        nt = d.columns - 5
        single = np.float32
        self.dims = d.dims
        _, floor, order_factor, turbulence_order_factor = residual.numbers
        super().__init__(nf, ni, nb, residual.model, floor)
        sst = residual.model == "sst"
        self.across = (
            None
            if d.periodic is None
            else JacobianBlocks(len(d.periodic.one), len(d.periodic.one), nb, residual.model, floor)
        )
        self.inertia = np.zeros((n, nb, nb), dtype=single)
        self.by_state = np.zeros((n if nt else 0, nt, nb), dtype=single)
        self.by_slope = np.zeros((n if nt else 0, nt, nb, 3), dtype=single)
        self.closure_state = np.zeros((n, 2 if sst else 0, nb), dtype=single)
        self.closure_slope = np.zeros((n, 2 if sst else 0, nb, 3), dtype=single)
        self._change = np.zeros((n if sst else 0, 2), dtype=single)
        self.rows = np.ones((n, nb), dtype=single)
        # the farfield's answer to lift: flux change of each boundary face per unit of lift, and lift per wall flux
        self.vortex_correction: np.ndarray | None = None
        self.lift_row: np.ndarray | None = None
        self._gradient = d.gradient.single(d.axes)
        self._gv = np.zeros((n, nb, 3), dtype=single)
        self._flux = np.empty((nf, nb), dtype=single)
        self._slopes = np.where(d.axes < 5, order_factor, turbulence_order_factor).astype(single)

    def linearise(self, q: np.ndarray) -> None:
        """Blocks and wave speeds at the state of the last call of the residual (whose gradients are used)."""
        r = self.residual
        d = r.domain
        kappa, floor, order_factor, turbulence_order_factor = r.numbers
        interior_jacobians(q, r.gradients, r.closure, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.vector_to_right, d.vector_to_left, d.fraction, kappa,
                           order_factor, turbulence_order_factor, floor, r.eps, r.law, r.key, d.axes, self.blocks, self.viscous_jacobian, self.viscous_coefficients,
                           self.closure_jacobian, self.limited, self.increment_jacobian, self.limiter_jacobian, self.weight_jacobian, self.speed)  # fmt: skip
        boundary_jacobians(q, r.gradients, d.left, d.normal, d.area, d.to_left, d.wall_gradient_factor, d.code, r.exterior, order_factor, r.law, r.key,
                           d.axes, d.mesh.n_interior, self.blocks, self.viscous_jacobian, self.viscous_coefficients, self.speed)  # fmt: skip
        if d.periodic is not None:
            s, a = d.periodic, self.across
            interior_jacobians(s.rows(q), s.gradients(r.gradients), s.closure(r.closure), s.left, s.right, s.normal, s.area, s.to_left, s.to_right, s.separation, s.separation,
                               s.fraction, kappa, order_factor, turbulence_order_factor, floor, r.eps, r.law, r.key, d.axes, a.blocks, a.viscous_jacobian, a.viscous_coefficients,
                               a.closure_jacobian, a.limited, a.increment_jacobian, a.limiter_jacobian, a.weight_jacobian, a.speed)  # fmt: skip
            self.blocks[s.one, 0], self.blocks[s.two, 0] = a.blocks[:, 0], -s.turned_back(a.blocks[:, 1])
            self.speed[s.one] = self.speed[s.two] = a.speed
            if len(a.viscous_jacobian):
                self.viscous_jacobian[s.one], self.viscous_jacobian[s.two] = (
                    a.viscous_jacobian,
                    s.turned_back(a.viscous_jacobian),
                )
        if d.columns > 5:
            source_jacobians(q, r.gradients, r.wall_data, d.volume, r.law, r.key, d.axes, self.by_state, self.by_slope,
                             self.closure_state, self.closure_slope)  # fmt: skip

    def wave_sum(self) -> np.ndarray:
        """(n,) half the sum of wave speed times area over each cell's faces: volume over time step at CFL 1."""
        m = self.residual.domain.mesh
        total = np.bincount(m.left, self.speed, m.n_cells) + np.bincount(m.right, self.speed[: m.n_interior], m.n_cells)
        return 0.5 * total

    def set_inertia(self, q: np.ndarray, rate: np.ndarray) -> None:
        """Fix the pseudo-time term for volume / time step = `rate` (n,)."""
        d = self.residual.domain
        pseudo_time_blocks(q, rate, d.axes, self.residual.law.gamma, self.inertia)
        if len(d.axisymmetric_factor) and self.residual.model != "euler":
            self.inertia[:, 2, 2] += 4.0 / 3.0 * d.volume * self.residual.viscosities(q) * d.axisymmetric_factor**2

    def stabilise_source_diagonal(self, cfl: float) -> np.ndarray:
        """Add inertia (n, nt), which is returned, to the equations of turbulence where their sources grow with the unknown.

        There turbulence rises exponentially until it is in balance: a step that is long against that growth would put the matrix on the wrong side of
        singular. With this it about doubles at most. Above `SOURCE_INERTIA_CFL` the inertia fades, so that the last steps are Newton's.
        """
        nt = self.by_state.shape[1]
        first = self.inertia.shape[1] - nt
        own = np.arange(nt)
        faded = SOURCE_INERTIA * min(1.0, SOURCE_INERTIA_CFL / cfl)
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
        face_products(v, self._gv, self._change, d.left, d.right, d.normal, d.to_left, d.to_right, d.vector_to_right, d.vector_to_left, d.fraction, d.wall_gradient_factor, d.code,
                      r.scheme.kappa, self._slopes, r.key, self.blocks, self.viscous_jacobian, self.viscous_coefficients, self.closure_jacobian, self.limited, self.increment_jacobian,
                      self.limiter_jacobian, self.weight_jacobian, self.dims, self._flux)  # fmt: skip
        if d.periodic is not None:
            s, a = d.periodic, self.across
            flux = np.empty((len(s.one), v.shape[1]), dtype=np.float32)
            change = s.closure(self._change)
            face_products(s.rows(v), s.gradients(self._gv), change, s.left, s.right, s.normal, s.to_left, s.to_right, s.separation, s.separation, s.fraction, d.wall_gradient_factor,
                          d.code, r.scheme.kappa, self._slopes, r.key, a.blocks, a.viscous_jacobian, a.viscous_coefficients, a.closure_jacobian, a.limited, a.increment_jacobian,
                          a.limiter_jacobian, a.weight_jacobian, self.dims, flux)  # fmt: skip
            s.give(flux, self._flux)
        if self.vortex_correction is not None and self.lift_row is not None:
            ni = d.mesh.n_interior
            self._flux[ni:] += self.vortex_correction * np.float32(np.sum(self._flux[ni:] * self.lift_row))
        sum_face_products(self._flux, d.start, d.faces, d.sign, self.inertia, v, self._gv, self.by_state, self.by_slope,
                     self.rows, self.dims, out)  # fmt: skip
