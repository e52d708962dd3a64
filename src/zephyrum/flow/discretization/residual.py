"""The residual: net outflow of mass, momentum and energy of every cell.

Three race-free sweeps: gradients (a gather a cell), fluxes (one a face), sums (a gather a cell).
Verified by tests/test_flow.py and validation/manufactured.py.
"""

import math
from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import parallel, prange, serial
from zephyrum.flow.discretization.face_batches import (
    BATCH_SIZE,
    FLUX,
    LEAST_FACE_FRACTION,
    SCRATCH_SIZE,
    gather_batch,
    reconstruct,
    set_inviscid_flux,
)
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.limiter import least_weight, smooth_variation
from zephyrum.flow.discretization.turbulence_sources import (
    eddy_viscosity_ratio,
    initial_closure,
    subtract_sources,
    update_closure,
)
from zephyrum.flow.discretization.viscous_terms import (
    correct_mean_gradients,
    diffusion_coefficients,
    subtract_viscous_flux,
    viscosity,
)
from zephyrum.flow.physics.boundary_conditions import FARFIELD, IMPOSED, NO_SLIP, SLIP, boundary_flux
from zephyrum.flow.physics.gas_model import GasModel
from zephyrum.flow.physics.turbulence import equation_count, model_key
from zephyrum.flow.physics.turbulence.sa import ROUGH_CHI, ROUGH_SHIFT
from zephyrum.flow.physics.turbulence.sst import BETA, WALL_OMEGA_FACTOR


@dataclass(frozen=True)
class Scheme:
    """Choices of the discretisation: kappa of the reconstruction, limiter mode, order (1 or 2) of flow and turbulence."""

    kappa: float = 1.0 / 3.0
    limiter: str = "auto"
    order: int = 2
    turbulence_order: int = 1

    def numbers(self, mach: float, friction: bool, space: bool) -> tuple[float, float, float, float]:
        """(kappa, least weight of the limiter, 0.0 or 1.0 for the slope of the flow and of turbulence) for the kernels."""
        order_factor = 1.0 if self.order == 2 else 0.0
        least = least_weight(self.limiter, mach, friction, space)
        return self.kappa, least, order_factor, order_factor if self.turbulence_order == 2 else 0.0


def smooth_variation_squares(mach: float, turbulence: int, friction: bool, space: bool) -> np.ndarray:
    """(5 + turbulence,) square of the variation of each unknown that the limiter takes as smooth."""
    e = (smooth_variation(mach, friction, space) * mach) ** 2
    return np.array([0.5 * e, e, e, e, e] + turbulence * [1.0])


@serial
def boundary_order_factor(code, order_factor):
    """No extrapolation to the farfield: there the cells are wide and the stream is nearly uniform."""
    return 0.0 if code == FARFIELD else order_factor


@serial
def boundary_face_state(q, g, c, f, to_left, order_factor, gamma):
    """State (5) of cell c extrapolated to its boundary face f."""
    rx, ry, rz = to_left[f, 0], to_left[f, 1], to_left[f, 2]
    p0, t0 = q[c, 0], q[c, 4]
    p = p0 + order_factor * (g[c, 0, 0] * rx + g[c, 0, 1] * ry + g[c, 0, 2] * rz)
    t = t0 + order_factor * (g[c, 4, 0] * rx + g[c, 4, 1] * ry + g[c, 4, 2] * rz)
    if 1.0 + gamma * p < LEAST_FACE_FRACTION * (1.0 + gamma * p0) or t < LEAST_FACE_FRACTION * t0:
        return p0, q[c, 1], q[c, 2], q[c, 3], t0
    u = q[c, 1] + order_factor * (g[c, 1, 0] * rx + g[c, 1, 1] * ry + g[c, 1, 2] * rz)
    v = q[c, 2] + order_factor * (g[c, 2, 0] * rx + g[c, 2, 1] * ry + g[c, 2, 2] * rz)
    w = q[c, 3] + order_factor * (g[c, 3, 0] * rx + g[c, 3, 1] * ry + g[c, 3, 2] * rz)
    return p, u, v, w, t


@parallel
def interior_fluxes(
    q, g, closure, left, right, normal, area, to_left, to_right, vector_to_right, vector_to_left, fraction, kappa, order_factor, turbulence_order_factor, floor,
    eps, law, model, axes, out
):  # fmt: skip
    """Flux times area of every interior face into out (nf, m). Reads 2 x 4 m cell values and 18 of geometry a face."""
    ni, nt = len(right), equation_count(model)
    for block in prange((ni + BATCH_SIZE - 1) // BATCH_SIZE):
        low = np.int64(block) * BATCH_SIZE
        s = np.empty(SCRATCH_SIZE)
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
        set_inviscid_flux(s, nt, law.gamma)
        if len(model) > 0:
            correct_mean_gradients(s, axes)
            subtract_viscous_flux(s, model, law)
        for m in range(5 + nt):
            for k in range(min(BATCH_SIZE, ni - low)):
                out[low + k, m] = s[FLUX + m * BATCH_SIZE + k]


@serial
def boundary_gradients(q, g, c, state, tangential, wall_gradient_factor, rx, ry, rz, nx, ny, nz, out):
    """Gradients (m, 3) at a boundary face where the unknowns are `state`, to second order along the normal.

    tangential: 1.0 to keep the cell's slopes along the face, 0.0 at a wall, where nothing changes along it.
    """
    h = rx * nx + ry * ny + rz * nz
    sx, sy, sz = tangential * (rx - h * nx), tangential * (ry - h * ny), tangential * (rz - h * nz)
    for m in range(1, q.shape[1]):
        gx, gy, gz = g[c, m, 0], g[c, m, 1], g[c, m, 2]
        gn = gx * nx + gy * ny + gz * nz
        up = (state[m] - q[c, m] - gx * sx - gy * sy - gz * sz) / h
        if m < 6:  # not log(omega), which has no wall value to be fitted
            up += wall_gradient_factor * (up - gn)
        out[m, 0] = up * nx + tangential * (gx - gn * nx)
        out[m, 1] = up * ny + tangential * (gy - gn * ny)
        out[m, 2] = up * nz + tangential * (gz - gn * nz)


@serial
def subtract_viscous_stress(s, state, mu, conductivity, diffusion, diffusion_w, nx, ny, nz, out):
    """Take friction, conduction and diffusion for gradients s (m, 3) off the flux `out` a unit area."""
    bulk = 2.0 / 3.0 * (s[1, 0] + s[2, 1] + s[3, 2])
    fx = mu * (2.0 * s[1, 0] * nx + (s[1, 1] + s[2, 0]) * ny + (s[1, 2] + s[3, 0]) * nz - bulk * nx)
    fy = mu * ((s[2, 0] + s[1, 1]) * nx + 2.0 * s[2, 1] * ny + (s[2, 2] + s[3, 1]) * nz - bulk * ny)
    fz = mu * ((s[3, 0] + s[1, 2]) * nx + (s[3, 1] + s[2, 2]) * ny + 2.0 * s[3, 2] * nz - bulk * nz)
    out[1] -= fx
    out[2] -= fy
    out[3] -= fz
    out[4] -= (
        state[1] * fx + state[2] * fy + state[3] * fz + conductivity * (s[4, 0] * nx + s[4, 1] * ny + s[4, 2] * nz)
    )
    if len(s) > 5:
        out[5] -= diffusion * (s[5, 0] * nx + s[5, 1] * ny + s[5, 2] * nz)
    if len(s) > 6:
        out[6] -= diffusion_w * (s[6, 0] * nx + s[6, 1] * ny + s[6, 2] * nz)


@serial
def boundary_face_flux(
    q, g, c, f, e, normal, to_left, wall_gradient_factor, code, exterior, order_factor, law, model, perturbed, by, out
):
    """Flux (m,) a unit area through boundary face f = boundary number e, unknown `perturbed` of its edge state moved."""
    nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
    p, u, v, w, T = boundary_face_state(q, g, c, f, to_left, boundary_order_factor(code[e], order_factor), law.gamma)
    F = boundary_flux(
        code[e], p + by * (perturbed == 0), u + by * (perturbed == 1), v + by * (perturbed == 2), w + by * (perturbed == 3),
        T + by * (perturbed == 4), exterior[e, 0], exterior[e, 1], exterior[e, 2], exterior[e, 3], exterior[e, 4], nx, ny, nz, law.gamma,
    )  # fmt: skip
    for m in range(5):
        out[m] = F[m]
    for m in range(5, q.shape[1]):
        own = q[c, m] + by * (perturbed == m)
        out[m] = F[0] * (own if F[0] > 0.0 else exterior[e, m])
    if len(model) > 0:
        subtract_boundary_viscous_flux(
            q, g, c, f, e, normal, to_left, wall_gradient_factor, code, exterior, law, model, out
        )


@serial
def boundary_unknowns(q, c, e, code, exterior, wall_height, law, model, state):
    """Fill `state` (m,) at boundary face e of cell c, `wall_height` above it; returns (conducts, mu, heat, spread, spread_w).

    A wall's row of `exterior` holds its velocity, its temperature (0: adiabatic) and the shift of the wall distance by
    its roughness; any other row the state outside.
    """
    floor, blend, conducts = 0.0, 1.0, 1.0
    for m in range(q.shape[1]):
        state[m] = exterior[e, m]
    if code[e] == NO_SLIP:
        state[0] = q[c, 0]
        if exterior[e, 4] <= 0.0:
            state[4], conducts = q[c, 4], 0.0
        if len(model) == 2:
            roughness_shift = exterior[e, 5]
            state[5] = q[c, 5] * roughness_shift / (roughness_shift + wall_height)
            floor = ROUGH_CHI / ROUGH_SHIFT if roughness_shift > 0.0 else 0.0
        if len(model) == 3:
            state[5] = 0.0
            nu = viscosity(state[4], law) * state[4] / (1.0 + law.gamma * state[0])
            state[6] = math.log(WALL_OMEGA_FACTOR * nu / (BETA[0] * wall_height * wall_height))
    x = state[5] if len(model) > 1 else 0.0
    w = state[6] if len(model) > 2 else 0.0
    mu, conductivity, diffusion, diffusion_w = diffusion_coefficients(
        state[0], state[4], x, w, floor, blend, model, law
    )
    return conducts, mu, conductivity, diffusion, diffusion_w


@serial
def subtract_boundary_viscous_flux(
    q, g, c, f, e, normal, to_left, wall_gradient_factor, code, exterior, law, model, out
):
    """Take the friction at boundary face f off the flux `out` a unit area, for cell c of q and g."""
    if code[e] != NO_SLIP and code[e] != IMPOSED:
        return
    nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
    rx, ry, rz = to_left[f, 0], to_left[f, 1], to_left[f, 2]
    state, gradients = np.zeros(q.shape[1]), np.empty((q.shape[1], 3))
    wall_height = rx * nx + ry * ny + rz * nz
    conducts, mu, conductivity, diffusion, diffusion_w = boundary_unknowns(
        q, c, e, code, exterior, wall_height, law, model, state
    )
    tangential = 0.0 if code[e] == NO_SLIP else 1.0
    boundary_gradients(q, g, c, state, tangential, wall_gradient_factor[e], rx, ry, rz, nx, ny, nz, gradients)
    subtract_viscous_stress(gradients, state, mu, conducts * conductivity, diffusion, diffusion_w, nx, ny, nz, out)


@serial
def boundary_fluxes(
    q, g, left, normal, area, to_left, wall_gradient_factor, code, exterior, order_factor, law, model, first, out
):
    """Flux times area of every boundary face, `first` being the number of the first one, into out (nf, m)."""
    none = np.int64(-1)  # a literal would be compiled apart
    for e in range(len(code)):
        f = first + e
        boundary_face_flux(
            q,
            g,
            left[f],
            f,
            e,
            normal,
            to_left,
            wall_gradient_factor,
            code,
            exterior,
            order_factor,
            law,
            model,
            none,
            0.0,
            out[f],
        )
        for m in range(q.shape[1]):
            out[f, m] *= area[f]


@parallel
def sum_faces(flux, start, faces, sign, out):
    """Signed sum of face values (nf, m) into cells out (n, m)."""
    m = flux.shape[1]
    for i in prange(len(out)):
        c = np.int64(i)
        for k in range(m):
            out[c, k] = 0.0
        for e in range(start[c], start[c + 1]):
            f = faces[e]
            for k in range(m):
                out[c, k] += sign[e] * flux[f, k]


class Residual:
    """R(q) on one domain, with its work arrays; `exterior` (nb, m) and `source` (n, m) may be set between calls.

    near (n, 3): see `sources`; without it every wall is smooth and fully turbulent.
    """

    def __init__(
        self,
        domain: FaceData,
        scheme: Scheme,
        law: GasModel,
        mach: float,
        exterior: np.ndarray,
        source: np.ndarray | None = None,
        model: str = "euler",
        wall_data: np.ndarray | None = None,
    ):
        self.domain, self.scheme, self.law, self.model, self.key = domain, scheme, law, model, model_key(model)
        n, m = domain.mesh.n_cells, domain.columns
        kind = model != "euler", not domain.mesh.planar
        self.eps = smooth_variation_squares(mach, m - 5, *kind)
        self.numbers = scheme.numbers(mach, *kind)
        self.exterior, self.source = exterior, source
        self.gradients = np.zeros((n, m, 3))
        self.flux = np.empty((domain.mesh.n_faces, m))
        if wall_data is None:
            wall_data = np.zeros((0, 3))
            if m > 5:
                wall_data = np.stack([domain.mesh.wall_distance, np.zeros(n), np.ones(n)], axis=1)
        self.wall_data = wall_data
        self.closure = initial_closure(wall_data, model)

    def differentiate(self, q: np.ndarray) -> None:
        """Fill `gradients` (n, m, 3) with the gradients of q (n, m)."""
        d = self.domain
        if self.scheme.order == 2 or self.model != "euler":
            d.gradient(q, self.gradients)
            if len(d.axisymmetric_factor):
                self.gradients[:, 2, 1] = q[:, 3] * d.axisymmetric_factor
        if self.model == "sst":
            update_closure(q, self.gradients, self.wall_data, self.law, self.key, self.closure)

    def boundary_fluxes_into(self, q: np.ndarray, out: np.ndarray) -> None:
        """Flux times area of every boundary face into out (nf, m), with the gradients found last."""
        d = self.domain
        boundary_fluxes(q, self.gradients, d.left, d.normal, d.area, d.to_left, d.wall_gradient_factor, d.code, self.exterior, self.numbers[2],
                        self.law, self.key, d.mesh.n_interior, out)  # fmt: skip

    def balance(self, q: np.ndarray) -> np.ndarray:
        """(n, m) net outflow of each cell for states q (n, m) whose gradients were found last; scaled units times m^2."""
        d = self.domain
        kappa, floor, order_factor, turbulence_order_factor = self.numbers
        interior_fluxes(q, self.gradients, self.closure, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.vector_to_right, d.vector_to_left, d.fraction,
                        kappa, order_factor, turbulence_order_factor, floor, self.eps, self.law, self.key, d.axes, self.flux)  # fmt: skip
        self.boundary_fluxes_into(q, self.flux)
        if d.periodic is not None:
            s = d.periodic
            flux = np.empty((len(s.one), q.shape[1]))
            interior_fluxes(s.rows(q), s.gradients(self.gradients), s.closure(self.closure), s.left, s.right, s.normal, s.area, s.to_left, s.to_right, s.separation, s.separation, s.fraction,
                            kappa, order_factor, turbulence_order_factor, floor, self.eps, self.law, self.key, d.axes, flux)  # fmt: skip
            s.give(flux, self.flux)
        out = np.empty_like(q)
        sum_faces(self.flux, d.start, d.faces, d.sign, out)
        if q.shape[1] > 5:
            subtract_sources(q, self.gradients, self.wall_data, d.volume, self.law, self.key, out)
        if len(d.axisymmetric_factor) and self.model != "euler":
            out[:, 3] += self._hoop_friction(q)
        if self.source is not None:
            out -= self.source * d.volume[:, None]
        return out

    def _hoop_friction(self, q: np.ndarray) -> np.ndarray:
        """(n,) pull of the friction on the sides of a wedge towards the axis (White 2006, Viscous Fluid Flow, app. B)."""
        g, axisymmetric_factor = self.gradients, self.domain.axisymmetric_factor
        mu = self.viscosities(q)
        bulk = 2.0 / 3.0 * (g[:, 1, 0] + g[:, 2, 1] + g[:, 3, 2])
        return self.domain.volume * axisymmetric_factor * mu * (2.0 * q[:, 3] * axisymmetric_factor - bulk)

    def __call__(self, q: np.ndarray) -> np.ndarray:
        """(n, m) net outflow of each cell for states q (n, m), in scaled units times m^2."""
        self.differentiate(q)
        return self.balance(q)

    def eddy_ratio(self, q: np.ndarray) -> np.ndarray:
        """(n,) eddy over molecular viscosity, with the gradients found last."""
        out = np.zeros(len(q))
        if self.domain.columns > 5:
            eddy_viscosity_ratio(q, self.closure, self.law, self.key, out)
        return out

    def viscosities(self, q: np.ndarray) -> np.ndarray:
        """(n,) molecular and eddy viscosity together, in scaled units, with the gradients found last."""
        return self.law.viscosity_at(q[:, 4]) * (1.0 + self.eddy_ratio(q))

    def tractions(self, q: np.ndarray) -> np.ndarray:
        """(nb, 3) force on every boundary face over its area, in scaled units (gradients found last); leaves the fluxes."""
        d, ni = self.domain, self.domain.mesh.n_interior
        self.boundary_fluxes_into(q, self.flux)
        out = self.flux[ni:, 1:4] / d.area[ni:, None]
        if not d.mesh.planar:  # what passes a face that stands for a curved wall is no force on it
            slip = d.code == SLIP
            out[slip] = self.boundary_pressure(q)[slip, None] * d.normal[ni:][slip]
        return out

    def heats(self, q: np.ndarray) -> np.ndarray:
        """(nb,) heat that walls give to the air over their area, in scaled units (fluxes of `tractions` of the same q)."""
        d, ni = self.domain, self.domain.mesh.n_interior
        out = np.zeros(d.mesh.n_faces - ni)
        if self.model == "euler":
            return out
        wall = np.flatnonzero((d.code == NO_SLIP) & (self.exterior[:, 4] > 0.0))
        flux = self.flux[ni + wall] / d.area[ni + wall, None]
        pressure = self.boundary_pressure(q)[wall, None] * d.normal[ni + wall]
        out[wall] = -flux[:, 4] - np.einsum("ij,ij->i", self.exterior[wall, 1:4], pressure - flux[:, 1:4])
        return out

    def boundary_pressure(self, q: np.ndarray) -> np.ndarray:
        """(nb,) gauge pressure at every boundary face, extrapolated from the cell as the fluxes do (gradients found last)."""
        d = self.domain
        ni = d.mesh.n_interior
        cell = d.left[ni:]
        p = q[cell, 0] + np.einsum("ij,ij->i", self.gradients[cell, 0], d.to_left[ni:])
        return np.where(
            1.0 + self.law.gamma * p < LEAST_FACE_FRACTION * (1.0 + self.law.gamma * q[cell, 0]), q[cell, 0], p
        )
