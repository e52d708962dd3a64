"""Integral boundary-layer equations between two stations: residuals, and derivatives by the complex step.

Momentum, kinetic energy and, with it, either the growth of waves (laminar) or the lag of the shear stress (turbulent
layers and wakes), after Drela and Giles (1987), in logarithms of distance. The place of transition lies in the interval
between a laminar and a turbulent station, whose equations are the sums of those of its two parts.

A station has five numbers: `third` (exponent of the amplitude of waves where laminar, else the square root of the
coefficient of the largest shear stress), momentum thickness, displacement thickness, edge velocity, and distance from
the stagnation point. Verified by tests/test_boundary_layer.py.
"""

import numpy as np

from zephyrum._core.jit import serial
from zephyrum.loworder.panel.falkner_skan import FRICTION_AT_STAGNATION, SHAPE_AT_STAGNATION
from zephyrum.loworder.panel.integral_closures import (
    LARGEST_SLIP,
    LARGEST_SLIP_OF_WAKE,
    equilibrium_stress,
    growth_rate,
    laminar_closure,
    layer_thickness,
    log_critical_reynolds,
    slip_velocity,
    turbulent_energy,
    turbulent_friction,
)

LAMINAR, TURBULENT, WAKE = 0, 1, 2
STEP = 1e-30  # complex step over the size of the variable
LAG = 4.2  # rate at which the shear stress follows its equilibrium (Green, Weeks and Brooman 1977)
AFTER_TRANSITION = 0.7  # shear stress just after transition over that in equilibrium (Drela and Giles 1987)
LEAST_SHAPE = 1.0005  # shape factor below which closures are held


@serial
def _closures(kind, third, theta, delta, edge, viscosity):
    """H, H*, Cf / 2, CD, drive of the stress and thickness at a station."""
    h = delta / theta
    if h.real < LEAST_SHAPE:
        h = h + (LEAST_SHAPE - h.real)
    reynolds = edge * theta / viscosity
    if kind == LAMINAR:
        energy, friction, dissipation = laminar_closure(h, reynolds)
        return h, energy, friction, dissipation, 0.0j, theta
    energy = turbulent_energy(h, reynolds)
    slip = slip_velocity(h, energy, LARGEST_SLIP_OF_WAKE if kind == WAKE else LARGEST_SLIP)
    dissipation = third * third * (1.0 - slip)
    friction = 0.0j
    if kind == WAKE:
        dissipation = 2.0 * dissipation  # of both halves
    else:
        friction = turbulent_friction(h, reynolds)
        dissipation = dissipation + friction * slip
    return h, energy, friction, dissipation, equilibrium_stress(h, energy, slip) - third, layer_thickness(h, theta)


@serial
def _part(kind, v, gaps, viscosity):
    """Momentum, energy and third residual over an interval of one kind; v (10,), both stations, gaps (2,)."""
    h1, energy1, friction1, loss1, drive1, thick1 = _closures(kind, v[0], v[1], v[2] - gaps[0], v[3], viscosity)
    h2, energy2, friction2, loss2, drive2, thick2 = _closures(kind, v[5], v[6], v[7] - gaps[1], v[8], viscosity)
    log_u, log_s = np.log(v[8] / v[3]), np.log(v[9] / v[4])
    mean_h = 0.5 * (v[2] / v[1] + v[7] / v[6])
    ratio1, ratio2 = v[4] / v[1], v[9] / v[6]
    # trapezoidal where the layer changes slowly, backward where it changes within an interval
    change = np.log((h2 - 1.0) / (h1 - 1.0))
    back = 1.0 - 0.5 * np.exp(-(5.0 if kind == WAKE else 1.0) * change * change)
    momentum = np.log(v[6] / v[1]) + (mean_h + 2.0) * log_u - 0.5 * (ratio1 * friction1 + ratio2 * friction2) * log_s
    source1 = ratio1 * (friction1 - 2.0 * loss1 / energy1)
    source2 = ratio2 * (friction2 - 2.0 * loss2 / energy2)
    energy = np.log(energy2 / energy1) + (1.0 - mean_h) * log_u + ((1.0 - back) * source1 + back * source2) * log_s
    if kind == LAMINAR:
        return momentum, energy, v[5] - v[0] - wave_growth(v, viscosity)
    thickness = (1.0 - back) * thick1 + back * thick2
    drive = (1.0 - back) * drive1 + back * drive2
    return momentum, energy, 2.0 * np.log(v[5] / v[0]) - LAG * drive * (v[9] - v[4]) / thickness


@serial
def wave_growth(v, viscosity):
    """Growth of the exponent over an interval, from where waves begin to grow.

    Parameters
    ----------
    v : (10,) complex array
        Both stations.
    viscosity : float
        Kinematic [m^2/s].
    """
    h1, h2 = v[2] / v[1], v[7] / v[6]
    excess1 = np.log(v[3] * v[1] / viscosity) - log_critical_reynolds(h1)
    excess2 = np.log(v[8] * v[6] / viscosity) - log_critical_reynolds(h2)
    if excess1.real <= 0.0 and excess2.real <= 0.0:
        return 0.0j
    share = 1.0 + 0.0j
    if excess1.real < 0.0:
        share = excess2 / (excess2 - excess1)
    elif excess2.real < 0.0:
        share = excess1 / (excess1 - excess2)
    return share * 0.5 * (growth_rate(h1, v[1]) + growth_rate(h2, v[6])) * (v[9] - v[4])


@serial
def _perturbed(v, x, share, j):
    """Add the complex step to entry j of v, or to the share for j = 10; the share, and the size of the step."""
    if j == 10:
        return share + 1j * STEP, 1.0
    size = max(abs(x[j]), 1e-10)
    v[j] += 1j * STEP * size
    return share + 0.0j, size


@serial
def local_growth(theta, delta, edge, viscosity):
    """Growth rate of the exponent at a station, zero below the critical Reynolds number.

    Parameters
    ----------
    theta, delta, edge : complex
        Momentum and displacement thickness, edge velocity.
    viscosity : float
        Kinematic [m^2/s].
    """
    h, reynolds = delta / theta, edge.real * theta.real / viscosity
    if reynolds <= 1.0 or np.log(reynolds) <= log_critical_reynolds(h).real:
        return 0.0j
    return growth_rate(h, theta)


@serial
def stress_after_transition(theta, delta, edge, viscosity):
    """Square root of the coefficient of the largest shear stress where a layer has just become turbulent.

    Parameters
    ----------
    theta, delta, edge : complex
        Momentum and displacement thickness, edge velocity.
    viscosity : float
        Kinematic [m^2/s].
    """
    h = delta / theta
    energy = turbulent_energy(h, edge * theta / viscosity)
    return AFTER_TRANSITION * equilibrium_stress(h, energy, slip_velocity(h, energy, LARGEST_SLIP))


@serial
def interval_residuals(kinds, v, gaps, viscosity, share):
    """Three residuals of an interval.

    Parameters
    ----------
    kinds : (2,) int array
        Of both stations.
    v : (10,) complex array
        Both stations.
    gaps : (2,) array
        Heights of dead air [m].
    viscosity : float
        Kinematic [m^2/s].
    share : complex
        Part of the interval before transition.
    """
    changes = kinds[0] == LAMINAR and kinds[1] != LAMINAR
    momentum, energy, third = 0.0j, 0.0j, 0.0j
    for part in range(2 if changes else 1):  # one call of `_part`: it is long to compile
        own, kind = v, kinds[1]
        if changes:
            own, kind = v.copy(), LAMINAR if part == 0 else TURBULENT
            for k in range(1, 5):
                own[k + 5 * (1 - part)] = v[k] + share * (v[5 + k] - v[k])
            if part == 1:
                own[0] = stress_after_transition(own[1], own[2], own[3], viscosity)
        of_part = _part(kind, own, gaps, viscosity)
        momentum, energy, third = momentum + of_part[0], energy + of_part[1], of_part[2]
    return momentum, energy, third


@serial
def interval_derivatives(kinds, x, gaps, viscosity, share, residuals, derivatives):
    """Residuals of an interval and their derivatives.

    Parameters
    ----------
    kinds : (2,) int array
        Of both stations: `LAMINAR`, `TURBULENT` or `WAKE`.
    x : (10,) array
        Both stations: third, theta, delta, edge velocity, distance.
    gaps : (2,) array
        Heights of dead air within the displacement thickness, behind a blunt tail [m].
    viscosity : float
        Kinematic [m^2/s].
    share : float
        Part of the interval before transition, where the first station is laminar and the second is not.
    residuals : (3,) array
        Output.
    derivatives : (3, 11) array
        Output: by the entries of x, and by the share.
    """
    v = x.astype(np.complex128)
    for j in range(11):
        part, size = _perturbed(v, x, share, j)
        found = interval_residuals(kinds, v, gaps, viscosity, part)
        if j < 10:
            v[j] = x[j]
        for i in range(3):
            derivatives[i, j] = found[i].imag / (STEP * size)
            residuals[i] = found[i].real


@serial
def theta_at_stagnation(gradient, viscosity):
    """Momentum thickness at a stagnation point.

    Parameters
    ----------
    gradient : float
        Of the edge velocity [1/s].
    viscosity : float
        Kinematic [m^2/s].
    """
    return np.sqrt(viscosity * FRICTION_AT_STAGNATION / (gradient * (SHAPE_AT_STAGNATION + 2.0)))
