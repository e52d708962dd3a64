"""Flow about a section with its boundary layers at one angle.

Drag from the momentum thickness at the end of the wake (Squire and Young 1938); pressures corrected for the Mach number
after Karman (1941) and Tsien (1939), the layers themselves are incompressible. Verified by
tests/test_viscous_panels.py and validation/section_polars.py.
"""

import functools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.representation import short_repr
from zephyrum.geometry import Airfoil
from zephyrum.loworder.panel.coupled_layers import CoupledLayers
from zephyrum.loworder.panel.integral_closures import laminar_closure, turbulent_friction
from zephyrum.loworder.panel.inviscid import karman_tsien, pressure_forces
from zephyrum.loworder.panel.layer_equations import LAMINAR, WAKE

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class LayeredFlow:
    """Flow about a section with its boundary layers and wake, at one angle of attack.

    Attributes
    ----------
    alpha : float
        [deg]
    mach, reynolds : float
        Of the stream.
    points : (k, 2) array
        Stations: along the section from the upper to the lower tail, then along the wake [m].
    kinds : (k,) int array
        0 laminar, 1 turbulent, 2 wake.
    sides : tuple of (n,) int array
        Stations of the upper and of the lower side, from the stagnation point.
    values : (k, 4) array
        Exponent of waves (laminar) or square root of the stress coefficient, momentum and displacement thickness [m],
        edge velocity over that of the stream.
    distance : (k,) array
        From the stagnation point [m].
    transition : tuple[float, float]
        Chord fractions of transition, upper and lower side.
    foil : Airfoil
        Section.
    centre : tuple[float, float]
        Point of the moment [m].
    steps : int
        Newton steps taken.

    Examples
    --------
    >>> import zephyrum as zy
    >>> flow = zy.panel_polar(zy.Airfoil.naca("0012"), [4.0], 3e6).flows[0]
    >>> round(flow.cl, 2), round(flow.cd, 4)
    (0.42, 0.0066)
    """

    alpha: float
    mach: float
    reynolds: float
    points: np.ndarray
    kinds: np.ndarray
    sides: tuple[np.ndarray, np.ndarray]
    values: np.ndarray
    distance: np.ndarray
    transition: tuple[float, float]
    foil: Airfoil
    centre: tuple[float, float]
    steps: int

    __repr__ = short_repr

    def __str__(self) -> str:
        return (
            f"alpha {self.alpha:g} deg: cl {self.cl:.4f}, cd {self.cd:.5f}, cm {self.cm:+.4f}, transition at "
            f"{self.transition[0]:.3f} and {self.transition[1]:.3f} chords"
        )

    @property
    def _chord(self) -> float:
        return self.foil.chord

    @functools.cached_property
    def cp(self) -> np.ndarray:
        """(k,) pressure coefficient at the edge of the layers."""
        return karman_tsien(self.values[:, 3], self.mach)

    @functools.cached_property
    def friction(self) -> np.ndarray:
        """(k,) friction coefficient on the dynamic pressure of the stream; zero in the wake."""
        theta, delta, edge = self.values[:, 1:].T
        found = np.zeros(len(theta))
        for i, kind in enumerate(self.kinds):
            if kind != WAKE:
                h, re = delta[i] / theta[i] + 0j, edge[i] * theta[i] * self.reynolds / self._chord + 0j
                half = laminar_closure(h, re)[1] if kind == LAMINAR else turbulent_friction(h, re)
                found[i] = 2.0 * half.real * edge[i] ** 2
        return found

    @functools.cached_property
    def _forces(self) -> tuple[np.ndarray, float]:
        """Pressure force (2,) and nose-up moment over the dynamic pressure [m, m^2]."""
        n = len(self.sides[0]) + len(self.sides[1])
        return pressure_forces(self.points[:n], self.cp[:n], self.centre)

    @property
    def cl(self) -> float:
        """Lift coefficient, from the pressures."""
        a = np.radians(self.alpha)
        return float(self._forces[0] @ [-np.sin(a), np.cos(a)]) / self._chord

    @property
    def cm(self) -> float:
        """Moment coefficient about the quarter chord, nose-up positive."""
        return self._forces[1] / self._chord**2

    @property
    def cd(self) -> float:
        """Drag coefficient, from the end of the wake (Squire and Young 1938)."""
        _, theta, delta, edge = self.values[-1]
        return float(2.0 * theta * edge ** (0.5 * (delta / theta + 5.0)) / self._chord)

    @functools.cached_property
    def cd_friction(self) -> float:
        """Part of the drag that is friction."""
        a, total = np.radians(self.alpha), 0.0
        for side in self.sides:
            run = np.diff(self.points[side] @ [np.cos(a), np.sin(a)])
            total += float((0.5 * (self.friction[side][1:] + self.friction[side][:-1]) * run).sum())
        return total / self._chord

    def _chord_fraction(self, side: np.ndarray) -> np.ndarray:
        along = (self.foil.tail - self.foil.nose) / self._chord
        return (self.points[side] - self.foil.nose) @ along / self._chord

    @property
    def separation(self) -> tuple[float, float]:
        """Chord fractions behind which the turbulent layers are separated up to the tail; NaN where they are not."""
        return tuple(self._behind(side) for side in self.sides)  # type: ignore[return-value]

    def _behind(self, side: np.ndarray) -> float:
        reversed_flow = self.friction[side] < 0.0
        if not reversed_flow[-1]:
            return np.nan
        attached = np.flatnonzero(~reversed_flow)
        return float(self._chord_fraction(side)[attached[-1]])

    @property
    def bubbles(self) -> tuple[tuple[float, float] | None, ...]:
        """Chord fractions between which the layer of either side is separated and attached again behind."""
        made: list[tuple[float, float] | None] = []
        for side in self.sides:
            reversed_flow = np.flatnonzero(self.friction[side] < 0.0)
            x = self._chord_fraction(side)
            inside = reversed_flow[self.kinds[side][reversed_flow] == LAMINAR]
            if not len(inside):
                made.append(None)
                continue
            behind = np.flatnonzero(self.friction[side][inside[0] :] > 0.0)
            made.append((float(x[inside[0]]), float(x[inside[0] + behind[0]])) if len(behind) else None)
        return tuple(made)

    @property
    def table(self) -> "pd.DataFrame":
        """One row a station: side, x, z [m], Cp, thicknesses [m], shape factor, friction and exponent of waves."""
        import pandas as pd

        names = np.full(len(self.kinds), "wake", dtype=object)
        for name, side in zip(("upper", "lower"), self.sides):
            names[side] = name
        order = np.concatenate([*self.sides, np.flatnonzero(self.kinds == WAKE)])
        laminar = self.kinds == LAMINAR
        return pd.DataFrame(
            {
                "side": names,
                "s_m": self.distance,
                "x_m": self.points[:, 0],
                "z_m": self.points[:, 1],
                "edge": self.values[:, 3],
                "Cp": self.cp,
                "theta_m": self.values[:, 1],
                "delta_star_m": self.values[:, 2],
                "H": self.values[:, 2] / self.values[:, 1],
                "Cf": self.friction,
                "N": np.where(laminar, self.values[:, 0], np.nan),
                "turbulent": ~laminar,
            }
        ).iloc[order].reset_index(drop=True)  # fmt: skip


def flow_of(layers: CoupledLayers, reynolds: float, mach: float) -> LayeredFlow:
    """The flow that has been solved.

    Parameters
    ----------
    layers : CoupledLayers
        Solved layers.
    reynolds, mach : float
        Of the stream.
    """
    section = layers.section
    points = np.concatenate([section.points, layers.response.wake])
    foil = section.foil
    along = (foil.tail - foil.nose) / foil.chord
    transition = []
    for own, place in zip(layers.sides, layers.place):
        j, i = own[int(place)], own[int(place) + 1]
        at = points[j] + (place - int(place)) * (points[i] - points[j])
        transition.append(float((at - foil.nose) @ along / foil.chord))
    upper, lower = layers.sides
    return LayeredFlow(
        layers.alpha,
        mach,
        reynolds,
        points,
        layers.kinds.copy(),
        (upper.copy(), lower.copy()),
        layers.values.copy(),
        layers.distance.copy(),
        (transition[0], transition[1]),
        foil,
        section.panels.centre,
        layers.steps_taken,
    )
