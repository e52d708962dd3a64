"""What remeshing measures: lengths and qualities in a metric, rings of triangles, and positions on the original.

A metric is one symmetric tensor a point, kept as its six numbers, in which every edge should be 1 long (Frey and George
2008, Mesh Generation, ch. 10 and 18). Verified by tests/test_remesh.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.geometry.surface.nearest_point import nearest

# of the short size: how far new triangles may lie from the original, and from a point that they lose
MAX_DEVIATION = 0.15


@exact
def quadratic_form(m: np.ndarray, x: float, y: float, z: float, u: float, v: float, w: float):
    """x^T M u of a symmetric tensor.

    Parameters
    ----------
    m : (6,) array
        xx, yy, zz, xy, xz, yz.
    x, y, z : float
        First vector.
    u, v, w : float
        Second vector.

    Examples
    --------
    >>> m = np.array([1.0, 4.0, 9.0, 0.0, 0.0, 0.0])
    >>> quadratic_form(m, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0)
    14.0
    """
    return (
        m[0] * x * u
        + m[1] * y * v
        + m[2] * z * w
        + m[3] * (x * v + y * u)
        + m[4] * (x * w + z * u)
        + m[5] * (y * w + z * v)
    )


@exact
def edge_length(P: np.ndarray, M: np.ndarray, a: int, b: int):
    """Length of an edge in the mean of the metrics at its ends.

    Parameters
    ----------
    P : (n, 3) array
        Points [m].
    M : (n, 6) array
        Metrics.
    a, b : int
        Ends.

    Examples
    --------
    >>> points = np.array([[0.0, 0.0, 0.0], [0.2, 0.0, 0.0]])
    >>> metric = np.tile([100.0, 100.0, 100.0, 0.0, 0.0, 0.0], (2, 1))  # wanted size 0.1 m
    >>> round(edge_length(points, metric, 0, 1), 6)
    2.0
    """
    x, y, z = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
    return np.sqrt(max(0.5 * (quadratic_form(M[a], x, y, z, x, y, z) + quadratic_form(M[b], x, y, z, x, y, z)), 0.0))


@exact
def metric_radius(m: np.ndarray):
    """Distance by which a step may leave the surface: a fraction of the short size.

    Parameters
    ----------
    m : (6,) array
        Metric.

    Returns
    -------
    float
        [m]
    """
    return MAX_DEVIATION * np.sqrt(2.0 / (m[0] + m[1] + m[2]))


@exact
def quality(P: np.ndarray, M: np.ndarray, a: int, b: int, c: int):
    """Quality of a triangle in the mean metric of its corners.

    Parameters
    ----------
    P : (n, 3) array
        Points [m].
    M : (n, 6) array
        Metrics.
    a, b, c : int
        Corners.

    Notes
    -----
    4 sqrt(3) area / sum of squared sides: 1 for the ideal triangle, 0 for a line.

    Examples
    --------
    >>> points = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.5, 0.75**0.5, 0.0]])
    >>> metric = np.tile([1.0, 1.0, 1.0, 0.0, 0.0, 0.0], (3, 1))
    >>> round(quality(points, metric, 0, 1, 2), 6)
    1.0
    """
    x, y, z = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
    u, v, w = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
    uu = vv = uv = 0.0
    for t in (a, b, c):
        uu += quadratic_form(M[t], x, y, z, x, y, z)
        vv += quadratic_form(M[t], u, v, w, u, v, w)
        uv += quadratic_form(M[t], x, y, z, u, v, w)
    ww = uu + vv - 2.0 * uv
    # 4 sqrt(3) / 2 sqrt(det) over the sum of squares, thirds cancelling
    return 3.4641016151377544 * np.sqrt(max(uu * vv - uv * uv, 0.0)) / max(uu + vv + ww, 1e-300)


@exact
def normal(P: np.ndarray, a: int, b: int, c: int, out: np.ndarray):
    """Unit normal of a triangle.

    Parameters
    ----------
    P : (n, 3) array
        Points [m].
    a, b, c : int
        Corners.
    out : (3,) array
        Written: the unit normal.

    Returns
    -------
    float
        Twice the area [m^2].

    Examples
    --------
    >>> points = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    >>> out = np.empty(3)
    >>> normal(points, 0, 1, 2, out), out
    (1.0, array([0., 0., 1.]))
    """
    ux, uy, uz = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
    vx, vy, vz = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
    out[0], out[1], out[2] = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2)
    if size > 0.0:
        for k in range(3):
            out[k] /= size
    return size


@exact
def ring_table(T: np.ndarray, n: int):
    """Triangles round each point, in compressed rows.

    Parameters
    ----------
    T : (t, 3) array
        Triangles; those with a negative corner are left out.
    n : int
        Number of points.

    Returns
    -------
    start : (n + 1,) array
    triangle : array of int

    Examples
    --------
    >>> start, triangle = ring_table(np.array([[0, 1, 2], [0, 2, 3]]), 4)
    >>> np.diff(start)  # triangles at each point
    array([2, 1, 2, 1])
    """
    start = np.zeros(n + 1, dtype=np.int64)
    for t in range(len(T)):
        if T[t, 0] >= 0:
            for k in range(3):
                start[T[t, k] + 1] += 1
    for i in range(n):
        start[i + 1] += start[i]
    fill = start[:-1].copy()
    out = np.empty(start[n], dtype=np.int64)
    for t in range(len(T)):
        if T[t, 0] >= 0:
            for k in range(3):
                p = T[t, k]
                out[fill[p]] = t
                fill[p] += 1
    return start, out


@exact
def edges_of(T: np.ndarray, n: int):
    """Edges of triangles, the lower point first, rising.

    Parameters
    ----------
    T : (t, 3) array
        Triangles; those with a negative corner are left out.
    n : int
        Number of points.

    Returns
    -------
    (k, 2) array

    Examples
    --------
    >>> len(edges_of(np.array([[0, 1, 2], [0, 2, 3]]), 4))
    5
    """
    start, around = ring_table(T, n)
    out = np.empty((start[n], 2), dtype=np.int64)
    count = 0
    for a in range(n):
        first = count
        for k in range(start[a], start[a + 1]):
            for j in range(3):
                b = T[around[k], j]
                i = count
                while i > first and out[i - 1, 1] > b:
                    i -= 1
                if b <= a or (i > first and out[i - 1, 1] == b):
                    continue
                for r in range(count, i, -1):
                    out[r, 1] = out[r - 1, 1]
                out[count, 0], out[i, 1] = a, b
                count += 1
    return out[:count]


@exact
def key_of(a: int, b: int):
    """One number for an edge.

    Parameters
    ----------
    a, b : int
        Ends, in any order.

    Examples
    --------
    >>> key_of(3, 5) == key_of(5, 3)
    True
    """
    return min(a, b) * 4294967296 + max(a, b)


class Original(NamedTuple):
    """The surface that is remeshed.

    Attributes
    ----------
    points, triangles, patch : array
    metric : array (n, 6)
        Of its points.
    tree : tuple of arrays
        Boxes of its triangles, and marks of their patches (see `nearest_point`).
    curve_start, curve_tail, curve_head : array
        Segments of feature line k: those from curve_start[k] to curve_start[k + 1].
    """

    points: np.ndarray
    triangles: np.ndarray
    patch: np.ndarray
    metric: np.ndarray
    tree: tuple
    curve_start: np.ndarray
    curve_tail: np.ndarray
    curve_head: np.ndarray


@exact
def project_to_curve(p: np.ndarray, curve: int, original: "Original", out: np.ndarray, m: np.ndarray):
    """Nearest point of a feature line.

    Parameters
    ----------
    p : (3,) array
        Position [m].
    curve : int
        Feature line.
    original : Original
        Surface that is remeshed.
    out : (3,) array
        Written: the nearest point [m].
    m : (6,) array
        Written: its metric.

    Returns
    -------
    float
        Squared distance [m^2].
    """
    points, metric = original.points, original.metric
    best, fraction, found = np.inf, 0.0, -1
    for s in range(original.curve_start[curve], original.curve_start[curve + 1]):
        a, b = original.curve_tail[s], original.curve_head[s]
        ax, ay, az = points[a, 0], points[a, 1], points[a, 2]
        ux, uy, uz = points[b, 0] - ax, points[b, 1] - ay, points[b, 2] - az
        f = ((p[0] - ax) * ux + (p[1] - ay) * uy + (p[2] - az) * uz) / max(ux * ux + uy * uy + uz * uz, 1e-300)
        f = min(max(f, 0.0), 1.0)
        x, y, z = p[0] - (ax + f * ux), p[1] - (ay + f * uy), p[2] - (az + f * uz)
        far = x * x + y * y + z * z
        if far < best:
            best, fraction, found = far, f, s
    if found >= 0:
        a, b = original.curve_tail[found], original.curve_head[found]
        for k in range(3):
            out[k] = points[a, k] + fraction * (points[b, k] - points[a, k])
        for k in range(6):
            m[k] = (1.0 - fraction) * metric[a, k] + fraction * metric[b, k]
    return best


@exact
def project_to_patch(
    p: np.ndarray, patch: int, original: "Original", out: np.ndarray, m: np.ndarray, direction: np.ndarray
):
    """Project a position to a patch of the original surface.

    Parameters
    ----------
    p : (3,) array
        Position [m].
    patch : int
        Smooth patch.
    original : Original
        Surface that is remeshed.
    out : (3,) array
        Written: the nearest point [m].
    m : (6,) array
        Written: its metric.
    direction : (3,) array
        Written: its unit normal.

    Returns
    -------
    bool
        Whether it is found.
    """
    points, triangles, tree = original.points, original.triangles, original.tree
    fraction = np.empty(3)
    surface = points, triangles, original.patch
    t, _ = nearest(p, patch, surface, tree, out, fraction)
    if t < 0:
        return False
    for j in range(6):
        m[j] = 0.0
        for k in range(3):
            m[j] += fraction[k] * original.metric[triangles[t, k], j]
    normal(points, triangles[t, 0], triangles[t, 1], triangles[t, 2], direction)
    return True
