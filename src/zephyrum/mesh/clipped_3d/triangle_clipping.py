"""Triangles of a surface pushed down an octree and cut at its planes: convex polygons, one leaf each, that share their
points.

A point that a plane cuts out of an edge is found again by the two points of that edge, so triangles, cells and levels
that meet there use the same one; its coordinate on the plane is set to that of the plane. No predicate and no tolerance
is needed: which side a point lies on is reported by its own coordinate. Verified by tests/test_clipped.py.
"""

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.errors import MeshError
from zephyrum.mesh.tree import Tree

CORNERS = 24  # of a polygon on its way down, at most


@exact
def _cut_point(a, b, axis, at, X, count, keys, values):
    """(point on the edge a b at coordinate `at` of an axis, count of points)."""
    low, high = (a, b) if a < b else (b, a)
    key = (np.int64(low) << 32) | np.int64(high)
    mask = len(keys) - 1
    slot = (key * np.int64(-7046029254386353131) >> 20) & mask
    while keys[slot] != -1:
        if keys[slot] == key:
            return values[slot], count
        slot = (slot + 1) & mask
    fraction = (at - X[low, axis]) / (X[high, axis] - X[low, axis])
    for d in range(3):
        X[count, d] = X[low, d] + fraction * (X[high, d] - X[low, d])
    X[count, axis] = at
    keys[slot], values[slot] = key, count
    return count, count + 1


@exact
def _clip_triangles(
    triangles, X, count, origin, unit, depth, level, corner, child, keys, values, leaf_of, triangle_of, start, corners
):
    """(outcome, points, polygons); outcome 1: an array is full."""
    made, filled = 0, 0
    start[0] = 0
    stack_poly = np.empty((8 * (depth + 2), CORNERS), dtype=np.int64)
    stack_size = np.empty(8 * (depth + 2), dtype=np.int64)
    stack_node = np.empty(8 * (depth + 2), dtype=np.int64)
    piece = np.empty((8, CORNERS), dtype=np.int64)
    size = np.empty(8, dtype=np.int64)
    low_poly, high_poly = np.empty(CORNERS, dtype=np.int64), np.empty(CORNERS, dtype=np.int64)
    for t in range(len(triangles)):
        for k in range(3):
            stack_poly[0, k] = triangles[t, k]
        stack_size[0], stack_node[0], top = 3, 0, 1
        while top > 0:
            top -= 1
            node = stack_node[top]
            n = stack_size[top]
            if child[node] < 0:
                if made + 1 >= len(leaf_of) or filled + n >= len(corners):
                    return 1, count, made
                leaf_of[made], triangle_of[made] = node, t
                for k in range(n):
                    corners[filled] = stack_poly[top, k]
                    filled += 1
                made += 1
                start[made] = filled
                continue
            half = np.int64(1) << (depth - level[node] - 1)
            for k in range(n):
                piece[0, k] = stack_poly[top, k]
            size[0] = n
            for k in range(1, 8):
                size[k] = 0
            for axis in range(3):
                at = origin[axis] + unit[axis] * (corner[node, axis] + half)
                for k in range(1 << axis):
                    m = size[k]
                    if m == 0:
                        continue
                    lows, highs = 0, 0
                    for i in range(m):
                        a, b = piece[k, i], piece[k, (i + 1) % m]
                        up_a, up_b = X[a, axis] >= at, X[b, axis] >= at
                        if up_a:
                            high_poly[highs] = a
                            highs += 1
                        else:
                            low_poly[lows] = a
                            lows += 1
                        if up_a != up_b:
                            if count + 1 >= len(X) or 2 * count > len(keys):
                                return 1, count, made
                            v, count = _cut_point(a, b, axis, at, X, count, keys, values)
                            high_poly[highs] = v
                            low_poly[lows] = v
                            highs += 1
                            lows += 1
                        if lows + 2 >= CORNERS or highs + 2 >= CORNERS:
                            return 2, count, made
                    size[k] = lows if lows >= 3 else 0
                    for i in range(lows):
                        piece[k, i] = low_poly[i]
                    other = k + (1 << axis)
                    size[other] = highs if highs >= 3 else 0
                    for i in range(highs):
                        piece[other, i] = high_poly[i]
            for k in range(8):
                if size[k] == 0:
                    continue
                for i in range(size[k]):
                    stack_poly[top, i] = piece[k, i]
                stack_size[top], stack_node[top] = size[k], child[node] + k
                top += 1
    return 0, count, made


def clip_to_tree(tree: Tree, points: np.ndarray, triangles: np.ndarray):
    """(points (m, 3), the first those given; leaf (k,), triangle (k,), start (k + 1,), corners): the surface cut by the
    leaves.
    """
    guess = 6 * len(triangles) + 4096
    for _ in range(12):
        X = np.empty((len(points) + guess, 3))
        X[: len(points)] = points
        room = 1 << int(np.ceil(np.log2(4.0 * (len(points) + guess))))
        keys, values = np.full(room, -1, dtype=np.int64), np.empty(room, dtype=np.int64)
        leaf, own = np.empty(2 * guess, dtype=np.int64), np.empty(2 * guess, dtype=np.int64)
        start, corners = np.empty(2 * guess + 1, dtype=np.int64), np.empty(10 * guess, dtype=np.int64)
        outcome, count, made = _clip_triangles(
            np.ascontiguousarray(triangles),
            X,
            len(points),
            tree.origin,
            tree.unit,
            tree.depth,
            tree.level,
            tree.corner,
            tree.child,
            keys,
            values,
            leaf,
            own,
            start,
            corners,
        )
        if outcome == 0:
            return (
                X[:count].copy(),
                leaf[:made].copy(),
                own[:made].copy(),
                start[: made + 1].copy(),
                corners[: start[made]].copy(),
            )
        if outcome == 2:
            raise MeshError("clipping failed: a triangle was cut into too many corners; ask for smaller triangles.")
        guess *= 2
    raise MeshError("clipping failed: the surface is cut into too many pieces.")
