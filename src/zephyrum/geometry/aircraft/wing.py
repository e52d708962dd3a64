"""The wing: sections at stations along a span, its planform in numbers, and its controls.

Anything with sections is one: main wing, tailplane, fin (stations that rise), strut. Sections stand square to the span
and along x; between stations the surface is ruled. Measures of the planform are exact for straight edges between
stations (Etkin 1972, app. C). Verified by tests/test_wings.py.
"""

import functools
import itertools
from dataclasses import dataclass, field as dataclass_field
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.part import Degrees, Fraction, Part, Section, attitude_matrix, part
from zephyrum.geometry.aircraft.stations import (
    Panel,
    Planform,
    Station,
    airfoils_between,
    outer_end,
    span_lengths,
    station_at,
    with_changes,
)
from zephyrum.geometry.aircraft.wing_surface import wing_surfaces
from zephyrum.geometry.surface.triangulation import Surface, joined

CENTRE = 1e-6  # of the span: a root nearer to the plane of symmetry is on it


@part
class Control:
    """A plain flap, aileron, elevator or rudder behind a hinge line, its gap sealed.

    Attributes
    ----------
    start, end : float
        Fractions of the span from root to tip between which it lies.
    hinge : float
        Chord fraction.
    deflection : float
        [deg], tail down positive, in the plane of the section.
    height : float
        Position of the hinge between lower (0) and upper (1) surface.
    opposite : bool
        Whether the other half of a symmetric wing goes the other way (ailerons).
    seal : float
        Length of the smooth transition at either end, in local chords.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Control(start=0.1, end=0.6, hinge=0.75, deflection=10.0).hinge
    0.75
    """

    start: Fraction
    end: Fraction
    hinge: Annotated[float, Field(ge=0.3, le=0.98)] = 0.75
    deflection: Annotated[Degrees, Field(ge=-60.0, le=60.0)] = 0.0
    height: Fraction = 0.5
    opposite: bool = False
    seal: Annotated[float, Field(gt=0.0, le=0.5)] = 0.02

    def __post_init__(self) -> None:
        if not self.start < self.end:
            raise InputError(
                f"start = {self.start:g} is not inboard of end = {self.end:g}; both are fractions of the span."
            )


@dataclass(frozen=True)
class PlanformMeasures:
    """Measures of a planform.

    Attributes
    ----------
    area : float
        Projected on the plane of the span [m^2].
    true_area : float
        Of the panels laid flat [m^2].
    span : float
        [m]
    mean_chord : float
        Mean aerodynamic chord int c^2 / int c [m].
    mean_nose : tuple[float, float, float]
        Position of its nose [m].
    taper : float
        Tip over root chord.
    sweep : float
        Of the quarter chord [deg].

    Examples
    --------
    >>> from zephyrum import Airfoil
    >>> wing = Wing(planform=Planform(span=10.0, area=12.5, taper=0.5), airfoil=Airfoil.naca("2412"))
    >>> round(wing.measures.aspect_ratio, 6), round(wing.measures.mean_chord, 3)
    (8.0, 1.296)
    """

    area: float
    true_area: float
    span: float
    mean_chord: float
    mean_nose: tuple[float, float, float]
    taper: float
    sweep: float

    @property
    def aspect_ratio(self) -> float:
        """Span squared over area."""
        return self.span**2 / self.area


@part
class Wing(Part):
    """A wing of sections along a span: give stations, or root with panels, or planform with airfoil.

    Attributes
    ----------
    stations : tuple[Station, ...]
        From root to tip; of the starboard half of a symmetric wing.
    root : Station, optional
        First station.
    panels : tuple[Panel, ...]
        From the root outwards.
    planform : Planform, optional
        Straight tapered wing.
    airfoil : Airfoil or str, optional
        Of the planform.
    symmetric : bool
        Whether there are both halves.
    tip : Literal[round, flat]
        "round" or "flat".
    tail_gap : float, optional
        Height of the tail of all sections [chords]; 0 closes them, without it they stay.
    twist_at : float
        Chord fraction about which twist turns.
    controls : dict[str, Control]
        Controls by name.

    Raises
    ------
    InputError
        Something does not fit.

    Examples
    --------
    >>> import zephyrum as zy
    >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
    >>> print(round(wing.measures.area, 6))
    6.0
    """

    kind: Literal["wing"] = "wing"
    stations: tuple[Station, ...] = ()
    root: Station | None = None
    panels: tuple[Panel, ...] = ()
    planform: Planform | None = None
    airfoil: Section | None = None
    symmetric: bool = True
    tip: Literal["round", "flat"] = "round"
    tail_gap: Annotated[float, Field(ge=0.0, le=0.1)] | None = None
    twist_at: Fraction = 0.25
    controls: dict[str, Control] = dataclass_field(default_factory=dict)

    def __post_init__(self) -> None:
        directions = [
            name
            for name, given in (
                ("stations", self.stations),
                ("root with panels", self.panels),
                ("planform", self.planform),
            )
            if given
        ]
        if len(directions) != 1 or (self.root is None) != (not self.panels):
            raise InputError(
                f"a wing gives {' and '.join(directions) or 'no stations'}; give exactly one of stations, root with "
                f"panels, planform."
            )
        made = self.sections
        if len(made) < 2:
            raise InputError("a wing needs at least two stations.")
        spans = sorted((c.start, c.end, name) for name, c in self.controls.items())
        for (_, end, one), (start, _, two) in itertools.pairwise(spans):
            if start < end - 1e-9:
                raise InputError(
                    f"controls {one!r} and {two!r} overlap: one ends at {end:g}, the other starts at {start:g} of the "
                    f"span."
                )

    @functools.cached_property
    def sections(self) -> tuple[Station, ...]:
        """Stations from root to tip, every one with its airfoil and none hidden in numbers.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.5), airfoil="NACA 0012")
        >>> [station.chord for station in wing.sections]
        [1.0, 0.5]
        """
        if self.stations:
            made = list(self.stations)
        elif self.panels:
            made = [self.root]
            for one in self.panels:
                made.append(outer_end(made[-1], one))
        else:
            p = self.planform
            chord, half = p.sizes(2 if self.symmetric else 1)
            base = Station(position=(0.0, 0.0, 0.0), chord=chord, airfoil=self.airfoil)
            outer = Panel(
                span=half / max(np.cos(np.radians(p.dihedral)), 1e-9) if self.symmetric else half,
                taper=p.taper,
                sweep=p.sweep,
                sweep_at=p.sweep_at,
                dihedral=p.dihedral,
                twist=-p.washout,
            )
            made = [base, outer_end(base, outer)]
        foils = [one.airfoil for one in made]
        if foils[0] is None:
            foils[0] = self.airfoil
        if foils[0] is None:
            raise InputError("the first station has no airfoil; give it one, or one to the wing.")
        if foils[-1] is None:
            foils[-1] = next(foil for foil in reversed(foils) if foil is not None)
        return tuple(with_changes(one, airfoil=foil) for one, foil in zip(made, airfoils_between(made, foils)))

    @property
    def span_fractions(self) -> np.ndarray:
        """(n,) fraction of the span of each station, along the wing from root to tip.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.5), airfoil="NACA 0012")
        >>> wing.span_fractions
        array([0., 1.])
        """
        s = span_lengths(self.sections)
        return s / s[-1]

    @property
    def centred(self) -> bool:
        """Whether both halves meet at the plane of symmetry.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.5), airfoil="NACA 0012")
        >>> wing.centred
        True
        """
        locations = np.array([one.position for one in self.sections])
        return self.symmetric and bool(abs(locations[0, 1]) < CENTRE * max(np.ptp(locations[:, 1]), 1e-12))

    @functools.cached_property
    def measures(self) -> PlanformMeasures:
        """Planform measured from the stations, both halves of a symmetric wing together.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.5), airfoil="NACA 0012")
        >>> round(wing.measures.area, 6), round(wing.measures.mean_chord, 6)
        (4.5, 0.777778)
        """
        made = self.sections
        x, y, z = (np.array([one.position[k] for one in made]) for k in range(3))
        c = np.array([one.chord for one in made])
        true = np.diff(span_lengths(made))
        flat = np.abs(np.diff(y)) if self.symmetric else true
        both = 2.0 if self.symmetric else 1.0
        mean = 0.5 * (c[1:] + c[:-1])
        area = float((flat * mean).sum())
        if not area > 0.0:
            raise InputError("the wing has no span in y; give symmetric = false to a fin, or move its stations apart.")
        square = float((flat * (c[:-1] ** 2 + c[:-1] * c[1:] + c[1:] ** 2)).sum() / 3.0)

        def carried(v: np.ndarray) -> float:  # int c v ds / int c ds, exact for straight edges
            return float(
                (flat * (2 * c[:-1] * v[:-1] + c[:-1] * v[1:] + c[1:] * v[:-1] + 2 * c[1:] * v[1:])).sum()
                / (6.0 * area)
            )

        quarter = x + 0.25 * c
        sweep = float(np.degrees(np.arctan2(quarter[-1] - quarter[0], true.sum())))
        # the span reaches from tip to tip, also where a gap (a fuselage) parts the halves
        span = 2.0 * float(np.abs(y).max()) if self.symmetric else float(flat.sum())
        nose = (carried(x), 0.0 if self.symmetric else carried(y), carried(z))
        return PlanformMeasures(
            both * area, both * float((true * mean).sum()), span, square / area, nose, float(c[-1] / c[0]), sweep
        )

    def reference(self, origin: str = "measured on the wing") -> Reference:
        """Reference quantities: area, mean aerodynamic chord, span, and moments about the quarter of that chord.

        Parameters
        ----------
        origin : str, optional
            Where the quantities come from.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> round(wing.reference().area, 6)
        6.0
        """
        m = self.measures
        location = np.add(m.mean_nose, (0.25 * m.mean_chord, 0.0, 0.0))
        location = attitude_matrix(self.roll, self.pitch, self.yaw) @ location + self.position
        return Reference(m.area, m.mean_chord, m.span, tuple(float(v) for v in location), origin)  # type: ignore[arg-type]

    def at(self, fraction: float) -> Station:
        """Section at a fraction of the span, linear between the stations.

        Parameters
        ----------
        fraction : float
            0 at the root, 1 at the tip.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=0.5), airfoil="NACA 0012")
        >>> round(wing.at(0.5).chord, 6)
        0.75
        """
        return station_at(self.sections, self.span_fractions, fraction)

    def surface(self, name: str = "wing", tolerance: float = 2e-4, largest: float = 0.25) -> Surface:
        """Closed surface, as one or two solids, in the part's own axes.

        Parameters
        ----------
        name : str, optional
            Prefix of the labels.
        tolerance : float, optional
            Distance of the triangles from the section, in chords.
        largest : float, optional
            Longest edge, in chords.

        Notes
        -----
        See `wing_surfaces`.

        Examples
        --------
        >>> import zephyrum as zy
        >>> wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 0012")
        >>> wing.surface().watertight
        True
        """
        return joined(wing_surfaces(self, name, tolerance, largest), name)
