"""The nearest point of a triangulated surface, by a tree of boxes, on one patch of it only.

Nearest point of a triangle after Ericson (2005), Real-Time Collision Detection, ch. 5. Verified by tests/test_remesh.py.
"""

import numpy as np
from numba import njit

from zephyrum.shape.crossings import box_tree


@njit(cache=True, error_model="numpy")
def nearest_on_triangle(p, a, b, c, out, share):
    """Squared distance from p (3,) to triangle a b c; its nearest point into out (3,), shares of the corners into share (3,)."""
    ab, ac, ap = b - a, c - a, p - a
    d1, d2 = (ab * ap).sum(), (ac * ap).sum()
    bp, cp = p - b, p - c
    d3, d4 = (ab * bp).sum(), (ac * bp).sum()
    d5, d6 = (ab * cp).sum(), (ac * cp).sum()
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
    share[0], share[1], share[2] = 1.0 - v - w, v, w
    far = 0.0
    for k in range(3):
        out[k] = a[k] + v * ab[k] + w * ac[k]
        far += (p[k] - out[k]) ** 2
    return far


@njit(cache=True, error_model="numpy")
def nearest(p, patch, points, triangles, patches, order, bounds, child, span, out, share):
    """(triangle, squared distance) of the surface nearest to p among those of `patch` (any if negative); see `box_tree`."""
    best, found = np.inf, -1
    stack = np.empty(128, dtype=np.int64)
    spot, part = np.empty(3), np.empty(3)
    stack[0], top = 0, 1
    while top > 0:
        top -= 1
        node = stack[top]
        away = 0.0
        for d in range(3):
            gap = max(bounds[node, d] - p[d], p[d] - bounds[node, 3 + d], 0.0)
            away += gap * gap
        if away >= best:
            continue
        if child[node, 0] >= 0:
            # the nearer child last, so that it is looked at first
            near = np.zeros(2)
            for side in range(2):
                for d in range(3):
                    gap = max(bounds[child[node, side], d] - p[d], p[d] - bounds[child[node, side], 3 + d], 0.0)
                    near[side] += gap * gap
            first = 1 if near[0] <= near[1] else 0
            stack[top], stack[top + 1] = child[node, first], child[node, 1 - first]
            top += 2
            continue
        for k in range(span[node, 0], span[node, 1]):
            t = order[k]
            if patch >= 0 and patches[t] != patch:
                continue
            far = nearest_on_triangle(
                p, points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]], spot, part
            )
            if far < best:
                best, found = far, t
                out[:] = spot
                share[:] = part
    return found, best


@njit(cache=True, error_model="numpy")
def _distances(queries, points, triangles, patches, order, bounds, child, span):
    out, share = np.empty(3), np.empty(3)
    far = np.empty(len(queries))
    for i in range(len(queries)):
        far[i] = np.sqrt(nearest(queries[i], -1, points, triangles, patches, order, bounds, child, span, out, share)[1])
    return far


def distances(queries: np.ndarray, surface) -> np.ndarray:
    """(n,) distance [m] of points (n, 3) from a Surface."""
    corners = surface.points[surface.triangles]
    tree = box_tree(corners.min(axis=1), corners.max(axis=1))
    return _distances(
        np.ascontiguousarray(queries, dtype=float), surface.points, surface.triangles, surface.label, *tree
    )
