"""A boundary layer along a given edge velocity: laminar, transition by e^N or at a trip, turbulent with lag.

The equations of `layer_equations`, station by station, with Newton's method. In this direct form the march ends where
the layer separates; coupled to the outer flow it goes on. Incompressible. Verified by tests/test_boundary_layer.py.
"""

import functools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.loworder.panel.falkner_skan import similar_shape_factor
from zephyrum.loworder.panel.integral_closures import laminar_closure, turbulent_friction
from zephyrum.loworder.panel.layer_equations import (
    LAMINAR,
    TURBULENT,
    interval_derivatives,
    stress_after_transition,
)

if TYPE_CHECKING:
    import pandas as pd

NEWTON_STEPS = 40
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
        return np.array(
            [
                2.0 * (turbulent_friction(h, re) if rough else laminar_closure(h, re)[1]).real
                for h, re, rough in zip(self.h + 0j, reynolds + 0j, self.turbulent)
            ]
        )

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
        self.third, self.theta, self.delta = (np.full(n, np.nan) for _ in range(3))
        self.amplitude = np.full(n, np.nan)
        self.turbulent = np.zeros(n, dtype=bool)
        self.k, self.transition, self.separation = 0, np.nan, np.nan

    def begin(self, m: float) -> None:
        """The similar layer of u = s^m at the first station."""
        h = similar_shape_factor(m)
        friction = laminar_closure(h + 0j, 1.0 + 0j)[1].real
        growth = 0.5 * (1.0 - m) + (h + 2.0) * m
        self.theta[0] = np.sqrt(self.s[0] * self.nu * friction / (self.edge[0] * growth))
        self.third[0] = self.amplitude[0] = 0.0
        if self.trip <= self.s[0]:
            self.turbulent[0], self.transition = True, float(self.s[0])
            h = min(h, 1.6)
        self.delta[0] = h * self.theta[0]
        if self.turbulent[0]:
            self.third[0] = self._stress(self.theta[0], self.delta[0], self.edge[0])

    def _stress(self, theta: float, delta: float, edge: float) -> float:
        return float(stress_after_transition(theta + 0j, delta + 0j, edge + 0j, self.nu).real)

    def step(self) -> None:
        """Solve the next station."""
        k = self.k
        start = np.array([self.third[k], self._predicted(), self.delta[k] / self.theta[k]])
        if self.turbulent[k]:
            x = self._newton(start, (TURBULENT, TURBULENT), 0.5)
            if x is None or x[2] > TURBULENT_SEPARATION:
                self.separation = float(self.s[k])
                return
            self._keep(x, True)
            return
        x = self._newton(start, (LAMINAR, LAMINAR), 0.5)
        place = self._transition(x)
        if place is not None:
            share = (place - self.s[k]) / (self.s[k + 1] - self.s[k])
            start[0] = self._stress(self.theta[k], self.delta[k], self.edge[k])
            start[2] = min(start[2], 2.0)
            made = self._newton(start, (LAMINAR, TURBULENT), float(np.clip(share, 1e-3, 1.0 - 1e-3)))
            if made is None:
                self.separation = float(self.s[k])
                return
            self.transition = place
            self._keep(made, True)
        elif x is None or x[2] > LAMINAR_SEPARATION:
            self.separation = self._separation(x)
        else:
            self._keep(x, False)

    def _keep(self, x: np.ndarray, turbulent: bool) -> None:
        k = self.k = self.k + 1
        self.third[k], self.theta[k], self.delta[k], self.turbulent[k] = x[0], x[1], x[1] * x[2], turbulent
        self.amplitude[k] = self.amplitude[k - 1] if turbulent else x[0]

    def _transition(self, x: np.ndarray | None) -> float | None:
        """Where the layer becomes turbulent between this station and the next; None if it does not."""
        k = self.k
        place = np.inf
        if x is not None and x[0] >= self.critical:
            place = self.s[k] + (self.critical - self.third[k]) / (x[0] - self.third[k]) * (self.s[k + 1] - self.s[k])
        place = min(place, self.trip)
        return float(place) if place <= self.s[k + 1] else None

    def _predicted(self) -> float:
        """Momentum thickness of the next station, with the shape factor of this one."""
        k = self.k
        theta, h = self.theta[k], self.delta[k] / self.theta[k]
        reynolds = self.edge[k] * theta / self.nu
        friction = (
            turbulent_friction(h + 0j, reynolds + 0j)
            if self.turbulent[k]
            else laminar_closure(h + 0j, reynolds + 0j)[1]
        ).real
        log_s, log_u = np.log(self.s[k + 1] / self.s[k]), np.log(self.edge[k + 1] / self.edge[k])
        # theta^2 grows in a straight line with the friction of a laminar layer
        fed = theta**2 * np.exp(-2.0 * (h + 2.0) * log_u) + 2.0 * theta * friction * self.s[k] * log_s
        return float(np.sqrt(max(fed, 0.25 * theta**2)))

    def _separation(self, x: np.ndarray | None) -> float:
        """Where the shape factor reaches that of separation; friction falls to it like a square root."""
        k = self.k
        if x is None and k > 0:  # from the last two stations
            h = self.delta[k - 1 : k + 1] / self.theta[k - 1 : k + 1]
            f = np.array([laminar_closure(one + 0j, 1.0 + 0j)[1].real for one in h]) ** 2
            reach = f[1] / max(f[0] - f[1], 1e-300) * (self.s[k] - self.s[k - 1])
            return float(min(self.s[k] + reach, self.s[k + 1]))
        return float(self.s[k + 1]) if x is not None else float(self.s[k])

    def _newton(self, start: np.ndarray, kinds: tuple[int, int], share: float) -> np.ndarray | None:
        """Unknowns of station k + 1: third, theta and H; None if there are none."""
        k, x = self.k, start.copy()
        both = np.empty(10)
        both[:5] = self.third[k], self.theta[k], self.delta[k], self.edge[k], self.s[k]
        both[8:] = self.edge[k + 1], self.s[k + 1]
        residuals, slopes, gaps = np.empty(3), np.empty((3, 11)), np.zeros(2)
        for _ in range(NEWTON_STEPS):
            both[5:8] = x[0], x[1], x[1] * x[2]
            interval_derivatives(np.array(kinds), both, gaps, self.nu, share, residuals, slopes)
            matrix = np.stack([slopes[:, 5], slopes[:, 6] + x[2] * slopes[:, 7], x[1] * slopes[:, 7]], axis=1)
            try:
                step = np.linalg.solve(matrix, -residuals)
            except np.linalg.LinAlgError:
                return None
            size = np.array([max(abs(x[0]), 1.0) if kinds[1] == LAMINAR else x[0], x[1], 1.0])
            limit = max(1.0, np.abs(step / size / [1.0 if kinds[1] == LAMINAR else 0.4, 0.4, 0.1]).max())
            x = x + step / limit
            if not (np.isfinite(x).all() and 1.02 < x[2] < 30.0 and x[1] > 0.0):
                return None
            if np.abs(step / size).max() < 1e-11:
                return x
        return None

    def solution(self) -> LayerSolution:
        """What has been solved."""
        own = slice(self.k + 1)
        turbulent = self.turbulent[own]
        return LayerSolution(
            self.s[own],
            self.edge[own],
            self.theta[own],
            self.delta[own] / self.theta[own],
            np.where(turbulent, self.third[own], np.nan),
            self.amplitude[own],
            turbulent,
            self.nu,
            self.transition,
            self.separation,
        )
