"""Sections drawn by control points: a clamped cubic B-spline that is moved point by point, and saved with its points.

Fits follow Hoschek (1988), Computer Aided Geometric Design 5:27 (least squares with correction of the parameters). The
limits of `shape_warnings` are those of common sections. Verified by tests/test_drawn_sections.py.
"""

import functools
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from scipy.interpolate import BSpline

from zephyrum._core.atomic_files import write_text
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import PATH, number, takes, whole
from zephyrum.errors import FileError, InputError
from zephyrum.geometry.airfoil.section import Airfoil

LEAST, MOST = 7, 60  # control points
HEAD = "# control point"
CORRECTIONS = 30  # of the parameters of a fit
LARGEST_NOSE_RADIUS = 0.10  # chords: NACA 0024 has 0.063
LEAST_NOSE_RADIUS = 0.0008  # chords: a section of 3 % has 0.001
CURVATURE_STEP = 0.5  # of the curvature within 1 % of the chord, relative to its size, away from the nose
BEHIND_NOSE = 0.1  # chords from the nose from which on curvature is judged
LEAST_CURVATURE = 1.0  # 1/chord: smaller curvatures are compared with it
INFLECTIONS = 2  # of either side


@dataclass(frozen=True, eq=False)
class SplineAirfoil:
    """A section by the control points of a clamped cubic B-spline.

    Attributes
    ----------
    points : (m, 2) array
        Control points from the upper tail over the nose to the lower tail [m]; the first and the last lie on the
        section.
    name : str
        Name of the section.

    Raises
    ------
    InputError
        There are too few or too many points, or they are no numbers.

    Examples
    --------
    >>> drawn = SplineAirfoil.fit(Airfoil.naca("2412"), 15)
    >>> changed = drawn.with_point(4, z=drawn.points[4, 1] + 0.02)
    >>> changed.airfoil.measures.thickness > drawn.airfoil.measures.thickness
    True
    """

    points: np.ndarray
    name: str = "drawn section"

    __repr__ = short_repr

    def __post_init__(self) -> None:
        points = np.array(self.points, dtype=float)
        if points.ndim != 2 or points.shape[1] != 2 or not np.isfinite(points).all():
            raise InputError(f"points of shape {points.shape} are not control points; give finite rows of x and z.")
        if not LEAST <= len(points) <= MOST:
            raise InputError(f"points has {len(points)} control points; a section takes {LEAST} to {MOST}.")
        points.setflags(write=False)
        object.__setattr__(self, "points", points)

    def __str__(self) -> str:
        return f"{self.name}: {len(self.points)} control points"

    @classmethod
    def fit(cls, foil: Airfoil, count: int = 15) -> "SplineAirfoil":
        """Control points of a section that is there, by least squares.

        Parameters
        ----------
        foil : Airfoil
            Section; its tail stays where it is.
        count : int, optional
            Number of control points.

        Notes
        -----
        With 15 points NACA sections are met within 5e-4 chords, with 21 within 1e-4; `distance_from` measures it.

        Examples
        --------
        >>> drawn = SplineAirfoil.fit(Airfoil.naca("4412"), 21)
        >>> drawn.distance_from(Airfoil.naca("4412")) < 3e-4
        True
        """
        count = whole("count", count, LEAST, MOST)
        s = np.linspace(0.0, foil.length, 401)
        # dense where the surface turns
        s = np.unique(np.r_[s, foil.nose_parameter + 0.05 * foil.chord * np.linspace(-1.0, 1.0, 101)])
        target = foil.curve(s)
        knots = _knots(count)
        t = _first_parameters(foil, s)
        for _ in range(CORRECTIONS):
            matrix = BSpline.design_matrix(np.clip(t, 0.0, 1.0), knots, 3).toarray()
            ends = matrix[:, :1] * target[0] + matrix[:, -1:] * target[-1]
            inner = np.linalg.lstsq(matrix[:, 1:-1], target - ends, rcond=None)[0]
            control = np.concatenate([target[:1], inner, target[-1:]])
            t = _closer_parameters(BSpline(knots, control, 3), t, target)
        return cls(control, foil.name)

    @classmethod
    @takes(path=PATH)
    def read(cls, path: "str | Path") -> "SplineAirfoil":
        """Read the control points of a section file that `write` wrote.

        Parameters
        ----------
        path : path
            File.

        Raises
        ------
        FileError
            The file cannot be read.
        InputError
            It holds no control points, or others than those of its coordinates.

        Examples
        --------
        >>> import tempfile
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     file = SplineAirfoil.fit(Airfoil.naca("0012")).write(f"{folder}/section.dat")
        ...     len(SplineAirfoil.read(file).points)
        15
        """
        path = Path(path)
        try:
            lines = path.read_text(encoding="utf-8").splitlines()
        except (OSError, UnicodeDecodeError) as cause:
            raise FileError(f"section file {str(path)!r} cannot be read: {cause}.") from None
        rows = [line[len(HEAD) :].split() for line in lines if line.startswith(HEAD)]
        if not rows:
            raise InputError(
                f"{path.name} has coordinates but no control points; fit some: SplineAirfoil.fit(Airfoil.read(...))."
            )
        try:
            made = cls(np.array([[float(x), float(z)] for x, z in rows]), lines[0].strip())
        except ValueError:
            raise InputError(f"{path.name}: a line {HEAD!r} does not end with x and z; repair or remove it.") from None
        written = Airfoil.read(path, "m").points
        if written.shape != made.airfoil.points.shape or np.abs(written - made.airfoil.points).max() > 1e-9:
            raise InputError(
                f"{path.name}: its coordinates are not those of its control points; one of them was changed by hand. "
                f"Read the coordinates with Airfoil.read, or remove them from the control points."
            )
        return made

    def write(self, path: "str | Path") -> Path:
        """Write a section file with its control points as comments; `Airfoil.read` takes it as any other.

        Parameters
        ----------
        path : path
            File.
        """
        path = Path(path)
        control = "\n".join(f"{HEAD} {x:.17g} {z:.17g}" for x, z in self.points)
        body = "\n".join(f"{x:.17g} {z:.17g}" for x, z in self.airfoil.points)
        write_text(path, f"{self.name}\n{control}\n{body}\n")
        return path

    # -- changes -------------------------------------------------------------------------------------------------------
    def with_point(self, index: int, x: float | None = None, z: float | None = None) -> "SplineAirfoil":
        """The section with a control point moved.

        Parameters
        ----------
        index : int
            Number of the point, 0 at the upper tail.
        x, z : float, optional
            New coordinates [m]; the old one without it.

        Examples
        --------
        >>> drawn = SplineAirfoil.fit(Airfoil.naca("0012"))
        >>> drawn.with_point(3, z=0.1).points[3, 1].item()
        0.1
        """
        index, points = self._index(index), self.points.copy()
        points[index] = [
            old if new is None else number(name, new)
            for name, new, old in (("x", x, points[index, 0]), ("z", z, points[index, 1]))
        ]
        return replace(self, points=points)

    def with_added_point(self, after: int) -> "SplineAirfoil":
        """The section with one more control point, half way to the next; the shape changes a little.

        Parameters
        ----------
        after : int
            Number of the point before it.
        """
        after = self._index(after)
        if after == len(self.points) - 1:
            raise InputError(f"after = {after} is the last control point; choose one with a point behind it.")
        middle = 0.5 * (self.points[after] + self.points[after + 1])
        return replace(self, points=np.insert(self.points, after + 1, middle, axis=0))

    def without_point(self, index: int) -> "SplineAirfoil":
        """The section without one of its inner control points.

        Parameters
        ----------
        index : int
            Number of the point.
        """
        index = self._index(index)
        if index in (0, len(self.points) - 1):
            raise InputError(f"index = {index} is a point of the tail, which stays; remove an inner one.")
        return replace(self, points=np.delete(self.points, index, axis=0))

    def _index(self, index: int) -> int:
        return whole("index", index, 0, len(self.points) - 1)

    # -- what it is ----------------------------------------------------------------------------------------------------
    @functools.cached_property
    def airfoil(self) -> Airfoil:
        """The section [m].

        Raises
        ------
        InputError
            The surfaces cross, or the section is otherwise none.
        """
        foil = Airfoil.from_control_points(self.points, self.name)
        crossing = _crossing(foil.points[::2])
        if crossing is not None:
            raise InputError(
                f"the surfaces of {self.name!r} cross at x = {crossing[0]:.3g} m, z = {crossing[1]:.3g} m; move the "
                f"control points of the upper and lower side apart."
            )
        return foil

    def distance_from(self, foil: Airfoil) -> float:
        """Largest distance of the section from another one [chords of it].

        Parameters
        ----------
        foil : Airfoil
            The other section.
        """
        from scipy.spatial import cKDTree

        dense = foil.curve(np.linspace(0.0, foil.length, 20001))
        own = self.airfoil.curve(np.linspace(0.0, self.airfoil.length, 1001))
        return float(cKDTree(dense).query(own)[0].max() / foil.chord)

    @functools.cached_property
    def shape_warnings(self) -> tuple[str, ...]:
        """Sentences on what makes the section a poor one: nose, tail, waves and jumps of curvature."""
        return shape_warnings(self.airfoil)


def shape_warnings(foil: Airfoil) -> tuple[str, ...]:
    """Sentences on what makes a section a poor one.

    Parameters
    ----------
    foil : Airfoil
        Section.

    Examples
    --------
    >>> shape_warnings(Airfoil.naca("2412"))
    ()
    """
    out, m = [], foil.measures
    if m.nose_radius > LARGEST_NOSE_RADIUS:
        out.append(
            f"the nose is flat, with a radius of {m.nose_radius:.2f} chords: its control points lie on one line; move "
            f"the foremost ahead"
        )
    elif m.nose_radius < LEAST_NOSE_RADIUS:
        out.append(
            f"the nose is sharp, with a radius of {m.nose_radius:.5f} chords: the flow separates there at small angles"
        )
    if m.tail_angle > 45.0:
        out.append(f"the tail angle of {m.tail_angle:.0f} deg is wide: the flow separates ahead of it")
    s = np.linspace(0.0, foil.length, 2001)
    first, second = foil.curve(s, 1), foil.curve(s, 2)
    bend = (first[:, 0] * second[:, 1] - first[:, 1] * second[:, 0]) / np.einsum("ij,ij->i", first, first) ** 1.5
    bend *= foil.chord
    ahead = np.abs(s - foil.nose_parameter) < BEHIND_NOSE * foil.chord
    near = int(np.ceil(0.01 * foil.chord / (s[1] - s[0])))
    for name, side in (("upper", s < foil.nose_parameter), ("lower", s > foil.nose_parameter)):
        own = np.flatnonzero(side & ~ahead)[near:-near]
        signs = np.sign(bend[own][np.abs(bend[own]) > 0.1 * LEAST_CURVATURE])
        turns = int((np.diff(signs) != 0).sum())
        if turns > INFLECTIONS:
            out.append(
                f"the {name} side has {turns} inflections: it is wavy; move its control points to a smooth curve"
            )
        jump = np.abs(bend[own[near:]] - bend[own[:-near]])
        size = np.maximum(np.maximum(np.abs(bend[own[near:]]), np.abs(bend[own[:-near]])), LEAST_CURVATURE)
        worst = int(np.argmax(jump / size))
        if jump[worst] > CURVATURE_STEP * size[worst]:
            x = float((foil.curve(s[own[worst : worst + 1]])[0] - foil.nose)[0] / foil.chord)
            out.append(
                f"the curvature of the {name} side jumps by {jump[worst]:.2g} / chord at x = {x:.2f} chords: pressures "
                f"have a kink there; space the control points evenly"
            )
    return tuple(out)


def _crossing(points: np.ndarray) -> np.ndarray | None:
    """Where a polyline crosses itself; None if it does not."""
    start, step = points[:-1], np.diff(points, axis=0)
    apart = start[None] - start[:, None]

    def cross(a, b):
        return a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]

    with np.errstate(divide="ignore", invalid="ignore"):
        bottom = cross(step[:, None], step[None])
        along, other = cross(apart, step[None]) / bottom, cross(apart, step[:, None]) / bottom
        inside = (along > 0.0) & (along < 1.0) & (other > 0.0) & (other < 1.0)
    number_of = np.arange(len(step))
    inside &= number_of[None] > number_of[:, None] + 1
    if not inside.any():
        return None
    first, _ = np.unravel_index(int(np.argmax(inside)), inside.shape)
    return start[first] + along.ravel()[int(np.argmax(inside))] * step[first]


def _knots(count: int) -> np.ndarray:
    """Clamped uniform knots, as `bspline_coordinates` has them."""
    return np.r_[np.zeros(3), np.linspace(0.0, 1.0, count - 2), np.ones(3)]


def _first_parameters(foil: Airfoil, s: np.ndarray) -> np.ndarray:
    """Parameters that give the nose more of the control points than its length."""
    first, second = foil.curve(s, 1), foil.curve(s, 2)
    bend = np.abs(first[:, 0] * second[:, 1] - first[:, 1] * second[:, 0]) * foil.chord
    density = 1.0 + np.sqrt(np.minimum(bend, 200.0))
    t = np.r_[0.0, np.cumsum(0.5 * (density[1:] + density[:-1]) * np.diff(s))]
    return t / t[-1]


def _closer_parameters(spline: BSpline, t: np.ndarray, target: np.ndarray) -> np.ndarray:
    """Parameters of the points of the spline that are closer to the targets: a Newton step, kept in order."""
    off, first, second = spline(t) - target, spline(t, 1), spline(t, 2)
    slope = np.einsum("ij,ij->i", first, first) + np.einsum("ij,ij->i", off, second)
    step = np.einsum("ij,ij->i", off, first) / np.where(slope > 0.0, slope, np.einsum("ij,ij->i", first, first))
    out = np.clip(t - np.clip(step, -0.02, 0.02), 0.0, 1.0)
    out[0], out[-1] = 0.0, 1.0
    return np.maximum.accumulate(out)
