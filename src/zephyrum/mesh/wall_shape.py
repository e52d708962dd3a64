"""Normals and curvature of the smooth wall that flat wall faces stand for.

On irregular faces the normals scatter by the first order of their size, and with them the pressure of inviscid flow;
with the normals of the curved wall it keeps the second order (Krivodonova and Berger 2006, J. Comput. Phys. 211:492).
The curvature gives the pressure gradient normal to the wall (Dadone and Grossman 1994, AIAA J. 32:285).
Both are found by a polynomial of third degree through the corners round a face, never across a sharp edge; faces on a
symmetry plane see the mirror image too. Verified by tests/test_planned.py, validation/extruded.py and
validation/clipped.py.
"""

import weakref
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import exact_parallel, inner_exact, prange
from zephyrum.mesh.polygons import components, next_corners

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


SHARP_COSINE = np.cos(np.radians(30.0))  # edges that turn more are no part of a smooth wall
MIN_NORMAL_COSINE = 0.5  # least cosine between the normals of a face and of one that it is fitted with
MIN_FIT_COSINE = np.cos(np.radians(20.0))  # least cosine between a face's own normal and the one found
MAX_CORNERS = 80  # corners round a face
RINGS = 2  # faces that share a corner with a face, and those that share one with these
TERMS = 10  # of a polynomial of third degree in two variables
# exponent and offset of the weights 1 / (r^2 + offset)^exponent, r over the root mean square of the first ring. Mean
# error at the nose of a section with 64 regular faces: 0.011 deg, with an exponent of 1 0.25 deg, of the chord 0.13 deg
WEIGHT_EXPONENT, WEIGHT_OFFSET = 3.0, 0.1
ON_PLANE = 1e-9  # distance from a plane of symmetry, over the size of the wall, below which a point lies on it
ON_LINE = 1e-5  # short over long extent below which points lie on a line (a section in two dimensions)
DAMPING = 1e-7  # part of the diagonal of the normal equations: terms that the points leave open get no value


class _Wall(NamedTuple):
    """Wall faces, their corners in compressed rows, and the faces round each corner.

    start, corners: corners of the faces. point_start, point_faces: faces round the points. position (n, 3): of the
    points [m]. centroid, normal (k, 3) and patch (k,): of the faces; patches are the smooth parts of the wall.
    """

    start: np.ndarray
    corners: np.ndarray
    point_start: np.ndarray
    point_faces: np.ndarray
    position: np.ndarray
    centroid: np.ndarray
    normal: np.ndarray
    patch: np.ndarray


class WallShape(NamedTuple):
    """Smooth wall that flat wall faces stand for, at the centroids of the faces.

    Attributes
    ----------
    normal : (k, 3) array
        Unit normals out of the domain.
    curvature : (k, 3, 3) array
        Derivatives of the normal along the wall: change of `normal` for a step t is curvature @ t [1/m].
    smooth : (k,) array of bool
        Whether no edge of the face is sharp.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 64, 8)
    >>> shape = wall_shape(mesh, mesh.faces_of("wall"))
    >>> int(shape.smooth.sum())  # all but those at the trailing edge
    62
    >>> radius = -1.0 / np.trace(shape.curvature, axis1=1, axis2=2).min()  # of the nose: 1.1019 t^2 c
    >>> bool(abs(radius - 1.1019 * 0.12**2) < 0.1 * radius)
    True
    """

    normal: np.ndarray
    curvature: np.ndarray
    smooth: np.ndarray


class _Mirror(NamedTuple):
    """A plane of symmetry: which points (n,) lie on it, a point of it, its normal; no point lies on it without one."""

    on: np.ndarray
    origin: np.ndarray
    normal: np.ndarray


@inner_exact
def _surrounding_corners(f, wall, found):
    """Write the distinct corners of the faces round face f on its patch, its own first; (number, of the first ring)."""
    n = 0
    for k in range(wall.start[f], wall.start[f + 1]):
        if n < len(found):
            found[n] = wall.corners[k]
            n += 1
    low, first = 0, n
    for ring in range(RINGS):
        high = n
        for i in range(low, high):
            p = found[i]
            for j in range(wall.point_start[p], wall.point_start[p + 1]):
                g = wall.point_faces[j]
                cosine = 0.0
                for d in range(3):
                    cosine += wall.normal[f, d] * wall.normal[g, d]
                if wall.patch[g] != wall.patch[f] or cosine < MIN_NORMAL_COSINE:
                    continue
                for k in range(wall.start[g], wall.start[g + 1]):
                    q, known = wall.corners[k], False
                    for m in range(n):
                        known = known or found[m] == q
                    if not known and n < len(found):
                        found[n] = q
                        n += 1
        low = high
        if ring == 0:
            first = n
    return n, first


@inner_exact
def _tangents(normal, u, v):
    """Write two unit vectors across a unit normal."""
    least = 0
    for d in range(1, 3):
        if abs(normal[d]) < abs(normal[least]):
            least = d
    size = np.sqrt(1.0 - normal[least] ** 2)
    for d in range(3):
        u[d] = -normal[least] * normal[d] / size
    u[least] += 1.0 / size
    v[0] = normal[1] * u[2] - normal[2] * u[1]
    v[1] = normal[2] * u[0] - normal[0] * u[2]
    v[2] = normal[0] * u[1] - normal[1] * u[0]


@inner_exact
def _local_coordinates(f, wall, mirror, frame, rings, local):
    """Write the coordinates (m, 3) along the frame (3, 3) of the corners found and of their images; (m, of the first
    ring).

    rings: the corners found, and how many of them belong to the first ring.
    """
    found, first = rings
    near, m, inner = False, 0, 0
    for p in found:
        near = near or mirror.on[p]
    for i in range(len(found)):
        p = found[i]
        off = 0.0
        for d in range(3):
            off += (wall.position[p, d] - mirror.origin[d]) * mirror.normal[d]
        for image in range(1 + (near and not mirror.on[p])):
            for k in range(3):
                local[m, k] = 0.0
                for d in range(3):
                    away = wall.position[p, d] - 2.0 * image * off * mirror.normal[d] - wall.centroid[f, d]
                    local[m, k] += away * frame[k, d]
            m += 1
        if i == first - 1:
            inner = m
    return m, inner


@inner_exact
def _principal_axes(local, m):
    """(cosine, sine, long and short root mean square) of the axes of m points in the plane of their first two
    coordinates; the short one of points on a line is infinite.
    """
    a, b = 0.0, 0.0
    for i in range(m):
        a += local[i, 0] / m
        b += local[i, 1] / m
    aa, ab, bb = 1e-300, 0.0, 1e-300
    for i in range(m):
        aa += (local[i, 0] - a) ** 2 / m
        ab += (local[i, 0] - a) * (local[i, 1] - b) / m
        bb += (local[i, 1] - b) ** 2 / m
    angle = 0.5 * np.arctan2(2.0 * ab, aa - bb)
    c, s = np.cos(angle), np.sin(angle)
    one = c * c * aa + 2.0 * c * s * ab + s * s * bb
    other = aa + bb - one
    return c, s, np.sqrt(one), np.sqrt(other) if other > ON_LINE**2 * one else np.inf


@inner_exact
def _solve_damped(matrix, right):
    """Solve a symmetric system in place by Cholesky factors, its diagonal increased by a small part of itself."""
    n = len(right)
    for j in range(n):
        pivot = (1.0 + DAMPING) * matrix[j, j]
        for k in range(j):
            value = matrix[j, k]
            for i in range(k):
                value -= matrix[j, i] * matrix[k, i]
            matrix[j, k] = value / matrix[k, k]
            pivot -= matrix[j, k] ** 2
            right[j] -= matrix[j, k] * right[k]
        matrix[j, j] = np.sqrt(max(pivot, 0.1 * DAMPING * matrix[j, j] + 1e-300))
        right[j] /= matrix[j, j]
    for back in range(n):
        j = n - 1 - back
        for k in range(j + 1, n):
            right[j] -= matrix[k, j] * right[k]
        right[j] /= matrix[j, j]


@inner_exact
def _fit_polynomial(local, m, inner, hessian):
    """Slopes at the origin, along both axes, of the polynomial of third degree through m points; second derivatives are
    written to hessian (2, 2).
    """
    c, s, long, short = _principal_axes(local, inner)
    matrix, right, term = np.zeros((TERMS, TERMS)), np.zeros(TERMS), np.ones(TERMS)
    for i in range(m):
        p = (c * local[i, 0] + s * local[i, 1]) / long
        q = (c * local[i, 1] - s * local[i, 0]) / short
        weight = 1.0 / (p * p + q * q + WEIGHT_OFFSET) ** WEIGHT_EXPONENT
        term[1], term[2], term[3], term[4], term[5] = p, q, p * p, p * q, q * q
        term[6], term[7], term[8], term[9] = p * p * p, p * p * q, p * q * q, q * q * q
        for j in range(TERMS):
            for k in range(j + 1):
                matrix[j, k] += weight * term[j] * term[k]
            right[j] += weight * term[j] * local[i, 2]
    _solve_damped(matrix, right)
    pp, pq, qq = 2.0 * right[3] / long**2, right[4] / (long * short), 2.0 * right[5] / short**2
    hessian[0, 0] = c * c * pp - 2.0 * c * s * pq + s * s * qq
    hessian[0, 1] = hessian[1, 0] = c * s * (pp - qq) + (c * c - s * s) * pq
    hessian[1, 1] = s * s * pp + 2.0 * c * s * pq + c * c * qq
    return c * right[1] / long - s * right[2] / short, s * right[1] / long + c * right[2] / short


@exact_parallel
def _fit_shape(wall, mirror, normals, curvatures):
    """Write the unit normals (k, 3) and the curvatures (k, 3, 3) at the centroids of all faces."""
    for i in prange(len(wall.start) - 1):
        f = np.int64(i)
        found = np.empty(MAX_CORNERS, dtype=np.int64)
        n, first = _surrounding_corners(f, wall, found)
        frame, local, hessian = np.empty((3, 3)), np.empty((2 * MAX_CORNERS, 3)), np.empty((2, 2))
        frame[2] = wall.normal[f]
        _tangents(frame[2], frame[0], frame[1])
        m, inner = _local_coordinates(f, wall, mirror, frame, (found[:n], first), local)
        a, b = _fit_polynomial(local, m, inner, hessian)
        size = np.sqrt(1.0 + a * a + b * b)
        for d in range(3):
            normals[f, d] = (frame[2, d] - a * frame[0, d] - b * frame[1, d]) / size
        # second fundamental form, between steps that are first projected on the tangent plane
        for k in range(2):
            through = 0.0
            for d in range(3):
                through += frame[k, d] * normals[f, d]
            for d in range(3):
                local[k, d] = frame[k, d] - through * normals[f, d]
        for d in range(3):
            for e in range(3):
                curvatures[f, d, e] = 0.0
                for j in range(2):
                    for k in range(2):
                        curvatures[f, d, e] -= hessian[j, k] / size * local[j, d] * local[k, e]


_known: "weakref.WeakKeyDictionary[Mesh, dict[tuple[str, ...], WallShape]]" = weakref.WeakKeyDictionary()


def wall_shape_of(mesh: "Mesh", roles: tuple[str, ...]) -> WallShape:
    """`wall_shape` of all boundary faces of some roles; computed once for each mesh.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    roles : tuple[str, ...]
        Roles of boundary groups.

    Returns
    -------
    WallShape
    """
    known = _known.setdefault(mesh, {})
    if roles not in known:
        known[roles] = wall_shape(mesh, mesh.faces_of(*roles))
    return known[roles]


def wall_shape(mesh: "Mesh", faces: np.ndarray, roles: tuple[str, ...] = ("symmetry",)) -> WallShape:
    """Normals and curvature of the smooth wall that flat faces stand for.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    faces : (k,) array
        Boundary faces.
    roles : tuple[str, ...], optional
        Roles of the planes in which the wall is mirrored.

    Returns
    -------
    WallShape

    Notes
    -----
    In two dimensions and on a wedge, the curvature is that of the section.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 300).surface
    >>> mesh = zy.mesh_surface(ball, farfield=3.0, growth=1.0)
    >>> faces = mesh.faces_of("wall")
    >>> outward = mesh.face_centroid[faces] - [0.5, 0.0, 0.0]
    >>> shape = wall_shape(mesh, faces)
    >>> cosine = -(shape.normal * outward).sum(axis=1) / np.linalg.norm(outward, axis=1)
    >>> bool(cosine.min() > 0.99)
    True
    >>> round(float(np.median(np.trace(shape.curvature, axis1=1, axis2=2))))  # minus two over the radius
    -4
    """
    area = mesh.face_area[faces]
    flat = area / np.linalg.norm(area, axis=1)[:, None]
    size = np.diff(mesh.face_start)[faces]
    start = np.r_[0, np.cumsum(size)]
    within = np.arange(start[-1]) - np.repeat(start[:-1], size)
    used, corners = np.unique(
        mesh.face_points[np.repeat(mesh.face_start[:-1][faces], size) + within], return_inverse=True
    )
    patch, smooth = _smooth_patches(start, corners, flat)
    order = np.argsort(corners, kind="stable")
    point_start = np.r_[0, np.cumsum(np.bincount(corners, minlength=len(used)))]
    position, centroid = mesh.points[used], mesh.face_centroid[faces]
    if mesh.planar:  # no shape along y
        position[:, 1] = centroid[:, 1] = 0.0
    owner = np.repeat(np.arange(len(faces)), size)
    wall = _Wall(start, corners, point_start, owner[order], position, centroid, flat, patch)
    normal, curvature = np.empty_like(flat), np.empty((len(faces), 3, 3))
    mirror, sharp = _smooth_mirror(_mirror(mesh, used, () if mesh.wedge else roles), start, corners, flat)
    smooth[sharp] = False
    _fit_shape(wall, mirror, normal, curvature)
    cosine = np.einsum("ij,ij->i", normal, flat)
    far = cosine < MIN_FIT_COSINE  # not followed further than it can be trusted
    side = normal - cosine[:, None] * flat
    side /= np.maximum(np.linalg.norm(side, axis=1), 1e-300)[:, None]
    normal[far] = MIN_FIT_COSINE * flat[far] + np.sqrt(1.0 - MIN_FIT_COSINE**2) * side[far]
    return WallShape(normal, curvature, smooth & ~far)


def _smooth_patches(start, corners, flat) -> tuple[np.ndarray, np.ndarray]:
    """(k,) patch of each face, within which no edge turns sharply, and (k,) faces without a sharp edge."""
    owner = np.repeat(np.arange(len(flat)), np.diff(start))
    a, b = corners, corners[next_corners(start)]
    key = np.minimum(a, b) * (1 + corners.max(initial=0)) + np.maximum(a, b)
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(key[order][1:] == key[order][:-1])
    one, two = owner[order[same]], owner[order[same + 1]]
    joined = np.einsum("ij,ij->i", flat[one], flat[two]) > SHARP_COSINE
    smooth = np.ones(len(flat), dtype=bool)
    smooth[one[~joined]] = smooth[two[~joined]] = False
    return components(one[joined], two[joined], len(flat)).astype(int), smooth


def _smooth_mirror(mirror: _Mirror, start, corners, flat) -> tuple[_Mirror, np.ndarray]:
    """The mirror without the points where wall and image meet at a sharp edge, as at the trailing edge of a fin, and
    the faces there.
    """
    owner = np.repeat(np.arange(len(flat)), np.diff(start))
    a, b = corners, corners[next_corners(start)]
    cosine = 1.0 - 2.0 * (flat[owner] @ mirror.normal) ** 2
    sharp = mirror.on[a] & mirror.on[b] & (cosine <= SHARP_COSINE)
    on = mirror.on.copy()
    on[a[sharp]] = on[b[sharp]] = False
    return mirror._replace(on=on), owner[sharp]


def _mirror(mesh: "Mesh", used: np.ndarray, roles: tuple[str, ...]) -> _Mirror:
    """Plane of symmetry of some points of a mesh."""
    planes = mesh.faces_of(*roles)
    if not len(planes):
        return _Mirror(np.zeros(len(used), dtype=bool), np.zeros(3), np.zeros(3))
    normal = mesh.face_area[planes[0]]
    normal = normal / np.linalg.norm(normal)
    origin = mesh.face_centroid[planes[0]]
    size = np.ptp(mesh.points[used], axis=0).max()
    on = np.abs((mesh.points[used] - origin) @ normal) <= ON_PLANE * size
    return _Mirror(on, origin, normal)
