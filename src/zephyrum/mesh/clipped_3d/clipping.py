"""Cells of an octree clipped exactly by a surface: faces between polyhedral cells.

A face belongs to the smaller of its two cubes. Its polygons of fluid follow from the edges that the surface leaves on
it (`polygon_loops`); faces without edges are fluid or solid as a whole, as their corners are. Inside one cube, polygons
that are connected through points bound one cell, so that a thin tail splits a cell in two. Verified by
tests/test_clipped.py.
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact, inner_exact
from zephyrum.errors import MeshError
from zephyrum.mesh.clipped_3d.triangle_clipping import clip_to_tree
from zephyrum.mesh.polygon_loops import (
    CONFLICT,
    MAX_LOOPS,
    OPEN_END,
    FluidEdges,
    Loops,
    Rectangle,
    fluid_polygon_loops,
)
from zephyrum.mesh.polygons import components
from zephyrum.mesh.tree import Tree, neighbours

TOO_MANY_EDGES, TOO_MANY_FACES = 3, 4  # outcomes besides those of `polygon_loops`
# (first, second axis) of the plane of a face, right-handed about its outward normal: low x, high x, low y, ...
PLANES = np.array([[2, 1], [1, 2], [0, 2], [2, 0], [1, 0], [0, 1]])


@dataclass(frozen=True, eq=False)
class ClippedCubes:
    """Faces of clipped cubes.

    Attributes
    ----------
    points : (n, 3) array
        [m]; those of the surface first.
    start, corners : arrays of int
        Faces in compressed rows.
    left, right : (faces,) arrays
        Cells on both sides, -1 outside.
    outside : (faces,) array
        Side of the domain, 0 to 5, or -1.
    wall_start, wall_corners : arrays of int
        Polygons on the surface in compressed rows.
    wall_triangle, wall_cell : array
        Triangle and cell of each polygon.
    cube : (cells,) array
        Leaf of each cell.

    Notes
    -----
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


class CutPolygons(NamedTuple):
    """Polygons of the surface in the leaves that it cuts.

    Attributes
    ----------
    leaf_rank : array (cut,)
        Ranks of the cut leaves.
    first : array (cut + 1,)
        Where the polygons of each begin in `polygons`.
    polygons : array
    start, corners : array
        CSR of the points of all polygons.
    """

    leaf_rank: np.ndarray
    first: np.ndarray
    polygons: np.ndarray
    start: np.ndarray
    corners: np.ndarray


class CubeGrid(NamedTuple):
    """Cubes of the leaves with their corners and neighbours.

    Attributes
    ----------
    low, extent : array (leaves, 3)
        Low corner and sides in units of the finest cube.
    origin, unit : array (3,)
    across : array (leaves, 6)
        Neighbour in each direction (-1: none, -2: smaller ones).
    leaves, level : array
        Node of each leaf, level of each node.
    corner_id : array (leaves, 8)
        Point of each corner.
    points : array (n, 3)
        Points of the surface, `first_corner` of them, then the corners.
    first_corner : int
    """

    low: np.ndarray
    extent: np.ndarray
    origin: np.ndarray
    unit: np.ndarray
    across: np.ndarray
    leaves: np.ndarray
    level: np.ndarray
    corner_id: np.ndarray
    points: np.ndarray
    first_corner: int


class FaceRoom(NamedTuple):
    """Room for the faces of cut leaves (CSR start, corners; leaf and direction of each) and for marks.

    Attributes
    ----------
    plain : array (leaves, 6) of bool
        Faces of cut leaves that the surface leaves no edges on.
    known : array (corners,)
        +1 fluid, -1 solid, 2 both, 0 nothing known.
    """

    start: np.ndarray
    corners: np.ndarray
    leaf: np.ndarray
    direction: np.ndarray
    plain: np.ndarray
    known: np.ndarray


@inner_exact
def _face_edges(k, r, direction, polygons, grid, tail, head):
    """Number of edges that the surface leaves on a face of cut leaf k, which has rank r; -1 if they are too many."""
    axis = direction // 2
    plane = grid.origin[axis] + grid.unit[axis] * (grid.low[r, axis] + (grid.extent[r, axis] if direction % 2 else 0))
    n = np.int64(0)  # not the literal, for which all that follows would be compiled once more
    for p in range(polygons.first[k], polygons.first[k + 1]):
        q = polygons.polygons[p]
        low = polygons.start[q]
        m = polygons.start[q + 1] - low
        for i in range(m):
            a, b = polygons.corners[low + i], polygons.corners[low + (i + 1) % m]
            if grid.points[a, axis] == plane and grid.points[b, axis] == plane:
                if n >= len(tail):
                    return np.int64(-1)
                tail[n], head[n] = a, b
                n += 1
    return n


@inner_exact
def _set_face_rectangle(r, direction, grid, planes, box, perimeter):
    """Fill box (4,) and the corners perimeter (4,) of a face."""
    axis, u, v = direction // 2, planes[direction, 0], planes[direction, 1]
    box[0] = grid.origin[u] + grid.unit[u] * grid.low[r, u]
    box[1] = grid.origin[u] + grid.unit[u] * (grid.low[r, u] + grid.extent[r, u])
    box[2] = grid.origin[v] + grid.unit[v] * grid.low[r, v]
    box[3] = grid.origin[v] + grid.unit[v] * (grid.low[r, v] + grid.extent[r, v])
    for c in range(4):
        along_u, along_v = np.int64(c == 1 or c == 2), np.int64(c >= 2)
        bit = along_u << u | along_v << v
        if direction % 2:
            bit |= 1 << axis
        perimeter[c] = grid.corner_id[r, bit]


@inner_exact
def _mark_corners(perimeter, inside, first_corner, known):
    """Mark the corners of a face as fluid or solid."""
    for c in range(4):
        mark, corner = 1 if inside[c] else -1, perimeter[c] - first_corner
        if known[corner] == 0:
            known[corner] = mark
        elif known[corner] != mark:
            known[corner] = 2


@exact
def _cut_faces(polygons, grid, planes, room):
    """Write the faces of the cut leaves that the surface leaves edges on to a `FaceRoom`: (outcome, faces, leaf)."""
    faces, filled = 0, 0
    room.start[0] = 0
    points, start, inside = (
        np.empty(MAX_LOOPS, dtype=np.int64),
        np.empty(MAX_LOOPS, dtype=np.int64),
        np.zeros(4, dtype=np.bool_),
    )
    tail, head, box = np.empty(4096, dtype=np.int64), np.empty(4096, dtype=np.int64), np.empty(4)
    perimeter, positions = np.empty(4, dtype=np.int64), np.array([0.0, 1.0, 2.0, 3.0])
    for k in range(len(polygons.leaf_rank)):
        r = polygons.leaf_rank[k]
        for direction in range(6):
            other, own = grid.across[r, direction], grid.leaves[r]
            if other == -2 or (other >= 0 and grid.level[other] == grid.level[own] and other < own):
                continue
            n = _face_edges(k, r, direction, polygons, grid, tail, head)
            if n < 0:
                return TOO_MANY_EDGES, faces, r
            if n == 0:
                room.plain[r, direction] = True
                continue
            _set_face_rectangle(r, direction, grid, planes, box, perimeter)
            u, v = grid.points[:, planes[direction, 0]], grid.points[:, planes[direction, 1]]
            outcome, count = fluid_polygon_loops(
                FluidEdges(tail, head, n), Rectangle(u, v, box, perimeter, positions), Loops(points, start, inside)
            )
            if outcome != 0:
                return outcome, faces, r
            _mark_corners(perimeter, inside, grid.first_corner, room.known)
            for j in range(count):
                if faces + 1 >= len(room.leaf) or filled + start[j + 1] - start[j] >= len(room.corners):
                    return TOO_MANY_FACES, faces, r
                for i in range(start[j], start[j + 1]):
                    room.corners[filled] = points[i]
                    filled += 1
                room.leaf[faces], room.direction[faces] = r, direction
                faces += 1
                room.start[faces] = filled
    return 0, faces, -1


REFUSAL_REASONS = {
    OPEN_END: "the surface ends inside a cell",
    CONFLICT: "inside and outside contradict each other",
    TOO_MANY_EDGES: "too many triangles in one cell",
    TOO_MANY_FACES: "too many faces",
}


def clip_cubes(tree: Tree, points: np.ndarray, triangles: np.ndarray) -> ClippedCubes:
    """Fill the outside of a surface with clipped cubes.

    Parameters
    ----------
    tree : Tree
    points, triangles : array (n, 3)
        The surface; normals point into the fluid. It is closed, or open along a side of the domain only.

    Returns
    -------
    ClippedCubes

    Raises
    ------
    MeshError
        Where the surface ends inside a cell, or where inside and outside contradict each other.
    """
    X, leaf, own, start, corners = clip_to_tree(tree, points, triangles)
    leaves = tree.leaves
    rank = np.full(len(tree.level), -1)
    rank[leaves] = np.arange(len(leaves))
    grid = _cube_grid(tree, X)
    order = np.argsort(leaf, kind="stable")
    cut, first = np.unique(leaf[order], return_index=True)
    polygons = CutPolygons(rank[cut], np.r_[first, len(leaf)], order, start, corners)
    room = _faces_of_cut_cubes(tree, polygons, grid)
    is_cut = np.zeros(len(leaves), dtype=bool)
    is_cut[polygons.leaf_rank] = True
    whole, is_fluid = _whole_faces(grid, rank, is_cut, room)
    faces = _Faces.joined(room, whole, grid, rank)
    walls = start, corners, rank[leaf]
    cell_of, cube = _cells(faces, walls, is_cut, ~is_cut & is_fluid, len(grid.points))
    n = len(faces.left)
    return ClippedCubes(
        grid.points,
        faces.start,
        faces.corners,
        cell_of[:n],
        cell_of[n : 2 * n],
        np.where(faces.right < 0, faces.direction, -1),
        start,
        corners,
        own,
        cell_of[2 * n :],
        leaves[cube],
    )


def _cube_grid(tree: Tree, X: np.ndarray) -> CubeGrid:
    """Cubes of all leaves, with the points X of the surface first."""
    leaves = tree.leaves
    across = neighbours(tree)
    low, extent = tree.corner[leaves], tree.extent[leaves]
    bits = np.stack([(np.arange(8) >> axis) & 1 for axis in range(3)], axis=1)
    wide = np.int64(tree.depth + 1)
    locations = low[:, None] + bits * extent[:, None]
    key = (locations[:, :, 0] << (2 * wide)) | (locations[:, :, 1] << wide) | locations[:, :, 2]
    used, corner_id = np.unique(key, return_inverse=True)
    mask = (np.int64(1) << wide) - 1
    parts = used >> (2 * wide), (used >> wide) & mask, used & mask
    corners = np.stack([tree.coordinates(axis, parts[axis]) for axis in range(3)], axis=1)
    ids = corner_id.reshape(key.shape) + len(X)
    points = np.concatenate([X, corners])
    return CubeGrid(low, extent, tree.origin, tree.unit, across, leaves, tree.level, ids, points, len(X))


def _faces_of_cut_cubes(tree: Tree, polygons: CutPolygons, grid: CubeGrid) -> FaceRoom:
    """Faces of the cut leaves that the surface leaves edges on."""
    most = 12 * len(polygons.leaf_rank) + 64
    room = FaceRoom(
        np.empty(most + 1, dtype=np.int64),
        np.empty(10 * most, dtype=np.int64),
        np.empty(most, dtype=np.int64),
        np.empty(most, dtype=np.int64),
        np.zeros((len(grid.leaves), 6), dtype=bool),
        np.zeros(len(grid.points) - grid.first_corner, dtype=np.int64),
    )
    outcome, count, position = _cut_faces(polygons, grid, PLANES, room)
    if outcome:
        location = tree.midpoints(grid.leaves[[position]])[0]
        raise MeshError(f"clipping failed at {location.round(5)} m: {REFUSAL_REASONS[outcome]}.", location)
    start = room.start[: count + 1]
    return room._replace(
        start=start, corners=room.corners[: start[-1]], leaf=room.leaf[:count], direction=room.direction[:count]
    )


def _whole_faces(
    grid: CubeGrid, rank: np.ndarray, is_cut: np.ndarray, room: FaceRoom
) -> tuple[tuple[np.ndarray, np.ndarray, np.ndarray], np.ndarray]:
    """(leaf, direction and corners of the uncut faces in the fluid, which (leaves,) have a fluid corner).

    A face belongs to the smaller of its cubes. Corners of uncut faces and of uncut cubes are all alike.
    """
    level, base, across = grid.level[grid.leaves], grid.first_corner, grid.across
    beside = rank[np.maximum(across, 0)]
    smaller = (level[:, None] > level[beside]) | (grid.leaves[:, None] < across)
    owner = (across == -1) | ((across >= 0) & smaller)
    at, direction = np.nonzero(owner & (room.plain | ~is_cut[:, None]))
    ring = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    bit_of = np.array(
        [
            [(ring[c, 0] << PLANES[w, 0]) | (ring[c, 1] << PLANES[w, 1]) | ((w % 2) << (w // 2)) for c in range(4)]
            for w in range(6)
        ]
    )
    quads, uncut = grid.corner_id[at[:, None], bit_of[direction]], grid.corner_id[~is_cut]
    a = np.concatenate([np.repeat(quads[:, 0], 3), np.repeat(uncut[:, 0], 7)]) - base
    b = np.concatenate([quads[:, 1:].ravel(), uncut[:, 1:].ravel()]) - base
    label = components(a, b, len(room.known))
    groups = int(label.max(initial=-1)) + 1
    fluid, solid = np.zeros(groups, dtype=bool), np.zeros(groups, dtype=bool)
    fluid[label[(room.known == 1) | (room.known == 2)]] = True
    solid[label[(room.known == -1) | (room.known == 2)]] = True
    if (fluid & solid).any():
        location = grid.points[base + np.flatnonzero((fluid & solid)[label])[0]]
        raise MeshError(f"clipping failed at {location.round(5)} m: {REFUSAL_REASONS[CONFLICT]}.", location)
    if not is_cut.any():
        fluid[:] = True
    keep = fluid[label[quads[:, 0] - base]]
    return (at[keep], direction[keep], quads[keep]), fluid[label[grid.corner_id[:, 0] - base]]


@dataclass(frozen=True, eq=False)
class _Faces:
    """All faces: CSR of their corners, ranks of the leaves on both sides (-1 outside), direction."""

    start: np.ndarray
    corners: np.ndarray
    left: np.ndarray
    right: np.ndarray
    direction: np.ndarray

    @classmethod
    def joined(cls, room: FaceRoom, whole: tuple, grid: CubeGrid, rank: np.ndarray) -> "_Faces":
        """Faces of cut cubes, then the whole ones."""
        at, direction, quads = whole
        counts = np.concatenate([np.diff(room.start), np.full(len(quads), 4)])
        left, directions = np.concatenate([room.leaf, at]), np.concatenate([room.direction, direction])
        outer = grid.across[left, directions]
        right = np.where(outer >= 0, rank[np.maximum(outer, 0)], -1)
        corners = np.concatenate([room.corners, quads.ravel()])
        return cls(np.r_[0, np.cumsum(counts)], corners, left, right, directions)


def _cells(
    faces: _Faces, walls: tuple, is_cut: np.ndarray, fluid: np.ndarray, n_points: int
) -> tuple[np.ndarray, np.ndarray]:
    """(cell of each left side, right side and wall polygon, rank of the leaf of each cell).

    A whole cube is one cell; in a cut one each group of polygons that share points is one. fluid (leaves,): whole cubes
    in the fluid.
    """
    wall_start, wall_corners, wall_leaf = walls
    n_faces, n_walls = len(faces.left), len(wall_leaf)
    element_leaf = np.concatenate([faces.left, faces.right, wall_leaf])
    element_of = np.concatenate([np.arange(n_faces), np.arange(n_faces), n_faces + np.arange(n_walls)])
    in_cut = (element_leaf >= 0) & is_cut[np.maximum(element_leaf, 0)]
    index = np.flatnonzero(in_cut)
    start = np.r_[faces.start, faces.start[-1] + wall_start[1:]]
    corners = np.concatenate([faces.corners, wall_corners])
    size = np.diff(start)[element_of[index]]
    which = np.repeat(np.arange(len(index)), size)
    within = np.arange(len(which)) - np.repeat(np.cumsum(size) - size, size)
    point = corners[start[element_of[index]][which] + within]
    pair = element_leaf[index][which] * np.int64(n_points) + point
    rows = np.argsort(pair, kind="stable")
    same = np.flatnonzero(pair[rows][1:] == pair[rows][:-1])
    piece = components(which[rows[same]], which[rows[same + 1]], len(index))
    pieces = int(piece.max(initial=-1)) + 1
    cell_of = np.full(len(element_leaf), -1)
    cell_of[index] = piece
    whole_cell = np.full(len(is_cut), -1)
    whole_cell[fluid] = pieces + np.arange(fluid.sum())
    rest = (element_leaf >= 0) & ~in_cut
    cell_of[rest] = whole_cell[element_leaf[rest]]
    cube = np.empty(pieces + int(fluid.sum()), dtype=np.int64)
    cube[piece] = element_leaf[index]
    cube[pieces:] = np.flatnonzero(fluid)
    return cell_of, cube
