"""What a section measures: thickness, camber, nose, tail, area. Verified by tests/test_shape.py."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from zephyrum.geometry.airfoil.section import Airfoil


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
    for the construction); the term is taken away, and h is multiplied by the cosine of the slope. Ahead of 0.01 chords
    neither is done.

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
    behind_nose = np.clip((x - 0.01) / 0.03, 0.0, 1.0)  # the shift of the midpoints is no longer small against x there
    slope = np.gradient(middle, x) * behind_nose
    camber = middle - 0.5 * np.gradient(half**2, x) * slope
    camber[0] = camber[-1] = 0.0  # the ends of the chord
    return x, camber, 2.0 * half / np.sqrt(1.0 + slope**2)


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
