"""Meshes about any set of closed curves: quadrilateral layers on the walls, square cells clipped by their outer rim
beyond.

One conformal polygonal mesh: the tops of the layers and the clipped squares share their points. Verified by
tests/test_clipped.py and validation/clipped.py.
"""

import itertools
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from zephyrum._core.validation import choice, number, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError, MeshError
from zephyrum.mesh.clipped_2d.clipping import clip_plane
from zephyrum.mesh.clipped_2d.curves import SampledCurve, distance_to_others, divide, inside, sampled_curve
from zephyrum.mesh.clipped_2d.wall_layers import MarchingDirections, marching_directions
from zephyrum.mesh.construction import mesh_from_faces
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.ground import MAX_ATTITUDE, extruded_edges, ground_heights, ground_level, rotated_about
from zephyrum.mesh.layer_spacing import given_layers, wall_layers
from zephyrum.mesh.size_field import MAX_GROWTH, RESOLUTIONS, SIZE_GROWTH, SizeField, Zone
from zephyrum.mesh.tree import grow_tree, merged, moved_off_planes, whole_cells

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
    """A mesh about several closed curves, with one command.

    bodies: name to `Airfoil`, `Outline` or array (n, 2) of x, z [m]. resolution: "coarse", "medium", "fine", or a
    factor on all sizes (1 is medium, smaller is finer); coarse_levels: how many meshes of twice the sizes come with it,
    for the solver to start on (default: two in inviscid flow, none with wall layers, where what is carried over between
    layers that do not nest misleads it). Other options are those of `single_mesh`.

    >>> import zephyrum as zy
    >>> flap = zy.Airfoil.naca("4412").scaled(0.3).moved(1.02, -0.03)
    >>> zy.mesh_bodies({"wing": zy.Airfoil.naca("2412"), "flap": flap})  # doctest: +SKIP
    """
    factor = (
        RESOLUTIONS[choice("resolution", resolution, tuple(RESOLUTIONS))]
        if isinstance(resolution, str)
        else number("resolution", resolution, 0.02, 20.0)
    )
    mesh = single_mesh(bodies, factor, **options)
    line = [mesh]
    if coarse_levels is None:
        coarse_levels = 0 if options.get("layers") or options.get("y_plus") else 2
    for k in range(whole("coarse_levels", coarse_levels, 0, 5)):
        if line[-1].n_cells < MIN_COARSE_CELLS:
            break
        line.append(single_mesh(bodies, 2.0 ** (k + 1) * factor, **options))
    for k in range(len(line) - 2, -1, -1):
        line[k] = line[k].with_coarser(line[k + 1])
    return line[0]


def single_mesh(
    bodies: dict,
    factor: float = 1.0,
    y_plus: float | None = None,
    reynolds: float | None = None,
    layers: tuple[float, float, int] | None = None,
    farfield: float = 50.0,
    ground: float | None = None,
    growth: float = SIZE_GROWTH,
    zones: tuple[Zone, ...] = (),
    sizes: dict[str, float] | None = None,
    alpha: tuple[float, float] = (0.0, 0.0),
    wake: float = 0.0,
    reference: str | None = None,
    chord: float | None = None,
    attitude: float = 0.0,
    ground_layers: bool | None = None,
) -> Mesh:
    """One mesh of `mesh_bodies`, all sizes times `factor`.

    Layers: either `y_plus` with `reynolds` (on the reference chord), or (first height [m], growth, count); without
    either three even ones, for inviscid flow. farfield in chords; ground: z [m] of a level ground under the bodies as
    they are given. attitude: angle [deg] by which the bodies are turned nose-up about the quarter chord of the
    reference body; the wind at this alpha blows along x, over a ground level along it, whose clearance of the lowest
    point is kept. ground_layers: whether the ground gets layers too; by default where the bodies have them for flow
    with friction. growth: of the cell size with distance; zones: see `Zone`; sizes: edge length [m] of single bodies.
    wake: chords behind the last body with finer cells, along the wind for all of `alpha` (low, high) [deg]. reference:
    the body that gives the chord (default: the longest), or `chord` [m] as typed.
    """
    if not isinstance(bodies, dict) or not bodies:
        raise InputError(
            'bodies should be a dictionary of names and shapes, for example {"wing": Airfoil.naca("2412")}.'
        )
    reserved = {"farfield", "ground"} & set(bodies)
    if reserved:
        raise InputError(f"a body can't be called {reserved.pop()!r}; that is a boundary of the domain.")
    curves = [sampled_curve(name, shape) for name, shape in bodies.items()]
    main = curves[int(np.argmax([c.chord for c in curves]))]
    if reference is not None:
        main = curves[list(bodies).index(choice("reference", reference, tuple(bodies)))]
    length = main.chord if chord is None else number("chord", chord, 0.0, open_low=True)
    farfield = number("farfield", farfield, 2.0, 1e4) * length
    number("growth", growth, 0.02, 1.0)
    # the whole field of sizes is scaled, also where it has grown, so that finer meshes are of one family
    growth = min(factor * growth, max(growth, MAX_GROWTH))
    zones = tuple(zone.scaled(factor) for zone in zones)
    parts = {}
    for name, own in (sizes or {}).items():
        parts[choice("sizes", name, tuple(bodies))] = factor * number(f"size of {name}", own, 0.0, open_low=True)
    pivot = np.array([main.nose[0] + 0.25 * length, main.nose[1]])
    curves, ground = _turned(curves, pivot, attitude, ground)
    spec = _layers(layers, y_plus, reynolds, length, factor)
    depths = _ground_depths(curves, ground, spec, ground_layers, factor * SIZE * length)
    if ground is not None:  # the squares stand on the layers of the ground
        ground += depths[-1]
    _refuse_touching(curves, ground)
    for curve in curves:
        parts.setdefault(curve.name, factor * SIZE * curve.chord)
    divided = divide(curves, parts, np.radians(factor * MAX_TURN), SHARPEST, AT_CORNERS, IN_GAPS, ground)
    zones = (*zones, *_wake(divided, wake, alpha, length))
    room = [distance_to_others(curve.points, curves, k, ground) for k, curve in enumerate(divided)]
    directions = marching_directions(divided, spec, room)
    fronts = [direction.front for direction in directions]
    last: MeshError | None = None
    for attempt in range(MAX_GRID_SHIFTS):
        try:
            mesh = _assembled(divided, directions, fronts, farfield, ground, growth, zones, attempt, depths)
            break
        except MeshError as cause:
            last = cause
    else:
        raise last
    nose = (float(pivot[0]) - 0.25 * length, 0.0, float(pivot[1]))
    source = "typed" if chord is not None else f"measured on {main.name!r}"
    recipe = {
        "kind": "clipped",
        "bodies": len(bodies),
        "resolution": factor,
        "growth": growth,
        "farfield_chords": farfield / length,
        "layers": spec[2],
    }
    if y_plus is not None:
        recipe |= {"y_plus": float(y_plus)}
    if np.isfinite(spec[0]):
        recipe |= {"first_height": spec[0], "layer_growth": spec[1]}
    if ground is not None:
        recipe |= {"ground": float(ground - depths[-1]), "ground_layers": len(depths) - 1, "attitude": attitude}
    return replace(mesh, reference=Reference.of_section(length, nose, 1.0, source), recipe=recipe, attitude=attitude)


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


def _layers(layers, y_plus, reynolds, chord, factor) -> tuple[float, float, int]:
    """(first height [m], growth, count)."""
    if layers is not None:
        if y_plus is not None:
            raise InputError("give either layers or y_plus, not both.")
        return given_layers(layers)
    if y_plus is None:
        return np.inf, 1.0, INVISCID_LAYERS
    if reynolds is None:
        raise InputError(f"y_plus = {y_plus:g} needs the Reynolds number on the chord; give reynolds.")
    ratio = 1.2 ** min(factor, 2.0)
    first = wall_layers(reynolds, y_plus, ratio).first_height * chord * min(factor, 1.0)
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
                hit = inside(b.points, a.points)
                if hit.any():
                    raise InputError(
                        f"bodies {one.name!r} and {other.name!r} overlap at x, z = {b.points[np.argmax(hit)].round(5)} "
                        f"m; move them apart."
                    )


def _wake(divided, length_in_chords, alpha, chord) -> list[Zone]:
    """A zone behind the last body that covers the directions of the wind."""
    far = number("wake", length_in_chords, 0.0, 1000.0) * chord
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


def _assembled(
    divided,
    directions: list[MarchingDirections],
    fronts,
    farfield,
    ground,
    growth,
    zones,
    attempt: int,
    depths: np.ndarray,
) -> Mesh:
    """One try: tree, clipping, layers, merging, faces."""
    front = np.concatenate(fronts)
    starts = np.cumsum([0, *map(len, fronts)])
    follow = np.concatenate([np.r_[np.arange(a + 1, b), a] for a, b in itertools.pairwise(starts)])
    long = np.linalg.norm(front[follow] - front, axis=1)
    before = np.concatenate([np.roll(long[a:b], 1) for a, b in itertools.pairwise(starts)])
    target = SQUARE_TO_LAYER_RATIO * np.maximum(long, before)
    positions = np.stack([front[:, 0], np.zeros(len(front)), front[:, 1]], axis=1)
    field = SizeField(positions, target, growth, zones)
    finest = 0.5 * float(min(target.min(), min((z.size for z in zones), default=np.inf)))
    midpoint = 0.5 * (front.min(axis=0) + front.max(axis=0))
    side, count = whole_cells(2.0 * farfield, target)
    rng = np.random.default_rng(attempt)
    shift = rng.uniform(-1.0, 1.0, 2) * finest * (1.0 if attempt else 0.37)
    origin = midpoint - 0.5 * side * count + shift
    if ground is not None:
        origin[1] = ground
    tree = grow_tree(origin, side, field, finest, count)
    front = moved_off_planes(front, tree)
    clipped = clip_plane(tree, front, np.stack([np.arange(len(front)), follow], axis=1))
    return _joined(clipped, tree, divided, directions, starts, ground, depths)


def _joined(clipped, tree, divided, directions, starts, ground, depths: np.ndarray) -> Mesh:
    """Layers and clipped squares in one mesh, small cells merged, with the layers on the ground."""
    points = [clipped.points]
    count, index = [np.diff(clipped.start)], [clipped.index]
    group_of: dict[tuple[int, int], int] = {}
    total = len(clipped.points)
    made = len(clipped.start) - 1
    for k, curve in enumerate(divided):
        direction = directions[k]
        r, n = len(direction.base), direction.height.shape[1] - 1
        wall = total + np.arange(len(curve.points))
        points.append(curve.points)
        total += len(curve.points)
        inner = curve.points[direction.base][:, None] + direction.height[:, 1:-1, None] * direction.direction[:, None]
        nodes = np.empty((r, n + 1), dtype=np.int64)
        nodes[:, 0] = wall[direction.base]
        nodes[:, 1:n] = total + np.arange(r * (n - 1)).reshape(r, n - 1)
        nodes[:, n] = starts[k] + np.arange(r)
        points.append(inner.reshape(-1, 2))
        total += r * (n - 1)
        after = np.roll(nodes, -1, axis=0)
        for i in range(r):
            for j in range(n):
                ring = [nodes[i, j], after[i, j]] if nodes[i, j] != after[i, j] else [nodes[i, j]]
                ring.append(after[i, j + 1])
                if j == n - 1:
                    ring += clipped.pieces[starts[k] + i][-2:0:-1]
                ring.append(nodes[i, j + 1])
                count.append([len(ring)])
                index.append(ring)
            a, b = int(nodes[i, 0]), int(after[i, 0])
            if a != b:
                group_of[min(a, b), max(a, b)] = k
    counts = np.concatenate(count)
    index = np.concatenate([np.asarray(part, dtype=np.int64) for part in index])
    xz = np.concatenate(points)
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
    # edges seen from both sides
    key = np.minimum(index, after) * len(xz) + np.maximum(index, after)
    order = np.argsort(key, kind="stable")
    key, a, b, own = key[order], index[order], after[order], cell[order]
    first = np.flatnonzero(np.r_[True, key[1:] != key[:-1]])
    twin = np.diff(np.r_[first, len(key)])
    if twin.max() > 2:
        raise MeshError(f"three cells share an edge near x, z = {xz[a[first[np.argmax(twin)]]].round(6)} m.")
    other = np.full(len(first), -1)
    other[twin == 2] = own[first[twin == 2] + 1]
    a, b, own = a[first], b[first], own[first]
    # small cells of squares go to the neighbour across their longest edge
    square = np.full(len(counts), np.inf)
    square[:made] = tree.side[clipped.leaf] ** 2 * tree.unit.prod()
    small = np.zeros(len(counts), dtype=bool)
    small[:made] = area[:made] < SMALL_CELL_FRACTION * square[:made]
    long = np.linalg.norm(xz[a] - xz[b], axis=1)
    inner = np.flatnonzero((other >= 0) & (own < made) & (other < made))
    into = merged(small, own[inner], other[inner], long[inner])
    for group in _tangential_cells(into, a, b, own, other):
        into[group] = group
    cells = np.unique(into, return_inverse=True)[1]
    own, other = cells[own], np.where(other >= 0, cells[np.maximum(other, 0)], -1)
    keep = own != other
    a, b, own, other = a[keep], b[keep], own[keep], other[keep]
    tag = np.full(len(a), -1)
    groups = [(curve.name, "wall") for curve in divided] + [("farfield", "farfield"), ("ground", "ground")]
    outer = np.flatnonzero(other < 0)
    for e in outer:
        tag[e] = group_of.get((min(a[e], b[e]), max(a[e], b[e])), -1)
    rest = outer[tag[outer] < 0]
    low, high = tree.origin, np.array([float(tree.coordinates(axis, tree.limit[axis])) for axis in (0, 1)])
    for axis, side in ((0, low), (0, high), (1, low), (1, high)):
        on = (xz[a[rest], axis] == side[axis]) & (xz[b[rest], axis] == side[axis])
        tag[rest[on]] = len(divided) + (1 if ground is not None and axis == 1 and side is low else 0)
    if (tag[outer] < 0).any():
        bad = outer[tag[outer] < 0][0]
        raise MeshError(f"an edge near x, z = {xz[a[bad]].round(6)} m belongs to one cell only.")
    if len(depths) > 1:
        kinds = len(divided) + 1, len(divided)
        xz, a, b, own, other, tag = extruded_edges(
            xz, a, b, own, other, tag, *kinds, int(max(own.max(), other.max())) + 1, depths
        )
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
