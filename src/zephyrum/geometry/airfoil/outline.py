"""Plain shapes other than airfoils: circle, ellipse, rounded rectangle, with the exact curve of each.

Every one lies with its length along x and its centre at the origin, unless moved. Verified by tests/test_mesh.py.
"""

from dataclasses import dataclass, replace

import numpy as np

from zephyrum._core.validation import number
from zephyrum.errors import InputError

_DENSE = 20_001


@dataclass(frozen=True)
class Outline:
    """A convex closed curve, symmetric about both axes.

    Attributes
    ----------
    name : str
        Name.
    length : float
        Along x [m].
    height : float
        Along z [m].
    radius : float, optional
        Of the corners of a rounded rectangle [m]; None for an ellipse.
    position : tuple[float, float]
        x and z of its centre [m], for `mesh_bodies`.

    Examples
    --------
    >>> Outline.circle(0.1).perimeter
    0.31415926...
    """

    name: str
    length: float
    height: float
    radius: float | None = None
    position: tuple[float, float] = (0.0, 0.0)

    def __post_init__(self) -> None:
        for name in ("length", "height"):
            number(name, getattr(self, name), 0.0, open_low=True)
        if self.radius is not None:
            most = 0.5 * min(self.length, self.height)
            if not 0.0 < number("radius", self.radius) <= most:
                raise InputError(
                    f"radius = {self.radius:g} m does not fit a rectangle of {self.length:g} x {self.height:g} m; "
                    f"give one above 0 and at most {most:g} m."
                )

    @classmethod
    def circle(cls, diameter: float) -> "Outline":
        """A circle; in three dimensions a cylinder across the stream, revolved a sphere.

        Parameters
        ----------
        diameter : float
            [m]

        Examples
        --------
        >>> Outline.circle(2.0).length
        2.0
        """
        return cls("circle", diameter, diameter)

    @classmethod
    def ellipse(cls, length: float, height: float) -> "Outline":
        """An ellipse.

        Parameters
        ----------
        length : float
            Axis along x [m].
        height : float
            Axis along z [m].

        Examples
        --------
        >>> Outline.ellipse(2.0, 1.0).height
        1.0
        """
        return cls("ellipse", length, height)

    @classmethod
    def rounded_rectangle(cls, length: float, height: float, radius: float) -> "Outline":
        """A rectangle whose four corners are quarter circles.

        Parameters
        ----------
        length : float
            Along x [m].
        height : float
            Along z [m].
        radius : float
            Of the corners [m].

        Examples
        --------
        >>> Outline.rounded_rectangle(2.0, 1.0, 0.1).radius
        0.1
        """
        return cls("rounded rectangle", length, height, radius)

    def moved(self, x: float, z: float) -> "Outline":
        """The same outline with its centre moved.

        Parameters
        ----------
        x, z : float
            [m]

        Examples
        --------
        >>> Outline.circle(1.0).moved(2.0, 0.5).position
        (2.0, 0.5)
        """
        return replace(self, position=(self.position[0] + number("x", x), self.position[1] + number("z", z)))

    @property
    def perimeter(self) -> float:
        """Length of the closed curve [m].

        Examples
        --------
        >>> round(Outline.circle(1.0).perimeter, 3)
        3.142
        """
        return 2.0 * float(self._table[0][-1])

    @property
    def area(self) -> float:
        """Enclosed area [m^2].

        Examples
        --------
        >>> round(Outline.circle(1.0).area, 3)
        0.785
        """
        if self.radius is None:
            return float(np.pi * 0.25 * self.length * self.height)
        return float(self.length * self.height - (4.0 - np.pi) * self.radius**2)

    @property
    def _table(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Along the upper half from tail to nose: arc length, parameter of `_at`, curvature."""
        t = np.linspace(0.0, np.pi, _DENSE)
        if self.radius is None:
            a, b = 0.5 * self.length, 0.5 * self.height
            speed = np.hypot(a * np.sin(t), b * np.cos(t))
            s = np.r_[0.0, np.cumsum(0.5 * (speed[1:] + speed[:-1]) * np.diff(t))]
            return s, t, a * b / speed**3
        s = np.linspace(0.0, self._corners()[-1], _DENSE)
        low = self._corners()
        bent = ((s >= low[1]) & (s < low[2])) | ((s >= low[3]) & (s < low[4]))
        return s, s, np.where(bent, 1.0 / self.radius, 0.0)

    def _corners(self) -> np.ndarray:
        """Arc lengths at which lines and quarter circles of the upper half of a rounded rectangle end."""
        up, flat, arc = 0.5 * self.height - self.radius, self.length - 2.0 * self.radius, 0.5 * np.pi * self.radius
        return np.cumsum([0.0, up, arc, flat, arc, up])

    def _at(self, t: np.ndarray) -> np.ndarray:
        if self.radius is None:
            return np.stack([0.5 * self.length * np.cos(t), 0.5 * self.height * np.sin(t)], axis=1)
        low, r = self._corners(), self.radius
        x0, z0 = 0.5 * self.length - r, 0.5 * self.height - r
        first, second = (t - low[1]) / r, (t - low[3]) / r
        pieces = [
            (x0 + r + 0.0 * t, t),
            (x0 + r * np.cos(first), z0 + r * np.sin(first)),
            (x0 - (t - low[2]), z0 + r + 0.0 * t),
            (-x0 - r * np.sin(second), z0 + r * np.cos(second)),
            (-x0 - r + 0.0 * t, z0 - (t - low[4])),
        ]
        which = np.clip(np.searchsorted(low, t, side="right") - 1, 0, 4)
        return np.stack([np.choose(which, [p[k] for p in pieces]) for k in (0, 1)], axis=1)

    def points(self, count: int) -> np.ndarray:
        """Points of the upper half from tail to nose, closer together where it bends more.

        Parameters
        ----------
        count : int
            Number of intervals.

        Returns
        -------
        (count + 1, 2) array
            x and z [m].

        Notes
        -----
        Half of them follow the arc length, half the angle that the curve turns through.

        Examples
        --------
        >>> Outline.circle(1.0).points(8).shape
        (9, 2)
        """
        s, t, bend = self._table
        # a corner's edge would make the spacing jump: the bend is spread over a tenth of the half's length
        width = max(1, _DENSE // 20)
        even = np.interp(np.linspace(0.0, s[-1], _DENSE), s, bend)
        padded = np.r_[even[width:0:-1], even, even[-2 : -width - 2 : -1]]
        window = np.hanning(2 * width + 1)
        even = np.convolve(padded, window / window.sum(), mode="valid")
        measure = np.pi / s[-1] + even
        grown = np.r_[0.0, np.cumsum(0.5 * (measure[1:] + measure[:-1]))]
        position = np.interp(np.linspace(0.0, 1.0, count + 1), grown / grown[-1], np.linspace(0.0, s[-1], _DENSE))
        out = self._at(np.interp(position, s, t))
        out[[0, -1]] = [[0.5 * self.length, 0.0], [-0.5 * self.length, 0.0]]
        return out
