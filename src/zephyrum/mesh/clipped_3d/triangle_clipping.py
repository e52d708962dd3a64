"""Triangles of a surface pushed down an octree and cut at its planes: convex polygons, one leaf each, that share their
points.

A point that a plane cuts out of an edge is found again by the two points of that edge, so triangles, cells and levels
that meet there use the same one; its coordinate on the plane is set to that of the plane. No predicate and no tolerance
is needed: which side a point lies on is reported by its own coordinate. Verified by tests/test_clipped.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact, inner_exact
from zephyrum.errors import MeshError
from zephyrum.mesh.tree import Tree

CORNERS = 24  # of a polygon on its way down, at most
DONE, FULL, TOO_MANY_CORNERS = 0, 1, 2  # outcomes of the clipping


class _Octree(NamedTuple):
    """Arrays of a `Tree` for kernels: origin and unit (3,) [m], depth, level, level_y, corner, child."""

    origin: np.ndarray
    unit: np.ndarray
    depth: int
    level: np.ndarray
    level_y: np.ndarray
    corner: np.ndarray
    child: np.ndarray


class _CutPoints(NamedTuple):
    """Points (k, 3) [m] and a hash table from the two ends of an edge to the point that was cut out of it."""

    points: np.ndarray
    keys: np.ndarray
    values: np.ndarray


class _LeafPolygons(NamedTuple):
    """Polygons of the leaves: leaf (k,) and triangle (k,) of each, its points corners[start[i]:start[i + 1]]."""

    leaf: np.ndarray
    triangle: np.ndarray
    start: np.ndarray
    corners: np.ndarray


class _Pieces(NamedTuple):
    """Pieces of one polygon, one for each child of a cell: corner points (8, CORNERS) and their number (8,)."""

    corners: np.ndarray
    size: np.ndarray
    low: np.ndarray
    high: np.ndarray


@inner_exact
def _cut_point(a, b, axis, at, cuts, count):
    """Point where a plane cuts the edge a b, shared by all polygons at this edge.

    Returns
    -------
    point, count : int
        Index of the point at coordinate `at` of the axis, and the new number of points.
    """
    X, keys, values = cuts.points, cuts.keys, cuts.values
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


@inner_exact
def _halve(k, axis, at, pieces, cuts, count):
    """Split piece k at the plane `at` of an axis: the low part stays k, the high part is piece k + 2^axis.

    Returns
    -------
    outcome, count : int
    """
    X = cuts.points
    lows, highs = 0, 0
    m = pieces.size[k]
    for i in range(m):
        a, b = pieces.corners[k, i], pieces.corners[k, (i + 1) % m]
        up_a, up_b = X[a, axis] >= at, X[b, axis] >= at
        if up_a:
            pieces.high[highs] = a
            highs += 1
        else:
            pieces.low[lows] = a
            lows += 1
        if up_a != up_b:
            if count + 1 >= len(X) or 2 * count > len(cuts.keys):
                return FULL, count
            v, count = _cut_point(a, b, axis, at, cuts, count)
            pieces.high[highs] = v
            pieces.low[lows] = v
            highs += 1
            lows += 1
        if lows + 2 >= CORNERS or highs + 2 >= CORNERS:
            return TOO_MANY_CORNERS, count
    pieces.size[k] = lows if lows >= 3 else 0
    for i in range(lows):
        pieces.corners[k, i] = pieces.low[i]
    other = k + (1 << axis)
    pieces.size[other] = highs if highs >= 3 else 0
    for i in range(highs):
        pieces.corners[other, i] = pieces.high[i]
    return DONE, count


@inner_exact
def _split_at_midplanes(node, octree, pieces, cuts, count):
    """Split piece 0 at the planes through the centre of a cell that divide it, one piece for each child; (outcome,
    count).
    """
    half = np.int64(1) << (octree.depth - octree.level[node] - 1)
    undivided = octree.level_y[octree.child[node]] == octree.level_y[node]
    for axis in range(3):
        if axis == 1 and undivided:
            continue
        at = octree.origin[axis] + octree.unit[axis] * (octree.corner[node, axis] + half)
        for k in range(1 << axis):
            if pieces.size[k] > 0:
                outcome, count = _halve(k, axis, at, pieces, cuts, count)
                if outcome != DONE:
                    return outcome, count
    return DONE, count


@exact
def _clip_triangles(triangles, count, octree, cuts, polygons):
    """Clip every triangle to the leaves, depth first.

    Parameters
    ----------
    triangles : (t, 3) array of int
    count : int
        Number of points at the beginning.
    octree : _Octree
    cuts : _CutPoints
    polygons : _LeafPolygons
        Filled in place.

    Returns
    -------
    outcome, points, polygons : int
        DONE, FULL (an array is too short) or TOO_MANY_CORNERS; numbers of points and polygons.
    """
    made, filled = 0, 0
    polygons.start[0] = 0
    room = 8 * (octree.depth + 2)
    stack = np.empty((room, CORNERS), dtype=np.int64)
    stack_size, stack_node = np.empty(room, dtype=np.int64), np.empty(room, dtype=np.int64)
    pieces = _Pieces(
        np.empty((8, CORNERS), dtype=np.int64),
        np.empty(8, dtype=np.int64),
        np.empty(CORNERS, dtype=np.int64),
        np.empty(CORNERS, dtype=np.int64),
    )
    for t in range(len(triangles)):
        for k in range(3):
            stack[0, k] = triangles[t, k]
        stack_size[0], stack_node[0], top = 3, 0, 1
        while top > 0:
            top -= 1
            node, n = stack_node[top], stack_size[top]
            if octree.child[node] < 0:
                if made + 1 >= len(polygons.leaf) or filled + n >= len(polygons.corners):
                    return FULL, count, made
                polygons.leaf[made], polygons.triangle[made] = node, t
                for k in range(n):
                    polygons.corners[filled] = stack[top, k]
                    filled += 1
                made += 1
                polygons.start[made] = filled
                continue
            for k in range(n):
                pieces.corners[0, k] = stack[top, k]
            pieces.size[:] = 0
            pieces.size[0] = n
            outcome, count = _split_at_midplanes(node, octree, pieces, cuts, count)
            if outcome != DONE:
                return outcome, count, made
            for k in range(8):
                if pieces.size[k] == 0:
                    continue
                for i in range(pieces.size[k]):
                    stack[top, i] = pieces.corners[k, i]
                child = octree.child[node]
                number = k if octree.level_y[child] > octree.level_y[node] else (k & 1) | (k >> 1 & 2)
                stack_size[top], stack_node[top] = pieces.size[k], child + number
                top += 1
    return DONE, count, made


def clip_to_tree(
    tree: Tree, points: np.ndarray, triangles: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Clip the triangles of a surface to the leaves of an octree.

    Parameters
    ----------
    tree : Tree
    points : (n, 3) array
        Points of the surface [m].
    triangles : (t, 3) array of int

    Returns
    -------
    points : (m, 3) array
        The first n are those given.
    leaf, triangle : (k,) arrays of int
        Leaf and triangle of each polygon.
    start : (k + 1,) array of int
    corners : array of int
        Polygon i has the points corners[start[i]:start[i + 1]].

    Raises
    ------
    MeshError
        A triangle is cut into too many corners, or the surface into too many polygons.
    """
    octree = _Octree(tree.origin, tree.unit, tree.depth, tree.level, tree.level_y, tree.corner, tree.child)
    guess = 6 * len(triangles) + 4096
    for _ in range(12):
        X = np.empty((len(points) + guess, 3))
        X[: len(points)] = points
        room = 1 << int(np.ceil(np.log2(4.0 * (len(points) + guess))))
        cuts = _CutPoints(X, np.full(room, -1, dtype=np.int64), np.empty(room, dtype=np.int64))
        out = _LeafPolygons(
            *(np.empty(size, dtype=np.int64) for size in (2 * guess, 2 * guess, 2 * guess + 1, 10 * guess))
        )
        outcome, count, made = _clip_triangles(np.ascontiguousarray(triangles), len(points), octree, cuts, out)
        if outcome == DONE:
            used = out.start[: made + 1].copy()
            return (
                X[:count].copy(),
                out.leaf[:made].copy(),
                out.triangle[:made].copy(),
                used,
                out.corners[: used[-1]].copy(),
            )
        if outcome == TOO_MANY_CORNERS:
            raise MeshError("clipping failed: a triangle was cut into too many corners; ask for smaller triangles.")
        guess *= 2
    raise MeshError("clipping failed: the surface is cut into too many pieces.")
