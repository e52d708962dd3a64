"""Areas, volumes and centroids of polygons and polyhedra, without temporary arrays: meshes of millions of cells fit the
memory.

Verified by tests/test_mesh.py.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zephyrum._core.jit import exact, exact_parallel, inner_exact, prange, read_only

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


BROAD_FACE_RATIO = 0.3  # of the largest face's area: a face that can make a shell of a cell
# bulge of a broad face, and middle extent of a cell, over its height: up to twice of it the centroid moves to that of
# the broad faces
BENT, THIN = 0.2, 5.0


@exact_parallel
def polygon_geometry(points: np.ndarray, start: np.ndarray, corners: np.ndarray):
    """Centroids and area vectors of polygons.

    Parameters
    ----------
    points : (p, 3) array
        [m]
    start : (n + 1,) array
    corners : array
        Polygon i has the points corners[start[i]:start[i + 1]].

    Returns
    -------
    centroid : (n, 3) array
        [m]
    area : (n, 3) array
        [m^2]

    Notes
    -----
    Polygons that are not flat are fans about the mean of their corners; the centroid is weighted by the triangles'
    areas seen along the area vector.

    Examples
    --------
    >>> points = np.array([[0.0, 0.0, 0.0], [2.0, 0.0, 0.0], [2.0, 2.0, 0.0], [0.0, 2.0, 0.0]])
    >>> centroid, area = polygon_geometry(points, np.array([0, 4]), np.arange(4))
    >>> centroid, area
    (array([[1., 1., 0.]]), array([[0., 0., 4.]]))
    """
    n = len(start) - 1
    centroid, area = np.empty((n, 3)), np.empty((n, 3))
    for i in prange(n):
        f = np.int64(i)
        low, high = start[f], start[f + 1]
        mx, my, mz = 0.0, 0.0, 0.0
        for e in range(low, high):
            p = corners[e]
            mx += points[p, 0]
            my += points[p, 1]
            mz += points[p, 2]
        count = high - low
        mx, my, mz = mx / count, my / count, mz / count
        sx, sy, sz = 0.0, 0.0, 0.0
        for turn in range(2):
            # first the area, then the centroid seen along it
            size = np.sqrt(sx * sx + sy * sy + sz * sz)
            nx, ny, nz = sx / max(size, 1e-300), sy / max(size, 1e-300), sz / max(size, 1e-300)
            total, cx, cy, cz = 0.0, 0.0, 0.0, 0.0
            for e in range(low, high):
                p, q = corners[e], corners[e + 1 if e + 1 < high else low]
                ax, ay, az = points[p, 0] - mx, points[p, 1] - my, points[p, 2] - mz
                bx, by, bz = points[q, 0] - mx, points[q, 1] - my, points[q, 2] - mz
                tx, ty, tz = 0.5 * (ay * bz - az * by), 0.5 * (az * bx - ax * bz), 0.5 * (ax * by - ay * bx)
                if turn == 0:
                    sx += tx
                    sy += ty
                    sz += tz
                else:
                    weight = tx * nx + ty * ny + tz * nz
                    total += weight
                    cx += weight * (ax + bx) / 3.0
                    cy += weight * (ay + by) / 3.0
                    cz += weight * (az + bz) / 3.0
            if turn == 1:
                total = max(total, 1e-300)
                centroid[f, 0], centroid[f, 1], centroid[f, 2] = mx + cx / total, my + cy / total, mz + cz / total
        area[f, 0], area[f, 1], area[f, 2] = sx, sy, sz
    return centroid, area


@exact_parallel
def bulges(points: np.ndarray, start: np.ndarray, corners: np.ndarray, x: np.ndarray, S: np.ndarray):
    """How far the corners of polygons lie off their mean plane, at most.

    Parameters
    ----------
    points : (p, 3) array
        [m]
    start : (n + 1,) array
    corners : array
        Polygon i has the points corners[start[i]:start[i + 1]].
    x : (n, 3) array
        Centroids [m].
    S : (n, 3) array
        Area vectors [m^2].

    Returns
    -------
    (n,) array
        [m]

    Examples
    --------
    >>> points = np.array([[0.0, 0.0, 0.0], [2.0, 0.0, 0.2], [2.0, 2.0, 0.0], [0.0, 2.0, 0.2]])
    >>> start, corners = np.array([0, 4]), np.arange(4)
    >>> bulges(points, start, corners, *polygon_geometry(points, start, corners)).round(6)
    array([0.1])
    """
    n = len(start) - 1
    out = np.zeros(n)
    for i in prange(n):
        f = np.int64(i)
        size = max(np.sqrt(S[f, 0] ** 2 + S[f, 1] ** 2 + S[f, 2] ** 2), 1e-300)
        for e in range(start[f], start[f + 1]):
            off = 0.0
            for k in range(3):
                off += (points[corners[e], k] - x[f, k]) * S[f, k]
            out[f] = max(out[f], abs(off) / size)
    return out


class CellFaces(NamedTuple):
    """Faces of cells for kernels.

    Attributes
    ----------
    start : (n + 1,) array of int
    faces : array of int
        Cell i has faces[start[i]:start[i + 1]].
    left : (m,) array of int
        Cell that the area vector of each face leaves.
    centroid, area : (m, 3) arrays
        Face centroids [m] and area vectors [m^2].
    bulge : (m,) array
        See `bulges` [m].
    """

    start: np.ndarray
    faces: np.ndarray
    left: np.ndarray
    centroid: np.ndarray
    area: np.ndarray
    bulge: np.ndarray


@inner_exact
def _face_size(area, f):
    """Area of a face [m^2]."""
    return np.sqrt(area[f, 0] ** 2 + area[f, 1] ** 2 + area[f, 2] ** 2)


@inner_exact
def add_area_tensor(area: np.ndarray, f: int, size: float, tensor: np.ndarray):
    """Add the tensor S S / |S| of a face to the six components xx, yy, zz, xy, xz, yz.

    Parameters
    ----------
    area : (m, 3) array
        Area vectors [m^2].
    f : int
        Face.
    size : float
        Length of its area vector [m^2].
    tensor : (6,) array
        Changed in place [m^2].
    """
    scale = 1.0 / max(size, 1e-300)
    x, y, z = area[f, 0], area[f, 1], area[f, 2]
    tensor[0] += scale * x * x
    tensor[1] += scale * y * y
    tensor[2] += scale * z * z
    tensor[3] += scale * x * y
    tensor[4] += scale * x * z
    tensor[5] += scale * y * z


@inner_exact
def tensor_eigenvalues(t: np.ndarray):
    """Eigenvalues of a symmetric tensor, largest first.

    Parameters
    ----------
    t : (6,) array
        Components xx, yy, zz, xy, xz, yz.

    Notes
    -----
    Trigonometric solution of the characteristic equation.

    References
    ----------
    Smith, O. K. (1961). Eigenvalues of a symmetric 3 x 3 matrix. Communications of the ACM 4:168.
    """
    mean = (t[0] + t[1] + t[2]) / 3.0
    a, b, c = t[0] - mean, t[1] - mean, t[2] - mean
    off = t[3] ** 2 + t[4] ** 2 + t[5] ** 2
    radius = np.sqrt((a * a + b * b + c * c + 2.0 * off) / 6.0)
    if radius <= 1e-14 * abs(mean):
        return mean, mean, mean
    a, b, c = a / radius, b / radius, c / radius
    d, e, f = t[3] / radius, t[4] / radius, t[5] / radius
    half = 0.5 * (a * (b * c - f * f) - d * (d * c - f * e) + e * (d * f - b * e))
    angle = np.arccos(min(max(half, -1.0), 1.0)) / 3.0
    largest = mean + 2.0 * radius * np.cos(angle)
    least = mean + 2.0 * radius * np.cos(angle + 2.0 * np.pi / 3.0)
    return largest, 3.0 * mean - largest - least, least


@exact_parallel
def area_tensors(cells: CellFaces):
    """Tensor of the face areas of each cell: the sum of S S / |S| over its faces.

    Parameters
    ----------
    cells : CellFaces

    Returns
    -------
    tensor : (n, 3, 3) array
        [m^2]
    projected : (n, 3) array
        Half its eigenvalues, largest first [m^2].

    Notes
    -----
    The eigenvalues of a box are twice the areas of its sides, so that volume over the k-th of `projected` is its k-th
    extent, shortest first, and the tensor itself scales vectors by the extents along their own axes.
    """
    n = len(cells.start) - 1
    tensor, projected = np.empty((n, 3, 3)), np.empty((n, 3))
    for i in prange(n):
        c = np.int64(i)
        t = np.zeros(6)
        for e in range(cells.start[c], cells.start[c + 1]):
            add_area_tensor(cells.area, cells.faces[e], _face_size(cells.area, cells.faces[e]), t)
        for k in range(3):
            tensor[c, k, k] = t[k]
        tensor[c, 0, 1] = tensor[c, 1, 0] = t[3]
        tensor[c, 0, 2] = tensor[c, 2, 0] = t[4]
        tensor[c, 1, 2] = tensor[c, 2, 1] = t[5]
        first, second, third = tensor_eigenvalues(t)
        projected[c, 0], projected[c, 1], projected[c, 2] = 0.5 * first, 0.5 * second, 0.5 * third
    return tensor, projected


@inner_exact
def _volume_and_centroid(c, cells, dimension, centroid):
    """Volume of cell c by the divergence theorem; its centroid is written."""
    x, S = cells.centroid, cells.area
    low, high = cells.start[c], cells.start[c + 1]
    flat = 0.0 if dimension == 2 else 1.0
    midpoint = np.zeros(3)
    for e in range(low, high):
        for k in range(3):
            midpoint[k] += x[cells.faces[e], k]
    for k in range(3):
        midpoint[k] /= max(high - low, 1)
    total, shift = 0.0, np.zeros(3)
    for e in range(low, high):
        f = cells.faces[e]
        dx, dy, dz = x[f, 0] - midpoint[0], x[f, 1] - midpoint[1], x[f, 2] - midpoint[2]
        part = (dx * S[f, 0] + flat * dy * S[f, 1] + dz * S[f, 2]) / dimension
        if cells.left[f] != c:
            part = -part
        total += part
        shift[0] += part * dx
        shift[1] += part * dy
        shift[2] += part * dz
    scale = dimension / (dimension + 1.0) / (total if abs(total) > 0.0 else 1.0)
    for k in range(3):
        centroid[c, k] = midpoint[k] + scale * shift[k]
    return total


@inner_exact
def _centre_on_shell(c, cells, volume, centroid):
    """Move the centroid of a thin or bent cell to the mean of those of its broad faces; the weight of the move."""
    low, high = cells.start[c], cells.start[c + 1]
    most = 0.0
    for e in range(low, high):
        most = max(most, _face_size(cells.area, cells.faces[e]))
    # of the broad faces alone: the rims of a bent shell lie off it by so many heights that even their
    # small areas would tell
    broad = 0
    for e in range(low, high):
        broad += _face_size(cells.area, cells.faces[e]) > BROAD_FACE_RATIO * most
    mean, whole, bulge = np.zeros(3), 0.0, 0.0
    tensor = np.zeros(6)
    for e in range(low, high):
        f = cells.faces[e]
        size = _face_size(cells.area, f)
        add_area_tensor(cells.area, f, size, tensor)
        if size > BROAD_FACE_RATIO * most:
            bulge = max(bulge, cells.bulge[f] * most)
        elif broad > 1:
            continue
        whole += size
        for k in range(3):
            mean[k] += size * cells.centroid[f, k]
    largest, middle, _ = tensor_eigenvalues(tensor)
    slender = max(bulge / max(volume, 1e-300) / BENT, largest / max(middle, 1e-300) / THIN)
    weight = min(max(slender - 1.0, 0.0), 1.0)
    for k in range(3):
        centroid[c, k] += weight * (mean[k] / whole - centroid[c, k])
    return weight


@exact_parallel
def cell_geometry(cells: CellFaces, dimension: int, shells: bool):
    """Measure volumes and centroids of cells.

    Parameters
    ----------
    cells : CellFaces
    dimension : int
        In two dimensions the sides are no faces: all is measured within the x-z plane.
    shells : bool
        Whether thin and bent cells get the mean of the centroids of their broad faces.

    Returns
    -------
    volume : (n,) array
        [m^3]
    centroid : (n, 3) array
        [m]
    thin : (n,) array
        1 in thin or bent cells, 0 in others, in between in a few.

    Notes
    -----
    The centroid of a cell that is bent by more than it is thick lies outside it, and that of a thin cell shifts along
    the layer by many heights if one end is a little thicker. The mean over the broad faces, weighted by area, follows
    from shell to shell.
    """
    n = len(cells.start) - 1
    volume, centroid, thin = np.empty(n), np.empty((n, 3)), np.zeros(n)
    for i in prange(n):
        c = np.int64(i)
        volume[c] = _volume_and_centroid(c, cells, dimension, centroid)
        if shells:
            thin[c] = _centre_on_shell(c, cells, volume[c], centroid)
    return volume, centroid, thin


def volumes_between(
    points: np.ndarray,
    start: np.ndarray,
    corners: np.ndarray,
    left: np.ndarray,
    right: np.ndarray,
    n: int,
    origin: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:
    """Volumes of the cells between polygons.

    Parameters
    ----------
    points : (p, 3) array
        [m]
    start, corners : array
        Polygon i has the points corners[start[i]:start[i + 1]].
    left, right : (n,) arrays
        Cells that each polygon leaves and enters, -1 outside.
    n : int
        Number of cells.
    origin : (3,) array
        Position near them [m].

    Returns
    -------
    volume : (n,) array
        [m^3]
    area
        Of the polygons [m^2].
    """
    midpoint, area = polygon_geometry(read_only(points), start, corners)
    part = np.einsum("ij,ij->i", area, midpoint - origin) / 3.0
    inner = right >= 0
    volume = np.bincount(left, part, n) - np.bincount(right[inner], part[inner], n)
    return volume, np.linalg.norm(area, axis=1)


@exact_parallel
def select_polygons(start: np.ndarray, corners: np.ndarray, order: np.ndarray, back: np.ndarray):
    """Some polygons in a given order.

    Parameters
    ----------
    start, corners : array
        Polygon i has the points corners[start[i]:start[i + 1]].
    order : array
        Polygons.
    back : array
        Mask of those that keep their first corner and run backwards.

    Returns
    -------
    start, corners : arrays of int

    Examples
    --------
    >>> start, corners = np.array([0, 3, 7]), np.array([0, 1, 2, 2, 3, 4, 5])
    >>> select_polygons(start, corners, np.array([1, 0]), np.array([False, True]))
    (array([0, 4, 7]), array([2, 5, 4, 3, 0, 1, 2]))
    """
    begin = np.zeros(len(order) + 1, dtype=np.int64)
    for i in range(len(order)):
        begin[i + 1] = begin[i] + start[order[i] + 1] - start[order[i]]
    out = np.empty(begin[-1], dtype=np.int64)
    for i in prange(len(order)):
        low, size = start[order[i]], begin[i + 1] - begin[i]
        for k in range(size):
            out[begin[i] + k] = corners[low + ((size - k) % size if back[order[i]] else k)]
    return begin, out


@exact
def renumber(corners: np.ndarray, n: int):
    """Number the points that are used 0, 1, ..., in place.

    Parameters
    ----------
    corners : array
        Points of polygons.
    n : int
        Number of points.

    Returns
    -------
    array of int
        Points that are used.

    Examples
    --------
    >>> corners = np.array([4, 7, 4])
    >>> renumber(corners, 10), corners
    (array([4, 7]), array([0, 1, 0]))
    """
    number = np.full(n, -1, dtype=np.int64)
    for p in corners:
        number[p] = 0
    used = np.flatnonzero(number == 0)
    for k in range(len(used)):
        number[used[k]] = k
    for i in range(len(corners)):
        corners[i] = number[corners[i]]
    return used


def entries_of(start: np.ndarray, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All entries of some rows of an array in compressed rows.

    Parameters
    ----------
    start : array
        First entry of each row.
    rows : array
        Rows.

    Returns
    -------
    place : array of int
        Place in `rows` of the row of each entry.
    entry : array of int
        Index of each entry.

    Examples
    --------
    >>> [part.tolist() for part in entries_of(np.array([0, 2, 5]), np.array([1]))]
    [[0, 0, 0], [2, 3, 4]]
    """
    counts = np.diff(start)[rows]
    first = np.cumsum(counts) - counts
    return np.repeat(np.arange(len(rows)), counts), np.arange(counts.sum()) + np.repeat(start[rows] - first, counts)


def fan_triangles(mesh: "Mesh", faces: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Split faces of a mesh into triangles, those of more corners about their centroid.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    faces : (m,) array
        Faces.

    Returns
    -------
    points : (p, 3) array
        Points of the mesh with the centroids behind them [m].
    triangles : (t, 3) array
    place : (t,) array
        Place in `faces` of each triangle.

    Notes
    -----
    The area vectors of the triangles of a face add up to its own.
    """
    count = np.diff(mesh.face_start)[faces]
    many = count > 3
    pieces = np.where(many, count, 1)
    owner = np.repeat(np.arange(len(faces)), pieces)
    step = np.arange(len(owner)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    first = mesh.face_start[faces][owner]
    spread = many[owner]
    hub = len(mesh.points) + np.cumsum(many) - 1
    corner = mesh.face_points
    t = np.stack(
        [
            corner[first + step],
            corner[first + (step + 1) % count[owner]],
            np.where(spread, hub[owner], corner[first + (step + 2) % count[owner]]),
        ],
        axis=1,
    )
    return np.concatenate([mesh.points, mesh.face_centroid[faces[many]]]), t, owner


def next_corners(start: np.ndarray) -> np.ndarray:
    """Index of the next corner of the same polygon.

    Parameters
    ----------
    start : array
        First corner of each polygon.

    Examples
    --------
    >>> import numpy as np
    >>> next_corners(np.array([0, 3])).tolist()
    [1, 2, 0]
    """
    out = np.arange(1, start[-1] + 1)
    out[start[1:] - 1] = start[:-1]
    return out


def components(a: np.ndarray, b: np.ndarray, n: int) -> np.ndarray:
    """Connected components of a graph.

    Parameters
    ----------
    a, b : (k,) arrays
        Pairs of nodes that are connected.
    n : int
        Number of nodes.

    Returns
    -------
    (n,) array
        Number of the component of each node.

    Examples
    --------
    >>> import numpy as np
    >>> components(np.array([0]), np.array([2]), 3).tolist()
    [0, 1, 0]
    """
    link = coo_matrix((np.ones(len(a), dtype=np.int8), (a, b)), shape=(n, n))
    return connected_components(link, directed=False)[1]
