"""Local steps of remeshing that change the number of points, each a sweep over edges: split and collapse.

Lengths are measured in a metric, one symmetric tensor a point, in which every edge should be 1 long (Frey and George
2008, Mesh Generation, ch. 10 and 18; collapse under the link condition, Dey et al. 1999, Publ. Inst. Math. 66:23). A
sweep works on triangles that no earlier step of the same sweep has changed. Points inside patches stay on their patch
of the original, points of feature lines on their line, corners where they are. Verified by tests/test_remesh.py.
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


LONG, SHORT = 1.41, 0.70  # lengths above which an edge is split and below which it is collapsed
MAX_MIDPOINT_SHIFT = 0.25  # distance by which the midpoint of a split edge may move, over the length of the edge
MIN_ORIGINAL_COSINE = 0.4  # least cosine between the normals of a triangle and of the original beneath it


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
    s = new_scratch()
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
    s, two = new_scratch(), np.empty(2, dtype=np.int64)
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


@inner_exact
def _edge_triangles(a, b, mesh, rings, two):
    """Number of triangles at the edge a b, which go into two (2,); 0 if one of them was changed in this sweep."""
    start, around, was, touched = rings
    found, on_line = 0, key_of(a, b) in mesh.lines
    for k in range(start[a], start[a + 1]):
        t = around[k]
        if not has_corner(was, t, b):
            continue
        if not on_line and found > 0 and mesh.patch[t] != mesh.patch[two[0]]:
            continue  # the same two points of lines are also joined across another patch
        if touched[t] or found == 2:
            return 0
        two[found] = t
        found += 1
    return found


@inner_exact
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


@inner_exact
def _faces_original(patch, P, original, s):
    """Whether the triangle s.corner with normal s.after faces the original."""
    centre = (P[s.corner[0]] + P[s.corner[1]] + P[s.corner[2]]) / 3.0
    position, facing = np.empty(3), np.empty(3)
    found = project_to_patch(centre, patch, original, position, s.other_metric, facing)
    return found and dot(facing, s.after) > FACING_COSINE


@inner_exact
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
    s, mark = new_scratch(), np.full(mesh.n_points, -1)
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


@inner_exact
def _may_move_to(a, b, mesh):
    """Whether rank and feature line of point a let it move to point b."""
    if mesh.rank[a] == CORNER:
        return False
    key = key_of(a, b)
    return mesh.rank[a] == INTERIOR or (key in mesh.lines and mesh.lines[key] == mesh.line[a])


@inner_exact
def _any_touched(a, b, rings, touched):
    """Whether a triangle round a or b was changed in this sweep."""
    start, around = rings
    for p in (a, b):
        for k in range(start[p], start[p + 1]):
            if touched[around[k]]:
                return True
    return False


@inner_exact
def _link_condition(a, b, mesh, rings, mark, stamp):
    """Whether the points that a and b share are the tips of their common triangles."""
    start, around = rings
    T = mesh.triangles
    shared, tips = 0, 0
    for k in range(start[b], start[b + 1]):
        for j in range(3):
            mark[T[around[k], j]] = stamp
    for k in range(start[a], start[a + 1]):
        if has_corner(T, around[k], b):
            tips += 1
    for k in range(start[a], start[a + 1]):
        for j in range(3):
            q = T[around[k], j]
            if q != a and q != b and mark[q] == stamp:
                shared += 1
                mark[q] = -2
    return shared == tips


@inner_exact
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


@inner_exact
def _set_moved_corner(t, a, b, T, corner):
    """Corners of triangle t when a has moved to b."""
    for j in range(3):
        corner[j] = b if T[t, j] == a else T[t, j]


@inner_exact
def _ring_keeps_shape(a, b, mesh, rings, floor, rescue, s):
    """Whether the triangles round a keep size, orientation and quality when a moves to b."""
    start, around = rings
    P, M, T, c = mesh.points, mesh.metric, mesh.triangles, s.corner
    worst, low, lost, deep = 1.0, 1.0, np.inf, metric_radius(M[a])
    for k in range(start[a], start[a + 1]):
        t = around[k]
        now = quality(P, M, T[t, 0], T[t, 1], T[t, 2])
        low = min(low, now)
        if has_corner(T, t, b):
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


@inner_exact
def _ring_stays_on_original(a, b, mesh, original, rings, s):
    """Whether the triangles round a stay near the original and face it when a moves to b."""
    start, around = rings
    P, T, c, deep = mesh.points, mesh.triangles, s.corner, metric_radius(mesh.metric[a])
    for k in range(start[a], start[a + 1]):
        t = around[k]
        if has_corner(T, t, b):
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


@inner_exact
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
        if has_corner(T, t, b):
            T[t, :] = -1
            continue
        for j in range(3):
            if T[t, j] == a:
                T[t, j] = b
    lines.pop(key_of(a, b), None)
