"""Closures of the integral boundary-layer equations and the growth of the waves that lead to transition.

Turbulent layers: Drela and Giles (1987) with the energy shape factor and friction of Swafford (1983) and the lag of
Green, Weeks and Brooman (1977). Transition: envelopes of the growth of the waves of similar layers, Gleyzes, Cousteix
and Bonnet (1985) in the form of Drela and Giles (1987). All functions take complex numbers, so that derivatives follow
by the complex step. Incompressible shape factors (Whitfield 1979 for adiabatic flow). Verified by
tests/test_boundary_layer.py.
"""

import numpy as np

from zephyrum.loworder.panel.falkner_skan import laminar_splines

LEAST_TURBULENT_H = 1.05


def laminar_closure(h: np.ndarray, reynolds: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Energy shape factor, friction and dissipation of a laminar layer.

    Parameters
    ----------
    h : array
        Shape factor.
    reynolds : array
        On the momentum thickness.

    Returns
    -------
    energy, half_friction, dissipation : array
        H*, Cf / 2 and CD.

    Examples
    --------
    >>> [round(float(v), 4) for v in laminar_closure(np.array(2.5911), np.array(100.0))]
    [1.5726, 0.0022, 0.0017]
    """
    splines, x = laminar_splines(), np.log(h)
    energy = splines["energy"](x)
    return energy, splines["friction"](x) / reynolds, 0.5 * energy * splines["dissipation"](x) / reynolds


def turbulent_energy(h: np.ndarray, reynolds: np.ndarray) -> np.ndarray:
    """Energy shape factor of a turbulent layer.

    Parameters
    ----------
    h : array
        Shape factor.
    reynolds : array
        On the momentum thickness.

    Examples
    --------
    >>> round(float(turbulent_energy(np.array(1.4), np.array(2000.0))), 3)
    1.743
    """
    re = np.where(reynolds.real > 200.0, reynolds, 200.0)
    h0 = np.where(re.real > 400.0, 3.0 + 400.0 / re, 4.0)
    gap = h0 - h
    below = np.where(gap.real > 0.0, gap, 1e-12)
    attached = (0.165 - 1.6 / np.sqrt(re)) * below**1.6 / h
    log = np.log(re)
    behind = (-gap) ** 2 * (0.04 / h + 0.007 * log / (-gap + 4.0 / log) ** 2)
    return 1.505 + 4.0 / re + np.where(gap.real > 0.0, attached, behind)


def turbulent_friction(h: np.ndarray, reynolds: np.ndarray) -> np.ndarray:
    """Half the friction coefficient of a turbulent layer (Swafford 1983).

    Parameters
    ----------
    h : array
        Shape factor.
    reynolds : array
        On the momentum thickness.

    Examples
    --------
    >>> round(float(turbulent_friction(np.array(1.4), np.array(2000.0))), 5)
    0.00174
    """
    log = np.log(np.where(reynolds.real > 20.0, reynolds, 20.0)) / np.log(10.0)
    return 0.5 * (0.3 * np.exp(-1.33 * h) * log ** (-1.74 - 0.31 * h) + 0.00011 * (np.tanh(4.0 - h / 0.875) - 1.0))


def slip_velocity(h: np.ndarray, energy: np.ndarray) -> np.ndarray:
    """Equivalent slip velocity of a turbulent layer over the edge velocity.

    Parameters
    ----------
    h, energy : array
        Shape factors H and H*.

    Examples
    --------
    >>> round(float(slip_velocity(np.array(1.4), np.array(1.75))), 3)
    0.542
    """
    return 0.5 * energy * (1.0 - 4.0 / 3.0 * (h - 1.0) / h)


def equilibrium_stress(h: np.ndarray, reynolds: np.ndarray) -> np.ndarray:
    """Coefficient of the largest shear stress of a turbulent layer in equilibrium, its square root.

    Parameters
    ----------
    h : array
        Shape factor.
    reynolds : array
        On the momentum thickness.

    Examples
    --------
    >>> round(float(equilibrium_stress(np.array(1.4), np.array(2000.0))), 4)
    0.0364
    """
    energy = turbulent_energy(h, reynolds)
    slip = slip_velocity(h, energy)
    square = 0.015 * energy / (1.0 - slip) * (h - 1.0) ** 3 / h**3
    return np.sqrt(square)


def turbulent_closure(
    h: np.ndarray, reynolds: np.ndarray, stress: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Energy shape factor, friction and dissipation of a turbulent layer.

    Parameters
    ----------
    h : array
        Shape factor.
    reynolds : array
        On the momentum thickness.
    stress : array
        Square root of the coefficient of the largest shear stress.

    Returns
    -------
    energy, half_friction, dissipation : array
        H*, Cf / 2 and CD.

    Examples
    --------
    >>> h, re = np.array(1.4), np.array(2000.0)
    >>> len(turbulent_closure(h, re, equilibrium_stress(h, re)))
    3
    """
    energy = turbulent_energy(h, reynolds)
    slip = slip_velocity(h, energy)
    friction = turbulent_friction(h, reynolds)
    return energy, friction, friction * slip + stress**2 * (1.0 - slip)


def layer_thickness(h: np.ndarray, theta: np.ndarray) -> np.ndarray:
    """Thickness of a turbulent layer (Green, Weeks and Brooman 1977).

    Parameters
    ----------
    h : array
        Shape factor.
    theta : array
        Momentum thickness.

    Examples
    --------
    >>> round(float(layer_thickness(np.array(1.4), np.array(1.0))), 2)
    8.85
    """
    return theta * (3.15 + 1.72 / (h - 1.0) + h)


def critical_reynolds(h: np.ndarray) -> np.ndarray:
    """Reynolds number on the momentum thickness from which waves grow.

    Parameters
    ----------
    h : array
        Shape factor.

    Examples
    --------
    >>> round(float(critical_reynolds(np.array(2.59))))
    244
    """
    g = 1.0 / (h - 1.0)
    return 10.0 ** ((1.415 * g - 0.489) * np.tanh(20.0 * g - 12.9) + 3.295 * g + 0.44)


def growth_rate(h: np.ndarray, theta: np.ndarray) -> np.ndarray:
    """Growth of the exponent of the amplitude of waves, for each unit of length.

    Parameters
    ----------
    h : array
        Shape factor.
    theta : array
        Momentum thickness.

    Examples
    --------
    >>> float(growth_rate(np.array(2.8), np.array(1e-3))) > float(growth_rate(np.array(2.6), np.array(1e-3)))
    True
    """
    by_reynolds = 0.01 * np.sqrt((2.4 * h - 3.7 + 2.5 * np.tanh(1.5 * h - 4.65)) ** 2 + 0.25)
    length = (6.54 * h - 14.07) / h**2
    exponent = (0.058 * (h - 4.0) ** 2 / (h - 1.0) - 0.068) / length
    return by_reynolds * 0.5 * (exponent + 1.0) * length / theta
