"""One of several equal sectors about the x axis, cut out of a finished mesh: periodic sides for flows that turn with
the body.

Cells that a side passes are clipped exactly; the polygons left on both sides are laid over each other, and every piece
they share becomes a pair of faces, so that what leaves one side enters the other without interpolation. The overlay of
polygons in the plane is shapely's (extra `surface`). Verified by tests/test_sectors.py.
"""

from dataclasses import dataclass, field, replace
from typing import NamedTuple

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
# turns of a sector, in its angle, tried where none is asked for, and the part without partner that is good enough.
# Quarter of a rocket on 58,588 cells: sides at 45 deg, along the diagonals of the cubes, leave 0.014, at 55 deg 0.0001
TURNS, FEW_UNMATCHED = (0.0, 1.0 / 9.0, -1.0 / 9.0, 2.0 / 9.0, -2.0 / 9.0), 1e-3
MAX_UNMATCHED = 0.01  # of the walls' area: parts of the sides that may find no partner


class _Faces(NamedTuple):
    """Faces of a mesh: points (n, 3) [m], polygons start and corners, cells left and right (-1 outside), group tags."""

    points: np.ndarray
    start: np.ndarray
    corners: np.ndarray
    left: np.ndarray
    right: np.ndarray
    tag: np.ndarray


@takes(mesh=Mesh)
def mesh_sector(mesh: Mesh, count: int, start: float | None = None) -> Mesh:
    """Cut one of several equal sectors out of a mesh about a body that repeats itself round the x axis.

    Parameters
    ----------
    mesh : Mesh
        Whole mesh in space.
    count : int
        Number of sectors.
    start : float, optional
        Angle [deg] of the first side, from y towards z; without it the sector lies evenly about the y axis, or is
        turned from there by less than a quarter of itself where its sides then find more partners.

    Raises
    ------
    InputError
        The mesh is no whole mesh in space.
    MeshError
        More than a hundredth is left without partner.

    Notes
    -----
    Where the body's triangles differ from side to side a little of both is left without partner, as plain symmetry: the
    recipe of the mesh gives how much for the walls' area. Forces count for the whole; alpha and beta must be 0.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.mesh_sector(zy.read_mesh("rotor.cgns"), 3)  # doctest: +SKIP
    """
    whole("count", count, 2, 360)
    angle = 2.0 * np.pi / count
    first = -0.5 * angle if start is None else np.radians(number("start", start, -360.0, 360.0))
    if mesh.dimension != 3 or mesh.planar or mesh.mirrored or mesh.sectors > 1:
        raise InputError("a sector is cut out of a whole mesh in space; mesh the whole body (half = False) first.")
    low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
    if (low[1:] >= 0.0).any() or (high[1:] <= 0.0).any():
        raise InputError("the x axis does not pass through the mesh; move the body onto it.")
    best, last = None, None
    for turn in TURNS if start is None else TURNS[:1]:
        try:
            made = _sector_at(mesh, count, first + turn * angle, low, high)
        except MeshError as cause:
            last = cause
            continue
        if best is None or made.recipe["unmatched"] < best.recipe["unmatched"]:
            best = made
        if best.recipe["unmatched"] <= FEW_UNMATCHED:
            break
    if best is None:
        raise last
    return best


def _sector_at(mesh: Mesh, count: int, first: float, low: np.ndarray, high: np.ndarray) -> Mesh:
    """The sector that begins at an angle [rad]; low, high: corners of the mesh."""
    last = None
    for attempt in range(TRIES):
        try:
            return _cut_out(mesh, count, first + attempt * NUDGE, 2.0 * np.pi / count, low, high)
        except MeshError as cause:  # the overlay of nearly coincident lines can fail: slightly rotated it does not
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
    faces = _Faces(mesh.points, mesh.face_start, mesh.face_points, mesh.left, right, tag)
    for turn, sign, side in sides:
        faces = _clipped(faces, sign * np.array([0.0, -np.sin(turn), np.cos(turn)]), 0.0, len(groups) + side)
    # a regular polygon round the axis as farfield: a box looks different from side to side
    facets = int(np.ceil(angle / WIDEST))
    radius = INSIDE * min(-low[1], -low[2], high[1], high[2]) * np.cos(0.5 * angle / facets)
    outer = next((k for k, (_, role) in enumerate(groups) if role == "farfield"), None)
    if outer is None:
        raise InputError("a sector needs a mesh with a farfield.")
    for turn in first + angle * (np.arange(facets) + 0.5) / facets:
        faces = _clipped(faces, -np.array([0.0, np.cos(turn), np.sin(turn)]), -radius, outer)
    faces, left_over = _paired(faces, len(groups), first, angle)
    wall = mesh.faces_of("wall", "slip")
    left_over /= np.linalg.norm(mesh.face_area[wall], axis=1).sum() / count
    if left_over > MAX_UNMATCHED:
        raise MeshError(
            f"parts of the sides as large as {100 * left_over:.2g} % of the walls find no partner: the body does not "
            f"repeat itself every {360.0 / count:.4g} deg."
        )
    left, right, area = _merged(faces, mesh.cell_volume)
    inner = right >= 0
    surface = np.bincount(np.r_[left, right[inner]], np.r_[area, area[inner]])
    keep = (left != right) & (area > ZERO_AREA * surface[left])
    names = [*groups, (START, "periodic"), (END, "periodic"), (REST, "symmetry")]
    made = mesh_from_kept(faces.points, faces.start, faces.corners, left, right, faces.tag, names, keep)
    made = replace(
        made, reference=mesh.reference, recipe=mesh.recipe | {"sectors": count, "unmatched": round(left_over, 6)}
    )
    periodic_pairs(made)
    return made


def _clipped(faces: _Faces, normal: np.ndarray, away: float, new: int) -> _Faces:
    """Faces of the cells on the positive side of a plane.

    Parameters
    ----------
    faces : _Faces
    normal : (3,) array
        Unit normal of the plane.
    away : float
        Distance [m] of the plane from the origin.
    new : int
        Group tag of the faces on the plane.
    """
    points, corners = faces.points, faces.corners
    s = points @ normal - away
    counts = np.diff(faces.start)
    owner = np.repeat(np.arange(len(counts)), counts)
    a, b = corners, corners[next_corners(faces.start)]
    crosses = (s[a] > 0.0) != (s[b] > 0.0)
    if not crosses.any():
        raise InputError("a side of the sector misses the mesh.")
    near = np.abs(s) < ON_PLANE * np.linalg.norm(points[a[crosses]] - points[b[crosses]], axis=1).min()
    points = points - np.where(near, s, 0.0)[:, None] * normal
    s = np.where(near, 0.0, s)
    inside = s >= 0.0
    crosses = inside[a] != inside[b]
    cuts, which = _cut_edges(points, s, np.stack([np.minimum(a, b), np.maximum(a, b)], axis=1)[crosses])
    cuts -= (cuts @ normal - away)[:, None] * normal
    cuts, same = _without_twins(cuts, SAME_POINT * np.abs(points).max())
    cut = np.full(len(corners), -1)
    cut[crosses] = len(points) + same[which]
    # every corner that stays, and behind it the point where its edge leaves or comes back
    slots = np.stack([np.where(inside[a], a, -1), cut], axis=1)
    stored = slots >= 0
    made = np.bincount(owner, stored.sum(axis=1), len(counts)).astype(np.int64)
    alive = made > 0
    face, tail, head = _plane_edges(owner, cut, crosses, inside[a], faces.start)
    # the left cell's cap runs the other way round than its face, the right cell's the same way
    two = faces.right[face] >= 0
    cell = np.r_[faces.left[face], faces.right[face][two]]
    caps_start, caps, caps_cell = _loops(cell, np.r_[head, tail[two]], np.r_[tail, head[two]])
    n = len(caps_cell)
    return _Faces(
        np.concatenate([points, cuts]),
        np.r_[0, np.cumsum(np.concatenate([made[alive], np.diff(caps_start)]))],
        np.concatenate([slots[stored], caps]),
        np.r_[faces.left[alive], caps_cell],
        np.r_[faces.right[alive], np.full(n, -1)],
        np.r_[faces.tag[alive], np.full(n, new)],
    )


def _cut_edges(points: np.ndarray, s: np.ndarray, ends: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Points (k, 3) where edges (n, 2) pass the plane s = 0, one for each edge, and which of them is whose (n,)."""
    edges, which = np.unique(ends, axis=0, return_inverse=True)
    fraction = s[edges[:, 0]] / (s[edges[:, 0]] - s[edges[:, 1]])
    return points[edges[:, 0]] + fraction[:, None] * (points[edges[:, 1]] - points[edges[:, 0]]), which.ravel()


def _without_twins(cuts: np.ndarray, tolerance: float) -> tuple[np.ndarray, np.ndarray]:
    """Distinct points (k, 3) and the number (n,) of each among them.

    An edge of a large face and its halves on smaller faces are cut at one position: one point.
    """
    twins = cKDTree(cuts).query_pairs(tolerance, output_type="ndarray")
    same = components(twins[:, 0], twins[:, 1], len(cuts))
    return cuts[np.unique(same, return_index=True)[1]], same


def _plane_edges(
    owner: np.ndarray, cut: np.ndarray, crosses: np.ndarray, inside: np.ndarray, start: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Edges on the plane as (face, tail, head): from where a face leaves the kept side to where it comes back."""
    leaves = crosses & inside
    comes = crosses & ~inside
    out_at, in_at = np.flatnonzero(leaves), np.flatnonzero(comes)
    # within a face leaving and coming alternate: the k-th of one belongs to the next of the other
    first_is_in = comes[np.minimum.reduceat(np.where(crosses, np.arange(len(cut)), len(cut) - 1), start[:-1])]
    turn = first_is_in[owner[out_at]]
    begin = np.searchsorted(owner[out_at], owner[out_at], side="left")
    many = np.searchsorted(owner[out_at], owner[out_at], side="right") - begin
    rank = np.arange(len(out_at)) - begin
    partner = in_at[begin + np.where(turn, (rank + 1) % many, rank)]
    return owner[out_at], cut[out_at], cut[partner]


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


@dataclass(frozen=True, eq=False)
class _Side:
    """Polygons of one side of the sector in the coordinates (x, r).

    Attributes
    ----------
    rows : (m,) array of int
        Faces of the mesh on this side.
    direction : (3,) array
        Unit vector of r.
    outward : bool
        Whether a counter-clockwise ring in (x, r) looks out of the sector there.
    cells : (k,) array of int
    shapes : (k,) array of shapely geometries
        What each cell covers.
    crossed : (m,) array of bool
        Faces whose outline crosses itself; they find no partner.
    """

    rows: np.ndarray
    direction: np.ndarray
    outward: bool
    cells: np.ndarray
    shapes: np.ndarray
    crossed: np.ndarray


@dataclass(eq=False)
class _Pieces:
    """Polygons that replace the faces of both sides."""

    points: list[np.ndarray] = field(default_factory=list)
    counts: list[int] = field(default_factory=list)
    left: list[int] = field(default_factory=list)
    tag: list[int] = field(default_factory=list)

    def add(self, shapely, polygon, side: _Side, cell: int, tag: int) -> None:
        """Add the rings of a polygon of one cell of a side."""
        for ring in _rings(shapely, polygon):
            ring = ring if side.outward else ring[::-1]
            self.points.append(ring[:, :1] * [1.0, 0.0, 0.0] + ring[:, 1:] * side.direction)
            self.counts.append(len(ring))
            self.left.append(side.cells[cell])
            self.tag.append(tag)


def _paired(faces: _Faces, new: int, first: float, angle: float) -> tuple[_Faces, float]:
    """Replace the faces of both sides by the pieces they share.

    Parameters
    ----------
    faces : _Faces
    new : int
        Tag of the first side; new + 1 is that of the second, new + 2 that of what is left over.
    first, angle : float
        Angle of the first side and of the sector [rad].

    Returns
    -------
    faces : _Faces
    missing : float
        Area [m^2] without partner.
    """
    try:
        import shapely
    except ImportError:
        raise InputError(
            "sectors need the package shapely; install it with: pip install 'zephyrum[surface]'."
        ) from None
    one = int(np.isclose(angle, np.pi))  # both sides in one plane, on either side of the axis
    sides = [
        _side(shapely, faces, np.flatnonzero(faces.tag == new), first, False),
        _side(shapely, faces, np.flatnonzero(faces.tag == new + 1 - one), first + angle, True),
    ]
    if one:
        reach = 2.0 * np.abs(faces.points).max()
        half = shapely.box(-reach, 0.0, reach, reach)
        sides = [replace(side, shapes=shapely.intersection(side.shapes, half)) for side in sides]
    pieces, missing = _overlaid(shapely, sides[0], sides[1], new)
    rows = np.concatenate([side.rows for side in sides])
    alone = np.unique(np.concatenate([side.rows[side.crossed] for side in sides]))
    keep = np.ones(len(faces.left), dtype=bool)
    keep[rows] = False
    keep[alone] = True
    tag = faces.tag.copy()
    tag[alone] = new + 2
    _, lost = polygon_geometry(read_only(faces.points), faces.start, faces.corners)
    missing += float(np.linalg.norm(lost[alone], axis=1).sum())
    counts = np.diff(faces.start)
    made = len(faces.points) + np.arange(sum(pieces.counts))
    return _Faces(
        np.concatenate([faces.points, *pieces.points]),
        np.r_[0, np.cumsum(np.r_[counts[keep], pieces.counts])].astype(np.int64),
        np.r_[faces.corners[np.repeat(keep, counts)], made],
        np.r_[faces.left[keep], pieces.left],
        np.r_[faces.right[keep], np.full(len(pieces.left), -1)],
        np.r_[tag[keep], pieces.tag],
    ), missing


def _overlaid(shapely, one: _Side, two: _Side, new: int) -> tuple[_Pieces, float]:
    """Pieces that both sides share and those of each without partner, with the area [m^2] of the latter."""
    a, b = shapely.STRtree(two.shapes).query(one.shapes, predicate="intersects")
    shared = shapely.intersection(one.shapes[a], two.shapes[b])
    good = shapely.area(shared) > TINY_CELL_FRACTION * shapely.area(one.shapes)[a]
    a, b, shared = a[good], b[good], shared[good]
    pieces, missing = _Pieces(), 0.0
    for i, j, polygon in zip(a, b, shared):
        pieces.add(shapely, polygon, one, i, new)
        pieces.add(shapely, polygon, two, j, new + 1)
    for side, mine in ((one, a), (two, b)):
        used = np.bincount(mine, shapely.area(shared), len(side.shapes))
        own = shapely.area(side.shapes)
        for k in np.flatnonzero(own - used > TINY_CELL_FRACTION * own):
            rest = _remainder(shapely, side.shapes[k], shared[mine == k])
            if rest.area > TINY_CELL_FRACTION * own[k]:
                missing += rest.area
                pieces.add(shapely, rest, side, int(k), new + 2)
    return pieces, missing


def _side(shapely, faces: _Faces, rows: np.ndarray, angle: float, outward: bool) -> _Side:
    """The side at an angle [rad] that the faces `rows` form; rings that run the other way round are holes of their
    cell.
    """
    direction = np.array([0.0, np.cos(angle), np.sin(angle)])
    cells, which = np.unique(faces.left[rows], return_inverse=True)
    shapes = np.full(len(cells), shapely.Polygon(), dtype=object)
    holes, wanted = [], np.zeros(len(cells))
    for face, cell in zip(rows, which):
        ring = faces.points[faces.corners[faces.start[face] : faces.start[face + 1]]]
        ring = np.stack([ring[:, 0], ring @ direction], axis=1)
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
    return _Side(rows, direction, outward, cells, shapes, crossed[which])


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


def _merged(faces: _Faces, volumes: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(left, right, areas) of the faces, with cells far smaller than they were merged with the neighbour across their
    largest face that is not.
    """
    left, right = faces.left, faces.right
    n = int(max(left.max(), right.max())) + 1
    volume, size = volumes_between(faces.points, faces.start, faces.corners, left, right, n, np.zeros(3))
    small = (volume < SMALL_CELL_FRACTION * volumes[:n]) & (volume > 0.0)
    inner = right >= 0
    rows = np.flatnonzero(inner)
    rows = rows[small[left[rows]] != small[right[rows]]]
    into = merged(small, left[rows], right[rows], size[rows])
    return into[left], np.where(inner, into[np.maximum(right, 0)], -1), size


def periodic_pairs(mesh: Mesh) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Faces of the periodic sides that belong together.

    Parameters
    ----------
    mesh : Mesh
        Mesh of a sector.

    Returns
    -------
    faces : (k,) array
        Of one side.
    partners : (k,) array
        Of the other side.
    rotation : (3, 3) array
        From vectors at the faces to those at their partners.

    Raises
    ------
    MeshError
        The sides do not match face by face.
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
