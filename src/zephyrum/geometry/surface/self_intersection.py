"""Triangles that cut through each other, found with a tree of boxes.

Two triangles cross if an edge of one passes through the inside of the other (Moeller and Trumbore 1997, J. Graphics
Tools 2(1)); neighbours that share a point are tested by their other edges; neighbours folded flat onto each other are
found by their angle. Verified by tests/test_solids.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact, exact_parallel, prange
from zephyrum.geometry.surface.triangulation import Surface

LEAF_SIZE = 8
GRAZING_FRACTION = 1e-9  # fraction of an edge or triangle that has to be cut for it to count


class BoxTree(NamedTuple):
    """Binary tree of axis-aligned bounding boxes.

    Attributes
    ----------
    order : (n,) array of int
        Items; those of a node are order[span[node, 0]:span[node, 1]].
    bounds : (nodes, 6) array
        Lowest and highest coordinates of each node [m].
    child : (nodes, 2) array of int
        Children of each node, -1 in leaves.
    span : (nodes, 2) array of int
    """

    order: np.ndarray
    bounds: np.ndarray
    child: np.ndarray
    span: np.ndarray


def box_tree(low: np.ndarray, high: np.ndarray) -> BoxTree:
    """Build a tree of bounding boxes, halved at the median of the centres along the longest side.

    Parameters
    ----------
    low, high : (n, 3) arrays
        Lowest and highest corner of each item [m].

    Examples
    --------
    >>> import numpy as np
    >>> box_tree(np.zeros((1, 3)), np.ones((1, 3))).child.tolist()
    [[-1, -1]]
    """
    return BoxTree(*_build(np.ascontiguousarray(low), np.ascontiguousarray(high)))


@exact
def _partition(order, key, a, b):
    """Reorder order[a:b] so that no key before its centre is greater than one behind it (Hoare 1961, CACM 4:321)."""
    midpoint = (a + b) // 2
    low, high = a, b - 1
    while low < high:
        pivot = key[order[(low + high) // 2]]
        i, j = low, high
        while i <= j:
            while key[order[i]] < pivot:
                i += 1
            while key[order[j]] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if midpoint <= j:
            high = j
        elif midpoint >= i:
            low = i
        else:
            return


@exact
def _build(low, high):
    n = len(low)
    order = np.arange(n)
    centre = 0.5 * (low + high)
    most = max(1, 4 * (n // LEAF_SIZE + 2))
    bounds = np.empty((most, 6))
    child = np.full((most, 2), -1)
    span = np.zeros((most, 2), dtype=np.int64)
    span[0, 1] = n
    count = 1
    stack = [0]
    while len(stack):
        node = stack.pop()
        a, b = span[node]
        for d in range(3):
            lo, hi, cl, ch = np.inf, -np.inf, np.inf, -np.inf
            for i in range(a, b):
                k = order[i]
                lo, hi = min(lo, low[k, d]), max(hi, high[k, d])
                cl, ch = min(cl, centre[k, d]), max(ch, centre[k, d])
            bounds[node, d], bounds[node, 3 + d] = lo, hi
            if d == 0:
                best, wide = 0, ch - cl
            elif ch - cl > wide:
                best, wide = d, ch - cl
        if b - a <= LEAF_SIZE or not wide > 0.0:
            continue
        _partition(order, centre[:, best], a, b)
        midpoint = (a + b) // 2
        for side in range(2):
            child[node, side] = count
            span[count, 0], span[count, 1] = (a, midpoint) if side == 0 else (midpoint, b)
            stack.append(count)
            count += 1
    return order, bounds[:count].copy(), child[:count].copy(), span[:count].copy()


@exact
def _segment_crosses(p, q, a, b, c):
    """Whether the segment from p to q passes through the inside of triangle a b c."""
    e1, e2, d = b - a, c - a, q - p
    h = np.array([d[1] * e2[2] - d[2] * e2[1], d[2] * e2[0] - d[0] * e2[2], d[0] * e2[1] - d[1] * e2[0]])
    det = e1[0] * h[0] + e1[1] * h[1] + e1[2] * h[2]
    n2 = (
        (e1[1] * e2[2] - e1[2] * e2[1]) ** 2
        + (e1[2] * e2[0] - e1[0] * e2[2]) ** 2
        + (e1[0] * e2[1] - e1[1] * e2[0]) ** 2
    )
    if det * det <= 1e-20 * n2 * (d[0] * d[0] + d[1] * d[1] + d[2] * d[2]):
        return False  # along the plane
    s = p - a
    u = (s[0] * h[0] + s[1] * h[1] + s[2] * h[2]) / det
    if u <= GRAZING_FRACTION or u >= 1.0 - GRAZING_FRACTION:
        return False
    g = np.array([s[1] * e1[2] - s[2] * e1[1], s[2] * e1[0] - s[0] * e1[2], s[0] * e1[1] - s[1] * e1[0]])
    v = (d[0] * g[0] + d[1] * g[1] + d[2] * g[2]) / det
    if v <= GRAZING_FRACTION or u + v >= 1.0 - GRAZING_FRACTION:
        return False
    t = (e2[0] * g[0] + e2[1] * g[1] + e2[2] * g[2]) / det
    return GRAZING_FRACTION < t < 1.0 - GRAZING_FRACTION


@exact
def crossing(points: np.ndarray, s: np.ndarray, t: np.ndarray, least: float):
    """Whether two triangles cut through each other or lie folded on one another.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    s, t : (3,) arrays
        Corners of the triangles.
    least : float
        Depth [m] of the cut above which it counts.

    Examples
    --------
    >>> points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0.2, 0.2, -1], [0.2, 0.2, 1], [2, 2, 0.0]])
    >>> crossing(points, np.array([0, 1, 2]), np.array([3, 4, 5]), 0.0)
    True
    """
    shared = 0
    for i in range(3):
        for j in range(3):
            if s[i] == t[j]:
                shared += 1
    if shared == 3:
        return True
    if shared == 2:
        # neighbours across an edge: folded if the two free corners lie on the same side at no angle
        for i in range(3):
            if s[i] != t[0] and s[i] != t[1] and s[i] != t[2]:
                k = i
        for j in range(3):
            if t[j] != s[0] and t[j] != s[1] and t[j] != s[2]:
                m = j
        a, b = points[s[(k + 1) % 3]], points[s[(k + 2) % 3]]
        e = b - a
        size = np.sqrt((e * e).sum())
        u = points[s[k]] - a
        u = u - e * ((u * e).sum() / (size * size))
        v = points[t[m]] - a
        v = v - e * ((v * e).sum() / (size * size))
        lu, lv = np.sqrt((u * u).sum()), np.sqrt((v * v).sum())
        return (u * v).sum() > (1.0 - 1e-9) * lu * lv
    if not (_edge_crosses(points, s, t) or _edge_crosses(points, t, s)):
        return False
    return least <= 0.0 or min(_depth(points, s, t), _depth(points, t, s)) > least


@exact
def _depth(points, s, t):
    """How far the corners of s reach to the side of t on which fewer of it lies."""
    a, b, c = points[t[0]], points[t[1]], points[t[2]]
    n = np.array(
        [
            (b[1] - a[1]) * (c[2] - a[2]) - (b[2] - a[2]) * (c[1] - a[1]),
            (b[2] - a[2]) * (c[0] - a[0]) - (b[0] - a[0]) * (c[2] - a[2]),
            (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]),
        ]
    )
    size = np.sqrt((n * n).sum())
    if size == 0.0:
        return 0.0
    above, below = 0.0, 0.0
    for i in range(3):
        d = ((points[s[i]] - a) * n).sum() / size
        above, below = max(above, d), max(below, -d)
    return min(above, below)


@exact
def _edge_crosses(points, s, t):
    """Whether an edge of s that shares no point with t passes through t."""
    for i in range(3):
        p, q = s[i], s[(i + 1) % 3]
        own = p != t[0] and p != t[1] and p != t[2] and q != t[0] and q != t[1] and q != t[2]
        if own and _segment_crosses(points[p], points[q], points[t[0]], points[t[1]], points[t[2]]):
            return True
    return False


@exact_parallel
def _pairs(points, triangles, low, high, tree, least):
    """First triangle met that crosses each triangle; -1 without one."""
    order, bounds, child, span = tree
    n = len(triangles)
    partner = np.full(n, -1)
    for block in prange((n + 255) // 256):
        stack = np.empty(128, dtype=np.int64)
        for i in range(block * 256, min(n, np.int64(block) * 256 + 256)):
            stack[0], top = 0, 1
            while top > 0:
                top -= 1
                node = stack[top]
                apart = False
                for d in range(3):
                    if bounds[node, d] > high[i, d] or bounds[node, 3 + d] < low[i, d]:
                        apart = True
                if apart:
                    continue
                if child[node, 0] >= 0:
                    stack[top], stack[top + 1] = child[node, 0], child[node, 1]
                    top += 2
                    continue
                for k in range(span[node, 0], span[node, 1]):
                    j = order[k]
                    if j == i:
                        continue
                    if (
                        low[j, 0] > high[i, 0]
                        or high[j, 0] < low[i, 0]
                        or low[j, 1] > high[i, 1]
                        or high[j, 1] < low[i, 1]
                        or low[j, 2] > high[i, 2]
                        or high[j, 2] < low[i, 2]
                    ):
                        continue
                    if crossing(points, triangles[i], triangles[j], least):
                        partner[i] = j
                        top = 0
                        break
    return partner


def crossing_triangles(surface: Surface, least: float = 0.0) -> np.ndarray:
    """Triangles that cut through each other.

    Parameters
    ----------
    surface : Surface
        Surface.
    least : float, optional
        Depth [m] of the cut above which it counts.

    Returns
    -------
    (k, 2) array
        Pairs, one partner for each triangle that has any.

    Examples
    --------
    >>> import zephyrum as zy
    >>> len(crossing_triangles(zy.Body.box(1.0, 1.0, 1.0).surface()))
    0
    """
    corners = surface.points[surface.triangles]
    low, high = corners.min(axis=1), corners.max(axis=1)
    partner = _pairs(surface.points, surface.triangles, low, high, box_tree(low, high), least)
    own = np.flatnonzero(partner >= 0)
    pairs = np.stack([own, partner[own]], axis=1)
    return np.unique(np.sort(pairs, axis=1), axis=0)
