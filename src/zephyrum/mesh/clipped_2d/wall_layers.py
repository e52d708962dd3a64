"""Wall layers about closed curves: marching directions off every point, a fan of them at sharp corners, heights that
end at half an edge.

Rays are straight, their directions smoothed; heights grow geometrically, by a ratio of each ray's own, so that the last
cell is half as high as the local edge is long. In gaps and hollows the whole layer is made thinner, never cut off; if
its outer rim crosses itself, the positions concerned are thinned until it does not (cf. Garimella and Shephard 2000,
Int. J. Numer. Meth. Eng. 49:193). Verified by tests/test_clipped.py.
"""

import itertools
from dataclasses import dataclass

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.mesh.clipped_2d.curves import Curve

FAN_ANGLE = np.radians(50.0)  # corners that turn by more get a fan of marching directions
MIN_DIRECTION_ANGLE = np.radians(32.0)  # between the marching directions of a fan
LAST_LAYER_HEIGHT = 0.5  # last height over the local edge
MAX_HEIGHT_SLOPE = 0.2  # change of the thickness along the wall
MAX_ATTEMPTS = 40


@dataclass(frozen=True, eq=False)
class MarchingDirections:
    """Rays of one curve, in order.

    Attributes
    ----------
    curve : Curve
        The curve.
    base : (r,) array
        Point of the curve at which each starts.
    direction : (r, 2) array
        Unit vectors.
    height : (r, k + 1) array
        Heights of the levels [m].
    """

    curve: Curve
    base: np.ndarray
    direction: np.ndarray
    height: np.ndarray

    @property
    def front(self) -> np.ndarray:
        """(r, 2) tips [m]."""
        return self.curve.points[self.base] + self.height[:, -1, None] * self.direction


def marching_directions(
    curves: list[Curve], layers: tuple[float, float, int], room: list[np.ndarray]
) -> list[MarchingDirections]:
    """Rays off all curves, with the heights of the layers.

    Parameters
    ----------
    curves : list[Curve]
        Curves.
    layers : tuple[float, float, int]
        (first height [m], growth, count); an infinite first height asks for equal steps.
    room : list[array]
        Distance [m] of the points of each curve from other bodies.
    """
    first, growth, count = layers
    made = []
    for curve, free in zip(curves, room):
        base, direction = _directions(curve)
        target = np.minimum(total_height(first, LAST_LAYER_HEIGHT * curve.size[base], growth, count), 0.35 * free[base])
        made.append((curve, base, direction, target))
    thick = [_sloped(curve, base, target) for curve, base, _, target in made]
    for _ in range(MAX_ATTEMPTS):
        fronts = [curve.points[base] + t[:, None] * direction for (curve, base, direction, _), t in zip(made, thick)]
        bad = _crossed(fronts, [curve.points[base] for curve, base, _, _ in made])
        if not any(b.any() for b in bad):
            break
        for k, (curve, base, _, _) in enumerate(made):
            wide = bad[k].copy()
            for _ in range(3):
                wide = wide | np.roll(wide, 1) | np.roll(wide, -1)
            thick[k] = _sloped(curve, base, np.where(wide, 0.6 * thick[k], thick[k]))
    else:
        k = int(np.argmax([b.any() for b in bad]))
        position = fronts[k][np.argmax(bad[k])]
        raise MeshError(
            f"the layers of {made[k][0].name!r} cross near x, z = {position.round(5)} m; ask for smaller cells there."
        )
    return [
        MarchingDirections(curve, base, direction, heights(first, t, count))
        for (curve, base, direction, _), t in zip(made, thick)
    ]


def heights(first: float, total: np.ndarray, count: int) -> np.ndarray:
    """Heights of layers in a geometric series for each row.

    Parameters
    ----------
    first : float
        Largest first step [m].
    total : (n,) array
        Whole height [m].
    count : int
        Number of layers.

    Returns
    -------
    (n, count + 1) array
        From 0 to `total` [m].

    Examples
    --------
    >>> heights(0.1, np.array([0.7]), 3).round(6).tolist()
    [[0.0, 0.1, 0.3, 0.7]]
    """
    low, high = np.zeros(len(total)), np.full(len(total), 3.0)
    for _ in range(60):
        midpoint = 0.5 * (low + high)
        with np.errstate(invalid="ignore", divide="ignore"):
            sums = np.where(midpoint > 1e-9, np.expm1(count * midpoint) / np.expm1(midpoint), count)
        small = first * sums < total
        low, high = np.where(small, midpoint, low), np.where(small, high, midpoint)
    steps = np.exp(low[:, None] * np.arange(count))
    out = np.concatenate([np.zeros((len(total), 1)), np.cumsum(steps, axis=1)], axis=1)
    return out * (total / out[:, -1])[:, None]


def total_height(first: float, last: np.ndarray, growth: float, count: int) -> np.ndarray:
    """Sum of a geometric series of steps.

    Parameters
    ----------
    first : float
        First step [m]; infinite for equal steps.
    last : (n,) array
        Last step [m].
    growth : float
        Largest ratio of successive steps.
    count : int
        Number of steps.

    Returns
    -------
    (n,) array
        [m]

    Examples
    --------
    >>> total_height(0.1, np.array([0.4]), 2.0, 3).round(6).tolist()
    [0.7]
    """
    if not np.isfinite(first):
        return count * last
    ratio = np.clip(np.log(np.maximum(last / first, 1.0)) / max(count - 1, 1), 1e-9, np.log(growth))
    return first * np.expm1(count * ratio) / np.expm1(ratio)


def _directions(curve: Curve) -> tuple[np.ndarray, np.ndarray]:
    """(base, way) of the marching directions."""
    p = curve.points
    n = len(p)
    t = np.roll(p, -1, axis=0) - p
    t /= np.linalg.norm(t, axis=1)[:, None]
    before = np.roll(t, 1, axis=0)
    turn = np.arctan2(
        before[:, 1] * t[:, 0] - before[:, 0] * t[:, 1], np.einsum("ij,ij->i", before, t)
    )  # right: positive
    normal = before + t
    size = np.linalg.norm(normal, axis=1)
    normal = np.stack([-normal[:, 1], normal[:, 0]], axis=1) / np.maximum(size, 1e-12)[:, None]
    fan = curve.corner & (turn > FAN_ANGLE)
    for _ in range(6):
        mean = normal + 0.5 * (np.roll(normal, 1, axis=0) + np.roll(normal, -1, axis=0))
        mean /= np.linalg.norm(mean, axis=1)[:, None]
        normal = np.where((fan | np.roll(fan, 1) | np.roll(fan, -1))[:, None], normal, mean)
    base, direction = [], []
    for i in range(n):
        if not fan[i]:
            base.append(i)
            direction.append(normal[i])
            continue
        parts = int(np.ceil(turn[i] / MIN_DIRECTION_ANGLE))
        start = np.arctan2(before[i, 0], -before[i, 1])  # direction of the left normal of the edge before
        for angle in start - turn[i] * np.arange(parts + 1) / parts:
            base.append(i)
            direction.append((np.cos(angle), np.sin(angle)))
    return np.array(base), np.array(direction)


def _sloped(curve: Curve, base: np.ndarray, thick: np.ndarray) -> np.ndarray:
    """Thickness changed nowhere faster than `MAX_HEIGHT_SLOPE` along the wall (marching directions of a fan have one
    thickness).
    """
    p = curve.points[base]
    step = np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1)
    out = thick.copy()
    for _ in range(2):
        for k in range(-len(out), len(out)):
            out[k % len(out)] = min(
                out[k % len(out)], out[(k - 1) % len(out)] + MAX_HEIGHT_SLOPE * step[(k - 1) % len(out)]
            )
        out, step = out[::-1].copy(), np.roll(step[::-1], -1)
    return out


def _crossed(fronts: list[np.ndarray], walls: list[np.ndarray]) -> list[np.ndarray]:
    """For each front (r, 2) which of its points belong to an edge that crosses another, runs backwards, or is of no
    length.
    """
    a = np.concatenate(fronts)
    b = np.concatenate([np.roll(f, -1, axis=0) for f in fronts])
    wall_a = np.concatenate(walls)
    wall_b = np.concatenate([np.roll(w, -1, axis=0) for w in walls])
    start = np.cumsum([0, *map(len, fronts)])
    bad = np.zeros(len(a), dtype=bool)
    along, wall = b - a, wall_b - wall_a
    flat = np.linalg.norm(wall, axis=1) > 0.0
    back = np.einsum("ij,ij->i", along, wall) < 0.25 * np.linalg.norm(wall, axis=1) * np.linalg.norm(along, axis=1)
    short = np.linalg.norm(along, axis=1) < 0.3 * np.linalg.norm(wall, axis=1)
    bad |= flat & (back | short)
    low, high = np.minimum(a, b), np.maximum(a, b)
    order = np.argsort(low[:, 0])
    right = high[order, 0]
    left = low[order, 0]
    for at, k in enumerate(order):
        stop = np.searchsorted(left, right[at], side="right")
        other = order[at + 1 : stop]
        other = other[(low[other, 1] <= high[k, 1]) & (high[other, 1] >= low[k, 1])]
        if not len(other):
            continue
        d, e = b[k] - a[k], b[other] - a[other]
        w = a[other] - a[k]
        cross = d[0] * e[:, 1] - d[1] * e[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            t = (w[:, 0] * e[:, 1] - w[:, 1] * e[:, 0]) / cross
            u = (w[:, 0] * d[1] - w[:, 1] * d[0]) / cross
        hit = (t > 1e-9) & (t < 1 - 1e-9) & (u > 1e-9) & (u < 1 - 1e-9)
        if hit.any():
            bad[k] = True
            bad[other[hit]] = True
    out = [bad[i:j] for i, j in itertools.pairwise(start)]
    return [one | np.roll(one, 1) for one in out]
