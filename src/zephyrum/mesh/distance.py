"""Exact distance from points to the faces of a wall.

A tree over the face centroids proposes the nearest few; the search widens for those points where a farther centroid
could still belong to a nearer face, so the answer is exact. Distance to a triangle after Ericson (2005), Real-Time
Collision Detection, ch. 5. Verified by tests/test_viscous.py (circle, box, brute force).
"""

import numpy as np
from scipy.spatial import cKDTree

FIRST = 4  # faces looked at before the search widens


def distance_to_faces(
    points: np.ndarray, corners: np.ndarray, start: np.ndarray, faces: np.ndarray, flat: bool
) -> np.ndarray:
    """(n,) distances [m] of `points` (n, 3) from polygons.

    corners (m, 3): the points of all faces one after the other, start: CSR; faces: indices of the wall faces; flat: two
    dimensions, where a face is the segment that its points span in the x-z plane.
    """
    if not len(faces):
        return np.full(len(points), np.inf)
    a, b, c = _triangles(corners, start, faces, flat)
    middle = (a + b + c) / 3.0
    radius = np.sqrt(np.max([np.sum((p - middle) ** 2, axis=1) for p in (a, b, c)], axis=0)).max()
    tree = cKDTree(middle)
    out = np.full(len(points), np.inf)
    todo, many = np.arange(len(points)), min(FIRST, len(a))
    while len(todo):
        far, near = tree.query(points[todo], k=many)
        far, near = far.reshape(len(todo), many), near.reshape(len(todo), many)
        p = np.repeat(points[todo], many, axis=0)
        k = near.ravel()
        found = (_to_segment(p, a[k], b[k]) if flat else _to_triangle(p, a[k], b[k], c[k])).reshape(far.shape)
        out[todo] = found.min(axis=1)
        # a face whose centroid is farther than this can't be nearer than what was found
        open_ = far[:, -1] - radius < out[todo]
        if many == len(a):
            break
        todo, many = todo[open_], min(2 * many, len(a))
    return out


def _triangles(corners, start, faces, flat):
    """Corners (m, 3) x 3 of the triangles that make up the faces (a fan each); in two dimensions segments, c = b."""
    if flat:
        first = corners[start[faces]] * [1.0, 0.0, 1.0]
        rest = [corners[start[faces] + k] * [1.0, 0.0, 1.0] for k in (1, 2, 3)]
        far = np.argmax([np.sum((r - first) ** 2, axis=1) for r in rest], axis=0)
        last = np.choose(far[:, None], rest)
        return first, last, 0.5 * (first + last)
    counts = np.diff(start)[faces]
    many = counts > 3  # about their mean: they may be warped
    pieces = np.where(many, counts, 1)
    owner = np.repeat(np.arange(len(faces)), pieces)
    step = np.arange(len(owner)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    first, count = start[faces][owner], counts[owner]
    every = np.repeat(np.arange(len(faces)), counts)
    within = np.arange(len(every)) - np.repeat(np.cumsum(counts) - counts, counts)
    own = corners[np.repeat(start[faces], counts) + within]
    mean = np.stack([np.bincount(every, own[:, k], len(faces)) for k in range(3)], axis=1) / counts[:, None]
    last = np.where(many[owner, None], mean[owner], corners[first + (step + 2) % count])
    return corners[first + step], corners[first + (step + 1) % count], last


def _to_segment(p, a, b):
    d = b - a
    t = np.clip(_dot(p - a, d) / np.maximum(_dot(d, d), 1e-300), 0.0, 1.0)
    return np.linalg.norm(p - a - t[:, None] * d, axis=1)


def _to_triangle(p, a, b, c):
    edges = np.minimum(np.minimum(_to_segment(p, a, b), _to_segment(p, b, c)), _to_segment(p, c, a))
    n = np.cross(b - a, c - a)
    length = np.maximum(np.linalg.norm(n, axis=1), 1e-300)
    inside = np.ones(len(p), dtype=bool)
    for first, second in ((a, b), (b, c), (c, a)):
        inside &= _dot(np.cross(second - first, p - first), n) >= 0.0
    return np.where(inside, np.abs(_dot(p - a, n)) / length, edges)


def _dot(a, b):
    return np.einsum("ij,ij->i", a, b)
