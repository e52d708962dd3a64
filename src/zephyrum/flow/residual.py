"""The residual: net outflow of mass, momentum and energy of every cell.

Three race-free sweeps: gradients (a gather a cell), fluxes (one a face), sums (a gather a cell).
Verified by tests/test_flow.py and validation/manufactured.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.flow.boundary import FARFIELD, boundary_flux
from zephyrum.flow.domain import Domain
from zephyrum.flow.flux import roe_flux
from zephyrum.flow.gradient import gradient
from zephyrum.flow.kernels import parallel, prange, serial
from zephyrum.flow.limiter import MODES, limit_weight, van_albada

SAFE = 0.2  # a face value of pressure or temperature below this share of the cell's is not used


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
def rise(gx, gy, gz, rx, ry, rz, dx, dy, dz, jump, share, kappa, weight, eps):
    """Rise from a cell centroid to the face, limited; `jump` is the neighbour's value minus the cell's, along d."""
    gd = gx * dx + gy * dy + gz * dz
    up = gx * rx + gy * ry + gz * rz + kappa * share * (jump - gd)
    if weight > 0.0:
        s, _, _ = van_albada(2.0 * gd - jump, jump, eps)
        up *= 1.0 - weight * (1.0 - s)
    return up


@serial
def side_state(q, g, c, rx, ry, rz, dx, dy, dz, jp, ju, jv, jw, jt, share, kappa, slope, weight, eps, gamma):
    """State (5) that cell `c` shows at a face at offset r; j*: jumps to the neighbour along d."""
    p0, u0, v0, w0, t0 = q[c, 0], q[c, 1], q[c, 2], q[c, 3], q[c, 4]
    if slope == 0.0:
        return p0, u0, v0, w0, t0
    p = p0 + rise(g[c, 0, 0], g[c, 0, 1], g[c, 0, 2], rx, ry, rz, dx, dy, dz, jp, share, kappa, weight, eps[0])
    t = t0 + rise(g[c, 4, 0], g[c, 4, 1], g[c, 4, 2], rx, ry, rz, dx, dy, dz, jt, share, kappa, weight, eps[4])
    if 1.0 + gamma * p < SAFE * (1.0 + gamma * p0) or t < SAFE * t0:
        return p0, u0, v0, w0, t0
    u = u0 + rise(g[c, 1, 0], g[c, 1, 1], g[c, 1, 2], rx, ry, rz, dx, dy, dz, ju, share, kappa, weight, eps[1])
    v = v0
    if v0 != 0.0 or jv != 0.0:  # never in two dimensions
        v = v0 + rise(g[c, 2, 0], g[c, 2, 1], g[c, 2, 2], rx, ry, rz, dx, dy, dz, jv, share, kappa, weight, eps[2])
    w = w0 + rise(g[c, 3, 0], g[c, 3, 1], g[c, 3, 2], rx, ry, rz, dx, dy, dz, jw, share, kappa, weight, eps[3])
    return p, u, v, w, t


@serial
def upwind_pressure(q, g, a, b, apart, f):
    """Pressure differences on the far side of cells a and b of face f, along the line between them."""
    dx, dy, dz = apart[f, 0], apart[f, 1], apart[f, 2]
    jp = q[b, 0] - q[a, 0]
    far_a = 2.0 * (g[a, 0, 0] * dx + g[a, 0, 1] * dy + g[a, 0, 2] * dz) - jp
    far_b = 2.0 * (g[b, 0, 0] * dx + g[b, 0, 1] * dy + g[b, 0, 2] * dz) - jp
    return far_a, far_b


@serial
def face_weight(q, g, a, b, apart, f, mode, gamma):
    """Limiter weight at face f between cells a and b."""
    if mode == 2:
        return 0.0
    far_a, far_b = upwind_pressure(q, g, a, b, apart, f)
    return limit_weight(
        mode,
        q[a, 0],
        q[a, 1],
        q[a, 2],
        q[a, 3],
        q[a, 4],
        q[b, 0],
        q[b, 1],
        q[b, 2],
        q[b, 3],
        q[b, 4],
        far_a,
        far_b,
        gamma,
    )


@serial
def face_states(q, g, a, b, f, to_left, to_right, apart, share, kappa, slope, weight, eps, gamma):
    """Both states (5) + (5) at interior face f between cells a and b."""
    jp, ju, jv, jw, jt = q[b, 0] - q[a, 0], q[b, 1] - q[a, 1], q[b, 2] - q[a, 2], q[b, 3] - q[a, 3], q[b, 4] - q[a, 4]
    dx, dy, dz = apart[f, 0], apart[f, 1], apart[f, 2]
    L = side_state(
        q,
        g,
        a,
        to_left[f, 0],
        to_left[f, 1],
        to_left[f, 2],
        dx,
        dy,
        dz,
        jp,
        ju,
        jv,
        jw,
        jt,
        share[f, 0],
        kappa,
        slope,
        weight,
        eps,
        gamma,
    )
    R = side_state(
        q,
        g,
        b,
        to_right[f, 0],
        to_right[f, 1],
        to_right[f, 2],
        -dx,
        -dy,
        -dz,
        -jp,
        -ju,
        -jv,
        -jw,
        -jt,
        share[f, 1],
        kappa,
        slope,
        weight,
        eps,
        gamma,
    )
    return L, R


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
def face_fluxes(
    q, g, left, right, normal, area, to_left, to_right, apart, share, code, outer, kappa, slope, mode, eps, gamma, out
):
    """Flux times area of every face into out (nf, 5). Reads 2 x 20 cell values and 18 of geometry a face, writes 5."""
    ni = len(right)
    for i in prange(len(left)):
        f = np.int64(i)
        nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
        a = left[f]
        if f < ni:
            b = right[f]
            weight = face_weight(q, g, a, b, apart, f, mode, gamma) if slope != 0.0 else 0.0
            L, R = face_states(q, g, a, b, f, to_left, to_right, apart, share, kappa, slope, weight, eps, gamma)
            F = roe_flux(L[0], L[1], L[2], L[3], L[4], R[0], R[1], R[2], R[3], R[4], nx, ny, nz, gamma)
        else:
            e = f - ni
            L = edge_state(q, g, a, f, to_left, edge_slope(code[e], slope), gamma)
            F = boundary_flux(
                code[e],
                L[0],
                L[1],
                L[2],
                L[3],
                L[4],
                outer[e, 0],
                outer[e, 1],
                outer[e, 2],
                outer[e, 3],
                outer[e, 4],
                nx,
                ny,
                nz,
                gamma,
            )
        s = area[f]
        out[f, 0], out[f, 1], out[f, 2], out[f, 3], out[f, 4] = s * F[0], s * F[1], s * F[2], s * F[3], s * F[4]


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
        face_fluxes(q, self.slopes, d.left, d.right, d.normal, d.area, d.to_left, d.to_right, d.apart, d.share, d.code,
                    self.outer, kappa, slope, mode, self.eps, self.gamma, out)  # fmt: skip

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
