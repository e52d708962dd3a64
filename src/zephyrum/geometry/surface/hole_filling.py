"""Holes in a surface: their rims, the triangulation of least area that fills one, and how wrong that may be.

Barequet and Sharir (1995), Comput. Aided Geom. Des. 12:207; large rims are cut down first by clipping ears.
Verified by tests/test_adopt.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import exact
from zephyrum.geometry.surface.triangulation import Surface

MAX_CORNERS = 160  # points of a rim that the exact triangulation takes; longer ones are clipped to it


@dataclass(frozen=True, eq=False)
class Hole:
    """A closed loop of open edges.

    Attributes
    ----------
    loop : (n,) array
        Points in the order in which a filling triangle runs along them.
    midpoint : (3,) array
        [m]
    size : float
        [m]
    """

    loop: np.ndarray
    midpoint: np.ndarray
    size: float


def hole_boundaries(surface: Surface) -> list[Hole]:
    """Find all holes: closed loops of open edges.

    Parameters
    ----------
    surface : Surface
        Welded surface.

    Notes
    -----
    Where several loops meet in a point, the shortest come first.

    Examples
    --------
    >>> import zephyrum as zy
    >>> len(hole_boundaries(zy.Body.box(1.0, 1.0, 1.0).surface().selected(slice(1, None))))
    1
    """
    t = surface.triangles
    sides = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
    n = len(surface.points)
    there = np.sort(sides[:, 0] * n + sides[:, 1])
    back = sides[:, 1] * n + sides[:, 0]
    location = np.minimum(np.searchsorted(there, back), len(there) - 1)
    rim = sides[there[location] != back][:, ::-1]  # a filling triangle runs the other way
    follow: dict[int, list[int]] = {}
    for a, b in rim.tolist():
        follow.setdefault(a, []).append(b)
    holes = []
    while follow:
        start = next(iter(follow))
        path, at = [start], {start: 0}
        while True:
            here = path[-1]
            directions = follow.get(here)
            if not directions:
                break
            nxt = directions.pop()
            if not directions:
                del follow[here]
            if nxt in at:  # a loop is closed: cut it off the path
                loop = path[at[nxt] :]
                for point in loop[1:]:
                    del at[point]
                path = path[: at[nxt] + 1]
                holes.append(loop)
                if len(path) == 1 and not follow.get(nxt):
                    break
            else:
                at[nxt] = len(path)
                path.append(nxt)
    out = []
    for loop in holes:
        points = surface.points[loop]
        out.append(Hole(np.array(loop), points.mean(axis=0), float(np.linalg.norm(np.ptp(points, axis=0)))))
    return [hole for hole in out if len(hole.loop) >= 3]


def fill_hole(surface: Surface, hole: Hole) -> tuple[np.ndarray, float] | None:
    """Triangulate a hole.

    Parameters
    ----------
    surface : Surface
        Surface.
    hole : Hole
        One of `hole_boundaries`.

    Returns
    -------
    tuple or None
        Triangles (k, 3) and the volume [m^3] by which the patch may be wrong; None if no patch exists.

    Examples
    --------
    >>> from zephyrum import Body
    >>> box = Body.box(1.0, 1.0, 1.0).surface().welded()
    >>> open_box = box.selected(np.arange(len(box.triangles)) != 0)
    >>> triangles, uncertainty = fill_hole(open_box, hole_boundaries(open_box)[0])
    >>> len(triangles)
    1
    """
    points = surface.points[hole.loop]
    if len(points) == 3:
        local = np.array([[0, 1, 2]])
    else:
        clipped, rest = _clip_ears(points)
        local = _least_area(points[rest])
        local = rest[local]
        if len(clipped):
            local = np.concatenate([clipped, local])
    patch = hole.loop[local]
    if (patch == np.roll(patch, 1, axis=1)).any():
        return None
    return patch, _fill_uncertainty(surface, hole, patch)


def _clip_ears(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Ears clipped off a long rim, smallest angle's opening first, until the exact way can take the rest."""
    rest = list(range(len(points)))
    out = []
    normal = _loop_normal(points)
    while len(rest) > MAX_CORNERS:
        p = points[rest]
        before, after = np.roll(p, 1, axis=0), np.roll(p, -1, axis=0)
        turn = np.cross(p - before, after - p) @ normal
        size = np.linalg.norm(after - before, axis=1)
        score = np.where(turn > 0.0, size, np.inf)
        taken: list[int] = []
        for k in np.argsort(score)[: max(1, len(rest) // 4)].tolist():
            if not np.isfinite(score[k]):
                break
            if all(1 < abs(k - j) < len(rest) - 1 for j in taken):  # neighbours round the rim do not both go
                taken.append(k)
            if len(rest) - len(taken) <= MAX_CORNERS:
                break
        if not taken:
            break
        n = len(rest)
        for k in taken:
            out.append((rest[k - 1], rest[k], rest[(k + 1) % n]))
        gone = set(taken)
        rest = [point for k, point in enumerate(rest) if k not in gone]
    return np.array(out, dtype=int).reshape(-1, 3), np.array(rest)


def _loop_normal(points: np.ndarray) -> np.ndarray:
    """Unit vector of the area that a rim spans."""
    p = points - points.mean(axis=0)
    area = np.cross(p, np.roll(p, -1, axis=0)).sum(axis=0)
    return area / max(np.linalg.norm(area), 1e-300)


@exact
def _best_cuts(points):
    """(n, n) for each span of the rim the corner of the triangle on it in the triangulation of least area."""
    n = len(points)
    cost = np.zeros((n, n))
    cut = np.zeros((n, n), dtype=np.int64)
    for span in range(2, n):
        for i in range(n - span):
            j = i + span
            best = np.inf
            for k in range(i + 1, j):
                u, v = points[k] - points[i], points[j] - points[i]
                x, y, z = u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]
                here = cost[i, k] + cost[k, j] + 0.5 * np.sqrt(x * x + y * y + z * z)
                if here < best:
                    best, cut[i, j] = here, k
            cost[i, j] = best
    return cut


def _least_area(points: np.ndarray) -> np.ndarray:
    """(n - 2, 3) triangles of the filling of least area."""
    cut = _best_cuts(np.ascontiguousarray(points))
    out, stack = [], [(0, len(points) - 1)]
    while stack:
        i, j = stack.pop()
        if j - i < 2:
            continue
        k = int(cut[i, j])
        out.append((i, k, j))
        stack += [(i, k), (k, j)]
    return np.array(out)


def _fill_uncertainty(surface: Surface, hole: Hole, patch: np.ndarray) -> float:
    """Volume [m^3] that a flat patch may miss: its area times the rise of the surface's slope at the rim over a quarter
    width.

    Slopes are those of the triangles at the rim against the patch; a cap like that of a ball has 1 / 2 of it.
    """
    corners = surface.points[patch]
    area_vectors = 0.5 * np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = float(np.linalg.norm(area_vectors, axis=1).sum())
    normal = area_vectors.sum(axis=0)
    normal /= max(np.linalg.norm(normal), 1e-300)
    at_rim = np.isin(surface.triangles, hole.loop).sum(axis=1) >= 2
    beside = surface.normals[at_rim]
    weight = surface.areas[at_rim]
    if not len(beside) or not weight.sum() > 0.0:
        return area * hole.size
    mean = float((weight * np.clip(beside @ normal, -1.0, 1.0)).sum() / weight.sum())
    slope = np.tan(min(np.arccos(np.clip(mean, -1.0, 1.0)), np.radians(60.0)))
    perimeter = float(
        np.linalg.norm(np.diff(np.r_[surface.points[hole.loop], surface.points[hole.loop[:1]]], axis=0), axis=1).sum()
    )
    width = 4.0 * area / max(perimeter, 1e-300)
    return 0.25 * area * width * float(slope)
