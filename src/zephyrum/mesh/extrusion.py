"""A mesh of the plane extruded along y to layers of cells in space.

The flow of an infinite wing on such a mesh is that of its section, so the solver in space can be compared with that in
the plane cell by cell. Verified by tests/test_mesh.py and validation/extruded.py.
"""

from dataclasses import replace

import numpy as np

from zephyrum._core.validation import takes
from zephyrum.errors import InputError
from zephyrum.mesh.construction import mesh_from_faces
from zephyrum.mesh.core import SIDES, Mesh
from zephyrum.mesh.polygons import select_polygons


@takes(mesh=Mesh)
def mesh_extruded(mesh: Mesh, positions: list[float] | np.ndarray) -> Mesh:
    """Extrude a mesh of the plane along y.

    Parameters
    ----------
    mesh : Mesh
        Mesh of a section or of bodies in two dimensions.
    positions : (k,) array_like
        Increasing y of the planes between the layers of cells, at least two [m].

    Returns
    -------
    Mesh
        k - 1 layers of cells between two planes of symmetry. The reference area belongs to the new span. Coarser levels
        are extruded to the same layers.

    Raises
    ------
    InputError
        The mesh is not two-dimensional, or the positions do not increase.

    Examples
    --------
    >>> import zephyrum as zy
    >>> section = zy.mesh_airfoil(zy.Airfoil.naca("0012"), 32, 8, topology="O")
    >>> wing = mesh_extruded(section, [0.0, 0.1, 0.2])
    >>> wing.dimension, wing.n_cells == 2 * section.n_cells
    (3, True)
    """
    if mesh.dimension != 2 or mesh.wedge:
        raise InputError("only a mesh of the plane can be extruded; this one is in space or about an axis.")
    y = np.asarray(positions, dtype=float)
    if y.ndim != 1 or len(y) < 2 or not np.isfinite(y).all() or not (np.diff(y) > 0.0).all():
        raise InputError(f"positions = {positions!r} must be at least two increasing numbers.")
    return _extruded(mesh, y)


def _extruded(mesh: Mesh, y: np.ndarray) -> Mesh:
    """The mesh and its coarser levels between the planes y."""
    layers, n = len(y) - 1, mesh.n_cells
    used, edges = np.unique(mesh.edges, return_inverse=True)
    count = len(used)
    points = np.tile(mesh.points[used], (len(y), 1))
    points[:, 1] = np.repeat(y, count)
    layer = np.arange(layers)[:, None]
    a, b = (column + count * layer for column in edges.reshape(-1, 2).T)
    sides = np.stack([a, a + count, b + count, b], axis=2).reshape(-1, 4)
    neighbour = np.concatenate([mesh.right, np.full(mesh.n_faces - mesh.n_interior, -1)])
    tag = np.zeros(mesh.n_faces, dtype=np.int64)
    for k, group in enumerate(mesh.groups):
        tag[group.faces] = k
    corners, start = mesh.cell_rings
    backwards = select_polygons(start, corners, np.arange(n), np.ones(n, dtype=bool))[1]
    rings = [np.searchsorted(used, corners if k == 0 else backwards) + k * count for k in range(len(y))]
    size = np.concatenate([np.full(len(sides), 4), np.tile(np.diff(start), len(y))])
    cells, outside = np.arange(n) + n * layer, np.full(n, -1)
    front, back = np.full(n, len(mesh.groups)), np.full((layers, n), len(mesh.groups) + 1)
    made = mesh_from_faces(
        points,
        np.r_[0, np.cumsum(size)],
        np.concatenate([sides.ravel(), *rings]),
        np.concatenate([(mesh.left + n * layer).ravel(), cells[0], cells.ravel()]),
        np.concatenate([np.where(neighbour < 0, -1, neighbour + n * layer).ravel(), outside, *cells[1:], outside]),
        np.concatenate([np.tile(tag, layers), front, back.ravel()]),
        [(g.name, g.role) for g in mesh.groups] + [(name, "symmetry") for name in SIDES],
        3,
        recipe={**mesh.recipe, "positions": y.tolist()},
    )
    if mesh.reference is not None:
        span = float(y[-1] - y[0])
        area = mesh.reference.area / mesh.reference.span * span
        made = replace(made, reference=replace(mesh.reference, area=area, span=span))
    if mesh.coarser is None or mesh.parent is None:
        return made
    parent = (mesh.parent + mesh.coarser.n_cells * layer).ravel()
    return replace(made, coarser=_extruded(mesh.coarser, y), parent=parent)
