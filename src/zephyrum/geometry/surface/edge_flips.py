"""Edges of a surface flipped: replaced by the other diagonal of their two triangles.

Flips that lower the distance from the shape, or raise the quality of the triangles, make better triangulations of the
same points (Dyn, Levin and Rippa 1990, IMA Journal of Numerical Analysis, 10; Lawson 1977, Mathematical Software III).
Verified by tests/test_remesh.py.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from zephyrum.geometry.surface.triangulation import Surface

MIN_COSINE = 0.0  # between the normals of the two new triangles and the mean of the old ones
MIN_AREA = 0.1  # of the smaller one of the two old triangles


def flip_edges(
    surface: Surface,
    among: np.ndarray,
    gain: Callable[[np.ndarray, np.ndarray], np.ndarray],
    poor: Callable[[Surface], np.ndarray],
) -> Surface:
    """Flip edges where something is gained, those that gain most first.

    Parameters
    ----------
    surface : Surface
        Closed or open surface.
    among : (k,) array
        Edges that may be flipped.
    gain : callable
        Gain (n,) of flipping edges (n,) with corners (n, 4): the ends of each, then what is opposite to it in its two
        triangles. 0 and less where nothing is gained.
    poor : callable
        Gives the triangles of a surface that may not be: flips that make one are left out.

    Returns
    -------
    Surface

    Examples
    --------
    >>> corners = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.4], [1.0, 1.0, 0.0], [0.0, 1.0, 0.4]])
    >>> sheet = Surface(corners, np.array([[0, 1, 2], [0, 2, 3]]))
    >>> none = lambda surface: np.zeros(0, dtype=np.int64)
    >>> flip_edges(sheet, np.arange(5), lambda edges, corners: np.ones(len(edges)), none).triangles.tolist()
    [[1, 2, 3], [0, 1, 3]]
    """
    edges, pair, corners = _candidates(surface, among)
    value = gain(edges, corners)
    while True:
        flip = _independent(value, corners, len(surface.points))
        if not len(flip):
            return surface
        made = surface.triangles.copy()
        a, b, c, d = corners[flip].T
        made[pair[flip, 0]] = np.stack([a, d, c], axis=1)
        made[pair[flip, 1]] = np.stack([d, b, c], axis=1)
        flipped = replace(surface, triangles=made)
        bad = np.isin(pair[flip], poor(flipped)).any(axis=1)
        if not bad.any():
            return flipped
        value[flip[bad]] = 0.0


def triangle_quality(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
    """Quality of triangles with corners a, b and c (n, 3): 1 if equilateral, 0 if flat.

    Parameters
    ----------
    a, b, c : (n, 3) array
        Corners.

    Examples
    --------
    >>> corners = (np.array([[0.0, 0.0, 0.0]]), np.array([[1.0, 0.0, 0.0]]), np.array([[0.5, 0.75**0.5, 0.0]]))
    >>> triangle_quality(*corners).round(6).tolist()
    [1.0]
    """
    twice = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    squares = sum(np.einsum("ij,ij->i", side, side) for side in (b - a, c - b, a - c))
    return 2.0 * np.sqrt(3.0) * twice / np.maximum(squares, 1e-300)


def _candidates(surface: Surface, among: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Edges (k,) that can be flipped, their two triangles (k, 2) and corners (k, 4): ends, and what is opposite."""
    t, p = surface.triangles, surface.points
    edge = among[surface.edge_sides[among, 1] >= 0]
    side, pair = np.divmod(surface.edge_sides[edge], len(t))
    a, b, c = (t[pair[:, 0], (side[:, 0] + k) % 3] for k in range(3))
    d = t[pair[:, 1], (side[:, 1] + 2) % 3]
    new = np.sort(np.stack([c, d], axis=1), axis=1)
    keys = surface._edge_table[0].astype(np.int64) @ [len(p), 1]
    allowed = ~np.isin(new.astype(np.int64) @ [len(p), 1], keys)
    allowed &= surface.label[pair[:, 0]] == surface.label[pair[:, 1]]
    mean = surface.normals[pair].sum(axis=1)
    mean /= np.maximum(np.linalg.norm(mean, axis=1), 1e-300)[:, None]
    for i, j, k in ((a, d, c), (d, b, c)):
        normal = np.cross(p[j] - p[i], p[k] - p[i])
        twice = np.linalg.norm(normal, axis=1)
        allowed &= (np.einsum("ij,ij->i", normal, mean) > MIN_COSINE * twice) & (
            0.5 * twice > MIN_AREA * surface.areas[pair].min(axis=1)
        )
    return edge[allowed], pair[allowed], np.stack([a, b, c, d], axis=1)[allowed]


def _independent(gain: np.ndarray, corners: np.ndarray, n_points: int) -> np.ndarray:
    """Edges with a gain that share no corner, those of larger gain first."""
    chosen = []
    free = np.ones(n_points, dtype=bool)
    rest = np.flatnonzero(gain > 0.0)
    while len(rest):
        rank = np.empty(len(rest))
        rank[np.argsort(-gain[rest], kind="stable")] = np.arange(len(rest))
        first = np.full(n_points, np.inf)
        np.minimum.at(first, corners[rest], rank[:, None])
        top = rest[(first[corners[rest]] == rank[:, None]).all(axis=1)]
        chosen.append(top)
        free[corners[top]] = False
        rest = rest[free[corners[rest]].all(axis=1)]
    return np.sort(np.concatenate([np.zeros(0, dtype=np.int64), *chosen]))
