"""Surfaces remeshed for flow: sizes by curvature and by request, long triangles where the shape allows, features kept.

Split, collapse, flip and smooth under a metric (see `remesh_steps`), points projected onto the original, never onto
another patch of it; crossings looked for after every round. Verified by tests/test_remesh.py and validation/fleet.py.
"""

from dataclasses import dataclass, replace

import numpy as np
from numba import njit, types
from numba.typed import Dict
from scipy.spatial import cKDTree

from zephyrum.air.checks import number, whole
from zephyrum.errors import InputError, MeshError
from zephyrum.shape.closest import distances
from zephyrum.shape.crossings import box_tree, crossing_triangles
from zephyrum.shape.features import GROWTH, SHARP, curvatures, features, limit_growth
from zephyrum.shape.remesh_steps import (
    LONG,
    SHORT,
    collapse,
    edge_length,
    flip,
    key_of,
    measure,
    quality,
    smooth,
    split,
)
from zephyrum.shape.sight import HIDDEN, sight
from zephyrum.shape.surface import Surface

ROUNDS = 14
RESTARTS = 4
FINEST = 0.02  # of the largest size: curvature asks for no less
TURN = 0.4  # rad by which the surface may turn along an edge, however loose the tolerance
TINIEST = 0.0025  # of the largest size: what that may ask for at most, towards the tip of a cone
BODY = 0.02  # of the size of the surface: radius above which sizes keep to TURN whatever the number of triangles
BLUNT = 4.0  # curvature times size of the surface above which a place may be a tip
LOST = 0.25  # of the largest size: what the new surface may be away from the original
FLOOR = 0.25  # quality below which no collapse may go
SLIVER = 0.1  # quality below which triangles are to go, whatever their size
THINNEST = 0.05  # of the size: narrower strips are taken for as wide
LEAST = 1e-6  # of the size of the surface: what is narrower still is no strip
LARGEST = 0.08  # of the size of the surface


@dataclass(frozen=True)
class SizeZone:
    """No edge longer than `size` [m] on the triangles of `part` (a label or part; None: everywhere), or within a box.

    box: its two corners ((3,), (3,)) [m]. Sizes grow from there by the ratio of the surface.
    """

    size: float
    part: str | None = None
    box: tuple | None = None


@dataclass(frozen=True)
class Remeshed:
    """The new surface; quality (m,) of its triangles in the metric (1 ideal); distance [m] from the original (Hausdorff,

    both ways, over points, edge middles and centroids); feature [m]: distance of the original's feature points from the
    new one's lines.
    """

    surface: Surface
    quality: np.ndarray
    distance: float
    feature: float
    rounds: int

    def __str__(self) -> str:
        q = self.quality
        return (f"{len(q):,} triangles, quality mean {q.mean():.2f}, worst {q.min():.2f}, below 0.3: {100 * np.mean(q < 0.3):.2f} %; "
                f"distance from the original {self.distance:.2g} m, feature lines {self.feature:.2g} m")  # fmt: skip


def metric_field(
    surface: Surface, found, tolerance: float, largest: float, stretch: float, zones=()
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(short size (n,), long size (n,) [m], long direction (n, 3)) at the points of a surface."""
    large, small, way = curvatures(surface, found.smooth)
    h1 = np.clip(np.sqrt(8.0 * tolerance / np.maximum(large, 1e-12)), FINEST * largest, largest)
    h1 = np.minimum(h1, np.maximum(TURN / np.maximum(large, 1e-12), TINIEST * largest))
    h2 = np.clip(np.sqrt(8.0 * tolerance / np.maximum(small, 1e-12)), h1, np.minimum(stretch * h1, largest))
    most = zone_sizes(surface, zones)
    h1, h2 = np.minimum(h1, most), np.minimum(h2, most)
    edges = surface._edge_table[0]
    length = np.linalg.norm(surface.points[edges[:, 0]] - surface.points[edges[:, 1]], axis=1)
    way = np.ascontiguousarray(way)
    limit_growth(h1, h2, way, edges, length, GROWTH)
    return h1, np.maximum(h1, np.minimum(h2, stretch * h1)), way


def zone_sizes(surface: Surface, zones) -> np.ndarray:
    """(n,) longest edges [m] that the zones allow at the points of a surface; infinite outside."""
    out = np.full(len(surface.points), np.inf)
    for zone in zones:
        size = number("size", zone.size, 0.0, open_low=True)
        inside = np.zeros(len(surface.points), dtype=bool)
        if zone.box is not None:
            low, high = (np.asarray(corner, dtype=float) for corner in zone.box)
            inside |= ((surface.points >= low) & (surface.points <= high)).all(axis=1)
        else:
            which = slice(None) if zone.part is None else surface.belongs(zone.part)
            inside[np.unique(surface.triangles[which])] = True
        if not inside.any():
            raise InputError(f"size zone {zone}: no point of the surface lies in it.")
        out[inside] = np.minimum(out[inside], size)
    return out


def anchors(surface: Surface, found, h1: np.ndarray) -> np.ndarray:
    """Points to be kept where they are: tips of noses, where the surface bends most in both directions."""
    _, small, _ = curvatures(surface, found.smooth)
    edges = surface._edge_table[0]
    top = small * (found.rank == 0)
    for _ in range(3):
        for a, b in ((0, 1), (1, 0)):
            np.maximum.at(top, edges[:, a], top[edges[:, b]].copy())
    best = np.flatnonzero((small >= top) & (small * surface.size > BLUNT) & (found.rank == 0))
    kept: list[int] = []
    for k in best[np.argsort(-small[best])]:
        if all(np.linalg.norm(surface.points[k] - surface.points[j]) > 3.0 * h1[k] for j in kept):
            kept.append(int(k))
    return np.array(kept, dtype=int)


def tensors(h1: np.ndarray, h2: np.ndarray, way: np.ndarray) -> np.ndarray:
    """(n, 6) metric in which sizes h1, and h2 along `way`, are 1: xx, yy, zz, xy, xz, yz."""
    a, b = 1.0 / h1**2, 1.0 / h2**2
    outer = way[:, :, None] * way[:, None, :]
    m = a[:, None, None] * np.eye(3) + (b - a)[:, None, None] * outer
    return np.ascontiguousarray(m[:, [0, 1, 2, 0, 0, 1], [0, 1, 2, 1, 2, 2]])


def for_strips(surface: Surface, found, metric: np.ndarray) -> np.ndarray:
    """The metric made finer across strips between two lines nearer than its size, such as the bases of blunt tails."""
    p = surface.points[surface.triangles]
    side = np.roll(p, -1, axis=1) - p
    length = np.linalg.norm(side, axis=2)
    ends = np.stack([surface.triangles, np.roll(surface.triangles, -1, axis=1)], axis=2)
    keys = ends.min(axis=2) * len(surface.points) + ends.max(axis=2)
    of_line = np.isin(keys, found.edges.min(axis=1) * len(surface.points) + found.edges.max(axis=1))
    which = np.argmax(of_line * length, axis=1)
    row = np.arange(len(p))
    along = side[row, which] / np.maximum(length[row, which], 1e-300)[:, None]
    gap = 2.0 * surface.areas / np.maximum(length[row, which], 1e-300)
    across = np.cross(surface.normals, along)
    m = metric[surface.triangles].mean(axis=1)
    x, y, z = across.T
    now = (
        m[:, 0] * x * x
        + m[:, 1] * y * y
        + m[:, 2] * z * z
        + 2.0 * (m[:, 3] * x * y + m[:, 4] * x * z + m[:, 5] * y * z)
    )
    own = (
        (of_line.sum(axis=1) == 1)
        & (found.rank[surface.triangles] > 0).all(axis=1)
        & (gap**2 * now < 0.25)
        & (gap > LEAST * surface.size)
    )
    # a strip is a patch most of whose area is such triangles
    share = np.bincount(found.patch, own * surface.areas) / np.maximum(np.bincount(found.patch, surface.areas), 1e-300)
    own &= share[found.patch] > 0.5
    out = metric.copy()
    rise = 1.0 / np.maximum(gap, THINNEST / np.sqrt(np.maximum(now, 1e-300))) ** 2 - now
    outer = np.stack([x * x, y * y, z * z, x * y, x * z, y * z], axis=1)
    done = np.zeros(len(surface.points), dtype=bool)
    for k in np.flatnonzero(own)[np.argsort(gap[own])]:
        for point in surface.triangles[k]:
            if not done[point] and found.rank[point] == 1:  # at corners other lines may run across
                out[point] += rise[k] * outer[k]
                done[point] = True
    return out


@njit(cache=True, error_model="numpy")
def _lengths(P, M, edges):
    out = np.empty(len(edges))
    for e in range(len(edges)):
        out[e] = edge_length(P, M, edges[e, 0], edges[e, 1])
    return out


@njit(cache=True, error_model="numpy")
def _qualities(P, M, T):
    out = np.empty(len(T))
    for t in range(len(T)):
        out[t] = quality(P, M, T[t, 0], T[t, 1], T[t, 2])
    return out


@njit(cache=True, error_model="numpy")
def _fill(lines, edges, curve):
    for e in range(len(edges)):
        lines[key_of(edges[e, 0], edges[e, 1])] = curve[e]


def sizes_for(
    surface: Surface, found, triangles: int | None, tolerance: float | None, largest: float, stretch: float, zones=()
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """`metric_field` scaled to about that many triangles, or for that tolerance [m]."""

    def sizes(scale: float):
        t = (
            2e-4 * surface.size if tolerance is None else number("tolerance", tolerance, 0.0, open_low=True)
        ) * scale**2
        return metric_field(surface, found, t, largest * scale, stretch, zones)

    def count(h1, h2) -> float:
        each = (h1 * h2)[surface.triangles].mean(axis=1)
        return float((surface.areas / each).sum()) * 2.6  # as measured: a little more than 4 / sqrt(3)

    scale = 1.0
    made = sizes(scale)
    if triangles:
        for _ in range(8):
            scale *= float(np.sqrt(count(*made[:2]) / triangles))
            made = sizes(scale)
    return made


def remesh(surface: Surface, triangles: int | None = 40_000, tolerance: float | None = None, largest: float | None = None, stretch: float = 4.0,
           angle: float = SHARP, zones: tuple[SizeZone, ...] = (), rounds: int = ROUNDS) -> Remeshed:  # fmt: skip
    """A new triangulation of a closed surface or of an open half.

    triangles: about how many (sizes are scaled to meet it within a tenth, but not those of zones); or None with `tolerance` [m], the distance of
    the triangles from the shape. largest: longest edge [m] (0.08 of the size); stretch: most long over short size; angle [deg]: sharper edges
    are features; zones: see `SizeZone`. Labels, feature lines and corners are kept. MeshError with the place if triangles
    cross that can't be separated.
    """
    if (triangles is None) == (tolerance is None):
        raise InputError("remesh: give either triangles or tolerance.")
    number("stretch", stretch, 1.0, 20.0)
    made = surface.welded()
    largest = LARGEST * made.size if largest is None else number("largest", largest, 0.0, open_low=True)
    found = features(made, number("angle", angle, 5.0, 90.0))
    target = None if triangles is None else whole("triangles", triangles, 100, 5_000_000)

    wanted = sizes_for(made, found, target, tolerance, largest, stretch, zones)
    found.rank[anchors(made, found, wanted[0])] = 2
    radius = 1.0 / np.maximum(curvatures(made, found.smooth)[0], 1e-12)
    allowed = zone_sizes(made, zones)
    roundest = np.minimum(np.where(radius > BODY * made.size, TURN * radius, np.inf), allowed)
    finer, factors, best = np.ones(len(made.points)), None, None
    for _ in range(RESTARTS):
        run = _worked(made, found, wanted, finer, roundest, allowed, target, stretch, rounds, factors)
        if best is None or (run.crossing, len(run.places)) < (best.crossing, len(best.places)):
            best = run
        if not len(run.places):
            break
        # what has folded does not unfold: once more from the original, with smaller triangles there and as many elsewhere
        factors = run.factors
        near = np.concatenate(cKDTree(made.points).query_ball_point(run.places[:, :3], 3.0 * run.places[:, 3]))
        finer[np.unique(near).astype(int)] *= 0.5
    if best.crossing:
        place = best.places[0, :3]
        raise MeshError(f"remesh: triangles cross near {place.round(4)} m; ask for more triangles there.", place)
    work, out, qualities = best.work, best.surface, best.quality
    far = hausdorff(made, out)
    if far > LOST * largest:
        old = samples(made)
        place = old[np.argmax(distances(old, out.points, out.triangles))]
        raise MeshError(
            f"remesh: a piece of the surface near {place.round(4)} m was lost ({far:.3g} m away from the new one); ask for more triangles there.",
            place,
        )
    return Remeshed(out, qualities, far, _feature_distance(made, found, work), rounds)


def folded_triangles(surface: Surface) -> np.ndarray:
    """Triangles round points from which no direction sees all of them."""
    return np.flatnonzero((sight(surface)[1] < HIDDEN)[surface.triangles].any(axis=1))


@dataclass(frozen=True)
class _Run:
    """One run from the original: places (k, 4) where triangles cross (`crossing` of them) or are folded, with their reach."""

    work: "_Work"
    surface: Surface
    quality: np.ndarray
    places: np.ndarray
    crossing: int
    factors: dict


def _worked(made, found, wanted, finer, roundest, allowed, target, stretch, rounds, factors=None) -> _Run:
    """wanted: sizes as of `sizes_for`; finer (n,): factor on them; roundest (n,): most that short sizes may be scaled to, allowed (n,) that long ones may;

    factors: by round, those that met the target in an earlier run.
    """
    edges = made._edge_table[0]
    length = np.linalg.norm(made.points[edges[:, 0]] - made.points[edges[:, 1]], axis=1)
    h1, h2, way = finer * wanted[0], finer * wanted[1], wanted[2].copy()

    def metric() -> np.ndarray:
        limit_growth(h1, h2, way, edges, length, GROWTH)
        h2[:] = np.clip(h2, h1, stretch * h1)
        return for_strips(made, found, tensors(h1, h2, way))

    work, used = _Work(made, found, metric()), {}
    for k in range(rounds):
        work.round(last=k >= rounds - 4)
        if target and k in (4, 7):
            used[k] = factors[k] if factors else float(np.sqrt(work.count / target))
            if abs(used[k] - 1.0) > 0.03:  # but round bodies stay round, and sizes grow evenly from them
                h1[:], h2[:] = np.minimum(used[k] * h1, roundest), np.minimum(used[k] * h2, allowed)
                work.measure_by(metric())
    for attempt in range(3):
        out, qualities = work.result()
        crossing = np.unique(crossing_triangles(out))
        if not len(crossing):
            return _Run(work, out, qualities, work.places(out, folded_triangles(out)), 0, used)
        places = work.places(out, crossing)
        if attempt == 2:
            return _Run(work, out, qualities, places, len(crossing), used)
        near = cKDTree(made.points).query_ball_point(places[:, :3], 1.5 * places[:, 3])
        near = np.unique(np.concatenate(near)).astype(int)
        h1[near], h2[near] = 0.5 * h1[near], 0.5 * h2[near]
        work.measure_by(metric())
        for _ in range(2):
            work.round(last=True)  # nothing is split elsewhere


class _Work:
    """The mesh while it is worked on."""

    def __init__(self, made: Surface, found, metric: np.ndarray):
        n, m = len(made.points), len(made.triangles)
        room = 4 * n + 200_000
        self.made, self.found = made, found
        self.P, self.M = np.zeros((room, 3)), np.zeros((room, 6))
        self.rank, self.line = np.zeros(room, dtype=np.int64), np.full(room, -1)
        self.T, self.patch = np.full((2 * room, 3), -1), np.zeros(2 * room, dtype=np.int64)
        self.nP, self.nT = n, m
        self.P[:n], self.M[:n], self.rank[:n], self.T[:m], self.patch[:m] = (
            made.points,
            metric,
            found.rank,
            made.triangles,
            found.patch,
        )
        on = found.rank[found.edges] == 1
        for side in (0, 1):
            self.line[found.edges[on[:, side], side]] = found.curve[on[:, side]]
        self.lines = Dict.empty(types.int64, types.int64)
        _fill(self.lines, found.edges, found.curve)
        corners = made.points[made.triangles]
        self.tree = box_tree(corners.min(axis=1), corners.max(axis=1))
        self.metric = metric
        order = np.argsort(found.curve, kind="stable")
        start = np.searchsorted(found.curve[order], np.arange(found.curve.max(initial=-1) + 2))
        self.C = (start, np.ascontiguousarray(found.edges[order, 0]), np.ascontiguousarray(found.edges[order, 1]))
        self.label_of = np.zeros(found.patch.max() + 1, dtype=np.int64)
        self.label_of[found.patch] = made.label

    @property
    def O(self):  # noqa: E743, the original
        return self.made.points, self.made.triangles, self.found.patch, self.metric

    @property
    def all(self):
        """What every step works on: the mesh, its feature lines, the original and its tree."""
        return self.P, self.M, self.rank, self.line, self.T, self.patch, self.nP, self.nT, self.lines, self.O, self.tree

    @property
    def count(self) -> int:
        """Triangles now."""
        return int((self.T[: self.nT, 0] >= 0).sum())

    def edges(self) -> np.ndarray:
        """(k, 2) edges now."""
        T = self.T[: self.nT]
        T = T[T[:, 0] >= 0]
        sides = np.sort(np.concatenate([T[:, [0, 1]], T[:, [1, 2]], T[:, [2, 0]]]), axis=1)
        key = np.sort(sides[:, 0] * 4294967296 + sides[:, 1])
        key = key[np.r_[True, key[1:] != key[:-1]]] if len(key) else key
        return np.stack([key // 4294967296, key % 4294967296], axis=1)

    def pack(self) -> None:
        """Throw away what has vanished."""
        T = self.T[: self.nT]
        good = T[:, 0] >= 0
        k = int(good.sum())
        self.T[:k], self.patch[:k] = T[good], self.patch[: self.nT][good]
        self.T[k : self.nT] = -1
        self.nT = k

    def round(self, last: bool) -> None:
        """One round of all steps; in the last ones nothing is split any more but what is far too long."""
        for _ in range(3):
            edges = self.edges()
            length = _lengths(self.P, self.M, edges)
            long = np.flatnonzero(length > (1.2 * LONG if last else LONG))
            if not len(long):
                break
            order = long[np.argsort(-length[long])]
            self.nP, self.nT = split(*self.all, self.C, order, edges)
        for _ in range(4):
            edges = self.edges()
            length = _lengths(self.P, self.M, edges)
            short = np.flatnonzero(length < SHORT)
            order = short[np.argsort(length[short])]
            done = collapse(*self.all, self.C, order, edges, FLOOR, False)
            self.pack()
            if done < 0.002 * len(edges):
                break
        for _ in range(3):
            flip(*self.all, self.edges())
            smooth(*self.all, self.C, 0.7)
        # slivers that are left go with one of their points
        T = np.ascontiguousarray(self.T[: self.nT])
        poor = np.zeros(self.nP, dtype=bool)
        poor[T[_qualities(self.P, self.M, T) < SLIVER]] = True
        edges = self.edges()
        near = np.flatnonzero(poor[edges].any(axis=1))
        if len(near):
            order = near[np.argsort(_lengths(self.P, self.M, edges[near]))]
            collapse(*self.all, self.C, order, edges, FLOOR, True)
            self.pack()
            flip(*self.all, self.edges())

    def measure_by(self, metric: np.ndarray) -> None:
        """Another metric at the points of the original; those of the mesh take it from where they lie on it."""
        self.metric = metric
        n = len(metric)
        self.M[:n] = metric
        measure(*self.all, self.C)

    def places(self, made: Surface, triangles: np.ndarray) -> np.ndarray:
        """(k, 4) middles of these triangles of the last `result`, and how far they reach."""
        corners = made.points[made.triangles[triangles.astype(int)]]
        middle = corners.mean(axis=1)
        return np.column_stack([middle, np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)])

    def result(self) -> tuple[Surface, np.ndarray]:
        """(Surface, quality of its triangles)."""
        T, patch = self.T[: self.nT], self.patch[: self.nT]
        self.used, flat = np.unique(T, return_inverse=True)
        label = self.label_of[patch]
        out = replace(self.made, points=self.P[self.used], triangles=flat.reshape(-1, 3), label=label)
        return out, _qualities(self.P, self.M, np.ascontiguousarray(T))


def samples(surface: Surface) -> np.ndarray:
    """Points, edge middles and centroids of a surface."""
    p = surface.points[surface.triangles]
    middles = 0.5 * (p + np.roll(p, 1, axis=1))
    return np.concatenate([surface.points[np.unique(surface.triangles)], middles.reshape(-1, 3), surface.centres])


def hausdorff(one: Surface, two: Surface) -> float:
    """Largest distance [m] of samples of either surface from the other."""
    return float(max(distances(samples(a), b.points, b.triangles).max() for a, b in ((one, two), (two, one))))


def _feature_distance(made: Surface, found, work: _Work) -> float:
    """Largest distance [m] of the original's feature points from the feature edges of the new mesh."""
    if not len(found.edges):
        return 0.0
    new = np.array([(key // 4294967296, key % 4294967296) for key in work.lines], dtype=np.int64)
    # a line as a flat triangle
    wire = np.stack([new[:, 0], new[:, 1], new[:, 1]], axis=1)
    return float(distances(made.points[np.unique(found.edges)], work.P[: work.nP].copy(), wire).max())
