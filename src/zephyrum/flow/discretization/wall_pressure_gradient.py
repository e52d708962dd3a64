"""Pressure gradient normal to walls along which the flow slips, from the curvature of the wall.

Along a wall, flow that is inviscid obeys n . grad p = rho V . (grad n) . V: the centripetal force of its curved path
(Dadone and Grossman 1994, AIAA J. 32:285). The gradient of a wall cell is one-sided: along the normal it is right at a
distance m from the wall, larger than the height h of the centroid. A slope linear between the wall and m gives the
gradient at the centroid, and the pressure at the wall from the parabola through the centroid with both slopes
(Hermite). Cells at sharp edges, and those whose wall faces turn too far, keep the gradient found.
Verified by tests/test_walls.py, validation/curved_walls.py and validation/clipped.py.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import inlined, serial
from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.flow.physics.boundary_conditions import slip_wall_roles
from zephyrum.mesh import Mesh
from zephyrum.mesh.polygons import entries_of
from zephyrum.mesh.wall_shape import wall_shape_of

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import Boundary, Faces

MAX_KNOWN_WEIGHT = 0.75  # of the slope known at the wall in the gradient of a wall cell
MIN_NORMAL_COSINE = 0.9  # least length of the mean of the unit normals of a cell's wall faces


class SlipWallCells(NamedTuple):
    """Cells at smooth walls along which the flow slips.

    Attributes
    ----------
    cell : (k,) array
        Cells.
    normal : (k, 3) array
        Unit normals of their walls, out of the domain.
    curvature : (k, 3, 3) array
        Derivatives of the normals along the walls [1/m].
    weight : (k,) array
        Weight 1 - h / m of the slope known at the wall in the gradient of the cell.
    row : (nb,) array
        Row of the cell of each boundary face, -1 for faces that are no such walls.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> from zephyrum.flow.discretization.cell_gradient import GradientOperator
    >>> len(slip_wall_cells(mesh, "euler", GradientOperator.of(mesh)).cell)  # all but those at the trailing edge
    30
    """

    cell: np.ndarray
    normal: np.ndarray
    curvature: np.ndarray
    weight: np.ndarray
    row: np.ndarray


def slip_wall_cells(mesh: Mesh, model: str, gradient: GradientOperator) -> SlipWallCells:
    """Cells whose pressure gradient is corrected: those at smooth walls, in inviscid flow.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    model : str
        Flow model.
    gradient : GradientOperator
        Gradients that are corrected.
    """
    row = np.full(mesh.n_faces - mesh.n_interior, -1, dtype=np.int32)
    roles = slip_wall_roles(model) if model == "euler" else ()
    faces = mesh.faces_of(*roles) if roles else np.zeros(0, dtype=int)
    if not len(faces):
        return SlipWallCells(row[:0], np.zeros((0, 3)), np.zeros((0, 3, 3)), np.zeros(0), row)
    shape = wall_shape_of(mesh, roles)
    cells, owner = np.unique(mesh.left[faces], return_inverse=True)
    n = len(cells)
    area = np.linalg.norm(mesh.face_area[faces], axis=1)
    share = area / np.bincount(owner, area, n)[owner]
    normal = np.stack([np.bincount(owner, share * shape.normal[:, i], n) for i in range(3)], axis=1)
    curvature = np.stack(
        [np.bincount(owner, share * shape.curvature[:, i, j], n) for i in range(3) for j in range(3)], axis=1
    ).reshape(n, 3, 3)
    length = np.linalg.norm(normal, axis=1)
    sharp = np.bincount(owner, ~shape.smooth, n) > 0
    good = ~sharp & (length > MIN_NORMAL_COSINE)
    row[faces - mesh.n_interior] = np.where(good, np.cumsum(good) - 1, -1)[owner]
    foot = np.stack([np.bincount(owner, share * mesh.face_centroid[faces, i], n) for i in range(3)], axis=1)
    cells, normal, curvature = cells[good], normal[good] / length[good, None], np.ascontiguousarray(curvature[good])
    weight = _known_slope_weights(mesh, cells, foot[good], normal, curvature, gradient)
    return SlipWallCells(cells.astype(np.int32), normal, curvature, weight, row)


def _known_slope_weights(mesh: Mesh, cells, foot, normal, curvature, gradient: GradientOperator) -> np.ndarray:
    """(k,) weights 1 - h / m, with m half the gradient's own result for the square of the distance from the wall."""

    def distance(points, of):
        r = points - foot[of]
        return -np.einsum("ij,ij->i", r, normal[of]) - 0.5 * np.einsum("ni,nij,nj->n", r, curvature[of], r)

    height = distance(mesh.cell_centroid[cells], np.arange(len(cells)))
    owner, entry = entries_of(gradient.start, cells)
    jump = distance(mesh.cell_centroid[gradient.cell[entry]], owner) ** 2 - height[owner] ** 2
    action = -np.einsum("ij,ij->i", gradient.weight[entry], normal[owner]) * jump
    position = 0.5 * np.bincount(owner, action, len(cells))
    return np.clip(1.0 - height / np.maximum(position, 1e-300), 0.0, MAX_KNOWN_WEIGHT)


@inlined
def _turning(q, c, curvature, row):
    """V . (grad n) . V in cell c, with the curvature (k, 3, 3) of a row."""
    total = 0.0
    for i in range(3):
        for j in range(3):
            total += curvature[row, i, j] * q[c, 1 + i] * q[c, 1 + j]
    return total


@inlined
def _slope_excess(states, c, row, shape, gamma):
    """Slope of the pressure known at a wall less that of the gradient, both out of the domain, in cell c.

    shape: normals (k, 3) and curvatures (k, 3, 3), of which a row is taken.
    """
    q, g = states
    normal, curvature = shape
    found = 0.0
    for i in range(3):
        found += g[c, 0, i] * normal[row, i]
    return _turning(q, c, curvature, row) * (1.0 + gamma * q[c, 0]) / q[c, 4] - found


@inlined
def wall_pressure_rise(states: tuple, f: int, faces: "Faces", boundary: "Boundary", gamma: float):
    """What the pressure at a boundary face gains over a linear extrapolation by the slope known there.

    Parameters
    ----------
    states : tuple
        States (n, m) and gradients (n, m, 3).
    f : int
        Face.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    gamma : float
        Ratio of the specific heats.
    """
    row, height = boundary.wall_row[f - boundary.first], 0.0
    if row < 0:
        return 0.0
    for i in range(3):
        height += faces.to_left[f, i] * boundary.wall_normal[row, i]
    shape = boundary.wall_normal, boundary.wall_curvature
    return 0.5 * height * _slope_excess(states, faces.left[f], row, shape, gamma)


@serial
def correct_wall_pressure_gradients(q: np.ndarray, walls: SlipWallCells, gamma: float, out: np.ndarray):
    """Correct the pressure gradients of wall cells along the normal.

    Parameters
    ----------
    q : (n, m) array
        States.
    walls : SlipWallCells
        Cells.
    gamma : float
        Ratio of the specific heats.
    out : (n, m, 3) array
        Gradients, changed in place.
    """
    for e in range(len(walls.cell)):
        c = walls.cell[e]
        change = walls.weight[e] * _slope_excess((q, out), c, e, (walls.normal, walls.curvature), gamma)
        for i in range(3):
            out[c, 0, i] += change * walls.normal[e, i]


@serial
def add_wall_pressure_rises(
    q: np.ndarray, g: np.ndarray, faces: "Faces", boundary: "Boundary", gamma: float, out: np.ndarray
):
    """Add what the pressure at walls gains over a linear extrapolation by the slope known there.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    gamma : float
        Ratio of the specific heats.
    out : (nb,) array
        Pressures, changed in place.
    """
    for e in range(len(out)):
        out[e] += wall_pressure_rise((q, g), boundary.first + e, faces, boundary, gamma)


@serial
def wall_slope_jacobian(q: np.ndarray, walls: SlipWallCells, gamma: float, axes: np.ndarray, out: np.ndarray):
    """Derivatives of the slope known at the walls to the states of their cells.

    Parameters
    ----------
    q : (n, m) array
        States.
    walls : SlipWallCells
        Cells.
    gamma : float
        Ratio of the specific heats.
    axes : (nb,) array
        Columns of the unknowns that are solved for.
    out : (k, nb) array
        Written.
    """
    for e in range(len(walls.cell)):
        c = walls.cell[e]
        density = (1.0 + gamma * q[c, 0]) / q[c, 4]
        turning = _turning(q, c, walls.curvature, e)
        for k in range(len(axes)):
            m, value = axes[k], 0.0
            if m == 0:
                value = gamma / q[c, 4] * turning
            elif m == 4:
                value = -density / q[c, 4] * turning
            elif m < 4:
                for j in range(3):
                    value += 2.0 * density * walls.curvature[e, m - 1, j] * q[c, 1 + j]
            out[e, k] = value


@serial
def correct_direction_gradients(v: np.ndarray, walls: SlipWallCells, rows: np.ndarray, out: np.ndarray):
    """Change of `correct_wall_pressure_gradients` for a change of the states.

    Parameters
    ----------
    v : (n, nb) array
        Change of the states.
    walls : SlipWallCells
        Cells.
    rows : (k, nb) array
        See `wall_slope_jacobian`.
    out : (n, nb, 3) array
        Gradients of v, changed in place.
    """
    for e in range(len(walls.cell)):
        c = walls.cell[e]
        change = 0.0
        for k in range(v.shape[1]):
            change += rows[e, k] * v[c, k]
        for i in range(3):
            change -= out[c, 0, i] * walls.normal[e, i]
        for i in range(3):
            out[c, 0, i] += np.float32(walls.weight[e] * change * walls.normal[e, i])
