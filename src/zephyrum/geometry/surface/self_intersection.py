"""Triangles that cut through each other, found with a tree of boxes.

Two triangles cross if an edge of one passes through the inside of the other (Moeller and Trumbore 1997, J. Graphics
Tools 2(1)); neighbours that share a point are tested by their other edges; neighbours folded flat onto each other are
found by their angle. Verified by tests/test_solids.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact, exact_parallel, inner_exact, prange
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.geometry.surface.vectors import cross_product, difference, dot

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
    low, high, n = np.ascontiguousarray(low), np.ascontiguousarray(high), len(low)
    most = max(1, 4 * (n // LEAF_SIZE + 2))
    tree = BoxTree(np.arange(n), np.empty((most, 6)), np.full((most, 2), -1), np.zeros((most, 2), dtype=np.int64))
    count = _build(low, high, 0.5 * (low + high), tree)
    return BoxTree(tree.order, *(np.ascontiguousarray(part[:count]) for part in tree[1:]))


@inner_exact
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
def _build(low, high, centre, tree):
    """Fill a tree of bounding boxes; returns the number of its nodes."""
    order, bounds, child, span = tree
    span[0, 1] = len(low)
    count, stack, top = 1, np.zeros(128, dtype=np.int64), 1
    while top > 0:
        top -= 1
        node = stack[top]
        a, b = span[node, 0], span[node, 1]
        best, wide = 0, -np.inf
        for d in range(3):
            lo, hi, cl, ch = np.inf, -np.inf, np.inf, -np.inf
            for i in range(a, b):
                k = order[i]
                lo, hi = min(lo, low[k, d]), max(hi, high[k, d])
                cl, ch = min(cl, centre[k, d]), max(ch, centre[k, d])
            bounds[node, d], bounds[node, 3 + d] = lo, hi
            if ch - cl > wide:
                best, wide = d, ch - cl
        if b - a <= LEAF_SIZE or not wide > 0.0:
            continue
        _partition(order, centre[:, best], a, b)
        midpoint = (a + b) // 2
        for side in range(2):
            child[node, side] = count
            span[count, 0], span[count, 1] = (a, midpoint) if side == 0 else (midpoint, b)
            stack[top] = count
            top += 1
            count += 1
    return count


@inner_exact
def _corner(points, i):
    """Point (3) of a number."""
    return points[i, 0], points[i, 1], points[i, 2]


@inner_exact
def _segment_crosses(p, q, a, b, c):
    """Whether the segment from p to q passes through the inside of triangle a b c."""
    e1, e2, d = difference(b, a), difference(c, a), difference(q, p)
    h, n = cross_product(d, e2), cross_product(e1, e2)
    det = dot(e1, h)
    if det * det <= 1e-20 * dot(n, n) * dot(d, d):
        return False  # along the plane
    s = difference(p, a)
    u = dot(s, h) / det
    if u <= GRAZING_FRACTION or u >= 1.0 - GRAZING_FRACTION:
        return False
    g = cross_product(s, e1)
    v = dot(d, g) / det
    if v <= GRAZING_FRACTION or u + v >= 1.0 - GRAZING_FRACTION:
        return False
    t = dot(e2, g) / det
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
        a = _corner(points, s[(k + 1) % 3])
        e = difference(_corner(points, s[(k + 2) % 3]), a)
        u = _across(difference(_corner(points, s[k]), a), e)
        v = _across(difference(_corner(points, t[m]), a), e)
        return dot(u, v) > (1.0 - 1e-9) * np.sqrt(dot(u, u)) * np.sqrt(dot(v, v))
    if not (_edge_crosses(points, s, t) or _edge_crosses(points, t, s)):
        return False
    return least <= 0.0 or min(_depth(points, s, t), _depth(points, t, s)) > least


@inner_exact
def _across(u, e):
    """Part (3) of a vector that is perpendicular to another."""
    along = dot(u, e) / dot(e, e)
    return u[0] - e[0] * along, u[1] - e[1] * along, u[2] - e[2] * along


@exact
def _depth(points, s, t):
    """How far the corners of s reach to the side of t on which fewer of it lies."""
    a = _corner(points, t[0])
    n = cross_product(difference(_corner(points, t[1]), a), difference(_corner(points, t[2]), a))
    size = np.sqrt(dot(n, n))
    if size == 0.0:
        return 0.0
    above, below = 0.0, 0.0
    for i in range(3):
        d = dot(difference(_corner(points, s[i]), a), n) / size
        above, below = max(above, d), max(below, -d)
    return min(above, below)


@inner_exact
def _edge_crosses(points, s, t):
    """Whether an edge of s that shares no point with t passes through t."""
    for i in range(3):
        p, q = s[i], s[(i + 1) % 3]
        own = p != t[0] and p != t[1] and p != t[2] and q != t[0] and q != t[1] and q != t[2]
        a, b, c = _corner(points, t[0]), _corner(points, t[1]), _corner(points, t[2])
        if own and _segment_crosses(_corner(points, p), _corner(points, q), a, b, c):
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
