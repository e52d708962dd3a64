"""What a section measures: thickness, camber, nose, tail, area. Verified by tests/test_shape.py."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from zephyrum.geometry.airfoil.section import Airfoil


NEAR_NOSE = 0.02  # chords; half and twice that moves the camber of NACA 4415 and 23012 by less than 1e-4


@dataclass(frozen=True)
class SectionMeasures:
    """Measures of a section, lengths in chords unless said otherwise.

    Attributes
    ----------
    chord : float
        In the unit of the points.
    thickness, thickness_at : float
        Largest thickness and its x.
    camber, camber_at : float
        Largest camber and its x.
    nose_radius : float
        Radius of curvature at the nose.
    tail_angle : float
        Between the surfaces at the tail [deg].
    gap : float
        Height of the tail.
    area : float
        [chord^2]
    incidence : float
        Of the chord line, nose-up positive [deg].
    points : int
        Number of points.

    Examples
    --------
    >>> from zephyrum import Airfoil
    >>> measures = Airfoil.naca("2412").measures
    >>> round(measures.thickness, 3), round(measures.thickness_at, 2)
    (0.12, 0.3)
    """

    chord: float
    thickness: float
    thickness_at: float
    camber: float
    camber_at: float
    nose_radius: float
    tail_angle: float
    gap: float
    area: float
    incidence: float
    points: int

    def rows(self) -> list[tuple[str, float, str]]:
        """(name, value, unit) for tables."""
        c = "chord"
        return [
            ("chord", self.chord, "m"),
            ("thickness", self.thickness, c),
            ("thickness at", self.thickness_at, c),
            ("camber", self.camber, c),
            ("camber at", self.camber_at, c),
            ("nose radius", self.nose_radius, c),
            ("tail angle", self.tail_angle, "deg"),
            ("tail gap", self.gap, c),
            ("area", self.area, "chord^2"),
            ("incidence", self.incidence, "deg"),
            ("points", self.points, "-"),
        ]

    def __str__(self) -> str:
        return "\n".join(f"{name:<14} {value:>12.6g} {unit}" for name, value, unit in self.rows())


def mean_line(foil: "Airfoil", n: int = 400) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Mean line and thickness perpendicular to it, the chord laid along x.

    Parameters
    ----------
    foil : Airfoil
        Section.
    n : int, optional
        Number of positions.

    Returns
    -------
    x : (n,) array
        [chords]
    camber : (n,) array
        [chords]
    thickness : (n,) array
        [chords]

    Notes
    -----
    Midpoints and distances of the sides at equal x are z_m and 2 h. In a section made of a mean line c and a
    thickness perpendicular to it, z_m = c + h h' c' to first order in the slope c' (Jacobs, Ward and Pinkerton 1933
    for the construction). Across the mean line that follows from this, the sides are halved again. Ahead of
    `NEAR_NOSE` the mean line is a parabola.

    Examples
    --------
    >>> from zephyrum import Airfoil
    >>> x, camber, thickness = mean_line(Airfoil.naca("2412"))
    >>> round(float(camber.max()), 4), round(float(x[camber.argmax()]), 2)
    (0.02, 0.4)
    """
    s = foil.nose_parameter
    fine = 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, 4 * n)))
    sides = []
    for a, b in ((s, 0.0), (s, foil.length)):
        p = (foil.curve(a + (b - a) * fine) - foil.nose) / foil.chord
        along = (foil.tail - foil.nose) / foil.chord
        local = np.stack([p @ along, p @ np.array([-along[1], along[0]])], axis=1)
        order = np.argsort(local[:, 0], kind="stable")
        sides.append(local[order])
    x = 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, n)))
    up, low = (np.interp(x, side[:, 0], side[:, 1]) for side in sides)
    half, middle = 0.5 * (up - low), 0.5 * (up + low)
    camber = _from_the_nose(x, middle - 0.5 * np.gradient(half**2, x) * np.gradient(middle, x))
    slope = np.gradient(camber, x)
    upper, lower = (_crossings(side, x[1:-1], camber[1:-1], slope[1:-1]) for side in sides)
    half[1:-1] = 0.5 * np.linalg.norm(upper - lower, axis=1)
    place = 0.5 * (upper + lower)
    camber[1:-1] = place[:, 1] + slope[1:-1] * (x[1:-1] - place[:, 0])
    # a base that is not square to the mean line moves its end off the middle of the tail
    end = camber[-3] + (camber[-3] - camber[-2]) * (1.0 - x[-3]) / (x[-3] - x[-2])
    camber[1:-1] -= end * x[1:-1] ** 4
    camber[-1] = 0.0
    return x, _from_the_nose(x, camber), 2.0 * half


def _from_the_nose(x: np.ndarray, camber: np.ndarray) -> np.ndarray:
    """The mean line with a parabola from the nose up to `NEAR_NOSE`."""
    out, k = camber.copy(), int(np.searchsorted(x, NEAR_NOSE))
    bend = (np.gradient(camber, x)[k] - camber[k] / x[k]) / x[k]
    out[:k] = x[:k] * (camber[k] / x[k] + bend * (x[:k] - x[k]))
    return out


def _crossings(side: np.ndarray, x: np.ndarray, z: np.ndarray, slope: np.ndarray) -> np.ndarray:
    """Points (n, 2) at which the lines across a slope through n points meet one side (m, 2) of the section."""
    end = side[-1] + 0.05 * (side[-1] - side[-5]) / np.linalg.norm(side[-1] - side[-5])  # it goes on behind the tail
    side = np.vstack([side, end])
    along = (side[None, :, 0] - x[:, None]) + (side[None, :, 1] - z[:, None]) * slope[:, None]
    k = np.clip(np.argmax(along > 0.0, axis=1), 1, len(side) - 1)
    row = np.arange(len(x))
    share = -along[row, k - 1] / (along[row, k] - along[row, k - 1])
    return side[k - 1] + share[:, None] * (side[k] - side[k - 1])


def measure_section(foil: "Airfoil") -> SectionMeasures:
    """Measure a section: thickness, camber, nose radius, area and angles.

    Parameters
    ----------
    foil : Airfoil
        Section.

    Examples
    --------
    >>> from zephyrum import Airfoil
    >>> round(measure_section(Airfoil.naca("0012")).area, 4)  # in squares of the chord
    0.0817
    """
    x, camber, thickness = mean_line(foil)
    t, c = int(np.argmax(thickness)), int(np.argmax(np.abs(camber)))
    cambered = abs(camber[c]) > 1e-6
    ends = foil.curve(np.array([0.0, foil.length]), 1)
    ends /= np.linalg.norm(ends, axis=1)[:, None]
    cosine = float(np.clip(-ends[0] @ ends[1], -1.0, 1.0))
    px, pz = foil.curve(np.linspace(0.0, foil.length, 4001)).T
    area = 0.5 * float(np.sum(px * np.roll(pz, -1) - np.roll(px, -1) * pz))
    along = foil.tail - foil.nose
    return SectionMeasures(
        foil.chord,
        float(thickness[t]),
        float(x[t]),
        float(camber[c]) if cambered else 0.0,
        float(x[c]) if cambered else 0.0,
        foil.nose_radius / foil.chord,
        float(np.degrees(np.arccos(cosine))),
        foil.gap / foil.chord,
        area / foil.chord**2,
        float(-np.degrees(np.arctan2(along[1], along[0]))),
        len(foil.points),
    )
