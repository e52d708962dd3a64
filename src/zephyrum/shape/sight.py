"""What can be seen from a point of a surface: the direction that the least favourable of its triangles sees best.

Min-max directions after Pirzadeh (1994, J. Aircraft 31:1). A point that no direction sees all of sits on a fold: no wall layer can
start there. Verified by tests/test_remesh.py and tests/test_clipped.py.
"""

import numpy as np
from numba import njit

from zephyrum.shape.remesh_forms import ring_table
from zephyrum.shape.surface import Surface

HIDDEN = 0.02  # least cosine to the triangles round a point at which they count as seen


@njit(cache=True, error_model="numpy")
def _ways(points, triangles, normals, start, around, flat):
    """Unit vectors that all triangles round a point see as well as can be; in the plane y = 0 where `flat`."""
    n = len(points)
    way, seen = np.zeros((n, 3)), np.empty(n)
    for p in range(n):
        v = np.zeros(3)
        for k in range(start[p], start[p + 1]):
            v += normals[around[k]]
        if flat[p]:
            v[1] = 0.0
        v /= max(np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]), 1e-30)
        best, kept = -2.0, v.copy()
        pull = 0.5
        for _ in range(60):
            worst, at = 2.0, -1
            for k in range(start[p], start[p + 1]):
                m = normals[around[k]]
                c = v[0] * m[0] + v[1] * m[1] + v[2] * m[2]
                if c < worst:
                    worst, at = c, around[k]
            if worst > best + 1e-4:
                best, kept = worst, v.copy()
            else:
                pull *= 0.8
            v = v + pull * (1.0 - worst) * normals[at]
            if flat[p]:
                v[1] = 0.0
            v /= max(np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2]), 1e-30)
        way[p], seen[p] = kept, best
    return way, seen


def sight(surface: Surface) -> tuple[np.ndarray, np.ndarray, tuple]:
    """(directions (n, 3), least cosine (n,) to the triangles round each point, (start, triangles round the points, on the open rim)).

    Directions of points on an open rim stay in the plane y = 0.
    """
    start, around = ring_table(surface.triangles, len(surface.points))
    flat = np.zeros(len(surface.points), dtype=bool)
    flat[np.unique(surface.open_edges)] = True
    way, seen = _ways(surface.points, surface.triangles, np.ascontiguousarray(surface.normals), start, around, flat)
    return way, seen, (start, around, flat)
