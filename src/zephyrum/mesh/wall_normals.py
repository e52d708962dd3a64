"""Normals of the smooth wall that flat wall faces stand for.

On irregular facets the normals scatter by the first order of their size, and with them the pressure of inviscid flow;
with the normals of the curved wall it keeps the second order (Krivodonova and Berger 2006, J. Comput. Phys. 211:492).
They are found by a paraboloid through the corners round a face, never across a sharp edge; faces on a symmetry plane
see the mirror image too. Verified by tests/test_clipped.py and validation/clipped.py.
"""

import weakref
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.mesh.polygons import components, next_corners

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


SHARP_COSINE = np.cos(np.radians(30.0))  # edges that turn more are no part of a smooth wall
MIN_NORMAL_COSINE = 0.5  # least cosine between the normals of a face and of one that it is fitted with
MIN_FIT_COSINE = np.cos(np.radians(20.0))  # least cosine between a face's own normal and the one found
MAX_CORNERS = 40  # corners round a face
FACE_CHUNK = 8192
SINGULAR_RATIO = 1e-5  # singular values below this fraction of the largest count for nothing


class _FaceAdjacency(NamedTuple):
    """Corners of faces and faces round points, both in compressed rows."""

    face_start: np.ndarray
    face_points: np.ndarray
    point_start: np.ndarray
    point_faces: np.ndarray


@exact
def _surrounding_faces(faces, patch, normal, least, out, count):
    """Distinct corners of the faces that share one with each face, on the same patch, its own first.

    Parameters
    ----------
    faces : _FaceAdjacency
    patch : (k,) array of int
        Smooth part of the wall of each face.
    normal : (k, 3) array
    least : float
        Least cosine between the normals of both faces.
    out : (k, m) array of int
        Written: corners of each face.
    count : (k,) array of int
        Written: number of them.
    """
    face_start, face_points, point_start, point_faces = faces
    mark = np.full(len(point_start) - 1, -1)
    for f in range(len(face_start) - 1):
        n = 0
        for k in range(face_start[f], face_start[f + 1]):
            p = face_points[k]
            if n < out.shape[1] and mark[p] != f:
                mark[p] = f
                out[f, n] = p
                n += 1
        for k in range(face_start[f], face_start[f + 1]):
            p = face_points[k]
            for j in range(point_start[p], point_start[p + 1]):
                g = point_faces[j]
                cosine = normal[f, 0] * normal[g, 0] + normal[f, 1] * normal[g, 1] + normal[f, 2] * normal[g, 2]
                if patch[g] != patch[f] or cosine < least:
                    continue
                for i in range(face_start[g], face_start[g + 1]):
                    q = face_points[i]
                    if n < out.shape[1] and mark[q] != f:
                        mark[q] = f
                        out[f, n] = q
                        n += 1
        count[f] = n


_known: "weakref.WeakKeyDictionary[Mesh, dict[tuple[str, ...], np.ndarray]]" = weakref.WeakKeyDictionary()


def curved_normals_of(mesh: "Mesh", roles: tuple[str, ...]) -> np.ndarray:
    """`curved_normals` of all boundary faces of some roles; computed once for each mesh.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    roles : tuple[str, ...]
        Roles of boundary groups.

    Returns
    -------
    (k, 3) array
    """
    known = _known.setdefault(mesh, {})
    if roles not in known:
        known[roles] = curved_normals(mesh, mesh.faces_of(*roles))
    return known[roles]


def curved_normals(mesh: "Mesh", faces: np.ndarray, roles: tuple[str, ...] = ("symmetry",)) -> np.ndarray:
    """Unit normals, out of the domain, of the smooth wall that flat faces stand for.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    faces : (k,) array
        Boundary faces.
    roles : tuple[str, ...], optional
        Roles of the planes in which the wall is mirrored.

    Returns
    -------
    (k, 3) array
        At the centroids of the faces.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 300).surface
    >>> mesh = zy.mesh_surface(ball, farfield=3.0, growth=1.0)
    >>> faces = mesh.faces_of("wall")
    >>> outward = mesh.face_centroid[faces] - [0.5, 0.0, 0.0]
    >>> cosine = -(curved_normals(mesh, faces) * outward).sum(axis=1) / np.linalg.norm(outward, axis=1)
    >>> bool(cosine.min() > 0.99)
    True
    """
    area = mesh.face_area[faces]
    flat = area / np.linalg.norm(area, axis=1)[:, None]
    size = np.diff(mesh.face_start)[faces]
    start = np.r_[0, np.cumsum(size)]
    within = np.arange(start[-1]) - np.repeat(start[:-1], size)
    used, corners = np.unique(
        mesh.face_points[np.repeat(mesh.face_start[:-1][faces], size) + within], return_inverse=True
    )
    owner = np.repeat(np.arange(len(faces)), size)
    # faces are connected across edges that do not turn sharply
    a, b = corners, corners[next_corners(start)]
    key = np.minimum(a, b) * len(used) + np.maximum(a, b)
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(key[order][1:] == key[order][:-1])
    one, two = owner[order[same]], owner[order[same + 1]]
    smooth = np.einsum("ij,ij->i", flat[one], flat[two]) > SHARP_COSINE
    patch = components(one[smooth], two[smooth], len(faces))
    order = np.argsort(corners, kind="stable")
    point_start = np.r_[0, np.cumsum(np.bincount(corners, minlength=len(used)))]
    ring = np.full((len(faces), MAX_CORNERS), -1)
    count = np.zeros(len(faces), dtype=np.int64)
    adjacency = _FaceAdjacency(start, corners, point_start, owner[order])
    _surrounding_faces(adjacency, patch, flat, MIN_NORMAL_COSINE, ring, count)
    position = mesh.points[used]
    mirror = _mirror(mesh, used, roles)
    out = flat.copy()
    for low in range(0, len(faces), FACE_CHUNK):
        rows = slice(low, low + FACE_CHUNK)
        out[rows] = _fitted_normals(
            position, ring[rows], count[rows], mesh.face_centroid[faces[rows]], flat[rows], mirror
        )
    cosine = np.einsum("ij,ij->i", out, flat)
    far = cosine < MIN_FIT_COSINE  # not followed further than it can be trusted
    side = out - cosine[:, None] * flat
    side /= np.maximum(np.linalg.norm(side, axis=1), 1e-300)[:, None]
    out[far] = MIN_FIT_COSINE * flat[far] + np.sqrt(1.0 - MIN_FIT_COSINE**2) * side[far]
    return out


def _mirror(mesh, used, roles):
    """(which of the points lie on a symmetry plane, a point of it, its normal); None without one."""
    planes = mesh.faces_of(*roles)
    if not len(planes):
        return None
    normal = mesh.face_area[planes].sum(axis=0)
    normal /= np.linalg.norm(normal)
    points = np.unique(
        mesh.face_points[np.concatenate([np.arange(mesh.face_start[f], mesh.face_start[f + 1]) for f in planes])]
    )
    return np.isin(used, points), mesh.points[points[0]], normal


def _fitted_normals(position, ring, count, midpoint, flat, mirror) -> np.ndarray:
    """Normals of the paraboloids through the corners (k, MOST) about faces with those centroids and normals."""
    there = np.arange(ring.shape[1]) < count[:, None]
    x = position[ring]
    if mirror is not None:
        on, point, normal = mirror
        near = (on[ring] & there).any(axis=1)
        image = x - 2.0 * ((x - point) @ normal)[:, :, None] * normal
        x = np.concatenate([x, image], axis=1)
        there = np.concatenate([there, there & ~on[ring] & near[:, None]], axis=1)
    away = x - midpoint[:, None]
    # a frame on each face
    axis = np.eye(3)[np.argmin(np.abs(flat), axis=1)]
    u = np.cross(flat, axis)
    u /= np.linalg.norm(u, axis=1)[:, None]
    v = np.cross(flat, u)
    a, b = np.einsum("ijk,ik->ij", away, u), np.einsum("ijk,ik->ij", away, v)
    high = np.einsum("ijk,ik->ij", away, flat)
    far = np.where(there, np.hypot(a, b), 0.0)
    size = np.maximum(far.max(axis=1), 1e-300)[:, None]
    weight = np.where(there, 1.0 / (far / size + 0.1), 0.0)
    a, b, high = a / size, b / size, high / size
    terms = np.stack([np.ones_like(a), a, b, a * a, a * b, b * b], axis=2) * weight[:, :, None]
    found = np.einsum("ijk,ik->ij", np.linalg.pinv(terms, rcond=SINGULAR_RATIO), weight * high)
    slope = np.where((there.sum(axis=1) >= 7)[:, None], found[:, 1:3], 0.0)
    out = flat - slope[:, :1] * u - slope[:, 1:] * v
    return out / np.linalg.norm(out, axis=1)[:, None]
