"""Closures of the integral boundary-layer equations and the growth of the waves that lead to transition.

Laminar layers: those of Falkner and Skan (1931) with the same shape factor. Turbulent layers: Drela and Giles (1987)
with the energy shape factor and friction of Swafford (1983) and the lag of Green, Weeks and Brooman (1977). Transition:
envelopes of the growth of the waves of similar layers, Gleyzes, Cousteix and Bonnet (1985) in the form of Drela and
Giles (1987). All functions take and return complex numbers, so that derivatives follow by the complex step.
Incompressible shape factors (Whitfield 1979 for adiabatic flow). Verified by tests/test_boundary_layer.py.
"""

import numpy as np

from zephyrum._core.jit import serial
from zephyrum.loworder.panel.falkner_skan import LAMINAR_NODES, LAMINAR_SPLINES

LARGEST_SLIP = 0.95  # of the edge velocity, at a wall: the outer layer keeps some stress
LARGEST_SLIP_OF_WAKE = 0.995
LARGEST_THICKNESS = 12.0  # momentum thicknesses, of layers close to H = 1


@serial
def laminar_closure(h, reynolds):
    """Energy shape factor, friction and dissipation of a laminar layer.

    Parameters
    ----------
    h : complex
        Shape factor.
    reynolds : complex
        On the momentum thickness.

    Returns
    -------
    energy, half_friction, dissipation : complex
        H*, Cf / 2 and CD.

    Examples
    --------
    >>> [round(v.real, 4) for v in laminar_closure(2.5911 + 0j, 100.0 + 0j)]
    [1.5726, 0.0022, 0.0017]
    """
    x = np.log(h)
    # beyond its ends the table goes on in straight lines
    inside = min(max(x.real, LAMINAR_NODES[0]), LAMINAR_NODES[-1])
    k = min(max(np.searchsorted(LAMINAR_NODES, inside, side="right") - 1, 0), len(LAMINAR_NODES) - 2)
    d = inside - LAMINAR_NODES[k]
    beyond = x - inside
    outside = inside != x.real
    made = np.empty(3, np.complex128)
    for j in range(3):
        c = LAMINAR_SPLINES[j, :, k]
        if outside:
            made[j] = ((c[0] * d + c[1]) * d + c[2]) * d + c[3] + beyond * ((3.0 * c[0] * d + 2.0 * c[1]) * d + c[2])
        else:
            e = d + beyond
            made[j] = ((c[0] * e + c[1]) * e + c[2]) * e + c[3]
    return made[0], made[1] / reynolds, 0.5 * made[0] * made[2] / reynolds


@serial
def turbulent_energy(h, reynolds):
    """Energy shape factor of a turbulent layer.

    Parameters
    ----------
    h : complex
        Shape factor.
    reynolds : complex
        On the momentum thickness.

    Examples
    --------
    >>> round(turbulent_energy(1.4 + 0j, 2000.0 + 0j).real, 3)
    1.743
    """
    re = reynolds if reynolds.real > 200.0 else 200.0 + 0.0j
    h0 = 3.0 + 400.0 / re if re.real > 400.0 else 4.0 + 0.0j
    gap = h0 - h
    if gap.real > 0.0:
        return 1.505 + 4.0 / re + (0.165 - 1.6 / np.sqrt(re)) * np.exp(1.6 * np.log(gap)) / h
    log = np.log(re)
    d = 4.0 / log - gap
    return 1.505 + 4.0 / re + gap * gap * (0.04 / h + 0.007 * log / (d * d))


@serial
def turbulent_friction(h, reynolds):
    """Half the friction coefficient of a turbulent layer (Swafford 1983).

    Parameters
    ----------
    h : complex
        Shape factor.
    reynolds : complex
        On the momentum thickness.

    Examples
    --------
    >>> round(turbulent_friction(1.4 + 0j, 2000.0 + 0j).real, 5)
    0.00174
    """
    log = np.log(reynolds if reynolds.real > 20.0 else 20.0 + 0.0j) / np.log(10.0)
    power = np.exp(-1.33 * h - (1.74 + 0.31 * h) * np.log(log))
    return 0.5 * (0.3 * power + 0.00011 * (np.tanh(4.0 - h / 0.875) - 1.0))


@serial
def slip_velocity(h, energy, largest):
    """Equivalent slip velocity of a turbulent layer over the edge velocity.

    Parameters
    ----------
    h, energy : complex
        Shape factors H and H*.
    largest : float
        Upper bound.

    Examples
    --------
    >>> round(slip_velocity(1.4 + 0j, 1.75 + 0j, 0.95).real, 3)
    0.542
    """
    slip = 0.5 * energy * (1.0 - 4.0 / 3.0 * (h - 1.0) / h)
    return slip if slip.real < largest else largest + 0.0j


@serial
def equilibrium_stress(h, energy, slip):
    """Coefficient of the largest shear stress of a turbulent layer in equilibrium, its square root.

    Parameters
    ----------
    h, energy : complex
        Shape factors H and H*.
    slip : complex
        Slip velocity.

    Examples
    --------
    >>> round(equilibrium_stress(1.4 + 0j, 1.743 + 0j, 0.54 + 0j).real, 4)
    0.0364
    """
    outer = (h - 1.0) / h
    return np.sqrt(0.015 * energy / (1.0 - slip) * outer * outer * outer)


@serial
def layer_thickness(h, theta):
    """Thickness of a turbulent layer (Green, Weeks and Brooman 1977).

    Parameters
    ----------
    h : complex
        Shape factor.
    theta : complex
        Momentum thickness.

    Examples
    --------
    >>> round(layer_thickness(1.4 + 0j, 1.0 + 0j).real, 2)
    8.85
    """
    ratio = 3.15 + 1.72 / (h - 1.0) + h
    return (ratio if ratio.real < LARGEST_THICKNESS else LARGEST_THICKNESS + 0.0j) * theta


@serial
def log_critical_reynolds(h):
    """Logarithm of the Reynolds number on the momentum thickness from which waves grow.

    Parameters
    ----------
    h : complex
        Shape factor.

    Examples
    --------
    >>> round(float(np.exp(log_critical_reynolds(2.59 + 0j).real)))
    244
    """
    g = 1.0 / (h - 1.0)
    return ((1.415 * g - 0.489) * np.tanh(20.0 * g - 12.9) + 3.295 * g + 0.44) * np.log(10.0)


@serial
def growth_rate(h, theta):
    """Growth of the exponent of the amplitude of waves, for each unit of length.

    Parameters
    ----------
    h : complex
        Shape factor.
    theta : complex
        Momentum thickness.

    Examples
    --------
    >>> growth_rate(2.8 + 0j, 1e-3 + 0j).real > growth_rate(2.6 + 0j, 1e-3 + 0j).real
    True
    """
    bend = 2.4 * h - 3.7 + 2.5 * np.tanh(1.5 * h - 4.65)
    by_reynolds = 0.01 * np.sqrt(bend * bend + 0.25)
    length = (6.54 * h - 14.07) / (h * h)
    over = h - 4.0
    exponent = (0.058 * over * over / (h - 1.0) - 0.068) / length
    return by_reynolds * 0.5 * (exponent + 1.0) * length / theta
