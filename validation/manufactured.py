"""Method of manufactured solutions for the Euler equations (Roache 2002, J. Fluids Eng. 124:4).

Smooth fields of all five unknowns are imposed on the boundary; the source that makes them a solution is found by exact
differentiation (complex step) of the fluxes and integrated over each cell by Gauss points.
"""

import numpy as np

from validation.grids import box
from zephyrum.air import Freestream, Reference
from zephyrum.flow import Settings, march

GAMMA = 1.4


def state(x, z):
    """(p, u, w, T) at x, z (may be complex), scaled units."""
    p = 0.06 * np.sin(2.1 * x + 0.4) * np.cos(1.7 * z)
    u = 0.55 + 0.09 * np.sin(1.9 * x - 0.3) * np.cos(2.3 * z + 0.2)
    w = 0.25 + 0.08 * np.cos(2.2 * x) * np.sin(1.8 * z + 0.5)
    T = 1.0 + 0.07 * np.cos(1.6 * x + 0.7) * np.sin(2.0 * z + 0.1)
    return p, u, w, T


def source(x, z):
    """(n, 5) divergence of the exact fluxes."""
    out = np.zeros((len(x), 5))
    h = 1e-30

    def flux(x, z, along):
        p, u, w, T = state(x, z)
        un = u if along == "x" else w
        m = (1.0 + GAMMA * p) / T * un
        H = T / (GAMMA - 1.0) + 0.5 * (u * u + w * w)
        return (m, m * u + (p if along == "x" else 0.0), 0.0 * m, m * w + (p if along == "z" else 0.0), m * H)

    for k in range(5):
        out[:, k] = np.imag(flux(x + 1j * h, z, "x")[k] + flux(x, z + 1j * h, "z")[k]) / h
    return out


def cell_means(mesh, function):
    """(n, m) means of `function(x, z)` over cells, by the degree-5 triangle rule on a fan (Dunavant 1985)."""
    corners, start = mesh.cell_rings
    counts = np.diff(start)
    owner = np.repeat(np.arange(mesh.n_cells), counts)
    follow = np.arange(1, len(corners) + 1)
    follow[start[1:] - 1] = start[:-1]
    p = mesh.points[:, [0, 2]]
    a, b, c = mesh.cell_centroid[owner][:, [0, 2]], p[corners], p[corners[follow]]
    area = 0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])
    r1, r2 = 0.101286507323456, 0.470142064105115
    rule = [((1 / 3, 1 / 3, 1 / 3), 0.225)]
    for r, weight in ((r1, 0.125939180544827), (r2, 0.132394152788506)):
        rule += [((1 - 2 * r, r, r), weight), ((r, 1 - 2 * r, r), weight), ((r, r, 1 - 2 * r), weight)]
    total = 0.0
    for (wa, wb, wc), weight in rule:
        at = wa * a + wb * b + wc * c
        total = total + weight * area[:, None] * function(at[:, 0], at[:, 1])
    out = np.stack([np.bincount(owner, total[:, k], mesh.n_cells) for k in range(total.shape[1])], axis=1)
    return out / (mesh.cell_volume / mesh.depth)[:, None]


def full_state(x, z):
    """(n, 5) states with v = 0."""
    p, u, w, T = state(x, z)
    return np.stack([p, u, 0.0 * p, w, T], axis=1)


def errors(n: int, perturbed: float, smooth: float, gradient: str = "green-gauss") -> np.ndarray:
    """L1 errors of p, u, w, T on a box of n x n cells."""
    mesh = box(n, perturbed, smooth)
    ni = mesh.n_interior
    face = mesh.face_centroid[ni:]
    exact = cell_means(mesh, full_state)
    reference = Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0))
    settings = Settings(orders=9, limiter="off", gradient=gradient, vortex=False, cfl=1e3)
    flow = march(
        mesh,
        Freestream(mach=0.6),
        reference,
        settings,
        start=exact.copy(),
        source=cell_means(mesh, source),
        outer=full_state(face[:, 0], face[:, 2]),
    )
    assert flow.verdict == "settled", flow.reason
    volume = mesh.cell_volume
    return (np.abs(flow.q - exact) * volume[:, None]).sum(axis=0)[[0, 1, 3, 4]] / volume.sum()


def orders(sizes=(16, 32, 64), **kind) -> tuple[np.ndarray, list[np.ndarray]]:
    """Observed orders (4,) between the two finest sizes, and all errors."""
    found = [errors(n, **kind) for n in sizes]
    return np.log(found[-2] / found[-1]) / np.log(sizes[-1] / sizes[-2]), found
