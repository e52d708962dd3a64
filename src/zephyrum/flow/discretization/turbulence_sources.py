"""Turbulence in the cells: sources of the equations, and what the faces need to know of the cells on either side.

`wall_data` (n, 3) gives each cell the data of the wall next to it: distance [m] (with the shift of a rough wall), what
roughness adds to chi, and the fraction of production, 0 where the wall is laminar. `closure` (n, 2) is averaged to the
faces: for SA what roughness adds to chi and the fraction of eddy viscosity, for SST S F2 / a1 and F1. `equations` is a
tuple with an entry for each turbulence equation (1 SA, 2 SST): the compiler sees its length, so that each model has its
own kernels. Verified by tests/test_viscous.py and tests/test_kernels.py.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import inlined, parallel, prange, serial
from zephyrum.flow.physics.transport import diffusion_coefficients, viscosity
from zephyrum.flow.physics.turbulence import LAMINAR, SST
from zephyrum.flow.physics.turbulence.sa import sa_gradient_terms, sa_source
from zephyrum.flow.physics.turbulence.sst import sst_closure, sst_source

if TYPE_CHECKING:
    from zephyrum.flow.physics.gas_model import GasModel


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
def _vorticity(g, c, wall, gas):
    """(size, x, y, z) of the vorticity, the size rounded off at 0 by a fraction of nu / wall^2 that only counts where
    production does not.
    """
    wx, wy, wz = g[c, 3, 1] - g[c, 2, 2], g[c, 1, 2] - g[c, 3, 0], g[c, 2, 0] - g[c, 1, 1]
    least = 0.03 * gas.viscosity / (wall * wall)
    return np.sqrt(wx * wx + wy * wy + wz * wz + least * least), wx, wy, wz


@serial
def _density_gradient(q, g, c, gas):
    """Gradient (3,) of density."""
    T = q[c, 4]
    rho = (1.0 + gas.gamma * q[c, 0]) / T
    return (
        (gas.gamma * g[c, 0, 0] - rho * g[c, 4, 0]) / T,
        (gas.gamma * g[c, 0, 1] - rho * g[c, 4, 1]) / T,
        (gas.gamma * g[c, 0, 2] - rho * g[c, 4, 2]) / T,
    )


@serial
def turbulence_source(
    q: np.ndarray,
    g: np.ndarray,
    c: int,
    wall_data: np.ndarray,
    i: int,
    gas: "GasModel",
    equations: tuple,
    out: np.ndarray,
):
    """Sources of the turbulence equations in a cell, per volume.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell of q and g.
    wall_data : (k, 3) array
        Wall distance [m], roughness shift, fraction of the production.
    i : int
        Row of `wall_data`.
    gas : GasModel
        Gas.
    equations : tuple
        As long as there are turbulence equations.
    out : (m - 5,) array
        Written.
    """
    T = q[c, 4]
    rho = (1.0 + gas.gamma * q[c, 0]) / T
    mu = viscosity(T, gas)
    wall = wall_data[i, 0]
    if len(equations) == 1:
        vorticity, _, _, _ = _vorticity(g, c, wall, gas)
        data = wall, wall_data[i, 1], wall_data[i, 2]
        gradient = g[c, 5, 0], g[c, 5, 1], g[c, 5, 2]
        density_gradient = _density_gradient(q, g, c, gas)
        out[0] = sa_source(rho, mu, q[c, 5], data, vorticity, gradient, density_gradient, gas.viscosity)
    if len(equations) == 2:
        unit = gas.k_unit
        cross = unit * (g[c, 5, 0] * g[c, 6, 0] + g[c, 5, 1] * g[c, 6, 1] + g[c, 5, 2] * g[c, 6, 2])
        steep = g[c, 6, 0] ** 2 + g[c, 6, 1] ** 2 + g[c, 6, 2] ** 2
        data = wall, wall_data[i, 2]
        sk, sw = sst_source(rho, mu, unit * q[c, 5], q[c, 6], data, _strain_rate(g, c), cross, steep)
        out[0], out[1] = sk / unit, sw


@parallel
def subtract_sources(
    q: np.ndarray,
    g: np.ndarray,
    wall_data: np.ndarray,
    volume: np.ndarray,
    gas: "GasModel",
    equations: tuple,
    out: np.ndarray,
):
    """Subtract the turbulence sources times volume from a balance.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    wall_data : (n, 3) array
        See `turbulence_source`.
    volume : (n,) array
        [m^3]
    gas : GasModel
        Gas.
    equations : tuple
        As long as there are turbulence equations.
    out : (n, m) array
        Changed in place.
    """
    for block in prange((len(q) + CELL_BLOCK - 1) // CELL_BLOCK):
        source = np.empty(2)
        for c in range(np.int64(block) * CELL_BLOCK, min(np.int64(block + 1) * CELL_BLOCK, len(q))):  # type: ignore[call-overload]
            turbulence_source(q, g, c, wall_data, c, gas, equations, source)
            for m in range(5, q.shape[1]):
                out[c, m] -= volume[c] * source[m - 5]


@serial
def sst_closure_at(
    q: np.ndarray,
    g: np.ndarray,
    c: int,
    wall_data: np.ndarray,
    i: int,
    gas: "GasModel",
    equations: tuple,
    out: np.ndarray,
):
    """Closure of SST in a cell: S F2 / a1 and F1.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell of q and g.
    wall_data : (k, 3) array
        See `turbulence_source`.
    i : int
        Row of `wall_data`.
    gas : GasModel
        Gas.
    equations : tuple
        As long as there are turbulence equations.
    out : (2,) array
        Written.
    """
    if len(equations) == 2:
        cross = gas.k_unit * (g[c, 5, 0] * g[c, 6, 0] + g[c, 5, 1] * g[c, 6, 1] + g[c, 5, 2] * g[c, 6, 2])
        rho = (1.0 + gas.gamma * q[c, 0]) / q[c, 4]
        floor, blend = sst_closure(
            rho, viscosity(q[c, 4], gas), gas.k_unit * q[c, 5], q[c, 6], wall_data[i, 0], _strain_rate(g, c), cross
        )
        out[0] = floor if wall_data[i, 2] > 0.0 else NO_EDDY_VISCOSITY
        out[1] = blend


@parallel
def update_closure(
    q: np.ndarray,
    g: np.ndarray,
    wall_data: np.ndarray,
    gas: "GasModel",
    equations: tuple[int, int],
    closure: np.ndarray,
):
    """Fill the closure of SST; that of SA does not change with the flow (see `initial_closure`).

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    wall_data : (n, 3) array
        See `turbulence_source`.
    gas : GasModel
        Gas.
    equations : tuple[int, int]
        As long as there are turbulence equations.
    closure : (n, 2) array
        Written.
    """
    for i in prange(len(q)):
        c = np.int64(i)
        sst_closure_at(q, g, c, wall_data, c, gas, equations, closure[c])


@serial
def _sources_and_closure(q, g, wall_data, i, gas, equations, volume, out):
    """Sources times volume (2,), then closure (2,), of the one cell in q and g, which is cell i of `wall_data`."""
    only = np.int64(0)  # a literal would be compiled apart
    turbulence_source(q, g, only, wall_data, i, gas, equations, out)
    out[0] *= volume
    out[1] *= volume
    sst_closure_at(q, g, only, wall_data, i, gas, equations, out[2:])


@serial
def _sa_gradient_jacobian(q, g, c, wall_data, gas, axes, volume, out):
    """Derivatives (n, 3) of the source of SA times volume to the gradients of the unknowns of cell c.

    The gradients of velocity count through the vorticity, that of nu~ through the gradient terms.
    """
    rho = (1.0 + gas.gamma * q[c, 0]) / q[c, 4]
    mu = viscosity(q[c, 4], gas)
    data = wall_data[c, 0], wall_data[c, 1], wall_data[c, 2]
    gradient = g[c, 5, 0], g[c, 5, 1], g[c, 5, 2]
    density_gradient = _density_gradient(q, g, c, gas)
    size, wx, wy, wz = _vorticity(g, c, data[0], gas)
    h = 1e-6 * size
    difference = 0.0
    for turn in range(2):  # one call site: a second would be compiled again
        source = sa_source(rho, mu, q[c, 5], data, size + turn * h, gradient, density_gradient, gas.viscosity)
        difference = -difference + source
    rate = volume * difference / h / size
    wx, wy, wz = rate * wx, rate * wy, rate * wz
    _, ax, ay, az = sa_gradient_terms(rho, mu, q[c, 5], gradient, density_gradient, gas.viscosity)
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


@inlined
def _perturb_cell(own, gradients, step, h, axes):
    """Add h to the unknown (step = 4 j) or to its gradient in direction d (step = 4 j + 1 + d) of the one cell."""
    k, d = axes[step // 4], step % 4 - 1
    if d < 0:
        own[0, k] += h
    else:
        gradients[0, k, d] += h


@inlined
def _difference(q, g, c, wall, step, axes):
    """Step of the difference quotient for `_perturb_cell`; 0 where the sources do not depend on it."""
    k, d = axes[step // 4], step % 4 - 1
    if d < 0:
        return 0.0 if 0 < k < 4 else DIFFERENCE_STEP * max(abs(q[c, k]), 1.0)
    if k == 0 or k == 4 or (d == 1 and axes[2] != 2):
        return 0.0  # gradients of density matter little: they are held fixed
    return 1e-6 * np.sqrt(g[c, k, 0] ** 2 + g[c, k, 1] ** 2 + g[c, k, 2] ** 2) + 1e-12 / wall


class SourceJacobians(NamedTuple):
    """Derivatives of the turbulence sources and of the closure, for nc cells.

    Attributes
    ----------
    by_state : (nc, nt, n) array
        Of the sources times volume, to the state.
    by_gradient : (nc, nt, n, 3) array
        Of the sources times volume, to the gradient.
    closure_state : (nc, 2, n) array
        Of the closure where it changes with the flow, to the state.
    closure_gradient : (nc, 2, n, 3) array
        Of the closure, to the gradient.
    """

    by_state: np.ndarray
    by_gradient: np.ndarray
    closure_state: np.ndarray
    closure_gradient: np.ndarray


@parallel
def source_jacobians(
    q: np.ndarray,
    g: np.ndarray,
    wall_data: np.ndarray,
    volume: np.ndarray,
    gas: "GasModel",
    axes: np.ndarray,
    equations: tuple,
    out: "SourceJacobians",
):
    """Fill the Jacobians of the sources by difference quotients; the gradient terms of SA by their formulas.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    wall_data : (n, 3) array
        See `turbulence_source`.
    volume : (n,) array
        [m^3]
    gas : GasModel
        Gas.
    axes : (nb,) array
        Active unknowns.
    equations : tuple
        As long as there are turbulence equations.
    out : SourceJacobians
        Filled.
    """
    m = q.shape[1]
    for block in prange((len(q) + CELL_BLOCK - 1) // CELL_BLOCK):
        own, gradients, base, moved = np.empty((1, m)), np.empty((1, m, 3)), np.empty(4), np.empty(4)
        work = own, gradients, base, moved
        for c in range(np.int64(block) * CELL_BLOCK, min(np.int64(block + 1) * CELL_BLOCK, len(q))):  # type: ignore[call-overload]
            _cell_source_jacobians((q, g), c, wall_data, volume[c], gas, (axes, equations), work, out)


@inlined
def _cell_source_jacobians(states, c, wall_data, volume, gas, kind, work, out):
    """`source_jacobians` of cell c."""
    q, g = states
    own, gradients, base, moved = work
    axes, equations = kind
    m = q.shape[1]
    for k in range(m):
        own[0, k] = q[c, k]
        for d in range(3):
            gradients[0, k, d] = g[c, k, d]
    if len(equations) == 1:
        _sa_gradient_jacobian(q, g, c, wall_data, gas, axes, volume, out.by_gradient[c, 0])
    for step in range(-1, 4 * len(axes)):  # one call site, for the base and every difference
        j, d = step // 4, step % 4 - 1
        h = 0.0
        if step >= 0:
            if d >= 0 and len(equations) == 1:
                continue
            h = _difference(q, g, c, wall_data[c, 0], step, axes)
            if h == 0.0:
                continue
            _perturb_cell(own, gradients, step, h, axes)
        _sources_and_closure(own, gradients, wall_data, c, gas, equations, volume, moved)
        if step < 0:
            for t in range(4):
                base[t] = moved[t]
            continue
        k = axes[j]
        own[0, k] = q[c, k]
        for e in range(3):
            gradients[0, k, e] = g[c, k, e]
        for t in range(m - 5):
            if d < 0:
                out.by_state[c, t, j] = (moved[t] - base[t]) / h
            else:
                out.by_gradient[c, t, j, d] = (moved[t] - base[t]) / h
        for t in range(out.closure_state.shape[1]):
            if d < 0:
                out.closure_state[c, t, j] = (moved[2 + t] - base[2 + t]) / h
            else:
                out.closure_gradient[c, t, j, d] = (moved[2 + t] - base[2 + t]) / h


@parallel
def closure_products(
    v: np.ndarray, gv: np.ndarray, closure_state: np.ndarray, closure_gradient: np.ndarray, out: np.ndarray
):
    """Change of the closure for a direction.

    Parameters
    ----------
    v : (n, nb) array
        Change of the cells.
    gv : (n, nb, 3) array
        Its gradient.
    closure_state : (n, 2, nb) array
        Derivatives to the state.
    closure_gradient : (n, 2, nb, 3) array
        Derivatives to the gradient.
    out : (n, 2) array
        Written.
    """
    nb = v.shape[1]
    for i in prange(len(v)):
        c = np.int64(i)
        for t in range(2):
            total = np.float32(0.0)
            for j in range(nb):
                total += closure_state[c, t, j] * v[c, j]
                for d in range(3):
                    total += closure_gradient[c, t, j, d] * gv[c, j, d]
            out[c, t] = total


@parallel
def eddy_viscosity_ratio(q: np.ndarray, closure: np.ndarray, gas: "GasModel", model: int, out: np.ndarray):
    """Eddy over molecular viscosity of every cell.

    Parameters
    ----------
    q : (n, m) array
        States.
    closure : (n, 2) array
        Closure of the turbulence model.
    gas : GasModel
        Gas.
    model : int
        Code of the flow model.
    out : (n,) array
        Written.
    """
    for i in prange(len(q)):
        c = np.int64(i)
        if model > LAMINAR:
            w = q[c, 6] if model == SST else 0.0
            made = diffusion_coefficients(q[c, 0], q[c, 4], q[c, 5], w, (closure[c, 0], closure[c, 1]), model, gas)
            out[c] = made[0] / viscosity(q[c, 4], gas) - 1.0


def initial_closure(wall_data: np.ndarray, model: str) -> np.ndarray:
    """First values of the closure, which are all that SA needs.

    Parameters
    ----------
    wall_data : (n, 3) array
        See `turbulence_source`.
    model : str
        Flow model.

    Returns
    -------
    (n, 2) array
        (0, 2) without turbulence.
    """
    if model == "sa":
        return np.ascontiguousarray(wall_data[:, 1:])
    return np.zeros((len(wall_data), 2))
