"""Stations of a wing, and the ways to give them: one by one, by panels, by the numbers of a planform.

Verified by tests/test_wings.py.
"""

from typing import Annotated

import numpy as np
from pydantic import Field

from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.part import Degrees, Fraction, Length, Point, Section, part
from zephyrum.geometry.airfoil.section import Airfoil


@part
class Station:
    """A section of a wing.

    Attributes
    ----------
    position : tuple of float
        Of its nose before twist [m].
    chord : float
        [m]
    twist : float
        Nose-up [deg].
    airfoil : Airfoil or str, optional
        That between its neighbours without it.
    name : str, optional
        To point at it.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Station(position=(0.0, 0.0, 0.0), chord=1.2, airfoil="NACA 2412").chord
    1.2
    """

    position: Point
    chord: Length
    twist: Degrees = 0.0
    airfoil: Section | None = None
    name: str | None = None


@part
class Panel:
    """A piece of wing outboard of the one before.

    Attributes
    ----------
    span : float
        Along itself [m].
    chord : float, optional
        At its outer end [m].
    taper : float, optional
        Outer over inner chord, in place of `chord`.
    sweep : float
        Of the line at `sweep_at` chord [deg].
    sweep_at : float
        Chord fraction.
    dihedral : float
        [deg]; 90 is straight up.
    twist : float
        At its outer end [deg].
    airfoil : Airfoil or str, optional
        At its outer end.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Panel(span=3.0, taper=0.6, dihedral=4.0).taper
    0.6
    """

    span: Length
    chord: Length | None = None
    taper: Annotated[float, Field(gt=0.0, le=10.0)] | None = None
    sweep: Annotated[Degrees, Field(gt=-75.0, lt=75.0)] = 0.0
    sweep_at: Fraction = 0.25
    dihedral: Annotated[Degrees, Field(ge=-90.0, le=90.0)] = 0.0
    twist: Degrees = 0.0
    airfoil: Section | None = None

    def __post_init__(self) -> None:
        if self.chord is not None and self.taper is not None:
            raise InputError(f"chord = {self.chord:g} m and taper = {self.taper:g} are both given; drop one.")


@part
class Planform:
    """A straight tapered wing from any two of span, area, aspect ratio and root chord; both halves counted.

    Attributes
    ----------
    span : float, optional
        [m]
    area : float, optional
        [m^2]
    aspect_ratio : float, optional
        [-]
    root_chord : float, optional
        [m]
    taper : float
        Tip over root chord.
    sweep : float
        Of the line at `sweep_at` chord [deg].
    sweep_at : float
        Chord fraction.
    dihedral : float
        [deg]
    washout : float
        Twist of the tip, nose-down [deg].

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(zy.Planform(span=6.0, area=6.0, taper=1.0).taper)
    1.0
    """

    span: Length | None = None
    area: Annotated[float, Field(gt=0.0)] | None = None
    aspect_ratio: Annotated[float, Field(gt=0.0, lt=100.0)] | None = None
    root_chord: Length | None = None
    taper: Annotated[float, Field(gt=0.0, le=10.0)] = 1.0
    sweep: Annotated[Degrees, Field(gt=-75.0, lt=75.0)] = 0.0
    sweep_at: Fraction = 0.25
    dihedral: Annotated[Degrees, Field(ge=-90.0, le=90.0)] = 0.0
    washout: Degrees = 0.0

    def __post_init__(self) -> None:
        names = ("span", "area", "aspect_ratio", "root_chord")
        given = [name for name in names if getattr(self, name) is not None]
        if len(given) != 2:
            raise InputError(
                f"planform gives {' and '.join(given) or 'nothing'}; give exactly two of {', '.join(names)}."
            )

    def sizes(self, halves: int) -> tuple[float, float]:
        """Root chord and span of one half.

        Parameters
        ----------
        halves : int
            How many halves the wing has.

        Returns
        -------
        root_chord : float
            [m]
        span : float
            Of one half [m].

        Examples
        --------
        >>> Planform(span=6.0, root_chord=1.0, taper=0.5).sizes(2)
        (1.0, 3.0)
        """
        mean = 0.5 * (1.0 + self.taper)  # mean over root chord
        span, area, aspect, root = self.span, self.area, self.aspect_ratio, self.root_chord
        if root is None:
            span = span or (aspect * area) ** 0.5
            root = (area or span**2 / aspect) / (span * mean)
        elif span is None:
            span = area / (root * mean) if area else aspect * root * mean
        return root, span / halves


def with_changes(one: Station, **changes) -> Station:
    """The station with its section filled in.

    Parameters
    ----------
    one : Station
        Station.

    Examples
    --------
    >>> station = Station(position=(0.0, 0.0, 0.0), chord=1.0)
    >>> with_changes(station, chord=2.0).chord
    2.0
    """
    given = {name: getattr(one, name) for name in ("position", "chord", "twist", "airfoil", "name")}
    return Station(**(given | changes))


def span_lengths(stations: "list[Station] | tuple[Station, ...]") -> np.ndarray:
    """Distance of each station from the first along the span, in the y-z plane.

    Parameters
    ----------
    stations : list[Station] or tuple[Station, ...]
        Stations from root to tip.

    Returns
    -------
    (n,) array
        [m]

    Examples
    --------
    >>> root = Station(position=(0.0, 0.0, 0.0), chord=1.0)
    >>> tip = Station(position=(0.0, 3.0, 4.0), chord=0.5)
    >>> span_lengths([root, tip])
    array([0., 5.])
    """
    yz = np.array([one.position[1:] for one in stations])
    return np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(yz, axis=0), axis=1))]


def outer_end(inner: Station, one: Panel) -> Station:
    """Station at the outer end of a panel.

    Parameters
    ----------
    inner : Station
        Station at its inner end.
    one : Panel
        The panel.

    Examples
    --------
    >>> root = Station(position=(0.0, 0.0, 0.0), chord=1.0)
    >>> outer_end(root, Panel(span=2.0, taper=0.5)).chord
    0.5
    """
    chord = one.chord if one.chord is not None else inner.chord * (1.0 if one.taper is None else one.taper)
    back = one.span * np.tan(np.radians(one.sweep)) + one.sweep_at * (inner.chord - chord)
    dihedral = np.radians(one.dihedral)
    x, y, z = inner.position
    # cos(90 deg) is not quite zero
    position = (x + back, y + one.span * round(float(np.cos(dihedral)), 15), z + one.span * float(np.sin(dihedral)))
    return Station(position=position, chord=chord, twist=one.twist, airfoil=one.airfoil)


def airfoils_between(stations: "list[Station]", foils: list) -> list[Airfoil]:
    """Airfoils of all stations; those not given lie between their neighbours.

    Parameters
    ----------
    stations : list[Station]
        Stations from root to tip.
    foils : list
        Airfoil of each, None where it is not given.

    Examples
    --------
    >>> root = Station(position=(0.0, 0.0, 0.0), chord=1.0)
    >>> tip = Station(position=(0.0, 1.0, 0.0), chord=1.0)
    >>> middle = Station(position=(0.0, 0.5, 0.0), chord=1.0)
    >>> given = [Airfoil.naca("0012"), None, Airfoil.naca("0018")]
    >>> foils = airfoils_between([root, middle, tip], given)
    >>> round(foils[1].measures.thickness, 3)
    0.15
    """
    s = span_lengths(stations)
    known = [k for k, foil in enumerate(foils) if foil is not None]
    out = list(foils)
    for k, foil in enumerate(foils):
        if foil is None:
            low, high = max(i for i in known if i < k), min(i for i in known if i > k)
            out[k] = interpolate_airfoils(foils[low], foils[high], (s[k] - s[low]) / max(s[high] - s[low], 1e-30))
    return out


def interpolate_airfoils(one: Airfoil, two: Airfoil, fraction: float) -> Airfoil:
    """Interpolate two sections of unit chord, point by point at equal parts of either side.

    Parameters
    ----------
    one : Airfoil
        First section.
    two : Airfoil
        Second section.
    fraction : float
        0 gives the first, 1 the second.

    Examples
    --------
    >>> import zephyrum as zy
    >>> between = interpolate_airfoils(zy.Airfoil.naca("0008"), zy.Airfoil.naca("0012"), 0.5)
    >>> round(between.measures.thickness, 4)
    0.1
    """
    if one is two or fraction <= 0.0 or (one.name == two.name and np.array_equal(one.points, two.points)):
        return one
    if fraction >= 1.0:
        return two
    t = 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, 201)))

    def spread(foil: Airfoil) -> np.ndarray:
        midpoint = foil.nose_parameter
        at = np.r_[midpoint * t, midpoint + (foil.length - midpoint) * t[1:]]
        return (foil.curve(at) - foil.nose) / foil.chord

    points = (1.0 - fraction) * spread(one) + fraction * spread(two)
    return Airfoil(points, f"{fraction:.2f} between {one.name} and {two.name}", nose_index=len(t) - 1)


def panel_of(tree: np.ndarray, fraction: float) -> tuple[int, float]:
    """Panel at a fraction of the span.

    Parameters
    ----------
    tree : (n,) array
        Fractions of the span of the stations.
    fraction : float
        Fraction of the span.

    Returns
    -------
    panel : int
        Number of the panel.
    along : float
        Fraction of the way along it.

    Examples
    --------
    >>> panel_of(np.array([0.0, 0.5, 1.0]), 0.75)
    (1, 0.5)
    """
    k = int(np.clip(np.searchsorted(tree, fraction, side="right") - 1, 0, len(tree) - 2))
    return k, float(np.clip((fraction - tree[k]) / max(tree[k + 1] - tree[k], 1e-30), 0.0, 1.0))


def station_at(stations: "tuple[Station, ...]", tree: np.ndarray, fraction: float) -> Station:
    """Station at a fraction of the span, linear between its neighbours.

    Parameters
    ----------
    stations : tuple[Station, ...]
        Stations from root to tip.
    tree : (n,) array
        Fractions of the span of the stations.
    fraction : float
        Fraction of the span.

    Examples
    --------
    >>> root = Station(position=(0.0, 0.0, 0.0), chord=1.0, airfoil=Airfoil.naca("0012"))
    >>> tip = Station(position=(0.0, 2.0, 0.0), chord=0.5, airfoil=Airfoil.naca("0012"))
    >>> station_at((root, tip), np.array([0.0, 1.0]), 0.5).chord
    0.75
    """
    k, f = panel_of(tree, fraction)
    a, b = stations[k], stations[k + 1]
    position = tuple((1.0 - f) * p + f * q for p, q in zip(a.position, b.position))
    return Station(
        position=position,  # type: ignore[arg-type]
        chord=(1.0 - f) * a.chord + f * b.chord,
        twist=(1.0 - f) * a.twist + f * b.twist,
        airfoil=interpolate_airfoils(a.airfoil, b.airfoil, f),
    )
