"""Areas, volumes and centroids of polygons and polyhedra, without temporary arrays: meshes of millions of cells fit the memory.

Verified by tests/test_mesh.py.
"""

import numpy as np
from numba import njit, prange


@njit(cache=True, parallel=True, error_model="numpy")
def polygon_geometry(points, start, corners):
    """(centroids (n, 3), area vectors (n, 3)) of polygons i with the points corners[start[i]:start[i + 1]].

    Polygons that are not flat are fans about the mean of their corners; the centroid is weighted by the triangles' areas seen along
    the area vector.
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


@njit(cache=True, parallel=True, error_model="numpy")
def cell_geometry(start, faces, left, x, S, dimension):
    """(volumes (n,), centroids (n, 3)) of cells with faces[start[i]:start[i + 1]], from face centroids x and area vectors S.

    In two dimensions the sides are no faces: all is measured within the x-z plane.
    """
    n = len(start) - 1
    volume, centroid = np.empty(n), np.empty((n, 3))
    flat = 0.0 if dimension == 2 else 1.0
    for i in prange(n):
        c = np.int64(i)
        low, high = start[c], start[c + 1]
        middle = np.zeros(3)
        for e in range(low, high):
            for k in range(3):
                middle[k] += x[faces[e], k]
        middle /= max(high - low, 1)
        total, shift = 0.0, np.zeros(3)
        for e in range(low, high):
            f = faces[e]
            dx, dy, dz = x[f, 0] - middle[0], x[f, 1] - middle[1], x[f, 2] - middle[2]
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
            centroid[c, k] = middle[k] + scale * shift[k]
    return volume, centroid


def fan_triangles(mesh, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(points, triangles (t, 3), place (t,) in `faces` of each): faces of a mesh in triangles, those of more corners about their centroid.

    The area vectors of the triangles of a face add up to its own. The points are those of the mesh with these centroids behind them.
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
    t = np.stack([corner[first + step], corner[first + (step + 1) % count[owner]], np.where(spread, hub[owner], corner[first + (step + 2) % count[owner]])], axis=1)  # fmt: skip
    return np.concatenate([mesh.points, mesh.face_centroid[faces[many]]]), t, owner
