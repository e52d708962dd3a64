"""Wall layers off a triangulated surface: a ray off every point, prisms between them, thinned where there is no room.

The direction of a ray is the one that the least favourable of the triangles round its point sees best (min-max, cf.
Pirzadeh 1994, AIAA J. 32:1735, and Garimella and Shephard 2000, Int. J. Numer. Meth. Eng. 49:193), smoothed as long as
all of them still see it. Heights grow geometrically to half of the local edge; the thickness changes slowly along the
surface, leaves room for what lies opposite, and is reduced where a prism would fold or the outer surface would cross
itself. Verified by tests/test_clipped.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.errors import MeshError
from zephyrum.geometry.surface.self_intersection import box_tree, crossing_triangles
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.geometry.surface.visibility import vertex_visibility
from zephyrum.mesh.clipped_2d.wall_layers import heights, total_height
from zephyrum.mesh.clipped_3d.untangling import MIN_VISIBILITY

LAST_LAYER_HEIGHT = 0.5  # last height over the local edge
MAX_HEIGHT_SLOPE = 0.5  # change of thickness along the surface
MAX_GAP_FRACTION = 0.3  # of the way to what lies opposite
# fraction of what a ray sees that smoothing leaves: on smooth walls, at edges and in corners
STRAIGHT, BENT = 0.97, 0.7
MIN_AREA_RATIO = 0.3  # least area of the outer triangle over that of the wall, seen along its normal
SMOOTHING_PASSES = 20  # of smoothing of the marching directions
MAX_ATTEMPTS = 48
THINNING_FACTOR = 0.75  # factor on the thickness where a prism folds or crosses another
MAX_SLANT = 2.0  # heights are measured along the normals: a slanting ray is so much longer at most


@dataclass(frozen=True, eq=False)
class PrismLayers:
    """Prism layers above the points of a surface.

    Attributes
    ----------
    direction : array (n, 3)
        Unit marching direction of every point.
    height : array (n, k + 1)
        Heights [m] of the levels above every point.
    thickness_fraction : array (n,)
        Thickness over that asked for.
    """

    direction: np.ndarray
    height: np.ndarray
    thickness_fraction: np.ndarray

    def points(self, surface: Surface, level: int) -> np.ndarray:
        """Points of a level.

        Parameters
        ----------
        surface : Surface
            Surface that the layers start from.
        level : int
            0 at the wall.

        Returns
        -------
        (n, 3) array
            [m]
        """
        return surface.points + self.height[:, level, None] * self.direction


@exact
def _smoothed(direction, seen, triangles, normals, stars, rounds):
    """Marching directions averaged with those of the neighbours as long as every triangle round still sees them.

    Parameters
    ----------
    direction : (n, 3) array
    seen : (n,) array
        Least cosine to the normals of the triangles round each point.
    triangles : (t, 3) array of int
    normals : (t, 3) array
    stars : tuple
        (start, around, flat): triangles round each point, and whether it lies on the open rim.
    rounds : int
    """
    start, around, flat = stars
    out, old, v = direction.copy(), direction.copy(), np.empty(3)
    for _ in range(rounds):
        for p in range(len(direction)):
            for d in range(3):
                old[p, d] = out[p, d]
        for p in range(len(direction)):
            count = start[p + 1] - start[p]
            for d in range(3):
                v[d] = 0.0
                for k in range(start[p], start[p + 1]):
                    for j in range(3):
                        q = triangles[around[k], j]
                        if q != p:
                            v[d] += old[q, d]
                v[d] += 2.0 * count * old[p, d]
            if flat[p]:
                v[1] = 0.0
            size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
            if size < 1e-12:
                continue
            worst = 2.0
            for k in range(start[p], start[p + 1]):
                m = normals[around[k]]
                worst = min(worst, (v[0] * m[0] + v[1] * m[1] + v[2] * m[2]) / size)
            if worst > (STRAIGHT if seen[p] > 0.95 else BENT) * seen[p]:
                for d in range(3):
                    out[p, d] = v[d] / size
    return out


@exact
def _clearances(points, direction, reach, triangles, tree):
    """(n,) distance along the marching directions to what lies opposite, up to `reach` (n,)."""
    order, bounds, child, span = tree
    out = reach.copy()
    stack = np.empty(128, dtype=np.int64)
    for i in range(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        dx, dy, dz = direction[i, 0], direction[i, 1], direction[i, 2]
        stack[0], top = 0, 1
        while top > 0:
            top -= 1
            node = stack[top]
            low, high = 0.0, out[i]
            for d in range(3):
                o, w = points[i, d], direction[i, d]
                if abs(w) < 1e-12:
                    if o < bounds[node, d] or o > bounds[node, 3 + d]:
                        high = -1.0
                    continue
                t0, t1 = (bounds[node, d] - o) / w, (bounds[node, 3 + d] - o) / w
                if t0 > t1:
                    t0, t1 = t1, t0
                low, high = max(low, t0), min(high, t1)
            if low > high:
                continue
            if child[node, 0] >= 0:
                stack[top], stack[top + 1] = child[node, 0], child[node, 1]
                top += 2
                continue
            for k in range(span[node, 0], span[node, 1]):
                t = order[k]
                a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
                if a == i or b == i or c == i:
                    continue
                ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
                vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
                hx, hy, hz = dy * vz - dz * vy, dz * vx - dx * vz, dx * vy - dy * vx
                det = ux * hx + uy * hy + uz * hz
                if abs(det) < 1e-300:
                    continue
                sx, sy, sz = x - points[a, 0], y - points[a, 1], z - points[a, 2]
                u = (sx * hx + sy * hy + sz * hz) / det
                gx, gy, gz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
                v = (dx * gx + dy * gy + dz * gz) / det
                f = (vx * gx + vy * gy + vz * gz) / det
                if u > -1e-3 and v > -1e-3 and u + v < 1.002 and f > 1e-9 * reach[i]:
                    out[i] = min(out[i], f)
    return out


@exact
def _limit_height_slope(thick, edges, length, slope):
    """Thickness made to change by no more than `slope` along the edges."""
    for _ in range(200):
        changed = False
        for e in range(len(edges)):
            a, b = edges[e, 0], edges[e, 1]
            most = slope * length[e]
            if thick[a] > thick[b] + most + 1e-15:
                thick[a] = thick[b] + most
                changed = True
            elif thick[b] > thick[a] + most + 1e-15:
                thick[b] = thick[a] + most
                changed = True
        if not changed:
            break


@exact
def _inverted_prisms(points, tips, triangles, normals, areas, least, lowest):
    """(m,) triangles whose prism folds: its outer side too small or turned, or a corner too flat."""
    bad = np.zeros(len(triangles), dtype=np.bool_)
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u, v = tips[b] - tips[a], tips[c] - tips[a]
        n = normals[t]
        seen = 0.5 * (
            (u[1] * v[2] - u[2] * v[1]) * n[0] + (u[2] * v[0] - u[0] * v[2]) * n[1] + (u[0] * v[1] - u[1] * v[0]) * n[2]
        )
        if seen < least * areas[t]:
            bad[t] = True
            continue
        # no corner of the prism is inverted: positive volumes of its tetrahedra
        for k in range(3):
            p, q, r = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
            for side in range(2):
                if side == 0:
                    e, f, g = points[q] - points[p], points[r] - points[p], tips[p] - points[p]
                else:
                    e, f, g = tips[q] - tips[p], tips[r] - tips[p], tips[p] - points[p]
                x, y, z = e[1] * f[2] - e[2] * f[1], e[2] * f[0] - e[0] * f[2], e[0] * f[1] - e[1] * f[0]
                det = x * g[0] + y * g[1] + z * g[2]
                size = np.sqrt(x * x + y * y + z * z) * np.sqrt(g[0] * g[0] + g[1] * g[1] + g[2] * g[2])
                if det <= lowest * size:
                    bad[t] = True
    return bad


def grow_prisms(surface: Surface, layers: tuple[float, float, int], edge: np.ndarray) -> PrismLayers:
    """Grow layers off a closed surface, or one open along y = 0.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    layers : tuple[float, float, int]
        (first height [m], growth, count); an infinite height asks for even steps.
    edge : (n,) array
        Local edge length [m].

    Raises
    ------
    MeshError
        With the position where prisms cannot be made.

    Examples
    --------
    >>> from zephyrum import Body
    >>> surface = Body.ellipsoid(1.0, 1.0).surface(tolerance=0.01).welded()
    >>> prisms = grow_prisms(surface, (1e-3, 1.5, 4), np.full(len(surface.points), 0.1))
    >>> heights = np.linalg.norm(prisms.points(surface, 1) - prisms.points(surface, 0), axis=1)
    >>> bool(np.allclose(heights, 1e-3, rtol=0.1))
    True
    """
    first, growth, count = layers
    t, n = surface.triangles, len(surface.points)
    normals = np.ascontiguousarray(surface.normals)
    direction, seen, stars = vertex_visibility(surface)
    hidden = seen < MIN_VISIBILITY
    if hidden.any():
        k = int(np.argmin(seen))
        raise MeshError(
            f"layers: no direction off the surface is seen by all triangles round {surface.points[k].round(5)} m; "
            f"smooth the surface there.",
            surface.points[k],
        )
    direction = _smoothed(direction, seen, t, normals, stars, SMOOTHING_PASSES)
    cosine = np.full(n, 1.0)
    np.minimum.at(
        cosine, t.ravel(), np.einsum("ijk,ijk->ij", direction[t], np.repeat(normals[:, None], 3, axis=1)).ravel()
    )
    stretch = 1.0 / np.clip(cosine, 1.0 / MAX_SLANT, 1.0)
    target = total_height(first, LAST_LAYER_HEIGHT * edge, growth, count) * stretch
    corners = surface.points[t]
    tree = box_tree(corners.min(axis=1), corners.max(axis=1))
    thick = np.minimum(
        target, MAX_GAP_FRACTION * _clearances(surface.points, direction, target / MAX_GAP_FRACTION, t, tree)
    )
    edges = surface._edge_table[0]
    length = np.linalg.norm(surface.points[edges[:, 0]] - surface.points[edges[:, 1]], axis=1)
    _limit_height_slope(thick, edges, length, MAX_HEIGHT_SLOPE)
    areas = surface.areas
    for attempt in range(MAX_ATTEMPTS):
        tips = surface.points + thick[:, None] * direction
        bad = np.flatnonzero(
            _inverted_prisms(surface.points, tips, t, normals, areas, MIN_AREA_RATIO, 0.5 * MIN_VISIBILITY)
        )
        if not len(bad):
            pairs = crossing_triangles(Surface(tips, t))
            if not len(pairs):
                break
            bad = np.unique(pairs)
        near = np.zeros(n, dtype=bool)
        near[t[bad]] = True
        for _ in range(attempt // 8):
            wide = near.copy()
            wide[edges[near[edges].any(axis=1)]] = True
            near = wide
        thick[near] *= THINNING_FACTOR
        _limit_height_slope(thick, edges, length, MAX_HEIGHT_SLOPE)
    else:
        position = surface.centres[bad[0]]
        raise MeshError(
            f"layers: prisms fold or cross near {position.round(5)} m however thin; smooth or refine the surface "
            f"there.",
            position,
        )
    return PrismLayers(direction, heights(first, thick, count), thick / target)
