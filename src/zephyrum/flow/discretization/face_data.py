"""A mesh made ready for the kernels: the arrays that the residual and its Jacobian read, in their order of use."""

from dataclasses import dataclass, replace

import numpy as np

from zephyrum.flow.discretization.cell_gradient import GradientOperator
from zephyrum.flow.discretization.face_vectors import cell_face_vectors
from zephyrum.flow.discretization.kernel_arrays import CellFaces, Faces
from zephyrum.flow.discretization.periodic_interface import PeriodicInterface
from zephyrum.flow.discretization.wall_pressure_gradient import SlipWallCells, slip_wall_cells
from zephyrum.flow.physics.boundary_conditions import boundary_code
from zephyrum.flow.physics.smoothing import smoothstep_array
from zephyrum.flow.physics.turbulence import EQUATIONS
from zephyrum.mesh import Mesh
from zephyrum.mesh.polygons import entries_of

# cosine between a face's normal and the line of both centroids between which slopes come into use beside thin layers
ALIGNMENT_FADE = (0.15, 0.5)
LAYER_BEND_FADE = (3.0, 8.0)  # way aside over the height of a thin cell between which it is laid along the layer


@dataclass(frozen=True, eq=False)
class FaceData:
    """Arrays of one mesh for the kernels; immutable.

    Attributes
    ----------
    mesh : Mesh
    faces : Faces
        Geometry of the faces (see `kernel_arrays` and, for the vectors between centroids, `_vectors_along_layers`).
    cells : CellFaces
        Faces of each cell.
    code : array (nb,)
        Code of the condition at each boundary face.
    volume : array (n,)
        Cell volumes [m^3].
    gradient : GradientOperator
    axes : array (n_active,)
        Columns of the unknowns (p, u, v, w, T, turbulence) that are solved for, in two dimensions without v.
    wall_gradient_factor : array (nb,)
        See `_wall_gradient_factors`.
    axisymmetric_factor : array (n,) or (0,)
        One over the distance from the axis of an axisymmetric mesh [1/m].
    periodic : PeriodicInterface or None
    slip_walls : SlipWallCells
        Cells whose pressure gradient follows the curvature of the wall.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> faces = FaceData.of(mesh, model="sst")
    >>> faces.columns, len(faces.axes)  # p, u, v, w, T, k, log(omega); v is not active in two dimensions
    (7, 6)
    """

    mesh: Mesh
    faces: Faces
    cells: CellFaces
    code: np.ndarray
    volume: np.ndarray
    gradient: GradientOperator
    axes: np.ndarray
    wall_gradient_factor: np.ndarray
    axisymmetric_factor: np.ndarray
    periodic: PeriodicInterface | None
    slip_walls: SlipWallCells

    @property
    def columns(self) -> int:
        """Columns of a state array: five and one for each turbulence quantity."""
        return int(self.axes[-1]) + 1

    @property
    def dims(self) -> tuple[int, ...]:
        """As many zeros as there are active unknowns: a tuple's length is known to the compiler, so block loops
        unroll.
        """
        return (0,) * len(self.axes)

    def with_first_order(self, cells: np.ndarray, boundary_faces: bool) -> "FaceData":
        """Face data that extrapolate nothing from marked cells to their faces.

        Parameters
        ----------
        cells : (n,) array
            Mask of the cells.
        boundary_faces : bool
            Whether nothing is extrapolated to their boundary faces either.
        """
        f, ni = self.faces, len(self.faces.right)
        left, right = cells[f.left], cells[f.right]
        if not boundary_faces:
            left[ni:] = False
        to_left, to_right, fraction = f.to_left.copy(), f.to_right.copy(), f.fraction.copy()
        to_left[left] = to_right[right] = 0.0
        fraction[left[:ni], 0] = fraction[right, 1] = 0.0
        faces = f._replace(to_left=to_left, to_right=to_right, fraction=fraction)
        periodic = None if self.periodic is None else self.periodic.with_first_order(cells)
        return replace(self, faces=faces, periodic=periodic)

    @classmethod
    def of(cls, mesh: Mesh, gradient: str = "by-cell", model: str = "euler") -> "FaceData":
        """Prepare a mesh for a flow model.

        Parameters
        ----------
        mesh : Mesh
            Mesh.
        gradient : str, optional
            See `GradientOperator.of`.
        model : str, optional
            Flow model; walls are no-slip unless it is "euler".
        """
        ni = mesh.n_interior
        area = np.linalg.norm(mesh.face_area, axis=1)
        to_left, to_right, vector_to_right, vector_to_left = cell_face_vectors(mesh)
        gather = GradientOperator.of(mesh, gradient, (to_left, to_right, vector_to_right, vector_to_left))
        fraction = _position_fractions(to_left[:ni], to_right, vector_to_right, vector_to_left)
        start, cell_faces = mesh.cell_faces
        sign = np.where(mesh.left[cell_faces] == np.repeat(np.arange(mesh.n_cells), np.diff(start)), 1.0, -1.0)
        code = np.concatenate([np.full(g.stop - g.start, boundary_code(g.role, model)) for g in mesh.groups])
        vector_to_right = _vectors_along_layers(mesh, mesh.left[:ni], to_left[:ni], vector_to_right)
        vector_to_left = -_vectors_along_layers(mesh, mesh.right, to_right, vector_to_left)
        if mesh.planar:  # the plane: nothing happens along y
            for vectors in (to_left, to_right, vector_to_right, vector_to_left):
                vectors[:, 1] = 0.0
        aligned = _alignment_factors(mesh)[:, None]
        to_left[:ni] *= aligned
        to_right *= aligned
        fraction *= aligned
        axes = ([0, 1, 3, 4] if mesh.planar else [0, 1, 2, 3, 4]) + [5 + k for k in range(len(EQUATIONS[model]))]
        normal = mesh.face_area / area[:, None]
        wall_gradient_factor = _wall_gradient_factors(mesh, normal, to_left, gather.start, gather.cell, gather.weight)
        # what is even across a plane of symmetry has no slope through it: the one-sided slope of a cell
        # there would blow flow off the plane
        even = mesh.faces_of("symmetry")
        to_left[even] -= np.einsum("ij,ij->i", to_left[even], normal[even])[:, None] * normal[even]
        faces = Faces(
            mesh.left.astype(np.int32),
            mesh.right.astype(np.int32),
            normal,
            area,
            to_left,
            to_right,
            vector_to_right,
            vector_to_left,
            fraction,
        )
        cells = CellFaces(start.astype(np.int32), cell_faces.astype(np.int32), sign)
        periodic = PeriodicInterface.of(mesh, to_left, _position_fractions)
        return cls(
            mesh,
            faces,
            cells,
            code.astype(np.int32),
            mesh.cell_volume,
            gather,
            np.array(axes),
            wall_gradient_factor,
            _axisymmetric_factors(mesh),
            periodic,
            slip_wall_cells(mesh, model, gather),
        )


def _axisymmetric_factors(mesh: Mesh) -> np.ndarray:
    """(n,) fraction of the sides' area in the volume of each cell of a wedge: what makes w / r a slope of v along y."""
    if not mesh.wedge:
        return np.zeros(0)
    sides = mesh.faces_of("symmetry")
    return np.bincount(mesh.left[sides], -mesh.face_area[sides, 2], mesh.n_cells) / mesh.cell_volume


def _vectors_along_layers(mesh: Mesh, cell: np.ndarray, r: np.ndarray, d: np.ndarray) -> np.ndarray:
    """(ni, 3) ways from the centroids of `cell` to those of their neighbours, to be multiplied by their gradients.

    r: to the face, d: to the neighbour. Where thin layers curve round a wall, d leaves the layer by many of its heights
    and the steep gradient across it would pose as a difference along it: there the way goes on straight through the
    face.
    """
    start, faces = mesh.cell_faces
    across_r = np.einsum("ij,ij->i", d, r) / np.maximum(np.einsum("ij,ij->i", r, r), 1e-300)
    aside = d - across_r[:, None] * r
    size = np.sqrt(np.einsum("ij,ij->i", aside, aside))
    # only where even the whole surface would cast a shadow broad enough: elsewhere the way is not bent
    area = np.linalg.norm(mesh.face_area, axis=1)
    surface = np.bincount(mesh.left, area, mesh.n_cells) + np.bincount(
        mesh.right, area[: mesh.n_interior], mesh.n_cells
    )
    rows = np.flatnonzero(size * 0.5 * surface[cell] > LAYER_BEND_FADE[0] * mesh.cell_volume[cell])
    across = aside[rows] / np.maximum(size[rows], 1e-300)[:, None]
    owner, entry = entries_of(start, cell[rows])
    shadow = 0.5 * np.abs(np.einsum("ij,ij->i", mesh.face_area[faces[entry]], across[owner]))
    height = mesh.cell_volume[cell[rows]] / np.maximum(np.bincount(owner, shadow, len(rows)), 1e-300)
    bent = smoothstep_array(size[rows] / height, *LAYER_BEND_FADE)[:, None]
    fraction = np.einsum("ij,ij->i", r[rows], d[rows]) / np.maximum(np.einsum("ij,ij->i", d[rows], d[rows]), 1e-300)
    out = d.copy()
    out[rows] = (1.0 - bent) * d[rows] + bent * r[rows] / np.clip(fraction, 0.2, 1.0)[:, None]
    return out


def _position_fractions(
    to_left: np.ndarray, to_right: np.ndarray, vector_to_right: np.ndarray, vector_to_left: np.ndarray
) -> np.ndarray:
    """(ni, 2) parts of the distance between centroids that lie before the face, seen from either side (see
    `cell_face_vectors`).

    On both sides they fade to 0 where the face is not between the centroids or lies far off their line: there the
    central difference has been seen to give the residual unstable modes (sharp tails wrapped by a coarse O mesh).
    """
    along, aligned = [], []
    for r, d in ((to_left, vector_to_right), (to_right, vector_to_left)):
        dot, size = np.einsum("ij,ij->i", r, d), np.einsum("ij,ij->i", d, d)
        along.append(dot / size)
        aligned.append(dot / np.sqrt(size * np.maximum(np.einsum("ij,ij->i", r, r), 1e-300)))
    good = smoothstep_array(np.minimum(*along), 0.05, 0.35) * smoothstep_array(np.minimum(*aligned), 0.5, 0.85)
    return np.clip(np.stack(along, axis=1), 0.0, 1.0) * good[:, None]


def _alignment_factors(mesh: Mesh) -> np.ndarray:
    """(ni,) how much of the slopes is used at a face: less where the line of both centroids runs along it, beside thin
    layers in space.

    Such are the faces between the strip of a blunt tail and the layers above and below it; in second order they
    oscillate.
    """
    ni = mesh.n_interior
    out = np.ones(ni)
    left, right = mesh.left[:ni], mesh.right
    rows = np.flatnonzero(np.maximum(mesh.cell_thin[left], mesh.cell_thin[right]) > 0.0)
    d, S = mesh.cell_centroid[right[rows]] - mesh.cell_centroid[left[rows]], mesh.face_area[rows]
    cosine = np.einsum("ij,ij->i", d, S) / np.maximum(np.linalg.norm(d, axis=1) * np.linalg.norm(S, axis=1), 1e-300)
    out[rows] = smoothstep_array(cosine, *ALIGNMENT_FADE)
    return out


def _wall_gradient_factors(mesh: Mesh, normal, to_left, start, neighbour, weight) -> np.ndarray:
    """(nb,) factor f with which D + f (D - g.n) is the slope at a boundary face to second order.

    D is the difference between face and centroid over their distance h, g the cell's gradient. One-sided as it is near
    a boundary, g is right at a distance m from the face that its own action on the square of the distance tells; the
    parabola through face, centroid and that slope gives f = h / (2 m - h).
    """
    ni = mesh.n_interior
    cell, n = mesh.left[ni:], normal[ni:]
    high = np.einsum("ij,ij->i", to_left[ni:], n)
    owner, entry = entries_of(start, cell)
    midpoint = mesh.cell_centroid
    away = high[owner] - np.einsum("ij,ij->i", midpoint[neighbour[entry]] - midpoint[cell[owner]], n[owner])
    action = -np.einsum("ij,ij->i", weight[entry], n[owner]) * (away**2 - high[owner] ** 2)
    position = 0.5 * np.bincount(owner, action, len(cell))
    # a way laid flat (see `cell_face_vectors`) has no height over a small face of the broad side, which is no wall
    return np.clip(high / np.maximum(np.maximum(2.0 * position - high, high), 1e-300), 0.0, 0.5)
