"""A mesh about an aircraft, with the coarser meshes on which a solution starts. Verified by tests/test_planned.py."""

import logging
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from zephyrum._core.validation import takes, whole
from zephyrum.errors import MeshError
from zephyrum.geometry import Aircraft, SizeZone, Surface
from zephyrum.geometry.surface.deviation import at_points, split_by_deviation
from zephyrum.mesh.clipped_3d.generation import mesh_surface
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.ground import rotated_about
from zephyrum.mesh.planning import (
    FACTOR_RANGE,
    MAX_DEVIATION,
    MeshOptions,
    MeshPlan,
    MeshTask,
)
from zephyrum.mesh.wall_triangles import wall_distances

# factor on all sizes from a mesh to the coarser one that a solution starts on, without and with layers
COARSENING_FACTORS = 1.7, 2.2
MAX_COARSEST_CELLS = 90_000  # cells of the coarsest of these
# positions that get smaller triangles, how much smaller, and how far round in edges
SPOTS, SMALLER, ROUND = 3, 0.5, 4.0
CELLS_POWER = 2.2  # of the factor, with which the number of cells falls: a wing has 9k, 15k, 25k at 3, 2 and 1.4
ENOUGH_WITHIN = 0.1  # of the cells asked for: a mesh that is not made again
MAX_BUDGET_RETRIES = 3  # meshes made again for a number of cells
log = logging.getLogger(__name__)


@takes(aircraft=(Aircraft, Surface))
def mesh_aircraft(
    aircraft: Aircraft | Surface,
    resolution: str | float = "medium",
    cells: int | None = None,
    coarsening: float = 1.0,
    coarse_levels: int = 2,
    on_plan: Callable[[MeshPlan], None] | None = None,
    **options,
) -> Mesh:
    """Mesh about a complete aircraft.

    Parameters
    ----------
    aircraft : Aircraft or Surface
    resolution : str or float
        "coarse", "medium", "fine", or a factor on all sizes (smaller is finer).
    cells : int, optional
        About how many cells, in place of a resolution.
    coarsening : float
        Factor on all sizes of the mesh of this resolution, for a coarser mesh of its family: the sizes keep their
        ratios, which those of another resolution do not.
    coarse_levels : int
        Coarser meshes on which a solution starts.
    on_plan : callable, optional
        Receives the `MeshPlan` before the work begins.
    **options
        Fields of `MeshOptions`: half, y_plus, reynolds, layers, farfield, ground, wake, alpha, zones, reference,
        attitude, separate.

    Returns
    -------
    Mesh

    Raises
    ------
    InputError, MeshError
        For bad input; for a mesh that cannot be made, with the position.

    Notes
    -----
    About wings (a span longer than the body and than three mean chords) the cells are twice as long along y as across;
    if nearly all of the wall runs along y, they are longer where it does.

    Examples
    --------
    >>> import zephyrum as zy
    >>> aircraft = zy.Aircraft.read("skerry.toml")  # doctest: +SKIP
    >>> mesh_aircraft(aircraft, cells=1_000_000, y_plus=1.0, reynolds=8e6)  # doctest: +SKIP
    """
    task = MeshTask(aircraft, MeshOptions.of(options))
    coarse_levels = whole("coarse_levels", coarse_levels, 0, 5)
    plan = task.chosen(resolution, cells, coarsening)
    if on_plan is not None:
        on_plan(plan)
    line = [_mesh_of_budget(task, plan, cells) if cells else _mesh_of_plan(task, plan)]
    ratio = COARSENING_FACTORS[int(plan.layers is not None)]
    while (
        len(line) <= coarse_levels
        and line[-1].n_cells > MAX_COARSEST_CELLS
        and line[-1].recipe["factor"] * ratio < FACTOR_RANGE[1]
    ):
        line.append(_mesh_of_plan(task, task.forecast(line[-1].recipe["factor"] * ratio)))
    made = line.pop()
    while line:
        made = line.pop().with_coarser(made)
    return made


def _mesh_of_budget(task: MeshTask, plan: MeshPlan, cells: int) -> Mesh:
    """The mesh of about so many cells: made again with another factor on all sizes where the forecast was wrong, so
    that it is a member of the family of its factor.
    """
    made = [_mesh_of_plan(task, plan)]
    for _ in range(MAX_BUDGET_RETRIES):
        excess = np.log([mesh.n_cells / cells for mesh in made])
        if np.abs(excess).min() < np.log1p(ENOUGH_WITHIN):
            break
        log.info("%s cells instead of %s: once more with another factor", made[-1].n_cells, cells)
        scale = np.log([mesh.recipe["factor"] for mesh in made])
        k = int(np.argmin(np.abs(excess)))
        target = scale[k] + excess[k] / CELLS_POWER
        if excess.min() < 0.0 < excess.max():  # between the nearest on both sides
            ends = [np.flatnonzero(side)[np.argmin(np.abs(excess[side]))] for side in (excess < 0.0, excess > 0.0)]
            target = np.interp(0.0, excess[ends], scale[ends])
        factor = float(np.clip(np.exp(target), *FACTOR_RANGE))
        made.append(_mesh_of_plan(task, task.forecast(factor)))
    return min(made, key=lambda mesh: abs(np.log(mesh.n_cells / cells)))


def _mesh_of_plan(task: MeshTask, plan: MeshPlan) -> Mesh:
    """The mesh of a plan; where none can be made the surface gets smaller triangles."""
    locations: tuple[SizeZone, ...] = ()
    while True:
        try:
            return _mesh_on_surface(task, plan, task.remeshed(plan, locations))
        except MeshError as cause:
            if cause.position is None or len(locations) == SPOTS:
                raise
            position = np.asarray(cause.position, dtype=float)
            far = np.abs(task.made.points - position).max(axis=1)
            near = int(np.argmin(far))
            h1, h2, _ = task.sizes(task.triangles(plan.factor / plan.coarsening), locations, plan.coarsening)
            edge = float(np.sqrt(h1[near] * h2[near]))
            half = max(ROUND * edge, 1.01 * float(far[near]))  # a zone needs a point of the shape in it
            log.info("%s Once more with edges of %.3g m there", cause, SMALLER * edge)
            locations = (*locations, SizeZone(SMALLER * edge, box=(position - half, position + half)))


def _mesh_on_surface(task: MeshTask, plan: MeshPlan, made: Surface) -> Mesh:
    """The same about the triangles of a remeshed surface, some of them split for the shape but not for the cells."""
    skin, parents = split_by_deviation(made, task.found, MAX_DEVIATION)
    edges = task.outer(made, plan.factor, plan.coarsening).edges(made)
    scale = at_points(edges, parents) / task.outer(skin, plan.factor, plan.coarsening).edges(skin)
    mesh = mesh_surface(
        skin,
        farfield=task.distance / skin.size,
        layers=task.layers(plan.factor, float(np.median(edges))),
        growth=plan.growth,
        zones=tuple(zone.scaled(plan.factor) for zone in task.options.zones),
        scale=scale,
        half=task.half,
        reference=task.reference,
        ground=task.options.ground,
        wake=task.wake,
        alpha=task.options.alpha,
        aspect_y=task.aspect_y,
        longest_y=task.longest_y(plan.factor),
        attitude=task.options.attitude,
        separate=task.options.separate,
    )
    asked = {} if task.options.y_plus is None else {"y_plus": float(task.options.y_plus)}
    recipe = (
        mesh.recipe
        | asked
        | {
            "factor": round(plan.factor, 5),
            "coarsening": round(plan.coarsening, 5),
            "forecast_cells": plan.cells,
            "farfield": round(0.5 * float(np.ptp(mesh.points[:, 0])), 6),
            "blockage": round(task.blockage, 7),
            "wall_distance": _wall_distances(mesh, task),
        }
    )
    return replace(mesh, recipe=recipe)


def _wall_distances(mesh: Mesh, task: MeshTask) -> dict[str, list[float]]:
    """`wall_distances` of a mesh, rounded for its recipe."""
    pivot = (0.0, 0.0, 0.0) if task.reference is None else task.reference.point
    shape = replace(task.made, points=rotated_about(task.made.points, pivot, task.options.attitude))
    found = wall_distances(mesh, shape)
    return {part: [float(f"{value:.3g}") for value in values] for part, values in found.items()}
