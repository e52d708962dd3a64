"""Feature lines of a surface, its smooth patches, and the sizes that its curvature asks for.

Curvature by fitting the second fundamental form to the change of the normals over each triangle (Rusinkiewicz 2004, 3D
Data Processing); sizes from the sagitta h^2 k / 8 in both principal directions, their growth limited along the surface
(Borouchaki, Hecht and Frey 1998, Int. J. Numer. Meth. Eng. 43:1143). Verified by tests/test_remesh.py.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zephyrum._core.jit import exact
from zephyrum.geometry.surface.triangulation import Surface

SHARP_ANGLE = 30.0  # deg between neighbours: a feature line
CORNER_ANGLE = 40.0  # deg by which a feature line turns at a corner
TIP_ANGLE = 0.5  # rad missing from a full turn at the tip of a cone
SIZE_GROWTH = 0.3  # of the size along the surface, per length


@dataclass(frozen=True, eq=False)
class Features:
    """Feature lines and patches of a surface.

    Attributes
    ----------
    surface : Surface
        Surface that they were found on.
    edges : (k, 2) array
        Points of the feature edges.
    curve : (k,) array
        Feature line of each edge.
    rank : (n,) array
        Of each point: 0 inside a patch, 1 on a line, 2 corner.
    patch : (m,) array
        Of each triangle: region between feature lines, within one label.
    smooth : (m,) array
        Smooth part of the surface of each triangle.

    Examples
    --------
    >>> from zephyrum import Body
    >>> box = find_features(Body.box(1.0, 1.0, 1.0).surface().welded())
    >>> len(set(box.patch.tolist()))
    6
    """

    surface: Surface
    edges: np.ndarray
    curve: np.ndarray
    rank: np.ndarray
    patch: np.ndarray
    smooth: np.ndarray

    @cached_property
    def curvature(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """`curvatures` of the surface."""
        return curvatures(self.surface, self.smooth)


def find_features(surface: Surface, angle: float = SHARP_ANGLE) -> Features:
    """Find feature lines: edges sharper than an angle, borders of labels, open rims.

    Parameters
    ----------
    surface : Surface
        Welded surface.
    angle : float, optional
        Least angle [deg] between the normals on both sides of an edge.

    Examples
    --------
    >>> from zephyrum import Body
    >>> features = find_features(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.01).welded())
    >>> len(features.edges)  # of a smooth body
    0
    """
    edges, which, there, back = surface._edge_table
    m = len(surface.triangles)
    order = np.argsort(which, kind="stable")
    total = there + back
    start = np.r_[0, np.cumsum(total)][:-1]
    two = total == 2
    one_side, other_side = order[start] % m, order[np.minimum(start + 1, 3 * m - 1)] % m
    cosine = np.einsum("ij,ij->i", surface.normals[one_side], surface.normals[other_side])
    tiny = (surface.areas[one_side] < 1e-12 * surface.size**2) | (surface.areas[other_side] < 1e-12 * surface.size**2)
    sharp = ~two | ((cosine < np.cos(np.radians(angle))) & ~tiny)
    line = sharp | (two & (surface.label[one_side] != surface.label[other_side]))
    parts = []
    for cut in (line, sharp):
        open_ = two & ~cut
        link = coo_matrix((np.ones(open_.sum()), (one_side[open_], other_side[open_])), shape=(m, m))
        parts.append(connected_components(link, directed=False)[1])
    patch, smooth = parts
    own = edges[line]
    n = len(surface.points)
    degree = np.bincount(own.ravel(), minlength=n)
    rank = np.minimum(degree, 1)
    rank[degree == 1] = 2
    rank[degree > 2] = 2
    # where two edges of a line meet at an angle
    first = np.full((n, 2), -1)
    slot = np.zeros(n, dtype=int)
    for a, b in own.tolist():
        for p, q in ((a, b), (b, a)):
            if slot[p] < 2:
                first[p, slot[p]] = q
            slot[p] += 1
    on = np.flatnonzero(degree == 2)
    u = surface.points[first[on, 0]] - surface.points[on]
    v = surface.points[first[on, 1]] - surface.points[on]
    turn = np.einsum("ij,ij->i", u, v) / np.maximum(np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1), 1e-300)
    rank[on[turn > -np.cos(np.radians(CORNER_ANGLE))]] = 2
    # the tip of a cone is a corner too: there the angles do not sum to a full turn
    p = surface.points[surface.triangles]
    side = np.roll(p, -1, axis=1) - p
    side /= np.maximum(np.linalg.norm(side, axis=2), 1e-300)[:, :, None]
    angle = np.arccos(np.clip(-np.einsum("ijk,ijk->ij", side, np.roll(side, 1, axis=1)), -1.0, 1.0))
    total = np.bincount(surface.triangles.ravel(), angle.ravel(), n)
    rank[(degree == 0) & (total < 2.0 * np.pi - TIP_ANGLE) & (total > 0.0)] = 2
    # lines are connected through points that are no corners, and separate patches alike
    k = len(own)
    through = rank[own] == 1
    rows = np.concatenate([np.flatnonzero(through[:, j]) for j in (0, 1)])
    cols = np.concatenate([own[through[:, j], j] for j in (0, 1)])
    link = coo_matrix((np.ones(len(rows)), (rows, k + cols)), shape=(k + n, k + n))
    curve = (
        np.unique(connected_components(link, directed=False)[1][:k], return_inverse=True)[1]
        if k
        else np.zeros(0, dtype=int)
    )
    return Features(surface, own, curve, rank, patch, smooth)


def corner_fans(surface: Surface, angle: float = SHARP_ANGLE) -> np.ndarray:
    """Number the fans of triangles round each point that no sharp edge divides.

    Parameters
    ----------
    surface : Surface
        Welded surface with m triangles.
    angle : float, optional
        Least angle [deg] between the normals on both sides of a sharp edge.

    Returns
    -------
    (m, 3) array of int
        Fan of each corner of each triangle. The surface has one normal on each fan; a point of a trailing edge has two
        fans, even where both sides are connected round the leading edge.

    Examples
    --------
    >>> from zephyrum import Body
    >>> box = Body.box(1.0, 1.0, 1.0).surface().welded()
    >>> corner = np.argmin(box.points.sum(axis=1))  # three sides meet there
    >>> len(set(corner_fans(box)[box.triangles == corner].tolist()))
    3
    """
    t, near, m = surface.triangles, surface.neighbours, len(surface.triangles)
    there = np.maximum(near, 0)
    cosine = np.einsum("ij,ikj->ik", surface.normals, surface.normals[there])
    tiny = surface.areas < 1e-12 * surface.size**2
    smooth = (near >= 0) & ((cosine >= np.cos(np.radians(angle))) | tiny[:, None] | tiny[there])
    row, side = np.nonzero(smooth)
    one, two = [], []
    for end in (side, (side + 1) % 3):
        other = near[row, side]
        one.append(3 * row + end)
        two.append(3 * other + np.argmax(t[other] == t[row, end][:, None], axis=1))
    a, b = np.concatenate(one), np.concatenate(two)
    link = coo_matrix((np.ones(len(a), dtype=np.int8), (a, b)), shape=(3 * m, 3 * m))
    return connected_components(link, directed=False)[1].reshape(m, 3)


def curvatures(surface: Surface, smooth: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Principal curvatures at every point, by patches.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    smooth : (t,) array
        Smooth patch of each triangle.

    Returns
    -------
    larger, smaller : (n,) array
        [1/m]
    direction : (n, 3) array
        Of the smaller one.

    Examples
    --------
    >>> from zephyrum import Body
    >>> surface = Body.ellipsoid(2.0, 2.0).surface(tolerance=0.002).welded()
    >>> larger, smaller, direction = curvatures(surface, np.zeros(len(surface.triangles), dtype=int))
    >>> round(float(np.median(larger)), 1)  # 1 / radius
    1.0
    """
    t, m = surface.triangles, len(surface.triangles)
    n = len(surface.points)
    pair, corner = np.unique(t * (smooth.max() + 1) + smooth[:, None], return_inverse=True)
    corner = corner.reshape(m, 3)
    owner = pair // (smooth.max() + 1)
    p = surface.points[t]
    side = np.stack([p[:, 1] - p[:, 0], p[:, 2] - p[:, 1], p[:, 0] - p[:, 2]], axis=1)
    unit = side / np.maximum(np.linalg.norm(side, axis=2), 1e-300)[:, :, None]
    angle = np.arccos(np.clip(-np.einsum("ijk,ijk->ij", unit, np.roll(unit, 1, axis=1)), -1.0, 1.0))
    normal = np.zeros((len(pair), 3))
    for k in range(3):
        np.add.at(normal, corner[:, k], surface.normals * angle[:, k, None])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    u = unit[:, 0]
    v = np.cross(surface.normals, u)
    turn = normal[corner[:, [1, 2, 0]]] - normal[corner]
    eu, ev = np.einsum("ijk,ik->ij", side, u), np.einsum("ijk,ik->ij", side, v)
    bu, bv = np.einsum("ijk,ik->ij", turn, u), np.einsum("ijk,ik->ij", turn, v)
    zero = np.zeros_like(eu)
    left = np.concatenate([np.stack([eu, ev, zero], axis=2), np.stack([zero, eu, ev], axis=2)], axis=1)
    right = np.concatenate([bu, bv], axis=1)
    square = (
        np.einsum("ikj,ikl->ijl", left, left)
        + 1e-12 * np.einsum("ikj,ikj->i", left, left)[:, None, None] * np.eye(3)
        + 1e-300 * np.eye(3)
    )
    form = np.linalg.solve(square, np.einsum("ikj,ik->ij", left, right)[:, :, None])[:, :, 0]
    tensor = (
        form[:, 0, None, None] * u[:, :, None] * u[:, None, :]
        + form[:, 2, None, None] * v[:, :, None] * v[:, None, :]
        + form[:, 1, None, None] * (u[:, :, None] * v[:, None, :] + v[:, :, None] * u[:, None, :])
    )
    weight = np.zeros(len(pair))
    total = np.zeros((len(pair), 3, 3))
    for k in range(3):
        np.add.at(weight, corner[:, k], surface.areas)
        np.add.at(total, corner[:, k], surface.areas[:, None, None] * tensor)
    total /= np.maximum(weight, 1e-300)[:, None, None]
    value, vector = np.linalg.eigh(total)
    size = np.abs(value)
    # of the three directions that nearest to the normal is none of the surface's own
    across = np.argmax(np.abs(np.einsum("ijk,ij->ik", vector, normal)), axis=1)
    size[np.arange(len(pair)), across] = -1.0
    rank = np.argsort(-size, axis=1)
    row = np.arange(len(pair))
    large, small, flat = size[row, rank[:, 0]], np.maximum(size[row, rank[:, 1]], 0.0), vector[row, :, rank[:, 1]]
    best = np.zeros(n)
    np.maximum.at(best, owner, large)
    chosen = np.flatnonzero(large >= best[owner])
    pick = np.zeros(n, dtype=int)
    pick[owner[chosen]] = chosen
    return large[pick], small[pick], flat[pick]


@exact
def limit_growth(
    h1: np.ndarray, h2: np.ndarray, direction: np.ndarray, edges: np.ndarray, length: np.ndarray, growth: float
):
    """Limit the growth of sizes along edges, in place.

    Parameters
    ----------
    h1, h2 : (n,) arrays
        Short and long size [m].
    direction : (n, 3) array
        Long direction.
    edges : (m, 2) array
        Point pairs.
    length : (m,) array
        [m]
    growth : float
        Largest change of size over distance.

    Notes
    -----
    The point that gives the small size also gives the long direction.
    """
    for _ in range(500):
        changed = False
        for e in range(len(edges)):
            for side in range(2):
                p, q = edges[e, side], edges[e, 1 - side]
                most = h1[p] + growth * length[e]
                if h1[q] > most * (1.0 + 1e-9):
                    h1[q] = most
                    h2[q] = min(h2[q], max(h2[p] + growth * length[e], most))
                    for d in range(3):
                        direction[q, d] = direction[p, d]
                    changed = True
        if not changed:
            break
