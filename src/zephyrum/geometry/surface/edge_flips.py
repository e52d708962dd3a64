"""Edges flipped where the other diagonal of their two triangles is nearer to the shape.

Flips that lower the distance from the shape make better triangulations of the same points (Dyn, Levin and Rippa 1990,
IMA Journal of Numerical Analysis, 10). Verified by tests/test_remesh.py.
"""

from dataclasses import replace

import numpy as np

from zephyrum.geometry.surface.triangulation import Surface

MIN_COSINE = 0.0  # between the normals of the two new triangles and the mean of the old ones
MIN_AREA = 0.1  # of the smaller one of the two old triangles
MAX_FRACTION = 0.7  # of the distance of the old diagonal: that of the new one


def flip_edges(surface: Surface, distance: np.ndarray, other_distance, fixed: np.ndarray, poor) -> Surface:
    """Flip edges that are farther from the shape than the other diagonals of their triangles.

    Parameters
    ----------
    surface : Surface
        Closed or open surface with e edges.
    distance : (e,) array
        Of the midpoint of each edge from the shape; 0 of those that stay.
    other_distance : callable
        Gives the same for pairs of points (k, 2).
    fixed : (e,) array
        Whether an edge lies on a feature line.
    poor : callable
        Gives the triangles of a surface that may not be: flips that make one are left out.

    Returns
    -------
    Surface

    Examples
    --------
    >>> corners = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.4], [1.0, 1.0, 0.0], [0.0, 1.0, 0.4]])
    >>> sheet = Surface(corners, np.array([[0, 1, 2], [0, 2, 3]]))
    >>> pairs = sheet._edge_table[0]
    >>> far = np.where((pairs == [0, 2]).all(axis=1), 0.4, 0.0)
    >>> none = lambda surface: np.zeros(0, dtype=np.int64)
    >>> made = flip_edges(sheet, far, lambda pairs: np.zeros(len(pairs)), np.zeros(len(far), dtype=bool), none)
    >>> made.triangles.tolist()
    [[1, 2, 3], [0, 1, 3]]
    """
    gain, pair, corners = _candidates(surface, distance, other_distance, fixed)
    while True:
        flip = _independent(gain, corners, len(surface.points))
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
        gain[flip[bad]] = 0.0


def edge_triangles(surface: Surface) -> tuple[np.ndarray, np.ndarray]:
    """Both triangles of each edge, and which of their sides it is.

    Parameters
    ----------
    surface : Surface
        Surface with e edges.

    Returns
    -------
    triangles : (e, 2) array
        -1 for the second one where an edge does not have two triangles.
    sides : (e, 2) array
        0 for corners 0 and 1, 1 for 1 and 2, 2 for 2 and 0.

    Examples
    --------
    >>> corners = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [1.0, 1.0, 0.0], [0.0, 1.0, 0.0]])
    >>> edge_triangles(Surface(corners, np.array([[0, 1, 2], [0, 2, 3]])))[0].tolist()
    [[0, -1], [1, 0], [1, -1], [0, -1], [1, -1]]
    """
    edges, which = surface._edge_table[:2]
    m = len(surface.triangles)
    order = np.argsort(which, kind="stable")
    count = np.bincount(which, minlength=len(edges))
    first = np.cumsum(count) - count
    half = order[np.minimum(first[:, None] + [0, 1], len(order) - 1)]
    pair = half % m
    pair[count != 2, 1] = -1
    return pair, half // m


def _candidates(surface: Surface, distance: np.ndarray, other_distance, fixed: np.ndarray):
    """How much nearer (k,) the other diagonals are, 0 where a flip is not allowed; both triangles (k, 2) of each edge
    and corners (k, 4): its ends, what is opposite to it in the first and in the second triangle.
    """
    t, p = surface.triangles, surface.points
    pair, side = edge_triangles(surface)
    edge = np.flatnonzero((pair[:, 1] >= 0) & (distance > 0.0) & ~fixed)
    pair, side = pair[edge], side[edge]
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
    other = other_distance(new)
    gain = np.where(allowed & (other < MAX_FRACTION * distance[edge]), distance[edge] - other, 0.0)
    return gain, pair, np.stack([a, b, c, d], axis=1)


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
