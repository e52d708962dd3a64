"""Compilation of the kernels ahead of their first use, by all cores side by side.

Kernels are compiled when they are first called and then kept on disk (see `_core.jit`). `compile_kernels` runs tiny
cases that call all of them, in the order of a run; other processes meanwhile call those that a run needs last: the
kernels of the flow on a box, which needs no mesh generator, and the elimination of the layers of a section polar. A
kernel that one process compiles is locked, the others wait for it and read it from disk; so they meet in between.
Verified by tests/test_jit.py.
"""

import os
import subprocess
import sys

import numpy as np

from zephyrum._core.jit import compilations
from zephyrum._core.validation import choice
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow.discretization.face_data import FaceData
from zephyrum.flow.discretization.jacobian import Jacobian
from zephyrum.flow.discretization.residual import FieldState, Residual
from zephyrum.flow.discretization.scheme import Scheme
from zephyrum.flow.discretization.turbulence_sources import initial_closure
from zephyrum.flow.linear.block_ilu import Preconditioner
from zephyrum.flow.linear.gmres import gmres
from zephyrum.flow.nonlinear.numerics import Numerics
from zephyrum.flow.physics.boundary_conditions import WallData, exterior_states
from zephyrum.flow.physics.gas_model import Scales
from zephyrum.flow.physics.turbulence import MODELS, VISCOUS_MODELS, freestream_turbulence, typical_turbulence
from zephyrum.geometry import Airfoil, Body, remesh
from zephyrum.loworder.panel.coupled_layers import CoupledLayers, CouplingOptions
from zephyrum.loworder.panel.displacement import DisplacedSection, PanelLayout
from zephyrum.loworder.panel.layer_equations import TURBULENT
from zephyrum.loworder.panel.panel_polars import panel_polar
from zephyrum.loworder.panel.reduced_system import eliminated
from zephyrum.mesh import Group, Mesh, mesh_airfoil, mesh_surface

KINDS = ("polar", "section", "aircraft")  # section polars by panels, field solutions of sections and of aircraft
# kernels that a run of one model meets on an empty cache while a helper compiles those of the flow: sections counted
# with SA, aircraft estimated
KERNEL_COUNTS = {"polar": 40, "section": 65, "aircraft": 90}
MORE_FOR_A_KIND, MORE_FOR_A_MODEL = 45, 6  # and where the other kind, or each further model, is compiled as well


def expected_kernels(kinds: tuple[str, ...], models: int = 1) -> int:
    """Number of kernels that a process is expected to meet on an empty cache.

    Parameters
    ----------
    kinds : tuple of str
        Some of `KINDS`, or none.
    models : int, optional
        Number of flow models.

    Examples
    --------
    >>> expected_kernels(("section",))
    65
    """
    first = max((KERNEL_COUNTS[kind] for kind in kinds), default=0)
    return first + MORE_FOR_A_KIND * max(len(kinds) - 1, 0) + MORE_FOR_A_MODEL * (models - 1)


def compile_kernels(
    kinds: tuple[str, ...] = KINDS,
    models: tuple[str, ...] = MODELS,
    processes: int | None = None,
) -> int:
    """Compile the kernels of section polars, sections and aircraft, unless they are on disk.

    Parameters
    ----------
    kinds : tuple of str
        Some of `KINDS`.
    models : tuple of str
        Models of the flow.
    processes : int, optional
        How many processes share the work; two, or one on a single core.

    Returns
    -------
    int
        Number of kernels that this process has compiled or waited for.

    Examples
    --------
    >>> compile_kernels(("section",), ("euler",)) >= 0  # doctest: +SKIP
    True
    """
    for kind in kinds:
        choice("kinds", kind, KINDS)
    for model in models:
        choice("models", model, MODELS)
    processes = min(2, os.cpu_count() or 1) if processes is None else processes
    seen: list[str] = []
    helpers = [start_helper(kinds, models) for _ in range(processes - 1)]
    try:
        with compilations(seen.append):
            for kind in kinds:
                for model in models if kind != "polar" else models[:1]:
                    run_tiny_case(kind, model)
            for helper in helpers:
                helper.wait()
    finally:
        for helper in helpers:
            helper.kill()
    return len(seen)


def start_helper(kinds: tuple[str, ...], models: tuple[str, ...]) -> subprocess.Popen:
    """Start a process that compiles the kernels that a run needs last, while the run compiles its first ones.

    Parameters
    ----------
    kinds : tuple[str, ...]
        Some of `KINDS`.
    models : tuple[str, ...]
        Flow models.
    """
    words = [sys.executable, "-m", "zephyrum.studies.compilation", ",".join(kinds), ",".join(models)]
    quiet = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    return subprocess.Popen(words, **quiet)  # type: ignore[call-overload]


def run_tiny_case(kind: str, model: str) -> None:
    """Mesh and solve a case of a few hundred cells, one Newton step, with the lines of its figures in space.

    Parameters
    ----------
    kind : str
        One of `KINDS`.
    model : str
        Flow model.
    """
    from zephyrum.results import solve

    if kind == "polar":
        panel_polar(Airfoil.naca("0012"), [2.0], 1e6)
        return
    viscous = model != "euler"
    air = Freestream(mach=0.6, alpha=1.0, reynolds=1e5)
    if kind == "section":
        height = 1e-4 if viscous else None
        mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, topology="C" if viscous else "O", first_height=height)
    else:
        egg = remesh(Body.ellipsoid(1.0, 0.6).surface(), 200, stretch=2.0).surface
        layers = (1e-3, 1.6, 6) if viscous else None
        unit = Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0))
        mesh = mesh_surface(egg, farfield=3.0, growth=1.0, layers=layers, reference=unit)
    made = solve(mesh, air, model, numerics=Numerics(residual_drop=0.5, max_iterations=1))
    if kind == "aircraft":
        made.streamlines([[-0.2, 0.0, 0.05]])
        made.skin_friction_lines()


def compile_flow(mesh: Mesh, model: str) -> None:
    """Call the kernels of a Newton step, the Jacobians first, which a run needs last and which take longest.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    model : str
        Flow model.

    Examples
    --------
    >>> compile_flow(box_mesh(2), "euler")
    """
    air = Freestream(mach=0.6, alpha=1.0, reynolds=1e5)
    law, walls = Scales.law(air, 1.0), WallData.plain(mesh)
    scales = Scales.of(air, freestream_turbulence(model, law, air.mach, 1.0), typical_turbulence(model))
    exterior = exterior_states(mesh, scales, 0.0, False, walls)
    wall_data = walls.wall_data(mesh) if model in VISCOUS_MODELS else None
    faces = FaceData.of(mesh, "by-cell", model)
    residual = Residual(faces, Scheme(), law, air.mach, exterior, None, model, wall_data)
    q = np.tile(scales.freestream, (mesh.n_cells, 1))
    jacobian = Jacobian(residual)
    state = FieldState(q, np.zeros((*q.shape, 3)), initial_closure(residual.wall_data, model))
    jacobian.linearise(state)
    jacobian.set_inertia(jacobian.wave_sum())
    rhs = np.ones((mesh.n_cells, len(faces.axes)), dtype=np.float32)
    jacobian.product(rhs, np.empty_like(rhs))
    preconditioner = Preconditioner(faces)
    preconditioner.update(jacobian)
    gmres(jacobian, preconditioner, rhs, 0.1, 3)
    residual(q)


def box_mesh(dimension: int) -> Mesh:
    """A box of cubes with a wall below, made without any kernel of a mesh generator.

    Parameters
    ----------
    dimension : int
        2 or 3.

    Examples
    --------
    >>> box_mesh(2).check().n_cells, box_mesh(3).check().n_cells
    (9, 27)
    """
    n = 3
    shape = (n, n if dimension == 3 else 1, n)
    node = np.arange((n + 1) ** 3).reshape(n + 1, n + 1, n + 1)
    cell = np.full(tuple(k + 2 for k in shape), -1)
    cell[1:-1, 1:-1, 1:-1] = np.arange(np.prod(shape)).reshape(shape)
    quads, low, high, axis_of = [], [], [], []
    for axis in range(3) if dimension == 3 else (0, 2):
        p, c = np.moveaxis(node[:, : shape[1] + 1], axis, 0), np.moveaxis(cell, axis, 0)
        corners = np.stack([p[:, :-1, :-1], p[:, 1:, :-1], p[:, 1:, 1:], p[:, :-1, 1:]], axis=-1).reshape(-1, 4)
        quads.append(corners[:, :: 1 if axis != 1 else -1])
        low.append(c[:-1, 1:-1, 1:-1].ravel())
        high.append(c[1:, 1:-1, 1:-1].ravel())
        axis_of.append(np.full(len(corners), axis))
    corners, a, b, axes = (np.concatenate(parts) for parts in (quads, low, high, axis_of))
    outside = a < 0  # faces leave their left cell
    corners[outside] = corners[outside, ::-1]
    left, right = np.where(outside, b, a), np.where(outside | (b < 0), -1, b)
    points = np.stack(np.meshgrid(*3 * [np.linspace(0.0, 1.0, n + 1)], indexing="ij"), axis=-1).reshape(-1, 3)
    centroid = points[corners].mean(axis=1)
    tag = np.where(right >= 0, 0, np.where(centroid[:, 2] == 0.0, 1, 2))
    order = np.lexsort((right, left, tag))
    corners, left, right, centroid, tag = (v[order] for v in (corners, left, right, centroid, tag))
    first, second, last = np.searchsorted(tag, (1, 2, 3))
    groups = (Group("floor", "wall", int(first), int(second)), Group("farfield", "farfield", int(second), int(last)))
    start = np.arange(0, 4 * len(corners) + 1, 4)
    mesh = Mesh(points, start, corners.ravel(), left, right[:first].copy(), groups, dimension)
    area = np.zeros_like(centroid)
    area[np.arange(len(order)), axes[order]] = np.where(outside[order], -1.0, 1.0) / n**2
    volume = np.full(mesh.n_cells, 1.0 / n**3)
    middle = (np.moveaxis(np.indices(shape), 0, -1).reshape(-1, 3) + 0.5) / n
    # what kernels would measure
    mesh.__dict__["_face_geometry"] = centroid, area
    mesh.__dict__["_cell_geometry"] = volume, middle, np.zeros(mesh.n_cells)
    mesh.__dict__["wall_distance"] = middle[:, 2].copy()
    return mesh


def compile_last(kind: str, model: str) -> None:
    """Compile those kernels that a run of a kind needs last.

    Parameters
    ----------
    kind : str
        One of `KINDS`.
    model : str
        Flow model.
    """
    if kind == "polar":
        compile_elimination(Airfoil.naca("0012"))
        return
    compile_flow(box_mesh(2 if kind == "section" else 3), model)
    if kind == "aircraft":  # while the other process remeshes
        ball = Body.ellipsoid(1.0, 1.0).surface(tolerance=0.02)
        mesh_surface(ball, farfield=3.0, growth=1.0, layers=(1e-2, 1.5, 4))


def compile_elimination(foil: Airfoil) -> None:
    """Call the kernels of a Newton step of a section polar, on layers that nobody has solved.

    Parameters
    ----------
    foil : Airfoil
    """
    layers = CoupledLayers(DisplacedSection(foil, PanelLayout()), 2.0, 1e-6, 9.0, (1.0, 1.0), CouplingOptions())
    layers.values[:] = (0.01, 1e-3, 2e-3, 1.0)
    layers.kinds[:] = TURBULENT
    eliminated(layers.stations(), layers.panel(), np.array([own[2] for own in layers.sides]))


def main() -> None:
    """What a helper process does; arguments: kinds and models, separated by commas."""
    kinds, models = (words.split(",") for words in sys.argv[1:3])
    for kind in kinds:
        for model in reversed(models) if kind != "polar" else models[:1]:
            compile_last(kind, model)


if __name__ == "__main__":
    main()
