"""A mesh of an aircraft by intent: coarse, medium, fine, or about so many cells, with a forecast before it is made.

One factor multiplies every size: edges of the surface, growth of the cubes with distance, steps of the layers. So
meshes of different factors are one family, and a mesh study only has to ask for the same shape at another factor.
Verified by tests/test_planned.py.
"""

import logging
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.validation import Many, choice, number, takes, whole
from zephyrum.conditions import Reference
from zephyrum.errors import InputError, MeshError
from zephyrum.geometry import Aircraft, SizeZone, Surface, joined, remesh
from zephyrum.geometry.surface.feature_lines import find_features
from zephyrum.geometry.surface.metric_field import sizes_for, triangle_edges
from zephyrum.geometry.surface.remeshing import LARGEST_EDGE
from zephyrum.geometry.surface.solids import EXACT_TOLERANCE, asymmetry, half_surface, projection
from zephyrum.geometry.surface.surface_import import attitude_warnings
from zephyrum.mesh.clipped_3d.generation import INVISCID_LAYERS, OuterMesh, bind_zones, local_edges, mesh_surface
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.ground import MAX_ATTITUDE, ground_level
from zephyrum.mesh.layer_spacing import first_height, given_layers
from zephyrum.mesh.size_field import MAX_GROWTH, RESOLUTIONS, Zone
from zephyrum.mesh.tree import leaves_at, stretched_coordinates

BASE_TRIANGLES = 14_000  # of a half model at factor 1, twice as many of a whole one
MIN_TRIANGLES = 500
BASE_GROWTH = (
    0.4  # of the cubes with distance, at factor 1: the drag error of a wing hangs on its triangles, hardly on this
)
# of the layers, at factor 1: what it costs (0.4 % of the drag of a section) is little beside what fewer triangles
# cost
LAYER_RATIO = 1.5
LAYER_RATIO_FACTORS = (0.25, 1.0)  # between which it follows the factor
LAST_LAYER_HEIGHT = 0.5  # height of the last layer over the edge of the surface
MAX_TRIANGLE_ASPECT = 4.0
# aspect ratio of the shadow from above from which cells are made twice as long along y: more of them go round the
# sections
WING_ASPECT_RATIO = 3.0
COARSENING_FACTORS = (
    1.7,
    2.2,
)  # factor on all sizes from a mesh to the coarser one that a solution starts on, without and with layers
MAX_COARSEST_CELLS = 90_000  # cells of the coarsest of these
FACTOR_RANGE = (0.15, 6.0)
# cells that the triangles of a budget ask for, over those it pays: finer triangles cost none, and their error is
# the larger
SURFACE_REFINEMENT = 1.17
# positions that get smaller triangles, how much smaller, and how far round in edges
SPOTS, SMALLER, ROUND = 3, 0.5, 4.0
WITHIN, ENOUGH_WITHIN = 0.04, 0.1  # of the cells asked for: what is planned, and what is not done again
# columns of layers for every face of a cube, or of a cell twice as long, that the surface is large
COLUMNS_PER_FACE = {1: 0.86, 2: 0.94}
LOST_CUBES = 1.3  # cubes inside or merged with a neighbour, for every one of these
# what a forecast is made of, from a half Skerry of a million viscous cells on two cores (55 s, 1.8 GB, 430 MB)
REMESH_SECONDS, MESH_SECONDS = 1.1e-3, 3e-5  # a triangle, a cell
MESH_BYTES, FILE_BYTES = 1_600.0, 430.0  # a cell
BASE_MEMORY = 3e8  # of the program itself
log = logging.getLogger(__name__)


@dataclass(frozen=True)
class MeshPlan:
    """What a mesh will be: factor on all sizes, triangles, cells, layers (first height [m], growth, count) or None,
    half or whole;

    seconds to make it, peak memory and file size [bytes]; growth of the cubes; span and length of the shape, distance
    of the farfield [m], blockage (frontal area over that of the domain); spanwise: how much longer the cells are along
    y than across.
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
    spanwise: int = 1

    def __str__(self) -> str:
        walls = "no wall layers (inviscid)"
        if self.layers is not None:
            walls = f"{self.layers[2]} wall layers from {self.layers[0]:.3g} m growing by {self.layers[1]:.3g}"
        long = ", cells twice as long along the span as across" if self.spanwise > 1 else ""
        return (
            f"about {self.cells:,} cells on {self.triangles:,} triangles ({'half' if self.half else 'whole'} model, "
            f"factor {self.factor:.3g} on all sizes){long}, {walls}; "
            f"farfield at {self.farfield:.4g} m, blockage {100 * self.blockage:.2g} %; "
            f"to make: about {self.seconds:.0f} s, {self.memory / 1e9:.1f} GB, on disk {self.disk / 1e6:.0f} MB"
        )


class _MeshTask:
    """The shape and what is asked for, made ready once for plan and mesh."""

    def __init__(
        self, aircraft, half, y_plus, reynolds, layers, farfield, ground, wake, alpha, zones, reference, attitude=0.0
    ):
        if isinstance(aircraft, Aircraft):
            closed = aircraft.surface()
            for sentence in attitude_warnings(closed):
                log.warning("%s: %s", aircraft.name, sentence)
            if half is None:
                half = asymmetry(closed)[0] <= EXACT_TOLERANCE * closed.size
                if not half:
                    log.warning("%s is not symmetric about the plane y = 0: the whole of it is meshed", aircraft.name)
            self.surface = half_surface(closed, tolerance=EXACT_TOLERANCE) if half else closed
            self.reference = (
                aircraft.reference_quantities()[0] if reference is None and aircraft.has_reference else reference
            )
        elif isinstance(aircraft, Surface):
            cut = bool(len(aircraft.open_edges))
            closed = joined([aircraft, aircraft.mirrored()], aircraft.name).welded() if cut else aircraft
            self.surface = half_surface(aircraft) if half and not cut else aircraft
            self.reference = reference
        else:
            raise InputError(f"mesh_aircraft needs an Aircraft or a Surface, not {type(aircraft).__name__}.")
        self.half = bool(len(self.surface.open_edges))
        self.made = self.surface.welded()
        self.found = find_features(self.made)
        low, high = self.surface.bounds
        span = 2.0 * high[1] if self.half else high[1] - low[1]
        self.size = float(max(span, high[0] - low[0]))
        self.distance = number("farfield", farfield, 1.0, 1e4) * self.size
        self.typed = None if layers is None else given_layers(layers)
        if layers is not None and y_plus is not None:
            raise InputError("give either layers or y_plus, not both.")
        self.first, self.y_plus = None, y_plus
        if y_plus is not None:
            if reynolds is None:
                raise InputError(
                    f"y_plus = {y_plus:g} needs the Reynolds number on the reference chord; give reynolds."
                )
            chord = self.reference.chord if self.reference else None
            if chord is None:
                raise InputError("y_plus needs a reference chord; give the aircraft or the call a reference.")
            self.first = first_height(reynolds, y_plus) * chord
        self.attitude = number("attitude", attitude, -MAX_ATTITUDE, MAX_ATTITUDE)
        if ground is not None:
            ground_level(ground, self.surface.points, self.surface.points)
        if attitude and ground is None and wake:
            raise InputError("wake has no effect on a body that is turned by attitude; leave one of them out.")
        self.ground, self.wake, self.alpha, self.zones = (
            ground,
            number("wake", wake, 0.0, 1e3) * self.size,
            alpha,
            tuple(zones),
        )
        wide = span > high[0] - low[0] and span**2 > WING_ASPECT_RATIO * projection(closed, "z")
        self.spanwise = 2 if wide else 1
        self.blockage = projection(closed, "x") / (2.0 * self.distance) ** 2

    def layers(self, factor: float, edge: float) -> tuple[float, float, int] | None:
        """Those of a mesh of that factor whose edges are about `edge` [m]; scaled with it, their whole height stays."""
        if self.typed is not None:
            first, growth, count = self.typed
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

    def outer(self, surface: Surface, factor: float, scale: float = 1.0) -> OuterMesh:
        zones = bind_zones((zone.scaled(factor) for zone in self.zones), surface, self.spanwise)
        return OuterMesh(
            surface,
            self.distance / surface.size,
            growth_of(factor),
            zones,
            self.half,
            scale,
            self.ground,
            self.wake,
            self.alpha,
            self.spanwise,
        )

    def triangles(self, factor: float) -> int:
        return max(int(BASE_TRIANGLES * (1 if self.half else 2) / factor**2), MIN_TRIANGLES)

    def forecast(self, factor: float) -> MeshPlan:
        """The plan at a factor, from the sizes that the surface will be given."""
        n = self.triangles(factor)
        edges = triangle_edges(
            self.found, *sizes_for(self.found, n, None, LARGEST_EDGE * self.made.size, MAX_TRIANGLE_ASPECT)
        )
        outer = self.outer(self.made, factor)
        locations, edges, areas, normals = _sample_points(self.made, edges)
        edges = edges * np.sqrt(stretched_coordinates(normals, outer.stretch))
        layers = self.layers(factor, float(np.median(edges)))
        cells = cells_of(
            outer,
            self.made,
            locations,
            edges,
            INVISCID_LAYERS if layers is None else layers[2],
            locations,
            areas,
            normals,
        )
        return self.plan(factor, n, cells, layers)

    def plan(self, factor, triangles, cells, layers) -> MeshPlan:
        seconds = REMESH_SECONDS * triangles + 5.0 + MESH_SECONDS * cells
        return MeshPlan(
            float(factor),
            int(triangles),
            int(cells),
            layers,
            self.half,
            growth_of(factor),
            seconds,
            BASE_MEMORY + MESH_BYTES * cells,
            FILE_BYTES * cells,
            self.size,
            self.distance,
            self.blockage,
            self.spanwise,
        )

    def chosen(self, resolution, cells) -> MeshPlan:
        """The plan for a resolution or a number of cells."""
        if cells is None:
            if isinstance(resolution, str):
                return self.forecast(RESOLUTIONS[choice("resolution", resolution, tuple(RESOLUTIONS))])
            return self.forecast(number("resolution", resolution, *FACTOR_RANGE))
        cells = whole("cells", cells, 1000, 200_000_000)
        factor, aim = 1.0, SURFACE_REFINEMENT * cells
        tried: list[MeshPlan] = []
        for _ in range(6):
            tried.append(self.forecast(factor))
            if abs(tried[-1].cells / aim - 1.0) < WITHIN:
                break
            # the count goes with a power of the factor between -2 (layers) and -3 (cubes)
            slope = -2.6
            if len(tried) > 1:
                a, b = tried[-2:]
                slope = np.clip(np.log(b.cells / a.cells) / np.log(b.factor / a.factor), -4.0, -1.5)
            factor *= float((aim / tried[-1].cells) ** (1.0 / slope))
            if not FACTOR_RANGE[0] <= factor <= FACTOR_RANGE[1]:
                # reported by the power law: a forecast of the finest mesh would take minutes
                limit = (
                    tried[-1].cells
                    / SURFACE_REFINEMENT
                    * (float(np.clip(factor, *FACTOR_RANGE)) / tried[-1].factor) ** slope
                )
                raise InputError(
                    f"cells = {cells:,} is out of reach for this shape (the {'finest' if factor < 1 else 'coarsest'} "
                    f"sensible mesh has about "
                    f"{float(f'{limit:.1g}'):,.0f}); ask for {'fewer' if factor < 1 else 'more'}."
                )
        best = min(tried, key=lambda plan: abs(plan.cells - aim))
        return self.plan(best.factor, best.triangles, cells, best.layers)


def growth_of(factor: float) -> float:
    """Growth of the cubes with distance."""
    return min(BASE_GROWTH * factor, MAX_GROWTH)


def cells_of(
    outer: OuterMesh,
    surface: Surface,
    tips: np.ndarray,
    edges: np.ndarray,
    layers: int,
    locations: np.ndarray,
    areas: np.ndarray,
    normals: np.ndarray,
) -> int:
    """About how many cells a mesh about a surface with edges (n,) [m] at the points `tips` (n, 3) will have; spots (k,
    3): pieces of it of `areas` (k,)

    and unit `normals` (k, 3).
    """
    tree = outer.tree(tips, edges)
    leaves = tree.leaves
    midpoint = tree.midpoints(leaves)
    low, high = surface.bounds
    near = ((midpoint > low) & (midpoint < high)).all(axis=1)
    _, closest = cKDTree(surface.centres).query(midpoint[near])
    away = np.einsum("ij,ij->i", midpoint[near] - surface.centres[closest], surface.normals[closest])
    outside = len(leaves) - (away < 0.0).sum()
    there = leaves_at(
        np.maximum(np.round(2.0 * (locations - tree.origin) / tree.unit).astype(np.int64), 0), tree.depth, tree.child
    )
    squares = float((areas / tree.squares(there, normals)).sum())
    return int(COLUMNS_PER_FACE[outer.spanwise] * squares * layers + outside - LOST_CUBES * squares)


def _sample_points(surface: Surface, edges: np.ndarray) -> tuple[np.ndarray, ...]:
    """(points (n, 3), their edges (n,), their shares (n,) of the area, normals (n, 3)): about as many as triangles with
    such edges (per point, [m]) would have.
    """
    t = surface.triangles
    count = np.ceil(surface.areas / edges[t].mean(axis=1) ** 2).astype(np.int64)
    owner = np.repeat(np.arange(len(t)), count)
    within = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
    # evenly over the triangle (Basu and Owen 2015, SIAM J. Numer. Anal. 53:743, use such lattices folded at the
    # diagonal)
    u, v = (within + 0.5) / count[owner], ((within + 0.5) * 0.6180339887) % 1.0
    fold = u + v > 1.0
    u, v = np.where(fold, 1.0 - u, u), np.where(fold, 1.0 - v, v)
    fraction = np.stack([1.0 - u - v, u, v], axis=1)
    points = np.einsum("ij,ijk->ik", fraction, surface.points[t[owner]])
    return (
        points,
        np.einsum("ij,ij->i", fraction, edges[t[owner]]),
        (surface.areas / count)[owner],
        surface.normals[owner],
    )


ARGUMENT_TYPES = {
    "aircraft": (Aircraft, Surface),
    "y_plus": float,
    "reynolds": float,
    "ground": float,
    "attitude": float,
    "alpha": Many(float, 2),
    "zones": Many(Zone),
    "reference": Reference,
}  # of both calls below


@takes(**ARGUMENT_TYPES)
def plan_mesh(
    aircraft: Aircraft,
    resolution: str | float = "medium",
    cells: int | None = None,
    half: bool | None = None,
    y_plus: float | None = None,
    reynolds: float | None = None,
    layers: tuple[float, float, int] | None = None,
    farfield: float = 10.0,
    ground: float | None = None,
    wake: float = 0.0,
    alpha: tuple[float, float] = (0.0, 0.0),
    zones: tuple[Zone, ...] = (),
    reference: Reference | None = None,
    attitude: float = 0.0,
) -> MeshPlan:
    """What `mesh_aircraft` would make of the same arguments: cells, layers, time, memory, disk; takes seconds."""
    return _MeshTask(
        aircraft, half, y_plus, reynolds, layers, farfield, ground, wake, alpha, zones, reference, attitude
    ).chosen(resolution, cells)


@takes(**ARGUMENT_TYPES)
def mesh_aircraft(
    aircraft: Aircraft | Surface,
    resolution: str | float = "medium",
    cells: int | None = None,
    half: bool | None = None,
    y_plus: float | None = None,
    reynolds: float | None = None,
    layers: tuple[float, float, int] | None = None,
    farfield: float = 10.0,
    ground: float | None = None,
    wake: float = 0.0,
    alpha: tuple[float, float] = (0.0, 0.0),
    zones: tuple[Zone, ...] = (),
    reference: Reference | None = None,
    attitude: float = 0.0,
    coarse_levels: int = 2,
    on_plan: Callable[[MeshPlan], None] | None = None,
) -> Mesh:
    """Mesh about a complete aircraft.

    Parameters
    ----------
    aircraft : Aircraft or Surface
        A symmetric aircraft is meshed as half a model unless `half` is False, a closed surface as a whole unless `half`
        is True.
    resolution : str or float
        "coarse", "medium", "fine", or a factor on all sizes (smaller is finer).
    cells : int, optional
        About how many cells, in place of a resolution.
    half : bool, optional
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
    coarse_levels : int
        Coarser meshes on which a solution starts.
    on_plan : callable, optional
        Receives the `MeshPlan` before the work begins.

    Returns
    -------
    Mesh

    Raises
    ------
    InputError, MeshError
        For bad input; for a mesh that cannot be made, with the position.

    Notes
    -----
    About wings (a span longer than the body and than three mean chords) the cells are twice as long along y as across.

    Examples
    --------
    >>> import zephyrum as zy
    >>> aircraft = zy.Aircraft.read("skerry.toml")  # doctest: +SKIP
    >>> mesh_aircraft(aircraft, cells=1_000_000, y_plus=1.0, reynolds=8e6)  # doctest: +SKIP
    """
    task = _MeshTask(
        aircraft, half, y_plus, reynolds, layers, farfield, ground, wake, alpha, zones, reference, attitude
    )
    coarse_levels = whole("coarse_levels", coarse_levels, 0, 5)
    plan = task.chosen(resolution, cells)
    if on_plan is not None:
        on_plan(plan)
    line = [_mesh_of_plan(task, plan, cells)]
    ratio = COARSENING_FACTORS[int(plan.layers is not None)]
    while (
        len(line) <= coarse_levels
        and line[-1].n_cells > MAX_COARSEST_CELLS
        and line[-1].recipe["factor"] * ratio < FACTOR_RANGE[1]
    ):
        line.append(_mesh_of_plan(task, task.forecast(line[-1].recipe["factor"] * ratio), None))
    made = line.pop()
    while line:
        made = line.pop().with_coarser(made)
    return made


def _mesh_of_plan(task: _MeshTask, plan: MeshPlan, cells: int | None) -> Mesh:
    """The mesh of a plan, with so many cells if they were asked for; where none can be made the surface gets smaller
    triangles.
    """
    locations: tuple[SizeZone, ...] = ()
    while True:
        try:
            return _mesh_on_surface(
                task,
                plan,
                remesh(task.surface, plan.triangles, stretch=MAX_TRIANGLE_ASPECT, zones=locations).surface,
                cells,
            )
        except MeshError as cause:
            if cause.position is None or len(locations) == SPOTS:
                raise
            position = np.asarray(cause.position, dtype=float)
            far = np.abs(task.made.points - position).max(axis=1)
            near = int(np.argmin(far))
            h1, h2, _ = sizes_for(
                task.found, plan.triangles, None, LARGEST_EDGE * task.made.size, MAX_TRIANGLE_ASPECT, locations
            )
            edge = float(np.sqrt(h1[near] * h2[near]))
            half = max(ROUND * edge, 1.01 * float(far[near]))  # a zone needs a point of the shape in it
            log.info("%s Once more with edges of %.3g m there", cause, SMALLER * edge)
            locations = (*locations, SizeZone(SMALLER * edge, box=(position - half, position + half)))


def _mesh_on_surface(task: _MeshTask, plan: MeshPlan, skin: Surface, cells: int | None) -> Mesh:
    """The same about the triangles of `skin`."""
    edges = local_edges(skin, task.outer(skin, plan.factor).stretch)
    spec = task.layers(plan.factor, float(np.median(edges)))
    layers = INVISCID_LAYERS if spec is None else spec[2]
    scale = 1.0 if cells is None else _scale_for(task, plan, skin, edges, layers, cells)
    zones = tuple(zone.scaled(plan.factor) for zone in task.zones)
    for attempt in range(2):
        mesh = mesh_surface(
            skin,
            task.distance / skin.size,
            spec,
            plan.growth,
            zones,
            task.half,
            task.reference,
            scale,
            task.ground,
            task.wake,
            task.alpha,
            task.spanwise,
            task.attitude,
        )
        if cells is None or attempt or abs(mesh.n_cells / cells - 1.0) < ENOUGH_WITHIN:
            break
        log.info("%s cells instead of %s: once more with other cubes", mesh.n_cells, cells)
        scale *= float((mesh.n_cells / cells) ** 0.42)
    asked = {} if task.y_plus is None else {"y_plus": float(task.y_plus)}
    recipe = (
        mesh.recipe
        | asked
        | {
            "factor": round(plan.factor, 5),
            "forecast_cells": plan.cells,
            "farfield": round(0.5 * float(np.ptp(mesh.points[:, 0])), 6),
            "blockage": round(task.blockage, 7),
        }
    )
    return replace(mesh, recipe=recipe)


def _scale_for(task: _MeshTask, plan: MeshPlan, skin: Surface, edges: np.ndarray, layers: int, wanted: int) -> float:
    """Factor on the cubes with which about so many cells are made about the skin."""
    scale, found = 1.0, []
    for _ in range(4):
        outer = task.outer(skin, plan.factor, scale)
        count = cells_of(outer, skin, skin.points, edges, layers, skin.centres, skin.areas, skin.normals)
        found.append((abs(count - wanted), scale))
        if abs(count - wanted) < 0.02 * wanted:
            break
        scale = float(np.clip(scale * (count / wanted) ** 0.42, 0.6, 1.6))
    return min(found)[1]
