"""Surface points that no direction sees all triangles of, moved a little until one does: elsewhere no wall layer could
start.

Such points sit in the sharpest hollows of junctions and at slender tips on few triangles. Each is drawn towards the
centre of its neighbours, after a while together with these, by no more than its longest edge; what is moved, and how
far, is reported. Verified by tests/test_clipped.py.
"""

from dataclasses import replace

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.geometry.surface.self_intersection import crossing_triangles
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.geometry.surface.visibility import HIDDEN_COSINE, vertex_visibility

SMOOTHING_WEIGHT = 0.2  # of the way to the centre of the neighbours, a step
MAX_PASSES = 60
MIN_VISIBILITY = 0.25 * HIDDEN_COSINE  # cosine at which layers can still start, however flat
RING_GROWTH = 12  # steps after which one more ring of neighbours is drawn along
CLEAR_VISIBILITY = 2.0 * HIDDEN_COSINE  # what the moved points are to be seen by
MIN_GAIN = 0.01  # in the least cosine that taking a point out has to bring
MAX_SHIFT = 1.0  # of its longest edge: what a point may be moved


def untangle_vertices(surface: Surface) -> tuple[Surface, np.ndarray]:
    """Move or take out points that no layer can start from.

    Parameters
    ----------
    surface : Surface
        Surface.

    Returns
    -------
    surface : Surface
    distance : (n,) array
        How far its points were moved [m]; those taken out are gone.

    Raises
    ------
    MeshError
        With the position where nothing helps.

    Notes
    -----
    Points on an open rim stay in the plane y = 0.

    Examples
    --------
    >>> from zephyrum import Body
    >>> surface, distance = untangle_vertices(Body.ellipsoid(1.0, 1.0).surface(tolerance=0.01).welded())
    >>> float(distance.max())
    0.0
    """
    made = _collapse_vertices(surface, around=False)
    try:
        return _smoothed(made)
    except MeshError:  # where a point itself can not be taken out, as on a needle, one beside it may
        fewer = _collapse_vertices(made, around=True)
        if fewer is made:
            raise
        return _smoothed(fewer)


def _collapse_vertices(surface: Surface, around: bool) -> Surface:
    """The surface without its hidden points, or some `around` them, as far as that helps."""
    _, seen, _ = vertex_visibility(surface)
    while (seen < HIDDEN_COSINE).any():
        before, bad = len(surface.points), np.flatnonzero(seen < HIDDEN_COSINE)
        for position in surface.points[bad[np.argsort(seen[bad])]]:
            surface = _without(surface, position, around)
        if len(surface.points) == before:
            break
        _, seen, _ = vertex_visibility(surface)
    return surface


def _without(surface: Surface, position: np.ndarray, around: bool) -> Surface:
    """The surface without its point at `position`, or with `around` one beside it, if an edge can be collapsed so that
    all round is better seen.
    """
    p = int(np.argmin(np.einsum("ij,ij->i", surface.points - position, surface.points - position)))
    ring = _ring(surface, p)
    if vertex_visibility(surface, np.r_[p, ring])[1].min() > HIDDEN_COSINE or not np.allclose(
        surface.points[p], position, atol=1e-12
    ):
        return surface
    gain, stored = 0.0, surface
    for q in ring if around else [p]:
        now, trial = _vertex_removed(surface, int(q))
        if now > gain:
            gain, stored = now, trial
    return stored


def _ring(surface: Surface, p: int) -> np.ndarray:
    """Points that share an edge with p."""
    t = surface.triangles
    return np.setdiff1d(np.unique(t[(t == p).any(axis=1)]), [p])


def _vertex_removed(surface: Surface, p: int) -> tuple[float, Surface]:
    """(by how much its ring is better seen, at least by GAIN, the surface without p); (0, the surface) if no edge of p
    can be collapsed.
    """
    t = surface.triangles
    own, ring = (t == p).any(axis=1), _ring(surface, p)
    rim = np.zeros(len(surface.points), dtype=bool)
    rim[np.unique(surface.open_edges)] = True
    was = float(vertex_visibility(surface, np.r_[p, ring])[1].min())
    best, stored = was + MIN_GAIN, surface
    for q in ring:
        shared = np.intersect1d(ring, _ring(surface, q))
        if len(shared) != (own & (t == q).any(axis=1)).sum() or (rim[p] and not rim[q]):
            continue
        new = np.where(t == p, q, t)
        new, label = new[~(own & (t == q).any(axis=1))], surface.label[~(own & (t == q).any(axis=1))]
        new = np.where(new > p, new - 1, new)
        trial = replace(surface, points=np.delete(surface.points, p, axis=0), triangles=new, label=label)
        if (trial.areas <= 0.0).any() or len(trial.open_edges) > len(surface.open_edges):
            continue
        now = float(vertex_visibility(trial, np.where(ring > p, ring - 1, ring))[1].min())
        if now > best:
            best, stored = now, trial
    return (best - was if stored is not surface else 0.0), stored


def _smoothed(surface: Surface) -> tuple[Surface, np.ndarray]:
    """(surface with its hidden points drawn towards the centre of their neighbours, distances (n,) [m])."""
    n, ends = len(surface.points), surface._edge_table[0]
    count = np.bincount(ends.ravel(), minlength=n)
    made, watched = surface, None
    for step in range(MAX_PASSES):
        _, seen, (_, _, flat) = vertex_visibility(made)
        bad = seen < MIN_VISIBILITY
        if watched is not None:
            bad |= watched & (seen < CLEAR_VISIBILITY)
        if not bad.any():
            break
        watched = bad if watched is None else watched | bad
        near = bad.copy()
        for _ in range(step // RING_GROWTH):
            wide = near.copy()
            wide[ends[near[ends].any(axis=1)]] = True
            near = wide
        x = made.points
        total = np.stack(
            [
                np.bincount(ends[:, 0], x[ends[:, 1], k], n) + np.bincount(ends[:, 1], x[ends[:, 0], k], n)
                for k in range(3)
            ],
            axis=1,
        )
        points = x.copy()
        points[near] += SMOOTHING_WEIGHT * (total[near] / count[near, None] - x[near])
        points[flat, 1] = 0.0
        made = replace(made, points=points)
    edge = np.zeros(n)
    for side in (0, 1):
        np.maximum.at(
            edge, ends[:, side], np.linalg.norm(surface.points[ends[:, 0]] - surface.points[ends[:, 1]], axis=1)
        )
    moved = np.linalg.norm(made.points - surface.points, axis=1)
    worst = int(np.argmax(np.where(bad, 2.0 - seen, moved / edge)))
    if bad.any() or moved[worst] > MAX_SHIFT * edge[worst] or (moved.any() and len(crossing_triangles(made))):
        raise MeshError(
            f"layers: no direction off the surface is seen by all triangles round {surface.points[worst].round(5)} m, "
            f"even after "
            "smoothing; remesh it with smaller triangles there.",
            surface.points[worst],
        )
    return made, moved
