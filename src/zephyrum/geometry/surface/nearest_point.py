"""The nearest point of triangles, by a tree of boxes: of a surface, or on one patch of it only.

Nearest point of a triangle after Ericson (2005), Real-Time Collision Detection, ch. 5. Verified by tests/test_remesh.py
and tests/test_viscous.py.
"""

import numpy as np

from zephyrum._core.jit import exact, exact_parallel, prange, read_only
from zephyrum.geometry.surface.self_intersection import box_tree


@exact
def nearest_on_triangle(
    p: np.ndarray, points: np.ndarray, i: int, j: int, k: int, out: np.ndarray, fraction: np.ndarray
):
    """Nearest point of a triangle.

    Parameters
    ----------
    p : (3,) array
        Position [m].
    points : (n, 3) array
        [m]
    i, j, k : int
        Corners of the triangle.
    out : (3,) array
        Written: the nearest point [m].
    fraction : (3,) array
        Written: its barycentric coordinates.

    Returns
    -------
    float
        Squared distance [m^2].

    Notes
    -----
    Its nearest point goes into out (3,), the fractions of the corners into fraction (3,).
    """
    ax, ay, az = points[i, 0], points[i, 1], points[i, 2]
    ux, uy, uz = points[j, 0] - ax, points[j, 1] - ay, points[j, 2] - az
    vx, vy, vz = points[k, 0] - ax, points[k, 1] - ay, points[k, 2] - az
    x, y, z = p[0] - ax, p[1] - ay, p[2] - az
    d1, d2 = ux * x + uy * y + uz * z, vx * x + vy * y + vz * z
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    d3, d4, d5, d6 = d1 - uu, d2 - uv, d1 - uv, d2 - vv
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    v, w = 0.0, 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        pass
    elif d3 >= 0.0 and d4 <= d3:
        v = 1.0
    elif d6 >= 0.0 and d5 <= d6:
        w = 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v = d1 / (d1 - d3)
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w = d2 / (d2 - d6)
    elif va <= 0.0 and d4 >= d3 and d5 >= d6:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        v = 1.0 - w
    else:
        whole = va + vb + vc
        if whole > 0.0:
            v, w = vb / whole, vc / whole
    fraction[0], fraction[1], fraction[2] = 1.0 - v - w, v, w
    x, y, z = x - v * ux - w * vx, y - v * uy - w * vy, z - v * uz - w * vz
    out[0], out[1], out[2] = p[0] - x, p[1] - y, p[2] - z
    return x * x + y * y + z * z


@exact
def patch_marks(patches: np.ndarray, order: np.ndarray, child: np.ndarray, span: np.ndarray):
    """Patches that have triangles in each node of a tree of boxes.

    Parameters
    ----------
    patches : (t,) array
        Patch of each triangle.
    order, child, span : array
        As in `BoxTree`.

    Returns
    -------
    (nodes,) array
        Bit k stands for all patches that leave k over 64.
    """
    marks = np.zeros(len(span), dtype=np.int64)
    for node in range(len(span) - 1, -1, -1):  # children come after their parents
        if child[node, 0] >= 0:
            marks[node] = marks[child[node, 0]] | marks[child[node, 1]]
            continue
        for k in range(span[node, 0], span[node, 1]):
            marks[node] |= 1 << (patches[order[k]] & 63)
    return marks


@exact
def nearest(p: np.ndarray, patch: int, surface: tuple, tree: tuple, out: np.ndarray, fraction: np.ndarray):
    """Nearest point of a surface to a position.

    Parameters
    ----------
    p : (3,) array
        Position [m].
    patch : int
        Only triangles of this patch; any if negative.
    surface : tuple
        (points, triangles, patches).
    tree : tuple
        That of `box_tree` with `patch_marks`.
    out : (3,) array
        Written: the nearest point [m].
    fraction : (3,) array
        Written: its barycentric coordinates.

    Returns
    -------
    triangle : int
    squared_distance : float
        [m^2]
    """
    points, triangles, patches = surface
    order, bounds, child, span, marks = tree
    best, found = np.inf, -1
    stack = np.empty(128, dtype=np.int64)
    location, part = np.empty(3), np.empty(3)
    stack[0], top = 0, 1
    while top > 0:
        top -= 1
        node = stack[top]
        if patch >= 0 and not marks[node] >> (patch & 63) & 1:
            continue
        away = 0.0
        for d in range(3):
            gap = max(bounds[node, d] - p[d], p[d] - bounds[node, 3 + d], 0.0)
            away += gap * gap
        if away >= best:
            continue
        if child[node, 0] >= 0:
            # the nearer child last, so that it is looked at first
            nearer = 0.0
            for d in range(3):
                gap = max(bounds[child[node, 0], d] - p[d], p[d] - bounds[child[node, 0], 3 + d], 0.0)
                nearer += gap * gap
                gap = max(bounds[child[node, 1], d] - p[d], p[d] - bounds[child[node, 1], 3 + d], 0.0)
                nearer -= gap * gap
            first = 1 if nearer <= 0.0 else 0
            stack[top], stack[top + 1] = child[node, first], child[node, 1 - first]
            top += 2
            continue
        for k in range(span[node, 0], span[node, 1]):
            t = order[k]
            if patch >= 0 and patches[t] != patch:
                continue
            far = nearest_on_triangle(p, points, triangles[t, 0], triangles[t, 1], triangles[t, 2], location, part)
            if far < best:
                best, found = far, t
                for d in range(3):
                    out[d], fraction[d] = location[d], part[d]
    return found, best


@exact_parallel
def _projected(queries, points, triangles, tree):
    order, bounds, child, span = tree
    found, far = np.empty((len(queries), 3)), np.empty(len(queries))
    whole = np.int64(-1)
    for i in prange(len(queries)):
        fraction = np.empty(3)
        squared = nearest(
            queries[i], whole, (points, triangles, order), (order, bounds, child, span, order), found[i], fraction
        )[1]
        far[i] = np.sqrt(squared)
    return found, far


def projected(queries: np.ndarray, points: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Nearest points on triangles, and their distances.

    Parameters
    ----------
    queries : (n, 3) array
        Positions [m].
    points : (p, 3) array
        [m]
    triangles : (m, 3) array
        Point triples, at least one.

    Returns
    -------
    points : (n, 3) array
        [m]
    distances : (n,) array
        [m]

    Examples
    --------
    >>> corners = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    >>> points, far = projected(np.array([[0.25, 0.25, 0.5]]), corners, np.array([[0, 1, 2]]))
    >>> points.tolist(), far.tolist()
    ([[0.25, 0.25, 0.0]], [0.5])
    """
    corners = points[triangles]
    tree = box_tree(corners.min(axis=1), corners.max(axis=1))
    return _projected(np.ascontiguousarray(queries, dtype=float), read_only(points), read_only(triangles), tree)


def distances(queries: np.ndarray, points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Distances of positions from triangles.

    Parameters
    ----------
    queries : (n, 3) array
        Positions [m].
    points : (p, 3) array
        [m]
    triangles : (m, 3) array
        Point triples.

    Returns
    -------
    (n,) array
        [m]; infinite without triangles.

    Notes
    -----
    A triangle with two equal corners is a line.

    Examples
    --------
    >>> corners = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    >>> distances(np.array([[0.2, 0.2, 0.5]]), corners, np.array([[0, 1, 2]]))
    array([0.5])
    """
    if not len(triangles):
        return np.full(len(queries), np.inf)
    return projected(queries, points, triangles)[1]
