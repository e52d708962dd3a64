"""Every mesh is made here: from faces in any order, from what a generator keeps, from quadrilaterals of the plane.

All end in `Mesh.check`. Verified by tests/test_mesh.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.mesh.core import SIDES, Group, Mesh
from zephyrum.mesh.polygons import renumber, select_polygons


def mesh_from_faces(
    points: np.ndarray,
    face_start: np.ndarray,
    face_points: np.ndarray,
    cell_a: np.ndarray,
    cell_b: np.ndarray,
    tag: np.ndarray,
    groups: list[tuple[str, str]],
    dimension: int,
    **extra,
) -> Mesh:
    """Build a checked Mesh from faces in any order.

    Parameters
    ----------
    points : (p, 3) array
        [m]
    face_start, face_points : arrays of int
        Face i has the corners face_points[face_start[i]:face_start[i + 1]].
    cell_a, cell_b : (n,) arrays of int
        Face i leaves the cell `cell_a[i]` for `cell_b[i]`, which is -1 on the boundary.
    tag : (n,) array of int
        Entry of `groups` of each boundary face.
    groups : list of tuple
        (name, role) of each group.
    dimension : int
        2 or 3.
    **extra
        Other fields of `Mesh`.

    Examples
    --------
    >>> corners = np.array([[0.0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]])
    >>> points = np.concatenate([corners, corners + [0.0, 1.0, 0.0]])
    >>> rings = [[0, 1, 2, 3], [7, 6, 5, 4], [0, 4, 5, 1], [1, 5, 6, 2], [2, 6, 7, 3], [3, 7, 4, 0]]
    >>> start, corners, cells = np.arange(0, 25, 4), np.concatenate(rings), np.zeros(6, dtype=np.int64)
    >>> mesh_from_faces(points, start, corners, cells, cells - 1, cells, [("box", "wall")], 3).n_cells
    1
    """
    faces = _FaceArrays(face_start, face_points, cell_a, cell_b, tag)
    return _assembled(points, faces, groups, dimension, None, extra)


class _FaceArrays(NamedTuple):
    """Corners of faces in compressed rows, the cells on both sides (-1 outside), the group of boundary faces."""

    start: np.ndarray
    points: np.ndarray
    left: np.ndarray
    right: np.ndarray
    tag: np.ndarray


def _assembled(
    points: np.ndarray, faces: _FaceArrays, groups: list[tuple], dimension: int, keep: np.ndarray | None, extra: dict
) -> Mesh:
    """Mesh of the faces that `keep` (n,) marks, all if it is None, sorted as `Mesh` wants them."""
    face_start, face_points, cell_a, cell_b, tag = faces
    inner = cell_b >= 0
    flip = inner & (cell_b < cell_a)
    left, right = np.where(flip, cell_b, cell_a), np.where(flip, cell_a, cell_b)
    order = np.lexsort((np.where(inner, right, left), np.where(inner, left, tag), ~inner))
    if keep is not None:
        order, inner = order[keep[order]], inner & keep
        tag = np.where(keep, tag, -1)
    begin, corners = select_polygons(face_start, face_points, order, flip)
    n_inner = int(inner.sum())
    made, first = [], n_inner
    for k, (name, role) in enumerate(groups):
        stop = first + int(np.count_nonzero(~inner & (tag == k)))
        made.append(Group(name, role, first, stop))
        first = stop
    if keep is not None:
        points = points[renumber(corners, len(points))]
    return Mesh(
        np.ascontiguousarray(points, dtype=float),
        begin,
        corners,
        np.ascontiguousarray(left[order], dtype=np.int64),
        np.ascontiguousarray(right[order][:n_inner], dtype=np.int64),
        tuple(made),
        dimension,
        **extra,
    ).check()


def mesh_from_kept(
    points: np.ndarray,
    start: np.ndarray,
    corners: np.ndarray,
    left: np.ndarray,
    right: np.ndarray,
    tag: np.ndarray,
    groups: list[tuple],
    keep: np.ndarray,
) -> Mesh:
    """Build a mesh in space from some of the faces; points and groups that nothing uses are left out.

    Parameters
    ----------
    points : (p, 3) array
        [m]
    start, corners : array
        Face i has the points corners[start[i]:start[i + 1]].
    left, right : array
        Cells on both sides, -1 outside; any numbers.
    tag : array
        Entry of `groups` of each boundary face.
    groups : list[tuple]
        (name, role) of each group.
    keep : array
        Mask of the faces.

    Notes
    -----
    Cells in left and right (-1 outside) may have any numbers.
    """
    there, inner = left[keep], right[keep & (right >= 0)]
    present = np.zeros(max(there.max(), inner.max()) + 1, dtype=bool)
    present[there] = present[inner] = True
    cell = np.r_[np.cumsum(present) - 1, -1]  # the last one for those outside
    live = [k for k in range(len(groups)) if (keep & (right < 0) & (tag == k)).any()]
    code = np.full(len(groups), -1)
    code[live] = np.arange(len(live))
    left, right = cell[np.where(keep, left, -1)], cell[np.where(keep, right, -1)]
    faces = _FaceArrays(start, corners, left, right, code[tag])
    return _assembled(points, faces, [groups[k] for k in live], 3, keep, {})


def mesh_from_quads(
    plane: np.ndarray,
    quads: np.ndarray,
    edges: list[tuple[str, str, np.ndarray]],
    depth: float = 1.0,
    wedge: float = 0.0,
    **extra,
) -> Mesh:
    """Build a planar or axisymmetric mesh from quadrilaterals; one with a repeated corner is a triangle.

    Parameters
    ----------
    plane : (n, 2) array
        Corners x, z [m].
    quads : (n_cells, 4) array
        Counter-clockwise.
    edges : list[tuple[str, str, array]]
        Boundary: (name, role, point pairs (m, 2)); edges on the axis of an axisymmetric mesh belong to no group.
    depth : float, optional
        Width of a planar mesh [m].
    wedge : float, optional
        Half angle [rad] of an axisymmetric mesh about the x axis; 0 for a planar mesh.
    **extra
        Other fields of `Mesh`.

    Raises
    ------
    MeshError
        An edge has more than two cells, or a boundary edge no group.

    Notes
    -----
    A quad with a repeated corner is a triangle. `edges` lists the boundary: (name, role, point pairs (m, 2)). With
    `wedge`, half an angle [rad], the mesh is that about the x axis; edges on the axis belong to no group.

    Examples
    --------
    >>> plane = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
    >>> edges = [("side", "slip", np.array([[0, 1], [1, 2], [2, 3], [3, 0]]))]
    >>> mesh_from_quads(plane, np.array([[0, 1, 2, 3]]), edges).n_cells
    1
    """
    n = len(plane)
    points = np.zeros((2 * n, 3))
    points[:n, 0::2] = points[n:, 0::2] = plane
    points[n:, 1] = depth
    if wedge:
        points[:, 1] = np.r_[-plane[:, 1], plane[:, 1]] * np.tan(wedge)
    a, b = quads.ravel(), np.roll(quads, -1, axis=1).ravel()
    cell = np.repeat(np.arange(len(quads)), 4)
    real = a != b
    a, b, cell = a[real], b[real], cell[real]
    key = np.minimum(a, b) * n + np.maximum(a, b)
    order = np.argsort(key, kind="stable")
    key, a, b, cell = key[order], a[order], b[order], cell[order]
    first = np.flatnonzero(np.r_[True, key[1:] != key[:-1]])
    count = np.diff(np.r_[first, len(key)])
    if count.max() > 2:
        raise MeshError("an edge belongs to more than two cells.")
    other = np.full(len(first), -1, dtype=np.int64)
    twin = count == 2
    other[twin] = cell[first[twin] + 1]
    tag = np.full(len(first), -1, dtype=np.int64)
    for k, (name, _, pairs) in enumerate(edges):
        pairs = np.asarray(pairs).reshape(-1, 2)
        where = np.searchsorted(key[first], pairs.min(axis=1) * n + pairs.max(axis=1))
        if (where >= len(first)).any() or (key[first][where] != pairs.min(axis=1) * n + pairs.max(axis=1)).any():
            raise MeshError(f"an edge of group {name!r} is not an edge of the mesh.")
        tag[where] = k
    on_axis = np.zeros(len(first), dtype=bool)
    if wedge:
        on_axis = ~twin & (plane[a[first], 1] == 0.0) & (plane[b[first], 1] == 0.0)
    if ((tag < 0) & ~twin & ~on_axis).any():
        lost = first[np.flatnonzero((tag < 0) & ~twin)[0]]
        raise MeshError(f"the boundary edge at {plane[a[lost]]} belongs to no group.")
    if wedge:
        off = ~on_axis
        found = _PlaneEdges(a[first][off], b[first][off], cell[first][off], other[off], tag[off])
        return _wedge(points, quads, found, [(e[0], e[1]) for e in edges], extra | {"wedge": wedge})
    a, b = a[first], b[first]
    corners = np.stack([a, a + n, b + n, b], axis=1)
    return mesh_from_faces(
        points,
        np.arange(len(first) + 1) * 4,
        corners.ravel(),
        cell[first],
        other,
        tag,
        [(e[0], e[1]) for e in edges],
        2,
        **extra,
    )


class _PlaneEdges(NamedTuple):
    """Edges from corner a to b with the cells on both sides (-1 outside) and the group of boundary edges."""

    a: np.ndarray
    b: np.ndarray
    cell: np.ndarray
    other: np.ndarray
    tag: np.ndarray


def _wedge(points: np.ndarray, quads: np.ndarray, found: _PlaneEdges, groups: list[tuple], extra: dict) -> Mesh:
    """The axisymmetric mesh of `mesh_from_quads`: a face an edge that is not on the axis, and two a cell on the
    sides.
    """
    n = len(points) // 2
    a, b, cell, other, tag = found
    back = np.where(points[:n, 2] == 0.0, np.arange(n), np.arange(n) + n)  # on the axis front and back are one point
    corners = np.stack([a, back[a], back[b], b], axis=1)
    real = np.ones(corners.shape, dtype=bool)
    real[:, 1], real[:, 2] = corners[:, 1] != a, corners[:, 2] != b
    whole = np.stack([quads[:, k] != quads[:, k - 1] for k in range(4)], axis=1)
    counts = np.concatenate([real.sum(axis=1), whole.sum(axis=1), whole.sum(axis=1)])
    face_points = np.concatenate([corners[real], quads[whole], back[quads][:, ::-1][whole[:, ::-1]]])
    cells = np.arange(len(quads))
    used, face_points = np.unique(face_points, return_inverse=True)
    return mesh_from_faces(
        points[used],
        np.r_[0, np.cumsum(counts)],
        face_points.ravel(),
        np.concatenate([cell, cells, cells]),
        np.concatenate([other, np.full(2 * len(quads), -1)]),
        np.concatenate([tag, np.full(len(quads), len(groups)), np.full(len(quads), len(groups) + 1)]),
        groups + [(name, "symmetry") for name in SIDES],
        3,
        **extra,
    )
