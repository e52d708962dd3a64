"""The plane outside closed curves filled with square cells that the curves clip exactly: polygons that share all
corners.

Edges of the curves are pushed down the quadtree and cut at its lines; a cut point's coordinate on the line is set to
that of the line, so that all later tests are comparisons of equal numbers. Verified by tests/test_clipped.py.
"""

import itertools
from dataclasses import dataclass

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.mesh.polygon_loops import OPEN_END, FluidEdges, Loops, Rectangle, fluid_polygon_loops
from zephyrum.mesh.polygons import components
from zephyrum.mesh.tree import Tree, neighbours


@dataclass(frozen=True, eq=False)
class ClippedCells:
    """Polygons of fluid.

    Attributes
    ----------
    points : (n, 2) array
        [m]; the first ones are those of the curves.
    start, index : arrays of int
        Corners in compressed rows, counter-clockwise.
    leaf : (cells,) array
        Square that each lies in.
    pieces : list[list[int]]
        For every edge of a curve the points on it from end to end.
    """

    points: np.ndarray
    start: np.ndarray
    index: np.ndarray
    leaf: np.ndarray
    pieces: list[list[int]]


def clip_plane(tree: Tree, points: np.ndarray, edges: np.ndarray) -> ClippedCells:
    """Clip the cells of a quadtree by closed curves.

    Parameters
    ----------
    tree : Tree
        Quadtree.
    points : (n, 2) array
        [m]
    edges : (k, 2) array
        Directed edges with the fluid on their left.

    Raises
    ------
    MeshError
        With the position where it fails.
    """
    coords = [tuple(p) for p in points.tolist()]
    chains: dict[int, list[tuple[int, int]]] = {}
    pieces: list[list[int]] = []
    for a, b in edges.tolist():
        path = [(a, b, 0)]
        line = [a]
        # a stack keeps the order from a to b
        while path:
            p, q, node = path.pop()
            if tree.child[node] < 0:
                chains.setdefault(node, []).append((p, q))
                line.append(q)
                continue
            path.extend(reversed(_halved(tree, node, p, q, coords)))
        pieces.append(line)
    xz = np.array(coords)
    return _filled(tree, xz, chains, pieces, len(points))


def _halved(tree: Tree, node: int, p: int, q: int, coords: list) -> list[tuple[int, int, int]]:
    """The edge p q cut at the two centre lines of a node: pieces in order with the child each lies in."""
    half = int(tree.extent[node, 0]) // 2
    at = [float(tree.coordinates(axis, tree.corner[node, axis] + half)) for axis in (0, 1)]
    cuts = [p, q]
    for axis in (0, 1):
        made = [cuts[0]]
        for u, v in itertools.pairwise(cuts):
            a, b = coords[u][axis] - at[axis], coords[v][axis] - at[axis]
            if a * b < 0.0:
                fraction = a / (a - b)
                location = [coords[u][d] + fraction * (coords[v][d] - coords[u][d]) for d in (0, 1)]
                location[axis] = at[axis]
                coords.append((location[0], location[1]))
                made.append(len(coords) - 1)
            made.append(v)
        cuts = made
    out = []
    for u, v in itertools.pairwise(cuts):
        k = 0
        for axis in (0, 1):
            if coords[u][axis] + coords[v][axis] > 2.0 * at[axis]:
                k |= 1 << axis
        out.append((u, v, int(tree.child[node]) + k))
    return out


@dataclass(frozen=True, eq=False)
class _Corners:
    """Corners of the leaves of a quadtree.

    Attributes
    ----------
    points : array (n, 2)
        Points of the curves, then those of the grid.
    base : int
        Number of points of the curves.
    ids : array (leaves, 8)
        Number in the grid of each position round a leaf: corners and midpoints of sides; -1 where there is none.
    """

    points: np.ndarray
    base: int
    ids: np.ndarray

    @property
    def present(self) -> np.ndarray:
        """(leaves, 8) whether a position has a point."""
        return self.ids >= 0

    @property
    def count(self) -> int:
        """Number of points of the grid."""
        return len(self.points) - self.base


def _contradiction(position: np.ndarray) -> MeshError:
    return MeshError(f"clipping failed at x, z = {position.round(6)} m: inside and outside contradict each other.")


def _filled(tree: Tree, xz: np.ndarray, chains: dict, pieces: list, own: int) -> ClippedCells:
    """Polygons of all leaves."""
    leaves = tree.leaves
    rank = np.full(len(tree.level), -1)
    rank[leaves] = np.arange(len(leaves))
    corners = _leaf_corners(tree, xz)
    loops_of, known = _cut_loops(tree, corners, {rank[leaf]: edges for leaf, edges in chains.items()})
    cut = np.zeros(len(leaves), dtype=bool)
    cut[list(loops_of)] = True
    fluid = _whole_fluid_cells(corners, np.flatnonzero(~cut), known, bool(chains))
    counts = [corners.present[fluid].sum(axis=1)]
    index = [(corners.base + corners.ids[fluid])[corners.present[fluid]]]
    leaf = [leaves[fluid]]
    for k, loops in loops_of.items():
        for loop in loops:
            counts.append(np.array([len(loop)]))
            index.append(loop)
            leaf.append(leaves[[k]])
    return _with_used_points(corners.points, np.concatenate(counts), np.concatenate(index), leaf, (pieces, own))


def _leaf_corners(tree: Tree, xz: np.ndarray) -> _Corners:
    """Corners of the leaves by number; a side with smaller neighbours has one in its centre too."""
    leaves = tree.leaves
    across = neighbours(tree)
    ring = np.array([[0, 0], [1, 0], [2, 0], [2, 1], [2, 2], [1, 2], [0, 2], [0, 1]])
    locations = tree.corner[leaves][:, None] * 2 + ring * tree.extent[leaves][:, None]
    key = locations[:, :, 0] * (4 << tree.depth) + locations[:, :, 1]
    present = np.ones((len(leaves), 8), dtype=bool)
    for position, direction in {1: 2, 3: 1, 5: 3, 7: 0}.items():  # midpoints of the sides
        present[:, position] = across[:, direction] == -2
    used, number = np.unique(key[present], return_inverse=True)
    ids = np.full(key.shape, -1)
    ids[present] = number
    halves = used // (4 << tree.depth), used % (4 << tree.depth)
    grid = np.stack([tree.coordinates(axis, halves[axis] // 2) for axis in (0, 1)], axis=1)
    return _Corners(np.concatenate([xz, grid]), len(xz), ids)


def _cut_loops(tree: Tree, corners: _Corners, chains: dict) -> tuple[dict[int, list[np.ndarray]], np.ndarray]:
    """Loops of every leaf that curves cross, and what is known of the grid's points: +1 fluid, -1 solid, 0 nothing."""
    low, side = tree.corner[tree.leaves], tree.extent[tree.leaves, 0]
    loops_of: dict[int, list[np.ndarray]] = {}
    known = np.zeros(corners.count, dtype=np.int8)
    room = Loops.empty(8)
    u, v = (np.ascontiguousarray(corners.points[:, axis]) for axis in (0, 1))
    for k, pairs in chains.items():
        tail, head = (np.ascontiguousarray(one) for one in np.array(pairs).T)
        bounds = [tree.coordinates(axis, low[k, axis] + far * side[k]) for axis in (0, 1) for far in (0, 1)]
        here = corners.present[k]
        own = corners.ids[k, here]
        rectangle = Rectangle(u, v, np.array(bounds), corners.base + own, np.arange(8)[here] / 2.0)
        outcome, count = fluid_polygon_loops(FluidEdges(tail, head, len(pairs)), rectangle, room)
        if outcome == OPEN_END:
            position = corners.points[tail[0]].round(6)
            raise MeshError(f"clipping failed at x, z = {position} m: a curve ends inside a cell.")
        mark = np.where(room.inside[: len(own)], 1, -1)
        if outcome or (known[own] * mark < 0).any():
            raise _contradiction(corners.points[tail[0]])
        loops_of[k] = [room.points[room.start[j] : room.start[j + 1]].copy() for j in range(count)]
        known[own] = mark
    return loops_of, known


def _whole_fluid_cells(corners: _Corners, whole: np.ndarray, known: np.ndarray, crossed: bool) -> np.ndarray:
    """Those of the uncut leaves that are fluid.

    An uncut leaf is like all leaves that it shares a corner with, where no curve passes between.
    """
    present = corners.present[whole]
    first = np.repeat(corners.ids[whole, 0], present.sum(axis=1))
    group = components(first, corners.ids[whole][present], corners.count)
    count = int(group.max()) + 1
    fluid, solid = np.zeros(count, dtype=bool), np.zeros(count, dtype=bool)
    fluid[group[known > 0]] = True
    solid[group[known < 0]] = True
    both = fluid & solid
    if both.any():
        raise _contradiction(corners.points[corners.base + np.flatnonzero(both[group])[0]])
    if not crossed:
        fluid[:] = True
    return whole[fluid[group[corners.ids[whole, 0]]]]


def _with_used_points(
    points: np.ndarray, counts: np.ndarray, index: np.ndarray, leaf: list[np.ndarray], curves: tuple[list, int]
) -> ClippedCells:
    """The cells with only the points that are used, those of the curves first and all of them."""
    pieces, own = curves
    needed = np.zeros(len(points), dtype=bool)
    needed[index] = True
    needed[:own] = True
    for line in pieces:
        needed[line] = True
    new = np.cumsum(needed) - 1
    return ClippedCells(
        points[needed],
        np.r_[0, np.cumsum(counts)],
        new[index],
        np.concatenate(leaf),
        [[int(new[p]) for p in line] for line in pieces],
    )
