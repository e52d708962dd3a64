"""Small parts: struts between two points and flat plates. Verified by tests/test_bodies.py."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from zephyrum.errors import InputError
from zephyrum.geometry.aircraft.loft import lofted, positions as spread, sagitta_spacing
from zephyrum.geometry.aircraft.part import Length, Metres, Part, Point, Section, part
from zephyrum.geometry.aircraft.stations import Station
from zephyrum.geometry.aircraft.wing import Wing
from zephyrum.geometry.surface.triangulation import Surface


@part
class Strut(Part):
    """A straight faired bar; both ends are flat, to be buried in what they join.

    Attributes
    ----------
    start, end : tuple of float
        Noses of its end sections [m].
    chord : float
        At both ends [m].
    airfoil : Airfoil or str
        Section.

    Notes
    -----
    Both ends are flat, to be buried in what they join.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Strut(start=(0.0, 0.0, 0.0), end=(0.0, 1.0, 1.0), chord=0.2, airfoil="NACA 0020").chord
    0.2
    """

    kind: Literal["strut"] = "strut"
    start: Point
    end: Point
    chord: Length
    airfoil: Section

    def __post_init__(self) -> None:
        if np.hypot(self.end[1] - self.start[1], self.end[2] - self.start[2]) < 1e-9:
            raise InputError("a strut must lead sideways or upwards; for one along x use a body.")

    def surface(self, name: str = "strut", tolerance: float = 1e-3, largest: float = 0.25) -> Surface:
        """Closed surface; labels as of a wing.

        Parameters
        ----------
        name : str, optional
            Prefix of the labels.
        tolerance : float, optional
            Distance of the triangles from the section, in chords.
        largest : float, optional
            Longest edge, in chords.

        Examples
        --------
        >>> from zephyrum import Airfoil
        >>> foil = Airfoil.naca("0024")
        >>> strut = Strut(start=(0.0, 0.0, 0.0), end=(0.0, 1.0, 1.0), chord=0.1, airfoil=foil)
        >>> strut.surface(tolerance=0.005).watertight
        True
        """
        stations = (
            Station(position=self.start, chord=self.chord, airfoil=self.airfoil),
            Station(position=self.end, chord=self.chord),
        )
        return Wing(stations=stations, symmetric=False, tip="flat").surface(name, tolerance, largest)


@part
class Plate(Part):
    """A flat plate, its centre at z = 0.

    Attributes
    ----------
    corners : tuple[tuple[float, float], ...]
        x and y (n, 2) [m], counter-clockwise seen from above.
    thickness : float
        [m]
    largest : float
        Longest edge of its triangles, in its size.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Plate(corners=((0.0, 0.0), (1.0, 0.0), (1.0, 1.0)), thickness=0.02).thickness
    0.02
    """

    kind: Literal["plate"] = "plate"
    corners: tuple[tuple[Metres, Metres], ...]
    thickness: Length
    largest: Annotated[float, Field(gt=0.0)] = 0.25

    def __post_init__(self) -> None:
        p = np.array(self.corners)
        if len(p) < 3:
            raise InputError("a plate needs at least three corners.")
        after, before = np.roll(p, -1, axis=0), np.roll(p, 1, axis=0)
        turn = np.cross(np.c_[p - before, np.zeros(len(p))], np.c_[after - p, np.zeros(len(p))])[:, 2]
        if (turn <= 0.0).any():
            k = int(np.argmin(turn))
            raise InputError(
                f"corner {k} at {self.corners[k]} of the plate turns the wrong way; give a convex outline "
                f"counter-clockwise from above."
            )

    def surface(self, name: str = "plate", tolerance: float = 1e-3, largest: float = 0.25) -> Surface:
        """Closed surface; labels name/upper, /lower and /edge.

        Parameters
        ----------
        name : str, optional
            Prefix of the labels.
        tolerance : float, optional
            Distance of the triangles from the shape, in chords.
        largest : float, optional
            Longest edge, in chords.

        Examples
        --------
        >>> plate = Plate(corners=((0.0, 0.0), (1.0, 0.0), (1.0, 0.5)), thickness=0.01)
        >>> round(plate.surface().volume, 6)
        0.0025
        """
        p = np.array(self.corners)
        sides = []
        size = float(np.ptp(p, axis=0).max())
        for a, b in zip(p, np.roll(p, -1, axis=0)):
            line = a + np.linspace(0.0, 1.0, 33)[:, None] * (b - a)
            h, s = sagitta_spacing(line, tolerance * size, largest * size)
            sides.append(a + spread(np.linspace(0.0, 1.0, 33), h, s)[:-1, None] * (b - a))
        loop = np.concatenate(sides)
        rings = np.stack([np.c_[loop, np.full(len(loop), z)] for z in (-0.5 * self.thickness, 0.5 * self.thickness)])
        faces = np.full((1, len(loop)), f"{name}/edge", dtype=object)
        return lofted(rings, faces, name, (f"{name}/lower", f"{name}/upper"), fan=True)
