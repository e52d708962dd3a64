"""Mass, centre of gravity and inertia of solids, skins and points.

Second moments of triangles and tetrahedra are exact (Tonon 2004, J. Math. Stat. 1:8). Verified by
tests/test_aircraft.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum.geometry.surface.triangulation import Surface


@dataclass(frozen=True)
class MassProperties:
    """Mass, centre of gravity and inertia.

    Attributes
    ----------
    mass : float
        [kg]
    centre : (3,) array
        Centre of gravity [m].
    inertia : (3, 3) array
        About it in body axes [kg m^2]; off the diagonal -int xy dm.

    Examples
    --------
    >>> from zephyrum import Aircraft, Body
    >>> from zephyrum.geometry import PointMass
    >>> pilot = PointMass(mass=80.0, position=(1.0, 0.0, 0.0))
    >>> craft = Aircraft(name="pod", parts={"pod": Body.capsule(3.0, 1.0)}, points={"pilot": pilot})
    >>> whole, by_name = craft.mass_properties()
    >>> whole.mass
    80.0
    """

    mass: float
    centre: np.ndarray
    inertia: np.ndarray

    def __add__(self, other: "MassProperties") -> "MassProperties":
        if not other.mass:
            return self
        if not self.mass:
            return other
        total = self.mass + other.mass
        centre = (self.mass * self.centre + other.mass * other.centre) / total
        inertia = sum(one.inertia + _steiner(one.mass, one.centre - centre) for one in (self, other))
        return MassProperties(total, centre, inertia)


NONE = MassProperties(0.0, np.zeros(3), np.zeros((3, 3)))


def _steiner(mass: float, arm: np.ndarray) -> np.ndarray:
    return mass * (arm @ arm * np.eye(3) - np.outer(arm, arm))


def _from_moments(mass: float, first: np.ndarray, second: np.ndarray, origin: np.ndarray) -> MassProperties:
    """From int dm, int r dm, int r r^T dm with r from `origin`."""
    centre = first / mass
    about = second - mass * np.outer(centre, centre)
    return MassProperties(mass, centre + origin, np.trace(about) * np.eye(3) - about)


def of_solid(surface: Surface, density: float) -> MassProperties:
    """Mass properties of a filled surface.

    Parameters
    ----------
    surface : Surface
        Closed surface.
    density : float
        [kg/m^3]

    Examples
    --------
    >>> import zephyrum as zy
    >>> round(float(of_solid(zy.Body.box(2.0, 1.0, 0.5).surface(), 700.0).mass), 6)
    700.0
    """
    p = surface.points - surface.midpoint
    corners = p[surface.triangles]
    volume = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])) / 6.0
    total = corners.sum(axis=1)
    outer = np.einsum("i,ikm,ikn->mn", volume, corners, corners) + np.einsum("i,im,in->mn", volume, total, total)
    return _from_moments(
        density * volume.sum(),
        density * (volume[:, None] * total).sum(0) / 4.0,
        density * outer / 20.0,
        surface.midpoint,
    )


def of_skin(surface: Surface, skin: float) -> MassProperties:
    """Mass properties of a shell.

    Parameters
    ----------
    surface : Surface
        Surface.
    skin : float
        [kg/m^2]

    Examples
    --------
    >>> import zephyrum as zy
    >>> round(float(of_skin(zy.Body.box(2.0, 1.0, 0.5).surface(), 8.0).mass), 6)
    56.0
    """
    corners = (surface.points - surface.midpoint)[surface.triangles]
    area = surface.areas
    total = corners.sum(axis=1)
    outer = np.einsum("i,ikm,ikn->mn", area, corners, corners) + np.einsum("i,im,in->mn", area, total, total)
    return _from_moments(
        skin * area.sum(), skin * (area[:, None] * total).sum(0) / 3.0, skin * outer / 12.0, surface.midpoint
    )


def of_point(mass: float, position: tuple[float, float, float]) -> MassProperties:
    """Mass properties of a point mass.

    Parameters
    ----------
    mass : float
        [kg]
    position : tuple[float, float, float]
        [m]

    Examples
    --------
    >>> of_point(2.0, (1.0, 0.0, 0.0)).mass
    2.0
    """
    return MassProperties(mass, np.asarray(position, dtype=float), np.zeros((3, 3)))
