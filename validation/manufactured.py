"""Manufactured solutions of the Euler, Navier-Stokes and Spalart-Allmaras equations (Roache 2002, J. Fluids Eng.
124:4).

Smooth fields of all unknowns are imposed on the boundary; the source that makes them a solution is found by exact
differentiation (complex step) of the fluxes and integrated over each cell by Gauss points. The wall of the turbulent
one lies half a length below the box.
"""

import numpy as np

from validation.grids import box
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import FlowProblem, Limiter, Numerics, Reconstruction, Start, solve_steady
from zephyrum.flow.discretization.turbulence_sources import subtract_sources
from zephyrum.flow.physics.gas_model import GasModel, Scales
from zephyrum.flow.physics.turbulence.sa import CV1, SIGMA

GAMMA = 1.4
WALL = -0.5  # height of the wall that the turbulent solution knows of


def state(x, z):
    """(p, u, w, T) at x, z (may be complex), scaled units."""
    p = 0.06 * np.sin(2.1 * x + 0.4) * np.cos(1.7 * z)
    u = 0.55 + 0.09 * np.sin(1.9 * x - 0.3) * np.cos(2.3 * z + 0.2)
    w = 0.25 + 0.08 * np.cos(2.2 * x) * np.sin(1.8 * z + 0.5)
    T = 1.0 + 0.07 * np.cos(1.6 * x + 0.7) * np.sin(2.0 * z + 0.1)
    return p, u, w, T


def turbulence(x, z):
    """nu~ over the freestream's nu at x, z (may be complex)."""
    return 20.0 + 8.0 * np.sin(1.8 * x + 0.3) * np.cos(2.1 * z - 0.4)


def source(x, z, law: GasModel | None = None, model: str = "laminar"):
    """(n, m) divergence of the exact fluxes less the exact sources; friction and conduction with a viscous `law`."""
    turbulent = model == "sa"
    out = np.zeros((len(x), 6 if turbulent else 5))
    h = 1e-30

    def slope(x, z, along):
        """Derivatives of (p, u, w, T, nu~) by central differences of 8th order: exact to round-off, and valid in
        complex x, z.
        """
        d = 2e-2
        total = [0.0] * 5
        for k, weight in ((1, 4 / 5), (2, -1 / 5), (3, 4 / 105), (4, -1 / 280)):
            dx, dz = (k * d, 0.0) if along == "x" else (0.0, k * d)
            for sign in (1.0, -1.0):
                at = (x + sign * dx, z + sign * dz)
                values = (*state(*at), turbulence(*at))
                total = [old + sign * weight / d * new for old, new in zip(total, values, strict=True)]
        return total

    def flux(x, z, along):
        p, u, w, T = state(x, z)
        un = u if along == "x" else w
        m = (1.0 + GAMMA * p) / T * un
        H = T / (GAMMA - 1.0) + 0.5 * (u * u + w * w)
        fx, fz, fe = m * u + (p if along == "x" else 0.0), m * w + (p if along == "z" else 0.0), m * H
        ft = m * turbulence(x, z)
        if law is not None:
            mu = law.viscosity_at(T)
            heat = mu / law.prandtl
            (_, ux, wx, Tx, xx), (_, uz, wz, Tz, xz) = slope(x, z, "x"), slope(x, z, "z")
            if turbulent:
                own = (1.0 + GAMMA * p) / T * law.viscosity * turbulence(x, z)
                cube = (own / mu) ** 3
                eddy = own * cube / (cube + CV1**3)
                ft = ft - (mu + own) / SIGMA * (xx if along == "x" else xz)
                mu, heat = mu + eddy, heat + eddy / law.turbulent_prandtl
            bulk = 2.0 / 3.0 * (ux + wz)
            tx, tz = (2.0 * ux - bulk, uz + wx) if along == "x" else (uz + wx, 2.0 * wz - bulk)
            heat = heat * (Tx if along == "x" else Tz) / (GAMMA - 1.0)
            fx, fz, fe = fx - mu * tx, fz - mu * tz, fe - mu * (u * tx + w * tz) - heat
        return (m, fx, 0.0 * m, fz, fe, ft)[: out.shape[1]]

    for k, (fx, fz) in enumerate(zip(flux(x + 1j * h, z, "x"), flux(x, z + 1j * h, "z"), strict=True)):
        out[:, k] = np.imag(fx + fz) / h
    if turbulent:
        q, g = full_state(x, z, "sa"), np.zeros((len(x), 6, 3))
        g[:, [0, 1, 3, 4, 5], 0] = np.stack(slope(x, z, "x"), axis=1)
        g[:, [0, 1, 3, 4, 5], 2] = np.stack(slope(x, z, "z"), axis=1)
        near = np.stack([z - WALL, 0.0 * z, 0.0 * z + 1.0], axis=1)
        subtract_sources(q, g, near, np.ones(len(x)), law, (0,), out)
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


def full_state(x, z, model: str = "laminar"):
    """(n, m) states with v = 0."""
    p, u, w, T = state(x, z)
    return np.stack([p, u, 0.0 * p, w, T] + [turbulence(x, z)] * (model == "sa"), axis=1)


def errors(
    n: int,
    perturbed: float,
    smooth: float,
    gradient: str = "green-gauss",
    reynolds: float | None = None,
    model: str = "euler",
    turbulence_order: int = 2,
) -> np.ndarray:
    """L1 errors of p, u, w, T (and nu~) on a box of n x n cells; `reynolds` on the box for all models but "euler"."""
    mesh = box(n, perturbed, smooth)
    ni = mesh.n_interior
    face = mesh.face_centroid[ni:]
    mesh.__dict__["wall_distance"] = mesh.cell_centroid[:, 2] - WALL
    exact = cell_means(mesh, lambda x, z: full_state(x, z, model))
    reference = Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0))
    residual_drop = 8 if model == "sa" else 9
    numerics = Numerics(
        residual_drop=residual_drop,
        limiter=Limiter("off"),
        reconstruction=Reconstruction(gradient=gradient, turbulence_order=turbulence_order),
        vortex=False,
    )
    air = Freestream(mach=0.6, reynolds=reynolds)
    law = None if reynolds is None else Scales.law(air, 1.0)
    problem = FlowProblem(
        mesh,
        air,
        reference,
        numerics,
        model,
        source=cell_means(mesh, lambda x, z: source(x, z, law, model)),
        exterior=full_state(face[:, 0], face[:, 2], model),
    )
    flow = solve_steady(problem, Start(exact.copy()))
    assert flow.outcome == "converged", flow.reason
    volume = mesh.cell_volume
    return (np.abs(flow.q - exact) * volume[:, None]).sum(axis=0)[[0, 1, 3, 4, 5][: 4 + (model == "sa")]] / volume.sum()


def orders(sizes=(16, 32, 64), **kind) -> tuple[np.ndarray, list[np.ndarray]]:
    """Observed orders (4 or 5,) between the two finest sizes, and all errors."""
    found = [errors(n, **kind) for n in sizes]
    return np.log(found[-2] / found[-1]) / np.log(sizes[-1] / sizes[-2]), found
