"""Areas, volumes and centroids of polygons and polyhedra, without temporary arrays: meshes of millions of cells fit the
memory.

Verified by tests/test_mesh.py.
"""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zephyrum._core.jit import exact, exact_parallel, prange, read_only

BROAD_FACE_RATIO = 0.3  # of the largest face's area: a face that can make a shell of a cell
BENT, THIN = (
    0.2,
    5.0,
    # bulge and width of such a face over the height of the cell, up to twice of which the centroid moves to that of the
    # faces
)


@exact_parallel
def polygon_geometry(points: np.ndarray, start: np.ndarray, corners: np.ndarray):
    """(centroids (n, 3), area vectors (n, 3)) of polygons i with the points corners[start[i]:start[i + 1]].

    Polygons that are not flat are fans about the mean of their corners; the centroid is weighted by the triangles'
    areas seen along the area vector.
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
    """(n,) how far [m] the corners of polygons lie off the plane through the centroids x across the area vectors S, at
    most.
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


@exact_parallel
def cell_geometry(
    start: np.ndarray,
    faces: np.ndarray,
    left: np.ndarray,
    x: np.ndarray,
    S: np.ndarray,
    bulge: np.ndarray,
    dimension: int,
    shells: bool,
):
    """(volumes (n,), centroids (n, 3), thin (n,)) of cells with faces[start[i]:start[i + 1]], from face centroids x,
    area vectors S and `bulges`.

    In two dimensions the sides are no faces: all is measured within the x-z plane. With `shells`, the mean of the
    centroids of the broad faces, weighted by area, stands for the centroid of cells that are bent by more than they are
    thick, which lies outside, and for that of thin cells, where it shifts along the layer by many heights if one end is
    a little thicker. So what lies on a shell is followed by what lies on the next one. thin: 1 in such cells, 0 in
    others, in between in a few.
    """
    n = len(start) - 1
    volume, centroid, thin = np.empty(n), np.empty((n, 3)), np.zeros(n)
    flat = 0.0 if dimension == 2 else 1.0
    for i in prange(n):
        c = np.int64(i)
        low, high = start[c], start[c + 1]
        midpoint = np.zeros(3)
        for e in range(low, high):
            for k in range(3):
                midpoint[k] += x[faces[e], k]
        for k in range(3):
            midpoint[k] /= max(high - low, 1)
        total, shift = 0.0, np.zeros(3)
        for e in range(low, high):
            f = faces[e]
            dx, dy, dz = x[f, 0] - midpoint[0], x[f, 1] - midpoint[1], x[f, 2] - midpoint[2]
            part = (dx * S[f, 0] + flat * dy * S[f, 1] + dz * S[f, 2]) / dimension
            if left[f] != c:
                part = -part
            total += part
            shift[0] += part * dx
            shift[1] += part * dy
            shift[2] += part * dz
        volume[c] = total
        scale = dimension / (dimension + 1.0) / (total if abs(total) > 0.0 else 1.0)
        for k in range(3):
            centroid[c, k] = midpoint[k] + scale * shift[k]
        if not shells:
            continue
        most = 0.0
        for e in range(low, high):
            f = faces[e]
            most = max(most, np.sqrt(S[f, 0] ** 2 + S[f, 1] ** 2 + S[f, 2] ** 2))
        # of the broad faces alone: the rims of a bent shell lie off it by so many heights that even their
        # small areas would tell
        broad = 0
        for e in range(low, high):
            f = faces[e]
            broad += np.sqrt(S[f, 0] ** 2 + S[f, 1] ** 2 + S[f, 2] ** 2) > BROAD_FACE_RATIO * most
        mean, whole, bend = np.zeros(3), 0.0, 0.0
        for e in range(low, high):
            f = faces[e]
            size = np.sqrt(S[f, 0] ** 2 + S[f, 1] ** 2 + S[f, 2] ** 2)
            if size > BROAD_FACE_RATIO * most:
                bend = max(bend, bulge[f] * most)
            elif broad > 1:
                continue
            whole += size
            for k in range(3):
                mean[k] += size * x[f, k]
        slender = max(bend / max(total, 1e-300) / BENT, most**1.5 / max(total, 1e-300) / THIN)
        thin[c] = min(max(slender - 1.0, 0.0), 1.0)
        for k in range(3):
            centroid[c, k] += thin[c] * (mean[k] / whole - centroid[c, k])
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
    """(volumes (n,) of the cells between polygons that leave `left` for `right` (-1 outside), areas of the polygons);
    origin: a position near them.
    """
    midpoint, area = polygon_geometry(read_only(points), start, corners)
    part = np.einsum("ij,ij->i", area, midpoint - origin) / 3.0
    inner = right >= 0
    volume = np.bincount(left, part, n) - np.bincount(right[inner], part[inner], n)
    return volume, np.linalg.norm(area, axis=1)


@exact_parallel
def select_polygons(start: np.ndarray, corners: np.ndarray, order: np.ndarray, back: np.ndarray):
    """The polygons `order` as (start, corners); those marked in `back` keep their first corner and run backwards."""
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
    """Give the points that `corners` uses, of n, the numbers 0, 1, ...: in place, returns which of them are used."""
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
    """All entries of `rows` of a CSR array, one row after the other, and for each the place of its row in `rows`."""
    counts = np.diff(start)[rows]
    first = np.cumsum(counts) - counts
    return np.repeat(np.arange(len(rows)), counts), np.arange(counts.sum()) + np.repeat(start[rows] - first, counts)


def fan_triangles(mesh, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(points, triangles (t, 3), place (t,) in `faces` of each): faces of a mesh in triangles, those of more corners
    about their centroid.

    The area vectors of the triangles of a face add up to its own. The points are those of the mesh with these centroids
    behind them.
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
    """Index of the next corner of the same polygon."""
    out = np.arange(1, start[-1] + 1)
    out[start[1:] - 1] = start[:-1]
    return out


def components(a: np.ndarray, b: np.ndarray, n: int) -> np.ndarray:
    """(n,) number of the group of each of n things, of which the pairs a, b (k,) hang together."""
    link = coo_matrix((np.ones(len(a), dtype=np.int8), (a, b)), shape=(n, n))
    return connected_components(link, directed=False)[1]
