"""Closed curves in the x-z plane divided into edges: by curvature, finer at corners and in gaps, growing gently along
the curve.

Every curve is turned clockwise (x right, z up), so that the fluid lies on the left. Verified by tests/test_clipped.py.
"""

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial import cKDTree

from zephyrum.errors import InputError, MeshError
from zephyrum.geometry import Airfoil, Outline

CORNER_ANGLE = 30.0  # deg: a polygon that turns by more has a corner there
GROWTH = 0.12  # of the edge length along a curve
SAMPLE_COUNT = 3000


@dataclass(frozen=True, eq=False)
class Curve:
    """A curve divided into edges, clockwise.

    Attributes
    ----------
    name : str
        Name.
    points : (n, 2) array
        [m]
    corner : (n,) array
        Whether each point is a corner.
    size : (n,) array
        Wanted edge length [m].
    chord : float
        [m]
    nose : (2,) array
        [m]

    Examples
    --------
    >>> Curve("plate", np.zeros((4, 2)), np.ones(4, dtype=bool), np.full(4, 0.1), 1.0, np.zeros(2)).name
    'plate'
    """

    name: str
    points: np.ndarray
    corner: np.ndarray
    size: np.ndarray
    chord: float
    nose: np.ndarray


@dataclass(frozen=True, eq=False)
class SampledCurve:
    """A curve as smooth pieces, each a dense polygon, clockwise.

    Attributes
    ----------
    name : str
        Name.
    pieces : list[array]
        Polygons (m, 2) [m]; they share their ends.
    smooth : bool
        Whether it is closed without a corner.
    chord : float
        [m]
    nose : (2,) array
        [m]

    Examples
    --------
    >>> t = np.linspace(0.0, 2.0 * np.pi, 65)
    >>> circle = np.stack([np.cos(t), -np.sin(t)], axis=1)
    >>> SampledCurve("circle", [circle], True, 2.0, np.array([-1.0, 0.0])).points.shape
    (64, 2)
    """

    name: str
    pieces: list[np.ndarray]
    smooth: bool
    chord: float
    nose: np.ndarray

    @property
    def points(self) -> np.ndarray:
        """All points, each once."""
        return np.concatenate([piece[:-1] for piece in self.pieces])


def sampled_curve(name: str, shape: Any) -> SampledCurve:
    """Dense polygon of a body.

    Parameters
    ----------
    name : str
        Name of the body.
    shape : Airfoil, Outline or (n, 2) array
        x and z [m].

    Raises
    ------
    InputError
        The shape is none of them.

    Examples
    --------
    >>> import zephyrum as zy
    >>> round(sampled_curve("foil", zy.Airfoil.naca("0012")).chord, 6)
    1.0
    """
    if isinstance(shape, Airfoil):
        return _of_airfoil(name, shape)
    if isinstance(shape, Outline):
        half = shape.points(SAMPLE_COUNT // 2)
        loop = np.concatenate([(half * [1.0, -1.0])[:-1], half[::-1]]) + shape.position
        return SampledCurve(
            name, [loop], True, shape.length, np.array([shape.position[0] - 0.5 * shape.length, shape.position[1]])
        )
    points = np.asarray(shape, dtype=float) if not isinstance(shape, str) else np.zeros(0)
    if points.ndim != 2 or points.shape[1] != 2 or len(points) < 3 or not np.isfinite(points).all():
        raise InputError(
            f"body {name!r} should be an Airfoil, an Outline or an array of at least three points x, z [m]."
        )
    return _of_polygon(name, points)


def _of_airfoil(name: str, foil: Airfoil) -> SampledCurve:
    nose, end = foil.nose_parameter, foil.length
    near = np.geomspace(1e-6, 1.0, SAMPLE_COUNT // 3)
    s = np.concatenate([np.linspace(0.0, end, SAMPLE_COUNT), nose - nose * near, nose + (end - nose) * near])
    cuts = np.r_[0.0, foil.corner_parameters, end]
    pieces = []
    for a, b in itertools.pairwise(cuts):
        own = np.unique(np.r_[a, s[(s > a) & (s < b)], b])
        own = own[np.r_[True, np.diff(own) > 1e-9 * end]]
        own[-1] = b
        pieces.append(foil.curve(own)[::-1])
    pieces = pieces[::-1]
    if foil.is_blunt:
        pieces.append(np.linspace(foil.points[0], foil.points[-1], 65))
    else:
        pieces[0][0] = pieces[-1][-1] = foil.tail
    return SampledCurve(name, pieces, False, foil.chord, foil.nose)


def _of_polygon(name: str, points: np.ndarray) -> SampledCurve:
    if (points[0] == points[-1]).all():
        points = points[:-1]
    x, z = points.T
    area = 0.5 * float(np.sum(x * np.roll(z, -1) - np.roll(x, -1) * z))
    if area == 0.0:
        raise InputError(f"body {name!r} encloses no area.")
    if area > 0.0:
        points = points[::-1]
    step = np.roll(points, -1, axis=0) - points
    if (np.linalg.norm(step, axis=1) == 0.0).any():
        row = int(np.argmax(np.linalg.norm(step, axis=1) == 0.0))
        raise InputError(f"body {name!r} has the point {points[row]} twice in a row; remove one.")
    heading = np.arctan2(step[:, 1], step[:, 0])
    turn = np.abs((heading - np.roll(heading, 1) + np.pi) % (2.0 * np.pi) - np.pi)
    corners = np.flatnonzero(turn > np.radians(CORNER_ANGLE))
    low, high = points.min(axis=0), points.max(axis=0)
    chord, nose = float(high[0] - low[0]), np.array([low[0], points[np.argmin(points[:, 0]), 1]])
    if not len(corners):
        return SampledCurve(name, [_splined(np.concatenate([points, points[:1]]), True)], True, chord, nose)
    points = np.roll(points, -corners[0], axis=0)
    cuts = np.r_[corners - corners[0], len(points)]
    loop = np.concatenate([points, points[:1]])
    return SampledCurve(
        name, [_splined(loop[a : b + 1], False) for a, b in itertools.pairwise(cuts)], False, chord, nose
    )


def _splined(points: np.ndarray, closed: bool) -> np.ndarray:
    """A dense polygon through points; straight between two, else a cubic spline."""
    s = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))]
    dense_s = np.unique(np.r_[s, np.linspace(0.0, s[-1], SAMPLE_COUNT)])
    if len(points) < 4:
        return np.stack([np.interp(dense_s, s, points[:, k]) for k in (0, 1)], axis=1)
    out = CubicSpline(s, points, bc_type="periodic" if closed else "not-a-knot")(dense_s)
    out[0], out[-1] = points[0], points[-1]
    return out


def divide(
    curves: list[SampledCurve],
    sizes: dict[str, float],
    turn: float,
    sharpest: float,
    at_corners: float,
    gap_share: float,
    ground: float | None,
) -> list[Curve]:
    """Divide curves into edges.

    Parameters
    ----------
    curves : list[SampledCurve]
        Curves.
    sizes : dict[str, float]
        Longest edge [m] by name.
    turn : float
        Largest turn along an edge [rad].
    sharpest : float
        Fraction of the size below which curvature asks for no less.
    at_corners : float
        Fraction of the size at corners.
    gap_share : float
        Longest edge over the distance to another curve or to the ground.
    ground : float or None
        z of the ground [m].
    """
    out = []
    for k, curve in enumerate(curves):
        largest = sizes[curve.name]
        gap = distance_to_others(curve.points, curves, k, ground)
        if not gap.min() > 1e-9 * curve.chord:
            position = curve.points[np.argmin(gap)]
            raise MeshError(
                f"body {curve.name!r} touches another one or the ground at x, z = {position.round(6)} m; move them "
                f"apart."
            )
        begin, points, corner, wanted = 0, [], [], []
        for piece in curve.pieces:
            m = len(piece) - 1
            near = np.r_[gap[begin : begin + m], gap[(begin + m) % len(gap)]]
            begin += m
            edge = np.linalg.norm(np.diff(piece, axis=0), axis=1)
            s = np.r_[0.0, np.cumsum(edge)]
            curvature = _curvature(piece, s, curve.smooth)
            h = np.minimum(np.clip(turn / np.maximum(curvature, 1e-12), sharpest * largest, largest), gap_share * near)
            if not curve.smooth:
                short = min(at_corners * largest, 0.5 * s[-1])
                h[0], h[-1] = min(h[0], short), min(h[-1], short)
            h = limit_growth(s, h, GROWTH, curve.smooth)
            count = np.r_[0.0, np.cumsum(edge * 0.5 * (1.0 / h[1:] + 1.0 / h[:-1]))]
            n = max(2 if not curve.smooth else 12, round(float(count[-1])))
            at = np.interp(np.linspace(0.0, count[-1], n + 1), count, s)
            points.append(np.stack([np.interp(at, s, piece[:, d]) for d in (0, 1)], axis=1)[:-1])
            wanted.append(np.interp(at, s, h)[:-1])
            corner.append(np.r_[not curve.smooth, np.zeros(n - 1, dtype=bool)])
        out.append(
            Curve(
                curve.name,
                np.concatenate(points),
                np.concatenate(corner).astype(bool),
                np.concatenate(wanted),
                curve.chord,
                curve.nose,
            )
        )
    return out


def distance_to_others(points: np.ndarray, curves: list[SampledCurve], own: int, ground: float | None) -> np.ndarray:
    """Distance of points from all curves but one, and from the ground.

    Parameters
    ----------
    points : (n, 2) array
        [m]
    curves : list[SampledCurve]
        Curves.
    own : int
        Number of the curve that is left out.
    ground : float or None
        z of the ground [m].

    Returns
    -------
    (n,) array
        [m]
    """
    out = np.full(len(points), np.inf)
    for k, other in enumerate(curves):
        if k != own:
            out = np.minimum(out, cKDTree(other.points).query(points)[0])
    return out if ground is None else np.minimum(out, points[:, 1] - ground)


def _curvature(piece: np.ndarray, s: np.ndarray, closed: bool) -> np.ndarray:
    """(m,) curvature [1/m] along a dense polygon."""
    step = np.diff(piece, axis=0)
    heading = np.unwrap(np.arctan2(step[:, 1], step[:, 0]))
    midpoint = 0.5 * (s[1:] + s[:-1])
    curvature = np.abs(np.diff(heading) / np.diff(midpoint))
    if closed:
        last = (heading[0] - heading[-1] + np.pi) % (2.0 * np.pi) - np.pi
        ends = abs(last) / (0.5 * (s[1] - s[0] + s[-1] - s[-2]))
        return np.r_[ends, curvature, ends]
    return np.r_[curvature[:1], curvature, curvature[-1:]] if len(curvature) else np.zeros(len(s))


def limit_growth(s: np.ndarray, h: np.ndarray, growth: float, closed: bool) -> np.ndarray:
    """Limit the growth of sizes along a curve.

    Parameters
    ----------
    s : (n,) array
        Positions [m].
    h : (n,) array
        Sizes [m].
    growth : float
        Largest change of size over distance.
    closed : bool
        Whether the curve is closed.

    Returns
    -------
    (n,) array
        [m]

    Examples
    --------
    >>> limit_growth(np.array([0.0, 1.0]), np.array([0.1, 1.0]), 0.2, False).round(6).tolist()
    [0.1, 0.3]
    """
    if closed:
        length = s[-1]
        s3 = np.concatenate([s[:-1] - length, s, s[1:] + length])
        h3 = np.concatenate([h[:-1], h, h[1:]])
        return limit_growth(s3, h3, growth, False)[len(s) - 1 : 2 * len(s) - 1]
    forward = np.minimum.accumulate(h - growth * s) + growth * s
    return np.minimum(forward, (np.minimum.accumulate((h + growth * s)[::-1]))[::-1] - growth * s)
