"""The inviscid numerical flux: Roe's approximate Riemann solver, repaired at low Mach number and at sonic points.

Sources: Roe (1981), J. Comput. Phys. 43:357; the jump of normal velocity scaled by the local Mach number after Rieper
(2011), J. Comput. Phys. 230:5263, so that accuracy does not degrade as Mach falls, that number taken from the mean
square of both sides' speeds, so that flow parting at a face does not drive itself apart; entropy fix of the acoustic
waves after Harten (1983), J. Comput. Phys. 49:357. Valid from Mach 0.01 to about 4. Verified by tests/test_flow.py and
validation/manufactured.py.
"""

import math

from zephyrum._core.jit import inlined, inner_inlined, serial

SONIC_ROUNDING = 0.2
ENTROPY_FIX_WIDTH = 0.1  # width of the entropy fix, in sound speeds
SHEAR_ROUNDING = 0.01  # half-rounding of |u_n| where the flow runs along the face, in local speeds: for Newton's sake


@serial
def euler_flux(state: tuple[float, ...], normal: tuple[float, float, float], gamma: float):
    """Flux (5) of the Euler equations through a unit area.

    Parameters
    ----------
    state : tuple[float, ...]
        Gauge pressure, u, v, w, T.
    normal : tuple[float, float, float]
        Unit normal (3).
    gamma : float
        Ratio of the specific heats.

    Examples
    --------
    >>> flux = euler_flux((0.0, 0.5, 0.0, 0.0, 1.0), (1.0, 0.0, 0.0), 1.4)
    >>> [round(float(value), 4) for value in flux]
    [0.5, 0.25, 0.0, 0.0, 1.3125]
    """
    p, u, v, w, T = state
    nx, ny, nz = normal
    un = u * nx + v * ny + w * nz
    m = (1.0 + gamma * p) / T * un
    h = T / (gamma - 1.0) + 0.5 * (u * u + v * v + w * w)
    return m, m * u + p * nx, m * v + p * ny, m * w + p * nz, m * h


@inner_inlined
def _low_mach_factor(mach):
    """min(1, mach) with its corner rounded off: Newton's method does not converge at a kink."""
    gap = 1.0 + SONIC_ROUNDING - mach
    rounded = 1.0 - gap * gap / (4.0 * SONIC_ROUNDING)
    rounded = mach if mach < 1.0 - SONIC_ROUNDING else rounded
    return 1.0 if mach > 1.0 + SONIC_ROUNDING else rounded


@inner_inlined
def _rounded_abs(size, width, per_width):
    """abs value `size` with its kink at 0 replaced by a parabola below `width` (given with its inverse)."""
    parabola = 0.5 * (size * size * per_width + width)
    return parabola if size < width else size


@inlined
def roe_flux(left: tuple[float, ...], right: tuple[float, ...], normal: tuple[float, float, float], gamma: float):
    """Flux (5) through a unit area from the left to the right state by Roe's approximate Riemann solver.

    Parameters
    ----------
    left, right : tuple[float, ...]
        Gauge pressure, u, v, w, T.
    normal : tuple[float, float, float]
        Unit normal (3).
    gamma : float
        Ratio of the specific heats.

    Examples
    --------
    >>> import numpy as np
    >>> state, normal = (0.0, 0.5, 0.0, 0.0, 1.0), (1.0, 0.0, 0.0)
    >>> bool(np.allclose(roe_flux(state, state, normal, 1.4), euler_flux(state, normal, 1.4)))
    True
    """
    pl, ul, vl, wl, tl = left
    pr, ur, vr, wr, tr = right
    nx, ny, nz = normal
    g1 = gamma - 1.0
    per_g1 = 1.0 / g1
    rl, rr = (1.0 + gamma * pl) / tl, (1.0 + gamma * pr) / tr
    square_l, square_r = ul * ul + vl * vl + wl * wl, ur * ur + vr * vr + wr * wr
    hl, hr = tl * per_g1 + 0.5 * square_l, tr * per_g1 + 0.5 * square_r
    unl, unr = ul * nx + vl * ny + wl * nz, ur * nx + vr * ny + wr * nz
    root = math.sqrt(rr / rl)
    fraction = 1.0 / (1.0 + root)
    u, v, w = (ul + root * ur) * fraction, (vl + root * vr) * fraction, (wl + root * wr) * fraction
    h = (hl + root * hr) * fraction
    rho = rl * root
    k = 0.5 * (u * u + v * v + w * w)
    a2 = max(g1 * (h - k), 1e-12)
    a = math.sqrt(a2)
    per_a = 1.0 / a
    per_a2 = per_a * per_a
    un = u * nx + v * ny + w * nz
    dp, dun, drho = pr - pl, unr - unl, rr - rl
    # of both sides, not of their mean: where flow parts, as on a coarse nose, the mean is at rest, and without
    # this damping the streams on both sides accelerate away from it
    fast = math.sqrt(0.5 * (square_l + square_r))
    slow = _low_mach_factor(fast * per_a)
    width, per_width = ENTROPY_FIX_WIDTH * a, per_a / ENTROPY_FIX_WIDTH
    l1, l3 = _rounded_abs(abs(un - a), width, per_width), _rounded_abs(abs(un + a), width, per_width)
    width = SHEAR_ROUNDING * fast + 1e-12
    l2 = _rounded_abs(abs(un), width, 1.0 / width)
    w1 = l1 * (dp - rho * a * dun * slow) * 0.5 * per_a2
    w3 = l3 * (dp + rho * a * dun * slow) * 0.5 * per_a2
    w2 = l2 * (drho - dp * per_a2)
    ws = l2 * rho
    both, differ = w1 + w3, (w3 - w1) * a
    du, dv, dw = ur - ul - dun * nx, vr - vl - dun * ny, wr - wl - dun * nz
    d0 = both + w2
    d1 = u * d0 + differ * nx + ws * du
    d2 = v * d0 + differ * ny + ws * dv
    d3 = w * d0 + differ * nz + ws * dw
    d4 = h * both + differ * un + w2 * k + ws * (u * du + v * dv + w * dw)
    ml, mr = rl * unl, rr * unr
    ps = pl + pr
    return (
        0.5 * (ml + mr - d0),
        0.5 * (ml * ul + mr * ur + ps * nx - d1),
        0.5 * (ml * vl + mr * vr + ps * ny - d2),
        0.5 * (ml * wl + mr * wr + ps * nz - d3),
        0.5 * (ml * hl + mr * hr - d4),
    )
