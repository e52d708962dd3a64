"""Cell gradients as one linear gather: grad q_i = sum over neighbours of W (q_neighbour - q_i).

The method only decides the weights W, so that every user of gradients (residual, exact Jacobian product) is one kernel.
- `green-gauss`: the Green-Gauss sum with face values interpolated by the distances from the face, multiplied by the
  inverse of its own action on linear fields; so it is exact for linear fields on any mesh and keeps the Green-Gauss
  behaviour on stretched, curved layers (the consistent family of Syrakos et al. 2017, Phys. Fluids 29:127103).
- `least-squares`: inverse-distance weights (Mavriplis 2003, AIAA 2003-3986); best on Cartesian and clipped cells.
- `by-cell`, the default: least squares in cells of no great aspect ratio that are no plain quadrilaterals or hexahedra (clipped
  ones, those with hanging points), Green-Gauss in all others. On clipped meshes it halves the drag error of either. In space,
  skewed cells take the neighbours of their neighbours too (see `_skewed_cells`).
Boundary faces take no part: the fit is one-sided there. Verified by tests/test_flow.py (exact on linear fields).
"""

import numpy as np
from scipy.sparse import csr_matrix

from zephyrum.air.checks import choice
from zephyrum.flow.kernels import parallel, prange
from zephyrum.flow.ways import ways
from zephyrum.mesh import Mesh

METHODS = ("by-cell", "green-gauss", "least-squares")
SLENDER = 10.0  # the same, above which cells belong to thin layers, where the fit stays with the next neighbours
SKEWED = 0.5  # cosine between a face's normal and the line of both middles below which a fit takes more neighbours
FLAT = 1.5  # surface for its volume, over that of a square or cube: flatter cells are layers
# least and largest factor of a Green-Gauss sum on linear fields in space that is corrected: others are taken as they are
TAME = (0.25, 3.0)
SINGULAR = 1e-3  # eigenvalue share below which a fit is taken as flat in that direction


def gradient_weights(mesh: Mesh, method: str = "by-cell", along=None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """CSR of each cell's neighbours: start (n + 1,), neighbour (m,), weights (m, 3) [1/m]. along: the `ways` of the mesh if at hand."""
    choice("gradient", method, METHODS)
    nl, n = mesh.n_interior, mesh.n_cells
    left, right = mesh.left[:nl], mesh.right
    squares = {"green-gauss": np.zeros(n, bool), "least-squares": np.ones(n, bool)}.get(method)
    squares = clipped_cells(mesh) if squares is None else squares
    to_left, to_right, ahead, back = ways(mesh) if along is None else along
    towards, distance = np.empty((2 * nl, 3)), np.concatenate([ahead, back])
    for own, cells, r, sign in ((slice(nl), left, to_left[:nl], 1.0), (slice(nl, None), right, to_right, -1.0)):
        # by distances from the face: along d the offset of a long, thin, sheared cell's face would count
        S, d = sign * mesh.face_area[:nl], distance[own]
        far = np.einsum("ij,ij->i", d, S)
        share = np.einsum("ij,ij->i", r, S) / np.where(far == 0.0, np.inf, far)
        fit = squares[cells]
        towards[own] = S * np.clip(share, 0.05, 0.95)[:, None]
        towards[own][fit] = d[fit] / np.einsum("ij,ij->i", d[fit], d[fit])[:, None]
    cells = np.concatenate([left, right])
    action = np.stack([np.bincount(cells, towards[:, i] * distance[:, k], n) for i in range(3) for k in range(3)], axis=1).reshape(n, 3, 3)  # fmt: skip
    inverse = _inverse(action, mesh.planar)
    if not mesh.planar:
        _tame(inverse, action, mesh.cell_volume, ~squares)
    weights = np.einsum("ijk,ik->ij", inverse[cells], towards)
    neighbour = np.concatenate([right, left])
    order = np.lexsort((neighbour, cells))
    start = np.zeros(n + 1, dtype=np.int32)
    np.cumsum(np.bincount(cells, minlength=n), out=start[1:])
    neighbour, weights = neighbour[order].astype(np.int32), np.ascontiguousarray(weights[order])
    if method == "by-cell" and mesh.dimension == 3 and not mesh.planar:
        weak, without = _skewed_cells(mesh)
        if weak.any():
            start, neighbour, weights = _widened(mesh, start, neighbour, weights, weak)
            weights[without[np.repeat(np.arange(n), np.diff(start))]] = 0.0
    return start, neighbour, weights


def _tame(inverse, action, volume, summed) -> None:
    """Leave Green-Gauss sums uncorrected where their action is far from that of a plain sum: strips of blunt tails between slanting layers."""
    size = np.sqrt(np.einsum("nij,nij->n", action, action)) / volume
    least = 1.0 / np.maximum(volume * np.sqrt(np.einsum("nij,nij->n", inverse, inverse)), 1e-300)
    # bounds of the singular values: only where these leave it open are they computed
    rows = np.flatnonzero(summed & ((size > TAME[1]) | (least < TAME[0])))
    found = np.linalg.svd(action[rows] / volume[rows, None, None], compute_uv=False)
    odd = rows[(found[:, 2] < TAME[0]) | (found[:, 0] > TAME[1])]
    inverse[odd] = np.eye(3) / volume[odd, None, None]


def _skewed_cells(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """(n,) cells whose slopes need more than their next neighbours, and (n,) those that are better off with none.

    Such are cells of no great aspect ratio with few neighbours (in the corner of a wall and a symmetry plane) or with
    a face far off the line between both middles; there the fit to the next neighbours follows every wiggle, and
    the second-order scheme has unstable modes. None: a middle lies on the wrong side of a face.
    """
    nl, n = mesh.n_interior, mesh.n_cells
    S, d = mesh.face_area[:nl], mesh.cell_centroid[mesh.right] - mesh.cell_centroid[mesh.left[:nl]]
    area = np.linalg.norm(mesh.face_area, axis=1)
    cosine = np.einsum("ij,ij->i", S, d) / (area[:nl] * np.linalg.norm(d, axis=1))
    surface = np.bincount(mesh.left, area, n) + np.bincount(mesh.right, area[:nl], n)
    compact = (surface / 6.0) ** 1.5 / mesh.cell_volume < SLENDER
    count = np.bincount(mesh.left[:nl], minlength=n) + np.bincount(mesh.right, minlength=n)
    lowest = np.ones(n)
    for side in (mesh.left[:nl], mesh.right):
        np.minimum.at(lowest, side, cosine)
    return compact & ((count < 5) | (lowest < SKEWED)), compact & (lowest < 0.0)


def _widened(mesh: Mesh, start, neighbour, weights, weak) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The same gradients, but those of `weak` cells by least squares over their neighbours and the neighbours of these."""
    n = len(weak)
    table = csr_matrix((np.ones(len(neighbour), dtype=np.int8), neighbour, start), shape=(n, n))
    rows = np.flatnonzero(weak)
    wide = (table[rows].astype(bool) + table[rows].astype(bool) @ table.astype(bool)).tocsr()
    owner, cells = rows[np.repeat(np.arange(len(rows)), np.diff(wide.indptr))], wide.indices
    keep = owner != cells
    owner, cells = owner[keep], cells[keep]
    d = mesh.cell_centroid[cells] - mesh.cell_centroid[owner]
    towards = d / np.einsum("ij,ij->i", d, d)[:, None]
    outer = np.einsum("ij,ik->ijk", towards, d).reshape(-1, 9)
    action = np.stack([np.bincount(owner, outer[:, k], n) for k in range(9)], axis=1).reshape(n, 3, 3)
    fitted = np.einsum("ijk,ik->ij", _inverse(action[rows], mesh.planar)[np.searchsorted(rows, owner)], towards)
    old = np.repeat(np.arange(n), np.diff(start))
    rest = ~weak[old]
    all_owner = np.concatenate([old[rest], owner])
    all_cells, all_weights = np.concatenate([neighbour[rest], cells]), np.concatenate([weights[rest], fitted])
    order = np.lexsort((all_cells, all_owner))
    made = np.zeros(n + 1, dtype=np.int32)
    np.cumsum(np.bincount(all_owner, minlength=n), out=made[1:])
    return made, all_cells[order].astype(np.int32), np.ascontiguousarray(all_weights[order])


def clipped_cells(mesh: Mesh) -> np.ndarray:
    """(n_cells,) whether a cell is neither a plain quadrilateral or hexahedron nor flat as in a layer."""
    n, d, nl = mesh.n_cells, mesh.dimension, mesh.n_interior
    if mesh.wedge:
        return np.zeros(n, dtype=bool)
    area = np.linalg.norm(mesh.face_area, axis=1) / (mesh.depth if d == 2 else 1.0)
    surface = np.bincount(mesh.left, area, n) + np.bincount(mesh.right, area[:nl], n)
    volume = mesh.cell_volume / (mesh.depth if d == 2 else 1.0)
    stretch = (surface / (2 * d)) ** (d / (d - 1.0)) / volume
    return (np.diff(mesh.cell_faces[0]) != 2 * d) & (stretch < FLAT)


def _inverse(action: np.ndarray, planar: bool) -> np.ndarray:
    """Pseudo-inverse of each (3, 3) action; directions that the neighbours don't span get no gradient."""
    if planar:
        flat = np.zeros_like(action)
        axes = np.ix_([0, 2], [0, 2])
        flat[(slice(None), *axes)] = np.linalg.pinv(action[:, [0, 2]][:, :, [0, 2]], rcond=SINGULAR)
        return flat
    a, b, c = action[:, 0], action[:, 1], action[:, 2]
    out = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)], axis=2)
    whole = np.einsum("ij,ij->i", a, out[:, :, 0])
    with np.errstate(divide="ignore", invalid="ignore"):
        out /= whole[:, None, None]
        # the product of both norms is at least the ratio of the singular values: where it is not small enough they decide
        bound = np.einsum("nij,nij->n", action, action) * np.einsum("nij,nij->n", out, out)
    rows = np.flatnonzero(~(bound < SINGULAR**-2))
    out[rows] = np.linalg.pinv(action[rows], rcond=SINGULAR)
    return out


@parallel
def gradient(q, start, neighbour, weights, out):
    """Gradients of every column of q (n, m) into out (n, m, 3).

    Reads per cell: m values of itself and of each neighbour and 3 weights a neighbour; writes 3 m.
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
