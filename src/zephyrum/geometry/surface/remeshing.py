"""Surfaces remeshed for flow: sizes by curvature and by request, long triangles where the shape allows, features kept.

Split, collapse, flip and smooth under a metric (see `remesh_steps`), points projected onto the original, never onto
another patch of it; crossings looked for after every round. Verified by tests/test_remesh.py and validation/fleet.py.
"""

from dataclasses import dataclass, replace

import numpy as np
from numba import types
from numba.typed import Dict
from scipy.spatial import cKDTree

from zephyrum._core.jit import exact
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import Many, number, refuse_unknown, set_fields, taken, takes, whole
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry.surface.feature_lines import SHARP_ANGLE, SIZE_GROWTH, Features, find_features, limit_growth
from zephyrum.geometry.surface.metric_field import (
    MAX_TURN,
    SizeZone,
    fixed_points,
    metric_tensors,
    refined_across_strips,
    sizes_for,
    stretch_limits,
    zone_sizes,
)
from zephyrum.geometry.surface.nearest_point import distances, patch_marks
from zephyrum.geometry.surface.remeshing_metric import Original, edge_length, edges_of, key_of, quality
from zephyrum.geometry.surface.remeshing_operations import LONG, SHORT, collapse_edges, split_edges, update_metric
from zephyrum.geometry.surface.remeshing_smoothing import flip_edges, smooth_points
from zephyrum.geometry.surface.remeshing_state import MeshState
from zephyrum.geometry.surface.self_intersection import box_tree, crossing_triangles
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.geometry.surface.visibility import HIDDEN_COSINE, vertex_visibility

MAX_ROUNDS = 14
MAX_RESTARTS = 4
# of the size of the surface: radius above which sizes keep to TURN whatever the number of triangles
MIN_BODY_RATIO = 0.02
MAX_SHAPE_CHANGE = 0.25  # of the largest size: what the new surface may be away from the original
QUALITY_FLOOR = 0.25  # quality below which no collapse may go
SLIVER_QUALITY = 0.1  # quality below which triangles are to go, whatever their size
LARGEST_EDGE = 0.08  # of the size of the surface


@dataclass(frozen=True)
class RemeshedSurface:
    """A remeshed surface.

    Attributes
    ----------
    surface : Surface
        The new surface.
    quality : (m,) array
        Of its triangles in the metric; 1 is ideal.
    distance : float
        From the original [m]: Hausdorff, both ways, over points, edge midpoints and centroids.
    feature : float
        Distance of the original's feature points from the new feature lines [m].
    rounds : int
        Rounds of split, collapse, flip and smooth.

    Examples
    --------
    >>> from zephyrum import Body
    >>> found = remesh(Body.ellipsoid(1.0, 0.6).surface(tolerance=0.002), 400)
    >>> found.surface.watertight, bool(found.quality.min() > 0.3)
    (True, True)
    """

    surface: Surface
    quality: np.ndarray
    distance: float
    feature: float
    rounds: int

    __repr__ = short_repr

    def __str__(self) -> str:
        q = self.quality
        return (
            f"{len(q):,} triangles, quality mean {q.mean():.2f}, worst {q.min():.2f}, below 0.3: "
            f"{100 * np.mean(q < 0.3):.2f} %; "
            f"distance from the original {self.distance:.2g} m, feature lines {self.feature:.2g} m"
        )


@exact
def _lengths(P, M, edges):
    out = np.empty(len(edges))
    for e in range(len(edges)):
        out[e] = edge_length(P, M, edges[e, 0], edges[e, 1])
    return out


@exact
def _qualities(P, M, T):
    out = np.empty(len(T))
    for t in range(len(T)):
        out[t] = quality(P, M, T[t, 0], T[t, 1], T[t, 2])
    return out


@exact
def _fill(lines, edges, curve):
    for e in range(len(edges)):
        lines[key_of(edges[e, 0], edges[e, 1])] = curve[e]


@dataclass(frozen=True)
class RemeshOptions:
    """Options of `remesh`.

    Attributes
    ----------
    tolerance : float, optional
        Distance [m] of the triangles from the shape, with `triangles` None.
    largest : float, optional
        Longest edge [m]; 0.08 of the size.
    stretch : float
        Largest ratio of long to short size.
    stretch_y : float, optional
        Largest ratio where the surface runs along y, as wings do, with the long size along y.
    angle : float
        Edges sharper than this [deg] are features.
    zones : tuple of SizeZone
        Regions with sizes of their own.
    coarsening : float
        Factor on the sizes found for so many triangles, for a coarser mesh whose sizes have the same ratios; the number
        of triangles falls with its square.
    rounds : int
        Most rounds of split, collapse, flip and smooth.

    Raises
    ------
    InputError
        A value is out of its range.

    Examples
    --------
    >>> RemeshOptions(stretch=2.0).stretch
    2.0
    """

    tolerance: float | None = None
    largest: float | None = None
    stretch: float = 4.0
    stretch_y: float | None = None
    angle: float = SHARP_ANGLE
    zones: tuple[SizeZone, ...] = ()
    coarsening: float = 1.0
    rounds: int = MAX_ROUNDS

    def __post_init__(self) -> None:
        set_fields(
            self,
            stretch=number("stretch", self.stretch, 1.0, 20.0),
            angle=number("angle", self.angle, 5.0, 90.0),
            zones=taken("zones", self.zones, Many(SizeZone)),
            coarsening=number("coarsening", self.coarsening, 1.0, 20.0),
            rounds=whole("rounds", self.rounds, 1, 100),
        )
        for name, limits in {
            "tolerance": (0.0,),
            "largest": (0.0,),
            "stretch_y": (1.0, 50.0),
        }.items():
            value = getattr(self, name)
            if value is not None:
                set_fields(self, **{name: number(name, value, *limits, open_low=limits == (0.0,))})


@takes(surface=Surface)
def remesh(surface: Surface, triangles: int | None = 40_000, **options) -> RemeshedSurface:
    """New triangulation of a closed surface or of an open half.

    Parameters
    ----------
    surface : Surface
    triangles : int or None
        About how many; sizes are scaled to meet it within a tenth, but not those of zones.
    **options
        Fields of `RemeshOptions`.

    Returns
    -------
    RemeshedSurface
        Labels, feature lines and corners are kept.

    Raises
    ------
    MeshError
        With the position, if triangles cross that cannot be separated.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.Body.ellipsoid(1.0, 1.0).surface()
    >>> zy.remesh(ball, 400, stretch=1.0).surface.watertight  # doctest: +SKIP
    True
    """
    refuse_unknown(RemeshOptions, options, "a remeshed surface")
    if (triangles is None) == (options.get("tolerance") is None):
        raise InputError("remesh: give either triangles or tolerance.")
    asked = RemeshOptions(**options)
    made = surface.welded()
    largest = LARGEST_EDGE * made.size if asked.largest is None else asked.largest
    found = find_features(made, asked.angle)
    target = None if triangles is None else whole("triangles", triangles, 100, 5_000_000)
    sizing = _Sizing.of(found, target, largest, asked)
    best = _best_run(made, found, sizing)
    work, out, qualities = best.work, best.surface, best.quality
    far = hausdorff(made, out)
    if far > MAX_SHAPE_CHANGE * largest:
        old = sample_points(made)
        position = old[np.argmax(distances(old, out.points, out.triangles))]
        raise MeshError(
            f"remesh: a piece of the surface near {position.round(4)} m was lost ({far:.3g} m away from the new one); "
            f"ask for more triangles there.",
            position,
        )
    return RemeshedSurface(out, qualities, far, _feature_distance(made, found, work), asked.rounds)


def _best_run(made: Surface, found: Features, sizing: "_Sizing") -> "_Run":
    """Remesh until no triangles cross or are folded, with smaller ones where they did; the best run."""
    factors, best = None, None
    for _ in range(MAX_RESTARTS):
        run = _worked(made, found, sizing, factors)
        if best is None or (run.crossing, len(run.positions)) < (best.crossing, len(best.positions)):
            best = run
        if not len(run.positions):
            break
        # what has folded does not unfold: once more from the original, with smaller triangles there and as
        # many elsewhere
        factors = run.factors
        near = np.concatenate(cKDTree(made.points).query_ball_point(run.positions[:, :3], 3.0 * run.positions[:, 3]))
        sizing.finer[np.unique(near).astype(int)] *= 0.5
    assert best is not None
    if best.crossing:
        position = best.positions[0, :3]
        raise MeshError(f"remesh: triangles cross near {position.round(4)} m; ask for more triangles there.", position)
    return best


def folded_triangles(surface: Surface) -> np.ndarray:
    """Triangles round points from which no direction sees all of them.

    Parameters
    ----------
    surface : Surface
        Surface.

    Returns
    -------
    array
        Indices of triangles.

    Examples
    --------
    >>> from zephyrum import Body
    >>> len(folded_triangles(Body.box(1.0, 1.0, 1.0).surface()))
    0
    """
    return np.flatnonzero((vertex_visibility(surface)[1] < HIDDEN_COSINE)[surface.triangles].any(axis=1))


@dataclass(frozen=True)
class _Run:
    """One run from the original: positions (k, 4) where triangles cross (`crossing` of them) or are folded, with their
    reach.
    """

    work: "_Work"
    surface: Surface
    quality: np.ndarray
    positions: np.ndarray
    crossing: int
    factors: dict


@dataclass(frozen=True, eq=False)
class _Sizing:
    """Sizes that a surface is remeshed to.

    Attributes
    ----------
    wanted : tuple
        Short and long size [m] and direction at every point, as of `sizes_for`.
    finer : (n,) array
        Factor on them.
    roundest, allowed : (n,) arrays
        Largest values [m] that the short and the long size may be scaled to.
    target : int or None
        Number of triangles.
    stretch : float or (n,) array
        Largest ratio of long to short size.
    growth : float
        Largest change of size over distance.
    rounds : int
        Rounds of split, collapse, flip and smooth.

    """

    wanted: tuple
    finer: np.ndarray
    roundest: np.ndarray
    allowed: np.ndarray
    target: int | None
    stretch: float | np.ndarray
    growth: float
    rounds: int

    @classmethod
    def of(cls, found: Features, target: int | None, largest: float, asked: RemeshOptions) -> "_Sizing":
        """Sizes for about `target` triangles with edges of at most `largest` [m]; also marks the points to be kept."""
        made, coarsening = found.surface, asked.coarsening
        limits, growth = stretch_limits(found, asked.stretch, asked.stretch_y), coarsening * SIZE_GROWTH
        wanted = sizes_for(found, target, asked.tolerance, largest, limits, asked.zones, coarsening)
        found.rank[fixed_points(found, wanted[0])] = 2
        radius = 1.0 / np.maximum(found.curvature[0], 1e-12)
        allowed = zone_sizes(made, asked.zones)
        roundest = np.where(radius > MIN_BODY_RATIO * made.size, coarsening * MAX_TURN * radius, np.inf)
        aim = None if target is None else max(int(target / coarsening**2), 4)
        finer = np.ones(len(made.points))
        return cls(wanted, finer, np.minimum(roundest, allowed), allowed, aim, limits, growth, asked.rounds)


def _worked(made: Surface, found: Features, sizing: _Sizing, factors: dict | None = None) -> _Run:  # type: ignore[return]
    """Remesh once from the original; factors: by round, those that met the target in an earlier run."""
    edges = made._edge_table[0]
    length = np.linalg.norm(made.points[edges[:, 0]] - made.points[edges[:, 1]], axis=1)
    short, long, direction = sizing.wanted
    h1, h2, direction = sizing.finer * short, sizing.finer * long, direction.copy()

    def metric() -> np.ndarray:
        limit_growth(h1, h2, direction, edges, length, sizing.growth)
        h2[:] = np.clip(h2, h1, sizing.stretch * h1)
        return refined_across_strips(found, metric_tensors(h1, h2, direction))

    work, used = _Work(made, found, metric()), {}
    for k in range(sizing.rounds):
        work.round(last=k >= sizing.rounds - 4)
        if sizing.target and k in (4, 7):
            used[k] = factors[k] if factors else float(np.sqrt(work.count / sizing.target))
            if abs(used[k] - 1.0) > 0.03:  # but round bodies stay round, and sizes grow evenly from them
                h1[:], h2[:] = np.minimum(used[k] * h1, sizing.roundest), np.minimum(used[k] * h2, sizing.allowed)
                work.measure_by(metric())
    for attempt in range(3):
        out, qualities = work.result()
        crossing = np.unique(crossing_triangles(out))
        if not len(crossing):
            return _Run(work, out, qualities, work.positions(out, folded_triangles(out)), 0, used)
        positions = work.positions(out, crossing)
        if attempt == 2:
            return _Run(work, out, qualities, positions, len(crossing), used)
        near = cKDTree(made.points).query_ball_point(positions[:, :3], 1.5 * positions[:, 3])
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
        tree = box_tree(corners.min(axis=1), corners.max(axis=1))
        self.tree = (*tree, patch_marks(found.patch, tree[0], tree[2], tree[3]))
        self.metric = metric
        order = np.argsort(found.curve, kind="stable")
        start = np.searchsorted(found.curve[order], np.arange(found.curve.max(initial=-1) + 2))
        self.C = (start, np.ascontiguousarray(found.edges[order, 0]), np.ascontiguousarray(found.edges[order, 1]))
        self.label_of = np.zeros(found.patch.max() + 1, dtype=np.int64)
        self.label_of[found.patch] = made.label

    @property
    def original(self) -> Original:
        """The surface that is remeshed, with the present metric."""
        return Original(self.made.points, self.made.triangles, self.found.patch, self.metric, self.tree, *self.C)

    @property
    def state(self) -> MeshState:
        """What every step works on."""
        return MeshState(self.P, self.M, self.rank, self.line, self.T, self.patch, self.nP, self.nT, self.lines)

    @property
    def count(self) -> int:
        """Triangles now."""
        return int((self.T[: self.nT, 0] >= 0).sum())

    def edges(self) -> np.ndarray:
        """(k, 2) edges now."""
        return edges_of(self.T[: self.nT], self.nP)

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
            self.nP, self.nT = split_edges(self.state, self.original, order, edges)
        for _ in range(4):
            edges = self.edges()
            length = _lengths(self.P, self.M, edges)
            short = np.flatnonzero(length < SHORT)
            order = short[np.argsort(length[short])]
            done = collapse_edges(self.state, self.original, order, edges, QUALITY_FLOOR, False)
            self.pack()
            if done < 0.002 * len(edges):
                break
        for _ in range(3):
            flip_edges(self.state, self.original, self.edges())
            smooth_points(self.state, self.original, 0.7)
        # slivers that are left go with one of their points
        T = np.ascontiguousarray(self.T[: self.nT])
        poor = np.zeros(self.nP, dtype=bool)
        poor[T[_qualities(self.P, self.M, T) < SLIVER_QUALITY]] = True
        edges = self.edges()
        near = np.flatnonzero(poor[edges].any(axis=1))
        if len(near):
            order = near[np.argsort(_lengths(self.P, self.M, edges[near]))]
            collapse_edges(self.state, self.original, order, edges, QUALITY_FLOOR, True)
            self.pack()
            flip_edges(self.state, self.original, self.edges())

    def measure_by(self, metric: np.ndarray) -> None:
        """Another metric at the points of the original; those of the mesh take it from where they lie on it."""
        self.metric = metric
        n = len(metric)
        self.M[:n] = metric
        update_metric(self.state, self.original)

    def positions(self, made: Surface, triangles: np.ndarray) -> np.ndarray:
        """(k, 4) centroids of these triangles of the last `result`, and how far they reach."""
        corners = made.points[made.triangles[triangles.astype(int)]]
        midpoint = corners.mean(axis=1)
        return np.column_stack([midpoint, np.linalg.norm(corners - midpoint[:, None], axis=2).max(axis=1)])

    def result(self) -> tuple[Surface, np.ndarray]:
        """(Surface, quality of its triangles)."""
        T, patch = self.T[: self.nT], self.patch[: self.nT]
        self.used, flat = np.unique(T, return_inverse=True)
        label = self.label_of[patch]
        out = replace(self.made, points=self.P[self.used], triangles=flat.reshape(-1, 3), label=label)
        return out, _qualities(self.P, self.M, np.ascontiguousarray(T))


def sample_points(surface: Surface) -> np.ndarray:
    """Points, edge midpoints and centroids of a surface.

    Parameters
    ----------
    surface : Surface
        Surface.

    Returns
    -------
    (k, 3) array
        [m]
    """
    p = surface.points[surface.triangles]
    midpoints = 0.5 * (p + np.roll(p, 1, axis=1))
    return np.concatenate([surface.points[np.unique(surface.triangles)], midpoints.reshape(-1, 3), surface.centres])


def hausdorff(one: Surface, two: Surface) -> float:
    """Largest distance of samples of either surface from the other.

    Parameters
    ----------
    one, two : Surface
        Surfaces.

    Returns
    -------
    float
        [m]

    Examples
    --------
    >>> import zephyrum as zy
    >>> box = zy.Body.box(1.0, 1.0, 1.0).surface()
    >>> round(hausdorff(box, box.transformed(np.eye(3), (0.1, 0.0, 0.0))), 6)
    0.1
    """
    return float(max(distances(sample_points(a), b.points, b.triangles).max() for a, b in ((one, two), (two, one))))


def _feature_distance(made: Surface, found, work: _Work) -> float:
    """Largest distance [m] of the original's feature points from the feature edges of the new mesh."""
    if not len(found.edges):
        return 0.0
    new = np.array([(key // 4294967296, key % 4294967296) for key in work.lines], dtype=np.int64)
    # a line as a flat triangle
    wire = np.stack([new[:, 0], new[:, 1], new[:, 1]], axis=1)
    return float(distances(made.points[np.unique(found.edges)], work.P[: work.nP].copy(), wire).max())
