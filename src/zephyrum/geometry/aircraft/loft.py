"""Lofts: rings of points joined to a closed triangulation, and how densely to place them.

Spacing follows the curvature so that no chord of the curve lies farther from it than a tolerance (sagitta h^2 k / 8),
grows by a limited ratio, and is exact at given positions. Verified by tests/test_wings.py and tests/test_bodies.py.
"""

import itertools

import numpy as np

from zephyrum.errors import InputError
from zephyrum.geometry.surface.triangulation import Surface

GROWTH = 1.35  # ratio of neighbouring spacings


def positions(
    t: np.ndarray,
    spacing: np.ndarray,
    length: np.ndarray,
    fixed: np.ndarray | tuple[float, ...] = (),
    even: bool = False,
) -> np.ndarray:
    """Place points along a curve.

    Parameters
    ----------
    t : (n,) array
        Parameter of the curve.
    spacing : (n,) array
        Largest distance allowed at each t [m].
    length : (n,) array
        Arc length up to each t [m].
    fixed : array or tuple[float, ...], optional
        Values of t that become points.
    even : bool, optional
        Whether to return an even count of intervals.

    Returns
    -------
    array
        Values of t at the points.

    Examples
    --------
    >>> t = np.linspace(0.0, 1.0, 11)
    >>> positions(t, np.full(11, 0.3), t)
    array([0.  , 0.25, 0.5 , 0.75, 1.  ])
    """
    s = np.asarray(length, dtype=float)
    h = np.array(spacing, dtype=float)
    growth = np.log(GROWTH)  # a spacing may grow by this much over its own length
    for k in range(1, len(h)):
        h[k] = min(h[k], h[k - 1] + growth * (s[k] - s[k - 1]))
    for k in range(len(h) - 2, -1, -1):
        h[k] = min(h[k], h[k + 1] + growth * (s[k + 1] - s[k]))
    count = np.r_[0.0, np.cumsum(np.diff(s) * 0.5 * (1.0 / h[1:] + 1.0 / h[:-1]))]
    ends = np.unique(np.clip(np.r_[t[0], fixed, t[-1]], t[0], t[-1]))
    out = [ends[:1]]
    for low, high in itertools.pairwise(ends):
        a, b = np.interp([low, high], t, count)
        n = max(1, int(np.ceil(b - a - 1e-9)))
        n += n % 2 if even else 0
        part = np.interp(np.linspace(a, b, n + 1), count, t)
        part[[0, -1]] = low, high
        out.append(part[1:])
    return np.concatenate(out)


def sagitta_spacing(curve: np.ndarray, tolerance: float, largest: float) -> tuple[np.ndarray, np.ndarray]:
    """Largest spacing of points along a polyline for a given sagitta.

    Parameters
    ----------
    curve : (n, d) array
        Dense polyline [m].
    tolerance : float
        Sagitta [m].
    largest : float
        Upper bound of the spacing [m].

    Returns
    -------
    spacing : (n,) array
        [m]
    length : (n,) array
        Arc length [m].

    Examples
    --------
    >>> angle = np.linspace(0.0, np.pi, 181)
    >>> circle = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    >>> spacing, length = sagitta_spacing(circle, 1e-3, 1.0)
    >>> round(float(spacing[90]), 3)  # sqrt(8 r sagitta)
    0.089
    """
    step = np.linalg.norm(np.diff(curve, axis=0), axis=1)
    s = np.r_[0.0, np.cumsum(np.maximum(step, 1e-15))]
    along = np.diff(curve, axis=0) / np.maximum(step, 1e-15)[:, None]
    turn = np.linalg.norm(np.diff(along, axis=0), axis=1)
    curvature = turn / (0.5 * (step[1:] + step[:-1]) + 1e-15)
    curvature = np.r_[curvature[:1], curvature, curvature[-1:]]
    h = np.sqrt(8.0 * tolerance / np.maximum(curvature, 1e-9))
    return np.minimum(h, largest), s


def grid_triangles(m: int, n: int, points: np.ndarray, wrap: bool) -> tuple[np.ndarray, np.ndarray]:
    """Triangles of a grid of rings, quadrilaterals split by the shorter diagonal.

    Parameters
    ----------
    m : int
        Number of rings.
    n : int
        Points of a ring.
    points : (m n, 3) array
        [m]
    wrap : bool
        Whether the rings are closed.

    Returns
    -------
    triangles : (k, 3) array
    quad : (k,) array
        Quadrilateral of each triangle.

    Notes
    -----
    Quadrilaterals are numbered ring by ring, n of them in a ring if it wraps round, else n - 1.

    Examples
    --------
    >>> points = np.array([[i, j, 0.0] for i in range(2) for j in range(3)])
    >>> triangles, strip = grid_triangles(2, 3, points, wrap=False)
    >>> len(triangles)
    4
    """
    k, j = np.meshgrid(np.arange(m - 1), np.arange(n if wrap else n - 1), indexing="ij")
    k, j = k.ravel(), j.ravel()
    after = (j + 1) % n
    a, b, c, d = k * n + j, k * n + after, (k + 1) * n + after, (k + 1) * n + j
    first = np.linalg.norm(points[a] - points[c], axis=1) <= np.linalg.norm(points[b] - points[d], axis=1)
    one = np.where(first[:, None], np.stack([a, b, c], 1), np.stack([a, b, d], 1))
    two = np.where(first[:, None], np.stack([a, c, d], 1), np.stack([b, c, d], 1))
    return np.stack([one, two], axis=1).reshape(-1, 3), np.repeat(np.arange(len(a)), 2)


def lofted(
    rings: np.ndarray,
    faces: np.ndarray,
    name: str,
    caps: tuple[str | None, str | None] = (None, None),
    fan: bool = False,
    closed: bool = False,
) -> Surface:
    """Closed surface through rings of points.

    Parameters
    ----------
    rings : (m, n, 3) array
        Closed loops of points [m].
    faces : (m - 1, n) array
        Labels of the strips between ring k and k + 1, side j from point j to j + 1.
    name : str
        Name of the surface.
    caps : tuple[str | None, str | None], optional
        Label of the flat face on the first and the last ring, None where the ring has shrunk to a point or a line.
    fan : bool, optional
        Whether flat faces are triangles about their centre.
    closed : bool, optional
        Whether the last ring joins the first.

    Notes
    -----
    Flat faces are strips between opposite points of the ring, or triangles about its centre.

    Examples
    --------
    >>> ring = np.array([[0.0, 1.0, 1.0], [0.0, -1.0, 1.0], [0.0, -1.0, -1.0], [0.0, 1.0, -1.0]])
    >>> rings = np.stack([ring, ring + [2.0, 0.0, 0.0]])
    >>> tube = lofted(rings, np.zeros((1, 4), dtype=object), "tube", caps=("front", "back"))
    >>> tube.watertight
    True
    """
    rings = np.asarray(rings, dtype=float)
    m, n = rings.shape[:2]
    points = rings.reshape(-1, 3)
    if closed:
        points = np.concatenate([points, rings[0]])
        m += 1
    triangles, quad = grid_triangles(m, n, points, wrap=True)
    names = np.asarray(faces, dtype=object).ravel()[quad]
    pieces, labels = [triangles], [names]
    for label, at, turn in ((caps[0], 0, True), (caps[1], m - 1, False)):
        if label is None:
            continue
        ring = at * n + np.arange(n)
        if fan:
            centre = len(points)
            points = np.concatenate([points, points[ring].mean(axis=0)[None]])
            cap = np.stack([np.full(n, centre), ring, np.roll(ring, -1)], axis=1)
        else:
            cap = _strip(ring, points)
        pieces.append(cap[:, ::-1] if turn else cap)
        labels.append(np.full(len(cap), label, dtype=object))
    made = Surface(points, np.concatenate(pieces), name=name).labelled(np.concatenate(labels)).welded().outward()
    if not made.watertight:
        position = made.points[made.open_edges[0]].mean(axis=0) if len(made.open_edges) else made.midpoint
        raise InputError(
            f"{name}: the surface does not close near {np.round(position, 4)}; look at sections that cross there."
        )
    return made


def _strip(ring: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Triangles (k, 3) of the face inside a loop: strips between its points i and n - 1 - i."""
    n = len(ring)
    out = []
    i, j = 0, n - 1
    while j - i > 1:
        a, b, c, d = ring[i], ring[i + 1], ring[j - 1], ring[j]
        if j - i == 2:
            out.append((a, b, d))
            break
        if np.linalg.norm(points[a] - points[c]) <= np.linalg.norm(points[b] - points[d]):
            out += [(a, b, c), (a, c, d)]
        else:
            out += [(a, b, d), (b, c, d)]
        i, j = i + 1, j - 1
    return np.array(out)
