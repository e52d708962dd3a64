"""Surfaces of equal value through a mesh in space, and what spins there: vorticity and the Q criterion.

Values at the points are means of the cells round them; every cell that the level passes is cut into tetrahedra between
its centre, the centroids of its faces and their edges, and these exactly (Doi and Koide 1991, IEICE Trans. E74:214), so
neighbours share their cuts and the surface has no gaps. Q = (|W|^2 - |S|^2) / 2 of the rates of rotation W and of
strain S is positive in the core of a vortex (Hunt, Wray and Moin 1988, CTR-S88). Verified by tests/test_paths.py (area
of a ball, a vortex that turns as a solid).
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.geometry.surface.triangulation import Surface

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh
    from zephyrum.results.solution import Solution


ROTATION_QUANTITIES = ("vorticity", "q")


def velocity_gradients(solution: "Solution") -> np.ndarray:
    """Gradients of u, v, w (first index) along x, y, z in the cells.

    Parameters
    ----------
    solution : Solution
        Solution.

    Returns
    -------
    (n, 3, 3) array
        [1/s]
    """
    mesh = solution.mesh
    gradients = np.zeros((mesh.n_cells, 3, 3))
    velocity = np.ascontiguousarray(solution.fields()["velocity"])
    GradientOperator.of(mesh, solution.numerics.reconstruction.gradient)(velocity, gradients, velocity=0)
    return gradients


def rotation_quantities(solution: "Solution") -> dict[str, np.ndarray]:
    """Vorticity and the criteria of vortices in the cells; see `Solution.rotation_quantities`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    """
    g = velocity_gradients(solution)
    turn, strain = 0.5 * (g - g.transpose(0, 2, 1)), 0.5 * (g + g.transpose(0, 2, 1))
    rate = solution.air.speed / solution.reference.chord
    total = np.einsum("nij,nij->n", turn, turn)
    return {
        "vorticity": np.sqrt(2.0 * total) / rate,
        "q": 0.5 * (total - np.einsum("nij,nij->n", strain, strain)) / rate**2,
    }


def point_values(mesh: "Mesh", values: np.ndarray) -> np.ndarray:
    """Means of cell values at the points of a mesh, over the faces round each.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    values : (n_cells,) array
        Values.

    Returns
    -------
    (n_points,) array
    """
    face = values[mesh.left].astype(float)
    face[: mesh.n_interior] = 0.5 * (face[: mesh.n_interior] + values[mesh.right])
    many = np.diff(mesh.face_start)
    n = len(mesh.points)
    return np.bincount(mesh.face_points, np.repeat(face, many), n) / np.maximum(
        np.bincount(mesh.face_points, minlength=n), 1
    )


def iso_surface(solution: "Solution", name: str, level: float) -> tuple[Surface, np.ndarray]:
    """Surface on which a field has a value; see `Solution.iso_surface`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    name : str
        Field.
    level : float
        Value.
    """
    mesh = solution.mesh
    if mesh.planar:
        raise InputError("a surface of equal value needs a mesh in space; a section has draw_field.")
    fields = {key: value for key, value in solution.fields().items() if value.ndim == 1}
    known = (*fields, *ROTATION_QUANTITIES)
    if name not in known:
        raise InputError(f"field {name!r} is not known; choose one of: {', '.join(known)}.")
    values = rotation_quantities(solution)[name] if name in ROTATION_QUANTITIES else fields[name]
    number("level", level)
    points, triangles, cell = iso_polygons(mesh, values, level)
    if not len(triangles):
        raise InputError(f"no place has {name} = {level:g}; it runs from {values.min():.4g} to {values.max():.4g}.")
    return Surface(points, triangles, np.zeros(len(triangles), dtype=np.int64), (f"{name} = {level:g}",)), cell


def iso_polygons(mesh: "Mesh", values: np.ndarray, level: float):
    """Triangles on which a cell field has a value.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    values : (n,) array
        Cell field.
    level : float
        Value.

    Returns
    -------
    points : (p, 3) array
        [m]
    triangles : (t, 3) array
    cell : (t,) array
        Cell of each triangle.
    """
    corner = point_values(mesh, values) - level
    start, faces = mesh.cell_faces
    # cells whose corners are not all on one side
    low, high = (
        np.minimum.reduceat(corner[mesh.face_points], mesh.face_start[:-1]),
        np.maximum.reduceat(corner[mesh.face_points], mesh.face_start[:-1]),
    )
    own = values - level
    low, high = (
        np.minimum(np.minimum.reduceat(low[faces], start[:-1]), own),
        np.maximum(np.maximum.reduceat(high[faces], start[:-1]), own),
    )
    cut = np.flatnonzero((low < 0.0) & (high > 0.0))
    if not len(cut):
        return np.zeros((0, 3)), np.zeros((0, 3), dtype=np.int64), cut
    many = np.diff(start)[cut]
    cell = np.repeat(cut, many)
    face = faces[np.arange(many.sum()) + np.repeat(start[cut] - np.r_[0, np.cumsum(many)[:-1]], many)]
    edges = np.diff(mesh.face_start)[face]
    owner = np.repeat(np.arange(len(face)), edges)
    within = np.arange(edges.sum()) - np.repeat(np.r_[0, np.cumsum(edges)[:-1]], edges)
    begin = mesh.face_start[face][owner]
    a, b = mesh.face_points[begin + within], mesh.face_points[begin + (within + 1) % edges[owner]]
    midpoint = np.add.reduceat(corner[mesh.face_points], mesh.face_start[:-1]) / np.diff(mesh.face_start)
    # all nodes in one numbering: points, centroids of faces, centroids of cells
    n, f = len(mesh.points), mesh.n_faces
    tets = np.stack([a, b, n + face[owner], n + f + cell[owner]], axis=1)
    position = np.concatenate([mesh.points, mesh.face_centroid, mesh.cell_centroid])
    value = np.concatenate([corner, midpoint, own])
    return _tetrahedra(tets, cell[owner], position, np.where(value == 0.0, 1e-300, value))


def _tetrahedra(tets, cell, position, value):
    """Triangles of a linear field across tetrahedra (t, 4): one corner cut off, or two."""
    above = value[tets] > 0.0
    count = above.sum(axis=1)
    pairs, owners = [], []
    for k in range(4):
        others = [j for j in range(4) if j != k]
        for alone in ((count == 1) & above[:, k], (count == 3) & ~above[:, k]):
            rows = np.flatnonzero(alone)
            pairs.append(np.stack([np.stack([tets[rows, k], tets[rows, j]], axis=1) for j in others], axis=1))
            owners.append(cell[rows])
    for k in range(1, 4):
        p, q = (j for j in range(1, 4) if j != k)
        for side in (True, False):
            rows = np.flatnonzero((count == 2) & (above[:, 0] == side) & (above[:, k] == side))
            ring = [np.stack([tets[rows, i], tets[rows, j]], axis=1) for i, j in ((0, p), (0, q), (k, q), (k, p))]
            pairs += [np.stack([ring[0], ring[1], ring[2]], axis=1), np.stack([ring[0], ring[2], ring[3]], axis=1)]
            owners += [cell[rows], cell[rows]]
    pairs, owner = np.sort(np.concatenate(pairs), axis=2), np.concatenate(owners)
    key = pairs[:, :, 0] * np.int64(len(position)) + pairs[:, :, 1]
    unique, corner = np.unique(key, return_inverse=True)
    a, b = unique // len(position), unique % len(position)
    fraction = (value[a] / (value[a] - value[b]))[:, None]
    points, t = position[a] + fraction * (position[b] - position[a]), corner.reshape(-1, 3)
    # towards lower values, as walls of what is inside; those without area are dropped
    normal = np.cross(points[t[:, 1]] - points[t[:, 0]], points[t[:, 2]] - points[t[:, 0]])
    lower = np.where(value[pairs[:, 0, 0]] < value[pairs[:, 0, 1]], pairs[:, 0, 0], pairs[:, 0, 1])
    outward = np.einsum("ij,ij->i", normal, position[lower] - points[t[:, 0]]) > 0.0
    t = np.where(outward[:, None], t, t[:, [0, 2, 1]])
    good = (t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 0] != t[:, 2])
    return points, t[good], owner[good]
