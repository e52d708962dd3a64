"""Flips of edges and smoothing of points of a surface that is remeshed.

Verified by tests/test_remesh.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import exact, inner_exact
from zephyrum.geometry.surface.nearest_point import nearest_on_triangle
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
from zephyrum.geometry.surface.remeshing_state import (
    CORNER,
    FACING_COSINE,
    INTERIOR,
    MIN_NORMAL_COSINE,
    ON_LINE,
    POOR_QUALITY,
    MeshState,
    has_corner,
    new_scratch,
)
from zephyrum.geometry.surface.vectors import dot

if TYPE_CHECKING:
    from zephyrum.geometry.surface.remeshing_metric import Original


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
    s = new_scratch()
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


@inner_exact
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
        if has_corner(T, around[k], d):
            return True
    return False


@inner_exact
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
    s, old_p, old_m, target = new_scratch(), np.empty(3), np.empty(6), np.empty(3)
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


@inner_exact
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


@inner_exact
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


@inner_exact
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


@inner_exact
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
