"""Meshes about any set of closed curves: quadrilateral layers on the walls, square cells clipped by their outer rim
beyond.

One conformal polygonal mesh: the tops of the layers and the clipped squares share their points. Verified by
tests/test_clipped.py and validation/clipped.py.
"""

import itertools
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from zephyrum._core.validation import choice, number, refuse_unknown, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry.airfoil.polygon import inside_polygon
from zephyrum.mesh.clipped_2d.clipping import ClippedCells, clip_plane
from zephyrum.mesh.clipped_2d.curves import SampledCurve, distance_to_others, divide, sampled_curve
from zephyrum.mesh.clipped_2d.options import BodyMeshOptions
from zephyrum.mesh.clipped_2d.wall_layers import MarchingDirections, marching_directions
from zephyrum.mesh.construction import mesh_from_faces
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.ground import MAX_ATTITUDE, PlaneEdges, extruded_edges, ground_heights, ground_level, rotated_about
from zephyrum.mesh.layer_spacing import given_layers, wall_layers
from zephyrum.mesh.size_field import MAX_GROWTH, RESOLUTIONS, SizeField, Zone
from zephyrum.mesh.tree import Tree, grow_tree, merged, moved_off_planes, whole_cells

SIZE = 0.01  # chords: edge on the surface of a medium mesh
MAX_TURN = 5.0  # deg along an edge of a medium mesh
SHARPEST, AT_CORNERS, IN_GAPS = 0.02, 0.12, 0.12
SQUARE_TO_LAYER_RATIO = 1.15  # side of the squares over the edge of the layers' rim
SMALL_CELL_FRACTION = 0.2  # fraction of its square below which a cell is merged with a neighbour
INVISCID_LAYERS = 3  # layers of an inviscid mesh: so that at a sharp tail no cell lies on both sides
MIN_COARSE_CELLS = 6000  # a coarser relative is made for meshes above
MAX_GRID_SHIFTS = 6  # tries with the grid moved


@takes(bodies=Mapping)
def mesh_bodies(bodies: dict, resolution: str | float = "medium", coarse_levels: int | None = None, **options) -> Mesh:
    """Mesh about several closed curves.

    Parameters
    ----------
    bodies : dict
        Name to `Airfoil`, `Outline` or array (n, 2) of x, z [m].
    resolution : str or float
        "coarse", "medium", "fine", or a factor on all sizes (1 is medium, smaller is finer).
    coarse_levels : int, optional
        Meshes of twice the sizes for the solver to start on; without it two in inviscid flow and none with wall layers,
        which do not nest.
    **options
        Fields of `BodyMeshOptions`.

    Returns
    -------
    Mesh

    Raises
    ------
    InputError, MeshError
        For bad input, such as bodies that overlap; for a mesh that cannot be made, with the position.

    Examples
    --------
    >>> import zephyrum as zy
    >>> flap = zy.Airfoil.naca("4412").scaled(0.3).moved(1.02, -0.03)
    >>> zy.mesh_bodies({"wing": zy.Airfoil.naca("2412"), "flap": flap})  # doctest: +SKIP
    """
    if isinstance(resolution, str):
        factor = RESOLUTIONS[choice("resolution", resolution, tuple(RESOLUTIONS))]
    else:
        factor = number("resolution", resolution, 0.02, 20.0)
    refuse_unknown(BodyMeshOptions, options, "a mesh about several bodies")
    wanted = BodyMeshOptions(**options)
    if coarse_levels is None:
        coarse_levels = 0 if wanted.viscous else 2
    line = [_single_mesh(bodies, factor, wanted)]
    for k in range(whole("coarse_levels", coarse_levels, 0, 5)):
        if line[-1].n_cells < MIN_COARSE_CELLS:
            break
        line.append(_single_mesh(bodies, 2.0 ** (k + 1) * factor, wanted))
    for k in range(len(line) - 2, -1, -1):
        line[k] = line[k].with_coarser(line[k + 1])
    return line[0]


def _checked_curves(bodies: dict) -> list[SampledCurve]:
    """The bodies as sampled curves."""
    if not isinstance(bodies, dict) or not bodies:
        raise InputError(
            'bodies should be a dictionary of names and shapes, for example {"wing": Airfoil.naca("2412")}.'
        )
    reserved = {"farfield", "ground"} & set(bodies)
    if reserved:
        raise InputError(f"a body can't be called {reserved.pop()!r}; that is a boundary of the domain.")
    return [sampled_curve(name, shape) for name, shape in bodies.items()]


def _single_mesh(bodies: dict, factor: float, options: BodyMeshOptions) -> Mesh:
    """One mesh of `mesh_bodies`, all sizes times `factor`."""
    curves = _checked_curves(bodies)
    main = curves[int(np.argmax([c.chord for c in curves]))]
    if options.reference is not None:
        main = curves[list(bodies).index(choice("reference", options.reference, tuple(bodies)))]
    length = main.chord if options.chord is None else number("chord", options.chord, 0.0, open_low=True)
    # the whole field of sizes is scaled, also where it has grown, so that finer meshes are of one family
    growth = min(factor * options.growth, max(options.growth, MAX_GROWTH))
    parts = {}
    for name, own in (options.sizes or {}).items():
        parts[choice("sizes", name, tuple(bodies))] = factor * number(f"size of {name}", own, 0.0, open_low=True)
    pivot = np.array([main.nose[0] + 0.25 * length, main.nose[1]])
    curves, ground = _turned(curves, pivot, options.attitude, options.ground)
    spec = _layers(options, length, factor)
    depths = _ground_depths(curves, ground, spec, options.ground_layers, factor * SIZE * length)
    if ground is not None:  # the squares stand on the layers of the ground
        ground += depths[-1]
    _refuse_touching(curves, ground)
    for curve in curves:
        parts.setdefault(curve.name, factor * SIZE * curve.chord)
    divided = divide(curves, parts, np.radians(factor * MAX_TURN), SHARPEST, AT_CORNERS, IN_GAPS, ground)
    zones = (*(zone.scaled(factor) for zone in options.zones), *_wake(divided, options.wake, options.alpha, length))
    room = [distance_to_others(curve.points, curves, k, ground) for k, curve in enumerate(divided)]
    layers = _LayeredCurves(divided, marching_directions(divided, spec, room))
    space = _Space(options.farfield * length, ground, growth, zones, depths)
    mesh = _first_that_succeeds(layers, space)
    nose = (float(pivot[0]) - 0.25 * length, 0.0, float(pivot[1]))
    source = "typed" if options.chord is not None else f"measured on {main.name!r}"
    recipe = _recipe(options, len(bodies), factor, spec, space)
    reference = Reference.of_section(length, nose, 1.0, source)
    return replace(mesh, reference=reference, recipe=recipe, attitude=options.attitude)


def _recipe(options: BodyMeshOptions, bodies: int, factor: float, spec: tuple, space: "_Space") -> dict:
    """How a mesh was made."""
    recipe = {
        "kind": "clipped",
        "bodies": bodies,
        "resolution": factor,
        "growth": space.growth,
        "farfield_chords": float(options.farfield),
        "layers": spec[2],
    }
    if options.y_plus is not None:
        recipe |= {"y_plus": float(options.y_plus)}
    if np.isfinite(spec[0]):
        recipe |= {"first_height": spec[0], "layer_growth": spec[1]}
    if space.ground is not None:
        recipe |= {
            "ground": float(space.ground - space.depths[-1]),
            "ground_layers": len(space.depths) - 1,
            "attitude": options.attitude,
        }
    return recipe


def _turned(
    curves: list[SampledCurve], pivot: np.ndarray, attitude: float, ground: float | None
) -> tuple[list[SampledCurve], float | None]:
    """The curves turned nose-up about the pivot (2,), and the ground under them, which keeps its clearance."""
    before = np.concatenate([curve.points for curve in curves])[:, [0, 0, 1]]

    def turned(points: np.ndarray) -> np.ndarray:
        return rotated_about(points[:, [0, 0, 1]] * [1.0, 0.0, 1.0], [pivot[0], 0.0, pivot[1]], attitude)[:, [0, 2]]

    number("attitude", attitude, -MAX_ATTITUDE, MAX_ATTITUDE)
    if attitude != 0.0:
        curves = [
            replace(one, pieces=[turned(piece) for piece in one.pieces], nose=turned(one.nose[None, :])[0])
            for one in curves
        ]
    if ground is None:
        return curves, None
    return curves, ground_level(ground, before, np.concatenate([curve.points for curve in curves])[:, [0, 0, 1]])


def _ground_depths(
    curves: list[SampledCurve], ground: float | None, spec, wanted: bool | None, size: float
) -> np.ndarray:
    """Depths (k + 1,) [m] of the levels of the layers on the ground under their top, from 0; (1,) without layers."""
    layered = bool(np.isfinite(spec[0])) if wanted is None else wanted
    if ground is None:
        if wanted:
            raise InputError("ground_layers = True has no effect without ground; give the height of the ground.")
        return np.zeros(1)
    if not layered:
        return np.zeros(1)
    if not np.isfinite(spec[0]):
        raise InputError(
            "ground_layers = True needs the height of the first layer; give layers, or y_plus with reynolds."
        )
    clearance = min(curve.points[:, 1].min() for curve in curves) - ground
    heights = ground_heights(spec[0], spec[1], clearance, 0.5 * size)
    return heights[-1] - heights[::-1]


def _layers(options: BodyMeshOptions, chord: float, factor: float) -> tuple[float, float, int]:
    """(first height [m], growth, count)."""
    if options.layers is not None:
        return given_layers(options.layers)
    if options.y_plus is None:
        return np.inf, 1.0, INVISCID_LAYERS
    ratio = 1.2 ** min(factor, 2.0)
    first = wall_layers(options.reynolds, options.y_plus, ratio).first_height * chord * min(factor, 1.0)
    count = int(np.ceil(1.0 + np.log(0.5 * factor * SIZE * chord / first) / np.log(ratio)))
    return first, ratio, max(count, 4)


def _refuse_touching(curves: list[SampledCurve], ground: float | None) -> None:
    """InputError if one curve lies within another, or reaches the ground."""
    for k, one in enumerate(curves):
        if ground is not None and one.points[:, 1].min() <= ground:
            raise InputError(
                f"body {one.name!r} reaches down to z = {one.points[:, 1].min():.4g} m, below the ground at {ground:g} "
                f"m; lift it."
            )
        for other in curves[k + 1 :]:
            for a, b in ((one, other), (other, one)):
                hit = inside_polygon(b.points, a.points)
                if hit.any():
                    raise InputError(
                        f"bodies {one.name!r} and {other.name!r} overlap at x, z = {b.points[np.argmax(hit)].round(5)} "
                        f"m; move them apart."
                    )


def _wake(divided, length_in_chords, alpha, chord) -> list[Zone]:
    """A zone behind the last body that covers the directions of the wind."""
    far = length_in_chords * chord
    low, high = sorted(number("alpha", a, -90.0, 90.0) for a in alpha)
    if far == 0.0:
        return []
    points = np.concatenate([c.points for c in divided])
    tail = points[np.argmax(points[:, 0])]
    tall = float(np.ptp(points[:, 1]))
    size = float(np.median(np.concatenate([c.size for c in divided])))
    mean, half = np.radians(0.5 * (low + high)), np.radians(0.5 * (high - low))
    end = (tail[0] + far * np.cos(mean), 0.0, tail[1] + far * np.sin(mean))
    return [
        Zone(
            2.0 * size,
            start=(tail[0], 0.0, tail[1]),
            end=end,
            radius=0.5 * tall + 0.02 * chord,
            end_radius=0.5 * tall + far * (np.tan(half) + 0.05),
            end_size=6.0 * size,
        )
    ]


@dataclass(frozen=True, eq=False)
class _LayeredCurves:
    """Divided curves with the marching directions of their layers."""

    divided: list
    directions: list[MarchingDirections]

    @property
    def fronts(self) -> list[np.ndarray]:
        """Outer points of the layers of each curve."""
        return [one.front for one in self.directions]

    @property
    def starts(self) -> np.ndarray:
        """Where the points of each curve begin among all outer points."""
        return np.cumsum([0, *map(len, self.fronts)])


@dataclass(frozen=True, eq=False)
class _Space:
    """Space about the curves: distance of the farfield [m], level of the ground, growth and zones of the sizes, depths
    of the layers on the ground.
    """

    farfield: float
    ground: float | None
    growth: float
    zones: tuple[Zone, ...]
    depths: np.ndarray


def _first_that_succeeds(layers: _LayeredCurves, space: _Space) -> Mesh:
    """The mesh on the first position of the grid of squares that gives one."""
    last: MeshError | None = None
    for attempt in range(MAX_GRID_SHIFTS):
        try:
            return _assembled(layers, space, attempt)
        except MeshError as cause:
            last = cause
    raise last


def _assembled(layers: _LayeredCurves, space: _Space, attempt: int) -> Mesh:
    """One attempt: tree, clipping, layers, merging, faces."""
    front, starts = np.concatenate(layers.fronts), layers.starts
    follow = np.concatenate([np.r_[np.arange(a + 1, b), a] for a, b in itertools.pairwise(starts)])
    long = np.linalg.norm(front[follow] - front, axis=1)
    before = np.concatenate([np.roll(long[a:b], 1) for a, b in itertools.pairwise(starts)])
    target = SQUARE_TO_LAYER_RATIO * np.maximum(long, before)
    positions = np.stack([front[:, 0], np.zeros(len(front)), front[:, 1]], axis=1)
    field = SizeField(positions, target, space.growth, space.zones)
    finest = 0.5 * float(min(target.min(), min((z.size for z in space.zones), default=np.inf)))
    midpoint = 0.5 * (front.min(axis=0) + front.max(axis=0))
    side, count = whole_cells(2.0 * space.farfield, target)
    rng = np.random.default_rng(attempt)
    shift = rng.uniform(-1.0, 1.0, 2) * finest * (1.0 if attempt else 0.37)
    origin = midpoint - 0.5 * side * count + shift
    if space.ground is not None:
        origin[1] = space.ground
    tree = grow_tree(origin, side, field, finest, count)
    front = moved_off_planes(front, tree)
    clipped = clip_plane(tree, front, np.stack([np.arange(len(front)), follow], axis=1))
    polygons, wall_of = _polygons(clipped, layers)
    edges = _merged_edges(polygons, clipped, tree)
    tag = _boundary_tags(edges, wall_of, tree, len(layers.divided), space.ground is not None)
    names = [curve.name for curve in layers.divided]
    return _extruded_mesh(edges, tag, names, space.depths)


@dataclass(frozen=True, eq=False)
class _Polygons:
    """Cells as polygons: CSR (counts, index) of their points xz (n, 2), squares first, `squares` of them."""

    xz: np.ndarray
    counts: np.ndarray
    index: np.ndarray
    squares: int


@dataclass(frozen=True, eq=False)
class _Edges:
    """Edges from points a to b with the cells on their left (own) and right (other, -1 outside)."""

    xz: np.ndarray
    a: np.ndarray
    b: np.ndarray
    own: np.ndarray
    other: np.ndarray

    def chosen(self, which: np.ndarray) -> "_Edges":
        """Some of the edges."""
        return _Edges(self.xz, self.a[which], self.b[which], self.own[which], self.other[which])


def _polygons(clipped: ClippedCells, layers: _LayeredCurves) -> tuple[_Polygons, dict[tuple[int, int], int]]:
    """Clipped squares and layer cells, and the curve of each edge on a wall by its points."""
    points = [clipped.points]
    count, index = [np.diff(clipped.start)], [clipped.index]
    wall_of: dict[tuple[int, int], int] = {}
    total = len(clipped.points)
    for k, curve in enumerate(layers.divided):
        one, low = layers.directions[k], int(layers.starts[k])
        r, n = len(one.base), one.height.shape[1] - 1
        inner = curve.points[one.base][:, None] + one.height[:, 1:-1, None] * one.direction[:, None]
        points += [curve.points, inner.reshape(-1, 2)]
        nodes = np.empty((r, n + 1), dtype=np.int64)
        nodes[:, 0] = total + one.base
        nodes[:, 1:n] = total + len(curve.points) + np.arange(r * (n - 1)).reshape(r, n - 1)
        nodes[:, n] = low + np.arange(r)
        total += len(curve.points) + r * (n - 1)
        after = np.roll(nodes, -1, axis=0)
        for i in range(r):
            for j in range(n):
                ring = [nodes[i, j], after[i, j]] if nodes[i, j] != after[i, j] else [nodes[i, j]]
                ring.append(after[i, j + 1])
                if j == n - 1:
                    ring += clipped.pieces[low + i][-2:0:-1]
                ring.append(nodes[i, j + 1])
                count.append(np.array([len(ring)]))
                index.append(np.asarray(ring, dtype=np.int64))
            a, b = int(nodes[i, 0]), int(after[i, 0])
            if a != b:
                wall_of[min(a, b), max(a, b)] = k
    made = len(clipped.start) - 1
    return _Polygons(np.concatenate(points), np.concatenate(count), np.concatenate(index), made), wall_of


def _merged_edges(polygons: _Polygons, clipped: ClippedCells, tree: Tree) -> _Edges:
    """Edges between cells, after the small cells of squares went to the neighbour across their longest edge."""
    area, edges = _cell_edges(polygons)
    made, xz = polygons.squares, polygons.xz
    small = np.zeros(len(area), dtype=bool)
    small[:made] = area[:made] < SMALL_CELL_FRACTION * (tree.unit[0] * tree.extent[clipped.leaf, 0]) ** 2
    long = np.linalg.norm(xz[edges.a] - xz[edges.b], axis=1)
    inner = np.flatnonzero((edges.other >= 0) & (edges.own < made) & (edges.other < made))
    into = merged(small, edges.own[inner], edges.other[inner], long[inner])
    for group in _tangential_cells(into, edges.a, edges.b, edges.own, edges.other):
        into[group] = group
    cells = np.unique(into, return_inverse=True)[1]
    own = cells[edges.own]
    other = np.where(edges.other >= 0, cells[np.maximum(edges.other, 0)], -1)
    return _Edges(xz, edges.a, edges.b, own, other).chosen(own != other)


def _cell_edges(polygons: _Polygons) -> tuple[np.ndarray, _Edges]:
    """(area of each cell, edges seen from both sides)."""
    xz, counts, index = polygons.xz, polygons.counts, polygons.index
    cell = np.repeat(np.arange(len(counts)), counts)
    start = np.r_[0, np.cumsum(counts)]
    after = np.empty_like(index)
    after[:-1] = index[1:]
    after[start[1:] - 1] = index[start[:-1]]
    area = 0.5 * np.bincount(cell, xz[index, 0] * xz[after, 1] - xz[after, 0] * xz[index, 1], len(counts))
    if (area <= 0.0).any():
        worst = int(np.argmin(area))
        raise MeshError(
            f"a cell near x, z = {xz[index[start[worst]]].round(6)} m is folded; ask for smaller cells or thinner "
            f"layers there."
        )
    key = np.minimum(index, after) * len(xz) + np.maximum(index, after)
    order = np.argsort(key, kind="stable")
    key, a, b, own = key[order], index[order], after[order], cell[order]
    first = np.flatnonzero(np.r_[True, key[1:] != key[:-1]])
    twin = np.diff(np.r_[first, len(key)])
    if twin.max() > 2:
        raise MeshError(f"three cells share an edge near x, z = {xz[a[first[np.argmax(twin)]]].round(6)} m.")
    other = np.full(len(first), -1)
    other[twin == 2] = own[first[twin == 2] + 1]
    return area, _Edges(xz, a[first], b[first], own[first], other)


def _boundary_tags(edges: _Edges, wall_of: dict, tree: Tree, bodies: int, grounded: bool) -> np.ndarray:
    """(n,) number of the group of each edge: a body, `bodies` the farfield, `bodies` + 1 the ground, -1 inside."""
    xz, a, b = edges.xz, edges.a, edges.b
    tag = np.full(len(a), -1)
    outer = np.flatnonzero(edges.other < 0)
    for e in outer:
        tag[e] = wall_of.get((min(a[e], b[e]), max(a[e], b[e])), -1)
    rest = outer[tag[outer] < 0]
    low, high = tree.origin, np.array([float(tree.coordinates(axis, tree.limit[axis])) for axis in (0, 1)])
    for axis, side in ((0, low), (0, high), (1, low), (1, high)):
        on = (xz[a[rest], axis] == side[axis]) & (xz[b[rest], axis] == side[axis])
        tag[rest[on]] = bodies + (1 if grounded and axis == 1 and side is low else 0)
    if (tag[outer] < 0).any():
        bad = outer[tag[outer] < 0][0]
        raise MeshError(f"an edge near x, z = {xz[a[bad]].round(6)} m belongs to one cell only.")
    return tag


def _extruded_mesh(edges: _Edges, tag: np.ndarray, names: list[str], depths: np.ndarray) -> Mesh:
    """Mesh one cell thick of the edges, with the layers on the ground."""
    xz, a, b, own, other = edges.xz, edges.a, edges.b, edges.own, edges.other
    groups = [(name, "wall") for name in names] + [("farfield", "farfield"), ("ground", "ground")]
    if len(depths) > 1:
        plane = PlaneEdges(xz, a, b, own, other, tag)
        xz, a, b, own, other, tag = extruded_edges(plane, len(names) + 1, len(names), depths)
    turn = (other >= 0) & (own > other)  # the first corner of a face lies in front whichever cell it leaves
    a, b = np.where(turn, b, a), np.where(turn, a, b)
    own, other = np.where(turn, other, own), np.where(turn, own, other)
    used = [k for k in range(len(groups)) if (tag == k).any()]
    code = np.full(len(groups), -1)
    code[used] = np.arange(len(used))
    n = len(xz)
    space = np.zeros((2 * n, 3))
    space[:n, 0::2] = space[n:, 0::2] = xz
    space[n:, 1] = 1.0
    corners = np.stack([a, a + n, b + n, b], axis=1)
    live, flat = np.unique(corners, return_inverse=True)
    return mesh_from_faces(
        space[live],
        np.arange(len(a) + 1) * 4,
        flat.ravel(),
        own,
        other,
        np.where(tag >= 0, code[np.maximum(tag, 0)], -1),
        [groups[k] for k in used],
        2,
    )


def _tangential_cells(into, a, b, own, other) -> list[np.ndarray]:
    """Groups of cells to be merged whose common rim would not be one ring: they stay apart."""
    order = np.argsort(into, kind="stable")
    start = np.flatnonzero(np.r_[True, into[order][1:] != into[order][:-1]])
    stop = np.r_[start[1:], len(into)]
    groups = [order[i:j] for i, j in zip(start, stop) if j - i > 1]
    member = np.full(len(into), -1)
    for k, group in enumerate(groups):
        member[group] = k
    left, right = member[own], np.where(other >= 0, member[np.maximum(other, 0)], -1)
    rims: list[dict[int, int]] = [{} for _ in groups]
    bad = np.zeros(len(groups), dtype=bool)
    for e in np.flatnonzero(((left >= 0) | (right >= 0)) & (left != right)):
        for k, tail, head in ((left[e], a[e], b[e]), (right[e], b[e], a[e])):
            if k >= 0:
                bad[k] |= int(tail) in rims[k]
                rims[k][int(tail)] = int(head)
    for k, rim in enumerate(rims):
        if bad[k]:
            continue
        first = here = next(iter(rim))
        count = 0
        while count <= len(rim):
            here, count = rim.get(here, first), count + 1
            if here == first:
                break
        bad[k] = count != len(rim)
    return [group for k, group in enumerate(groups) if bad[k]]
