"""Polars of sections with boundary layers: lift, drag, moment, transition and separation over the angle of attack.

Drag from the momentum thickness at the end of the wake (Squire and Young 1938); pressures corrected for the Mach number
after Karman (1941) and Tsien (1939), the layers themselves are incompressible. Verified by
tests/test_viscous_panels.py and validation/section_polars.py.
"""

import functools
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from threadpoolctl import threadpool_limits

from zephyrum._core.interpolated_maximum import interpolated_maximum
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number, numbers
from zephyrum.errors import FlowError, InputError
from zephyrum.geometry import Airfoil
from zephyrum.loworder.panel.coupled_layers import CoupledLayers, CouplingOptions
from zephyrum.loworder.panel.displacement import DisplacedElements, DisplacedSection, PanelLayout
from zephyrum.loworder.panel.integral_closures import laminar_closure, turbulent_friction
from zephyrum.loworder.panel.inviscid import karman_tsien, pressure_forces
from zephyrum.loworder.panel.layer_equations import LAMINAR, WAKE

if TYPE_CHECKING:
    import pandas as pd

LOST_IN_A_ROW = 2  # angles that did not converge after which a polar ends
LARGEST_MACH = 0.5  # layers are incompressible; density at the wall changes friction by 4 % there


@dataclass(frozen=True)
class ElementCoupling:
    """How several elements take turns.

    Attributes
    ----------
    rounds : int
        Turns after which an angle is given up.
    tolerance : float
        [chords] Largest change of a mass defect in a turn, over the speed of the stream.
    relaxation : float
        [-] Part of the change of the displacement that the other elements see.

    Examples
    --------
    >>> ElementCoupling().rounds
    40
    """

    rounds: int = 40
    tolerance: float = 1e-6
    relaxation: float = 1.0


@dataclass(frozen=True)
class LayerOptions:
    """Transition, panels and solution of section polars.

    Attributes
    ----------
    critical : float
        Exponent N of the amplitude of waves at which a layer becomes turbulent: 9 in quiet air.
    turbulence : float or None
        Turbulence level of the stream [%], in place of `critical`: N = -8.43 - 2.4 ln(level / 100) (Mack 1977).
    trip_upper, trip_lower : float
        Chord fractions at which the layers are turbulent at the latest.
    panels : PanelLayout
    coupling : CouplingOptions
    elements : ElementCoupling

    Examples
    --------
    >>> round(LayerOptions(turbulence=0.07).exponent, 2)
    9.0
    """

    critical: float = 9.0
    turbulence: float | None = None
    trip_upper: float = 1.0
    trip_lower: float = 1.0
    panels: PanelLayout = field(default_factory=PanelLayout)
    coupling: CouplingOptions = field(default_factory=CouplingOptions)
    elements: ElementCoupling = field(default_factory=ElementCoupling)

    def __post_init__(self) -> None:
        number("critical", self.critical, 0.1, 30.0)
        number("trip_upper", self.trip_upper, 0.0, 1.0, open_low=True)
        number("trip_lower", self.trip_lower, 0.0, 1.0, open_low=True)
        if self.turbulence is not None:
            level = number("turbulence", self.turbulence, 0.0, open_low=True)
            if not 0.1 <= -8.43 - 2.4 * np.log(level / 100.0) <= 30.0:
                raise InputError(f"turbulence = {level:g} %: the relation of Mack holds from 0.1e-4 to 2.9 %.")

    @property
    def exponent(self) -> float:
        """Exponent N at transition."""
        if self.turbulence is None:
            return self.critical
        return float(-8.43 - 2.4 * np.log(self.turbulence / 100.0))


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
        lambda alpha: _fresh(section, alpha, reynolds, options),
        lambda layers: flow_of(layers, reynolds, mach),
    )


def over_angles(alphas: np.ndarray, no_lift: float, fresh: Callable, flow: Callable) -> list:
    """Flows of the angles that converge, from the middle of a polar outwards, each from the one before.

    Parameters
    ----------
    alphas : (n,) array
        Rising [deg].
    no_lift : float
        Angle of zero lift without friction [deg].
    fresh : callable
        Layers that converged at an angle from nothing, or None; they have `alpha`, `state`, `restore` and `advance`.
    flow : callable
        Flow of layers that converged.
    """
    found: list = []
    # transition moves slowly over the angle where it has left the nose and the tail
    nearest = float(alphas[np.argmin(np.abs(alphas - (no_lift + 4.0)))])
    layers = first_converged(nearest, no_lift, fresh)
    if layers is None:
        return found
    begin, state = layers.alpha, layers.state()
    for way in (alphas[alphas >= begin], alphas[alphas < begin][::-1]):
        layers.restore(state)
        lost = 0
        for alpha in way:
            layers.steps_taken = 0 if alpha != begin else layers.steps_taken
            if alpha == begin or layers.advance(float(alpha), 1 if lost == 0 else 0):
                found.append(flow(layers))
                lost = 0
                continue
            again = fresh(float(alpha)) if lost == 0 else None
            if again is not None:
                layers = again
                found.append(flow(layers))
            else:
                lost += 1
            if lost == LOST_IN_A_ROW:
                break
    return found


def checked_angles(alphas: float | Sequence[float] | np.ndarray) -> np.ndarray:
    """Angles of attack [deg], each once and rising.

    Parameters
    ----------
    alphas : float or sequence of float
        [deg]

    Raises
    ------
    InputError
        They are out of range.
    """
    found = np.unique(np.asarray(numbers("alphas", np.atleast_1d(alphas).tolist()), dtype=float))
    if not (np.abs(found) <= 40.0).all():
        raise InputError(f"alphas reach {found[np.argmax(np.abs(found))]:g} deg; they must be within 40 deg.")
    return found


def checked_stream(reynolds: float, mach: float) -> tuple[float, float]:
    """Reynolds and Mach number of a section polar.

    Parameters
    ----------
    reynolds, mach : float
        Of the stream.

    Raises
    ------
    InputError
        They are out of range.
    """
    reynolds, mach = number("reynolds", reynolds, 1e4, 1e9), number("mach", mach, 0.0)
    if mach > LARGEST_MACH:
        raise InputError(
            f"mach = {mach:g} is too high for incompressible layers; it must be at most {LARGEST_MACH}. Solve "
            "the flow on a mesh instead."
        )
    return reynolds, mach


def first_layers(
    section: DisplacedSection, alpha: float, reynolds: float, options: LayerOptions
) -> CoupledLayers | None:
    """Layers that converged at an angle, or at one of five between zero lift and 8 deg above it; None without them.

    Parameters
    ----------
    section : DisplacedSection
    alpha : float
        [deg]
    reynolds : float
        On the chord.
    options : LayerOptions
    """
    return first_converged(alpha, zero_lift(section.elements), lambda begin: _fresh(section, begin, reynolds, options))


def first_converged(alpha: float, no_lift: float, fresh: Callable):
    """What converged at an angle, or at one of five between zero lift and 8 deg above it; None without.

    Parameters
    ----------
    alpha, no_lift : float
        Angle to begin with and that of zero lift without friction [deg].
    fresh : callable
        Layers that converged at an angle from nothing, or None.
    """
    for begin in (alpha, *(no_lift + np.array([4.0, 2.0, 6.0, 0.0, 8.0]))):
        if (layers := fresh(float(begin))) is not None:
            return layers
    return None


def _fresh(section: DisplacedSection, alpha: float, reynolds: float, options: LayerOptions) -> CoupledLayers | None:
    """Layers that converged at an angle from nothing, or None."""
    layers = new_layers(section, alpha, section.foil.chord / reynolds, options)
    return layers if started(layers) else None


def new_layers(section: DisplacedSection, alpha: float, viscosity: float, options: LayerOptions) -> CoupledLayers:
    """Layers that nobody has solved.

    Parameters
    ----------
    section : DisplacedSection
    alpha : float
        [deg]
    viscosity : float
        Kinematic, for unit speed of the stream [m].
    options : LayerOptions
    """
    trips = (options.trip_upper, options.trip_lower)
    return CoupledLayers(section, alpha, viscosity, options.exponent, trips, options.coupling)


def started(layers: CoupledLayers) -> bool:
    """Solve a flow without another to begin with; from a lower critical exponent or a higher Reynolds number where that
    does not converge.

    Parameters
    ----------
    layers : CoupledLayers
    """
    if layers.solve() or layers.solve_by_exponent():
        return True
    wanted = layers.viscosity
    for factor in (10.0**0.5, 10.0, 30.0):
        layers.viscosity = wanted / factor
        if layers.solve():
            break
    while layers.viscosity < wanted:
        layers.viscosity = min(layers.viscosity * 10.0**0.25, wanted)
        if not layers.solve():
            return False
    return layers.viscosity == wanted and layers.plausible()


def zero_lift(elements: DisplacedElements) -> float:
    """Angle of zero lift of all elements without friction [deg].

    Parameters
    ----------
    elements : DisplacedElements

    Examples
    --------
    >>> round(abs(zero_lift(DisplacedSection(Airfoil.naca("0012"), PanelLayout(panels=60)).elements)), 6)
    0.0
    """
    widths = []
    for section in elements.sections:
        half = 0.5 * np.diff(section.arc)
        widths.append(np.concatenate([half, [0.0]]) + np.concatenate([[0.0], half]))
    lift = np.concatenate(widths) @ elements.panels.basis
    return -float(np.degrees(np.arctan2(lift[0], lift[1])))


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
