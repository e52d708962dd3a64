"""Columns of layer cells under clipped cubes: each stands on the part of the wall that one cube covers.

The cubes cut the outer side of the layers into polygons; those under one cube, as far as the wall is smooth and of one
part, are one column, carried down along the marching directions to the wall. So every layer cell faces the cube above
it squarely and is about as wide, whatever the triangles below. Small footprints join their neighbour's. Verified by
tests/test_clipped.py.
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.jit import exact, read_only
from zephyrum.errors import MeshError
from zephyrum.mesh.polygons import components, next_corners, polygon_geometry
from zephyrum.mesh.tree import merged

SHARP_COSINE = np.cos(np.radians(45.0))  # edges of the wall that turn more part columns
SMALL_FACE_FRACTION = 0.3  # of the wall that its cube would stand on: a smaller footprint joins its neighbour
STRAIGHT_TOLERANCE = 1e-6  # how far off a line, in its length, a point on it may lie


@dataclass(frozen=True, eq=False)
class PolygonLoops:
    """Polygons in compressed rows, in groups.

    Attributes
    ----------
    start, corners : arrays of int
        Polygon i has the points corners[start[i]:start[i + 1]].
    group : array
        Group of each polygon.
    """

    start: np.ndarray
    corners: np.ndarray
    group: np.ndarray


@dataclass(frozen=True, eq=False)
class PrismColumns:
    """Columns of layer cells.

    Attributes
    ----------
    of : (k,) array
        Column of every polygon given.
    tiles : PolygonLoops
        Polygons by column and triangle.
    floor : PolygonLoops
        Outline of each column.
    roof : PolygonLoops
        Polygons by column and cube.
    cube : array
        Cube of each roof polygon.
    start, path : arrays of int
        Paths between two columns in compressed rows.
    one, two : array
        Columns on either side of a path; two is -1 at the rim.
    polygon : (columns,) array
        One polygon of each column.
    """

    of: np.ndarray
    tiles: PolygonLoops
    floor: PolygonLoops
    roof: PolygonLoops
    cube: np.ndarray
    start: np.ndarray
    path: np.ndarray
    one: np.ndarray
    two: np.ndarray
    polygon: np.ndarray

    @property
    def count(self) -> int:
        """Number of columns."""
        return len(self.polygon)


@dataclass(frozen=True, eq=False)
class WallPolygons:
    """Polygons that the cubes cut the outer side of the layers into.

    Attributes
    ----------
    start, corners : arrays of int
        Polygon i has the points corners[start[i]:start[i + 1]].
    cell, triangle : (k,) arrays of int
        Cell above and triangle of the surface.
    normal : (k, 3) array
        Unit normal.
    part : (k,) array of int
        Part of the surface.
    cube_area : (k,) array
        Area of the wall [m^2] that the whole cube would stand on.
    division : (k,) array of int
        What shares a column: 0 all under the same cube, 1 those of its triangle only, 2 its neighbour even under
        another cube or across an edge.
    """

    start: np.ndarray
    corners: np.ndarray
    cell: np.ndarray
    triangle: np.ndarray
    normal: np.ndarray
    part: np.ndarray
    cube_area: np.ndarray
    division: np.ndarray


def build_prism_columns(points: np.ndarray, polygons: WallPolygons) -> PrismColumns:
    """Group the polygons of a clipped surface to columns of layer cells.

    Parameters
    ----------
    points : (n, 3) array
        Points [m]; those of an open rim lie on y = 0.
    polygons : WallPolygons

    Raises
    ------
    MeshError
        The clipped surface is open away from y = 0.
    """
    cell, triangle, normal, kind = polygons.cell, polygons.triangle, polygons.normal, polygons.part
    square, split = polygons.cube_area, polygons.division
    start, corners = _conforming(points, polygons.start, polygons.corners)
    counts = np.diff(start)
    owner = np.repeat(np.arange(len(counts)), counts)
    tail, head = corners, corners[next_corners(start)]
    partner = _partners(tail, head, len(points))
    lone = partner < 0
    if (points[np.r_[tail[lone], head[lone]], 1] != 0.0).any():
        position = points[tail[lone][np.argmax(np.abs(points[tail[lone], 1]))]]
        raise MeshError(f"layers: the clipped surface is open at {position.round(5)} m.", position)
    edge = np.flatnonzero(~lone & (tail < head))
    a, b = owner[edge], owner[partner[edge]]
    alone, forced = split == 1, split == 2
    smooth = (np.einsum("ij,ij->i", normal[a], normal[b]) > SHARP_COSINE) | forced[a] | forced[b]
    smooth &= kind[a] == kind[b]
    edge, a, b = edge[smooth], a[smooth], b[smooth]
    together = (~alone[a] & ~alone[b]) | forced[a] | forced[b] | (alone[a] & alone[b] & (triangle[a] == triangle[b]))
    edge, a, b = edge[together], a[together], b[together]
    same = cell[a] == cell[b]
    of = components(a[same], b[same], len(counts))
    # small footprints join the neighbour across their longest edge
    _, area = polygon_geometry(read_only(points), start, corners)
    width = np.bincount(of, np.linalg.norm(area, axis=1))
    least = np.full(len(width), np.inf)
    np.minimum.at(least, of, square)
    apart = of[a] != of[b]
    long = np.linalg.norm(points[tail[edge[apart]]] - points[head[edge[apart]]], axis=1)
    small = width < SMALL_FACE_FRACTION * least
    small[of[forced]] = True
    into = merged(small, of[a[apart]], of[b[apart]], long)
    of = np.unique(into[of], return_inverse=True)[1]
    floor, order, simple = _outlines(start, corners, owner, tail, head, partner, of)
    # round another or touching itself: a cell on many faces has no height over them; those of one triangle are
    # convex
    if not simple.all():
        parts = np.where(simple[of], -1, triangle)
        of = np.unique(of * np.int64(triangle.max() + 2) + parts, return_inverse=True)[1].ravel()
        floor, order, simple = _outlines(start, corners, owner, tail, head, partner, of)
    pair, which = np.unique(of * np.int64(cell.max() + 1) + cell, return_inverse=True)
    roof, _, _ = _outlines(start, corners, owner, tail, head, partner, which.ravel())
    cube = (pair % (cell.max() + 1))[roof.group]
    roof = PolygonLoops(roof.start, roof.corners, (pair // (cell.max() + 1))[roof.group])
    pair, which = np.unique(of * np.int64(triangle.max() + 1) + triangle, return_inverse=True)
    tiles, _, _ = _outlines(start, corners, owner, tail, head, partner, which.ravel())
    tiles = PolygonLoops(tiles.start, tiles.corners, (pair // (triangle.max() + 1))[tiles.group])
    other = np.where(lone, -1, of[owner[partner]])
    begin, path, one, two = _paths(order, simple, of[owner], other, tail, head)
    polygon = np.unique(of, return_index=True)[1]
    return PrismColumns(of, tiles, floor, roof, cube, begin, path, one, two, polygon)


def _partners(tail, head, n) -> np.ndarray:
    """(m,) the edge that runs the other way between the same points, -1 without."""
    key, back = tail * np.int64(n) + head, head * np.int64(n) + tail
    order = np.argsort(key)
    at = np.minimum(np.searchsorted(key[order], back), len(key) - 1)
    return np.where(key[order][at] == back, order[at], -1)


def _conforming(points, start, corners):
    """The polygons with points that smaller neighbours have on their edges put in."""
    tail, head = corners, corners[next_corners(start)]
    lone = np.flatnonzero(_partners(tail, head, len(points)) < 0)
    begins: dict[int, list[int]] = {}
    for e in lone:
        begins.setdefault(int(tail[e]), []).append(int(head[e]))
    extra: dict[int, list[int]] = {}
    for e in lone:
        p, q = int(tail[e]), int(head[e])
        along = points[p] - points[q]
        length = float(along @ along)
        chain, at, far = [], q, 0.0
        while at != p:
            best, reach = -1, 2.0
            for there in begins.get(at, ()):
                off = points[there] - points[q]
                fraction = float(off @ along) / length
                aside = off - fraction * along
                if (
                    far < fraction <= 1.0 + 1e-9
                    and aside @ aside < (STRAIGHT_TOLERANCE**2) * length
                    and fraction < reach
                ):
                    best, reach = there, fraction
            if best < 0:
                break
            at, far = best, reach
            chain.append(at)
        if at == p and len(chain) > 1:
            extra[int(e)] = chain[-2::-1]
    if not extra:
        return start, corners
    where = np.concatenate([np.full(len(chain), e + 1) for e, chain in extra.items()])
    values = np.concatenate([np.array(chain) for chain in extra.values()])
    counts = np.diff(start) + np.bincount(
        np.repeat(np.arange(len(start) - 1), np.diff(start))[np.array(list(extra))],
        [len(chain) for chain in extra.values()],
        len(start) - 1,
    ).astype(np.int64)
    return np.r_[0, np.cumsum(counts)], np.insert(corners, where, values)


@exact
def _chains(start, tail, head, order, simple):
    """Put the edges of every group in the order of its one outline; simple (groups,) is False where there is no single
    one.
    """
    for g in range(len(start) - 1):
        low, high = start[g], start[g + 1]
        n = high - low
        simple[g] = n > 2
        at = low
        for k in range(n):
            order[low + k] = at
            found = -1
            many = 0
            for e in range(low, high):
                if tail[e] == head[at]:
                    found = e
                    many += 1
            if many != 1 or (found == low) != (k == n - 1):
                simple[g] = False
                break
            at = found


def _outlines(start, corners, owner, tail, head, partner, group):
    """(Rings of every group: its outline, or all its polygons where that is not a single one; edges on outlines in
    their order, CSR with

    the edge numbers; which groups have one).
    """
    mine = group[owner]
    inner = (partner >= 0) & (mine == np.where(partner >= 0, mine[partner], -1))
    edges = np.flatnonzero(~inner)
    edges = edges[np.argsort(mine[edges], kind="stable")]
    groups = int(group.max()) + 1
    begin = np.r_[0, np.cumsum(np.bincount(mine[edges], minlength=groups))]
    order, simple = np.arange(len(edges)), np.zeros(groups, dtype=np.bool_)
    _chains(begin, tail[edges], head[edges], order, simple)
    order = np.where(np.repeat(simple, np.diff(begin)), order, np.arange(len(edges)))
    ring = edges[order]
    rest = ~simple[group]
    counts = np.r_[np.diff(begin)[simple], np.diff(start)[rest]]
    stored = np.r_[tail[ring][np.repeat(simple, np.diff(begin))], corners[np.repeat(rest, np.diff(start))]]
    return (
        PolygonLoops(np.r_[0, np.cumsum(counts)], stored, np.r_[np.flatnonzero(simple), group[rest]]),
        (begin, ring),
        simple,
    )


def _paths(outline, simple, column, other, tail, head):
    """(start, points, one, two): runs of edges along the outline of column `one` with the same neighbour `two`, each
    pair once.
    """
    begin, ring = outline
    size = np.diff(begin)
    group = np.repeat(np.arange(len(size)), size)
    there = other[ring]
    # outlines begin where a run does: turn them so that the first edge's neighbour differs from the last one's
    within = np.arange(len(ring)) - begin[group]
    before = ring[np.where(within == 0, begin[group] + size[group] - 1, np.arange(len(ring)) - 1)]
    new = (other[before] != there) | ~simple[group]
    first = np.full(len(size), -1)
    heads = np.flatnonzero(new)[::-1]
    first[group[heads]] = within[heads]
    alone = first < 0  # one neighbour all round: every edge for itself
    first[alone] = 0
    turned = begin[group] + (within + first[group]) % np.maximum(size[group], 1)
    ring, new = ring[turned], (new | alone[group])[turned]
    keep = (other[ring] < 0) | (column[ring] < other[ring])
    ring, new = ring[keep], new[keep]
    opens = np.flatnonzero(new)
    runs = np.diff(np.r_[opens, len(ring)])
    start = np.r_[0, np.cumsum(runs + 1)]
    path = np.empty(start[-1], dtype=np.int64)
    at = np.arange(len(ring)) + np.repeat(np.arange(len(runs)), runs)
    path[at] = tail[ring]
    path[start[1:] - 1] = head[ring[opens + runs - 1]]
    return start, path, column[ring[opens]], other[ring[opens]]
