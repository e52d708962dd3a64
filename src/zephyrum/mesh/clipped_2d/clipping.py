"""The plane outside closed curves filled with square cells that the curves clip exactly: polygons that share all
corners.

Edges of the curves are pushed down the quadtree and cut at its lines; a cut point's coordinate on the line is set to
that of the line, so that all later tests are comparisons of equal numbers. Verified by tests/test_clipped.py.
"""

import itertools
from dataclasses import dataclass

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.mesh.polygon_loops import MAX_LOOPS, fluid_polygon_loops
from zephyrum.mesh.polygons import components
from zephyrum.mesh.tree import Tree, neighbours


@dataclass(frozen=True, eq=False)
class ClippedCells:
    """Polygons of fluid: points (n, 2) [m], the first ones those of the curves; corners as CSR (start, index),
    counter-clockwise;

    leaf (cells,) the square each lies in; pieces: for every edge of a curve the points on it from end to end.
    """

    points: np.ndarray
    start: np.ndarray
    index: np.ndarray
    leaf: np.ndarray
    pieces: list[list[int]]


def clip_plane(tree: Tree, points: np.ndarray, edges: np.ndarray) -> ClippedCells:
    """Fill the fluid side (left) of directed `edges` (k, 2) between `points` (n, 2); MeshError with the position if
    that can't be.
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
    half = int(tree.side[node]) // 2
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


def _filled(tree: Tree, xz: np.ndarray, chains: dict, pieces: list, own: int) -> ClippedCells:
    """Polygons of all leaves."""
    leaves = tree.leaves
    rank = np.full(len(tree.level), -1)
    rank[leaves] = np.arange(len(leaves))
    across = neighbours(2, tree.depth, tree.limit, tree.level, tree.corner, tree.child, leaves)
    side = tree.side[leaves]
    low = tree.corner[leaves]
    # corners of the grid by number; a side with smaller neighbours has one in its centre too
    ring = np.array([[0, 0], [1, 0], [2, 0], [2, 1], [2, 2], [1, 2], [0, 2], [0, 1]])
    middle_of = {1: 2, 3: 1, 5: 3, 7: 0}  # place in the ring to the direction across
    locations = low[:, None] * 2 + ring * side[:, None, None]
    key = locations[:, :, 0] * (4 << tree.depth) + locations[:, :, 1]
    present = np.ones((len(leaves), 8), dtype=bool)
    for position, direction in middle_of.items():
        present[:, position] = across[:, direction] == -2
    used, number = np.unique(key[present], return_inverse=True)
    ids = np.full(key.shape, -1)
    ids[present] = number
    grid = np.stack(
        [
            tree.coordinates(axis, np.array([used // (4 << tree.depth), used % (4 << tree.depth)][axis]) // 2)
            for axis in (0, 1)
        ],
        axis=1,
    )
    base = len(xz)
    every = np.concatenate([xz, grid])
    cut = np.zeros(len(leaves), dtype=bool)
    cut[rank[list(chains)]] = True
    loops_of: dict[int, list[np.ndarray]] = {}
    known = np.zeros(len(used), dtype=np.int8)  # +1 fluid, -1 solid
    out, start, inside = (
        np.empty(MAX_LOOPS, dtype=np.int64),
        np.empty(MAX_LOOPS, dtype=np.int64),
        np.zeros(8, dtype=np.bool_),
    )
    U, V = np.ascontiguousarray(every[:, 0]), np.ascontiguousarray(every[:, 1])
    for leaf, edges in chains.items():
        k = rank[leaf]
        tail, head = np.array(edges).T
        box = np.array(
            [
                tree.coordinates(0, low[k, 0]),
                tree.coordinates(0, low[k, 0] + side[k]),
                tree.coordinates(1, low[k, 1]),
                tree.coordinates(1, low[k, 1] + side[k]),
            ]
        )
        here = present[k]
        rim = base + ids[k, here]
        at = np.arange(8)[here] / 2.0
        outcome, count = fluid_polygon_loops(
            np.ascontiguousarray(tail),
            np.ascontiguousarray(head),
            len(edges),
            U,
            V,
            box,
            rim,
            at,
            out,
            start,
            inside,
        )
        if outcome:
            raise MeshError(
                f"clipping failed at x, z = {every[tail[0]].round(6)} m: "
                f"{'a curve ends inside a cell' if outcome == 1 else 'inside and outside contradict each other'}."
            )
        loops_of[k] = [out[start[j] : start[j + 1]].copy() for j in range(count)]
        mark = np.where(inside[: len(rim)], 1, -1)
        old = known[ids[k, here]]
        if (old * mark < 0).any():
            raise MeshError(
                f"clipping failed at x, z = {every[tail[0]].round(6)} m: inside and outside contradict each other."
            )
        known[ids[k, here]] = mark
    # cells that no curve crosses: one piece with all cells they share a corner with, where no curve passes between
    whole = np.flatnonzero(~cut)
    many = present[whole].sum(axis=1)
    first = np.repeat(ids[whole, 0], many)
    group = components(first, ids[whole][present[whole]], len(used))
    count = int(group.max()) + 1
    fluid, solid = np.zeros(count, dtype=bool), np.zeros(count, dtype=bool)
    fluid[group[known > 0]] = True
    solid[group[known < 0]] = True
    both = fluid & solid
    if both.any():
        position = every[base + np.flatnonzero(both[group])[0]]
        raise MeshError(f"clipping failed at x, z = {position.round(6)} m: inside and outside contradict each other.")
    if not len(chains):
        fluid[:] = True
    stored = whole[fluid[group[ids[whole, 0]]]]
    counts = [present[stored].sum(axis=1)]
    index = [(base + ids[stored])[present[stored]]]
    leaf = [leaves[stored]]
    for k, loops in loops_of.items():
        for loop in loops:
            counts.append(np.array([len(loop)]))
            index.append(loop)
            leaf.append(leaves[[k]])
    index_all = np.concatenate(index)
    # only points that are used are kept, those of the curves first and all of them
    needed = np.zeros(len(every), dtype=bool)
    needed[index_all] = True
    needed[:own] = True
    for line in pieces:
        needed[line] = True
    new = np.cumsum(needed) - 1
    return ClippedCells(
        every[needed],
        np.r_[0, np.cumsum(np.concatenate(counts))],
        new[index_all],
        np.concatenate(leaf),
        [[int(new[p]) for p in line] for line in pieces],
    )
