"""The residual: net outflow of mass, momentum and energy of every cell.

Three race-free sweeps: gradients (a gather a cell), fluxes (one a face), sums (a gather a cell).
Verified by tests/test_flow.py and validation/manufactured.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.flow.boundary import FARFIELD, boundary_flux
from zephyrum.flow.domain import Domain
from zephyrum.flow.gradient import gradient
from zephyrum.flow.kernels import parallel, prange, serial
from zephyrum.flow.lanes import FLUX, LANES, SAFE, SIZE, fluxes, gather, reconstruct
from zephyrum.flow.limiter import MODES


@dataclass(frozen=True)
class Scheme:
    """Choices of the discretisation: kappa of the reconstruction, limiter mode, order (1 or 2)."""

    kappa: float = 1.0 / 3.0
    limiter: str = "auto"
    order: int = 2

    def numbers(self) -> tuple[float, int, float]:
        """(kappa, limiter code, 0.0 or 1.0 for the slope) as the kernels want them."""
        return self.kappa, MODES.index(self.limiter), 1.0 if self.order == 2 else 0.0


def noise(mach: float) -> np.ndarray:
    """(5,) square of the variation of each unknown that the limiter takes as smooth."""
    e = (0.01 * mach) ** 2
    return np.array([0.5 * e, e, e, e, e])


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
    q, g, left, right, normal, area, to_left, to_right, apart, share, kappa, slope, mode, eps, gamma, dims, out
):
    """Flux times area of every interior face into out (nf, 5). Reads 2 x 20 cell values and 18 of geometry a face."""
    ni = len(right)
    for block in prange((ni + LANES - 1) // LANES):
        low = np.int64(block) * LANES
        s = np.zeros(SIZE)
        gather(s, low, q, g, left, right, normal, area, to_left, to_right, apart, share, dims)
        reconstruct(s, kappa, slope, mode, eps, gamma, dims)
        fluxes(s, 0.0, 0.0, 0, gamma)
        for k in range(min(LANES, ni - low)):
            for m in range(5):
                out[low + k, m] = s[FLUX + m * LANES + k]


@parallel
def boundary_fluxes(q, g, left, normal, area, to_left, code, outer, slope, gamma, first, out):
    """Flux times area of every boundary face, `first` being the number of the first one, into out (nf, 5)."""
    for i in prange(len(code)):
        e = np.int64(i)
        f = first + e
        L = edge_state(q, g, left[f], f, to_left, edge_slope(code[e], slope), gamma)
        F = boundary_flux(
            code[e], L[0], L[1], L[2], L[3], L[4], outer[e, 0], outer[e, 1], outer[e, 2], outer[e, 3], outer[e, 4],
            normal[f, 0], normal[f, 1], normal[f, 2], gamma,
        )  # fmt: skip
        for m in range(5):
            out[f, m] = area[f] * F[m]


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
    """R(q) on one domain, with its work arrays; `outer` (nb, 5) and `source` (n, 5) may be set between calls."""

    def __init__(
        self,
        domain: Domain,
        scheme: Scheme,
        gamma: float,
        mach: float,
        outer: np.ndarray,
        source: np.ndarray | None = None,
    ):
        self.domain, self.scheme, self.gamma = domain, scheme, gamma
        self.eps = noise(mach)
        self.outer, self.source = outer, source
        n = domain.mesh.n_cells
        self.slopes = np.zeros((n, 5, 3))
        self.flux = np.empty((domain.mesh.n_faces, 5))

    def differentiate(self, q: np.ndarray) -> None:
        """Fill `slopes` (n, 5, 3) with the gradients of q (n, 5)."""
        d = self.domain
        if self.scheme.order == 2:
            gradient(q, d.g_start, d.g_cell, d.g_weight, self.slopes)

    def fluxes(self, q: np.ndarray, out: np.ndarray) -> None:
        """Flux times area of every face into out (nf, 5), with the gradients found last."""
        d = self.domain
        kappa, mode, slope = self.scheme.numbers()
        interior_fluxes(q, self.slopes, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.apart, d.share,
                        kappa, slope, mode, self.eps, self.gamma, d.dims, out)  # fmt: skip
        boundary_fluxes(q, self.slopes, d.left, d.normal, d.area, d.to_left, d.code, self.outer, slope, self.gamma,
                        d.mesh.n_interior, out)  # fmt: skip

    def balance(self, q: np.ndarray) -> np.ndarray:
        """(n, 5) net outflow of each cell for states q (n, 5) whose gradients were found last; scaled units times m^2."""
        d = self.domain
        self.fluxes(q, self.flux)
        out = np.empty_like(q)
        sum_faces(self.flux, d.start, d.faces, d.sign, out)
        if self.source is not None:
            out -= self.source * d.volume[:, None]
        return out

    def __call__(self, q: np.ndarray) -> np.ndarray:
        """(n, 5) net outflow of each cell for states q (n, 5), in scaled units times m^2."""
        self.differentiate(q)
        return self.balance(q)

    def boundary_pressure(self, q: np.ndarray) -> np.ndarray:
        """(nb,) gauge pressure at every boundary face, extrapolated from the cell as the fluxes do (gradients found last)."""
        d = self.domain
        ni = d.mesh.n_interior
        cell = d.left[ni:]
        p = q[cell, 0] + np.einsum("ij,ij->i", self.slopes[cell, 0], d.to_left[ni:])
        return np.where(1.0 + self.gamma * p < SAFE * (1.0 + self.gamma * q[cell, 0]), q[cell, 0], p)
