"""The residual: net outflow of mass, momentum and energy of every cell.

Three race-free sweeps: gradients (a gather a cell), fluxes (one a face), sums (a gather a cell).
Verified by tests/test_flow.py and validation/manufactured.py.
"""

import math
from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import parallel, prange, serial
from zephyrum.flow.boundary import FARFIELD, IMPOSED, NO_SLIP, SLIP, boundary_flux
from zephyrum.flow.domain import Domain
from zephyrum.flow.gas import Law
from zephyrum.flow.lanes import FLUX, LANES, SAFE, SIZE, convect, gather, reconstruct
from zephyrum.flow.limiter import least_weight, smooth_step
from zephyrum.flow.sources import add_sources, close, closure_of, eddy_ratio
from zephyrum.flow.turbulence import added, key_of
from zephyrum.flow.turbulence.sa import ROUGH_CHI, ROUGH_SHIFT
from zephyrum.flow.turbulence.sst import BETA, WALL_RATE
from zephyrum.flow.viscous import coefficients, correct_slopes, diffuse, viscosity


@dataclass(frozen=True)
class Scheme:
    """Choices of the discretisation: kappa of the reconstruction, limiter mode, order (1 or 2) of flow and turbulence."""

    kappa: float = 1.0 / 3.0
    limiter: str = "auto"
    order: int = 2
    turbulence_order: int = 1

    def numbers(self, mach: float, friction: bool, space: bool) -> tuple[float, float, float, float]:
        """(kappa, least weight of the limiter, 0.0 or 1.0 for the slope of the flow and of turbulence) for the kernels."""
        slope = 1.0 if self.order == 2 else 0.0
        least = least_weight(self.limiter, mach, friction, space)
        return self.kappa, least, slope, slope if self.turbulence_order == 2 else 0.0


def noise(mach: float, turbulence: int, friction: bool, space: bool) -> np.ndarray:
    """(5 + turbulence,) square of the variation of each unknown that the limiter takes as smooth."""
    e = (smooth_step(mach, friction, space) * mach) ** 2
    return np.array([0.5 * e, e, e, e, e] + turbulence * [1.0])


@serial
def edge_slope(code, slope):
    """No extrapolation to the farfield: there the cells are wide and the stream is nearly uniform."""
    return 0.0 if code == FARFIELD else slope


@serial
def edge_state(q, g, c, f, to_left, slope, gamma):
    """State (5) of cell c extrapolated to its boundary face f."""
    rx, ry, rz = to_left[f, 0], to_left[f, 1], to_left[f, 2]
    p0, t0 = q[c, 0], q[c, 4]
    p = p0 + slope * (g[c, 0, 0] * rx + g[c, 0, 1] * ry + g[c, 0, 2] * rz)
    t = t0 + slope * (g[c, 4, 0] * rx + g[c, 4, 1] * ry + g[c, 4, 2] * rz)
    if 1.0 + gamma * p < SAFE * (1.0 + gamma * p0) or t < SAFE * t0:
        return p0, q[c, 1], q[c, 2], q[c, 3], t0
    u = q[c, 1] + slope * (g[c, 1, 0] * rx + g[c, 1, 1] * ry + g[c, 1, 2] * rz)
    v = q[c, 2] + slope * (g[c, 2, 0] * rx + g[c, 2, 1] * ry + g[c, 2, 2] * rz)
    w = q[c, 3] + slope * (g[c, 3, 0] * rx + g[c, 3, 1] * ry + g[c, 3, 2] * rz)
    return p, u, v, w, t


@parallel
def interior_fluxes(
    q, g, closure, left, right, normal, area, to_left, to_right, ahead, back, share, kappa, slope, turbulent_slope, floor,
    eps, law, model, axes, out
):  # fmt: skip
    """Flux times area of every interior face into out (nf, m). Reads 2 x 4 m cell values and 18 of geometry a face."""
    ni, nt = len(right), added(model)
    for block in prange((ni + LANES - 1) // LANES):
        low = np.int64(block) * LANES
        s = np.empty(SIZE)
        gather(s, low, q, g, closure, left, right, normal, area, to_left, to_right, ahead, back, share, axes, model)
        reconstruct(s, kappa, slope, turbulent_slope, floor, eps, law.gamma, axes)
        convect(s, nt, law.gamma)
        if len(model) > 0:
            correct_slopes(s, axes)
            diffuse(s, model, law)
        for m in range(5 + nt):
            for k in range(min(LANES, ni - low)):
                out[low + k, m] = s[FLUX + m * LANES + k]


@serial
def edge_slopes(q, g, c, state, tangential, lever, rx, ry, rz, nx, ny, nz, out):
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
            up += lever * (up - gn)
        out[m, 0] = up * nx + tangential * (gx - gn * nx)
        out[m, 1] = up * ny + tangential * (gy - gn * ny)
        out[m, 2] = up * nz + tangential * (gz - gn * nz)


@serial
def take_friction(s, state, mu, heat, spread, spread_w, nx, ny, nz, out):
    """Take friction, conduction and diffusion for gradients s (m, 3) off the flux `out` a unit area."""
    bulk = 2.0 / 3.0 * (s[1, 0] + s[2, 1] + s[3, 2])
    fx = mu * (2.0 * s[1, 0] * nx + (s[1, 1] + s[2, 0]) * ny + (s[1, 2] + s[3, 0]) * nz - bulk * nx)
    fy = mu * ((s[2, 0] + s[1, 1]) * nx + 2.0 * s[2, 1] * ny + (s[2, 2] + s[3, 1]) * nz - bulk * ny)
    fz = mu * ((s[3, 0] + s[1, 2]) * nx + (s[3, 1] + s[2, 2]) * ny + 2.0 * s[3, 2] * nz - bulk * nz)
    out[1] -= fx
    out[2] -= fy
    out[3] -= fz
    out[4] -= state[1] * fx + state[2] * fy + state[3] * fz + heat * (s[4, 0] * nx + s[4, 1] * ny + s[4, 2] * nz)
    if len(s) > 5:
        out[5] -= spread * (s[5, 0] * nx + s[5, 1] * ny + s[5, 2] * nz)
    if len(s) > 6:
        out[6] -= spread_w * (s[6, 0] * nx + s[6, 1] * ny + s[6, 2] * nz)


@serial
def edge_flux(q, g, c, f, e, normal, to_left, lever, code, outer, slope, law, model, nudged, by, out):
    """Flux (m,) a unit area through boundary face f = boundary number e, unknown `nudged` of its edge state moved."""
    nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
    p, u, v, w, T = edge_state(q, g, c, f, to_left, edge_slope(code[e], slope), law.gamma)
    F = boundary_flux(
        code[e], p + by * (nudged == 0), u + by * (nudged == 1), v + by * (nudged == 2), w + by * (nudged == 3),
        T + by * (nudged == 4), outer[e, 0], outer[e, 1], outer[e, 2], outer[e, 3], outer[e, 4], nx, ny, nz, law.gamma,
    )  # fmt: skip
    for m in range(5):
        out[m] = F[m]
    for m in range(5, q.shape[1]):
        own = q[c, m] + by * (nudged == m)
        out[m] = F[0] * (own if F[0] > 0.0 else outer[e, m])
    if len(model) > 0:
        edge_friction(q, g, c, f, e, normal, to_left, lever, code, outer, law, model, out)


@serial
def edge_unknowns(q, c, e, code, outer, high, law, model, state):
    """Fill `state` (m,) at boundary face e of cell c, `high` above it; returns (conducts, mu, heat, spread, spread_w).

    A wall's row of `outer` holds its velocity, its temperature (0: adiabatic) and the shift of the wall distance by
    its roughness; any other row the state outside.
    """
    floor, blend, conducts = 0.0, 1.0, 1.0
    for m in range(q.shape[1]):
        state[m] = outer[e, m]
    if code[e] == NO_SLIP:
        state[0] = q[c, 0]
        if outer[e, 4] <= 0.0:
            state[4], conducts = q[c, 4], 0.0
        if len(model) == 2:
            shift = outer[e, 5]
            state[5] = q[c, 5] * shift / (shift + high)
            floor = ROUGH_CHI / ROUGH_SHIFT if shift > 0.0 else 0.0
        if len(model) == 3:
            state[5] = 0.0
            nu = viscosity(state[4], law) * state[4] / (1.0 + law.gamma * state[0])
            state[6] = math.log(WALL_RATE * nu / (BETA[0] * high * high))
    x = state[5] if len(model) > 1 else 0.0
    w = state[6] if len(model) > 2 else 0.0
    mu, heat, spread, spread_w = coefficients(state[0], state[4], x, w, floor, blend, model, law)
    return conducts, mu, heat, spread, spread_w


@serial
def edge_friction(q, g, c, f, e, normal, to_left, lever, code, outer, law, model, out):
    """Take the friction at boundary face f off the flux `out` a unit area, for cell c of q and g."""
    if code[e] != NO_SLIP and code[e] != IMPOSED:
        return
    nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
    rx, ry, rz = to_left[f, 0], to_left[f, 1], to_left[f, 2]
    state, slopes = np.zeros(q.shape[1]), np.empty((q.shape[1], 3))
    high = rx * nx + ry * ny + rz * nz
    conducts, mu, heat, spread, spread_w = edge_unknowns(q, c, e, code, outer, high, law, model, state)
    tangential = 0.0 if code[e] == NO_SLIP else 1.0
    edge_slopes(q, g, c, state, tangential, lever[e], rx, ry, rz, nx, ny, nz, slopes)
    take_friction(slopes, state, mu, conducts * heat, spread, spread_w, nx, ny, nz, out)


@serial
def boundary_fluxes(q, g, left, normal, area, to_left, lever, code, outer, slope, law, model, first, out):
    """Flux times area of every boundary face, `first` being the number of the first one, into out (nf, m)."""
    none = np.int64(-1)  # a literal would be compiled apart
    for e in range(len(code)):
        f = first + e
        edge_flux(q, g, left[f], f, e, normal, to_left, lever, code, outer, slope, law, model, none, 0.0, out[f])
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
    """R(q) on one domain, with its work arrays; `outer` (nb, m) and `source` (n, m) may be set between calls.

    near (n, 3): see `sources`; without it every wall is smooth and fully turbulent.
    """

    def __init__(
        self,
        domain: Domain,
        scheme: Scheme,
        law: Law,
        mach: float,
        outer: np.ndarray,
        source: np.ndarray | None = None,
        model: str = "euler",
        near: np.ndarray | None = None,
    ):
        self.domain, self.scheme, self.law, self.model, self.key = domain, scheme, law, model, key_of(model)
        n, m = domain.mesh.n_cells, domain.columns
        kind = model != "euler", not domain.mesh.planar
        self.eps = noise(mach, m - 5, *kind)
        self.numbers = scheme.numbers(mach, *kind)
        self.outer, self.source = outer, source
        self.slopes = np.zeros((n, m, 3))
        self.flux = np.empty((domain.mesh.n_faces, m))
        if near is None:
            near = np.zeros((0, 3))
            if m > 5:
                near = np.stack([domain.mesh.wall_distance, np.zeros(n), np.ones(n)], axis=1)
        self.near = near
        self.closure = closure_of(near, model)

    def differentiate(self, q: np.ndarray) -> None:
        """Fill `slopes` (n, m, 3) with the gradients of q (n, m)."""
        d = self.domain
        if self.scheme.order == 2 or self.model != "euler":
            d.gradient(q, self.slopes)
            if len(d.hoop):
                self.slopes[:, 2, 1] = q[:, 3] * d.hoop
        if self.model == "sst":
            close(q, self.slopes, self.near, self.law, self.key, self.closure)

    def edge_fluxes(self, q: np.ndarray, out: np.ndarray) -> None:
        """Flux times area of every boundary face into out (nf, m), with the gradients found last."""
        d = self.domain
        boundary_fluxes(q, self.slopes, d.left, d.normal, d.area, d.to_left, d.lever, d.code, self.outer, self.numbers[2],
                        self.law, self.key, d.mesh.n_interior, out)  # fmt: skip

    def balance(self, q: np.ndarray) -> np.ndarray:
        """(n, m) net outflow of each cell for states q (n, m) whose gradients were found last; scaled units times m^2."""
        d = self.domain
        kappa, floor, slope, turbulent_slope = self.numbers
        interior_fluxes(q, self.slopes, self.closure, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.ahead, d.back, d.share,
                        kappa, slope, turbulent_slope, floor, self.eps, self.law, self.key, d.axes, self.flux)  # fmt: skip
        self.edge_fluxes(q, self.flux)
        if d.seam is not None:
            s = d.seam
            flux = np.empty((len(s.one), q.shape[1]))
            interior_fluxes(s.rows(q), s.slopes(self.slopes), s.closure(self.closure), s.left, s.right, s.normal, s.area, s.to_left, s.to_right, s.apart, s.apart, s.share,
                            kappa, slope, turbulent_slope, floor, self.eps, self.law, self.key, d.axes, flux)  # fmt: skip
            s.give(flux, self.flux)
        out = np.empty_like(q)
        sum_faces(self.flux, d.start, d.faces, d.sign, out)
        if q.shape[1] > 5:
            add_sources(q, self.slopes, self.near, d.volume, self.law, self.key, out)
        if len(d.hoop) and self.model != "euler":
            out[:, 3] += self._hoop_friction(q)
        if self.source is not None:
            out -= self.source * d.volume[:, None]
        return out

    def _hoop_friction(self, q: np.ndarray) -> np.ndarray:
        """(n,) pull of the friction on the sides of a wedge towards the axis (White 2006, Viscous Fluid Flow, app. B)."""
        g, hoop = self.slopes, self.domain.hoop
        mu = self.viscosities(q)
        bulk = 2.0 / 3.0 * (g[:, 1, 0] + g[:, 2, 1] + g[:, 3, 2])
        return self.domain.volume * hoop * mu * (2.0 * q[:, 3] * hoop - bulk)

    def __call__(self, q: np.ndarray) -> np.ndarray:
        """(n, m) net outflow of each cell for states q (n, m), in scaled units times m^2."""
        self.differentiate(q)
        return self.balance(q)

    def eddies(self, q: np.ndarray) -> np.ndarray:
        """(n,) eddy over molecular viscosity, with the gradients found last."""
        out = np.zeros(len(q))
        if self.domain.columns > 5:
            eddy_ratio(q, self.closure, self.law, self.key, out)
        return out

    def viscosities(self, q: np.ndarray) -> np.ndarray:
        """(n,) molecular and eddy viscosity together, in scaled units, with the gradients found last."""
        return self.law.viscosity_at(q[:, 4]) * (1.0 + self.eddies(q))

    def tractions(self, q: np.ndarray) -> np.ndarray:
        """(nb, 3) force on every boundary face over its area, in scaled units (gradients found last); leaves the fluxes."""
        d, ni = self.domain, self.domain.mesh.n_interior
        self.edge_fluxes(q, self.flux)
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
        wall = np.flatnonzero((d.code == NO_SLIP) & (self.outer[:, 4] > 0.0))
        flux = self.flux[ni + wall] / d.area[ni + wall, None]
        pressure = self.boundary_pressure(q)[wall, None] * d.normal[ni + wall]
        out[wall] = -flux[:, 4] - np.einsum("ij,ij->i", self.outer[wall, 1:4], pressure - flux[:, 1:4])
        return out

    def boundary_pressure(self, q: np.ndarray) -> np.ndarray:
        """(nb,) gauge pressure at every boundary face, extrapolated from the cell as the fluxes do (gradients found last)."""
        d = self.domain
        ni = d.mesh.n_interior
        cell = d.left[ni:]
        p = q[cell, 0] + np.einsum("ij,ij->i", self.slopes[cell, 0], d.to_left[ni:])
        return np.where(1.0 + self.law.gamma * p < SAFE * (1.0 + self.law.gamma * q[cell, 0]), q[cell, 0], p)
