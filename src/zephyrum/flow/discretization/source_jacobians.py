"""Jacobians of the turbulence sources and of the closure, and their products with a direction.

A source depends on the state and its gradients through a few scalars only (`sa_arguments`, `sst_arguments`): density,
viscosity, the turbulence unknowns, strain rate or vorticity, products of gradients. The derivatives to these scalars
are difference quotients, those of the scalars to the unknowns and their gradients are formulas: six or eight calls of
the source in a cell, in place of up to twenty. Verified by tests/test_kernels.py.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import inner_inlined, inner_serial, parallel, prange
from zephyrum.flow.discretization.turbulence_sources import (
    CELL_BLOCK,
    gradient_product,
    sa_arguments,
    sst_arguments,
    vorticity,
)
from zephyrum.flow.physics.turbulence.sa import sa_gradient_terms, sa_source
from zephyrum.flow.physics.turbulence.sst import FAR, LEAST, sst_source

if TYPE_CHECKING:
    from zephyrum.flow.physics.gas_model import GasModel


STATE_STEP = 1e-7  # of the unknowns, relative to their size or to 1
RELATIVE_STEP = 1e-6  # of viscosity, strain rate, vorticity and products of gradients


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


@inner_inlined
def _viscosity_slope(T, mu, gas):
    """Derivative of the viscosity to the temperature."""
    return mu * (1.5 / T - 1.0 / (T + gas.sutherland))


@inner_inlined
def _sa_derivatives(arguments, wall, nu, by):
    """Derivatives of the source of SA to density, viscosity, nu~ and vorticity, into by[:4]."""
    rho, mu, x, size, square, product = arguments
    base = 0.0
    for step in range(-1, 4):  # one call site, for the base and every difference
        h = 0.0
        if step == 0 or step == 2:
            h = STATE_STEP * max(abs(arguments[step]), 1.0)
        elif step > 0:
            h = RELATIVE_STEP * arguments[step]
        moved = rho + h * (step == 0), mu + h * (step == 1), x + h * (step == 2), size + h * (step == 3)
        source = sa_source(moved[0], moved[1], moved[2], wall, moved[3], square, product, nu)
        if step < 0:
            base = source
        else:
            by[step] = (source - base) / h


@inner_serial
def _sa_jacobian(q, g, c, wall_data, gas, axes, volume, out):
    """Fill the Jacobian of the source of SA times volume in cell c."""
    wall = wall_data[c, 0], wall_data[c, 1], wall_data[c, 2]
    arguments = sa_arguments(q, g, c, wall[0], gas)
    rho, mu, x, _, square, product = arguments
    by = np.empty(4)
    _sa_derivatives(arguments, wall, gas.viscosity, by)
    _, by_square, by_product = sa_gradient_terms(rho, mu, x, square, product, gas.viscosity)
    T = q[c, 4]
    size, wx, wy, wz = vorticity(g, c, wall[0], gas)
    rate = volume * by[3] / size
    wx, wy, wz = rate * wx, rate * wy, rate * wz
    # `product` holds the gradient of density, (gamma grad p - rho grad T) / T
    along = gradient_product(g, c, 4, 5) / T
    state, gradient = out.by_state[c, 0], out.by_gradient[c, 0]
    for j in range(len(axes)):
        k = axes[j]
        if k == 0:
            state[j] = volume * gas.gamma / T * (by[0] - by_product * along)
        elif k == 4:
            viscous = by[1] * _viscosity_slope(T, mu, gas)
            state[j] = volume * (viscous - rho / T * by[0] + by_product * (rho * along - product) / T)
        elif k == 1:
            gradient[j, 1], gradient[j, 2] = -wz, wy
        elif k == 2:
            gradient[j, 0], gradient[j, 2] = wz, -wx
        elif k == 3:
            gradient[j, 0], gradient[j, 1] = -wy, wx
        elif k == 5:
            state[j] = volume * by[2]
            for d in range(3):
                density_gradient = (gas.gamma * g[c, 0, d] - rho * g[c, 4, d]) / T
                gradient[j, d] = volume * (2.0 * by_square * g[c, 5, d] + by_product * density_gradient)
        if axes[2] != 2:
            gradient[j, 1] = 0.0


@inner_inlined
def _sst_derivatives(arguments, wall, scale, by):
    """Derivatives (7, 4) of both sources and the closure of SST to the seven scalars of `sst_arguments`."""
    k = arguments[2]
    distance, _ = wall
    base, moved = np.empty(4), np.empty(7)
    for step in range(-1, 7):  # one call site, for the base and every difference
        for i in range(7):
            moved[i] = arguments[i]
        h = 0.0
        if step == 0 or step == 3:
            h = STATE_STEP * max(abs(arguments[step]), 1.0)
        elif step == 2:
            h = STATE_STEP * max(abs(k), scale)
        elif step == 5:  # beside the product of gradients that the model takes for small
            size = np.sqrt(arguments[5] * arguments[5] + ((k if k > 0.0 else 0.0) + LEAST) ** 2 / (FAR * distance) ** 4)
            h = RELATIVE_STEP * size
        elif step > 0:
            h = RELATIVE_STEP * arguments[step] + (1e-12 / distance**2 if step == 6 else 0.0)
        if step >= 0:
            moved[step] += h
        found = sst_source(moved[0], moved[1], moved[2], moved[3], wall, moved[4], moved[5], moved[6])
        if step < 0:
            base[0], base[1], base[2], base[3] = found
        else:
            for t in range(4):
                by[step, t] = (found[t] - base[t]) / h


@inner_serial
def _sst_jacobian(q, g, c, wall_data, gas, axes, volume, out):
    """Fill the Jacobians of the sources of SST times volume, and of the closure, in cell c."""
    arguments = sst_arguments(q, g, c, gas)
    wall = wall_data[c, 0], wall_data[c, 2]
    by = np.empty((7, 4))
    _sst_derivatives(arguments, wall, gas.k_unit, by)
    T, unit = q[c, 4], gas.k_unit
    slope, strain = _viscosity_slope(T, arguments[1], gas), arguments[4]
    for t in range(4):
        factor = volume if t < 2 else 1.0
        if t == 0:
            factor /= unit
        elif t == 2 and not wall[1] > 0.0:
            factor = 0.0  # no eddy viscosity beside a laminar wall
        for j in range(len(axes)):
            k = axes[j]
            state, gradient = 0.0, (0.0, 0.0, 0.0)
            if k == 0:
                state = by[0, t] * gas.gamma / T
            elif k == 4:
                state = by[1, t] * slope - by[0, t] * arguments[0] / T
            elif k == 5:
                state, cross = by[2, t] * unit, by[5, t] * unit
                gradient = cross * g[c, 6, 0], cross * g[c, 6, 1], cross * g[c, 6, 2]
            elif k == 6:
                state, cross, steep = by[3, t], by[5, t] * unit, 2.0 * by[6, t]
                gradient = (
                    cross * g[c, 5, 0] + steep * g[c, 6, 0],
                    cross * g[c, 5, 1] + steep * g[c, 6, 1],
                    cross * g[c, 5, 2] + steep * g[c, 6, 2],
                )
            else:  # 2 S_kd over the strain rate
                rate = by[4, t] / strain
                gradient = (
                    rate * (g[c, k, 0] + g[c, 1, k - 1]),
                    rate * (g[c, k, 1] + g[c, 2, k - 1]),
                    rate * (g[c, k, 2] + g[c, 3, k - 1]),
                )
            to_state = out.by_state[c, t] if t < 2 else out.closure_state[c, t - 2]
            to_gradient = out.by_gradient[c, t, j] if t < 2 else out.closure_gradient[c, t - 2, j]
            to_state[j] = factor * state
            for d in range(3):
                to_gradient[d] = 0.0 if d == 1 and axes[2] != 2 else factor * gradient[d]


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
    """Fill the Jacobians of the sources and of the closure.

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
    for block in prange((len(q) + CELL_BLOCK - 1) // CELL_BLOCK):
        for c in range(np.int64(block) * CELL_BLOCK, min(np.int64(block + 1) * CELL_BLOCK, len(q))):  # type: ignore[call-overload]
            if len(equations) == 1:
                _sa_jacobian(q, g, c, wall_data, gas, axes, volume[c], out)
            if len(equations) == 2:
                _sst_jacobian(q, g, c, wall_data, gas, axes, volume[c], out)


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
