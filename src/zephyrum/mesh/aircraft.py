"""The volume mesh of a complete aircraft, one command: body in, mesh out.

Rays off the surface, an octree clipped exactly by the surface through their tips, and under every clipped cube a column of layer
cells down to the wall (see `columns`): the mesh is conformal, and faces are square to the lines between cells. Even an inviscid mesh gets a few even layers: at a sharp tail no cell then
lies on both sides, without which the flow would leak round it. Verified by tests/test_clipped.py and validation/clipped.py.
"""

import logging
from dataclasses import dataclass, replace

import numpy as np

from zephyrum.air import Reference
from zephyrum.air.checks import number
from zephyrum.errors import InputError, MeshError
from zephyrum.mesh.clipped_space import Space, fill_space
from zephyrum.mesh.columns import Columns, Rings, stand_columns
from zephyrum.mesh.core import Mesh, mesh_from_kept
from zephyrum.mesh.eased import eased
from zephyrum.mesh.layers import given_layers
from zephyrum.mesh.polygons import polygon_geometry
from zephyrum.mesh.prisms import Prisms, grow_prisms
from zephyrum.mesh.sizes import GROWTH, PartZone, SizeField, Zone
from zephyrum.mesh.tree import Tree, grow_tree, merged, nudged
from zephyrum.shape.features import features
from zephyrum.shape.surface import Surface

ASPECT = 1.0  # side of the cubes over the edge of the layers' outer side
CUSHION = 2  # layers of an inviscid mesh
SMALL = 0.2  # share of its cube below which a cell is merged with a neighbour
WAKE_SIZE = 1.5  # cubes of the wake where it begins, over the median of those at the surface
WAKE_GROWTH = 0.08  # of their size along the wind
TILE = 0.02  # of the surface's extent: how close together the lines of the wake begin
FAN_OF_WIND = 4.0  # deg between the winds that a wake is refined for
LIFT = 0.4  # of the layers' height: what a point may be lifted off its flat triangle
SPLITS = 4  # rounds in which more columns are kept to one triangle
FLATTER = 3  # rounds in which more of the wall is left flat
BENT = 0.5  # cosine between the normals at both ends of a side below which it is left straight
SHIFTS = 4  # tries with the grid moved before the layers are thinned
log = logging.getLogger(__name__)


def mesh_surface(surface: Surface, farfield: float = 10.0, layers: tuple[float, float, int] | None = None, growth: float = GROWTH,
                   zones: tuple[Zone, ...] = (), half: bool | None = None, reference: Reference | None = None, scale: float = 1.0,
                 ground: float | None = None, wake: float = 0.0, alpha: tuple[float, float] = (0.0, 0.0)) -> Mesh:  # fmt: skip
    """A mesh of the space round an even surface mesh (see `remesh`), closed or open along y = 0 (a half model).

    farfield: distance of the outer boundary in sizes of the surface; layers: (first height [m], growth, count), without them two
    even ones for inviscid flow; growth: of the cell size with distance; zones: see `Zone`; scale: factor on the cubes; ground: z [m] of
    a level ground, role "slip" until changed; wake: length [m] of the finer cells behind the surface, along the wind for all of
    `alpha` (low, high) [deg]. Wall groups are the parts of the surface. MeshError says where it failed.
    """
    number("farfield", farfield, 1.0, 1e4)
    number("growth", growth, 0.02, 1.0)
    rim = surface.open_edges
    open_half = bool(len(rim))
    if open_half and np.abs(surface.points[np.unique(rim), 1]).max() > 0.0:
        place = surface.points[np.unique(rim)][np.argmax(np.abs(surface.points[np.unique(rim), 1]))]
        raise InputError(f"surface {surface.name!r} is open at {place.round(5)} m, off the plane y = 0; mend it first.")
    if half is not None and half != open_half:
        raise InputError("half = True needs a surface cut at y = 0, such as Aircraft.surface(half=True).")
    if {"farfield", "symmetry", "ground"} & set(surface.parts):
        raise InputError("a part of the surface can't be called farfield, symmetry or ground; rename it.")
    if ground is not None and surface.bounds[0, 2] <= number("ground", ground):
        raise InputError(
            f"the surface reaches down to z = {surface.bounds[0, 2]:.4g} m, below the ground at {ground:g} m; lift it."
        )
    spec = (np.inf, 1.0, CUSHION) if layers is None else given_layers(layers)
    zones = bound_zones(zones, surface)

    def outer(even: Surface) -> Outer:
        return Outer(even, farfield, growth, zones, open_half, scale, ground, wake, alpha)

    try:
        mesh, prisms, moved, tries = _grown(surface, spec, outer, open_half, ground is not None)
    except MeshError as cause:
        cause.surface = surface
        raise
    recipe = {"kind": "clipped", "surface": surface.fingerprint, "triangles": len(surface.triangles), "half": open_half, "layers": spec[2],
              "growth": growth, "farfield_sizes": farfield, "tries": tries, "layer_coverage": round(float((prisms.kept >= 0.5).mean()), 5),
              "points_out": len(surface.points) - len(moved), "points_moved": int((moved > 0.0).sum()), "moved": round(float(moved.max()), 6)}  # fmt: skip
    if np.isfinite(spec[0]):
        recipe |= {"first_height": spec[0], "layer_growth": spec[1]}
    return replace(mesh, reference=reference, recipe=recipe)


def _grown(surface: Surface, spec, outer, open_half: bool, ground: bool) -> tuple[Mesh, Prisms, np.ndarray, int]:
    """(mesh, its layers, what points of the surface were moved, tries): the ladder of shifts of the grid and thinner layers."""
    even, moved = eased(surface)
    if len(even.points) < len(surface.points) or moved.any():
        log.info("%d points taken out, %d moved by up to %.2g m so that layers can start", len(surface.points) - len(moved), (moved > 0.0).sum(), moved.max())  # fmt: skip
    last: MeshError | None = None
    prisms, space = grow_prisms(even, spec, local_edges(even)), outer(even)
    for attempt in range(2 * SHIFTS):
        if attempt == SHIFTS:
            log.info("layers thinned to half their height after %s failures: %s", SHIFTS, last)
            prisms = Prisms(prisms.way, 0.5 * prisms.height, 0.5 * prisms.kept)
        try:
            return (
                mesh_from_kept(
                    *_joined(even, prisms, np.isinf(spec[0]), *space.filled(prisms, attempt), open_half, ground)
                ),
                prisms,
                moved,
                attempt + 1,
            )
        except MeshError as cause:
            log.info("try %d: %s", attempt + 1, cause)
            last = cause
    raise last


def local_edges(surface: Surface) -> np.ndarray:
    """(n,) mean edge length [m] of the equilateral triangles as large as those round every point."""
    side = np.sqrt(4.0 / np.sqrt(3.0) * surface.areas)
    n = len(surface.points)
    count = np.bincount(surface.triangles.ravel(), minlength=n)
    return np.bincount(surface.triangles.ravel(), np.repeat(side, 3), n) / np.maximum(count, 1)


def bound_zones(zones, surface: Surface) -> tuple:
    """The zones, those about a part knowing its points."""
    out = []
    for zone in zones:
        if isinstance(zone, Zone) and zone.part is not None:
            if zone.part not in surface.parts:
                raise InputError(f"the surface has no part {zone.part!r}; it has: {', '.join(surface.parts)}.")
            zone = PartZone(zone, surface.points[np.unique(surface.triangles[surface.belongs(zone.part)])])
        out.append(zone)
    return tuple(out)


@dataclass(frozen=True, eq=False)
class Outer:
    """The space outside the layers: its extent and the sizes of its cubes; arguments as in `mesh_surface`."""

    surface: Surface
    farfield: float
    growth: float
    zones: tuple
    half: bool
    scale: float = 1.0
    ground: float | None = None
    wake: float = 0.0
    alpha: tuple[float, float] = (0.0, 0.0)

    def tree(self, tips: np.ndarray, edges: np.ndarray, attempt: int = 0) -> Tree:
        """The octree about tips (n, 3) with local edges (n,) [m]."""
        wish = self.scale * ASPECT * edges
        points, sizes = wake_points(tips, wish, self.wake, self.alpha)
        field = SizeField(np.concatenate([tips, points]), np.concatenate([wish, sizes]), self.growth, self.zones)
        finest = 0.5 * float(min(wish.min(), min((z.size for z in self.zones), default=np.inf)))
        size = 2.0 * self.farfield * self.surface.size
        rng = np.random.default_rng(attempt)
        shift = finest * (np.array([0.37, 0.41, 0.43]) if attempt == 0 else rng.uniform(-1.0, 1.0, 3))
        origin = self.surface.middle - 0.5 * size + shift
        if self.half:
            origin[1] = 0.0
        if self.ground is not None:
            origin[2] = self.ground
        return grow_tree(origin, size, field, finest)

    def filled(self, prisms: Prisms, attempt: int) -> tuple[Space, Tree]:
        """The clipped cubes outside the layers."""
        tips = prisms.points(self.surface, prisms.height.shape[1] - 1)
        tree = self.tree(tips, local_edges(replace(self.surface, points=tips)), attempt)
        return fill_space(tree, nudged(tips, tree), self.surface.triangles), tree


def wake_points(points: np.ndarray, sizes: np.ndarray, length: float, alpha) -> tuple[np.ndarray, np.ndarray]:
    """(points (k, 3), sizes (k,) [m]) behind the rearmost of `points` seen along the wind, for all of alpha (low, high) [deg]."""
    low, high = sorted(number("alpha", a, -90.0, 90.0) for a in alpha)
    if number("wake", length, 0.0) == 0.0:
        return np.zeros((0, 3)), np.zeros(0)
    places, made = [], []
    for angle in np.radians(np.linspace(low, high, 1 + int(np.ceil((high - low) / FAN_OF_WIND)))):
        wind = np.array([np.cos(angle), 0.0, np.sin(angle)])
        across = np.stack([points[:, 1], points[:, 2] * np.cos(angle) - points[:, 0] * np.sin(angle)], axis=1)
        tile = np.round(across / (TILE * np.ptp(across, axis=0).max())).astype(np.int64)
        order = np.lexsort((-(points @ wind), tile[:, 1], tile[:, 0]))
        first = np.r_[True, (np.diff(tile[order], axis=0) != 0).any(axis=1)]
        tails = order[first]
        far = np.zeros(len(tails))
        size = WAKE_SIZE * np.median(sizes) * np.ones(len(tails))
        while (far < length).any():
            live = far < length
            places.append(points[tails[live]] + far[live, None] * wind)
            made.append(size[live])
            far = far + 0.7 * size
            size = size * (1.0 + 0.7 * WAKE_GROWTH)
    return np.concatenate(places), np.concatenate(made)


def _joined(surface: Surface, prisms: Prisms, even: bool, space: Space, tree: Tree, half: bool, ground: bool) -> tuple:
    """The faces of clipped cubes and of the columns of layers under them, crumbs merged, as `mesh_from_kept` takes them; even: whether the layers are."""
    size = np.diff(space.wall_start)
    backwards = np.repeat(space.wall_start[1:] - 1, size) - (np.arange(size.sum()) - np.repeat(np.cumsum(size) - size, size))  # fmt: skip
    into = _crumbs(
        space.points,
        np.r_[space.start, space.start[-1] + space.wall_start[1:]],
        np.r_[space.corners, space.wall_corners[backwards]],
        np.r_[space.left, space.wall_cell],
        np.r_[space.right, np.full(len(size), -1)],
        space,
        tree,
    )
    parts = surface.parts
    part_of = np.array([parts.index(name.split("/")[0]) for name in surface.labels])[surface.label]
    triangle = space.wall_triangle
    split = np.zeros(len(triangle), dtype=bool)
    k = prisms.height.shape[1] - 1
    few = replace(
        prisms, height=prisms.height[:, np.unique([0, 1, k // 2, k - 1, k])]
    )  # enough to see what turns inside out
    for _ in range(SPLITS):
        columns = stand_columns(space.points, space.wall_start, space.wall_corners, into[space.wall_cell], triangle, surface.normals[triangle],
                                part_of[triangle], tree.unit * tree.side[space.cube[space.wall_cell]], split)  # fmt: skip
        part = part_of[triangle[columns.polygon]]
        _, lifted, turned = _with_columns(surface, few, even, space, into, columns, part, half, ground)
        if not turned.any():
            break
        split |= turned[columns.of]  # where they bend too much they are kept to one triangle each
    faces, _, _ = _with_columns(surface, prisms, even, space, into, columns, part, half, ground, lifted)
    names = [("farfield", "farfield"), ("symmetry", "symmetry"), ("ground", "slip")] + [(name, "wall") for name in parts]  # fmt: skip
    points, start, corners, left, right, tag = faces
    return points, start, corners, left, right, tag, names, left != right


def _with_columns(surface: Surface, prisms: Prisms, even: bool, space: Space, into, columns: Columns, part, half: bool, ground: bool,
                  lifted=None):  # fmt: skip
    """((points, start, corners, left, right, tag) of all faces, lifted points (n,), columns (n,) with a cell that is inside out); into: cell

    of every piece of a cube, part: number of the wall of every column; with `lifted` given nothing is looked for.
    """
    k, cubes = prisms.height.shape[1] - 1, int(into.max()) + 1
    flat = half & (space.points[:, 1] == 0.0)
    used = np.unique(np.r_[columns.tiles.corners if even else columns.floor.corners, columns.path])
    placed, node = _levels(surface, prisms, space, used, flat)
    column = cubes + np.arange(columns.count)[:, None] * k + np.arange(k)
    side = np.zeros(6, dtype=np.int64)
    side[2], side[4] = 1 if half else 0, 2 if ground else 0
    outer = np.where(space.outside >= 0, side[np.maximum(space.outside, 0)], -1)
    right = np.where(space.right >= 0, into[np.maximum(space.right, 0)], -1)
    faces = [(np.diff(space.start), space.corners, into[space.left], right, outer)]
    # from the cubes into the last layer, then down to the wall: there outward is into the body, backwards
    roof, floor = _turned(columns.roof), _turned(columns.floor)
    faces.append((np.diff(roof.start), roof.corners, columns.cube, column[roof.group, k - 1], np.full(len(roof.group), -1)))  # fmt: skip
    # thin layers need the same outline on the wall and above it, else they would cross; even ones leave the wall as it is
    wall = _turned(columns.tiles) if even else floor
    faces.append((np.diff(wall.start), node(0, wall.corners), column[wall.group, 0], np.full(len(wall.group), -1), 3 + part[wall.group]))  # fmt: skip
    for level in range(1, k):
        faces.append((np.diff(floor.start), node(level, floor.corners), column[floor.group, level], column[floor.group, level - 1], np.full(len(floor.group), -1)))  # fmt: skip
    # sides: along a path and back on the next level
    run = np.diff(columns.start)
    there = np.repeat(np.cumsum(2 * run) - 2 * run, run)
    within = np.arange(columns.start[-1]) - np.repeat(columns.start[:-1], run)
    forth, back = there + within, there + 2 * np.repeat(run, run) - 1 - within
    rim = columns.two < 0
    for level in range(k):
        corners = np.empty(2 * columns.start[-1], dtype=np.int64)
        corners[forth], corners[back] = node(level, columns.path), node(level + 1, columns.path)
        two = np.where(rim, -1, column[np.maximum(columns.two, 0), level])
        faces.append((2 * run, corners, column[columns.one, level], two, np.where(rim, 1, -1)))
    counts, corners, left, right, tag = (np.concatenate(each) for each in zip(*faces))
    if (left < 0).any():
        raise MeshError("a face of the clipped mesh belongs to no cell.")
    start = np.r_[0, np.cumsum(counts)]
    if lifted is not None:
        return (placed(lifted), start, corners, left, right, tag), lifted, None
    lifted = np.ones(len(used), dtype=bool)
    for _ in range(FLATTER):
        points = placed(lifted)
        turned = _volumes(points, start, corners, left, right)[cubes:].reshape(-1, k).min(axis=1) <= 0.0
        if not turned.any():
            break
        # where a lifted wall would turn a cell inside out it stays flat
        of = np.repeat(wall.group, np.diff(wall.start))
        lifted[np.searchsorted(used, wall.corners[turned[of]])] = False
    return (points, start, corners, left, right, tag), lifted, turned


def _volumes(points, start, corners, left, right) -> np.ndarray:
    """(n,) volumes of the cells between faces."""
    middle, area = polygon_geometry(points, start, corners)
    part = np.einsum("ij,ij->i", area, middle - points.mean(axis=0)) / 3.0
    inner = right >= 0
    return np.bincount(np.r_[left, right[inner]], np.r_[part, -part[inner]])


def _lifts(surface: Surface) -> np.ndarray:
    """(m, 3, 3) of every triangle and side (0-1, 1-2, 2-0) a vector [m]: times the shares of both ends it lifts a point to the curved surface.

    Along a side the height over the chord is that of the parabola with the normals at both ends (cf. Nagata 2005, Comput. Aided Geom.
    Des. 22:327); none where the surface has an edge.
    """
    t, n, x = surface.triangles, len(surface.points), surface.points
    smooth = features(surface).smooth
    spot = (
        t * np.int64(smooth.max() + 1) + smooth[:, None]
    )  # a point has a normal on every smooth region that it bounds
    spots, which = np.unique(spot, return_inverse=True)
    which = which.reshape(t.shape)
    weight = surface.normals * surface.areas[:, None]
    normal = np.stack([np.bincount(which.ravel(), np.repeat(weight[:, j], 3), len(spots)) for j in range(3)], axis=1)
    rim = np.zeros(n, dtype=bool)
    rim[np.unique(surface.open_edges)] = True
    normal[rim[spots // (smooth.max() + 1)], 1] = 0.0
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    near = surface.neighbours
    out = np.zeros((len(t), 3, 3))
    for side in range(3):
        i, j = side, (side + 1) % 3
        a, b = normal[which[:, i]], normal[which[:, j]]
        bend = np.einsum("ij,ij->i", b - a, x[t[:, j]] - x[t[:, i]])
        along = (a + b) / np.maximum(np.linalg.norm(a + b, axis=1), 1e-300)[:, None]
        there = np.maximum(near[:, side], 0)
        edge = (near[:, side] >= 0) & (smooth[there] != smooth) | (np.einsum("ij,ij->i", a, b) < BENT)
        out[:, side] = np.where(edge, 0.0, 0.5 * bend)[:, None] * along
    return out


def _turned(rings: Rings) -> Rings:
    """The same polygons the other way round."""
    size = np.diff(rings.start)
    back = np.repeat(rings.start[1:] - 1, size) - (np.arange(size.sum()) - np.repeat(rings.start[:-1], size))
    return replace(rings, corners=rings.corners[back])


def _levels(surface: Surface, prisms: Prisms, space: Space, used: np.ndarray, flat: np.ndarray):
    """Two functions: the points of the clipped space and of all layers, given which of the `used` ones are lifted; their numbers on a level.

    Within a triangle of the outer side a point has the same shares of the corners on every level; on the wall it is lifted off the
    flat triangle to the smooth surface that this stands for (see `_lifts`), above it the less the higher.
    """
    k, t = prisms.height.shape[1] - 1, surface.triangles
    polygon = np.repeat(np.arange(len(space.wall_triangle)), np.diff(space.wall_start))
    on = np.zeros(len(space.points), dtype=np.int64)
    on[space.wall_corners] = space.wall_triangle[polygon]
    triangle = on[used]
    on = t[triangle]
    tips = space.points[: len(surface.points)]
    a, b, c = tips[on[:, 0]], tips[on[:, 1]], tips[on[:, 2]]
    u, v, w = b - a, c - a, space.points[used] - a
    uu, uv, vv = (np.einsum("ij,ij->i", *pair) for pair in ((u, u), (u, v), (v, v)))
    wu, wv = np.einsum("ij,ij->i", w, u), np.einsum("ij,ij->i", w, v)
    det = uu * vv - uv * uv
    two, three = (vv * wu - uv * wv) / det, (uu * wv - uv * wu) / det
    share = np.clip(np.stack([1.0 - two - three, two, three], axis=1), 0.0, 1.0)
    corner = used < len(surface.points)
    share[corner] = on[corner] == used[corner, None]
    share /= share.sum(axis=1)[:, None]
    base = len(space.points)
    at = np.full(base, -1)
    at[used] = np.arange(len(used))
    total = np.einsum("ij,ij->i", share, prisms.height[on, -1])
    lift = np.einsum("ij,ijk->ik", share * np.roll(share, -1, axis=1), _lifts(surface)[triangle])
    lift *= np.minimum(1.0, LIFT * total / np.maximum(np.linalg.norm(lift, axis=1), 1e-300))[:, None]

    def placed(lifted: np.ndarray) -> np.ndarray:
        levels = [space.points]
        for level in range(k):
            own = np.einsum("ij,ijk->ik", share, prisms.points(surface, level)[on])
            high = np.einsum("ij,ij->i", share, prisms.height[on, level])
            own += (lifted * (1.0 - high / total))[:, None] * lift
            own[flat[used], 1] = 0.0
            levels.append(own)
        return np.concatenate(levels)

    def node(level: int, p: np.ndarray) -> np.ndarray:
        return p if level == k else base + level * len(used) + at[p]

    return placed, node


def _crumbs(points, start, corners, left, right, space: Space, tree: Tree) -> np.ndarray:
    """New number of every cell: those below a fifth of their cube are merged with the neighbour across their largest face."""
    middle, area = polygon_geometry(points, start, corners)
    cubes = len(space.cube)
    total = int(max(left.max(), right.max()) + 1)
    part = np.einsum("ij,ij->i", area, middle - tree.origin) / 3.0
    inner = right >= 0
    volume = np.bincount(left, part, total) - np.bincount(right[inner], part[inner], total)
    whole_cube = (tree.side[space.cube] * tree.unit) ** 3
    if (volume[:cubes] < -1e-9 * whole_cube).any():
        worst = int(np.argmin(volume[:cubes] / whole_cube))
        place = tree.origin + tree.unit * (tree.corner[space.cube[worst]] + 0.5 * tree.side[space.cube[worst]])
        raise MeshError(f"a cell at {place.round(5)} m is inside out.", place)
    small = np.zeros(total, dtype=bool)
    small[:cubes] = volume[:cubes] < SMALL * whole_cube
    size = np.linalg.norm(area, axis=1)
    faces = np.flatnonzero(inner & (left < cubes) & (right < cubes))
    return np.unique(merged(small, left[faces], right[faces], size[faces]), return_inverse=True)[1]
