"""The k-omega shear-stress-transport model, two equations, fully turbulent.

Source: Menter, Kuntz and Langtry (2003), Turbulence, Heat and Mass Transfer 4:625 (strain in the eddy viscosity,
production of k limited to ten times its destruction, that of omega alpha rho S^2). The second unknown is the logarithm
of omega (Ilinca and Pelletier 1999, Int. J. Therm. Sci. 38:560): it stays positive and is smooth where omega grows
without bound towards a wall; the equations are the same. The k in the stresses' trace and in the total energy is left
out, as usual at moderate Mach numbers. Meant for attached and mildly separated boundary layers; separates earlier than
SA. Verified by tests/test_viscous.py and validation/.

All values here are in scaled units: k in squares of the speed of sound, omega in speeds of sound a metre.
"""

import math

from zephyrum._core.jit import inlined, serial

A1, BETA_STAR = 0.31, 0.09
SIGMA_K, SIGMA_W, BETA, GAMMA = (0.85, 1.0), (0.5, 0.856), (0.075, 0.0828), (5.0 / 9.0, 0.44)  # inner, outer
PRODUCTION_LIMIT = 10.0
CORNER_ROUNDING = 1e-4
LEAST, FAR = 1e-12, 10.0
K_UNIT = 1e-3  # the unknown counts k in thousandths of the freestream's speed squared
INFLOW_RATE, INFLOW_RATIO = 5.0, 0.01  # omega in freestream speeds a chord, eddy over molecular viscosity
WALL_OMEGA_FACTOR = 60.0  # omega at a smooth wall: 60 nu / (BETA y^2), y the height of the first centroid (Menter 1994)


@inlined
def smooth_max(a: float, b: float):
    """max(a, b) of positive numbers, rounded: a hundredth more where they are equal, for Newton's method.

    Parameters
    ----------
    a, b : float
        Positive numbers.

    Examples
    --------
    >>> round(smooth_max(1.0, 3.0), 3)
    3.0
    """
    return 0.5 * (a + b + math.sqrt((a - b) * (a - b) + 4.0 * CORNER_ROUNDING * a * b))


@inlined
def smooth_min(a: float, b: float):
    """min(a, b) of positive numbers, rounded in the same way.

    Parameters
    ----------
    a, b : float
        Positive numbers.

    Examples
    --------
    >>> round(smooth_min(1.0, 3.0), 3)
    1.0
    """
    return (1.0 - CORNER_ROUNDING) * a * b / smooth_max(a, b)


@inlined
def sst_eddy_viscosity(rho: float, k: float, w: float, floor: float):
    """Eddy viscosity of SST.

    Parameters
    ----------
    rho : float
        Density.
    k : float
        Turbulent kinetic energy.
    w : float
        log(omega).
    floor : float
        S F2 / a1.

    Examples
    --------
    >>> round(sst_eddy_viscosity(1.0, 1e-4, math.log(10.0), 1e-9) * 1e5, 3)  # rho k / omega
    1.0
    """
    k = k if k > 0.0 else 0.0
    return rho * k / smooth_max(math.exp(w), floor)


@inlined
def sst_diffusivities(mu: float, eddy: float, blend: float):
    """Diffusion coefficients of k and of log(omega).

    Parameters
    ----------
    mu : float
        Viscosity.
    eddy : float
        Eddy viscosity.
    blend : float
        F1.

    Examples
    --------
    >>> sst_diffusivities(1.0, 2.0, 1.0)
    (2.7, 2.0)
    """
    k = blend * SIGMA_K[0] + (1.0 - blend) * SIGMA_K[1]
    w = blend * SIGMA_W[0] + (1.0 - blend) * SIGMA_W[1]
    return mu + k * eddy, mu + w * eddy


@serial
def sst_closure(rho: float, mu: float, k: float, w: float, wall: float, strain: float, cross: float):
    """Closure of a cell: S F2 / a1 and F1.

    Parameters
    ----------
    rho : float
        Density.
    mu : float
        Viscosity.
    k : float
        Turbulent kinetic energy.
    w : float
        log(omega).
    wall : float
        Wall distance [m].
    strain : float
        Strain rate.
    cross : float
        Product of the gradients of k and w.

    Examples
    --------
    >>> floor, blend = sst_closure(1.0, 1e-6, 1e-5, math.log(50.0), 1e-3, 100.0, 0.0)
    >>> round(blend, 3)  # k-omega near the wall
    1.0
    """
    k = max(k, 0.0)
    rate = math.exp(w)
    outer = math.sqrt(k) / (BETA_STAR * rate * wall)
    inner = 500.0 * mu / (rho * wall * wall * rate)
    reach = smooth_max(2.0 * outer, inner)
    # the cross term counts where it is positive; rounded off at the size that it has in a wake of that k
    cross *= 2.0 * rho * SIGMA_W[1]
    least = 4.0 * rho * SIGMA_W[1] * (k + LEAST) / (FAR * wall) ** 2
    size = math.sqrt(cross * cross + least * least)
    positive = 0.5 * (cross + size) if cross > 0.0 else 0.5 * least * least / (size - cross)
    arg = smooth_min(smooth_max(outer, inner), 4.0 * rho * SIGMA_W[1] * (k + LEAST) / (positive * wall * wall))
    arg = smooth_min(arg, 10.0)
    return strain * math.tanh(reach * reach) / A1, math.tanh(arg**4)


@serial
def sst_source(
    rho: float, mu: float, k: float, w: float, wall: tuple[float, float], strain: float, cross: float, steep: float
):
    """Sources of rho k and of rho log(omega), per volume, and the closure that they contain (see `sst_closure`).

    Parameters
    ----------
    rho : float
        Density.
    mu : float
        Viscosity.
    k : float
        Turbulent kinetic energy.
    w : float
        log(omega).
    wall : tuple[float, float]
        Distance, fraction of the production (0 where laminar).
    strain : float
        Strain rate.
    cross : float
        Product of the gradients of k and w.
    steep : float
        Squared gradient of w.

    Returns
    -------
    tuple of 4 float

    Examples
    --------
    >>> sk, sw, floor, blend = sst_source(1.0, 1e-6, 1e-5, math.log(40.0), (1e3, 1.0), 1e-9, 0.0, 0.0)
    >>> round(sk * 1e5, 4), round(sw, 2)  # decay in a free stream: -beta* k omega and -beta omega
    (-3.6, -3.31)
    """
    distance, active = wall
    floor, blend = sst_closure(rho, mu, k, w, distance, strain, cross)
    eddy = sst_eddy_viscosity(rho, k, w, floor)
    rate = math.exp(w)
    beta = blend * BETA[0] + (1.0 - blend) * BETA[1]
    gamma = blend * GAMMA[0] + (1.0 - blend) * GAMMA[1]
    _, spread = sst_diffusivities(mu, eddy, blend)
    destroyed = BETA_STAR * rho * k * rate
    # production of k limited by ten times its destruction: with eddy = rho k / larger, k drops out
    produced = eddy * smooth_min(strain * strain, PRODUCTION_LIMIT * BETA_STAR * rate * smooth_max(rate, floor))
    grown = gamma * rho * strain * strain / rate
    swapped = 2.0 * (1.0 - blend) * rho * SIGMA_W[1] * cross / rate
    return active * produced - destroyed, grown - beta * rho * rate + spread * steep + swapped, floor, blend
