"""Triangles split until they lie near the shape that they stand for.

Edges whose midpoints are too far from the shape are flipped where the other diagonal of their triangles is nearer, else
halved, and the midpoints moved onto the shape: triangles with one, two or three such edges become two, three or four
(Bank, Sherman and Weiser 1983, Scientific Computing, 3). Across a nose this takes few more triangles. Verified by
tests/test_remesh.py.
"""

from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from zephyrum.geometry.surface.edge_flips import flip_edges, triangle_quality
from zephyrum.geometry.surface.feature_lines import Features
from zephyrum.geometry.surface.nearest_point import projected
from zephyrum.geometry.surface.remeshing import folded_triangles
from zephyrum.geometry.surface.self_intersection import crossing_triangles
from zephyrum.geometry.surface.triangulation import Surface


class SplitRules(NamedTuple):
    """Rules of a stage of `split_by_deviation`.

    Attributes
    ----------
    passes : int
        Most times that an edge is halved.
    factor : float
        On the largest distance from the shape.
    flips : bool
        Whether edges are flipped before.
    min_cosine : float
        Least cosine between the normals of a triangle and of one that is cut from it.
    min_area : float
        Least area of such a one over that of the triangle.
    min_fraction : float
        Least distance of an edge that is split over that of the farthest side of its triangles.

    Examples
    --------
    >>> GENTLE.factor < FORCEFUL.factor
    True
    """

    passes: int
    factor: float
    flips: bool
    min_cosine: float
    min_area: float
    min_fraction: float


GENTLE, FORCEFUL = SplitRules(4, 1.0, False, 0.3, 0.05, 0.0), SplitRules(12, 3.0, True, 0.0, 0.03, 0.5)
# Edges farther than 3 % of the local chord first, then all by the gentle rules, then what these left farther than
# 0.3 %. The half Skerry imported as one part: with the gentle rules alone leading edges are cut back by 7 % of the
# chord, with this order none by more than 0.3 %. A random aircraft with thin struts: with the forceful rules alone its
# layers cover 68 % of the wall instead of 82 %.
STAGES = FORCEFUL._replace(factor=30.0), GENTLE, FORCEFUL
MAX_FLIP_FRACTION = 0.7  # of the distance of an edge from the shape: that of the diagonal it is flipped for
# Quality of triangles below which their edges are flipped for better ones, and rounds of that
POOR_QUALITY, EVEN_PASSES = 0.3, 6
ON_LINE = 1e-6  # of the size of the surface: distance from a feature line below which a point lies on it
# Of an edge between two points of feature lines: largest distance of its midpoint from the line that it belongs to,
# where it divides two faces and where it does not; in the latter case cosine of the angle between its triangles
MAX_LINE_SAGITTA, MAX_CREASE_SAGITTA, MAX_CREASE_COSINE = 0.3, 0.1, 0.77
CHORD_STATIONS = 48  # strips across a surface, in which its chords are measured
MIN_CHORD = 0.02  # of the length of a surface: its chord where a strip has hardly a point of it


def local_chords(surface: Surface) -> np.ndarray:
    """Local chord at each triangle: extent along x of the piece of the surface between two planes that it belongs to.

    Parameters
    ----------
    surface : Surface
        Surface with m triangles.

    Returns
    -------
    (m,) array
        [m]

    Notes
    -----
    The surface is cut into strips across y and across z. In a strip, triangles that share corners form one piece. The
    chord is the smaller one of the two pieces that a triangle is in. Parts do not matter: the fin of an aircraft has
    the chord of the fin, whether it is a part or the aircraft was imported as a single one.

    Examples
    --------
    >>> corners = [[0.0, 0.0, 0.0], [2.0, 0.0, 0.0], [1.5, 6.0, 0.0], [0.5, 6.0, 0.0]]
    >>> plate = Surface(np.array(corners), np.array([[0, 1, 2], [0, 2, 3]]))
    >>> local_chords(plate).round(2).tolist()
    [1.67, 1.33]
    """
    used = surface.points[np.unique(surface.triangles)]
    pieces = [_piece_lengths(surface.points, surface.triangles, axis) for axis in (1, 2)]
    return np.maximum(np.minimum(*pieces), MIN_CHORD * max(float(np.ptp(used[:, 0])), 1e-300))


def chords_at_points(surface: Surface, chord: np.ndarray) -> np.ndarray:
    """Smallest one of the chords of the triangles at each point.

    Parameters
    ----------
    surface : Surface
        Surface with n points.
    chord : (m,) array
        Local chords of its triangles [m].

    Returns
    -------
    (n,) array
        [m]; infinite at points without a triangle.

    Examples
    --------
    >>> plate = Surface(np.eye(4)[:, :3], np.array([[0, 1, 2], [0, 2, 3]]))
    >>> chords_at_points(plate, np.array([2.0, 1.0])).tolist()
    [1.0, 2.0, 1.0, 1.0]
    """
    out = np.full(len(surface.points), np.inf)
    np.minimum.at(out, surface.triangles, chord[:, None])
    return out


def _piece_lengths(points: np.ndarray, triangles: np.ndarray, axis: int) -> np.ndarray:
    """Extent along x of the piece that each triangle is in, in the strip across an axis that holds its centroid [m]."""
    corner = points[triangles]
    across = corner[..., axis]
    width = max(float(np.ptp(across)), 1e-300) / CHORD_STATIONS
    strip = (across - across.min()) / width
    first, last = (
        np.minimum(ends.astype(np.int64), CHORD_STATIONS - 1) for ends in (strip.min(axis=1), strip.max(axis=1))
    )
    count = last - first + 1
    start = np.cumsum(count) - count
    owner = np.repeat(np.arange(len(triangles)), count)
    station = first[owner] + np.arange(len(owner)) - start[owner]
    low, high = _clipped_extents(corner[owner, :, 0], strip[owner], station)
    # triangles of a strip that share a corner are one piece
    keys, node = np.unique(station[:, None] * len(points) + triangles[owner], return_inverse=True)
    node = node.reshape(-1, 3)
    links = coo_array((np.ones(2 * len(node)), (node[:, [0, 1]].ravel(), node[:, [1, 2]].ravel())), (len(keys),) * 2)
    pieces, of_node = connected_components(links, directed=False)
    piece = of_node[node[:, 0]]
    ends = np.full(pieces, np.inf), np.full(pieces, -np.inf)
    np.minimum.at(ends[0], piece, low)
    np.maximum.at(ends[1], piece, high)
    at_centroid = start + np.clip(strip.mean(axis=1).astype(np.int64), first, last) - first
    return (ends[1] - ends[0])[piece[at_centroid]]


def _clipped_extents(x: np.ndarray, strip: np.ndarray, station: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Smallest and largest x (n,) of triangles, of what lies between `station` and `station` + 1 of `strip` (n, 3)."""
    low, high = np.full(len(x), np.inf), np.full(len(x), -np.inf)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        begin, run = strip[:, a], strip[:, b] - strip[:, a]
        with np.errstate(divide="ignore", invalid="ignore"):
            cut = np.stack([station - begin, station + 1.0 - begin]) / run
        level, inside = run == 0.0, np.abs(begin - station - 0.5) <= 0.5
        enter = np.maximum(np.where(level, 0.0, cut.min(axis=0)), 0.0)
        leave = np.minimum(np.where(level, np.where(inside, 1.0, -1.0), cut.max(axis=0)), 1.0)
        for t in (enter, leave):
            there = np.where(enter <= leave, x[:, a] + t * (x[:, b] - x[:, a]), np.nan)
            low, high = np.fmin(low, there), np.fmax(high, there)
    return low, high


def split_by_deviation(surface: Surface, found: Features, deviation: float) -> tuple[Surface, np.ndarray]:
    """Split the edges of a remeshed surface whose midpoints are far from the shape.

    Parameters
    ----------
    surface : Surface
        Remeshed surface with n points.
    found : Features
        Features of the shape.
    deviation : float
        Largest distance of the midpoint of an edge from the shape, over the local chord of the part.

    Returns
    -------
    surface : Surface
        Its first n points are those of the surface that was given.
    parents : (k, 2) array
        Ends of the edge that each further point halves; those behind the first n come before the points that they are
        parents of.

    Notes
    -----
    Edges stay whole where a triangle would cross another one, fold, turn over or lose nearly all of its area.

    Examples
    --------
    >>> import zephyrum as zy
    >>> from zephyrum.geometry.surface.feature_lines import find_features
    >>> ball = zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=1e-3).welded()
    >>> made, parents = split_by_deviation(zy.remesh(ball, 200).surface, find_features(ball), 0.005)
    >>> len(made.triangles) > 400, made.watertight
    (True, True)
    """
    parents: list[np.ndarray] = []
    chord = chords_at_points(surface, local_chords(surface))
    for rules in STAGES:
        whole = np.zeros(0, dtype=np.int64)
        for _ in range(rules.passes):
            if rules.flips:
                surface = _flipped(surface, found, chord, rules.factor * deviation)
            finer, halved, whole = _split_pass(surface, found, chord, rules, (rules.factor * deviation, whole))
            if not len(halved):
                break
            parents.append(halved)
            chord = np.r_[chord, chord[halved].min(axis=1)]
            surface = finer
    for _ in range(EVEN_PASSES if parents else 0):
        before, surface = surface, _evened(surface, found, chord, deviation)
        if surface is before:
            break
    return surface, np.concatenate([np.zeros((0, 2), dtype=np.int64), *parents])


def at_points(values: np.ndarray, parents: np.ndarray) -> np.ndarray:
    """Values at the points of a surface before `split_by_deviation`, interpolated to those after it.

    Parameters
    ----------
    values : (n,) array
        Values.
    parents : (k, 2) array
        As of `split_by_deviation`.

    Returns
    -------
    (n + k,) array

    Examples
    --------
    >>> at_points(np.array([1.0, 2.0]), np.array([[0, 1]])).tolist()
    [1.0, 2.0, 1.5]
    """
    out = np.concatenate([values, np.zeros(len(parents))])
    done = len(values)
    while done < len(out):  # all whose parents are known
        rest = parents[done - len(values) :]
        unknown = (rest >= done).any(axis=1)
        known = int(np.argmax(unknown)) if unknown.any() else len(rest)
        out[done : done + known] = out[rest[:known]].mean(axis=1)
        done += known
    return out


def _split_pass(
    surface: Surface, found: Features, chord: np.ndarray, rules: SplitRules, limits: tuple[float, np.ndarray]
) -> tuple[Surface, np.ndarray, np.ndarray]:
    """The surface with edges halved that are far from the shape, these edges (k, 2), and keys of those left whole.

    limits: largest distance over the local chord; keys of the edges that had to stay whole in the pass before.
    """
    (limit, whole), (edges, which) = limits, surface._edge_table[:2]
    sides = which.reshape(3, -1).T  # 0-1, 1-2, 2-0 of every triangle
    middle, far = _on_shape(surface, found)
    far /= chord[edges].min(axis=1)
    key = edges[:, 0] * 2**32 + edges[:, 1]
    farthest = np.zeros(len(edges))  # of the sides of both triangles, but for those that had to stay whole
    np.maximum.at(farthest, sides, np.where(np.isin(key, whole), 0.0, far)[sides].max(axis=1)[:, None])
    wanted = (far > limit) & (far >= rules.min_fraction * farthest)
    split = wanted.copy()
    finer = _split_where_allowed(surface, sides, split, (middle, far), rules)
    return finer, edges[split], key[wanted & ~split]


def _split_where_allowed(
    surface: Surface, sides: np.ndarray, split: np.ndarray, on_shape: tuple[np.ndarray, np.ndarray], rules: SplitRules
) -> Surface:
    """The surface with the edges of `split` halved; poor triangles take edges out of it, the nearest first.

    on_shape: midpoints of the edges on the shape, and how far from there they were.
    """
    finer, (middle, far) = surface, on_shape
    while split.any():
        finer, owner = _halved(surface, sides, split, middle)
        cosine = np.einsum("ij,ij->i", finer.normals, surface.normals[owner])
        poor = np.unique(owner[(cosine < rules.min_cosine) | (finer.areas < rules.min_area * surface.areas[owner])])
        if not len(poor):
            poor = np.unique(owner[_poor_triangles(finer)])
        poor = poor[split[sides[poor]].any(axis=1)]
        if not len(poor):
            break
        nearest = np.where(split[sides[poor]], far[sides[poor]], np.inf).argmin(axis=1)
        split[sides[poor, nearest]] = False
    return finer


def _flipped(surface: Surface, found: Features, chord: np.ndarray, deviation: float) -> Surface:
    """The surface with edges flipped where the other diagonal is nearer to the shape."""
    far = _relative_distance(surface, found, chord, surface._edge_table[0])

    def gain(edge: np.ndarray, corners: np.ndarray) -> np.ndarray:
        other = _relative_distance(surface, found, chord, corners[:, 2:])
        return np.where(other < MAX_FLIP_FRACTION * far[edge], far[edge] - other, 0.0)

    fixed = _line_edges(surface, found)
    return flip_edges(surface, np.flatnonzero((far > deviation) & ~fixed), gain, _poor_triangles)


def _evened(surface: Surface, found: Features, chord: np.ndarray, deviation: float) -> Surface:
    """The surface with edges flipped where that makes better triangles as near to the shape."""
    p, sides = surface.points, surface.edge_sides
    quality = triangle_quality(*(p[surface.triangles[:, k]] for k in range(3)))
    least = np.where(sides[:, 1] >= 0, quality[sides % len(quality)].min(axis=1), 1.0)

    def gain(edge: np.ndarray, corners: np.ndarray) -> np.ndarray:
        a, b, c, d = (p[corners[:, k]] for k in range(4))
        better = np.minimum(triangle_quality(a, d, c), triangle_quality(d, b, c)) - 2.0 * least[edge]
        other = _relative_distance(surface, found, chord, corners[:, 2:])
        mine = _relative_distance(surface, found, chord, corners[:, :2])
        return np.where(other <= np.maximum(mine, deviation), better, 0.0)

    fixed = _line_edges(surface, found)
    return flip_edges(surface, np.flatnonzero((least < POOR_QUALITY) & ~fixed), gain, _poor_triangles)


def _relative_distance(surface: Surface, found: Features, chord: np.ndarray, pairs: np.ndarray) -> np.ndarray:
    """Distance of the points amid pairs (k, 2) of points from the shape, over the smaller one of their chords."""
    middle = surface.points[pairs].mean(axis=1)
    return projected(middle, found.surface.points, found.surface.triangles)[1] / chord[pairs].min(axis=1)


def _poor_triangles(surface: Surface) -> np.ndarray:
    """Triangles that cross others, and those round points from which no direction sees all of them."""
    return np.union1d(crossing_triangles(surface), folded_triangles(surface)).astype(np.int64)


def _on_shape(surface: Surface, found: Features) -> tuple[np.ndarray, np.ndarray]:
    """Midpoints (k, 3) of all edges moved onto the shape, those of feature lines onto these, and how far (k,) [m]."""
    shape = found.surface
    middle = surface.points[surface._edge_table[0]].mean(axis=1)
    where, far = projected(middle, shape.points, shape.triangles)
    line = np.flatnonzero(_line_edges(surface, found))
    if len(line):
        where[line], far[line] = projected(middle[line], shape.points, found.edges[:, [0, 1, 1]])
    return where, far


def _line_edges(surface: Surface, found: Features) -> np.ndarray:
    """Whether each edge (k,) of a surface is a piece of a feature line, not a chord between two of them."""
    edges = surface._edge_table[0]
    line = np.zeros(len(edges), dtype=bool)
    if not len(found.edges):
        return line
    shape, wire = found.surface, found.edges[:, [0, 1, 1]]
    on = projected(surface.points, shape.points, wire)[1] < ON_LINE * shape.size
    k = np.flatnonzero(on[edges].all(axis=1))
    if not len(k):
        return line
    ends = surface.points[edges[k]]
    away = projected(ends.mean(axis=1), shape.points, wire)[1] / np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    one, other = (surface.edge_sides[k] % len(surface.triangles)).T
    divides = (surface.edge_sides[k, 1] < 0) | (surface.label[one] != surface.label[other])
    cosine = np.einsum("ij,ij->i", surface.normals[one], surface.normals[other])
    line[k] = np.where(divides, away < MAX_LINE_SAGITTA, (away < MAX_CREASE_SAGITTA) & (cosine < MAX_CREASE_COSINE))
    return line


def _halved(surface: Surface, sides: np.ndarray, split: np.ndarray, middle: np.ndarray) -> tuple[Surface, np.ndarray]:
    """The surface with the edges of `split` halved at `middle`, and the triangle that each of its own was cut from.

    sides: edge of each side (m, 3) of its triangles.
    """
    t = surface.triangles
    new = np.full(len(split), -1)
    new[split] = len(surface.points) + np.arange(split.sum())
    mid = new[sides]
    count = (mid >= 0).sum(axis=1)
    # turned so that a single halved side comes first, or a single whole one last
    turn = np.where(count == 1, np.argmax(mid >= 0, axis=1), np.where(count == 2, np.argmin(mid, axis=1) + 1, 0))
    columns = (np.arange(3)[None, :] + turn[:, None]) % 3
    t, mid = np.take_along_axis(t, columns, axis=1), np.take_along_axis(mid, columns, axis=1)
    points = np.concatenate([surface.points, middle[split]])
    a, b, c, ab, bc, ca = *t.T, *mid.T
    # of the two ways to divide what two halved sides leave, the shorter diagonal
    first = np.linalg.norm(points[a] - points[bc], axis=1) <= np.linalg.norm(points[ab] - points[c], axis=1)
    pieces = (
        (count == 0, ((a, b, c),)),
        (count == 1, ((a, ab, c), (ab, b, c))),
        ((count == 2) & first, ((a, ab, bc), (ab, b, bc), (a, bc, c))),
        ((count == 2) & ~first, ((a, ab, c), (ab, b, bc), (ab, bc, c))),
        (count == 3, ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))),
    )
    made, owner = [], []
    for rows, corners in pieces:
        for one in corners:
            made.append(np.stack(one, axis=1)[rows])
            owner.append(np.flatnonzero(rows))
    of = np.concatenate(owner)
    return replace(surface, points=points, triangles=np.concatenate(made), label=surface.label[of]), of
