"""The Spalart-Allmaras one-equation model, negative variant, fully turbulent or laminar in parts, smooth or rough
walls.

Sources: Spalart and Allmaras (1994), Rech. Aerosp. 1:5; the continuation to negative values and the limited vorticity
after Allmaras, Johnson and Spalart (2012), ICCFD7-1902; sand-grain roughness after Aupoix and Spalart (2003), Int. J.
Heat Fluid Flow 24:454. The trip terms, f_t2 among them, are left out, as usual in fully turbulent flow: with f_t2 the
laminar pocket at the stagnation point had two states and Newton's method swapped between them, while CL and CD were the
same to five digits. Where a wall is asked to be laminar, production and eddy viscosity are switched off in the cells
nearest to it. The unknown is nu~ in units of the freestream's kinematic viscosity.
Meant for attached and mildly separated boundary layers and wakes; the lift after deep stall is not to be trusted.
Verified by tests/test_viscous.py and validation/.
"""

import math

from zephyrum._core.jit import inlined, serial

CB1, CB2, SIGMA, KARMAN = 0.1355, 0.622, 2.0 / 3.0, 0.41
CW2, CW3, CV1, CV2, CV3, CN1, CT3 = 0.3, 2.0, 7.1, 0.7, 0.9, 16.0, 1.2
CW1 = CB1 / KARMAN**2 + (1.0 + CB2) / SIGMA
ROUGH_SHIFT, ROUGH_CHI = 0.03, 0.5  # of the sand-grain height: wall distance gained, and chi gained over distance
FREESTREAM_RATIO = 3.0  # nu~ over nu in the freestream, as the 2012 paper advises for fully turbulent flow
TYPICAL_RATIO = 100.0  # a typical nu~ / nu in a boundary layer: the size of the equation


def unknown_of_eddy_ratio(ratio: float) -> float:
    """nu~ over nu that has a ratio of eddy to molecular viscosity.

    Parameters
    ----------
    ratio : float
        Above 0.

    Notes
    -----
    Root of chi^4 = ratio (chi^3 + c_v1^3), by Newton's method from above.

    Examples
    --------
    >>> chi = unknown_of_eddy_ratio(0.5)
    >>> round(chi**4 / (chi**3 + CV1**3), 9)
    0.5
    """
    chi = ratio + (ratio * CV1**3) ** 0.25
    for _ in range(60):
        chi -= (chi**4 - ratio * (chi**3 + CV1**3)) / (4.0 * chi**3 - 3.0 * ratio * chi**2)
    return chi


@inlined
def sa_eddy_viscosity(rho_nu: float, mu: float, shift: float):
    """Eddy viscosity of SA.

    Parameters
    ----------
    rho_nu : float
        Density times nu~.
    mu : float
        Viscosity, in the same unit.
    shift : float
        What roughness adds to chi.

    Examples
    --------
    >>> round(sa_eddy_viscosity(7.1, 1.0, 0.0), 6)  # chi = CV1: half of rho nu~
    3.55
    """
    rho_nu = rho_nu if rho_nu > 0.0 else 0.0
    chi = rho_nu / mu + shift
    cube = chi * chi * chi
    return rho_nu * cube / (cube + CV1**3)


@inlined
def sa_diffusivity(rho_nu: float, mu: float):
    """Diffusion coefficient of nu~: rho (nu + f_n nu~) / sigma.

    Parameters
    ----------
    rho_nu : float
        Density times nu~.
    mu : float
        Viscosity, in the same unit.

    Examples
    --------
    >>> round(sa_diffusivity(9.0, 1.0), 6)
    15.0
    """
    chi = rho_nu / mu
    cube = chi * chi * chi
    fn = (CN1 + cube) / (CN1 - cube)
    fn = 1.0 if chi > 0.0 else fn
    return (mu + rho_nu * fn) / SIGMA


@inlined
def sa_gradient_terms(rho: float, mu: float, x: float, square: float, product: float, nu: float):
    """Gradient terms of the source, and their derivatives to `square` and to `product`.

    Parameters
    ----------
    rho : float
        Density.
    mu : float
        Viscosity.
    x : float
        nu~ in units of `nu`.
    square : float
        Squared gradient of x.
    product : float
        Scalar product of the gradients of x and of the density.
    nu : float
        Kinematic viscosity of the freestream.

    Returns
    -------
    tuple of 3 float

    Examples
    --------
    >>> value, by_square, by_product = sa_gradient_terms(1.0, 1e-6, 100.0, 4e4, 0.0, 1e-6)
    >>> round(value, 6), round(by_square * 4e4, 6)
    (0.03732, 0.03732)
    """
    weight = 1.0
    if x < 0.0:
        chi = rho * nu * x / mu
        cube = chi * chi * chi
        weight = (CN1 + cube) / (CN1 - cube)
    by_square, by_product = CB2 * rho * nu / SIGMA, -(mu / rho + nu * x * weight) / SIGMA
    return by_square * square + by_product * product, by_square, by_product


@serial
def sa_source(
    rho: float,
    mu: float,
    x: float,
    wall: tuple[float, float, float],
    vorticity: float,
    square: float,
    product: float,
    nu: float,
):
    """Production minus destruction plus gradient terms of the equation of rho x, per volume, in scaled units.

    Parameters
    ----------
    rho : float
        Density.
    mu : float
        Viscosity.
    x : float
        nu~ in units of `nu`.
    wall : tuple[float, float, float]
        Distance [m], what roughness adds to chi, fraction of the production (0 where laminar).
    vorticity : float
        Its magnitude.
    square : float
        Squared gradient of x.
    product : float
        Scalar product of the gradients of x and of the density.
    nu : float
        Kinematic viscosity of the freestream.

    Examples
    --------
    >>> source = sa_source(1.0, 1e-6, 100.0, (0.01, 0.0, 1.0), 200.0, 0.0, 0.0, 1e-6)
    >>> source > 0.0  # production exceeds destruction
    True
    """
    distance, shift, active = wall
    y = rho * nu * x  # rho nu~
    chi = y / mu
    kd2 = 1.0 / (KARMAN * distance) ** 2
    rest, _, _ = sa_gradient_terms(rho, mu, x, square, product, nu)
    if x < 0.0:
        produced = active * CB1 * (1.0 - CT3) * vorticity * rho * x
        destroyed = -CW1 * rho * nu * x * x / (distance * distance)
        return produced - destroyed + rest
    rough = chi + shift
    cube = rough * rough * rough
    fv1 = cube / (cube + CV1**3)
    fv2 = 1.0 - chi / (1.0 + chi * fv1)
    bar = nu * x * kd2 * fv2
    if bar >= -CV2 * vorticity:
        shear = vorticity + bar
    else:
        shear = vorticity + vorticity * (CV2 * CV2 * vorticity + CV3 * bar) / ((CV3 - 2.0 * CV2) * vorticity - bar)
    r = nu * x * kd2 / max(shear, 1e-10 * nu * kd2 + 1e-30)
    r = min(r, 10.0)
    r3 = r * r * r
    gg = r + CW2 * (r3 * r3 - r)
    g3 = gg * gg * gg
    fw = gg * math.exp(math.log((1.0 + CW3**6) / (g3 * g3 + CW3**6)) / 6.0)
    produced = active * CB1 * shear * rho * x
    destroyed = CW1 * fw * rho * nu * x * x / (distance * distance)
    return produced - destroyed + rest
