"""Cell gradients as one linear gather: grad q_i = sum over neighbours of W (q_neighbour - q_i).

The method only decides the weights W, so that every user of gradients (residual, exact Jacobian product) is one kernel.
- `green-gauss`: the Green-Gauss sum with face values interpolated by the distances from the face, multiplied by the
  inverse of its own action on linear fields; so it is exact for linear fields on any mesh and keeps the Green-Gauss
  behaviour on stretched, curved layers (the consistent family of Syrakos et al. 2017, Phys. Fluids 29:127103).
- `least-squares`: inverse-distance weights (Mavriplis 2003, AIAA 2003-3986); best on Cartesian and clipped cells.
- `by-cell`, the default: least squares in cells of no great aspect ratio that are no plain quadrilaterals or hexahedra
(clipped
  ones, those with hanging points), Green-Gauss in all others. On clipped meshes it halves the drag error of either. In
  space, skewed cells take the neighbours of their neighbours too (see `_skewed_cells`).
Boundary faces take no part: the fit is one-sided there. At planes of symmetry a mirrored neighbour makes it two-sided:
the own state, with the velocity through the plane reversed. Verified by tests/test_flow.py (exact on linear fields that
have the symmetry of the mesh).
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import csr_matrix

from zephyrum._core.jit import parallel, prange, serial
from zephyrum._core.validation import choice
from zephyrum.flow.discretization.face_vectors import cell_face_vectors
from zephyrum.mesh import Mesh

METHODS = ("by-cell", "green-gauss", "least-squares")
# middle extent over the shortest one above which cells belong to thin layers, where the fit stays with the next
# neighbours
THIN_CELL_ASPECT = 10.0
SINGULAR_SHIFT = 1e-12  # of its trace, added to the diagonal of an area tensor
# cosine between a face's normal and the line of both centroids below which a fit takes more neighbours
SKEWNESS_COSINE = 0.5
# middle extent of a cell over the shortest one: flatter cells are layers, however long they are along the third axis
FLAT_CELL_RATIO = 3.7
# least and largest factor of a Green-Gauss sum on linear fields in space that is corrected: others are taken as
# they are
CORRECTION_BOUNDS = (0.25, 3.0)
# height of a cell's centre over a plane of symmetry, in mean depths, below which it has no image
LEAST_IMAGE_HEIGHT = 0.05
SINGULAR_RATIO = 1e-3  # eigenvalue share below which a fit is taken as flat in that direction


@dataclass(frozen=True, eq=False)
class GradientOperator:
    """Cell gradients of one mesh as a sum over neighbours.

    Attributes
    ----------
    start : (n + 1,) array
        First neighbour of each cell.
    cell : (m,) array
        Neighbours.
    weight : (m, 3) array
        Their weights [1/m].
    mirrored : (k,) array
        Cells beside planes of symmetry.
    normal : (k, axes) array
        Normals of these planes.
    image_weight : (k, 3) array
        Weights of the images [1/m].

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> gradient = GradientOperator.of(mesh)
    >>> q = np.tile(mesh.cell_centroid[:, :1], (1, 5))  # every unknown equals x
    >>> out = np.empty((mesh.n_cells, 5, 3))
    >>> gradient(q, out)
    >>> bool(np.allclose(out, [1.0, 0.0, 0.0]))
    True
    """

    start: np.ndarray
    cell: np.ndarray
    weight: np.ndarray
    mirrored: np.ndarray
    normal: np.ndarray
    image_weight: np.ndarray

    def __call__(self, q: np.ndarray, out: np.ndarray, velocity: int = 1) -> None:
        """Gradients of the columns of q (n, m) into out (n, m, 3); velocity: column where the velocity begins, as many
        as `normal` has axes; a single column is no velocity.
        """
        seen = len(self.mirrored) > 0 and q.shape[1] > 1
        if seen and velocity + self.normal.shape[1] > q.shape[1]:  # the kernel would read and write beyond the columns
            raise ValueError(f"q has {q.shape[1]} columns, and none of a velocity from column {velocity} on.")
        gather_gradients(q, self.start, self.cell, self.weight, out)
        if seen:
            add_image_gradients(q, self.mirrored, self.normal, self.image_weight, velocity, out)

    def single(self, axes: np.ndarray) -> "GradientOperator":
        """The operator for changes of some unknowns, in single precision.

        Parameters
        ----------
        axes : (n_active,) array
            Columns of the unknowns.
        """
        of_velocity = axes[(axes > 0) & (axes < 4)] - 1
        normal, weight, image_weight = (
            a.astype(np.float32) for a in (self.normal[:, of_velocity], self.weight, self.image_weight)
        )
        return replace(self, weight=weight, normal=np.ascontiguousarray(normal), image_weight=image_weight)

    @classmethod
    def of(
        cls,
        mesh: Mesh,
        method: str = "by-cell",
        along: tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray] | None = None,
    ) -> "GradientOperator":
        """Gradient operator of a mesh.

        Parameters
        ----------
        mesh : Mesh
            Mesh.
        method : str, optional
            "by-cell" (least squares or Green-Gauss by the shape of the cell) or one method for all.
        along : tuple[array, array, array, array], optional
            `cell_face_vectors` of the mesh, if known.
        """
        choice("gradient", method, METHODS)
        nl, n = mesh.n_interior, mesh.n_cells
        left, right = mesh.left[:nl], mesh.right
        squares = {"green-gauss": np.zeros(n, bool), "least-squares": np.ones(n, bool)}.get(method)
        shapes = mesh.area_tensors() if squares is None else None
        squares = clipped_cells(mesh, shapes[1]) if shapes is not None else squares
        to_left, to_right, vector_to_right, vector_to_left = cell_face_vectors(mesh) if along is None else along
        even, image = _mirror_images(mesh)
        normal = image / np.linalg.norm(image, axis=1)[:, None]
        k = len(even)
        towards, distance = np.empty((2 * nl + k, 3)), np.concatenate([vector_to_right, vector_to_left, image])
        sides = (
            (slice(nl), left, to_left[:nl], mesh.face_area[:nl]),
            (slice(nl, 2 * nl), right, to_right, -mesh.face_area[:nl]),
            (slice(2 * nl, None), mesh.left[even], 0.5 * image, mesh.face_area[even]),
        )
        for own, cells, r, S in sides:
            # by distances from the face: along d the offset of a long, thin, sheared cell's face would count
            d = distance[own]
            far = np.einsum("ij,ij->i", d, S)
            fraction = np.einsum("ij,ij->i", r, S) / np.where(far == 0.0, np.inf, far)
            fit = squares[cells]
            towards[own] = S * np.clip(fraction, 0.05, 0.95)[:, None]
            towards[own][fit] = d[fit] / np.einsum("ij,ij->i", d[fit], d[fit])[:, None]
        cells = np.concatenate([left, right, mesh.left[even]])
        action = np.stack(
            [np.bincount(cells, towards[:, i] * distance[:, j], n) for i in range(3) for j in range(3)], axis=1
        ).reshape(n, 3, 3)
        inverse = _inverse(action, mesh.planar)
        if not mesh.planar:
            _uncorrect_extreme_sums(inverse, action, mesh.cell_volume, ~squares)
        weights = np.einsum("ijk,ik->ij", inverse[cells], towards)
        image_weight, cells, weights = weights[2 * nl :].copy(), cells[: 2 * nl], weights[: 2 * nl]
        neighbour = np.concatenate([right, left])
        order = np.lexsort((neighbour, cells))
        start = np.zeros(n + 1, dtype=np.int32)
        np.cumsum(np.bincount(cells, minlength=n), out=start[1:])
        neighbour, weights = neighbour[order].astype(np.int32), np.ascontiguousarray(weights[order])
        if shapes is not None and mesh.dimension == 3 and not mesh.planar:
            weak, without = _skewed_cells(mesh, even, shapes)
            if weak.any():
                images = mesh.left[even], image
                start, neighbour, weights = _widened_stencils(
                    mesh, start, neighbour, weights, weak, images, image_weight
                )
                weights[without[np.repeat(np.arange(n), np.diff(start))]] = 0.0
                image_weight[without[mesh.left[even]]] = 0.0
        return cls(start, neighbour, weights, mesh.left[even].astype(np.int32), normal, image_weight)


def _mirror_images(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """(faces (k,) on planes of symmetry, ways (k, 3) from the centroids of their cells to the images of these behind
    the plane).

    Cells whose centre lies on the plane or beyond have none.
    """
    even = mesh.faces_of(*(() if mesh.wedge else ("symmetry",)))
    cell, area = mesh.left[even], np.linalg.norm(mesh.face_area[even], axis=1)
    normal = mesh.face_area[even] / area[:, None]
    height = np.einsum("ij,ij->i", mesh.face_centroid[even] - mesh.cell_centroid[cell], normal)
    good = height > LEAST_IMAGE_HEIGHT * mesh.cell_volume[cell] / area
    return even[good], 2.0 * height[good, None] * normal[good]


def _uncorrect_extreme_sums(inverse, action, volume, summed) -> None:
    """Leave Green-Gauss sums uncorrected where their action is far from that of a plain sum: strips of blunt tails
    between slanting layers.
    """
    size = np.sqrt(np.einsum("nij,nij->n", action, action)) / volume
    least = 1.0 / np.maximum(volume * np.sqrt(np.einsum("nij,nij->n", inverse, inverse)), 1e-300)
    # bounds of the singular values: only where these leave it open are they computed
    rows = np.flatnonzero(summed & ((size > CORRECTION_BOUNDS[1]) | (least < CORRECTION_BOUNDS[0])))
    found = np.linalg.svd(action[rows] / volume[rows, None, None], compute_uv=False)
    odd = rows[(found[:, 2] < CORRECTION_BOUNDS[0]) | (found[:, 0] > CORRECTION_BOUNDS[1])]
    inverse[odd] = np.eye(3) / volume[odd, None, None]


def _skewed_cells(mesh: Mesh, even: np.ndarray, shapes: tuple[np.ndarray, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """(n,) cells whose slopes need more than their next neighbours, and (n,) those that are better off with none.

    Such are cells outside of layers with few neighbours, images behind the faces `even` among them (in the corner of a
    wall and a symmetry plane), or with a face far off the line between both centroids; there the fit to the next
    neighbours follows every oscillation, and the second-order scheme has unstable modes. None: a centre lies on the
    wrong side of a face. Angles are those in the axes of the cell, divided by its extents: a long cell is not skewed.
    shapes: `Mesh.area_tensors`.
    """
    nl, n = mesh.n_interior, mesh.n_cells
    S, d = mesh.face_area[:nl], mesh.cell_centroid[mesh.right] - mesh.cell_centroid[mesh.left[:nl]]
    tensor, projected = shapes
    compact = projected[:, 0] < THIN_CELL_ASPECT * projected[:, 1]
    count = np.bincount(mesh.left[:nl], minlength=n) + np.bincount(mesh.right, minlength=n)
    count += np.bincount(mesh.left[even], minlength=n)
    trace = np.trace(tensor, axis1=1, axis2=2)  # a sliver of a cell may have no face along one axis
    inverse = np.linalg.inv(tensor + SINGULAR_SHIFT * trace[:, None, None] * np.eye(3))
    lowest = np.ones(n)
    for side in (mesh.left[:nl], mesh.right):
        along = np.einsum("nij,nj->ni", tensor[side], d)
        across = np.einsum("nij,nj->ni", inverse[side], S)
        size = np.linalg.norm(along, axis=1) * np.linalg.norm(across, axis=1)
        np.minimum.at(lowest, side, np.einsum("ij,ij->i", S, d) / size)
    return compact & ((count < 5) | (lowest < SKEWNESS_COSINE)), compact & (lowest < 0.0)


def _widened_stencils(
    mesh: Mesh, start, neighbour, weights, weak, images, image_weight
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The same gradients, but those of `weak` cells by least squares over their neighbours, the neighbours of these and
    their own images.

    images: the cells (k,) that have one and the vector (k, 3) there; `image_weight` (k, 3) is changed in place.
    """
    n = len(weak)
    table = csr_matrix((np.ones(len(neighbour), dtype=np.int8), neighbour, start), shape=(n, n))
    rows = np.flatnonzero(weak)
    wide = (table[rows].astype(bool) + table[rows].astype(bool) @ table.astype(bool)).tocsr()
    owner, cells = rows[np.repeat(np.arange(len(rows)), np.diff(wide.indptr))], wide.indices
    keep = owner != cells
    owner, cells = owner[keep], cells[keep]
    beside = np.flatnonzero(weak[images[0]])
    d = np.concatenate([mesh.cell_centroid[cells] - mesh.cell_centroid[owner], images[1][beside]])
    everyone = np.concatenate([owner, images[0][beside]])
    towards = d / np.einsum("ij,ij->i", d, d)[:, None]
    outer = np.einsum("ij,ik->ijk", towards, d).reshape(-1, 9)
    action = np.stack([np.bincount(everyone, outer[:, k], n) for k in range(9)], axis=1).reshape(n, 3, 3)
    fitted = np.einsum("ijk,ik->ij", _inverse(action[rows], mesh.planar)[np.searchsorted(rows, everyone)], towards)
    image_weight[beside] = fitted[len(owner) :]
    fitted = fitted[: len(owner)]
    old = np.repeat(np.arange(n), np.diff(start))
    rest = ~weak[old]
    all_owner = np.concatenate([old[rest], owner])
    all_cells, all_weights = np.concatenate([neighbour[rest], cells]), np.concatenate([weights[rest], fitted])
    order = np.lexsort((all_cells, all_owner))
    made = np.zeros(n + 1, dtype=np.int32)
    np.cumsum(np.bincount(all_owner, minlength=n), out=made[1:])
    return made, all_cells[order].astype(np.int32), np.ascontiguousarray(all_weights[order])


def clipped_cells(mesh: Mesh, projected: np.ndarray) -> np.ndarray:
    """Cells that are neither plain quadrilaterals or hexahedra nor flat as in a layer.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    projected : (n_cells, 3) array
        Second part of `Mesh.area_tensors` [m^2].

    Returns
    -------
    (n_cells,) array of bool

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)  # quadrilaterals
    >>> int(clipped_cells(mesh, mesh.area_tensors()[1]).sum())
    0
    """
    if mesh.wedge:
        return np.zeros(mesh.n_cells, dtype=bool)
    return (np.diff(mesh.cell_faces[0]) != 2 * mesh.dimension) & (projected[:, 0] < FLAT_CELL_RATIO * projected[:, 1])


def _inverse(action: np.ndarray, planar: bool) -> np.ndarray:
    """Pseudo-inverse of each (3, 3) action; directions that the neighbours don't span get no gradient."""
    if planar:
        flat = np.zeros_like(action)
        axes = np.ix_([0, 2], [0, 2])
        flat[(slice(None), *axes)] = np.linalg.pinv(action[:, [0, 2]][:, :, [0, 2]], rcond=SINGULAR_RATIO)  # type: ignore[index]
        return flat
    a, b, c = action[:, 0], action[:, 1], action[:, 2]
    out = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)], axis=2)
    whole = np.einsum("ij,ij->i", a, out[:, :, 0])
    with np.errstate(divide="ignore", invalid="ignore"):
        out /= whole[:, None, None]
        # the product of both norms is at least the ratio of the singular values: where it is not small
        # enough they decide
        bound = np.einsum("nij,nij->n", action, action) * np.einsum("nij,nij->n", out, out)
    rows = np.flatnonzero(~(bound < SINGULAR_RATIO**-2))
    out[rows] = np.linalg.pinv(action[rows], rcond=SINGULAR_RATIO)
    return out


@parallel
def gather_gradients(q: np.ndarray, start: np.ndarray, neighbour: np.ndarray, weights: np.ndarray, out: np.ndarray):
    """Gradients of every column of q.

    Parameters
    ----------
    q : (n, m) array
        Values in the cells.
    start : (n + 1,) array
        First neighbour of each cell.
    neighbour : array
        Neighbours, in compressed rows.
    weights : (k, 3) array
        Weight of each neighbour [1/m].
    out : (n, m, 3) array
        Written.

    Notes
    -----
    Reads per cell m values of itself and of each neighbour and 3 weights for each neighbour; writes 3 m.
    """
    n, m = q.shape
    for i in prange(n):
        c = np.int64(i)
        for k in range(m):
            own = q[c, k]
            gx = 0.0 * own
            gy = gx
            gz = gx
            for e in range(start[c], start[c + 1]):
                jump = q[neighbour[e], k] - own
                gx += weights[e, 0] * jump
                gy += weights[e, 1] * jump
                gz += weights[e, 2] * jump
            out[c, k, 0] = gx
            out[c, k, 1] = gy
            out[c, k, 2] = gz


@serial
def add_image_gradients(
    q: np.ndarray, cell: np.ndarray, normal: np.ndarray, image_weight: np.ndarray, first: int, out: np.ndarray
):
    """Add the effect of the images of cells behind planes of symmetry on the gradients of the velocity.

    Parameters
    ----------
    q : (n, m) array
        Values in the cells.
    cell : (k,) array
        Cells at a plane of symmetry.
    normal : (k, 3) array
        Normals of the planes.
    image_weight : (k, 3) array
        Weights of the images [1/m].
    first : int
        First column of the velocity.
    out : (n, m, 3) array
        Changed in place.
    """
    for e in range(len(cell)):
        c = cell[e]
        through = 0.0 * q[c, 0]
        for i in range(normal.shape[1]):
            through += normal[e, i] * q[c, first + i]
        through += through
        for i in range(normal.shape[1]):
            for d in range(3):
                out[c, first + i, d] -= through * normal[e, i] * image_weight[e, d]
