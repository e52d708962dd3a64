"""Turbulence in the cells: sources of the equations, and what the faces need to know of the cells on either side.

`wall_data` (n, 3) tells each cell of the wall next to it: distance [m] (with the shift of a rough wall), what roughness adds
to chi, and the share of production, 0 where the wall is laminar. `closure` (n, 2) is averaged to the faces: for SA
what roughness adds to chi and the share of eddy viscosity, for SST S F2 / a1 and F1.
Verified by tests/test_viscous.py and tests/test_kernels.py.
"""

import numpy as np

from zephyrum._core.jit import parallel, prange, serial
from zephyrum.flow.discretization.viscous_terms import diffusion_coefficients, viscosity
from zephyrum.flow.physics.turbulence.sa import sa_gradient_terms, sa_source
from zephyrum.flow.physics.turbulence.sst import sst_closure, sst_source

DIFFERENCE_STEP = 1e-7
CELL_BLOCK = 64  # cells that share one set of work arrays
NO_EDDY_VISCOSITY = 1e30  # of omega: no eddy viscosity


@serial
def _strain_rate(g, c):
    """Square root of 2 S_ij S_ij."""
    xx, yy, zz = g[c, 1, 0], g[c, 2, 1], g[c, 3, 2]
    xy, xz, yz = g[c, 1, 1] + g[c, 2, 0], g[c, 1, 2] + g[c, 3, 0], g[c, 2, 2] + g[c, 3, 1]
    return np.sqrt(2.0 * (xx * xx + yy * yy + zz * zz) + xy * xy + xz * xz + yz * yz + 1e-20)


@serial
def _vorticity(g, c, wall, law):
    """(size, x, y, z) of the vorticity, the size rounded off at 0 by a share of nu / wall^2 that only counts where production does not."""
    wx, wy, wz = g[c, 3, 1] - g[c, 2, 2], g[c, 1, 2] - g[c, 3, 0], g[c, 2, 0] - g[c, 1, 1]
    least = 0.03 * law.viscosity / (wall * wall)
    return np.sqrt(wx * wx + wy * wy + wz * wz + least * least), wx, wy, wz


@serial
def _density_gradient(q, g, c, law):
    """Gradient (3,) of density."""
    T = q[c, 4]
    rho = (1.0 + law.gamma * q[c, 0]) / T
    return (
        (law.gamma * g[c, 0, 0] - rho * g[c, 4, 0]) / T,
        (law.gamma * g[c, 0, 1] - rho * g[c, 4, 1]) / T,
        (law.gamma * g[c, 0, 2] - rho * g[c, 4, 2]) / T,
    )


@serial
def turbulence_source(q, g, c, wall_data, i, law, model, out):
    """Sources (m - 5,) a volume of the turbulence equations in cell c of q and g, which is cell i of `wall_data`."""
    T = q[c, 4]
    rho = (1.0 + law.gamma * q[c, 0]) / T
    mu = viscosity(T, law)
    wall = wall_data[i, 0]
    if len(model) == 2:
        vorticity, _, _, _ = _vorticity(g, c, wall, law)
        rx, ry, rz = _density_gradient(q, g, c, law)
        out[0] = sa_source(
            rho, mu, q[c, 5], wall, wall_data[i, 1], wall_data[i, 2], vorticity, g[c, 5, 0], g[c, 5, 1], g[c, 5, 2], rx, ry, rz,
            law.viscosity,
        )  # fmt: skip
    if len(model) == 3:
        unit = law.k_unit
        cross = unit * (g[c, 5, 0] * g[c, 6, 0] + g[c, 5, 1] * g[c, 6, 1] + g[c, 5, 2] * g[c, 6, 2])
        steep = g[c, 6, 0] ** 2 + g[c, 6, 1] ** 2 + g[c, 6, 2] ** 2
        sk, sw = sst_source(rho, mu, unit * q[c, 5], q[c, 6], wall, _strain_rate(g, c), cross, steep, wall_data[i, 2])
        out[0], out[1] = sk / unit, sw


@parallel
def subtract_sources(q, g, wall_data, volume, law, model, out):
    """Take the turbulence sources times volume off the balance `out` (n, m)."""
    for block in prange((len(q) + CELL_BLOCK - 1) // CELL_BLOCK):
        source = np.empty(2)
        for c in range(np.int64(block) * CELL_BLOCK, min(np.int64(block + 1) * CELL_BLOCK, len(q))):
            turbulence_source(q, g, c, wall_data, c, law, model, source)
            for m in range(5, q.shape[1]):
                out[c, m] -= volume[c] * source[m - 5]


@serial
def sst_closure_at(q, g, c, wall_data, i, law, model, out):
    """Closure (2,) of SST in cell c of q and g, which is cell i of `wall_data`."""
    if len(model) == 3:
        cross = law.k_unit * (g[c, 5, 0] * g[c, 6, 0] + g[c, 5, 1] * g[c, 6, 1] + g[c, 5, 2] * g[c, 6, 2])
        rho = (1.0 + law.gamma * q[c, 0]) / q[c, 4]
        floor, blend = sst_closure(
            rho, viscosity(q[c, 4], law), law.k_unit * q[c, 5], q[c, 6], wall_data[i, 0], _strain_rate(g, c), cross
        )
        out[0] = floor if wall_data[i, 2] > 0.0 else NO_EDDY_VISCOSITY
        out[1] = blend


@parallel
def update_closure(q, g, wall_data, law, model, closure):
    """Fill `closure` (n, 2) of SST; that of SA does not change with the flow (see `initial_closure`)."""
    for i in prange(len(q)):
        c = np.int64(i)
        sst_closure_at(q, g, c, wall_data, c, law, model, closure[c])


@serial
def _sources_and_closure(q, g, wall_data, i, law, model, volume, out):
    """Sources times volume (2,), then closure (2,), of the one cell in q and g, which is cell i of `wall_data`."""
    only = np.int64(0)  # a literal would be compiled apart
    turbulence_source(q, g, only, wall_data, i, law, model, out)
    out[0] *= volume
    out[1] *= volume
    sst_closure_at(q, g, only, wall_data, i, law, model, out[2:])


@serial
def _sa_gradient_jacobian(q, g, c, wall_data, law, axes, volume, out):
    """Derivatives (nb, 3) of the source of SA times volume to the slopes of velocity, by those to the vorticity, and of the unknown; see `turbulence_source`."""
    rho = (1.0 + law.gamma * q[c, 0]) / q[c, 4]
    mu, wall = viscosity(q[c, 4], law), wall_data[c, 0]
    size, wx, wy, wz = _vorticity(g, c, wall, law)
    rx, ry, rz = _density_gradient(q, g, c, law)
    h = 1e-6 * size
    found = 0.0
    for turn in range(2):
        found = -found + sa_source(
            rho, mu, q[c, 5], wall, wall_data[c, 1], wall_data[c, 2], size + turn * h, g[c, 5, 0], g[c, 5, 1], g[c, 5, 2], rx, ry, rz,
            law.viscosity,
        )  # fmt: skip
    rate = volume * found / h / size
    wx, wy, wz = rate * wx, rate * wy, rate * wz
    _, ax, ay, az = sa_gradient_terms(rho, mu, q[c, 5], g[c, 5, 0], g[c, 5, 1], g[c, 5, 2], rx, ry, rz, law.viscosity)
    for j in range(len(axes)):
        k = axes[j]
        if k == 1:
            out[j, 1], out[j, 2] = -wz, wy
        elif k == 2:
            out[j, 0], out[j, 2] = wz, -wx
        elif k == 3:
            out[j, 0], out[j, 1] = -wy, wx
        elif k == 5:
            out[j, 0], out[j, 1], out[j, 2] = volume * ax, volume * ay, volume * az
        if axes[2] != 2:
            out[j, 1] = 0.0


@parallel
def source_jacobians(q, g, wall_data, volume, law, model, axes, by_state, by_slope, closure_state, closure_slope):
    """Derivatives of the turbulence sources times volume: by_state (n, nt, nb), by_slope (n, nt, nb, 3).

    The same of the closure where it changes with the flow: closure_state (n, 2, nb), closure_slope (n, 2, nb, 3).
    """
    nb, m = len(axes), q.shape[1]
    nt, changing = m - 5, closure_state.shape[1]
    for block in prange((len(q) + CELL_BLOCK - 1) // CELL_BLOCK):
        own, gradients = np.empty((1, m)), np.empty((1, m, 3))
        base, moved = np.zeros(4), np.zeros(4)
        for c in range(np.int64(block) * CELL_BLOCK, min(np.int64(block + 1) * CELL_BLOCK, len(q))):
            own[0], gradients[0] = q[c], g[c]
            by_slope[c] = 0.0
            closure_slope[c] = 0.0
            if len(model) == 2:
                _sa_gradient_jacobian(q, g, c, wall_data, law, axes, volume[c], by_slope[c, 0])
            # one call of the terms, for the base and every unknown and slope in turn: each more is compiled again
            for step in range(-1, 4 * nb):
                j, d = step // 4, step % 4 - 1  # d = -1: the unknown itself
                k = axes[max(j, 0)]
                if step >= 0 and d < 0 and 0 < k < 4:
                    continue  # nothing depends on the velocity itself
                if step >= 0 and d >= 0 and (len(model) == 2 or k == 0 or k == 4 or (d == 1 and axes[2] != 2)):
                    continue  # gradients of density matter little: held fixed
                h = 0.0
                if step >= 0 and d < 0:
                    h = DIFFERENCE_STEP * max(abs(q[c, k]), 1.0)
                    own[0, k] += h
                elif step >= 0:
                    h = 1e-6 * np.sqrt(g[c, k, 0] ** 2 + g[c, k, 1] ** 2 + g[c, k, 2] ** 2) + 1e-12 / wall_data[c, 0]
                    gradients[0, k, d] += h
                _sources_and_closure(own, gradients, wall_data, c, law, model, volume[c], moved)
                own[0, k], gradients[0, k] = q[c, k], g[c, k]
                if step < 0:
                    base[:] = moved
                for t in range(nt):
                    if d < 0 and step >= 0:
                        by_state[c, t, j] = (moved[t] - base[t]) / h
                    elif step >= 0:
                        by_slope[c, t, j, d] = (moved[t] - base[t]) / h
                for t in range(changing):
                    if d < 0 and step >= 0:
                        closure_state[c, t, j] = (moved[2 + t] - base[2 + t]) / h
                    elif step >= 0:
                        closure_slope[c, t, j, d] = (moved[2 + t] - base[2 + t]) / h


@parallel
def closure_products(v, gv, closure_state, closure_slope, out):
    """Change (n, 2) of the closure for a change v (n, nb) of the cells with gradient gv (n, nb, 3)."""
    nb = v.shape[1]
    for i in prange(len(v)):
        c = np.int64(i)
        for t in range(2):
            total = np.float32(0.0)
            for j in range(nb):
                total += closure_state[c, t, j] * v[c, j]
                for d in range(3):
                    total += closure_slope[c, t, j, d] * gv[c, j, d]
            out[c, t] = total


@parallel
def eddy_viscosity_ratio(q, closure, law, model, out):
    """Eddy over molecular viscosity of every cell into out (n,)."""
    for i in prange(len(q)):
        c = np.int64(i)
        if len(model) > 1:
            w = q[c, 6] if len(model) > 2 else 0.0
            mu, _, _, _ = diffusion_coefficients(q[c, 0], q[c, 4], q[c, 5], w, closure[c, 0], closure[c, 1], model, law)
            out[c] = mu / viscosity(q[c, 4], law) - 1.0


def initial_closure(wall_data: np.ndarray, model: str) -> np.ndarray:
    """(n, 2) the start of `closure`, which is all that SA needs; (0, 2) without turbulence."""
    if model == "sa":
        return np.ascontiguousarray(wall_data[:, 1:])
    return np.zeros((len(wall_data), 2))
