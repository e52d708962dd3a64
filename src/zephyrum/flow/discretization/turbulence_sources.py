"""Turbulence in the cells: sources of the equations, and what the faces need to know of the cells on either side.

`wall_data` (n, 3) gives each cell the data of the wall next to it: distance [m] (with the shift of a rough wall), what
roughness adds to chi, and the fraction of production, 0 where the wall is laminar. `closure` (n, 2) is averaged to the
faces: for SA what roughness adds to chi and the fraction of eddy viscosity, for SST S F2 / a1 and F1. `equations` is a
tuple with an entry for each turbulence equation (1 SA, 2 SST): the compiler sees its length, so that each model has its
own kernels. Verified by tests/test_viscous.py and tests/test_kernels.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import inlined, parallel, prange, serial
from zephyrum.flow.physics.transport import diffusion_coefficients, viscosity
from zephyrum.flow.physics.turbulence import LAMINAR, SST
from zephyrum.flow.physics.turbulence.sa import sa_source
from zephyrum.flow.physics.turbulence.sst import sst_closure, sst_source

if TYPE_CHECKING:
    from zephyrum.flow.physics.gas_model import GasModel


CELL_BLOCK = 64  # cells that share one set of work arrays
NO_EDDY_VISCOSITY = 1e30  # of omega: no eddy viscosity


@inlined
def strain_rate(g: np.ndarray, c: int):
    """Square root of 2 S_ij S_ij.

    Parameters
    ----------
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell.

    Examples
    --------
    >>> g = np.zeros((1, 5, 3))
    >>> g[0, 1, 2] = 3.0  # du/dz
    >>> strain_rate(g, 0)
    3.0
    """
    xx, yy, zz = g[c, 1, 0], g[c, 2, 1], g[c, 3, 2]
    xy, xz, yz = g[c, 1, 1] + g[c, 2, 0], g[c, 1, 2] + g[c, 3, 0], g[c, 2, 2] + g[c, 3, 1]
    return np.sqrt(2.0 * (xx * xx + yy * yy + zz * zz) + xy * xy + xz * xz + yz * yz + 1e-20)


@inlined
def vorticity(g: np.ndarray, c: int, wall: float, gas: "GasModel"):
    """(size, x, y, z) of the vorticity.

    Parameters
    ----------
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell.
    wall : float
        Wall distance [m].
    gas : GasModel
        Gas.

    Notes
    -----
    The size is rounded off at 0 by a fraction of nu / wall^2, which only counts where production does not.

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> g = np.zeros((1, 5, 3))
    >>> g[0, 1, 2] = 3.0  # du/dz
    >>> size, x, y, z = vorticity(g, 0, 0.1, GasModel(1.4, viscosity=1e-6))
    >>> round(size, 6), y
    (3.0, 3.0)
    """
    wx, wy, wz = g[c, 3, 1] - g[c, 2, 2], g[c, 1, 2] - g[c, 3, 0], g[c, 2, 0] - g[c, 1, 1]
    least = 0.03 * gas.viscosity / (wall * wall)
    return np.sqrt(wx * wx + wy * wy + wz * wz + least * least), wx, wy, wz


@inlined
def gradient_product(g: np.ndarray, c: int, k: int, m: int):
    """Scalar product of the gradients of unknowns k and m in a cell.

    Parameters
    ----------
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell.
    k, m : int
        Unknowns.

    Examples
    --------
    >>> g = np.zeros((1, 5, 3))
    >>> g[0, 0], g[0, 4] = [1.0, 2.0, 0.0], [3.0, 1.0, 5.0]
    >>> gradient_product(g, 0, 0, 4)
    5.0
    """
    return g[c, k, 0] * g[c, m, 0] + g[c, k, 1] * g[c, m, 1] + g[c, k, 2] * g[c, m, 2]


@inlined
def sa_arguments(q: np.ndarray, g: np.ndarray, c: int, wall: float, gas: "GasModel"):
    """What the source of SA depends on: density, viscosity, nu~, vorticity, and two scalar products.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell.
    wall : float
        Wall distance [m].
    gas : GasModel
        Gas.

    Returns
    -------
    tuple of 6 float
        The last two are the squared gradient of nu~ and its product with the gradient of density.
    """
    T = q[c, 4]
    rho = (1.0 + gas.gamma * q[c, 0]) / T
    size, _, _, _ = vorticity(g, c, wall, gas)
    product = (gas.gamma * gradient_product(g, c, 0, 5) - rho * gradient_product(g, c, 4, 5)) / T
    return rho, viscosity(T, gas), q[c, 5], size, gradient_product(g, c, 5, 5), product


@inlined
def sst_arguments(q: np.ndarray, g: np.ndarray, c: int, gas: "GasModel"):
    """What the sources of SST depend on: density, viscosity, k, log(omega), strain rate, and two scalar products.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    c : int
        Cell.
    gas : GasModel
        Gas.

    Returns
    -------
    tuple of 7 float
        The last two are the product of the gradients of k and log(omega), and the squared gradient of log(omega).
    """
    T, unit = q[c, 4], gas.k_unit
    rho = (1.0 + gas.gamma * q[c, 0]) / T
    cross, steep = unit * gradient_product(g, c, 5, 6), gradient_product(g, c, 6, 6)
    return rho, viscosity(T, gas), unit * q[c, 5], q[c, 6], strain_rate(g, c), cross, steep


@serial
def turbulence_source(
    q: np.ndarray,
    g: np.ndarray,
    c: int,
    wall_data: np.ndarray,
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
        Cell.
    wall_data : (n, 3) array
        Wall distance [m], roughness shift, fraction of the production.
    gas : GasModel
        Gas.
    equations : tuple
        As long as there are turbulence equations.
    out : (m - 5,) array
        Written.
    """
    wall = wall_data[c, 0], wall_data[c, 1], wall_data[c, 2]
    if len(equations) == 1:
        rho, mu, x, size, square, product = sa_arguments(q, g, c, wall[0], gas)
        out[0] = sa_source(rho, mu, x, wall, size, square, product, gas.viscosity)
    if len(equations) == 2:
        rho, mu, k, w, strain, cross, steep = sst_arguments(q, g, c, gas)
        sk, sw, _, _ = sst_source(rho, mu, k, w, (wall[0], wall[2]), strain, cross, steep)
        out[0], out[1] = sk / gas.k_unit, sw


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
            turbulence_source(q, g, c, wall_data, gas, equations, source)
            for m in range(5, q.shape[1]):
                out[c, m] -= volume[c] * source[m - 5]


@parallel
def update_closure(q: np.ndarray, g: np.ndarray, wall_data: np.ndarray, gas: "GasModel", closure: np.ndarray):
    """Fill the closure of SST; that of SA does not change with the flow (see `initial_closure`).

    Parameters
    ----------
    q : (n, 7) array
        States.
    g : (n, 7, 3) array
        Gradients.
    wall_data : (n, 3) array
        See `turbulence_source`.
    gas : GasModel
        Gas.
    closure : (n, 2) array
        Written: S F2 / a1 and F1.
    """
    for i in prange(len(q)):
        c = np.int64(i)
        rho, mu, k, w, strain, cross, _ = sst_arguments(q, g, c, gas)
        floor, blend = sst_closure(rho, mu, k, w, wall_data[c, 0], strain, cross)
        closure[c, 0] = floor if wall_data[c, 2] > 0.0 else NO_EDDY_VISCOSITY
        closure[c, 1] = blend


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

    Examples
    --------
    >>> from zephyrum.flow.physics.gas_model import GasModel
    >>> from zephyrum.flow.physics.turbulence import SA
    >>> q, out = np.array([[0.0, 0.5, 0.0, 0.0, 1.0, 100.0]]), np.zeros(1)
    >>> eddy_viscosity_ratio(q, np.array([[0.0, 1.0]]), GasModel(1.4, viscosity=1e-6), SA, out)
    >>> out.round(2)
    array([99.96])
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

    Examples
    --------
    >>> initial_closure(np.array([[0.1, 0.0, 1.0]]), "sa")
    array([[0., 1.]])
    """
    if model == "sa":
        return np.ascontiguousarray(wall_data[:, 1:])
    return np.zeros((len(wall_data), 2))
