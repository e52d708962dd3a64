"""The linearised residual: a Jacobian block for each side of each face; with `products` the exact product J v.

The blocks are derivatives of the face flux with respect to the two face states, by forward differences of the flux
itself, kept in single precision. The compact matrix of the preconditioner takes the blocks as if the face states were
the cell states, so that it has the nearest neighbours only.
Verified by tests/test_flow.py (J v against differences of the residual).
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import inner_inlined, inner_serial, parallel, prange
from zephyrum.flow.discretization.boundary_jacobians import boundary_jacobians, difference_step
from zephyrum.flow.discretization.face_batches import (
    AREA,
    BATCH_SIZE,
    BLEND,
    CELL_L,
    CELL_R,
    CONDUCTIVITY,
    DIFFUSION,
    DIFFUSION_W,
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
    VISCOSITY,
    WEIGHT,
    batch_state,
    gather_batch,
    perturb,
    reconstruct,
    set_inviscid_flux,
    upwind_pressure,
)
from zephyrum.flow.discretization.jacobian_products import face_products, sum_face_products
from zephyrum.flow.discretization.kernel_arrays import CellJacobian, Direction, JacobianArrays
from zephyrum.flow.discretization.limiter import limiter_weight_derivatives, van_albada
from zephyrum.flow.discretization.residual import FieldState, Residual
from zephyrum.flow.discretization.source_jacobians import SourceJacobians, closure_products, source_jacobians
from zephyrum.flow.discretization.viscous_terms import (
    correct_mean_gradients,
    set_diffusion_coefficients,
    subtract_viscous_flux,
)
from zephyrum.flow.discretization.wall_pressure_gradient import correct_direction_gradients, wall_slope_jacobian
from zephyrum.flow.physics.gas_model import conserved_jacobian
from zephyrum.flow.physics.turbulence import EULER, SST, equation_count

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import Faces, SchemeNumbers
    from zephyrum.flow.physics.gas_model import GasModel


CLOSURE_STEP = 1e-4  # relative difference for derivatives to the closure


@parallel
def interior_jacobians(
    q: np.ndarray,
    g: np.ndarray,
    closure: np.ndarray,
    faces: "Faces",
    scheme: "SchemeNumbers",
    gas: "GasModel",
    out: JacobianArrays,
):
    """Fill the Jacobians of the interior faces by difference quotients of the face flux.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    closure : (n, 2) array
        Closure of the turbulence model.
    faces : Faces
        Faces.
    scheme : SchemeNumbers
        Scheme.
    gas : GasModel
        Gas.
    out : JacobianArrays
        Filled.
    """
    for block in prange((len(faces.right) + BATCH_SIZE - 1) // BATCH_SIZE):
        _batch_jacobians(np.int64(block) * BATCH_SIZE, (q, g), closure, faces, scheme, gas, out)


@inner_inlined
def _batch_jacobians(low, states, closure, faces, scheme, gas, out):
    """`interior_jacobians` of the faces from `low` on."""
    q, g = states
    count = min(BATCH_SIZE, len(faces.right) - low)
    s, base = np.empty(SCRATCH_SIZE), np.empty(MAX_UNKNOWNS * BATCH_SIZE)
    gather_batch(s, low, q, g, closure, faces, scheme)
    reconstruct(s, scheme, gas.gamma)
    if scheme.model > EULER:
        correct_mean_gradients(s, scheme.axes)
    _flux_differences(s, low, count, base, scheme, gas, out)
    for k in range(count):
        f = low + k
        out.speed[f] = faces.area[f] * _wave_speed(s, k)
        if scheme.model > EULER:
            _set_viscous_jacobian(s, k, scheme, gas, out.viscous_jacobian[f], out.viscous_coefficients[f])
            T = 0.5 * (s[STATE_L + 4 * BATCH_SIZE + k] + s[STATE_R + 4 * BATCH_SIZE + k])
            rho = (1.0 + 0.5 * gas.gamma * (s[STATE_L + k] + s[STATE_R + k])) / T
            out.speed[f] += 2.0 * out.viscous_coefficients[f, 0] / (rho * s[NORMAL_DISTANCE + k])
        physical = s[PHYSICAL_L + k] > 0.0 and s[PHYSICAL_R + k] > 0.0
        out.limited[f] = scheme.order_factor == 0.0 or s[WEIGHT + k] > 0.0 or not physical
        if out.limited[f]:
            _set_increment_jacobians(s, k, f, scheme, gas.gamma, out)


@inner_inlined
def _face_flux(s, scheme, gas):
    """Fill the FLUX rows from the face states."""
    nt = equation_count(scheme.model)
    set_inviscid_flux(s, nt, gas.gamma)
    if scheme.model > EULER:
        set_diffusion_coefficients(s, scheme.model, gas)
        subtract_viscous_flux(s, nt)


@inner_inlined
def _flux_differences(s, low, count, base, scheme, gas, out):
    """Differences of the flux by the two face states, and by the closure of SST; leaves the diffusion coefficients."""
    axes = scheme.axes
    n = len(axes)
    last = 2 * n + (2 if scheme.model == SST else 0)
    for col in range(-1, last):  # one call site of the flux: the base, the states, the closure
        j, side = col % n, col // n
        row = FLOOR if col == 2 * n else BLEND
        h = difference_step(axes[j])
        if 0 <= col < 2 * n:
            perturb(s, axes[j], h * (side == 0), h * (side == 1))
        elif col >= 2 * n:
            for k in range(BATCH_SIZE):
                s[row + k] += CLOSURE_STEP * (s[row + k] + CLOSURE_STEP)
        _face_flux(s, scheme, gas)
        if col < 0:
            for k in range(MAX_UNKNOWNS * BATCH_SIZE):
                base[k] = s[FLUX + k]
        elif col < 2 * n:
            perturb(s, axes[j], -h * (side == 0), -h * (side == 1))
            for i in range(n):
                at = axes[i] * BATCH_SIZE
                for k in range(count):
                    out.blocks[low + k, side, i, j] = (s[FLUX + at + k] - base[at + k]) / h
        else:
            for k in range(BATCH_SIZE):
                s[row + k] = (s[row + k] - CLOSURE_STEP * CLOSURE_STEP) / (1.0 + CLOSURE_STEP)
            for k in range(count):
                h = CLOSURE_STEP * (s[row + k] + CLOSURE_STEP)
                for i in range(n):
                    at = axes[i] * BATCH_SIZE + k
                    out.closure_jacobian[low + k, col - 2 * n, i] = 0.5 * (s[FLUX + at] - base[at]) / h
    if scheme.model > EULER:
        set_diffusion_coefficients(s, scheme.model, gas)


@inner_inlined
def _wave_speed(s, k):
    """Largest speed of a wave through the face of lane k, in speeds of sound of the stream."""
    un = 0.0
    for i in range(3):
        row = (1 + i) * BATCH_SIZE + k
        un += 0.5 * (s[STATE_L + row] + s[STATE_R + row]) * s[NORMAL + i * BATCH_SIZE + k]
    T = 0.5 * (s[STATE_L + 4 * BATCH_SIZE + k] + s[STATE_R + 4 * BATCH_SIZE + k])
    return abs(un) + np.sqrt(T)


@inner_inlined
def _set_viscous_jacobian(s, k, scheme, gas, viscous_jacobian, viscous_coefficients):
    """Fill the viscous coefficients and their Jacobian of lane k (see `JacobianArrays`)."""
    axes, c = scheme.axes, viscous_coefficients
    n, nt = len(axes), equation_count(scheme.model)
    state = np.zeros(MAX_UNKNOWNS)
    for j in range(n):
        row = axes[j] * BATCH_SIZE + k
        state[axes[j]] = 0.5 * (s[STATE_L + row] + s[STATE_R + row])
    area, across = s[AREA + k], s[NORMAL_DISTANCE + k]
    c[0], c[1] = area * s[VISCOSITY + k], area * s[CONDUCTIVITY + k]
    c[2] = area * s[DIFFUSION + k] if nt > 0 else 0.0
    c[3] = area * s[DIFFUSION_W + k] if nt > 1 else 0.0
    for i in range(n):
        for j in range(n):
            viscous_jacobian[i, j] = 0.0
    nv = n - 2 - nt  # active velocities
    for i in range(nv):
        m = axes[1 + i]
        c[4 + i] = state[m]
        for j in range(nv):
            nn = s[NORMAL + (m - 1) * BATCH_SIZE + k] * s[NORMAL + (axes[1 + j] - 1) * BATCH_SIZE + k] / 3.0
            viscous_jacobian[1 + i, 1 + j] = area * s[VISCOSITY + k] / across * (nn + (1.0 if i == j else 0.0))
    for i in range(nv):
        for j in range(nv):
            viscous_jacobian[1 + nv, 1 + j] += state[axes[1 + i]] * viscous_jacobian[1 + i, 1 + j]
    viscous_jacobian[1 + nv, 1 + nv] = c[1] / across
    for t in range(nt):
        viscous_jacobian[2 + nv + t, 2 + nv + t] = c[2 + t] / across


@inner_serial
def _set_increment_jacobians(s, k, f, scheme, gamma, out):
    """Fill the derivatives of the limited increments of face f, which is lane k."""
    axes = scheme.axes
    changing = len(out.limiter_jacobian) > 0
    for j in range(len(axes)):
        order_factor = scheme.order_factor if axes[j] < 5 else scheme.turbulence_order_factor
        for side in range(2):
            used = order_factor * s[(PHYSICAL_L if side == 0 else PHYSICAL_R) + k]
            by_weight = _increment_jacobian(s, k, j, side, used, scheme, out.increment_jacobian[f, side])
            if changing:
                out.weight_jacobian[f, side, j] = by_weight
    if changing:
        _limiter_jacobian(s, k, scheme.limiter_floor, gamma, axes, out.limiter_jacobian[f])


@inner_serial
def _increment_jacobian(s, k, j, side, used, scheme, out):
    """Derivatives of the limited increment of active unknown j on one side.

    Those by (g.r, g.d, jump) go to out[:, j], that by the limiter weight is returned.
    """
    if used == 0.0:
        out[0, j] = out[1, j] = out[2, j] = 0.0
        return 0.0
    m = scheme.axes[j]
    row = m * BATCH_SIZE + k
    kappa = scheme.kappa * (s[FRACTION_L + k] if side == 0 else -s[FRACTION_R + k])
    weight = s[WEIGHT + k]
    jump, gd = s[CELL_R + row] - s[CELL_L + row], s[(TO_CELL_L if side == 0 else TO_CELL_R) + row]
    increment = s[(TO_FACE_L if side == 0 else TO_FACE_R) + row] + kappa * (jump - gd)
    factor, by_far, by_jump = van_albada(2.0 * gd - jump, jump, scheme.smooth_squares[m])
    limited_factor = 1.0 - weight * (1.0 - factor)
    out[0, j] = limited_factor
    out[1, j] = -limited_factor * kappa + weight * increment * 2.0 * by_far
    out[2, j] = limited_factor * kappa + weight * increment * (by_jump - by_far)
    return -(1.0 - factor) * increment


@inner_serial
def _limiter_jacobian(s, k, floor, gamma, axes, out):
    """Derivatives of the limiter weight to the active unknowns of both cells and to the upwind pressure differences."""
    n = len(axes)
    for i in range(len(out)):
        out[i] = 0.0
    if s[WEIGHT + k] <= 0.0 or s[WEIGHT + k] >= 1.0:
        return
    far_l, far_r = upwind_pressure(s, k)
    left, right = batch_state(s, CELL_L, k), batch_state(s, CELL_R, k)
    found = limiter_weight_derivatives(floor, left, right, far_l, far_r, gamma)
    all_derivatives = np.empty(12)
    for i in range(12):
        all_derivatives[i] = found[i]
    for j in range(n):
        out[j], out[n + j] = all_derivatives[axes[j]], all_derivatives[5 + axes[j]]
    out[2 * n], out[2 * n + 1] = all_derivatives[10], all_derivatives[11]


@parallel
def pseudo_time_blocks(q: np.ndarray, rate: np.ndarray, axes: np.ndarray, gamma: float, out: np.ndarray):
    """Pseudo-time term: rate times d(conserved)/d(unknowns).

    Parameters
    ----------
    q : (n, m) array
        States.
    rate : (n,) array
        Volume over time step.
    axes : (nb,) array
        Active unknowns.
    gamma : float
        Ratio of the specific heats.
    out : (n, nb, nb) array
        Written.

    Examples
    --------
    >>> out = np.empty((1, 4, 4))
    >>> pseudo_time_blocks(np.array([[0.0, 0.5, 0.0, 0.0, 1.0]]), np.ones(1), np.array([0, 1, 3, 4]), 1.4, out)
    >>> out[0, 0]  # of density
    array([ 1.4,  0. ,  0. , -1. ])
    """
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


def empty_jacobian(nf: int, ni: int, n: int, model: str, floor: float, walls: int = 0) -> JacobianArrays:
    """Arrays for the Jacobians of faces.

    Parameters
    ----------
    nf : int
        Number of faces.
    ni : int
        Number of interior faces.
    n : int
        Number of active unknowns.
    model : str
        Flow model.
    floor : float
        Least weight of the limiter.
    walls : int, optional
        Number of cells at walls along which the flow slips.

    Examples
    --------
    >>> empty_jacobian(nf=10, ni=8, n=4, model="euler", floor=0.0).blocks.shape
    (10, 2, 4, 4)
    """
    single = np.float32
    fading = ni if 0.0 <= floor < 1.0 else 0  # faces whose limiter weight may change: see `limiter_weight`
    viscous = nf if model != "euler" else 0
    return JacobianArrays(
        blocks=np.zeros((nf, 2, n, n), dtype=single),
        viscous_jacobian=np.zeros((viscous, n, n), dtype=single),
        viscous_coefficients=np.zeros((viscous, 7), dtype=single),
        closure_jacobian=np.zeros((ni if model == "sst" else 0, 2, n), dtype=single),
        limited=np.zeros(ni, dtype=np.bool_),
        increment_jacobian=np.zeros((ni, 2, 3, n), dtype=single),
        limiter_jacobian=np.zeros((fading, 2 * n + 2), dtype=single),
        weight_jacobian=np.zeros((fading, 2, n), dtype=single),
        wall_slope_jacobian=np.zeros((walls, n), dtype=single),
        speed=np.zeros(nf),
    )


class BoundaryCoupling(NamedTuple):
    """Response of the fluxes of a boundary to one integral of them: a term of rank one.

    Attributes
    ----------
    faces : slice
        Boundary faces, counted from the first.
    correction : (k, n) array
        Change of the flux for a unit of the integral.
    row : (k, n) array
        Weights of the fluxes in the integral.
    """

    faces: slice
    correction: np.ndarray
    row: np.ndarray


class Jacobian:
    """Linearisation of a `Residual` about a state, with its storage.

    Attributes
    ----------
    faces : JacobianArrays
    inertia : array (n, nb, nb)
        Pseudo-time term.
    row_scale : array (n, nb)
        Factors of the equations.
    couplings : list of BoundaryCoupling
        Responses of boundary conditions to integrals over the boundary: of the farfield to lift, of intakes to their
        mass flow.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil
    >>> from zephyrum.flow.nonlinear.discrete_problem import DiscreteProblem
    >>> from zephyrum.flow.nonlinear.flow_problem import FlowProblem
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> problem = DiscreteProblem(FlowProblem(mesh, Freestream(mach=0.5), mesh.reference))
    >>> now = problem.evaluate(np.tile(problem.scales.freestream, (mesh.n_cells, 1)))
    >>> jacobian = Jacobian(problem.residual)
    >>> jacobian.linearise(now.state)
    >>> jacobian.set_inertia(jacobian.wave_sum() / 10.0)  # CFL number 10
    >>> v = np.ones((mesh.n_cells, 4), dtype=np.float32)
    >>> product = np.empty_like(v)
    >>> jacobian.product(v, product)
    >>> product.shape
    (384, 4)
    """

    def __init__(self, residual: Residual):
        self.residual = residual
        self.state: FieldState | None = None  # that of `linearise`, with its boundary faces
        self.boundary = residual.boundary()
        d, model = residual.domain, residual.model
        nf, ni, n, nb = d.mesh.n_faces, d.mesh.n_interior, d.mesh.n_cells, len(d.axes)
        nt, single, sst = d.columns - 5, np.float32, model == "sst"
        self.dims = d.dims
        numbers = residual.numbers
        self.faces = empty_jacobian(nf, ni, nb, model, numbers.limiter_floor, len(d.slip_walls.cell))
        k = 0 if d.periodic is None else len(d.periodic.one)
        self.across = empty_jacobian(k, k, nb, model, numbers.limiter_floor) if k else None
        self.inertia = np.zeros((n, nb, nb), dtype=single)
        rows, changing = n if nt else 0, 2 if sst else 0
        self.sources = SourceJacobians(
            np.zeros((rows, nt, nb), dtype=single),
            np.zeros((rows, nt, nb, 3), dtype=single),
            np.zeros((n, changing, nb), dtype=single),
            np.zeros((n, changing, nb, 3), dtype=single),
        )
        self._change = np.zeros((n if sst else 0, 2), dtype=single)
        self.row_scale = np.ones((n, nb), dtype=single)
        self.couplings: list[BoundaryCoupling] = []
        self._gradient = d.gradient.single(d.axes)
        self._gv = np.zeros((n, nb, 3), dtype=single)
        self._flux = np.empty((nf, nb), dtype=single)
        order_factors = np.where(d.axes < 5, numbers.order_factor, numbers.turbulence_order_factor)
        self._order_factors = order_factors.astype(single)

    def linearise(self, state: FieldState, exterior: np.ndarray | None = None) -> None:
        """Compute blocks and wave speeds at a state.

        Parameters
        ----------
        state : FieldState
            States with gradients and closure.
        exterior : (nb, m) array, optional
            States outside the boundary faces; those of the residual without it.
        """
        r = self.residual
        d, own = r.domain, self.faces
        self.state, self.boundary = state, r.boundary(exterior)
        interior_jacobians(*state, d.faces, r.numbers, r.law, own)
        wall_slope_jacobian(state.q, d.slip_walls, r.law.gamma, d.axes, own.wall_slope_jacobian)
        boundary_jacobians(state.q, state.gradients, d.faces, self.boundary, r.numbers, r.law, own)
        if d.periodic is not None:
            s, a = d.periodic, self.across
            states = s.rows(state.q), s.gradients(state.gradients), s.closure(state.closure)
            interior_jacobians(*states, s.faces, r.numbers, r.law, a)
            own.blocks[s.one, 0], own.blocks[s.two, 0] = a.blocks[:, 0], -s.turned_back(a.blocks[:, 1])
            own.speed[s.one] = own.speed[s.two] = a.speed
            if len(a.viscous_jacobian):
                own.viscous_jacobian[s.one] = a.viscous_jacobian
                own.viscous_jacobian[s.two] = s.turned_back(a.viscous_jacobian)
        if d.columns > 5:
            source_jacobians(state.q, state.gradients, r.wall_data, d.volume, r.law, d.axes, r.equations, self.sources)

    def wave_sum(self) -> np.ndarray:
        """(n,) half the sum of wave speed times area over each cell's faces: volume over time step at CFL 1."""
        m = self.residual.domain.mesh
        total = np.bincount(m.left, self.faces.speed, m.n_cells)
        total += np.bincount(m.right, self.faces.speed[: m.n_interior], m.n_cells)
        return 0.5 * total

    def set_inertia(self, rate: np.ndarray) -> None:
        """Set the pseudo-time term at the linearised state.

        Parameters
        ----------
        rate : (n,) array
            Volume over time step.
        """
        d = self.residual.domain
        pseudo_time_blocks(self.state.q, rate, d.axes, self.residual.law.gamma, self.inertia)
        if self.residual.disks is not None:
            self.residual.disks.subtract_jacobian(d.axes, self.inertia)
        if len(d.axisymmetric_factor) and self.residual.model != "euler":
            self.inertia[:, 2, 2] += (
                4.0 / 3.0 * d.volume * self.residual.viscosities(self.state) * d.axisymmetric_factor**2
            )

    def stabilise_source_diagonal(self, factor: float) -> np.ndarray:
        """Add inertia to the equations of turbulence where their sources grow with the unknown.

        Parameters
        ----------
        factor : float
            Inertia for each unit of growth; see `CFLControl.source_inertia_at`.

        Returns
        -------
        (n, nt) array
            Inertia that was added.

        Notes
        -----
        There turbulence rises exponentially until it is in balance: a step that is long against that growth would put
        the matrix on the wrong side of singular. With a factor of 2 it about doubles at most.
        """
        nt = self.sources.by_state.shape[1]
        first = self.inertia.shape[1] - nt
        own = np.arange(nt)
        growth = factor * np.maximum(self.sources.by_state[:, own, first + own], 0.0)
        if nt:
            self.inertia[:, first + own, first + own] += growth
        return growth

    def product(self, v: np.ndarray, out: np.ndarray) -> None:
        """Product of the Jacobian and a vector in single precision: row_scale (inertia + dR/dq) v.

        Parameters
        ----------
        v : (n, nb) array
            Vector.
        out : (n, nb) array
            Written.
        """
        r = self.residual
        d, s = r.domain, r.domain.periodic
        if self._order_factors[0] or r.model != "euler":
            self._gradient(v, self._gv)
            correct_direction_gradients(v, d.slip_walls, self.faces.wall_slope_jacobian, self._gv)
        if len(self._change):
            closure_products(v, self._gv, self.sources.closure_state, self.sources.closure_gradient, self._change)
        direction = Direction(v, self._gv, self._change)
        orders = self._order_factors
        face_products(direction, d.faces, self.boundary, r.numbers, orders, self.faces, self.dims, self._flux)
        if s is not None:
            flux = np.empty((len(s.one), v.shape[1]), dtype=np.float32)
            across = Direction(s.rows(v), s.gradients(self._gv), s.closure(self._change))
            face_products(across, s.faces, self.boundary, r.numbers, orders, self.across, self.dims, flux)
            s.give(flux, self._flux)
        for one in self.couplings:
            own = self._flux[d.mesh.n_interior :][one.faces]
            own += one.correction * np.float32(np.sum(own * one.row))
        cells = CellJacobian(self.inertia, self.sources.by_state, self.sources.by_gradient, self.row_scale)
        sum_face_products(self._flux, d.cells, cells, v, self._gv, self.dims, out)
