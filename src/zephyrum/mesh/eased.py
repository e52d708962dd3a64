"""Surface points that no direction sees all triangles of, moved a little until one does: elsewhere no wall layer could start.

Such points sit in the sharpest hollows of junctions and at slender tips on few triangles. Each is drawn towards the middle of its
neighbours, after a while together with these, by no more than its longest edge; what is moved, and how far, is told.
Verified by tests/test_clipped.py.
"""

from dataclasses import replace

import numpy as np

from zephyrum.errors import MeshError
from zephyrum.shape.crossings import crossing_triangles
from zephyrum.shape.sight import HIDDEN, sight
from zephyrum.shape.surface import Surface

PULL = 0.2  # of the way to the middle of the neighbours, a step
STEPS = 60
LEAST = 0.25 * HIDDEN  # cosine at which layers can still start, however flat
WIDER = 12  # steps after which one more ring of neighbours is drawn along
CLEAR = 2.0 * HIDDEN  # what the moved points are to be seen by
GAIN = 0.01  # in the least cosine that taking a point out has to bring
MOST = 1.0  # of its longest edge: what a point may be moved


def eased(surface: Surface) -> tuple[Surface, np.ndarray]:
    """(surface, distance (n,) [m] that its points were moved; those taken out are gone).

    Points on an open rim stay in the plane y = 0. MeshError with the place where nothing helps.
    """
    made = _fewer(surface, around=False)
    try:
        return _smoothed(made)
    except MeshError:  # where a point itself can not be taken out, as on a needle, one beside it may
        fewer = _fewer(made, around=True)
        if fewer is made:
            raise
        return _smoothed(fewer)


def _fewer(surface: Surface, around: bool) -> Surface:
    """The surface without its hidden points, or some `around` them, as far as that helps."""
    _, seen, _ = sight(surface)
    while (seen < HIDDEN).any():
        before, bad = len(surface.points), np.flatnonzero(seen < HIDDEN)
        for place in surface.points[bad[np.argsort(seen[bad])]]:
            surface = _without(surface, place, around)
        if len(surface.points) == before:
            break
        _, seen, _ = sight(surface)
    return surface


def _without(surface: Surface, place: np.ndarray, around: bool) -> Surface:
    """The surface without its point at `place`, or with `around` one beside it, if an edge can be collapsed so that all round is better seen."""
    p = int(np.argmin(np.einsum("ij,ij->i", surface.points - place, surface.points - place)))
    ring = _ring(surface, p)
    if sight(surface, np.r_[p, ring])[1].min() > HIDDEN or not np.allclose(surface.points[p], place, atol=1e-12):
        return surface
    gain, kept = 0.0, surface
    for q in ring if around else [p]:
        now, trial = _taken_out(surface, int(q))
        if now > gain:
            gain, kept = now, trial
    return kept


def _ring(surface: Surface, p: int) -> np.ndarray:
    """Points that share an edge with p."""
    t = surface.triangles
    return np.setdiff1d(np.unique(t[(t == p).any(axis=1)]), [p])


def _taken_out(surface: Surface, p: int) -> tuple[float, Surface]:
    """(by how much its ring is better seen, at least by GAIN, the surface without p); (0, the surface) if no edge of p can be collapsed."""
    t = surface.triangles
    own, ring = (t == p).any(axis=1), _ring(surface, p)
    rim = np.zeros(len(surface.points), dtype=bool)
    rim[np.unique(surface.open_edges)] = True
    was = float(sight(surface, np.r_[p, ring])[1].min())
    best, kept = was + GAIN, surface
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
        now = float(sight(trial, np.where(ring > p, ring - 1, ring))[1].min())
        if now > best:
            best, kept = now, trial
    return (best - was if kept is not surface else 0.0), kept


def _smoothed(surface: Surface) -> tuple[Surface, np.ndarray]:
    """(surface with its hidden points drawn towards the middle of their neighbours, distances (n,) [m])."""
    n, ends = len(surface.points), surface._edge_table[0]
    count = np.bincount(ends.ravel(), minlength=n)
    made, watched = surface, None
    for step in range(STEPS):
        _, seen, (_, _, flat) = sight(made)
        bad = seen < LEAST
        if watched is not None:
            bad |= watched & (seen < CLEAR)
        if not bad.any():
            break
        watched = bad if watched is None else watched | bad
        near = bad.copy()
        for _ in range(step // WIDER):
            wide = near.copy()
            wide[ends[near[ends].any(axis=1)]] = True
            near = wide
        x = made.points
        total = np.stack([np.bincount(ends[:, 0], x[ends[:, 1], k], n) + np.bincount(ends[:, 1], x[ends[:, 0], k], n) for k in range(3)], axis=1)  # fmt: skip
        points = x.copy()
        points[near] += PULL * (total[near] / count[near, None] - x[near])
        points[flat, 1] = 0.0
        made = replace(made, points=points)
    edge = np.zeros(n)
    for side in (0, 1):
        np.maximum.at(
            edge, ends[:, side], np.linalg.norm(surface.points[ends[:, 0]] - surface.points[ends[:, 1]], axis=1)
        )
    moved = np.linalg.norm(made.points - surface.points, axis=1)
    worst = int(np.argmax(np.where(bad, 2.0 - seen, moved / edge)))
    if bad.any() or moved[worst] > MOST * edge[worst] or (moved.any() and len(crossing_triangles(made))):
        raise MeshError(
            f"layers: no direction off the surface is seen by all triangles round {surface.points[worst].round(5)} m, even after "
            "smoothing; remesh it with smaller triangles there.",
            surface.points[worst],
        )
    return made, moved
