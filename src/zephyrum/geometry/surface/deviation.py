"""Triangles split until they lie near the shape that they stand for.

Edges whose midpoints are too far from the shape are halved, and the midpoints moved onto it: triangles with one, two or
three such edges become two, three or four (Bank, Sherman and Weiser 1983, Scientific Computing, 3). Across a nose this
takes few more triangles. Verified by tests/test_remesh.py.
"""

from dataclasses import replace

import numpy as np

from zephyrum.geometry.surface.feature_lines import Features
from zephyrum.geometry.surface.nearest_point import projected
from zephyrum.geometry.surface.remeshing import folded_triangles
from zephyrum.geometry.surface.self_intersection import crossing_triangles
from zephyrum.geometry.surface.triangulation import Surface

MAX_PASSES = 4  # times that an edge is halved
MIN_COSINE = 0.3  # between the normals of a triangle and of one that is cut from it
MIN_AREA = 0.05  # of a triangle: what is cut from it
ON_LINE = 1e-6  # of the size of the surface: distance from a feature line below which a point lies on it
MAX_LINE_SAGITTA = 0.3  # of an edge: distance of its midpoint from the feature line that it belongs to
CHORD_STATIONS = 24  # along a part, at which its chord is measured
MIN_CHORD = 0.1  # of the length of a part: its chord where a station has hardly a point of it


def local_chords(points: np.ndarray) -> np.ndarray:
    """Extent along x of a part at the station of each of its points, on the longer one of its axes across.

    Parameters
    ----------
    points : (n, 3) array
        Points of the part [m].

    Returns
    -------
    (n,) array
        [m]

    Examples
    --------
    >>> corners = np.array([[0.0, 0.0, 0.0], [2.0, 0.0, 0.0], [0.5, 3.0, 0.0], [1.5, 3.0, 0.0]])
    >>> local_chords(corners).tolist()
    [2.0, 2.0, 1.0, 1.0]
    """
    axis = 1 if np.ptp(points[:, 1]) >= np.ptp(points[:, 2]) else 2
    across = points[:, axis]
    width = max(float(np.ptp(across)), 1e-300)
    station = np.minimum((CHORD_STATIONS * (across - across.min()) / width).astype(np.int64), CHORD_STATIONS - 1)
    low, high = np.full(CHORD_STATIONS, np.inf), np.full(CHORD_STATIONS, -np.inf)
    np.minimum.at(low, station, points[:, 0])
    np.maximum.at(high, station, points[:, 0])
    return np.maximum((high - low)[station], max(MIN_CHORD * float(np.ptp(points[:, 0])), 1e-300))


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
    Edges stay whole where a triangle would cross another one, fold, turn far or lose nearly all of its area.

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
    for _ in range(MAX_PASSES):
        edges, which = surface._edge_table[:2]
        sides = which.reshape(3, -1).T  # 0-1, 1-2, 2-0 of every triangle
        middle, far = _on_shape(surface, edges, found)
        split = far > deviation * _chords(surface)[edges].min(axis=1)
        while split.any():
            finer, owner = _halved(surface, sides, split, middle)
            cosine = np.einsum("ij,ij->i", finer.normals, surface.normals[owner])
            turned = (cosine < MIN_COSINE) | (finer.areas < MIN_AREA * surface.areas[owner])
            poor = owner[np.union1d(_poor_triangles(finer), np.flatnonzero(turned))]
            poor = poor[split[sides[poor]].any(axis=1)]
            if not len(poor):
                break
            split[sides[poor]] = False  # fewer each time
        if not split.any():
            break
        parents.append(edges[split])
        surface = finer
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


def _poor_triangles(surface: Surface) -> np.ndarray:
    """Triangles that cross others, and those round points from which no direction sees all of them."""
    return np.union1d(crossing_triangles(surface), folded_triangles(surface)).astype(np.int64)


def _chords(surface: Surface) -> np.ndarray:
    """(n,) smallest local chord of the parts that each point belongs to [m]."""
    chord = np.full(len(surface.points), np.inf)
    for part in surface.parts:
        own = np.unique(surface.triangles[surface.belongs(part)])
        if len(own):
            chord[own] = np.minimum(chord[own], local_chords(surface.points[own]))
    return chord


def _on_shape(surface: Surface, edges: np.ndarray, found: Features) -> tuple[np.ndarray, np.ndarray]:
    """Midpoints (k, 3) of edges moved onto the shape, those of feature lines onto these, and how far (k,) [m]."""
    shape, ends = found.surface, surface.points[edges]
    middle = ends.mean(axis=1)
    where, far = projected(middle, shape.points, shape.triangles)
    if not len(found.edges):
        return where, far
    wire = found.edges[:, [0, 1, 1]]
    on = projected(surface.points, shape.points, wire)[1] < ON_LINE * shape.size
    line = np.flatnonzero(on[edges].all(axis=1))
    if len(line):
        there, away = projected(middle[line], shape.points, wire)
        own = away < MAX_LINE_SAGITTA * np.linalg.norm(ends[line, 1] - ends[line, 0], axis=1)
        where[line[own]], far[line[own]] = there[own], away[own]
    return where, far


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
