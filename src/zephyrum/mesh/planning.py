"""A mesh of an aircraft by intent: coarse, medium, fine, or about so many cells, with a forecast before it is made.

One factor multiplies every size: edges of the surface, growth of the cubes with distance, steps of the layers. So
meshes of different factors are one family, and a mesh study only has to ask for the same shape at another factor.
Verified by tests/test_planned.py.
"""

import logging
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.validation import Many, choice, number, refuse_unknown, set_fields, taken, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError
from zephyrum.geometry import Aircraft, SizeZone, Surface, joined, remesh
from zephyrum.geometry.aircraft.propeller import one_sided
from zephyrum.geometry.surface.feature_lines import Features, find_features
from zephyrum.geometry.surface.metric_field import aspect_along_y, equilateral_edges, sizes_for, stretch_limits
from zephyrum.geometry.surface.remeshing import LARGEST_EDGE
from zephyrum.geometry.surface.solids import EXACT_TOLERANCE, asymmetry, half_surface, projection
from zephyrum.geometry.surface.surface_import import attitude_warnings
from zephyrum.mesh.clipped_3d.generation import (
    INVISCID_LAYERS,
    OuterMesh,
    SurfaceMeshOptions,
    bind_zones,
)
from zephyrum.mesh.clipped_3d.spanwise_lengths import WallSamples, directional_sizes, sizes_at_points
from zephyrum.mesh.ground import MAX_ATTITUDE, ground_level
from zephyrum.mesh.layer_spacing import first_height, given_layers
from zephyrum.mesh.size_field import MAX_GROWTH, RESOLUTIONS, Zone
from zephyrum.mesh.tree import leaves_at

BASE_TRIANGLES = 14_000  # of a half model at factor 1, twice as many of a whole one
MIN_TRIANGLES = 500
# of the cubes with distance, at factor 1: the drag error of a wing hangs on its triangles, hardly on this
BASE_GROWTH = 0.4
# of the layers, at factor 1: what it costs (0.4 % of the drag of a section) is little beside what fewer triangles
# cost
LAYER_RATIO = 1.5
LAYER_RATIO_FACTORS = (0.25, 1.0)  # between which it follows the factor
LAST_LAYER_HEIGHT = 0.5  # height of the last layer over the edge of the surface
MAX_TRIANGLE_ASPECT = 4.0
# the same where the wall runs along y and cells are longer along y. Rectangular wing of aspect ratio 6, 22k cells:
# spurious drag 21 counts with 4, 13 with 10 and with 20
MAX_SPANWISE_ASPECT = 20.0
# aspect ratio of the shadow from above from which cells are longer along y: more of them go round the sections
WING_ASPECT_RATIO = 3.0
# part of the wall that must run along y, with an aspect ratio of its cells, for cells longer than twice their size
# across. With bodies they do not pay: half Skerry, inviscid, alpha 4, spurious counts without and with them: 82 and 114
# at 22k to 24k cells, 74 and 53 at 30k to 33k, 42 and 34 at 80k; but CD on meshes of 78k, 28k and 19k cells falls from
# 0.0439 to 0.0263 +- 0.0527, without them on 80k, 40k and 23k from 0.0366 to 0.0262 +- 0.0052
MIN_FRACTION_ALONG, MIN_ASPECT_ALONG = 0.9, 4.0
MAX_DEVIATION = 0.001  # of the local chord: distance of the edges of the triangles from the shape
LONGEST_SPAN_FRACTION = 1.0 / 60.0  # of the span: longest cells along y, at factor 1
FACTOR_RANGE = (0.15, 6.0)
MAX_COARSENING = 10.0
MAX_COARSE_GROWTH = 0.8  # of the cubes in coarsened meshes: with 1 a level is skipped beside the wall
WITHIN = 0.04  # of the cells asked for: a plan that is good enough
COLUMNS_PER_FACE = 1.0  # columns of layers for every face of a cell that the surface is large
LOST_CUBES = 0.6  # cubes inside or merged with a neighbour, for every one of these
# cells across a propeller disk and its slipstream, and how far they reach from it, in diameters
DISK_CELLS, SLIPSTREAM_CELLS, DISK_ZONE, SLIPSTREAM_ZONE = 24.0, 18.0, 0.15, 1.5
# what a forecast is made of, from a half Skerry of a million viscous cells on two cores (55 s, 1.8 GB, 430 MB)
REMESH_SECONDS, MESH_SECONDS = 1.1e-3, 3e-5  # a triangle, a cell
MESH_BYTES, FILE_BYTES = 1_600.0, 430.0  # a cell
BASE_MEMORY = 3e8  # of the program itself
log = logging.getLogger(__name__)


@dataclass(frozen=True)
class MeshPlan:
    """Forecast of a mesh.

    Attributes
    ----------
    factor : float
        On all sizes.
    triangles, cells : int
    layers : tuple or None
        (first height [m], growth, count).
    half : bool
        Whether it is half a model.
    growth : float
        Of the cubes with distance.
    seconds, memory, disk : float
        Time to make it [s], peak memory and file size [bytes].
    size, farfield : float
        Span or length of the shape, distance of the farfield [m].
    blockage : float
        Frontal area over that of the domain.
    aspect_y : int
        Length of the cells along y over that across.
    longest_y : float, optional
        Longest cells along y [m], where the wall runs along y.
    coarsening : float
        Part of the factor by which all sizes of a finer mesh are multiplied.

    Examples
    --------
    >>> import zephyrum as zy
    >>> print(zy.plan_mesh(zy.Aircraft.read("skerry.toml"), "coarse"))  # doctest: +SKIP
    """

    factor: float
    triangles: int
    cells: int
    layers: tuple[float, float, int] | None
    half: bool
    growth: float
    seconds: float
    memory: float
    disk: float
    size: float
    farfield: float
    blockage: float
    aspect_y: int = 1
    longest_y: float | None = None
    coarsening: float = 1.0

    def __str__(self) -> str:
        walls = "no wall layers (inviscid)"
        if self.layers is not None:
            walls = f"{self.layers[2]} wall layers from {self.layers[0]:.3g} m growing by {self.layers[1]:.3g}"
        long = ", cells twice as long along the span as across" if self.aspect_y > 1 else ""
        if self.longest_y is not None:
            long = f", cells up to {self.longest_y:.3g} m long along the span"
        return (
            f"about {self.cells:,} cells on {self.triangles:,} triangles ({'half' if self.half else 'whole'} model, "
            f"factor {self.factor:.3g} on all sizes){long}, {walls}; "
            f"farfield at {self.farfield:.4g} m, blockage {100 * self.blockage:.2g} %; "
            f"to make: about {self.seconds:.0f} s, {self.memory / 1e9:.1f} GB, on disk {self.disk / 1e6:.0f} MB"
        )


@dataclass(frozen=True, eq=False)
class MeshOptions:
    """Options of a mesh about an aircraft.

    Attributes
    ----------
    half : bool, optional
        Whether half a model is meshed; without it a symmetric aircraft is, a closed surface is not.
    y_plus, reynolds : float, optional
        Wall layers by the height of the first cell in wall units, at a Reynolds number on the reference chord.
    layers : tuple, optional
        (first height [m], growth, count) at factor 1. Without layers there are two even ones for inviscid flow.
    farfield, wake : float
        Distance of the outer boundary (to within 6 %: whole cubes) and length of the finer cells behind, in spans or
        lengths, whichever is larger.
    ground : float, optional
        z [m] of a level ground under the aircraft as it is described.
    alpha : tuple of float
        (low, high) [deg] that the wake covers.
    zones : tuple of Zone
        Sizes at factor 1.
    reference : Reference, optional
    attitude : float
        Angle [deg] nose-up over the ground, the alpha of the wind; the clearance of the lowest point is kept.
    separate : tuple of str
        Labels that become wall groups of their own, such as "nacelle/front" of an intake.

    Raises
    ------
    InputError
        For a value out of its range, or for two options that contradict each other.

    Examples
    --------
    >>> MeshOptions(y_plus=1.0, reynolds=8e6).farfield
    10.0
    """

    half: bool | None = None
    y_plus: float | None = None
    reynolds: float | None = None
    layers: tuple[float, float, int] | None = None
    farfield: float = 10.0
    ground: float | None = None
    wake: float = 0.0
    alpha: tuple[float, float] = (0.0, 0.0)
    zones: tuple[Zone, ...] = ()
    reference: Reference | None = None
    attitude: float = 0.0
    separate: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        set_fields(self, separate=taken("separate", self.separate, Many(str)))
        kinds = {"y_plus": float, "reynolds": float, "ground": float, "reference": Reference}
        for name, kind in kinds.items():
            if getattr(self, name) is not None:
                set_fields(self, **{name: taken(name, getattr(self, name), kind)})
        set_fields(self, alpha=taken("alpha", self.alpha, Many(float, 2)))
        set_fields(self, zones=taken("zones", self.zones, Many(Zone)))
        set_fields(self, farfield=number("farfield", self.farfield, 1.0, 1e4))
        set_fields(self, wake=number("wake", self.wake, 0.0, 1e3))
        set_fields(self, attitude=number("attitude", self.attitude, -MAX_ATTITUDE, MAX_ATTITUDE))
        if self.layers is not None:
            set_fields(self, layers=given_layers(self.layers))
            if self.y_plus is not None:
                raise InputError("give either layers or y_plus, not both.")
        if self.y_plus is not None and self.reynolds is None:
            raise InputError(
                f"y_plus = {self.y_plus:g} needs the Reynolds number on the reference chord; give reynolds."
            )
        if self.attitude and self.ground is None and self.wake:
            raise InputError("wake has no effect on a body that is turned by attitude; leave one of them out.")

    @classmethod
    def of(cls, given: dict) -> "MeshOptions":
        """Options from keyword arguments; an unknown one is refused by name.

        Parameters
        ----------
        given : dict
            Options by name.

        Examples
        --------
        >>> MeshOptions.of({"y_plus": 1.0, "reynolds": 6e6}).y_plus
        1.0
        """
        refuse_unknown(cls, given, "a mesh about an aircraft")
        return cls(**given)


def propeller_zones(aircraft: Aircraft) -> tuple[Zone, ...]:
    """Zones of smaller cells about the propeller disks of an aircraft and in their slipstreams.

    Parameters
    ----------
    aircraft : Aircraft
        Aircraft.

    Examples
    --------
    >>> from zephyrum import Body, PropellerDisk
    >>> disk = PropellerDisk(position=(0.0, 0.0, 0.0), diameter=2.0, thrust=10.0)
    >>> craft = Aircraft(name="pod", parts={"pod": Body.capsule(3.0, 0.5)}, propellers={"tractor": disk})
    >>> [zone.size for zone in propeller_zones(craft)]
    [0.08333333333333333, 0.1111111111111111]
    """
    out = []
    for name, disk in aircraft.propellers.items():
        for one in () if disk.idle else disk.placed(name).values():
            centre, size = np.asarray(one.position), one.diameter
            ends = [
                tuple((centre + far * size * one.axis).tolist()) for far in (-DISK_ZONE, DISK_ZONE, SLIPSTREAM_ZONE)
            ]
            out.append(Zone(size / DISK_CELLS, start=ends[0], end=ends[1], radius=1.1 * one.radius))
            out.append(Zone(size / SLIPSTREAM_CELLS, start=ends[1], end=ends[2], radius=1.1 * one.radius))
    return tuple(out)


class MeshTask:
    """The shape and the options, made ready once for plan and mesh."""

    def __init__(self, aircraft: Aircraft | Surface, options: MeshOptions):
        half, reference = options.half, options.reference
        if isinstance(aircraft, Aircraft):
            options = replace(options, zones=options.zones + propeller_zones(aircraft))
            closed = aircraft.surface()
            for sentence in attitude_warnings(closed):
                log.warning("%s: %s", aircraft.name, sentence)
            if half is None:
                disks = [
                    one
                    for name, disk in aircraft.propellers.items()
                    if not disk.idle
                    for one in disk.placed(name).items()
                ]
                half = asymmetry(closed)[0] <= EXACT_TOLERANCE * closed.size
                if half and (alone := one_sided(dict(disks))):
                    log.warning("propeller %s has no mirror image: the whole of %s is meshed", alone, aircraft.name)
                    half = False
                elif not half:
                    log.warning("%s is not symmetric about the plane y = 0: the whole of it is meshed", aircraft.name)
            self.surface = half_surface(closed, tolerance=EXACT_TOLERANCE) if half else closed
            if reference is None and aircraft.has_reference:
                reference = aircraft.reference_quantities()[0]
        else:
            cut = bool(len(aircraft.open_edges))
            closed = joined([aircraft, aircraft.mirrored()], aircraft.name).welded() if cut else aircraft
            self.surface = half_surface(aircraft) if half and not cut else aircraft
        self.options, self.reference = options, reference
        self.half = bool(len(self.surface.open_edges))
        self.made = self.surface.welded()
        self.found = find_features(self.made)
        low, high = self.surface.bounds
        span = 2.0 * high[1] if self.half else high[1] - low[1]
        self.size = float(max(span, high[0] - low[0]))
        self.distance, self.wake = options.farfield * self.size, options.wake * self.size
        self.first = None if options.y_plus is None else self._first_height(options.reynolds, options.y_plus)
        if options.ground is not None:
            ground_level(options.ground, self.surface.points, self.surface.points)
        wide = span > high[0] - low[0] and span**2 > WING_ASPECT_RATIO * projection(closed, "z")
        self.aspect_y = 2 if wide else 1
        along = aspect_along_y(self.made.normals) > MIN_ASPECT_ALONG
        fraction = float(self.made.areas[along].sum() / self.made.areas.sum())
        self.directional = bool(wide and fraction > MIN_FRACTION_ALONG)
        self.blockage = projection(closed, "x") / (2.0 * self.distance) ** 2

    def _first_height(self, reynolds: float, y_plus: float) -> float:
        """Height of the first cell [m]."""
        if self.reference is None:
            raise InputError("y_plus needs a reference chord; give the aircraft or the call a reference.")
        return first_height(reynolds, y_plus) * self.reference.chord

    def layers(self, factor: float, edge: float) -> tuple[float, float, int] | None:
        """Layers of a mesh; scaled with the factor, their whole height stays.

        Parameters
        ----------
        factor : float
            Factor on all sizes.
        edge : float
            Edge length on the surface [m].

        Returns
        -------
        tuple[float, float, int]
            (first height [m], growth, count); None for inviscid flow.
        """
        if self.options.layers is not None:
            first, growth, count = self.options.layers
            return first * factor, growth**factor, max(int(np.ceil(count / factor)), 2)
        if self.first is None:
            return None
        ratio = LAYER_RATIO ** min(max(factor, LAYER_RATIO_FACTORS[0]), LAYER_RATIO_FACTORS[1])
        first = self.first * min(factor, 1.0)
        return (
            first,
            ratio,
            max(int(np.ceil(1.0 + np.log(max(LAST_LAYER_HEIGHT * edge / first, 1.0)) / np.log(ratio))), 4),
        )

    def longest_y(self, factor: float) -> float | None:
        """Longest cells along y [m]; None for cubes.

        Parameters
        ----------
        factor : float
            Factor on all sizes.
        """
        return LONGEST_SPAN_FRACTION * self.size * factor if self.directional else None

    def outer(self, surface: Surface, factor: float, coarsening: float = 1.0) -> OuterMesh:
        """Space outside the layers.

        Parameters
        ----------
        surface : Surface
            Surface that the layers start from.
        factor : float
            Factor on all sizes.
        coarsening : float, optional
            Part of it by which the sizes of a finer mesh are multiplied.
        """
        zones = tuple(zone.scaled(factor) for zone in self.options.zones)
        options = SurfaceMeshOptions(
            farfield=self.distance / surface.size,
            growth=size_growth(factor, coarsening),
            ground=self.options.ground,
            wake=self.wake,
            alpha=self.options.alpha,
            aspect_y=self.aspect_y,
            longest_y=self.longest_y(factor),
            zones=zones,
        )
        return OuterMesh(surface, options, self.half, bind_zones(zones, surface, self.aspect_y))

    @property
    def _stretch_y(self) -> float | None:
        """Largest aspect ratio of triangles where the wall runs along y."""
        return MAX_SPANWISE_ASPECT if self.directional else None

    def sizes(
        self, triangles: int, zones: tuple[SizeZone, ...] = (), coarsening: float = 1.0
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Sizes of the triangles of the surface: short, long (n,) [m] and direction of the long one (n, 3).

        Parameters
        ----------
        triangles : int
            About how many, before they are coarsened.
        zones : tuple of SizeZone, optional
            Regions with sizes of their own.
        coarsening : float, optional
            Factor on the sizes of so many.
        """
        stretch = stretch_limits(self.found, MAX_TRIANGLE_ASPECT, self._stretch_y)
        return sizes_for(self.found, triangles, None, LARGEST_EDGE * self.made.size, stretch, zones, coarsening)

    def remeshed(self, plan: MeshPlan, zones: tuple[SizeZone, ...] = ()) -> Surface:
        """The surface with the triangles of a plan.

        Parameters
        ----------
        plan : MeshPlan
            Plan.
        zones : tuple of SizeZone, optional
            Regions with sizes of their own.
        """
        return remesh(
            self.surface,
            self.triangles(plan.factor / plan.coarsening),
            stretch=MAX_TRIANGLE_ASPECT,
            stretch_y=self._stretch_y,
            zones=zones,
            coarsening=plan.coarsening,
        ).surface

    def triangles(self, factor: float) -> int:
        """Number of triangles of the surface.

        Parameters
        ----------
        factor : float
            Factor on all sizes.
        """
        return max(int(BASE_TRIANGLES * (1 if self.half else 2) / factor**2), MIN_TRIANGLES)

    def forecast(self, factor: float, coarsening: float = 1.0) -> MeshPlan:
        """Plan at a factor, from the sizes that the surface will be given.

        Parameters
        ----------
        factor : float
            Factor on all sizes.
        coarsening : float, optional
            Part of it by which the sizes of a finer mesh are multiplied.
        """
        n = self.triangles(factor / coarsening)
        sizes = self.sizes(n, (), coarsening)
        outer = self.outer(self.made, factor, coarsening)
        samples = wall_samples(self.found, sizes, self.aspect_y, self.directional)
        layers = self.layers(factor, float(np.median(samples.sizes)))
        cells = cells_of(outer, self.made, samples, INVISCID_LAYERS if layers is None else layers[2])
        triangles = int(n / coarsening**2)
        return MeshPlan(
            factor=float(factor),
            triangles=triangles,
            cells=int(cells),
            layers=layers,
            half=self.half,
            growth=outer.options.growth,
            seconds=REMESH_SECONDS * triangles + 5.0 + MESH_SECONDS * cells,
            memory=BASE_MEMORY + MESH_BYTES * cells,
            disk=FILE_BYTES * cells,
            size=self.size,
            farfield=self.distance,
            blockage=self.blockage,
            aspect_y=self.aspect_y,
            longest_y=self.longest_y(factor),
            coarsening=float(coarsening),
        )

    def chosen(self, resolution: str | float, cells: int | None, coarsening: float = 1.0) -> MeshPlan:
        """Plan for a resolution or a number of cells.

        Parameters
        ----------
        resolution : str or float
            "coarse", "medium", "fine" or a factor.
        cells : int or None
            About how many.
        coarsening : float, optional
            Factor on all sizes of the mesh of this resolution.
        """
        coarsening = number("coarsening", coarsening, 1.0, MAX_COARSENING)
        if cells is None:
            if isinstance(resolution, str):
                factor = RESOLUTIONS[choice("resolution", resolution, tuple(RESOLUTIONS))]
            else:
                factor = number("resolution", resolution, *FACTOR_RANGE)
            return self.forecast(factor * coarsening, coarsening)
        if coarsening != 1.0:
            raise InputError("coarsening is that of a resolution; leave cells out.")
        cells = whole("cells", cells, 1000, 200_000_000)
        factor = 1.0
        tried: list[MeshPlan] = []
        for _ in range(6):
            tried.append(self.forecast(factor))
            if abs(tried[-1].cells / cells - 1.0) < WITHIN:
                break
            # the count goes with a power of the factor between -2 (layers) and -3 (cubes)
            slope = -2.6
            if len(tried) > 1:
                a, b = tried[-2:]
                slope = np.clip(np.log(b.cells / a.cells) / np.log(b.factor / a.factor), -4.0, -1.5)
            factor *= float((cells / tried[-1].cells) ** (1.0 / slope))
            if not FACTOR_RANGE[0] <= factor <= FACTOR_RANGE[1]:
                # reported by the power law: a forecast of the finest mesh would take minutes
                limit = tried[-1].cells * (float(np.clip(factor, *FACTOR_RANGE)) / tried[-1].factor) ** slope
                raise InputError(
                    f"cells = {cells:,} is out of reach for this shape (the {'finest' if factor < 1 else 'coarsest'} "
                    f"sensible mesh has about "
                    f"{float(f'{limit:.1g}'):,.0f}); ask for {'fewer' if factor < 1 else 'more'}."
                )
        return min(tried, key=lambda plan: abs(plan.cells - cells))


def size_growth(factor: float, coarsening: float = 1.0) -> float:
    """Growth of the cubes with distance.

    Parameters
    ----------
    factor : float
        Factor on all sizes.
    coarsening : float, optional
        Part of it by which the sizes of a finer mesh are multiplied.

    Examples
    --------
    >>> size_growth(1.0), size_growth(2.0), size_growth(2.0, 2.0)
    (0.4, 0.5, 0.8)
    """
    return min(BASE_GROWTH * factor, coarsening * MAX_GROWTH, MAX_COARSE_GROWTH)


def wall_samples(found: Features, sizes: tuple, aspect_y: int, directional: bool) -> WallSamples:
    """Samples of a surface that will be remeshed.

    Parameters
    ----------
    found : Features
        Features of the surface.
    sizes : tuple
        (short, long, direction), see `sizes_for`.
    aspect_y : int
        Length of the cells along y over that across.
    directional : bool
        Whether cells are longer where the wall runs along y.
    """
    edges, surface = equilateral_edges(found, *sizes), found.surface
    t, along = surface.triangles, None
    if directional:
        short, long, direction = sizes
        turned = np.abs(direction[:, 1])
        along = np.sqrt((long * turned) ** 2 + short**2 * (1.0 - turned**2)) * edges / np.sqrt(short * long)
        along = along[t].mean(axis=1)
    across = directional_sizes(edges[t].mean(axis=1), along, surface.normals, aspect_y)
    return WallSamples.of(surface, sizes_at_points(surface, across), even=False)


def cells_of(outer: OuterMesh, surface: Surface, samples: WallSamples, layers: int) -> int:
    """Estimate the number of cells of a mesh.

    Parameters
    ----------
    outer : OuterMesh
        Space outside the layers.
    surface : Surface
        Surface that the layers start from.
    samples : WallSamples
        Pieces of the surface.
    layers : int
        Number of layers.
    """
    tree = outer.tree(samples)
    leaves = tree.leaves
    midpoint = tree.midpoints(leaves)
    low, high = surface.bounds
    near = ((midpoint > low) & (midpoint < high)).all(axis=1)
    _, closest = cKDTree(surface.centres).query(midpoint[near])
    away = np.einsum("ij,ij->i", midpoint[near] - surface.centres[closest], surface.normals[closest])
    outside = len(leaves) - (away < 0.0).sum()
    at = np.maximum(np.round(2.0 * (samples.points - tree.origin) / tree.unit).astype(np.int64), 0)
    there = leaves_at(at, tree.depth, tree.level_y, tree.child)
    squares = float((samples.areas / tree.squares(there, samples.normals)).sum())
    return int(COLUMNS_PER_FACE * squares * layers + outside - LOST_CUBES * squares)


@takes(aircraft=(Aircraft, Surface))
def plan_mesh(
    aircraft: Aircraft | Surface,
    resolution: str | float = "medium",
    cells: int | None = None,
    coarsening: float = 1.0,
    **options,
) -> MeshPlan:
    """Forecast of the mesh that `mesh_aircraft` makes of the same arguments; takes seconds.

    Parameters
    ----------
    aircraft, resolution, cells, coarsening
        As in `mesh_aircraft`.
    **options
        Fields of `MeshOptions`.

    Returns
    -------
    MeshPlan
        Cells, layers, time, memory and size on disk.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.Body.ellipsoid(2.0, 0.5, 0.5).surface()
    >>> zy.plan_mesh(ball, 5.0).half
    False
    """
    return MeshTask(aircraft, MeshOptions.of(options)).chosen(resolution, cells, coarsening)
