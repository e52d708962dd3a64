"""The volume mesh of a complete aircraft, one command: body in, mesh out.

Rays off the surface, an octree clipped exactly by the surface through their tips, and under every clipped cube a column
of layer cells down to the wall (see `columns` and `stacks`): the mesh is conformal, and faces are square to the lines
between cells. Even an inviscid mesh gets a few even layers: at a sharp tail no cell then lies on both sides, without
which the flow would leak round it. Verified by tests/test_clipped.py and validation/clipped.py.
"""

import logging
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.validation import Many, number, refuse_unknown, set_fields, taken, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.clipped_3d.assembly import joined_faces
from zephyrum.mesh.clipped_3d.clipping import ClippedCubes, clip_cubes
from zephyrum.mesh.clipped_3d.prism_layers import PrismLayers, grow_prisms
from zephyrum.mesh.clipped_3d.spanwise_lengths import WallSamples, sizes_across, sizes_at_points
from zephyrum.mesh.clipped_3d.untangling import untangle_vertices
from zephyrum.mesh.construction import mesh_from_kept
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.ground import ground_heights, ground_level, rotated_about, with_ground_layers
from zephyrum.mesh.layer_spacing import given_layers
from zephyrum.mesh.size_field import SIZE_GROWTH, PartZone, SizeField, Zone
from zephyrum.mesh.tree import Tree, grow_tree, moved_off_planes, whole_cells

CUBE_TO_LAYER_RATIO = 1.0  # side of the cubes over the edge of the layers' outer side
INVISCID_LAYERS = 2  # layers of an inviscid mesh
WAKE_START_SIZE = 1.5  # cubes of the wake where it begins, over the median of those at the surface
WAKE_GROWTH = 0.08  # of their size along the wind
WAKE_LINE_SPACING = 0.02  # of the surface's extent: how close together the lines of the wake begin
WIND_ANGLE_STEP = 4.0  # deg between the winds that a wake is refined for
MAX_GRID_SHIFTS = 4  # tries with the grid moved before the layers are thinned
log = logging.getLogger(__name__)


@dataclass(frozen=True, eq=False)
class SurfaceMeshOptions:
    """Options of a volume mesh about a surface.

    Attributes
    ----------
    farfield : float
        Distance of the outer boundary, in sizes of the surface.
    layers : tuple, optional
        (first height [m], growth, count). Without layers there are two even ones for inviscid flow.
    growth : float
        Growth of the cell size with distance.
    zones : tuple of Zone
        Regions of smaller cells.
    half : bool, optional
        True refuses a surface that is not cut at y = 0.
    reference : Reference, optional
        Reference quantities of the mesh.
    scale : float or (n,) array
        Factor on the sizes of the cells that the triangles ask for, at the points of the surface: above 1 where the
        triangles are smaller than the cells are to be.
    ground : float, optional
        z [m] of a level ground under the surface as it is given. It has layers where the surface has layers for viscous
        flow.
    wake : float
        Length [m] of the finer cells behind the surface, along the wind.
    alpha : tuple of float
        (low, high) [deg] that the wake covers.
    aspect_y : int
        1 or 2: length of the cells along y over that across.
    longest_y : float, optional
        Longest cells along y [m], beside walls that run along y (see `spanwise_lengths`); without it all have the ratio
        `aspect_y`.
    attitude : float
        Angle [deg] nose-up by which the surface is turned about the reference point, at which the wind blows along the
        ground; the clearance of the lowest point is kept.
    separate : tuple of str
        Labels of the surface that become wall groups of their own, such as the face of an intake; all others become the
        group of their part.

    Raises
    ------
    InputError
        A value is out of its range.

    Examples
    --------
    >>> SurfaceMeshOptions(farfield=5.0).growth > 0.0
    True
    """

    farfield: float = 10.0
    layers: tuple[float, float, int] | None = None
    growth: float = SIZE_GROWTH
    zones: tuple[Zone, ...] = ()
    half: bool | None = None
    reference: Reference | None = None
    scale: np.ndarray | float = 1.0
    ground: float | None = None
    wake: float = 0.0
    alpha: tuple[float, float] = (0.0, 0.0)
    aspect_y: int = 1
    longest_y: float | None = None
    attitude: float = 0.0
    separate: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        set_fields(self, separate=taken("separate", self.separate, Many(str)))
        for name, kind in {"reference": Reference, "ground": float, "longest_y": float}.items():
            if getattr(self, name) is not None:
                set_fields(self, **{name: taken(name, getattr(self, name), kind)})
        set_fields(
            self,
            farfield=number("farfield", self.farfield, 1.0, 1e4),
            growth=number("growth", self.growth, 0.02, 1.0),
            zones=taken("zones", self.zones, Many(Zone)),
            wake=number("wake", self.wake, 0.0),
            alpha=taken("alpha", self.alpha, Many(float, 2)),
            attitude=number("attitude", self.attitude),
            aspect_y=whole("aspect_y", self.aspect_y, 1, 2),
        )
        if self.longest_y is not None:
            number("longest_y", self.longest_y, 0.0, open_low=True)
        given = self.scale if isinstance(self.scale, np.ndarray) else number("scale", self.scale, 0.0, open_low=True)
        set_fields(self, scale=np.asarray(given, dtype=float))
        if not (np.isfinite(self.scale) & (self.scale > 0.0)).all():
            raise InputError("scale: give finite factors above 0.")

    @property
    def layer_spec(self) -> tuple[float, float, int]:
        """(first height [m], growth, count); an infinite height stands for even layers of inviscid flow.

        Examples
        --------
        >>> SurfaceMeshOptions().layer_spec
        (inf, 1.0, 2)
        """
        return (np.inf, 1.0, INVISCID_LAYERS) if self.layers is None else given_layers(self.layers)


@takes(surface=Surface)
def mesh_surface(surface: Surface, **options) -> Mesh:
    """Mesh the space about an even surface mesh.

    Parameters
    ----------
    surface : Surface
        Made by `remesh`; closed, or open along y = 0 (a half model). Its parts become the wall groups.
    **options
        Fields of `SurfaceMeshOptions`.

    Returns
    -------
    Mesh

    Raises
    ------
    InputError
        For bad input, such as a surface with a hole.
    MeshError
        For a mesh that cannot be made, with the position.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 400, stretch=1.0).surface  # doctest: +SKIP
    >>> zy.mesh_surface(ball, farfield=5.0, growth=0.4)  # doctest: +SKIP
    """
    refuse_unknown(SurfaceMeshOptions, options, "a mesh about a surface")
    wanted = SurfaceMeshOptions(**options)
    open_half = _is_half(surface, wanted.half)
    if unknown := [name for name in wanted.separate if name not in surface.labels]:
        raise InputError(
            f"separate: the surface has no label {unknown[0]!r}; it has: {', '.join(sorted(surface.labels))}."
        )
    count = len(surface.points)
    if np.shape(wanted.scale) not in ((), (count,)):
        raise InputError(
            f"scale has the shape {np.shape(wanted.scale)}; give one factor or one for each of the {count} points of "
            f"the surface."
        )
    pivot = (0.0, 0.0, 0.0) if wanted.reference is None else wanted.reference.point
    turned = replace(surface, points=rotated_about(surface.points, pivot, wanted.attitude))
    ground, depths = wanted.ground, np.zeros(1)
    if ground is not None:
        ground = ground_level(ground, surface.points, turned.points)
    surface = turned if wanted.attitude else surface
    spec = wanted.layer_spec
    if ground is not None and np.isfinite(spec[0]):
        clearance = float(surface.bounds[0, 2]) - ground
        heights = ground_heights(spec[0], spec[1], clearance, float(np.median(local_edges(surface))))
        depths = heights[-1] - heights[::-1]
        ground += depths[-1]  # the cubes stand on the layers of the ground
    bound = replace(wanted, ground=ground)
    try:
        made = _layers_and_cubes(surface, bound, open_half)
    except MeshError as cause:
        cause.surface = surface
        raise
    mesh = made.mesh
    if len(depths) > 1:
        mesh = with_ground_layers(mesh, depths)
    recipe = _recipe(surface, bound, open_half, made)
    if ground is not None:
        recipe |= {"ground": float(ground - depths[-1]), "ground_layers": len(depths) - 1, "attitude": wanted.attitude}
    corners = np.einsum("tkj,tj->tk", made.prisms.direction[made.even.triangles], made.even.normals)
    recipe |= {"corner_cosine": [round(float(np.quantile(corners, fraction)), 4) for fraction in (0.0, 1e-3)]}
    return replace(mesh, reference=wanted.reference, recipe=recipe, attitude=wanted.attitude)


def _is_half(surface: Surface, half: bool | None) -> bool:
    """Whether the surface is a half model; refuses one that is open elsewhere, and reserved names of parts."""
    rim = surface.open_edges
    open_half = bool(len(rim))
    if open_half and np.abs(surface.points[np.unique(rim), 1]).max() > 0.0:
        position = surface.points[np.unique(rim)][np.argmax(np.abs(surface.points[np.unique(rim), 1]))]
        raise InputError(
            f"surface {surface.name!r} is open at {position.round(5)} m, off the plane y = 0; repair it first."
        )
    if half is not None and half != open_half:
        raise InputError("half = True needs a surface cut at y = 0, such as Aircraft.surface(half=True).")
    if {"farfield", "symmetry", "ground"} & set(surface.parts):
        raise InputError("a part of the surface can't be called farfield, symmetry or ground; rename it.")
    return open_half


@dataclass(frozen=True, eq=False)
class _Made:
    """A mesh, the surface that its layers start from, the layers, how far its points were moved (n,) [m], and how many
    attempts were needed.
    """

    mesh: Mesh
    even: Surface
    prisms: PrismLayers
    moved: np.ndarray
    attempts: int


def _recipe(surface: Surface, options: SurfaceMeshOptions, half: bool, made: _Made) -> dict:
    """How the mesh was made, for its file."""
    spec = options.layer_spec
    recipe = {
        "kind": "clipped",
        "surface": surface.fingerprint,
        "triangles": len(surface.triangles),
        "half": half,
        "layers": spec[2],
        "growth": options.growth,
        "aspect_y": options.aspect_y,
        "longest_y": options.longest_y,
        "farfield_sizes": options.farfield,
        "tries": made.attempts,
        "layer_coverage": round(float((made.prisms.thickness_fraction >= 0.5).mean()), 5),
        "points_out": len(surface.points) - len(made.moved),
        "points_moved": int((made.moved > 0.0).sum()),
        "moved": round(float(made.moved.max()), 6),
    }
    return recipe | ({"first_height": spec[0], "layer_growth": spec[1]} if np.isfinite(spec[0]) else {})


def _layers_and_cubes(surface: Surface, options: SurfaceMeshOptions, half: bool) -> _Made:
    """Layers and cubes; after a failure once more with the grid moved, and at last with thinner layers."""
    even, moved = untangle_vertices(surface)
    if len(even.points) < len(surface.points) or moved.any():
        log.info(
            "%d points taken out, %d moved by up to %.2g m so that layers can start",
            len(surface.points) - len(moved),
            (moved > 0.0).sum(),
            moved.max(),
        )
    last: MeshError | None = None
    spec = options.layer_spec
    if np.ndim(options.scale):  # some points are gone
        options = replace(options, scale=np.asarray(options.scale)[cKDTree(surface.points).query(even.points)[1]])
    space = OuterMesh(even, options, half, bind_zones(options.zones, surface, options.aspect_y))
    prisms = grow_prisms(even, spec, space.edges(even))
    for attempt in range(2 * MAX_GRID_SHIFTS):
        if attempt == MAX_GRID_SHIFTS:
            log.info("layers thinned to half their height after %s failures: %s", MAX_GRID_SHIFTS, last)
            prisms = PrismLayers(prisms.direction, 0.5 * prisms.height, 0.5 * prisms.thickness_fraction)
        try:
            cubes, tree = space.filled(prisms, attempt)
            ground = options.ground is not None
            faces = joined_faces(even, prisms, np.isinf(spec[0]), cubes, tree, half, ground, options.separate)
            return _Made(mesh_from_kept(*faces), even, prisms, moved, attempt + 1)
        except MeshError as cause:
            log.info("attempt %d: %s", attempt + 1, cause)
            last = cause.with_traceback(None)  # which would keep all that was made
    raise last


def local_edges(surface: Surface) -> np.ndarray:
    """Mean edge length of the equilateral triangles as large as those round every point.

    Parameters
    ----------
    surface : Surface
        Surface with n points.

    Returns
    -------
    (n,) array
        [m]

    Examples
    --------
    >>> from zephyrum import Body
    >>> edges = local_edges(Body.box(1.0, 1.0, 1.0).surface())
    >>> bool((edges > 0.0).all())
    True
    """
    return sizes_at_points(surface, sizes_across(surface, directional=False))


def bind_zones(zones: Iterable[Zone], surface: Surface, aspect_y: int = 1) -> tuple:
    """Zones of which those about a part know its points; their size is that of the longest side.

    Parameters
    ----------
    zones : iterable of Zone
        Zones.
    surface : Surface
        Surface with the parts.
    aspect_y : int, optional
        Length of the cells along y over that across.

    Examples
    --------
    >>> from zephyrum import Body
    >>> zone = Zone(size=0.1, box=((0, 0, 0), (1, 1, 1)))
    >>> len(bind_zones((zone,), Body.box(1.0, 1.0, 1.0).surface()))
    1
    """
    out = []
    for zone in zones:
        zone = zone.scaled(1.0 / aspect_y)
        if zone.part is not None:
            if zone.part not in surface.parts:
                raise InputError(f"the surface has no part {zone.part!r}; it has: {', '.join(surface.parts)}.")
            zone = PartZone(zone, surface.points[np.unique(surface.triangles[surface.belongs(zone.part)])])
        out.append(zone)
    return tuple(out)


@dataclass(frozen=True, eq=False)
class OuterMesh:
    """The space outside the layers: its extent and the sizes of its cubes.

    Attributes
    ----------
    surface : Surface
    options : SurfaceMeshOptions
        Its ground is the one that the cubes stand on.
    half : bool
        Whether the domain ends at y = 0.
    zones : tuple
        Zones bound to the surface (see `bind_zones`).
    """

    surface: Surface
    options: SurfaceMeshOptions
    half: bool
    zones: tuple = ()

    def edges(self, surface: Surface) -> np.ndarray:
        """(n,) sizes of the cells at the points of a surface [m]: across y, if cells may be longer along it.

        Parameters
        ----------
        surface : Surface
            Surface that the layers start from, or that of their tips.
        """
        across = sizes_across(surface, self.options.aspect_y, self.options.longest_y is not None)
        return self.options.scale * sizes_at_points(surface, across)

    @property
    def stretch(self) -> np.ndarray:
        """(3,) least length of the cells along each axis over that across y."""
        return np.array([1.0, self.options.aspect_y, 1.0])

    def tree(self, samples: WallSamples, attempt: int = 0) -> Tree:
        """Octree about the tips of the layers.

        Parameters
        ----------
        samples : WallSamples
            Pieces of the surface through the tips.
        attempt : int, optional
            Number of the attempt, which moves the grid.
        """
        factor, longest = CUBE_TO_LAYER_RATIO, self.options.longest_y
        target, (points, sizes) = factor * samples.typical, samples.sources
        wake, wake_sizes = wake_points(points, factor * sizes, self.options.wake, self.options.alpha)
        field = SizeField(
            np.concatenate([points, wake]),
            np.concatenate([factor * sizes, wake_sizes]),
            self.options.growth,
            self.zones,
        )
        finest = 0.5 * float(min(target.min(), min((z.size for z in self.zones), default=np.inf)))
        side, count = whole_cells(2.0 * self.options.farfield * self.surface.size, target)
        rng = np.random.default_rng(attempt)
        shift = finest * (np.array([0.37, 0.41, 0.43]) if attempt == 0 else rng.uniform(-1.0, 1.0, 3))
        counts = np.maximum(count // self.stretch.astype(np.int64), 1)
        origin = self.surface.midpoint - 0.5 * side * self.stretch * counts + shift
        if self.half:
            origin[1] = 0.0
        if self.options.ground is not None:
            origin[2] = self.options.ground
        lengths = None
        if longest is not None:
            lengths = samples.lengths(self.options.aspect_y, longest).with_zones(self.options.zones, self.surface)
        return grow_tree(origin, side, field, finest, counts, stretch=self.stretch, length_y=lengths)

    def filled(self, prisms: PrismLayers, attempt: int) -> tuple[ClippedCubes, Tree]:
        """Clipped cubes outside the layers, and their octree.

        Parameters
        ----------
        prisms : PrismLayers
            Layers.
        attempt : int
            Number of the attempt, which moves the grid.
        """
        tips = prisms.points(self.surface, prisms.height.shape[1] - 1)
        sizes = self.edges(replace(self.surface, points=tips))
        if self.options.layers is None and self.options.longest_y is not None:
            # round noses: their outer side is larger than the wall. Half wings of aspect ratio 6 on 56k to 59k cells,
            # spurious drag in counts with the sizes of the outer side alone and with this: unswept 3.4 and 2.8, swept
            # by 30 deg 7.5 and 5.7; unswept on 26k and 27k cells 7.7 and 5.5. With bodies it does not pay: half
            # Skerry, 22k to 25k cells, 117 to 131 and 99 to 142
            sizes = np.minimum(sizes, self.edges(self.surface))
        tree = self.tree(WallSamples.of(self.surface, sizes, tips), attempt)
        return clip_cubes(tree, moved_off_planes(tips, tree), self.surface.triangles), tree


def wake_points(
    points: np.ndarray, sizes: np.ndarray, length: float, alpha: tuple[float, float]
) -> tuple[np.ndarray, np.ndarray]:
    """Points and sizes of the finer cells behind a body.

    Parameters
    ----------
    points : (n, 3) array
        Points of the body [m].
    sizes : (n,) array
        [m]
    length : float
        Length of the wake [m].
    alpha : tuple[float, float]
        (low, high) angles of the wind [deg].

    Returns
    -------
    points : (k, 3) array
        [m]
    sizes : (k,) array
        [m]

    Examples
    --------
    >>> points = np.array([[0.0, 0.0, 0.0], [1.0, 1.0, 1.0]])
    >>> more, sizes = wake_points(points, np.full(2, 0.1), 2.0, (0.0, 0.0))
    >>> float(more[:, 0].max()) > 1.0
    True
    """
    low, high = sorted(number("alpha", a, -90.0, 90.0) for a in alpha)
    if number("wake", length, 0.0) == 0.0:
        return np.zeros((0, 3)), np.zeros(0)
    positions, made = [], []
    for angle in np.radians(np.linspace(low, high, 1 + int(np.ceil((high - low) / WIND_ANGLE_STEP)))):
        wind = np.array([np.cos(angle), 0.0, np.sin(angle)])
        across = np.stack([points[:, 1], points[:, 2] * np.cos(angle) - points[:, 0] * np.sin(angle)], axis=1)
        tile = np.round(across / (WAKE_LINE_SPACING * np.ptp(across, axis=0).max())).astype(np.int64)
        order = np.lexsort((-(points @ wind), tile[:, 1], tile[:, 0]))
        first = np.r_[True, (np.diff(tile[order], axis=0) != 0).any(axis=1)]
        tails = order[first]
        far = np.zeros(len(tails))
        size = WAKE_START_SIZE * np.median(sizes) * np.ones(len(tails))
        while (far < length).any():
            live = far < length
            positions.append(points[tails[live]] + far[live, None] * wind)
            made.append(size[live])
            far = far + 0.7 * size
            size = size * (1.0 + 0.7 * WAKE_GROWTH)
    return np.concatenate(positions), np.concatenate(made)
