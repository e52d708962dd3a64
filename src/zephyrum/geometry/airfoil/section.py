"""The airfoil section: a closed or blunt-tailed curve through points, and everything one can ask of it."""

import functools
import itertools
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from scipy.interpolate import CubicSpline

from zephyrum._core.representation import short_repr
from zephyrum._core.validation import choice, number, numbers, whole
from zephyrum.errors import InputError
from zephyrum.geometry.airfoil.coordinate_files import read_coordinates, write_coordinates
from zephyrum.geometry.airfoil.naca_families import naca_coordinates
from zephyrum.geometry.airfoil.nose import nose_of_curve
from zephyrum.geometry.airfoil.parametric_families import bspline_coordinates, class_shape_coordinates
from zephyrum.geometry.airfoil.plain_flap import deflect_flap
from zephyrum.geometry.airfoil.section_measures import SectionMeasures, measure_section

DENSE = 401  # points that describe an analytic section


@dataclass(frozen=True, eq=False)
class Airfoil:
    """An airfoil section in its x-z plane.

    Attributes
    ----------
    points : (n, 2) array
        From the upper tail over the nose to the lower tail [m or chords], joined by cubic splines.
    name : str
        Name.
    corners : tuple[int, ...]
        Points where the slope may jump.
    notes : tuple[str, ...]
        What was recognised or changed.
    nose_index : int or None
        Point at which the mean line ends, where the maker of the section knows it; None finds the nose by
        `nose_of_curve`.

    Raises
    ------
    InputError
        The points cannot be an airfoil.

    Examples
    --------
    >>> import zephyrum as zy
    >>> foil = zy.Airfoil.naca("2412")
    >>> print(round(foil.measures.thickness, 3))
    0.12
    """

    points: np.ndarray
    name: str = "airfoil"
    corners: tuple[int, ...] = ()
    notes: tuple[str, ...] = field(default=())
    nose_index: int | None = None

    def __post_init__(self) -> None:
        points = np.array(self.points, dtype=float)
        if points.ndim != 2 or points.shape[1] != 2 or len(points) < 7:
            raise InputError(
                f"airfoil {self.name!r} has points of shape {points.shape}; give at least 7 rows of x and z."
            )
        if not np.isfinite(points).all():
            row = int(np.argmax(~np.isfinite(points).all(axis=1)))
            raise InputError(f"airfoil {self.name!r}: point {row} is not finite: {points[row]}.")
        if (np.linalg.norm(np.diff(points, axis=0), axis=1) == 0.0).any():
            row = int(np.argmax(np.linalg.norm(np.diff(points, axis=0), axis=1) == 0.0))
            raise InputError(f"airfoil {self.name!r}: points {row} and {row + 1} are the same; remove one.")
        if _signed_area(points) <= 0.0:
            raise InputError(
                f"airfoil {self.name!r} runs the wrong way round or encloses no area; its points must run from the "
                f"upper "
                "tail over the nose to the lower tail (Airfoil.read sorts this out by itself)."
            )
        points.setflags(write=False)
        object.__setattr__(self, "points", points)

    __repr__ = short_repr

    def __str__(self) -> str:
        m = self.measures
        camber = round(100.0 * m.camber, 4)
        return f"{self.name}, {len(self.points)} points, {100.0 * m.thickness:.3g} % thick, camber {camber:.3g} %"

    # -- makers -----------------------------------------------------------------------------------------------
    @classmethod
    def naca(cls, digits: str, tail: str = "closed", n: int = DENSE) -> "Airfoil":
        """A NACA 4- or 5-digit section of unit chord.

        Parameters
        ----------
        digits : str
            Such as "2412".
        tail : str, optional
            "closed" or "blunt".
        n : int, optional
            Number of points, odd.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Airfoil.naca("2412").name
        'NACA 2412'
        """
        choice("tail", tail, ("closed", "blunt"))
        n = whole("n", n, 21) // 2 * 2 + 1
        return cls(naca_coordinates(digits, n, tail), f"NACA {digits}", nose_index=n // 2)

    @classmethod
    def read(cls, path: "str | Path", unit: str | None = None) -> "Airfoil":
        """Read a section from a coordinate file in any plain layout.

        Parameters
        ----------
        path : path
            File.
        unit : str, optional
            Unit such as "mm", which keeps the true size in metres; without it the section is scaled to unit chord.

        Raises
        ------
        InputError
            With the number of the line that is wrong.

        Notes
        -----
        The notes of the section say what was recognised and changed.

        Examples
        --------
        >>> import tempfile
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = f"{folder}/section.dat"
        ...     _ = Airfoil.naca("2412").write(path)
        ...     foil = Airfoil.read(path)
        >>> foil.name
        'NACA 2412'
        """
        points, name, notes = read_coordinates(path, unit)
        corners = _corners_in(points)
        foil = cls(points, name, corners, tuple(notes))
        foil = replace(foil, nose_index=_point_at_origin(foil))
        camber = foil.measures.camber
        if camber < -0.002:
            foil = replace(
                foil,
                notes=(*foil.notes, f"cambered downwards ({100 * camber:.1f} % chord): flip() it if it is upside down"),
            )
        return foil

    @classmethod
    def from_control_points(
        cls, control: list[tuple] | np.ndarray, name: str = "B-spline", n: int = DENSE
    ) -> "Airfoil":
        """A section from the control points of a clamped cubic B-spline.

        Parameters
        ----------
        control : (m, 2) array
            Upper tail to lower tail.
        name : str, optional
            Name of the section.
        n : int, optional
            Number of points.

        Examples
        --------
        >>> control = [(1, 0), (0.5, 0.1), (0, 0.08), (0, 0), (0, -0.05), (0.5, -0.03), (1, 0)]
        >>> round(Airfoil.from_control_points(control).measures.thickness, 3)
        0.123
        """
        return cls(bspline_coordinates(control, whole("n", n, 21)), name)  # type: ignore[arg-type]

    @classmethod
    def from_class_shape(
        cls, upper: list, lower: list[float], gap: float = 0.0, name: str = "class-shape", n: int = DENSE
    ) -> "Airfoil":
        """A section of unit chord from class-shape coefficients.

        Parameters
        ----------
        upper : list
            Coefficients of the upper side.
        lower : list[float]
            Coefficients of the lower side, usually negative.
        gap : float, optional
            Height of the tail [chords].
        name : str, optional
            Name of the section.
        n : int, optional
            Number of points.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Airfoil.from_class_shape([0.17, 0.16], [-0.17, -0.16]).name
        'class-shape'
        """
        n = whole("n", n, 21) // 2 * 2 + 1
        return cls(class_shape_coordinates(upper, lower, gap, n), name, nose_index=n // 2)

    def write(self, path: "Path"):
        """Write the points as two columns with the name as header; `read` reads the same points back.

        Parameters
        ----------
        path : path
            File.

        Examples
        --------
        >>> import tempfile
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     _ = Airfoil.naca("2412").write(f"{folder}/section.dat")
        """
        return write_coordinates(self.points, self.name, path)

    # -- changes ----------------------------------------------------------------------------------------------
    def resampled(self, n: int, nose_share: float = 0.25) -> "Airfoil":
        """The same curve with another number of points, clustered at nose and tail.

        Parameters
        ----------
        n : int
            Number of points.
        nose_share : float, optional
            Spacing at the nose over the mean.

        Examples
        --------
        >>> import zephyrum as zy
        >>> len(zy.Airfoil.naca("0012").resampled(101).points)
        101
        """
        n = whole("n", n, 7)
        number("nose_share", nose_share, 0.0, 1.0, open_low=True)
        nose, end, mean = self.nose_parameter, self.length, self.length / (n - 1)
        upper = (n - 1) // 2
        lower = n - 1 - upper
        a = clustered(upper, 0.4 * mean / nose, nose_share * mean / nose) * nose
        b = clustered(lower, nose_share * mean / (end - nose), 0.4 * mean / (end - nose)) * (end - nose) + nose
        s = np.r_[a, b[1:]]
        corners = []
        for corner in self.corner_parameters:
            k = int(np.argmin(np.abs(s - corner)))
            s[k] = corner
            corners.append(k)
        points = self.curve(s)
        points[0], points[-1] = self.points[0], self.points[-1]
        notes = (*self.notes, f"resampled to {n} points")
        return replace(self, points=points, corners=tuple(corners), notes=notes, nose_index=upper)

    def _with_gap(self, gap: float) -> np.ndarray:
        """Points with the tail opened or closed to `gap` by a wedge that grows with x, chord and mean line kept."""
        along = (self.tail - self.nose) / self.chord
        square = np.array([-along[1], along[0]])
        x = np.clip((self.points - self.nose) @ along / self.chord, 0.0, 1.0)
        side = np.where(self._pieces[0] <= self.nose_parameter, 1.0, -1.0)
        own = (self.points[0] - self.points[-1]) @ square
        points = self.points + (0.5 * (gap - own) * x**2 * side)[:, None] * square
        if gap == 0.0:
            points[0] = points[-1] = 0.5 * (points[0] + points[-1])
        return points

    def closed(self) -> "Airfoil":
        """The section with its tail brought together, chord kept.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Airfoil.naca("0012", "blunt").closed().is_blunt
        False
        """
        return replace(self, points=self._with_gap(0.0), notes=(*self.notes, "tail closed, chord kept"))

    def blunted(self, gap: float) -> "Airfoil":
        """The section with an open tail; the chord is kept and nothing is cut off.

        Parameters
        ----------
        gap : float
            Height of the tail [chords].

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Airfoil.naca("0012").blunted(0.004).is_blunt
        True
        """
        number("gap", gap, 0.0, 0.1, open_low=True)
        return replace(
            self,
            points=self._with_gap(gap * self.chord),
            notes=(*self.notes, f"tail opened to {gap:g} chord, chord kept"),
        )

    def rotated(self, angle: float, about: tuple[float, float] | None = None) -> "Airfoil":
        """The section turned nose-up.

        Parameters
        ----------
        angle : float
            [deg]
        about : tuple[float, float], optional
            Point [m]; the quarter chord without it.

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Airfoil.naca("0012").rotated(3.0).measures.incidence, 3)
        3.0
        """
        a = np.radians(number("angle", angle, -180.0, 180.0))
        centre = self.nose + 0.25 * (self.tail - self.nose) if about is None else np.array(numbers("about", about, 2))
        turn = np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]])
        return replace(self, points=(self.points - centre) @ turn.T + centre)

    def flipped(self) -> "Airfoil":
        """Upside down (mirrored in z = 0).

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Airfoil.naca("2412").flipped().measures.camber, 3)
        -0.02
        """
        last = len(self.points) - 1
        return replace(
            self,
            points=(self.points * [1.0, -1.0])[::-1],
            corners=tuple(last - k for k in reversed(self.corners)),
            nose_index=None if self.nose_index is None else last - self.nose_index,
        )

    def scaled(self, factor: float) -> "Airfoil":
        """The section with all coordinates scaled.

        Parameters
        ----------
        factor : float
            Scale factor.

        Examples
        --------
        >>> import zephyrum as zy
        >>> round(zy.Airfoil.naca("0012").scaled(2.0).chord, 6)
        2.0
        """
        return replace(self, points=self.points * number("factor", factor, 0.0, open_low=True))

    def moved(self, x: float, z: float) -> "Airfoil":
        """The section with all points moved.

        Parameters
        ----------
        x, z : float
            In the unit of the points.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Airfoil.naca("0012").moved(1.0, 0.5).nose.round(6).tolist()
        [1.0, 0.5]
        """
        return replace(self, points=self.points + np.array([number("x", x), number("z", z)]))

    def with_flap(self, hinge: float, angle: float, height: float = 0.5) -> "Airfoil":
        """The section with a plain flap deflected, its gap sealed.

        Parameters
        ----------
        hinge : float
            Position of the hinge [chords].
        angle : float
            Angle [deg], tail down positive.
        height : float, optional
            Position of the hinge between the lower (0) and the upper (1) side.

        Notes
        -----
        The side that opens is bridged by an arc about the hinge, the side that closes is cut where the surfaces meet.

        Examples
        --------
        >>> import zephyrum as zy
        >>> zy.Airfoil.naca("2412").with_flap(0.7, 20.0).measures.thickness > 0.1
        True
        """
        hinge = number("hinge", hinge, 0.3, 0.98)
        angle = number("angle", angle, -60.0, 60.0)
        return replace(self, **deflect_flap(self, hinge, angle, number("height", height, 0.0, 1.0)))

    @functools.cached_property
    def measures(self) -> SectionMeasures:
        """Everything measured about the section.

        Examples
        --------
        >>> round(Airfoil.naca("2412").measures.camber, 4)
        0.02
        """
        return measure_section(self)

    # -- the curve --------------------------------------------------------------------------------------------
    @functools.cached_property
    def _pieces(self) -> tuple[np.ndarray, list[tuple[float, float, CubicSpline]]]:
        s = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(self.points, axis=0), axis=1))]
        ends = [0, *sorted(self.corners), len(s) - 1]
        return s, [(s[a], s[b], CubicSpline(s[a : b + 1], self.points[a : b + 1])) for a, b in itertools.pairwise(ends)]

    @property
    def point_parameters(self) -> np.ndarray:
        """Parameters (n,) of the points: arc length of the polygon through them [same unit as points].

        Examples
        --------
        >>> Airfoil.naca("0012", n=21).point_parameters[:2].round(4)
        array([0.    , 0.0247])
        """
        return self._pieces[0]

    @property
    def length(self) -> float:
        """Length of the curve's parameter: the polygon through the points [same unit as points].

        Examples
        --------
        >>> round(Airfoil.naca("0012").length, 3)
        2.04
        """
        return float(self._pieces[0][-1])

    def curve(self, s: np.ndarray, derivative: int = 0) -> np.ndarray:
        """Points of the surface, or their derivative, at arc lengths.

        Parameters
        ----------
        s : (m,) array
            From 0 (upper tail) to `length` (lower tail).
        derivative : int, optional
            Order of the derivative.

        Returns
        -------
        (m, 2) array

        Examples
        --------
        >>> import zephyrum as zy
        >>> foil = zy.Airfoil.naca("0012")
        >>> foil.curve([0.0, foil.length]).round(6).tolist()
        [[1.0, 0.0], [1.0, -0.0]]
        """
        s = np.atleast_1d(np.asarray(s, dtype=float))
        out = np.empty((len(s), 2))
        pieces = self._pieces[1]
        which = np.clip(np.searchsorted([piece[1] for piece in pieces], s, side="left"), 0, len(pieces) - 1)
        for k, (_, _, spline) in enumerate(pieces):
            here = which == k
            out[here] = spline(s[here], derivative)
        return out

    @property
    def corner_parameters(self) -> np.ndarray:
        """Parameters of the corners.

        Examples
        --------
        >>> len(Airfoil.naca("2412").with_flap(0.75, 20.0).corner_parameters)
        1
        """
        return self._pieces[0][list(self.corners)]

    @functools.cached_property
    def nose_parameter(self) -> float:
        """Parameter of the nose, where the mean line ends.

        Examples
        --------
        >>> foil = Airfoil.naca("0012")
        >>> round(float(foil.nose_parameter / foil.length), 6)
        0.5
        """
        if self.nose_index is not None:
            return float(self._pieces[0][self.nose_index])
        return nose_of_curve(self)

    @property
    def tail(self) -> np.ndarray:
        """Middle of the tail (2,).

        Examples
        --------
        >>> Airfoil.naca("0012").tail.round(6) + 0.0
        array([1., 0.])
        """
        return 0.5 * (self.points[0] + self.points[-1])

    @functools.cached_property
    def nose(self) -> np.ndarray:
        """Nose point (2,).

        Examples
        --------
        >>> Airfoil.naca("0012").nose.round(6) + 0.0
        array([0., 0.])
        """
        out = self.curve(self.nose_parameter)[0]  # type: ignore[arg-type]
        out.setflags(write=False)
        return out

    @functools.cached_property
    def nose_radius(self) -> float:
        """Radius of curvature at the nose [same unit as points].

        Examples
        --------
        >>> round(float(Airfoil.naca("0012").nose_radius), 3)  # 1.1019 t^2
        0.016
        """
        s = self.nose_parameter
        (dx, dz), (ax, az) = self.curve(s, 1)[0], self.curve(s, 2)[0]  # type: ignore[arg-type]
        bend = abs(dx * az - dz * ax) / (dx * dx + dz * dz) ** 1.5
        return min(1.0 / max(bend, 1e-12), 0.5 * self.chord)

    @property
    def chord(self) -> float:
        """Distance from the nose to the centre of the tail.

        Examples
        --------
        >>> Airfoil.naca("0012").scaled(2.0).chord
        2.0
        """
        return float(np.linalg.norm(self.tail - self.nose))

    @property
    def gap(self) -> float:
        """Height of the blunt tail; 0 if the tail is closed.

        Examples
        --------
        >>> round(Airfoil.naca("0012").blunted(0.01).gap, 6)
        0.01
        """
        return float(np.linalg.norm(self.points[0] - self.points[-1]))

    @property
    def is_blunt(self) -> bool:
        """Whether the tail has a base of noticeable height (above 1e-6 chord).

        Examples
        --------
        >>> Airfoil.naca("0012").is_blunt, Airfoil.naca("0012").blunted(0.01).is_blunt
        (False, True)
        """
        return self.gap > 1e-6 * self.chord


def _signed_area(points: np.ndarray) -> float:
    """Area inside the closed polygon, positive if it runs counter-clockwise (x right, z up)."""
    x, z = points.T
    return 0.5 * float(np.sum(x * np.roll(z, -1) - np.roll(x, -1) * z))


def _point_at_origin(foil: Airfoil) -> int | None:
    """Point of a section that lies at the origin, if the nose may be there: published tables put it there."""
    k = int(np.argmin(np.linalg.norm(foil.points, axis=1)))
    near = np.linalg.norm(foil.points[k]) <= 1e-9 * foil.chord and np.linalg.norm(foil.nose) <= 0.01 * foil.chord
    return k if near and 0 < k < len(foil.points) - 1 else None


def _corners_in(points: np.ndarray) -> tuple[int, ...]:
    """Indices where the polygon turns much more sharply than around: hinges, not noses."""
    step = np.diff(points, axis=0)
    length = np.linalg.norm(step, axis=1)
    turn = np.arccos(np.clip(np.einsum("ij,ij->i", step[:-1], step[1:]) / (length[:-1] * length[1:]), -1.0, 1.0))
    around = np.maximum(np.r_[0.0, turn[:-1]], np.r_[turn[1:], 0.0])
    span = np.ptp(points[:, 0])
    inside = (points[1:-1, 0] > points[:, 0].min() + 0.05 * span) & (points[1:-1, 0] < points[:, 0].max() - 0.01 * span)
    return tuple(int(k) + 1 for k in np.flatnonzero((turn > np.radians(8.0)) & (turn > 4.0 * around) & inside))


def clustered(n: int, first: float, last: float) -> np.ndarray:
    """Points of [0, 1] with smooth spacing, close together at both ends.

    Parameters
    ----------
    n : int
        Number of intervals.
    first, last : float
        Spacing at the ends, about.

    Returns
    -------
    (n + 1,) array

    Examples
    --------
    >>> clustered(4, 0.1, 0.1).round(2)
    array([0.  , 0.18, 0.5 , 0.82, 1.  ])
    """
    t = np.linspace(0.0, 1.0, n + 1)
    spacing = 1.0 / n
    weight = first + (spacing * 1.5 - first) * np.sin(np.pi * np.clip(t, 0.0, 0.5)) ** 2
    weight2 = last + (spacing * 1.5 - last) * np.sin(np.pi * np.clip(1.0 - t, 0.0, 0.5)) ** 2
    density = np.minimum(weight, weight2)
    s = np.r_[0.0, np.cumsum(0.5 * (density[1:] + density[:-1]))]
    return s / s[-1]
