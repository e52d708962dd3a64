"""The four local steps of remeshing, each a sweep over edges or points: split, collapse, flip, smooth.

Lengths are measured in a metric, one symmetric tensor a point, in which every edge should be 1 long (Frey and George
2008, Mesh Generation, ch. 10 and 18; collapse under the link condition, Dey et al. 1999, Publ. Inst. Math. 66:23). A
sweep works on triangles that no earlier step of the same sweep has touched. Points inside patches stay on their patch
of the original, points of feature lines on their line, corners where they are. Verified by tests/test_remesh.py.
"""

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

LONG, SHORT = 1.41, 0.70  # lengths above which an edge is split and below which it is collapsed
MIN_NORMAL_COSINE = 0.4  # least cosine between a new triangle's normal and the one it replaces
MAX_BEND_COSINE = 0.25  # of its length: how far the centre of a split edge may move
FACING_COSINE = 0.4  # the same for triangles that are moved or flipped, unless they faced it less before
POOR_QUALITY = 0.05  # quality below which a triangle's normal says nothing
MAX_SIZE_GRADIENT = 0.4  # least cosine between a triangle's normal and that of the original beneath it


@exact
def edge_lengths_and_qualities(
    P: np.ndarray,
    M: np.ndarray,
    rank: np.ndarray,
    line: np.ndarray,
    T: np.ndarray,
    patch: np.ndarray,
    nP: int,
    nT: int,
    lines: dict[int, int],
    O: tuple,
    tree: tuple,
    C,
):
    """The metric of the original at every point of the mesh into M; corners and points in no triangle keep their
    own.
    """
    start, around = ring_table(T[:nT], nP)
    location, m, direction = np.empty(3), np.empty(6), np.empty(3)
    for p in range(nP):
        if start[p + 1] == start[p] or rank[p] == 2:
            continue
        if rank[p] == 1:
            project_to_curve(P[p], line[p], C[0], C[1], C[2], O[0], O[3], location, m)
        elif not project_to_patch(P[p], patch[around[start[p]]], O, tree, location, m, direction):
            continue
        M[p] = m


@exact
def split_edges(
    P: np.ndarray,
    M: np.ndarray,
    rank: np.ndarray,
    line: np.ndarray,
    T: np.ndarray,
    patch: np.ndarray,
    nP: int,
    nT: int,
    lines: dict[int, int],
    O: tuple,
    tree: tuple,
    C,
    order: np.ndarray,
    edges: np.ndarray,
):
    """Split the long edges in that order; new counts of points and triangles."""
    start, around = ring_table(T[:nT], nP)
    touched = np.zeros(nT, dtype=np.bool_)
    was = T[:nT].copy()  # a triangle that was split may have lost the edge to one that the table does not know
    location, m, direction, before, after = np.empty(3), np.empty(6), np.empty(3), np.empty(3), np.empty(3)
    position, other, facing = np.empty(3), np.empty(6), np.empty(3)
    two = np.empty(2, dtype=np.int64)
    for e in order:
        a, b = edges[e, 0], edges[e, 1]
        if nP + 1 >= len(P) or nT + 2 >= len(T):
            break
        found, free = 0, True
        key = key_of(a, b)
        for k in range(start[a], start[a + 1]):
            t = around[k]
            if was[t, 0] == b or was[t, 1] == b or was[t, 2] == b:
                if key not in lines and found > 0 and patch[t] != patch[two[0]]:
                    continue  # the same two points of lines are also joined across another patch
                if touched[t] or found == 2:
                    free = False
                else:
                    two[found] = t
                    found += 1
        if not free or found == 0:
            continue
        midpoint = 0.5 * (P[a] + P[b])
        curve = -1
        if key in lines:
            curve = lines[key]
            project_to_curve(midpoint, curve, C[0], C[1], C[2], O[0], O[3], location, m)
        elif not project_to_patch(midpoint, patch[two[0]], O, tree, location, m, direction):
            continue
        # neither half may turn over, and an edge through a thin cone does not bend to one of its sides
        away, along = location - midpoint, P[b] - P[a]
        good = dot(away, away) < MAX_BEND_COSINE**2 * dot(along, along)
        P[nP] = location
        for j in range(found):
            t = two[j]
            normal(P, T[t, 0], T[t, 1], T[t, 2], before)
            trusted = curve >= 0 or quality(P, M, T[t, 0], T[t, 1], T[t, 2]) > POOR_QUALITY
            if not trusted:
                before[:] = direction
            elif curve < 0 and dot(before, direction) < MIN_NORMAL_COSINE:  # the far side of something thin
                good = False
            for old in (a, b):
                corner = T[t].copy()
                for k in range(3):
                    if corner[k] == old:
                        corner[k] = nP
                size = normal(P, corner[0], corner[1], corner[2], after)
                if size <= 0.0:
                    good = False
                elif (
                    trusted and dot(before, after) < MIN_NORMAL_COSINE
                ):  # unless it lies better on the original than before
                    inner = (P[corner[0]] + P[corner[1]] + P[corner[2]]) / 3.0
                    good &= (
                        project_to_patch(inner, patch[t], O, tree, position, other, facing)
                        and dot(facing, after) > FACING_COSINE
                    )
        if not good:
            continue
        M[nP] = m
        rank[nP], line[nP] = (1, curve) if curve >= 0 else (0, -1)
        for j in range(found):
            t = two[j]
            touched[t] = True
            for k in range(3):
                T[nT, k] = T[t, k]
            for k in range(3):
                if T[t, k] == b:
                    T[t, k] = nP
                if T[nT, k] == a:
                    T[nT, k] = nP
            patch[nT] = patch[t]
            nT += 1
        if curve >= 0:
            del lines[key]
            lines[key_of(a, nP)] = curve
            lines[key_of(b, nP)] = curve
        nP += 1
    return nP, nT


@exact
def collapse_edges(
    P: np.ndarray,
    M: np.ndarray,
    rank: np.ndarray,
    line: np.ndarray,
    T: np.ndarray,
    patch: np.ndarray,
    nP: int,
    nT: int,
    lines: dict[int, int],
    O: tuple,
    tree: tuple,
    C,
    order: np.ndarray,
    edges: np.ndarray,
    floor: float,
    rescue: bool,
):
    """Collapse the edges in that order; how many. Triangles that vanish get corners -1.

    No triangle may get worse than `floor`, unless one was as bad before; with `rescue` none at all, and the worst must
    gain.
    """
    start, around = ring_table(T[:nT], nP)
    touched = np.zeros(nT, dtype=np.bool_)
    before, after, location, direction, m = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(6)
    midpoint, corner = np.empty(3), np.empty(3, dtype=np.int64)
    mark = np.full(nP, -1)
    done = 0
    for e in order:
        for turn in range(2):
            a, b = (edges[e, 0], edges[e, 1]) if turn == 0 else (edges[e, 1], edges[e, 0])
            if rank[a] == 2:
                continue
            key = key_of(a, b)
            if rank[a] == 1 and (key not in lines or lines[key] != line[a]):
                continue
            free = True
            for p in (a, b):
                for k in range(start[p], start[p + 1]):
                    free = free and not touched[around[k]]
            if not free:
                continue
            # link condition: the points that a and b share are the tips of their common triangles
            shared, tips = 0, 0
            for k in range(start[b], start[b + 1]):
                for j in range(3):
                    mark[T[around[k], j]] = e * 2 + turn
            for k in range(start[a], start[a + 1]):
                t = around[k]
                if T[t, 0] == b or T[t, 1] == b or T[t, 2] == b:
                    tips += 1
            for k in range(start[a], start[a + 1]):
                for j in range(3):
                    q = T[around[k], j]
                    if q != a and q != b and mark[q] == e * 2 + turn:
                        shared += 1
                        mark[q] = -2
            if shared != tips:
                continue
            good, worst = True, 1.0
            low, lost, deep = 1.0, np.inf, metric_radius(M[a])
            if rank[a] == 1:  # the line goes straight on from b, and is not to cut a bend off
                for k in range(start[a], start[a + 1]):
                    for j in range(3):
                        q = T[around[k], j]
                        if q != a and q != b and key_of(a, q) in lines:
                            for i in range(3):
                                midpoint[i] = 0.5 * (P[q, i] + P[b, i])
                            if project_to_curve(midpoint, line[a], C[0], C[1], C[2], O[0], O[3], location, m) > deep**2:
                                good = False
                if not good:
                    continue
            for k in range(start[a], start[a + 1]):
                t = around[k]
                now = quality(P, M, T[t, 0], T[t, 1], T[t, 2])
                low = min(low, now)
                if T[t, 0] == b or T[t, 1] == b or T[t, 2] == b:
                    continue
                for j in range(3):
                    corner[j] = b if T[t, j] == a else T[t, j]
                    if corner[j] != b and edge_length(P, M, b, corner[j]) > LONG * 1.1:
                        good = False
                if not good:
                    break
                worst = min(worst, quality(P, M, corner[0], corner[1], corner[2]))
                if normal(P, corner[0], corner[1], corner[2], after) <= 0.0:
                    good = False
                    break
                normal(P, T[t, 0], T[t, 1], T[t, 2], before)
                # slivers have no trustworthy normal: the original's is asked beneath the new triangle
                if now > POOR_QUALITY and dot(before, after) < MIN_NORMAL_COSINE:
                    good = False
                    break
                lost = min(lost, nearest_on_triangle(P[a], P, corner[0], corner[1], corner[2], location, direction))
            least = max(floor, 2.0 * low) if rescue else min(floor, 0.8 * low)
            if not good or lost > deep**2 or worst < least:  # thin ends are not eaten away
                continue
            for k in range(start[a], start[a + 1]):  # what costs most is asked last
                t = around[k]
                if T[t, 0] == b or T[t, 1] == b or T[t, 2] == b:
                    continue
                for j in range(3):
                    corner[j] = b if T[t, j] == a else T[t, j]
                for j in range(3):
                    midpoint[j] = (P[corner[0], j] + P[corner[1], j] + P[corner[2], j]) / 3.0
                if project_to_patch(midpoint, patch[t], O, tree, location, m, direction):
                    normal(P, corner[0], corner[1], corner[2], after)
                    away = (
                        (midpoint[0] - location[0]) ** 2
                        + (midpoint[1] - location[1]) ** 2
                        + (midpoint[2] - location[2]) ** 2
                    )
                    if dot(direction, after) < MAX_SIZE_GRADIENT or away > deep**2:
                        good = False
                        break
            if not good:
                continue
            for k in range(start[b], start[b + 1]):
                touched[around[k]] = True
            for k in range(start[a], start[a + 1]):
                t = around[k]
                touched[t] = True
                if T[t, 0] == b or T[t, 1] == b or T[t, 2] == b:
                    for j in range(3):
                        q = T[t, j]
                        if q != a and q != b and key_of(a, q) in lines:  # a line through the tip goes on from b
                            lines[key_of(b, q)] = lines[key_of(a, q)]
                            del lines[key_of(a, q)]
                    T[t, :] = -1
                    continue
                for j in range(3):
                    q = T[t, j]
                    if q != a and q != b and key_of(a, q) in lines:
                        lines[key_of(b, q)] = lines[key_of(a, q)]
                        del lines[key_of(a, q)]
                for j in range(3):
                    if T[t, j] == a:
                        T[t, j] = b
            lines.pop(key, None)
            done += 1
            break
    return done


@exact
def flip_edges(
    P: np.ndarray,
    M: np.ndarray,
    rank: np.ndarray,
    line: np.ndarray,
    T: np.ndarray,
    patch: np.ndarray,
    nP: int,
    nT: int,
    lines: dict[int, int],
    O: tuple,
    tree: tuple,
    edges: np.ndarray,
):
    """Flip edges where the worse of both triangles gets better and neither turns away from the original; how many."""
    start, around = ring_table(T[:nT], nP)
    touched = np.zeros(nT, dtype=np.bool_)
    n1, n2, m1, m2 = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    location, direction, m = np.empty(3), np.empty(3), np.empty(6)
    made = {np.int64(-1): np.int64(0)}
    done = 0
    for e in range(len(edges)):
        a, b = edges[e, 0], edges[e, 1]
        if key_of(a, b) in lines:
            continue
        t1, t2, found = -1, -1, 0
        for k in range(start[a], start[a + 1]):
            t = around[k]
            if touched[t] or (found > 0 and patch[t] != patch[max(t1, t2)]):
                continue
            for j in range(3):
                if T[t, j] == a and T[t, (j + 1) % 3] == b:
                    t1, found = t, found + 1
                elif T[t, j] == b and T[t, (j + 1) % 3] == a:
                    t2, found = t, found + 1
        if found != 2 or t1 < 0 or t2 < 0:
            continue
        c = T[t1, 0] + T[t1, 1] + T[t1, 2] - a - b
        d = T[t2, 0] + T[t2, 1] + T[t2, 2] - a - b
        if key_of(c, d) in made:
            continue
        there = False
        for k in range(start[c], start[c + 1]):
            t = around[k]
            if T[t, 0] == d or T[t, 1] == d or T[t, 2] == d:
                there = True
        if there:
            continue
        q1, q2 = quality(P, M, a, b, c), quality(P, M, b, a, d)
        old = min(q1, q2)
        new = min(quality(P, M, c, d, b), quality(P, M, d, c, a))
        if new <= old * 1.02 + 1e-9:
            continue
        s1, s2 = normal(P, a, b, c, n1), normal(P, b, a, d, n2)
        r1, r2 = normal(P, a, d, c, m1), normal(P, d, b, c, m2)
        if r1 <= 0.0 or r2 <= 0.0 or dot(m1, m2) < 0.5:
            continue
        # how far the new edge passes from the old one
        across = np.cross(P[b] - P[a], P[d] - P[c])
        if abs((across * (P[c] - P[a])).sum()) > min(metric_radius(M[a]), metric_radius(M[b])) * np.sqrt(
            dot(across, across)
        ):
            continue
        mean = n1 * s1 + n2 * s2
        if max(q1, q2) > POOR_QUALITY and min(dot(mean, m1), dot(mean, m2)) <= 0.3 * (s1 + s2):
            continue
        if project_to_patch(0.5 * (P[c] + P[d]), patch[t1], O, tree, location, m, direction):
            least = FACING_COSINE
            if q1 > POOR_QUALITY:
                least = min(least, dot(n1, direction))
            if q2 > POOR_QUALITY:
                least = min(least, dot(n2, direction))
            if min(dot(m1, direction), dot(m2, direction)) < least:
                continue
        T[t1, 0], T[t1, 1], T[t1, 2] = a, d, c
        T[t2, 0], T[t2, 1], T[t2, 2] = d, b, c
        touched[t1] = touched[t2] = True
        made[key_of(c, d)] = 1  # type: ignore[assignment]
        done += 1
    return done


@exact
def smooth_points(
    P: np.ndarray,
    M: np.ndarray,
    rank: np.ndarray,
    line: np.ndarray,
    T: np.ndarray,
    patch: np.ndarray,
    nP: int,
    nT: int,
    lines: dict[int, int],
    O: tuple,
    tree: tuple,
    C,
    pull: float,
):
    """Move points towards the centre of their ring by metric lengths, back onto patch or line, if nothing gets
    worse.
    """
    start, around = ring_table(T[:nT], nP)
    location, m, direction, n, fraction = np.empty(3), np.empty(6), np.empty(3), np.empty(3), np.empty(3)
    kept_p, kept_m, target = np.empty(3), np.empty(6), np.empty(3)
    before = np.empty(((start[1:] - start[:-1]).max(), 3))
    moved = 0
    for p in range(nP):
        if rank[p] == 2 or start[p + 1] == start[p]:
            continue
        x = y = z = total = 0.0
        count, low = 0, 1.0
        for k in range(start[p], start[p + 1]):
            t = around[k]
            low = min(low, quality(P, M, T[t, 0], T[t, 1], T[t, 2]))
            for j in range(3):
                q = T[t, j]
                if q == p or (rank[p] == 1 and key_of(p, q) not in lines):
                    continue
                w = edge_length(P, M, p, q)
                x, y, z = x + w * P[q, 0], y + w * P[q, 1], z + w * P[q, 2]
                total += w
                count += 1
        if total <= 0.0 or count < 2:
            continue
        kept_p[:], kept_m[:] = P[p], M[p]
        target[0] = (1.0 - pull) * P[p, 0] + pull * x / total
        target[1] = (1.0 - pull) * P[p, 1] + pull * y / total
        target[2] = (1.0 - pull) * P[p, 2] + pull * z / total
        if rank[p] == 1:
            project_to_curve(target, line[p], C[0], C[1], C[2], O[0], O[3], location, m)
        elif not project_to_patch(target, patch[around[start[p]]], O, tree, location, m, direction):
            continue
        x = y = z = 0.0
        for k in range(start[p], start[p + 1]):
            t, own = around[k], before[k - start[p]]
            normal(P, T[t, 0], T[t, 1], T[t, 2], own)
            if rank[p] == 0 and quality(P, M, T[t, 0], T[t, 1], T[t, 2]) < POOR_QUALITY:
                own[:] = direction
            x, y, z = x + own[0], y + own[1], z + own[2]
        P[p], M[p] = location, m
        if rank[p] == 1:  # a bend of the line is not to be cut off
            bent = False
            for k in range(start[p], start[p + 1]):
                for j in range(3):
                    q = T[around[k], j]
                    if q != p and key_of(p, q) in lines:
                        midpoint = 0.5 * (P[q] + P[p])
                        off = project_to_curve(midpoint, line[p], C[0], C[1], C[2], O[0], O[3], location, m)
                        bent |= off > metric_radius(kept_m) ** 2
            if bent:
                P[p], M[p] = kept_p, kept_m
                continue
        # not on the far side of something thin
        good = rank[p] == 1 or x * direction[0] + y * direction[1] + z * direction[2] > MIN_NORMAL_COSINE * (
            start[p + 1] - start[p]
        )
        lost = np.inf
        for k in range(start[p], start[p + 1]):
            t = around[k]
            size = normal(P, T[t, 0], T[t, 1], T[t, 2], n)
            lost = min(lost, nearest_on_triangle(kept_p, P, T[t, 0], T[t, 1], T[t, 2], location, fraction))
            facing = dot(n, direction) if rank[p] == 0 else 1.0
            if (
                size <= 0.0
                or (facing < FACING_COSINE and facing < dot(before[k - start[p]], direction))
                or dot(before[k - start[p]], n) < 0.7
                or quality(P, M, T[t, 0], T[t, 1], T[t, 2]) < min(0.98 * low, 0.5)
            ):
                good = False
                break
        if good and lost < metric_radius(kept_m) ** 2:
            moved += 1
        else:
            P[p], M[p] = kept_p, kept_m
    return moved
