"""The four local steps of remeshing, each a sweep over edges or points: split, collapse, flip, smooth.

Lengths are measured in a metric, one symmetric tensor a point, in which every edge should be 1 long (Frey and George
2008, Mesh Generation, ch. 10 and 18; collapse under the link condition, Dey et al. 1999, Publ. Inst. Math. 66:23). A
sweep works on triangles that no earlier step of the same sweep has changed. Points inside patches stay on their patch
of the original, points of feature lines on their line, corners where they are. Verified by tests/test_remesh.py.
"""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.geometry.surface.nearest_point import dot, nearest_on_triangle
from zephyrum.geometry.surface.remeshing_metric import (
    edge_length,
    key_of,
    metric_radius,
    normal,
    project_to_curve,
    project_to_patch,
    quality,
    ring_table,
)

if TYPE_CHECKING:
    from zephyrum.geometry.surface.remeshing_metric import Original


LONG, SHORT = 1.41, 0.70  # lengths above which an edge is split and below which it is collapsed
MIN_NORMAL_COSINE = 0.4  # least cosine between the normals of a new triangle and of the one that it replaces
MAX_MIDPOINT_SHIFT = 0.25  # distance by which the midpoint of a split edge may move, over the length of the edge
# least cosine between the normals of a moved or flipped triangle and of the original, unless it was smaller before
FACING_COSINE = 0.4
POOR_QUALITY = 0.05  # quality below which the normal of a triangle has no meaning
MIN_ORIGINAL_COSINE = 0.4  # least cosine between the normals of a triangle and of the original beneath it
INTERIOR, ON_LINE, CORNER = 0, 1, 2  # ranks of points


class MeshState(NamedTuple):
    """The mesh that is worked on.

    Attributes
    ----------
    points, metric : array (room, 3), (room, 6)
    rank, line : array (room,)
        Rank of each point, and the feature line that it lies on.
    triangles, patch : array (room, 3), (room,)
        A triangle that has vanished has corners -1.
    n_points, n_triangles : int
    lines : dict
        Feature line of each edge on one, by `key_of`.
    """

    points: np.ndarray
    metric: np.ndarray
    rank: np.ndarray
    line: np.ndarray
    triangles: np.ndarray
    patch: np.ndarray
    n_points: int
    n_triangles: int
    lines: dict[int, int]


class Scratch(NamedTuple):
    """Work arrays of one sweep.

    Attributes
    ----------
    location, direction, before, after, midpoint : (3,) arrays
        Vectors.
    metric, other_metric : (6,) arrays
        Metrics.
    corner : (3,) array
        Corners of a triangle.
    """

    location: np.ndarray
    direction: np.ndarray
    before: np.ndarray
    after: np.ndarray
    midpoint: np.ndarray
    metric: np.ndarray
    other_metric: np.ndarray
    corner: np.ndarray


@exact
def _scratch():
    return Scratch(
        np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(6), np.empty(6), np.empty(3, np.int64)
    )


@exact
def _has(T, t, p):
    """Whether point p is a corner of triangle t."""
    return T[t, 0] == p or T[t, 1] == p or T[t, 2] == p


@exact
def update_metric(mesh: "MeshState", original: "Original"):
    """Set the metric at every point to that of the original; corners keep their own.

    Parameters
    ----------
    mesh : MeshState
        Mesh, changed in place.
    original : Original
        Surface that is remeshed.
    """
    P, M, T = mesh.points, mesh.metric, mesh.triangles
    start, around = ring_table(T[: mesh.n_triangles], mesh.n_points)
    s = _scratch()
    for p in range(mesh.n_points):
        if start[p + 1] == start[p] or mesh.rank[p] == CORNER:
            continue
        if mesh.rank[p] == ON_LINE:
            project_to_curve(P[p], mesh.line[p], original, s.location, s.metric)
        elif not project_to_patch(P[p], mesh.patch[around[start[p]]], original, s.location, s.metric, s.direction):
            continue
        M[p] = s.metric


@exact
def split_edges(mesh: "MeshState", original: "Original", order: np.ndarray, edges: np.ndarray):
    """Split the long edges.

    Parameters
    ----------
    mesh : MeshState
        Mesh, changed in place.
    original : Original
        Surface that is remeshed.
    order : array of int
        Order of the edges.
    edges : (k, 2) array of int
        Ends of the edges.

    Returns
    -------
    points, triangles : int
        New counts.
    """
    P, T, lines = mesh.points, mesh.triangles, mesh.lines
    nP, nT = mesh.n_points, mesh.n_triangles
    start, around = ring_table(T[:nT], nP)
    touched = np.zeros(nT, dtype=np.bool_)
    was = T[:nT].copy()  # a triangle that was split may have lost the edge to one that the table does not know
    s, two = _scratch(), np.empty(2, dtype=np.int64)
    for e in order:
        a, b = edges[e, 0], edges[e, 1]
        if nP + 1 >= len(P) or nT + 2 >= len(T):
            break
        key = key_of(a, b)
        found = _edge_triangles(a, b, mesh, (start, around, was, touched), two)
        if found == 0:
            continue
        s.midpoint[:] = 0.5 * (P[a] + P[b])
        curve = np.int64(-1)
        if key in lines:
            curve = lines[key]
            project_to_curve(s.midpoint, curve, original, s.location, s.metric)
        elif not project_to_patch(s.midpoint, mesh.patch[two[0]], original, s.location, s.metric, s.direction):
            continue
        away, along = s.location - s.midpoint, P[b] - P[a]
        if dot(away, away) >= MAX_MIDPOINT_SHIFT**2 * dot(along, along):
            continue  # an edge through a thin cone does not bend to one of its sides
        P[nP] = s.location
        if not _halves_keep_orientation(a, b, nP, two[:found], curve, mesh, original, s):
            continue
        mesh.metric[nP] = s.metric
        mesh.rank[nP], mesh.line[nP] = (ON_LINE, curve) if curve >= 0 else (INTERIOR, -1)
        for j in range(found):
            touched[two[j]] = True
            _split_triangle(two[j], nT, a, b, nP, mesh)
            nT += 1
        if curve >= 0:
            del lines[key]
            lines[key_of(a, nP)] = curve  # type: ignore[assignment]
            lines[key_of(b, nP)] = curve  # type: ignore[assignment]
        nP += 1
    return nP, nT


@exact
def _edge_triangles(a, b, mesh, rings, two):
    """Number of triangles at the edge a b, which go into two (2,); 0 if one of them was changed in this sweep."""
    start, around, was, touched = rings
    found, on_line = 0, key_of(a, b) in mesh.lines
    for k in range(start[a], start[a + 1]):
        t = around[k]
        if not _has(was, t, b):
            continue
        if not on_line and found > 0 and mesh.patch[t] != mesh.patch[two[0]]:
            continue  # the same two points of lines are also joined across another patch
        if touched[t] or found == 2:
            return 0
        two[found] = t
        found += 1
    return found


@exact
def _halves_keep_orientation(a, b, p, split, curve, mesh, original, s):
    """Whether no half of the triangles `split` at the edge a b turns over when they get the point p."""
    P, M, T = mesh.points, mesh.metric, mesh.triangles
    for t in split:
        normal(P, T[t, 0], T[t, 1], T[t, 2], s.before)
        trusted = curve >= 0 or quality(P, M, T[t, 0], T[t, 1], T[t, 2]) > POOR_QUALITY
        if not trusted:
            s.before[:] = s.direction
        elif curve < 0 and dot(s.before, s.direction) < MIN_NORMAL_COSINE:  # the far side of something thin
            return False
        for old in (a, b):
            for k in range(3):
                s.corner[k] = p if T[t, k] == old else T[t, k]
            if normal(P, s.corner[0], s.corner[1], s.corner[2], s.after) <= 0.0:
                return False
            turned = trusted and dot(s.before, s.after) < MIN_NORMAL_COSINE
            if turned and not _faces_original(mesh.patch[t], P, original, s):
                return False
    return True


@exact
def _faces_original(patch, P, original, s):
    """Whether the triangle s.corner with normal s.after faces the original."""
    centre = (P[s.corner[0]] + P[s.corner[1]] + P[s.corner[2]]) / 3.0
    position, facing = np.empty(3), np.empty(3)
    found = project_to_patch(centre, patch, original, position, s.other_metric, facing)
    return found and dot(facing, s.after) > FACING_COSINE


@exact
def _split_triangle(t, new, a, b, p, mesh):
    """Split triangle t at the point p of its edge a b: t keeps a, the triangle `new` gets b."""
    T = mesh.triangles
    for k in range(3):
        T[new, k] = T[t, k]
    for k in range(3):
        if T[t, k] == b:
            T[t, k] = p
        if T[new, k] == a:
            T[new, k] = p
    mesh.patch[new] = mesh.patch[t]


@exact
def collapse_edges(
    mesh: "MeshState", original: "Original", order: np.ndarray, edges: np.ndarray, floor: float, rescue: bool
):
    """Collapse the short edges.

    Parameters
    ----------
    mesh : MeshState
        Mesh, changed in place.
    original : Original
        Surface that is remeshed.
    order : array of int
        Order of the edges.
    edges : (k, 2) array of int
        Ends of the edges.
    floor : float
        Least quality of the triangles that are left.
    rescue : bool
        Whether edges are collapsed to improve the worst triangles.

    Returns
    -------
    int
        How many.

    Notes
    -----
    Triangles that vanish get corners -1. No triangle may get worse than `floor`, unless one was as bad before; with
    `rescue` none at all, and the worst must gain.
    """
    start, around = ring_table(mesh.triangles[: mesh.n_triangles], mesh.n_points)
    rings = start, around
    touched = np.zeros(mesh.n_triangles, dtype=np.bool_)
    s, mark = _scratch(), np.full(mesh.n_points, -1)
    done = 0
    for e in order:
        for turn in range(2):
            a, b = (edges[e, 0], edges[e, 1]) if turn == 0 else (edges[e, 1], edges[e, 0])
            if not _may_move_to(a, b, mesh) or _any_touched(a, b, rings, touched):
                continue
            if not _link_condition(a, b, mesh, rings, mark, e * 2 + turn):
                continue
            if not _line_keeps_shape(a, b, mesh, original, rings, s):
                continue
            if not _ring_keeps_shape(a, b, mesh, rings, floor, rescue, s):
                continue
            if not _ring_stays_on_original(a, b, mesh, original, rings, s):
                continue
            _merge_points(a, b, mesh, rings, touched)
            done += 1
            break
    return done


@exact
def _may_move_to(a, b, mesh):
    """Whether rank and feature line of point a let it move to point b."""
    if mesh.rank[a] == CORNER:
        return False
    key = key_of(a, b)
    return mesh.rank[a] == INTERIOR or (key in mesh.lines and mesh.lines[key] == mesh.line[a])


@exact
def _any_touched(a, b, rings, touched):
    """Whether a triangle round a or b was changed in this sweep."""
    start, around = rings
    for p in (a, b):
        for k in range(start[p], start[p + 1]):
            if touched[around[k]]:
                return True
    return False


@exact
def _link_condition(a, b, mesh, rings, mark, stamp):
    """Whether the points that a and b share are the tips of their common triangles."""
    start, around = rings
    T = mesh.triangles
    shared, tips = 0, 0
    for k in range(start[b], start[b + 1]):
        for j in range(3):
            mark[T[around[k], j]] = stamp
    for k in range(start[a], start[a + 1]):
        if _has(T, around[k], b):
            tips += 1
    for k in range(start[a], start[a + 1]):
        for j in range(3):
            q = T[around[k], j]
            if q != a and q != b and mark[q] == stamp:
                shared += 1
                mark[q] = -2
    return shared == tips


@exact
def _line_keeps_shape(a, b, mesh, original, rings, s):
    """Whether the feature line of a stays near the original's when a moves to b; true inside patches."""
    if mesh.rank[a] != ON_LINE:
        return True
    start, around = rings
    P, T, deep = mesh.points, mesh.triangles, metric_radius(mesh.metric[a])
    for k in range(start[a], start[a + 1]):
        for j in range(3):
            q = T[around[k], j]
            if q != a and q != b and key_of(a, q) in mesh.lines:
                for i in range(3):
                    s.midpoint[i] = 0.5 * (P[q, i] + P[b, i])
                if project_to_curve(s.midpoint, mesh.line[a], original, s.location, s.metric) > deep**2:
                    return False
    return True


@exact
def _set_moved_corner(t, a, b, T, corner):
    """Corners of triangle t when a has moved to b."""
    for j in range(3):
        corner[j] = b if T[t, j] == a else T[t, j]


@exact
def _ring_keeps_shape(a, b, mesh, rings, floor, rescue, s):
    """Whether the triangles round a keep size, orientation and quality when a moves to b."""
    start, around = rings
    P, M, T, c = mesh.points, mesh.metric, mesh.triangles, s.corner
    worst, low, lost, deep = 1.0, 1.0, np.inf, metric_radius(M[a])
    for k in range(start[a], start[a + 1]):
        t = around[k]
        now = quality(P, M, T[t, 0], T[t, 1], T[t, 2])
        low = min(low, now)
        if _has(T, t, b):
            continue
        _set_moved_corner(t, a, b, T, c)
        for j in range(3):
            if c[j] != b and edge_length(P, M, b, c[j]) > LONG * 1.1:
                return False
        worst = min(worst, quality(P, M, c[0], c[1], c[2]))
        if normal(P, c[0], c[1], c[2], s.after) <= 0.0:
            return False
        normal(P, T[t, 0], T[t, 1], T[t, 2], s.before)
        # slivers have no trustworthy normal: the original's is asked beneath the new triangle
        if now > POOR_QUALITY and dot(s.before, s.after) < MIN_NORMAL_COSINE:
            return False
        lost = min(lost, nearest_on_triangle(P[a], P, c[0], c[1], c[2], s.location, s.direction))
    least = max(floor, 2.0 * low) if rescue else min(floor, 0.8 * low)
    return not (lost > deep**2 or worst < least)  # thin ends are kept


@exact
def _ring_stays_on_original(a, b, mesh, original, rings, s):
    """Whether the triangles round a stay near the original and face it when a moves to b."""
    start, around = rings
    P, T, c, deep = mesh.points, mesh.triangles, s.corner, metric_radius(mesh.metric[a])
    for k in range(start[a], start[a + 1]):
        t = around[k]
        if _has(T, t, b):
            continue
        _set_moved_corner(t, a, b, T, c)
        for j in range(3):
            s.midpoint[j] = (P[c[0], j] + P[c[1], j] + P[c[2], j]) / 3.0
        if project_to_patch(s.midpoint, mesh.patch[t], original, s.location, s.metric, s.direction):
            normal(P, c[0], c[1], c[2], s.after)
            away = (
                (s.midpoint[0] - s.location[0]) ** 2
                + (s.midpoint[1] - s.location[1]) ** 2
                + (s.midpoint[2] - s.location[2]) ** 2
            )
            if dot(s.direction, s.after) < MIN_ORIGINAL_COSINE or away > deep**2:
                return False
    return True


@exact
def _merge_points(a, b, mesh, rings, touched):
    """Move point a to b; their common triangles vanish, and feature lines through a go on from b."""
    start, around = rings
    T, lines = mesh.triangles, mesh.lines
    for k in range(start[b], start[b + 1]):
        touched[around[k]] = True
    for k in range(start[a], start[a + 1]):
        t = around[k]
        touched[t] = True
        for j in range(3):
            q = T[t, j]
            if q != a and q != b and key_of(a, q) in lines:
                lines[key_of(b, q)] = lines[key_of(a, q)]
                del lines[key_of(a, q)]
        if _has(T, t, b):
            T[t, :] = -1
            continue
        for j in range(3):
            if T[t, j] == a:
                T[t, j] = b
    lines.pop(key_of(a, b), None)


@exact
def flip_edges(mesh: "MeshState", original: "Original", edges: np.ndarray):
    """Flip edges where the worse of both triangles gets better and neither turns away from the original.

    Parameters
    ----------
    mesh : MeshState
        Mesh, changed in place.
    original : Original
        Surface that is remeshed.
    edges : (k, 2) array of int
        Ends of the edges.

    Returns
    -------
    int
        How many.
    """
    T = mesh.triangles
    start, around = ring_table(T[: mesh.n_triangles], mesh.n_points)
    touched = np.zeros(mesh.n_triangles, dtype=np.bool_)
    s = _scratch()
    made = {np.int64(-1): np.int64(0)}
    done = 0
    for e in range(len(edges)):
        a, b = edges[e, 0], edges[e, 1]
        if key_of(a, b) in mesh.lines:
            continue
        t1, t2 = _two_sides(a, b, mesh, (start, around), touched)
        if t1 < 0 or t2 < 0:
            continue
        c = T[t1, 0] + T[t1, 1] + T[t1, 2] - a - b
        d = T[t2, 0] + T[t2, 1] + T[t2, 2] - a - b
        if key_of(c, d) in made or _joined(c, d, T, (start, around)):
            continue
        if not _flip_gains(a, b, c, d, mesh, original, mesh.patch[t1], s):
            continue
        T[t1, 0], T[t1, 1], T[t1, 2] = a, d, c
        T[t2, 0], T[t2, 1], T[t2, 2] = d, b, c
        touched[t1] = touched[t2] = True
        made[key_of(c, d)] = 1  # type: ignore[assignment]
        done += 1
    return done


@exact
def _two_sides(a, b, mesh, rings, touched):
    """The triangles on both sides of the edge a b that no flip has changed; (-1, -1) unless there are just two."""
    start, around = rings
    T = mesh.triangles
    t1, t2, found = -1, -1, 0
    for k in range(start[a], start[a + 1]):
        t = around[k]
        if touched[t] or (found > 0 and mesh.patch[t] != mesh.patch[max(t1, t2)]):
            continue
        for j in range(3):
            if T[t, j] == a and T[t, (j + 1) % 3] == b:
                t1, found = t, found + 1
            elif T[t, j] == b and T[t, (j + 1) % 3] == a:
                t2, found = t, found + 1
    return (t1, t2) if found == 2 else (-1, -1)


@exact
def _joined(c, d, T, rings):
    """Whether the points c and d are corners of one triangle."""
    start, around = rings
    for k in range(start[c], start[c + 1]):  # noqa: SIM110, no generators in kernels
        if _has(T, around[k], d):
            return True
    return False


@exact
def _flip_gains(a, b, c, d, mesh, original, patch, s):
    """Whether the triangles a b c and b a d are better as a d c and d b c, and face the original no less."""
    P, M = mesh.points, mesh.metric
    q1, q2 = quality(P, M, a, b, c), quality(P, M, b, a, d)
    if min(quality(P, M, c, d, b), quality(P, M, d, c, a)) <= min(q1, q2) * 1.02 + 1e-9:
        return False
    n1, n2, m1, m2 = s.before, s.after, s.midpoint, np.empty(3)
    s1, s2 = normal(P, a, b, c, n1), normal(P, b, a, d, n2)
    r1, r2 = normal(P, a, d, c, m1), normal(P, d, b, c, m2)
    if r1 <= 0.0 or r2 <= 0.0 or dot(m1, m2) < 0.5:
        return False
    # how far the new edge passes from the old one
    across = np.cross(P[b] - P[a], P[d] - P[c])
    apart, radius = abs((across * (P[c] - P[a])).sum()), min(metric_radius(M[a]), metric_radius(M[b]))
    if apart > radius * np.sqrt(dot(across, across)):
        return False
    mean = n1 * s1 + n2 * s2
    if max(q1, q2) > POOR_QUALITY and min(dot(mean, m1), dot(mean, m2)) <= 0.3 * (s1 + s2):
        return False
    if project_to_patch(0.5 * (P[c] + P[d]), patch, original, s.location, s.metric, s.direction):
        least = FACING_COSINE
        if q1 > POOR_QUALITY:
            least = min(least, dot(n1, s.direction))
        if q2 > POOR_QUALITY:
            least = min(least, dot(n2, s.direction))
        if min(dot(m1, s.direction), dot(m2, s.direction)) < least:
            return False
    return True


@exact
def smooth_points(mesh: "MeshState", original: "Original", relaxation: float):
    """Move points towards the centre of their ring by metric lengths, back onto patch or line.

    Parameters
    ----------
    mesh : MeshState
        Mesh, changed in place.
    original : Original
        Surface that is remeshed.
    relaxation : float
        Fraction of the way.

    Returns
    -------
    int
        How many points moved.

    Notes
    -----
    A point moves only if no triangle round it gets worse, turns over or leaves the original.
    """
    P, M = mesh.points, mesh.metric
    start, around = ring_table(mesh.triangles[: mesh.n_triangles], mesh.n_points)
    rings = start, around
    s, old_p, old_m, target = _scratch(), np.empty(3), np.empty(6), np.empty(3)
    before = np.empty(((start[1:] - start[:-1]).max(), 3))
    moved = 0
    for p in range(mesh.n_points):
        if mesh.rank[p] == CORNER or start[p + 1] == start[p]:
            continue
        low = _ring_centre(p, mesh, rings, relaxation, target)
        if low < 0.0:
            continue
        old_p[:], old_m[:] = P[p], M[p]
        if mesh.rank[p] == ON_LINE:
            project_to_curve(target, mesh.line[p], original, s.location, s.metric)
        elif not project_to_patch(target, mesh.patch[around[start[p]]], original, s.location, s.metric, s.direction):
            continue
        facing = _ring_normals(p, mesh, rings, s.direction, before)
        P[p], M[p] = s.location, s.metric
        radius = metric_radius(old_m) ** 2
        # not on the far side of something thin
        seen = mesh.rank[p] == ON_LINE or facing > MIN_NORMAL_COSINE * (start[p + 1] - start[p])
        if (
            _line_follows(p, mesh, original, rings, radius, s)
            and seen
            and _distance_after_move(p, mesh, rings, (low, old_p, before), s) < radius
        ):
            moved += 1
        else:
            P[p], M[p] = old_p, old_m
    return moved


@exact
def _ring_centre(p, mesh, rings, relaxation, target):
    """Least quality round p, with the relaxed centre of its ring in target (3,); -1 where p cannot move."""
    start, around = rings
    P, M, T = mesh.points, mesh.metric, mesh.triangles
    x = y = z = total = 0.0
    count, low = 0, 1.0
    for k in range(start[p], start[p + 1]):
        t = around[k]
        low = min(low, quality(P, M, T[t, 0], T[t, 1], T[t, 2]))
        for j in range(3):
            q = T[t, j]
            if q == p or (mesh.rank[p] == ON_LINE and key_of(p, q) not in mesh.lines):
                continue
            w = edge_length(P, M, p, q)
            x, y, z = x + w * P[q, 0], y + w * P[q, 1], z + w * P[q, 2]
            total += w
            count += 1
    if total <= 0.0 or count < 2:
        return -1.0
    target[0] = (1.0 - relaxation) * P[p, 0] + relaxation * x / total
    target[1] = (1.0 - relaxation) * P[p, 1] + relaxation * y / total
    target[2] = (1.0 - relaxation) * P[p, 2] + relaxation * z / total
    return low


@exact
def _ring_normals(p, mesh, rings, direction, before):
    """Fill `before` with the normals round p (of slivers: direction); their sum in the direction."""
    start, around = rings
    P, M, T = mesh.points, mesh.metric, mesh.triangles
    x = y = z = 0.0
    for k in range(start[p], start[p + 1]):
        t, own = around[k], before[k - start[p]]
        normal(P, T[t, 0], T[t, 1], T[t, 2], own)
        if mesh.rank[p] == INTERIOR and quality(P, M, T[t, 0], T[t, 1], T[t, 2]) < POOR_QUALITY:
            own[:] = direction
        x, y, z = x + own[0], y + own[1], z + own[2]
    return x * direction[0] + y * direction[1] + z * direction[2]


@exact
def _line_follows(p, mesh, original, rings, radius, s):
    """Whether the edges of a feature line at p stay within a squared distance of it; true inside patches."""
    if mesh.rank[p] != ON_LINE:
        return True
    start, around = rings
    P, T = mesh.points, mesh.triangles
    for k in range(start[p], start[p + 1]):
        for j in range(3):
            q = T[around[k], j]
            if q != p and key_of(p, q) in mesh.lines:
                s.midpoint[:] = 0.5 * (P[q] + P[p])
                if project_to_curve(s.midpoint, mesh.line[p], original, s.location, s.metric) > radius:
                    return False
    return True


@exact
def _distance_after_move(p, mesh, rings, old, s):
    """Squared distance of the old place of p from the triangles round it; infinite if one of them is worse than
    before.
    """
    start, around = rings
    low, old_p, before = old
    P, M, T = mesh.points, mesh.metric, mesh.triangles
    lost = np.inf
    for k in range(start[p], start[p + 1]):
        t, own = around[k], before[k - start[p]]
        size = normal(P, T[t, 0], T[t, 1], T[t, 2], s.after)
        lost = min(lost, nearest_on_triangle(old_p, P, T[t, 0], T[t, 1], T[t, 2], s.location, s.midpoint))
        facing = dot(s.after, s.direction) if mesh.rank[p] == INTERIOR else 1.0
        if (
            size <= 0.0
            or (facing < FACING_COSINE and facing < dot(own, s.direction))
            or dot(own, s.after) < 0.7
            or quality(P, M, T[t, 0], T[t, 1], T[t, 2]) < min(0.98 * low, 0.5)
        ):
            return np.inf
    return lost
