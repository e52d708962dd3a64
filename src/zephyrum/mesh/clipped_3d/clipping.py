"""Space outside a surface filled with cubes of an octree that the surface clips exactly: faces between polyhedral
cells.

A face belongs to the smaller of its two cubes. Its polygons of fluid follow from the edges that the surface leaves on
it (`loops`); faces that the surface leaves alone are fluid or solid as a whole, reported by their corners. Inside one
cube, polygons that hang together through points bound one cell, so that thin tails split cells by themselves. Verified
by tests/test_clipped.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.errors import MeshError
from zephyrum.mesh.clipped_3d.triangle_clipping import clip_to_tree
from zephyrum.mesh.polygon_loops import MAX_LOOPS, fluid_polygon_loops
from zephyrum.mesh.polygons import components
from zephyrum.mesh.tree import Tree, neighbours

# (first, second axis) of the plane of a face, right-handed about its outward normal: low x, high x, low y, ...
PLANES = np.array([[2, 1], [1, 2], [0, 2], [2, 0], [1, 0], [0, 1]])


@dataclass(frozen=True, eq=False)
class ClippedCubes:
    """Faces (CSR start, corners) of fluid: left and right cell (-1 outside), outside (faces,) direction 0-5 or -1;

    walls: polygons on the surface, CSR with the triangle and the cell of each; cells and the cube (leaf) of each;
    points (n, 3) [m], those of the surface first.
    """

    points: np.ndarray
    start: np.ndarray
    corners: np.ndarray
    left: np.ndarray
    right: np.ndarray
    outside: np.ndarray
    wall_start: np.ndarray
    wall_corners: np.ndarray
    wall_triangle: np.ndarray
    wall_cell: np.ndarray
    cube: np.ndarray


@exact
def _cut_faces(
    leaf_rank,
    first,
    polygons,
    start,
    corners,
    X,
    U3,
    low,
    side,
    origin,
    unit,
    across,
    leaf_index,
    level,
    corner_id,
    planes,
    f_start,
    f_corners,
    f_leaf,
    f_way,
    plain,
    known,
):
    """Faces of the cut leaves that the surface leaves edges on; marks plain faces and what corners are known to be.

    (outcome, faces, place). known: +1 fluid, -1 solid, 2 both.
    """
    faces, filled = 0, 0
    f_start[0] = 0
    out, begin, inside = (
        np.empty(MAX_LOOPS, dtype=np.int64),
        np.empty(MAX_LOOPS, dtype=np.int64),
        np.zeros(4, dtype=np.bool_),
    )
    tail, head = np.empty(4096, dtype=np.int64), np.empty(4096, dtype=np.int64)
    box = np.empty(4)
    rim, at = np.empty(4, dtype=np.int64), np.array([0.0, 1.0, 2.0, 3.0])
    bits = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    for k in range(len(leaf_rank)):
        r = leaf_rank[k]
        for direction in range(6):
            other = across[r, direction]
            if other == -2:
                continue
            if other >= 0 and level[other] == level[leaf_index[r]] and other < leaf_index[r]:
                continue
            axis = direction // 2
            at_plane = origin[axis] + unit[axis] * (low[r, axis] + (side[r] if direction % 2 else 0))
            n = np.int64(0)  # not the literal, for which all that follows would be compiled once more
            for p in range(first[k], first[k + 1]):
                q = polygons[p]
                m = start[q + 1] - start[q]
                for i in range(m):
                    a, b = corners[start[q] + i], corners[start[q] + (i + 1) % m]
                    if X[a, axis] == at_plane and X[b, axis] == at_plane:
                        if n >= len(tail):
                            return 3, faces, r
                        tail[n], head[n] = a, b
                        n += 1
            if n == 0:
                plain[r, direction] = True
                continue
            u, v = planes[direction, 0], planes[direction, 1]
            box[0] = origin[u] + unit[u] * low[r, u]
            box[1] = origin[u] + unit[u] * (low[r, u] + side[r])
            box[2] = origin[v] + unit[v] * low[r, v]
            box[3] = origin[v] + unit[v] * (low[r, v] + side[r])
            for c in range(4):
                bit = bits[c, 0] << u | bits[c, 1] << v
                if direction % 2:
                    bit |= 1 << axis
                rim[c] = corner_id[r, bit]
            outcome, count = fluid_polygon_loops(tail, head, n, U3[:, u], U3[:, v], box, rim, at, out, begin, inside)
            if outcome != 0:
                return outcome, faces, r
            base = len(X)
            for c in range(4):
                mark = 1 if inside[c] else -1
                if known[rim[c] - base] == 0:
                    known[rim[c] - base] = mark
                elif known[rim[c] - base] != mark:
                    known[rim[c] - base] = 2
            for j in range(count):
                if faces + 1 >= len(f_leaf) or filled + begin[j + 1] - begin[j] >= len(f_corners):
                    return 4, faces, r
                for i in range(begin[j], begin[j + 1]):
                    f_corners[filled] = out[i]
                    filled += 1
                f_leaf[faces], f_way[faces] = r, direction
                faces += 1
                f_start[faces] = filled
    return 0, faces, -1


REFUSAL_REASONS = {
    1: "the surface ends inside a cell",
    2: "inside and outside contradict each other",
    3: "too many triangles in one cell",
}


def clip_cubes(tree: Tree, points: np.ndarray, triangles: np.ndarray) -> ClippedCubes:
    """Fill the outside (where normals point) of a surface that is closed, or open along a side of the domain only."""
    X, leaf, own, start, corners = clip_to_tree(tree, points, triangles)
    leaves = tree.leaves
    rank = np.full(len(tree.level), -1)
    rank[leaves] = np.arange(len(leaves))
    across = neighbours(3, tree.depth, tree.limit, tree.level, tree.corner, tree.child, leaves)
    low, side = tree.corner[leaves], tree.side[leaves]
    bits = np.stack([(np.arange(8) >> axis) & 1 for axis in range(3)], axis=1)
    wide = np.int64(tree.depth + 1)
    locations = low[:, None] + bits * side[:, None, None]
    key = (locations[:, :, 0] << (2 * wide)) | (locations[:, :, 1] << wide) | locations[:, :, 2]
    used, corner_id = np.unique(key, return_inverse=True)
    corner_id = corner_id.reshape(key.shape) + len(X)
    mask = (np.int64(1) << wide) - 1
    grid = np.stack(
        [
            tree.coordinates(0, used >> (2 * wide)),
            tree.coordinates(1, (used >> wide) & mask),
            tree.coordinates(2, used & mask),
        ],
        axis=1,
    )
    every = np.concatenate([X, grid])
    order = np.argsort(leaf, kind="stable")
    cut, first = np.unique(leaf[order], return_index=True)
    cut_rank = rank[cut]
    plain = np.zeros((len(leaves), 6), dtype=bool)
    known = np.zeros(len(used), dtype=np.int64)
    room = 12 * len(cut) + 64
    f_start, f_corners = np.empty(room + 1, dtype=np.int64), np.empty(10 * room, dtype=np.int64)
    f_leaf, f_way = np.empty(room, dtype=np.int64), np.empty(room, dtype=np.int64)
    outcome, count, position = _cut_faces(
        cut_rank,
        np.r_[first, len(leaf)],
        order,
        start,
        corners,
        X,
        every,
        low,
        side,
        tree.origin,
        tree.unit,
        across,
        leaves,
        tree.level,
        corner_id,
        PLANES,
        f_start,
        f_corners,
        f_leaf,
        f_way,
        plain,
        known,
    )
    if outcome:
        location = tree.midpoints(leaves[[position]])[0]
        raise MeshError(
            f"clipping failed at {location.round(5)} m: {REFUSAL_REASONS.get(outcome, 'too many faces')}.", location
        )
    f_start, f_leaf, f_way = f_start[: count + 1], f_leaf[:count], f_way[:count]
    f_corners = f_corners[: f_start[-1]]
    # whole faces, by the smaller cube
    is_cut = np.zeros(len(leaves), dtype=bool)
    is_cut[cut_rank] = True
    level = tree.level[leaves]
    there = across >= 0
    beside = rank[np.maximum(across, 0)]
    owner = (across == -1) | (there & ((level[:, None] > level[beside]) | (leaves[:, None] < across)))
    whole = owner & (plain | ~is_cut[:, None])
    at, direction = np.nonzero(whole)
    ring = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    bit_of = np.array(
        [
            [(ring[c, 0] << PLANES[w, 0]) | (ring[c, 1] << PLANES[w, 1]) | ((w % 2) << (w // 2)) for c in range(4)]
            for w in range(6)
        ]
    )
    quads = corner_id[at[:, None], bit_of[direction]]
    # corners of whole faces and of cells that nothing cuts are all alike
    base = len(X)
    a = np.concatenate([np.repeat(quads[:, 0], 3), np.repeat(corner_id[~is_cut, 0], 7)]) - base
    b = np.concatenate([quads[:, 1:].ravel(), corner_id[~is_cut, 1:].ravel()]) - base
    label = components(a, b, len(used))
    groups = int(label.max(initial=-1)) + 1
    fluid, solid = np.zeros(groups, dtype=bool), np.zeros(groups, dtype=bool)
    fluid[label[(known == 1) | (known == 2)]] = True
    solid[label[(known == -1) | (known == 2)]] = True
    if (fluid & solid).any():
        location = grid[np.flatnonzero((fluid & solid)[label])[0]]
        raise MeshError(
            f"clipping failed at {location.round(5)} m: inside and outside contradict each other.", location
        )
    if not len(cut):
        fluid[:] = True
    keep = fluid[label[quads[:, 0] - base]]
    at, direction, quads = at[keep], direction[keep], quads[keep]
    # all faces together
    counts = np.concatenate([np.diff(f_start), np.full(len(quads), 4)])
    all_corners = np.concatenate([f_corners, quads.ravel()])
    all_start = np.r_[0, np.cumsum(counts)]
    left_leaf, directions = np.concatenate([f_leaf, at]), np.concatenate([f_way, direction])
    outer = across[left_leaf, directions]
    right_leaf = np.where(outer >= 0, rank[np.maximum(outer, 0)], -1)
    # cells: one for a whole cube, one for each group of polygons that share points in a cut one
    n_faces, n_walls = len(counts), len(leaf)
    element_leaf = np.concatenate([left_leaf, right_leaf, rank[leaf]])
    element_of = np.concatenate([np.arange(n_faces), np.arange(n_faces), n_faces + np.arange(n_walls)])
    alive = (element_leaf >= 0) & is_cut[np.maximum(element_leaf, 0)]
    index = np.flatnonzero(alive)
    both_start = np.r_[all_start, all_start[-1] + start[1:]]
    both_corners = np.concatenate([all_corners, corners])
    size = np.diff(both_start)[element_of[index]]
    which = np.repeat(np.arange(len(index)), size)
    within = np.arange(len(which)) - np.repeat(np.cumsum(size) - size, size)
    point = both_corners[both_start[element_of[index]][which] + within]
    pair = element_leaf[index][which] * np.int64(len(every)) + point
    rows = np.argsort(pair, kind="stable")
    same = np.flatnonzero(pair[rows][1:] == pair[rows][:-1])
    piece = components(which[rows[same]], which[rows[same + 1]], len(index))
    pieces = int(piece.max(initial=-1)) + 1
    cell_of = np.full(len(element_leaf), -1)
    cell_of[index] = piece
    solo = np.full(len(leaves), -1)
    live = ~is_cut & fluid[label[corner_id[:, 0] - base]]
    solo[live] = pieces + np.arange(live.sum())
    rest = (element_leaf >= 0) & ~alive
    cell_of[rest] = solo[element_leaf[rest]]
    cube = np.empty(pieces + int(live.sum()), dtype=np.int64)
    cube[piece] = leaves[element_leaf[index]]
    cube[pieces:] = leaves[live]
    return ClippedCubes(
        every,
        all_start,
        all_corners,
        cell_of[:n_faces],
        cell_of[n_faces : 2 * n_faces],
        np.where(right_leaf < 0, directions, -1),
        start,
        corners,
        own,
        cell_of[2 * n_faces :],
        cube,
    )
