"""What can be seen from a point of a surface: the direction that the least favourable of its triangles sees best.

Min-max directions after Pirzadeh (1994, AIAA J. 32:1735). A point that no direction sees all of sits on a fold: no
wall layer can start there. Verified by tests/test_remesh.py and tests/test_clipped.py.
"""

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.geometry.surface.remeshing_metric import ring_table
from zephyrum.geometry.surface.triangulation import Surface

HIDDEN_COSINE = 0.02  # least cosine to the triangles round a point at which they count as seen


@exact
def _visibility_directions(at, normals, start, around, flat):
    """Unit vectors that all triangles round the points `at` see as well as can be, and how well; in the plane y = 0
    where `flat`.
    """
    direction, seen = np.empty((len(at), 3)), np.empty(len(at))
    for i in range(len(at)):
        p = at[i]
        x = y = z = 0.0
        for k in range(start[p], start[p + 1]):
            t = around[k]
            x, y, z = x + normals[t, 0], y + normals[t, 1], z + normals[t, 2]
        if flat[p]:
            y = 0.0
        size = max(np.sqrt(x * x + y * y + z * z), 1e-30)
        x, y, z = x / size, y / size, z / size
        direction[i, 0], direction[i, 1], direction[i, 2] = x, y, z
        best, relaxation = -2.0, 0.5
        for _ in range(60):
            worst, least = 2.0, -1
            for k in range(start[p], start[p + 1]):
                t = around[k]
                c = x * normals[t, 0] + y * normals[t, 1] + z * normals[t, 2]
                if c < worst:
                    worst, least = c, t
            if worst > best + 1e-4:
                best = worst
                direction[i, 0], direction[i, 1], direction[i, 2] = x, y, z
            else:
                relaxation *= 0.8
            fraction = relaxation * (1.0 - worst)
            x, y, z = (
                x + fraction * normals[least, 0],
                y + fraction * normals[least, 1],
                z + fraction * normals[least, 2],
            )
            if flat[p]:
                y = 0.0
            size = max(np.sqrt(x * x + y * y + z * z), 1e-30)
            x, y, z = x / size, y / size, z / size
        seen[i] = best
    return direction, seen


def vertex_visibility(surface: Surface, at: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray, tuple]:
    """Direction at each point that the least favourable of its triangles sees best.

    Parameters
    ----------
    surface : Surface
        Surface.
    at : (k,) array, optional
        Points; all without it.

    Returns
    -------
    direction : (k, 3) array
        Unit vectors.
    cosine : (k,) array
        Least cosine to the normals of the triangles round each point.
    stars : tuple
        (start, triangles round the points, whether each lies on an open rim).

    Notes
    -----
    Directions of points on an open rim stay in the plane y = 0.

    Examples
    --------
    >>> from zephyrum import Body
    >>> direction, visibility, _ = vertex_visibility(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.01).welded())
    >>> bool(visibility.min() > 0.8)
    True
    """
    n = len(surface.points)
    start, around = ring_table(surface.triangles.copy(), n)
    flat = np.zeros(n, dtype=bool)
    flat[np.unique(surface.open_edges)] = True
    at = np.arange(n) if at is None else np.asarray(at, dtype=np.int64)
    direction, seen = _visibility_directions(at, np.ascontiguousarray(surface.normals), start, around, flat)
    return direction, seen, (start, around, flat)
