"""A boundary layer along a given edge velocity: laminar, transition by e^N or at a trip, turbulent with lag.

Momentum and kinetic energy integrals (Drela and Giles 1987), in logarithms, by the trapezoidal rule, station by station
with Newton's method and derivatives by the complex step. In this direct form the march ends where the layer separates;
coupled to the outer flow it goes on. Incompressible. Verified by tests/test_boundary_layer.py.
"""

import functools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.loworder.panel.falkner_skan import similar_shape_factor
from zephyrum.loworder.panel.integral_closures import (
    critical_reynolds,
    equilibrium_stress,
    growth_rate,
    laminar_closure,
    layer_thickness,
    turbulent_closure,
)

if TYPE_CHECKING:
    import pandas as pd

STEP = 1e-30  # imaginary part of the complex step
NEWTON_STEPS = 40
LAG = 4.2  # rate at which the shear stress follows its equilibrium (Green, Weeks and Brooman 1977)
AFTER_TRANSITION = 0.7  # shear stress just after transition over that in equilibrium (Drela and Giles 1987)
LAMINAR_SEPARATION = 4.02923  # shape factor of the similar layer without wall shear
TURBULENT_SEPARATION = 2.8  # shape factor at which a turbulent layer in the direct form is taken as separated


@dataclass(frozen=True)
class LayerSolution:
    """A boundary layer along a surface.

    Attributes
    ----------
    s : (n,) array
        Distance from the start [m].
    edge : (n,) array
        Velocity at the edge of the layer [m/s].
    theta : (n,) array
        Momentum thickness [m].
    h : (n,) array
        Shape factor.
    stress : (n,) array
        Square root of the coefficient of the largest shear stress; NaN where laminar.
    amplitude : (n,) array
        Exponent of the amplitude of waves.
    turbulent : (n,) array of bool
        Where the layer is turbulent.
    viscosity : float
        Kinematic [m^2/s].
    transition, separation : float
        Where the layer becomes turbulent, and where it separates [m]; NaN where it does not.

    Examples
    --------
    >>> x = np.linspace(0.0, 1.0, 101)[1:]
    >>> plate = march_layer(x, np.ones(100), 1e-6)
    >>> round(float(plate.theta[-1] * 1e3), 3)  # 0.664 / sqrt(1e6) m
    0.664
    """

    s: np.ndarray
    edge: np.ndarray
    theta: np.ndarray
    h: np.ndarray
    stress: np.ndarray
    amplitude: np.ndarray
    turbulent: np.ndarray
    viscosity: float
    transition: float
    separation: float

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"boundary layer of {len(self.s)} stations, transition {self.transition:.4g} m"

    @functools.cached_property
    def friction(self) -> np.ndarray:
        """(n,) friction coefficient on the edge velocity.

        Examples
        --------
        >>> x = np.linspace(0.0, 1.0, 101)[1:]
        >>> round(float(march_layer(x, np.ones(100), 1e-6).friction[-1]), 6)
        0.000664
        """
        reynolds = self.edge * self.theta / self.viscosity
        laminar = laminar_closure(self.h, reynolds)[1]
        turbulent = turbulent_closure(self.h, reynolds, np.where(self.turbulent, self.stress, 0.03))[1]
        return 2.0 * np.where(self.turbulent, turbulent, laminar)

    @property
    def table(self) -> "pd.DataFrame":
        """One row a station.

        Examples
        --------
        >>> x = np.linspace(0.0, 1.0, 101)[1:]
        >>> len(march_layer(x, np.ones(100), 1e-6).table)
        100
        """
        import pandas as pd

        return pd.DataFrame(
            {
                "s_m": self.s,
                "edge_m_s": self.edge,
                "theta_m": self.theta,
                "delta_star_m": self.theta * self.h,
                "H": self.h,
                "Cf": self.friction,
                "N": self.amplitude,
                "turbulent": self.turbulent,
            }
        )


def march_layer(
    s: np.ndarray,
    edge: np.ndarray,
    viscosity: float,
    critical: float = 9.0,
    trip: float | None = None,
    start: float = 0.0,
) -> LayerSolution:
    """March a boundary layer along a given edge velocity.

    Parameters
    ----------
    s : (n,) array
        Distance from the leading edge or stagnation point, rising from above 0 [m].
    edge : (n,) array
        Velocity at the edge of the layer [m/s].
    viscosity : float
        Kinematic viscosity [m^2/s].
    critical : float, optional
        Exponent N of the amplitude at which the layer becomes turbulent; 9 in quiet air, -8.43 - 2.4 ln(turbulence
        level) by Mack (1977).
    trip : float, optional
        Where it is made turbulent at the latest [m].
    start : float, optional
        m of the similar flow u = s^m at the first station: 0 at a sharp leading edge, 1 at a stagnation point.

    Raises
    ------
    InputError
        Stations do not rise, or velocities are not positive.

    Examples
    --------
    >>> x = np.geomspace(1e-3, 4.0, 200)
    >>> plate = march_layer(x, np.full(200, 1.0), 1e-6)
    >>> 2.6 < plate.transition < 3.4  # Reynolds number in millions
    True
    """
    s, edge = np.asarray(s, dtype=float), np.asarray(edge, dtype=float)
    if s.ndim != 1 or s.shape != edge.shape or len(s) < 3 or not (s[0] > 0.0 and (np.diff(s) > 0.0).all()):
        raise InputError("s must rise from above zero, with one edge velocity for each of at least three stations.")
    if not (edge > 0.0).all():
        k = int(np.argmin(edge))
        raise InputError(f"edge velocity {edge[k]:g} m/s at s = {s[k]:g} m is not positive.")
    viscosity = number("viscosity", viscosity, 0.0, open_low=True)
    critical = number("critical", critical, 0.1, 30.0)
    march = _March(s, edge, viscosity, critical, np.inf if trip is None else number("trip", trip, 0.0))
    march.begin(number("start", start, -0.09, 1.3))
    while march.k < len(s) - 1 and np.isnan(march.separation):
        march.step()
    return march.solution()


class _March:
    """State of a march; station k is the last that is known."""

    def __init__(self, s, edge, viscosity, critical, trip):
        self.s, self.edge, self.nu, self.critical, self.trip = s, edge, viscosity, critical, trip
        n = len(s)
        self.theta, self.h, self.stress, self.amplitude = (np.full(n, np.nan) for _ in range(4))
        self.turbulent = np.zeros(n, dtype=bool)
        self.k, self.transition, self.separation = 0, np.nan, np.nan

    def begin(self, m: float) -> None:
        """The similar layer of u = s^m at the first station."""
        h = similar_shape_factor(m)
        friction = float(laminar_closure(np.array(h), np.array(1.0))[1])
        growth = 0.5 * (1.0 - m) + (h + 2.0) * m
        self.theta[0] = np.sqrt(self.s[0] * self.nu * friction / (self.edge[0] * growth))
        self.h[0], self.amplitude[0] = h, 0.0
        if self.trip <= self.s[0]:
            self._become_turbulent(0)

    def _become_turbulent(self, k: int) -> None:
        self.turbulent[k], self.transition = True, float(self.s[k])
        reynolds = np.array(self.edge[k] * self.theta[k] / self.nu)
        self.h[k] = min(self.h[k], 1.6)
        self.stress[k] = AFTER_TRANSITION * float(equilibrium_stress(np.array(self.h[k]), reynolds))

    def step(self) -> None:
        """Solve the next station."""
        k = self.k
        if not self.turbulent[k]:
            x = self._newton(np.array([self._predicted(), self.h[k]]), False)
            if x is None or x[1] > LAMINAR_SEPARATION:
                self.separation = self._separation(x)
                return
            self.k = k + 1
            self.theta[k + 1], self.h[k + 1] = np.exp(x[0]), x[1]
            self.amplitude[k + 1] = self.amplitude[k] + self._growth(k)
            if self.amplitude[k + 1] >= self.critical or self.s[k + 1] >= self.trip:
                self._transition_before(k + 1)
            return
        x = self._newton(np.array([self._predicted(), self.h[k], np.log(self.stress[k])]), True)
        if x is None or x[1] > TURBULENT_SEPARATION:
            self.separation = float(self.s[k])
            return
        self.k = k + 1
        self.theta[k + 1], self.h[k + 1], self.stress[k + 1] = np.exp(x[0]), x[1], np.exp(x[2])
        self.amplitude[k + 1], self.turbulent[k + 1] = self.amplitude[k], True

    def _predicted(self) -> float:
        """ln theta of the next station, with the shape factor of this one."""
        k = self.k
        h, theta = np.array(self.h[k]), self.theta[k]
        reynolds = np.array(self.edge[k] * theta / self.nu)
        if self.turbulent[k]:
            friction = turbulent_closure(h, reynolds, np.array(self.stress[k]))[1]
        else:
            friction = laminar_closure(h, reynolds)[1]
        log_s, log_u = np.log(self.s[k + 1] / self.s[k]), np.log(self.edge[k + 1] / self.edge[k])
        # theta^2 grows in a straight line with the friction of a laminar layer
        fed = theta**2 * np.exp(-2.0 * (h + 2.0) * log_u) + 2.0 * theta * friction * self.s[k] * log_s
        return float(0.5 * np.log(max(fed, 0.25 * theta**2)))

    def _growth(self, k: int) -> float:
        """Growth of the exponent between stations k and k + 1, from where waves begin to grow."""
        h, theta = self.h[k : k + 2], self.theta[k : k + 2]
        excess = np.log(self.edge[k : k + 2] * theta / self.nu / critical_reynolds(h))
        if excess[1] <= 0.0:
            return 0.0
        share = 1.0 if excess[0] >= 0.0 else excess[1] / (excess[1] - excess[0])
        return float(share * growth_rate(h, theta).mean() * (self.s[k + 1] - self.s[k]))

    def _transition_before(self, k: int) -> None:
        """Make station k turbulent and place transition between it and the one before."""
        before, after = self.amplitude[k - 1], self.amplitude[k]
        place = self.trip
        if after >= self.critical:
            share = (self.critical - before) / max(after - before, 1e-300)
            place = min(place, self.s[k - 1] + share * (self.s[k] - self.s[k - 1]))
        self._become_turbulent(k)
        self.transition = float(place)

    def _separation(self, x: np.ndarray | None) -> float:
        """Where the shape factor reaches that of separation; friction falls to it like a square root."""
        k = self.k
        if x is None and k > 0:  # from the last two stations
            f = np.array([float(laminar_closure(h, np.array(1.0))[1]) for h in self.h[k - 1 : k + 1]]) ** 2
            reach = f[1] / max(f[0] - f[1], 1e-300) * (self.s[k] - self.s[k - 1])
            return float(min(self.s[k] + reach, self.s[k + 1]))
        return float(self.s[k + 1]) if x is not None else float(self.s[k])

    def _newton(self, start: np.ndarray, turbulent: bool) -> np.ndarray | None:
        """Unknowns of station k + 1: ln theta, H and, where turbulent, ln of the stress; None if there are none."""
        x = start.copy()
        for _ in range(NEWTON_STEPS):
            value = self._residual(x, turbulent).real
            slopes = np.stack(
                [self._residual(x + 1j * STEP * unit, turbulent).imag / STEP for unit in np.eye(len(x))], axis=1
            )
            try:
                step = np.linalg.solve(slopes, -value)
            except np.linalg.LinAlgError:
                return None
            limit = max(1.0, np.abs(step / [0.4, 0.1, 0.5][: len(x)]).max())
            x = x + step / limit
            if not (np.isfinite(x).all() and 1.02 < x[1] < 30.0):
                return None
            if np.abs(step).max() < 1e-11:
                return x
        return None

    def _residual(self, x: np.ndarray, turbulent: bool) -> np.ndarray:
        k = self.k
        theta = np.array([self.theta[k], np.exp(x[0])])
        h = np.array([self.h[k], x[1]])
        reynolds = self.edge[k : k + 2] * theta / self.nu
        if turbulent:
            stress = np.array([self.stress[k], np.exp(x[2])])
            energy, friction, dissipation = turbulent_closure(h, reynolds, stress)
        else:
            energy, friction, dissipation = laminar_closure(h, reynolds)
        ratio = self.s[k : k + 2] / theta
        log_s, log_u = np.log(self.s[k + 1] / self.s[k]), np.log(self.edge[k + 1] / self.edge[k])
        mean_h = h.mean()
        momentum = np.log(theta[1] / theta[0]) + (mean_h + 2.0) * log_u - (ratio * friction).mean() * log_s
        shape = (
            np.log(energy[1] / energy[0])
            + (1.0 - mean_h) * log_u
            + (ratio * (friction - 2.0 * dissipation / energy)).mean() * log_s
        )
        if not turbulent:
            return np.array([momentum, shape])
        delta = layer_thickness(h, theta).mean()
        drive = (equilibrium_stress(h, reynolds) - stress).mean()
        lag = 2.0 * np.log(stress[1] / stress[0]) - LAG * drive * (self.s[k + 1] - self.s[k]) / delta
        return np.array([momentum, shape, lag])

    def solution(self) -> LayerSolution:
        """What has been solved."""
        own = slice(self.k + 1)
        return LayerSolution(
            self.s[own],
            self.edge[own],
            self.theta[own],
            self.h[own],
            self.stress[own],
            self.amplitude[own],
            self.turbulent[own],
            self.nu,
            self.transition,
            self.separation,
        )
