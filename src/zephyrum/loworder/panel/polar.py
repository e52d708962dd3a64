"""Polars of sections with boundary layers: lift, drag, moment, transition and separation over the angle of attack.

Verified by tests/test_viscous_panels.py and validation/section_polars.py.
"""

import functools
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from threadpoolctl import threadpool_limits

from zephyrum._core.interpolated_maximum import interpolated_maximum
from zephyrum._core.representation import short_repr
from zephyrum.errors import FlowError
from zephyrum.geometry import Airfoil
from zephyrum.loworder.panel.angle_march import (
    checked_angles,
    checked_stream,
    fresh_layers,
    over_angles,
    zero_lift,
)
from zephyrum.loworder.panel.displacement import DisplacedSection
from zephyrum.loworder.panel.layer_options import LayerOptions
from zephyrum.loworder.panel.layered_flow import LayeredFlow, flow_of

if TYPE_CHECKING:
    import pandas as pd


class PolarOfFlows(ABC):
    """What polars of one section and of several elements have in common; `flows` are those that converged."""

    alphas: np.ndarray
    flows: tuple
    reynolds: float
    mach: float

    @property
    @abstractmethod
    def title(self) -> str:
        """What the polar is of."""

    @abstractmethod
    def _places(self, flow) -> dict[str, float]:
        """Columns of a flow behind its coefficients."""

    def __str__(self) -> str:
        lost = len(self.alphas) - len(self.flows)
        ending = f", {lost} did not converge" if lost else ""
        return f"polar of {self.title} at Re {self.reynolds:.3g}: {len(self.flows)} angles{ending}"

    @functools.cached_property
    def table(self) -> "pd.DataFrame":
        """One row for every angle asked for; NaN where it did not converge."""
        import pandas as pd

        found = {round(flow.alpha, 9): flow for flow in self.flows}
        rows = []
        for alpha in self.alphas:
            flow = found.get(round(float(alpha), 9))
            row: dict[str, object] = {"alpha": float(alpha), "Re": self.reynolds, "mach": self.mach}
            row["converged"] = flow is not None
            if flow is not None:
                row |= {"CL": flow.cl, "CD": flow.cd, "CM": flow.cm, "CD_friction": flow.cd_friction}
                row |= self._places(flow)
            rows.append(row)
        return pd.DataFrame(rows)

    def _attached(self) -> tuple[np.ndarray, np.ndarray]:
        """Angles and lift coefficients of the flows without separation at the tail, within 6 deg of zero lift."""
        a = np.array([flow.alpha for flow in self.flows])
        cl = np.array([flow.cl for flow in self.flows])
        near = np.abs(cl) <= max(0.7, float(np.sort(np.abs(cl))[:2].max()))
        if near.sum() < 2:
            raise FlowError(f"{self}: there are fewer than two angles with attached flow; give more.")
        return a[near], cl[near]

    @property
    def lift_slope(self) -> float:
        """Lift slope [1/deg], of a straight line through lift coefficients up to 0.7."""
        return float(np.polyfit(*self._attached(), 1)[0])

    @property
    def zero_lift(self) -> float:
        """Angle of zero lift of that line [deg]."""
        slope, offset = np.polyfit(*self._attached(), 1)
        return float(-offset / slope)

    @property
    def maximum_lift(self) -> tuple[float, float]:
        """Largest lift coefficient and its angle [deg]: of a parabola through the three highest in a row.

        Raises
        ------
        FlowError
            The largest lift is at the last angle: the polar does not reach it.
        """
        a = np.array([flow.alpha for flow in self.flows])
        cl = np.array([flow.cl for flow in self.flows])
        if (found := interpolated_maximum(a, cl)) is None:
            k = int(np.argmax(cl))
            raise FlowError(
                f"{self}: its largest lift coefficient {cl[k]:.3f} is at its last angle {a[k]:g} deg; go on."
            )
        return found[2], found[1]


@dataclass(frozen=True)
class PanelPolar(PolarOfFlows):
    """Polar of a section.

    Attributes
    ----------
    foil : Airfoil
        Section.
    reynolds, mach : float
        Of the stream.
    alphas : (n,) array
        Angles asked for [deg].
    flows : tuple of LayeredFlow
        Flows that converged, by rising angle.

    Examples
    --------
    >>> import zephyrum as zy
    >>> polar = zy.panel_polar(zy.Airfoil.naca("2412"), [0.0, 2.0, 4.0], 3e6)
    >>> round(polar.lift_slope, 3), round(polar.zero_lift, 1)  # per degree, degrees
    (0.103, -2.3)
    """

    foil: Airfoil
    reynolds: float
    mach: float
    alphas: np.ndarray
    flows: tuple[LayeredFlow, ...]

    __repr__ = short_repr

    @property
    def title(self) -> str:
        """Name of the section."""
        return self.foil.name

    def _places(self, flow: LayeredFlow) -> dict[str, float]:
        made: dict[str, float] = {}
        for name, places in (("transition", flow.transition), ("separation", flow.separation)):
            made |= {f"{name}_upper": places[0], f"{name}_lower": places[1]}
        return made


def section_polar(
    foil: Airfoil,
    alphas: float | Sequence[float] | np.ndarray,
    reynolds: float,
    mach: float = 0.0,
    options: LayerOptions | None = None,
) -> PanelPolar:
    """Polar of one section; `panel_polar` calls it.

    Parameters
    ----------
    foil : Airfoil
        Section.
    alphas : float or sequence of float
        Angles of attack [deg].
    reynolds : float
        On the chord.
    mach : float, optional
        Of the stream, up to 0.5.
    options : LayerOptions, optional
    """
    alphas, (reynolds, mach) = checked_angles(alphas), checked_stream(reynolds, mach)
    options = options or LayerOptions()
    with threadpool_limits(1):  # the systems are small: threads cost more than they give
        flows = tuple(sorted(_solved(foil, alphas, reynolds, mach, options), key=lambda flow: flow.alpha))
    if not flows:
        raise FlowError(
            f"{foil.name}: no angle from {alphas[0]:g} to {alphas[-1]:g} deg converged at Re {reynolds:.3g}; try "
            "others, a higher Reynolds number or a trip, and look at the section for kinks."
        )
    return PanelPolar(foil, reynolds, mach, alphas, flows)


def _solved(
    foil: Airfoil, alphas: np.ndarray, reynolds: float, mach: float, options: LayerOptions
) -> list[LayeredFlow]:
    """Flows of the angles that converge, from the middle of the polar outwards."""
    section = DisplacedSection(foil, options.panels)
    return over_angles(
        alphas,
        zero_lift(section.elements),
        lambda alpha: fresh_layers(section, alpha, reynolds, options),
        lambda layers: flow_of(layers, reynolds, mach),
    )
