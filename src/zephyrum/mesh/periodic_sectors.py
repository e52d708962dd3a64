"""One of several equal sectors about the x axis, cut out of a finished mesh: periodic sides for flows that turn with
the body.

Cells that a side passes are clipped exactly; the polygons left on both sides are laid over each other, and every piece
they share becomes a pair of faces, so that what leaves one side enters the other without interpolation. The overlay of
polygons in the plane is shapely's (extra `surface`). Verified by tests/test_sectors.py.
"""

from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.jit import read_only
from zephyrum._core.validation import number, takes, whole
from zephyrum.errors import InputError, MeshError
from zephyrum.mesh.construction import mesh_from_kept
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.polygons import components, next_corners, polygon_geometry, volumes_between
from zephyrum.mesh.tree import merged

START, END, REST = "sector start", "sector end", "sector rest"
SMALL_CELL_FRACTION = 0.2  # fraction of a clipped cell below which it is merged with a neighbour
VOLUME_TOLERANCE = 1e-11  # of its area: how far a shape may differ from the rings it was made of
TINY_CELL_FRACTION = 1e-11  # fraction of a polygon below which a piece of it is dropped
ZERO_AREA = 1e-13  # fraction of a cell's surface that is no face
ON_PLANE = 1e-9  # of the shortest edge at a side: points nearer to it are put on it
MATCH_TOLERANCE = 1e-6  # of their size: how far both faces of a pair may differ
WIDEST, INSIDE = np.radians(61.0), 0.99  # facet of the farfield round the axis; its corners, of the farfield there was
SAME_POINT = 1e-12  # of the domain: cuts nearer to each other are one
TRIES, NUDGE = 4, 2e-5  # rad between them
MAX_UNMATCHED = 0.01  # of the walls' area: parts of the sides that may find no partner


@takes(mesh=Mesh)
def mesh_sector(mesh: Mesh, count: int, start: float | None = None) -> Mesh:
    """The sector of 360 / `count` deg of a mesh about a body that repeats itself `count` times round the x axis.

    start: angle [deg] of the first side, from y towards z; without it the sector lies evenly about the y axis. Where
    the body's triangles differ from side to side a little of both is left without partner, as plain symmetry: `recipe`
    tells how much for the walls' area, MeshError refuses more than a hundredth. Forces count for the whole; alpha and
    beta must be 0.
    """
    whole("count", count, 2, 360)
    angle = 2.0 * np.pi / count
    first = -0.5 * angle if start is None else np.radians(number("start", start, -360.0, 360.0))
    if mesh.dimension != 3 or mesh.planar or mesh.mirrored or mesh.sectors > 1:
        raise InputError("a sector is cut out of a whole mesh in space; mesh the whole body (half = False) first.")
    low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
    if (low[1:] >= 0.0).any() or (high[1:] <= 0.0).any():
        raise InputError("the x axis does not pass through the mesh; move the body onto it.")
    last = None
    for attempt in range(TRIES):
        try:
            return _cut_out(mesh, count, first + attempt * NUDGE, angle, low, high)
        except MeshError as cause:  # the overlay of nearly coincident lines can fail: a hair aside it does not
            if cause.position is None:
                raise
            last = cause
    raise last


def _cut_out(mesh: Mesh, count: int, first: float, angle: float, low, high) -> Mesh:
    """The sector between the angles `first` and `first` + `angle` [rad]; low, high: corners of the mesh."""
    sides = [(first, 1.0, 0), (first + angle, -1.0, 1)][: 1 if count == 2 else 2]
    groups = [(g.name, g.role) for g in mesh.groups]
    tag = np.full(mesh.n_faces, -1)
    for k, g in enumerate(mesh.groups):
        tag[g.faces] = k
    right = np.r_[mesh.right, np.full(mesh.n_faces - mesh.n_interior, -1)]
    faces = (mesh.points, mesh.face_start, mesh.face_points, mesh.left, right, tag)
    for turn, sign, side in sides:
        faces = _clipped(*faces, sign * np.array([0.0, -np.sin(turn), np.cos(turn)]), 0.0, len(groups) + side)  # type: ignore[call-arg]
    # a regular polygon round the axis as farfield: a box looks different from side to side
    facets = int(np.ceil(angle / WIDEST))
    radius = INSIDE * min(-low[1], -low[2], high[1], high[2]) * np.cos(0.5 * angle / facets)
    outer = next((k for k, (_, role) in enumerate(groups) if role == "farfield"), None)
    if outer is None:
        raise InputError("a sector needs a mesh with a farfield.")
    for turn in first + angle * (np.arange(facets) + 0.5) / facets:
        faces = _clipped(*faces, -np.array([0.0, np.cos(turn), np.sin(turn)]), -radius, outer)  # type: ignore[call-arg]
    points, counts, corners, left, right, tag, left_over = _paired(*faces, len(groups), first, angle)  # type: ignore[call-arg]
    wall = mesh.faces_of("wall", "slip")
    left_over /= np.linalg.norm(mesh.face_area[wall], axis=1).sum() / count
    if left_over > MAX_UNMATCHED:
        raise MeshError(
            f"parts of the sides as large as {100 * left_over:.2g} % of the walls find no partner: the body does not "
            f"repeat itself every {360.0 / count:.4g} deg."
        )
    left, right, area = _merged(points, counts, corners, left, right, mesh.cell_volume)
    inner = right >= 0
    surface = np.bincount(np.r_[left, right[inner]], np.r_[area, area[inner]])
    keep = (left != right) & (area > ZERO_AREA * surface[left])
    names = [*groups, (START, "periodic"), (END, "periodic"), (REST, "symmetry")]
    made = mesh_from_kept(points, np.r_[0, np.cumsum(counts)], corners, left, right, tag, names, keep)
    made = replace(
        made, reference=mesh.reference, recipe=mesh.recipe | {"sectors": count, "unmatched": round(left_over, 6)}
    )
    periodic_pairs(made)
    return made


def _clipped(points, start, corners, left, right, tag, normal, away, new):
    """The faces of the cells on the positive side of a plane `away` from the origin; what lies on it gets the tag
    `new`.
    """
    s = points @ normal - away
    counts = np.diff(start)
    owner = np.repeat(np.arange(len(counts)), counts)
    a, b = corners, corners[next_corners(start)]
    passed = (s[a] > 0.0) != (s[b] > 0.0)
    if not passed.any():
        raise InputError("a side of the sector misses the mesh.")
    near = np.abs(s) < ON_PLANE * np.linalg.norm(points[a[passed]] - points[b[passed]], axis=1).min()
    points = points - np.where(near, s, 0.0)[:, None] * normal
    s = np.where(near, 0.0, s)
    inside = s >= 0.0
    passed = inside[a] != inside[b]
    ends = np.stack([np.minimum(a, b), np.maximum(a, b)], axis=1)[passed]
    edges, which = np.unique(ends, axis=0, return_inverse=True)
    fraction = s[edges[:, 0]] / (s[edges[:, 0]] - s[edges[:, 1]])
    cuts = points[edges[:, 0]] + fraction[:, None] * (points[edges[:, 1]] - points[edges[:, 0]])
    cuts -= (cuts @ normal - away)[:, None] * normal
    # an edge of a large face and its halves on smaller ones are cut at one position: one point
    twins = cKDTree(cuts).query_pairs(SAME_POINT * np.abs(points).max(), output_type="ndarray")
    same = components(twins[:, 0], twins[:, 1], len(cuts))
    cuts = cuts[np.unique(same, return_index=True)[1]]
    cut = np.full(len(corners), -1)
    cut[passed] = len(points) + same[which.ravel()]
    # every corner that stays, and behind it the point where its edge leaves or comes back
    slots = np.stack([np.where(inside[a], a, -1), cut], axis=1)
    stored = slots >= 0
    made = np.bincount(owner, stored.sum(axis=1), len(counts)).astype(np.int64)
    alive = made > 0
    new_corners = slots[stored]
    # pieces of the plane: from where a face leaves the kept side to where it comes back, for the cell seen from
    # outside backwards
    leaves = passed & inside[a]
    comes = passed & ~inside[a]
    out_at, in_at = np.flatnonzero(leaves), np.flatnonzero(comes)
    # within a face leaving and coming alternate: the k-th of one belongs to the next of the other
    first_is_in = comes[np.minimum.reduceat(np.where(passed, np.arange(len(corners)), len(corners) - 1), start[:-1])]
    turn = first_is_in[owner[out_at]]
    begin = np.searchsorted(owner[out_at], owner[out_at], side="left")
    many = np.searchsorted(owner[out_at], owner[out_at], side="right") - begin
    rank = np.arange(len(out_at)) - begin
    partner = in_at[begin + np.where(turn, (rank + 1) % many, rank)]
    face, tail, head = owner[out_at], cut[out_at], cut[partner]
    # the left cell's cap runs the other way round than its face, the right cell's the same way
    two = right[face] >= 0
    cell = np.r_[left[face], right[face][two]]
    tails, heads = np.r_[head, tail[two]], np.r_[tail, head[two]]
    caps_start, caps, caps_cell = _loops(cell, tails, heads)
    points = np.concatenate([points, cuts])
    corners = np.concatenate([new_corners, caps])
    counts = np.concatenate([made[alive], np.diff(caps_start)])
    n = len(caps_cell)
    return (
        points,
        np.r_[0, np.cumsum(counts)],
        corners,
        np.r_[left[alive], caps_cell],
        np.r_[right[alive], np.full(n, -1)],
        np.r_[tag[alive], np.full(n, new)],
    )


def _loops(cell, tail, head):
    """(start, corners, cell of each) of the closed loops of the directed edges tail to head of every cell."""
    order = np.lexsort((tail, cell))
    cell, tail, head = cell[order], tail[order], head[order]
    back = np.lexsort((head, cell))  # the edge that ends where the k-th one begins
    if (cell[back] != cell).any() or (head[back] != tail).any():
        raise MeshError("a side of the sector cuts a cell that is not closed.")
    after = np.empty(len(cell), dtype=np.int64)
    after[back] = np.arange(len(cell))
    seen = np.zeros(len(cell), dtype=bool)
    follow, corner = after.tolist(), tail.tolist()
    start, corners, owners = [0], [], []
    for k in range(len(cell)):
        if seen[k]:
            continue
        at = k
        while not seen[at]:
            seen[at] = True
            corners.append(corner[at])
            at = follow[at]
        if len(corners) < start[-1] + 3:  # a side that only touches the cell along an edge
            del corners[start[-1] :]
            continue
        start.append(len(corners))
        owners.append(int(cell[k]))
    return np.array(start), np.array(corners, dtype=np.int64), np.array(owners, dtype=np.int64)


def _paired(points, start, corners, left, right, tag, new, first, angle):
    """The faces with those of both sides replaced by the pieces they share; last the area [m^2] without partner.

    new, new + 1, new + 2: tags of the first side, the second and of what is left over.
    """
    try:
        import shapely
    except ImportError:
        raise InputError(
            "sectors need the package shapely; install it with: pip install 'zephyrum[surface]'."
        ) from None
    one = int(np.isclose(angle, np.pi))  # both sides in one plane, on either side of the axis
    rows = [np.flatnonzero(tag == new), np.flatnonzero(tag == new + 1 - one)]
    turns = [np.array([0.0, np.cos(t), np.sin(t)]) for t in (first, first + angle)]
    reach = 2.0 * np.abs(points).max()
    half = shapely.box(-reach, 0.0, reach, reach)
    outward = (False, True)  # whether a counter-clockwise ring in (x, r) looks out of the sector there
    cells, flat, crossed = zip(
        *(_shapes(shapely, points, start, corners, left, *side) for side in zip(rows, turns, outward))
    )
    alone = np.unique(np.concatenate([row[lost] for row, lost in zip(rows, crossed)]))
    if one:
        flat = [shapely.intersection(shapes, half) for shapes in flat]
    a, b = shapely.STRtree(flat[1]).query(flat[0], predicate="intersects")
    shared = shapely.intersection(flat[0][a], flat[1][b])
    good = shapely.area(shared) > TINY_CELL_FRACTION * shapely.area(flat[0])[a]
    a, b, shared = a[good], b[good], shared[good]
    made_points, made_counts, made_left, made_tag = [], [], [], []

    def add(polygon, side, cell, name):
        for ring in _rings(shapely, polygon):
            ring = ring if outward[side] else ring[::-1]
            made_points.append(ring[:, :1] * [1.0, 0.0, 0.0] + ring[:, 1:] * turns[side])
            made_counts.append(len(ring))
            made_left.append(cells[side][cell])
            made_tag.append(name)

    for i, j, polygon in zip(a, b, shared):
        add(polygon, 0, i, new)
        add(polygon, 1, j, new + 1)
    missing = 0.0
    for side, mine in enumerate((a, b)):
        used = np.bincount(mine, shapely.area(shared), len(flat[side]))
        own = shapely.area(flat[side])
        for k in np.flatnonzero(own - used > TINY_CELL_FRACTION * own):
            pieces = shared[mine == k]
            rest = _remainder(shapely, flat[side][k], pieces)
            if rest.area > TINY_CELL_FRACTION * own[k]:
                missing += rest.area
                add(rest, side, k, new + 2)
    keep = np.ones(len(left), dtype=bool)
    keep[np.concatenate(rows)] = False
    keep[alone] = True
    tag = tag.copy()
    tag[alone] = new + 2
    _, lost = polygon_geometry(read_only(points), start, corners)
    missing += float(np.linalg.norm(lost[alone], axis=1).sum())
    counts = np.diff(start)
    corners = np.r_[corners[np.repeat(keep, counts)], len(points) + np.arange(sum(made_counts))]
    points = np.concatenate([points, *made_points])
    return (
        points,
        np.r_[counts[keep], made_counts],
        corners,
        np.r_[left[keep], made_left],
        np.r_[right[keep], np.full(len(made_left), -1)],
        np.r_[tag[keep], made_tag],
        missing,
    )


def _shapes(shapely, points, start, corners, left, rows, turn, outward):
    """(cells (k,), shapes (k,) in (x, r), rows whose outlines cross themselves): rings that run the other way round are
    holes of their cell.
    """
    cells, which = np.unique(left[rows], return_inverse=True)
    shapes = np.full(len(cells), shapely.Polygon(), dtype=object)
    holes, wanted = [], np.zeros(len(cells))
    for face, cell in zip(rows, which):
        ring = points[corners[start[face] : start[face + 1]]]
        ring = np.stack([ring[:, 0], ring @ turn], axis=1)
        ring[np.abs(ring[:, 1]) < SAME_POINT, 1] = 0.0
        shape = _areal(shapely, shapely.make_valid(shapely.Polygon(ring)))
        x, r = ring.T
        area = 0.5 * np.sum(x * np.roll(r, -1) - np.roll(x, -1) * r) * (1.0 if outward else -1.0)
        wanted[cell] += area
        if area > 0.0:
            shapes[cell] = shape if shapes[cell].is_empty else shapes[cell].union(shape)
        else:
            holes.append((cell, shape))
    for cell, shape in holes:
        shapes[cell] = shapes[cell].difference(shape)
    # where the side cuts a warped face its outline can cross itself: such cells keep their rings and find no partner
    crossed = np.abs(shapely.area(shapes) - wanted) > VOLUME_TOLERANCE * np.abs(wanted)
    shapes[crossed] = shapely.Polygon()
    return cells, shapes, crossed[which]


def _remainder(shapely, whole, pieces):
    """What of a shape its pieces leave: together or one after the other, whichever adds up better."""
    one, wanted = whole, whole.area - shapely.area(pieces).sum()
    for piece in pieces:
        one = _areal(shapely, one.difference(piece))
    both = (one, _areal(shapely, whole.difference(shapely.union_all(pieces))))
    return min(both, key=lambda rest: abs(rest.area - wanted))


def _areal(shapely, shape):
    """The part of a shape that has an area."""
    if shape.geom_type in ("Polygon", "MultiPolygon"):
        return shape
    return shapely.union_all([part for part in getattr(shape, "geoms", ()) if part.geom_type.endswith("Polygon")])


def _rings(shapely, shape) -> list[np.ndarray]:
    """Rings (k, 2), counter-clockwise, of all polygons in a shape; one with a hole is split through the hole."""
    if shape.geom_type == "Polygon":
        if len(shape.interiors):
            low_x, low_r, high_x, high_r = shape.bounds
            at = shape.interiors[0].centroid.x
            parts = (shapely.box(low_x, low_r, at, high_r), shapely.box(at, low_r, high_x, high_r))
            return [ring for part in parts for ring in _rings(shapely, shape.intersection(part))]
        return [np.array(shapely.geometry.polygon.orient(shape).exterior.coords)[:-1]] if shape.area > 0.0 else []
    return [ring for part in getattr(shape, "geoms", ()) for ring in _rings(shapely, part)]


def _merged(points, counts, corners, left, right, volumes):
    """(left, right, areas) of the faces, with cells far smaller than they were merged with the neighbour across their
    largest face that is not.
    """
    start = np.r_[0, np.cumsum(counts)]
    n = int(max(left.max(), right.max())) + 1
    volume, size = volumes_between(points, start, corners, left, right, n, np.zeros(3))
    small = (volume < SMALL_CELL_FRACTION * volumes[:n]) & (volume > 0.0)
    inner = right >= 0
    rows = np.flatnonzero(inner)
    rows = rows[small[left[rows]] != small[right[rows]]]
    into = merged(small, left[rows], right[rows], size[rows])
    return into[left], np.where(inner, into[np.maximum(right, 0)], -1), size


def periodic_pairs(mesh: Mesh) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(faces (k,) of one side, their partners (k,) of the other, rotation (3, 3) that turns vectors at these into
    those).
    """
    one, two = (np.arange(g.start, g.stop) for g in mesh.groups if g.role == "periodic")
    turn = -2.0 * np.pi / mesh.sectors
    rotation = np.array([[1.0, 0.0, 0.0], [0.0, np.cos(turn), -np.sin(turn)], [0.0, np.sin(turn), np.cos(turn)]])
    size = np.sqrt(np.linalg.norm(mesh.face_area[one], axis=1))
    _, there = cKDTree(mesh.face_centroid[two] @ rotation.T).query(mesh.face_centroid[one])
    other = mesh.face_area[two[there]] @ rotation.T
    apart = np.linalg.norm(mesh.face_area[one] + other, axis=1)
    if len(one) != len(two) or len(np.unique(there)) != len(there) or (apart > MATCH_TOLERANCE * size**2).any():
        raise MeshError("the periodic sides of the mesh do not match face by face.")
    return one, two[there], rotation
