"""The airfoil section: a closed or blunt-tailed curve through points, and everything one can ask of it."""

import functools
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.interpolate import CubicSpline

from zephyrum.air.checks import choice, number, whole
from zephyrum.errors import InputError
from zephyrum.shape.naca import naca_coordinates

DENSE = 401  # points that describe an analytic section


@dataclass(frozen=True, eq=False)
class Airfoil:
    """A section in its x-z plane.

    points (n, 2) [m or chords] run from the upper tail over the nose to the lower tail; they are joined by cubic
    splines between `corners` (indices of points where the slope may jump). `notes` tell what was recognised or changed
    on the way. InputError if the points can't be an airfoil.
    """

    points: np.ndarray
    name: str = "airfoil"
    corners: tuple[int, ...] = ()
    notes: tuple[str, ...] = field(default=())

    def __post_init__(self) -> None:
        points = np.array(self.points, dtype=float)
        if points.ndim != 2 or points.shape[1] != 2 or len(points) < 7:
            raise InputError(f"airfoil {self.name!r} has points of shape {points.shape}; give at least 7 rows of x and z.")
        if not np.isfinite(points).all():
            row = int(np.argmax(~np.isfinite(points).all(axis=1)))
            raise InputError(f"airfoil {self.name!r}: point {row} is not finite: {points[row]}.")
        if (np.linalg.norm(np.diff(points, axis=0), axis=1) == 0.0).any():
            row = int(np.argmax(np.linalg.norm(np.diff(points, axis=0), axis=1) == 0.0))
            raise InputError(f"airfoil {self.name!r}: points {row} and {row + 1} are the same; remove one.")
        if _signed_area(points) <= 0.0:
            raise InputError(
                f"airfoil {self.name!r} runs the wrong way round or encloses no area; its points must run from the upper "
                "tail over the nose to the lower tail (Airfoil.read sorts this out by itself)."
            )
        points.setflags(write=False)
        object.__setattr__(self, "points", points)

    # -- makers -----------------------------------------------------------------------------------------------
    @classmethod
    def naca(cls, digits: str, tail: str = "closed", n: int = DENSE) -> "Airfoil":
        """A NACA 4- or 5-digit section of unit chord; `tail` is "closed" or "blunt", `n` (odd) points."""
        choice("tail", tail, ("closed", "blunt"))
        n = whole("n", n, 21) // 2 * 2 + 1
        return cls(naca_coordinates(digits, n, tail), f"NACA {digits}")

    # -- the curve --------------------------------------------------------------------------------------------
    @functools.cached_property
    def _pieces(self) -> tuple[np.ndarray, list[tuple[float, float, CubicSpline]]]:
        s = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(self.points, axis=0), axis=1))]
        ends = [0, *sorted(self.corners), len(s) - 1]
        return s, [(s[a], s[b], CubicSpline(s[a : b + 1], self.points[a : b + 1])) for a, b in zip(ends[:-1], ends[1:])]

    @property
    def length(self) -> float:
        """Length of the curve's parameter: the polygon through the points [same unit as points]."""
        return float(self._pieces[0][-1])

    def curve(self, s: np.ndarray, derivative: int = 0) -> np.ndarray:
        """Points (m, 2) (or their derivative) at the parameter `s` (m,), from 0 (upper tail) to `length` (lower tail)."""
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
        """Parameters of the corners."""
        return self._pieces[0][list(self.corners)]

    @functools.cached_property
    def nose_parameter(self) -> float:
        """Parameter of the nose: the point farthest from the middle of the tail."""
        s = self._pieces[0]
        far = np.linalg.norm(self.points - self.tail, axis=1)
        k = int(np.clip(np.argmax(far), 1, len(s) - 2))
        low, high = s[k - 1], s[k + 1]
        for _ in range(80):
            a, b = low + 0.382 * (high - low), low + 0.618 * (high - low)
            ra, rb = np.linalg.norm(self.curve(np.array([a, b])) - self.tail, axis=1)
            low, high = (low, b) if ra > rb else (a, high)
        return 0.5 * (low + high)

    @property
    def tail(self) -> np.ndarray:
        """Middle of the tail (2,)."""
        return 0.5 * (self.points[0] + self.points[-1])

    @property
    def nose(self) -> np.ndarray:
        """Nose point (2,)."""
        return self.curve(self.nose_parameter)[0]

    @functools.cached_property
    def nose_radius(self) -> float:
        """Radius of curvature at the nose [same unit as points]."""
        s = self.nose_parameter
        (dx, dz), (ax, az) = self.curve(s, 1)[0], self.curve(s, 2)[0]
        bend = abs(dx * az - dz * ax) / (dx * dx + dz * dz) ** 1.5
        return min(1.0 / max(bend, 1e-12), 0.5 * self.chord)

    @property
    def chord(self) -> float:
        """Distance from the nose to the middle of the tail."""
        return float(np.linalg.norm(self.tail - self.nose))

    @property
    def gap(self) -> float:
        """Height of the blunt tail; 0 if the tail is closed."""
        return float(np.linalg.norm(self.points[0] - self.points[-1]))

    @property
    def is_blunt(self) -> bool:
        """Whether the tail has a base of noticeable height (above 1e-6 chord)."""
        return self.gap > 1e-6 * self.chord

    def renamed(self, name: str) -> "Airfoil":
        """The same section under another name."""
        return replace(self, name=name)


def _signed_area(points: np.ndarray) -> float:
    """Area inside the closed polygon, positive if it runs counter-clockwise (x right, z up)."""
    x, z = points.T
    return 0.5 * float(np.sum(x * np.roll(z, -1) - np.roll(x, -1) * z))
