"""Compilation of the kernels ahead of their first use, by all cores side by side.

Kernels are compiled when they are first called and then kept on disk (see `_core.jit`). `compile_kernels` runs tiny
cases that call all of them: some processes in the order of a run, the others from the end of it. A kernel that one
process compiles is locked, the others wait for it and read it from disk; so they meet in between.
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
from zephyrum.mesh import Mesh, mesh_airfoil, mesh_surface
from zephyrum.mesh.construction import mesh_from_faces

KINDS = ("section", "aircraft")
# kernels that a process meets on an empty cache: sections counted with all models, aircraft estimated
KERNEL_COUNTS = {"section": 116, "aircraft": 170}


def compile_kernels(
    kinds: tuple[str, ...] = KINDS,
    models: tuple[str, ...] = MODELS,
    processes: int | None = None,
) -> int:
    """Compile the kernels of sections and aircraft, unless they are on disk.

    Parameters
    ----------
    kinds : tuple of str
        "section", "aircraft" or both.
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
                for model in models:
                    run_tiny_case(kind, model)
            for helper in helpers:
                helper.wait()
    finally:
        for helper in helpers:
            helper.kill()
    return len(seen)


def start_helper(kinds: tuple[str, ...], models: tuple[str, ...]) -> subprocess.Popen:
    """Start a process that compiles the kernels of the flow, those that are called last first.

    Parameters
    ----------
    kinds : tuple[str, ...]
        "section", "aircraft" or both.
    models : tuple[str, ...]
        Flow models.
    """
    words = [sys.executable, "-m", "zephyrum.studies.compilation", ",".join(kinds), ",".join(models)]
    quiet = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    return subprocess.Popen(words, **quiet)  # type: ignore[call-overload]


def run_tiny_case(kind: str, model: str) -> None:
    """Mesh and solve a case of a few hundred cells, one Newton step.

    Parameters
    ----------
    kind : str
        "section" or "aircraft".
    model : str
        Flow model.
    """
    from zephyrum.results import solve

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
    solve(mesh, air, model, numerics=Numerics(residual_drop=0.5, max_iterations=1))


def compile_flow_backwards(mesh: Mesh, model: str) -> None:
    """Call the kernels of a Newton step, those that are called last first.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    model : str
        Flow model.
    """
    air = Freestream(mach=0.6, alpha=1.0, reynolds=1e5)
    law, walls = Scales.law(air, 1.0), WallData.plain(mesh)
    scales = Scales.of(air, freestream_turbulence(model, law, air.mach, 1.0), typical_turbulence(model))
    exterior = exterior_states(mesh, scales, 0.0, False, walls)
    wall_data = walls.wall_data(mesh) if model in VISCOUS_MODELS else None
    faces = FaceData.of(mesh, "by-cell", model)
    residual = Residual(faces, Scheme(), law, air.mach, exterior, None, model, wall_data)
    q = np.tile(scales.freestream, (mesh.n_cells, 1))
    jacobian, preconditioner = Jacobian(residual), Preconditioner(faces)
    rhs = np.ones((mesh.n_cells, len(faces.axes)), dtype=np.float32)
    jacobian.state = state = FieldState(q, np.zeros((*q.shape, 3)), initial_closure(residual.wall_data, model))
    jacobian.set_inertia(np.ones(mesh.n_cells))
    preconditioner.update(jacobian)
    gmres(jacobian, preconditioner, rhs, 0.1, 3)
    jacobian.linearise(state)
    residual(q)


def box_mesh() -> Mesh:
    """A box of 3 x 3 x 3 cubes with a wall below, without any kernel of a mesh generator.

    Examples
    --------
    >>> box_mesh().n_cells
    27
    """
    n = 3
    node = np.arange((n + 1) ** 3).reshape(n + 1, n + 1, n + 1)
    cell = np.full((n + 2,) * 3, -1)
    cell[1:-1, 1:-1, 1:-1] = np.arange(n**3).reshape(n, n, n)
    quads, a, b = [], [], []
    for axis in range(3):
        p = np.moveaxis(node, axis, 0)
        corners = np.stack([p[:, :-1, :-1], p[:, 1:, :-1], p[:, 1:, 1:], p[:, :-1, 1:]], axis=-1)
        c = np.moveaxis(cell, axis, 0)
        quads.append(corners.reshape(-1, 4)[:, :: 1 if axis != 1 else -1])
        a.append(c[:-1, 1:-1, 1:-1].ravel())
        b.append(c[1:, 1:-1, 1:-1].ravel())
    quads, a, b = np.concatenate(quads), np.concatenate(a), np.concatenate(b)
    outside = a < 0
    quads[outside] = quads[outside, ::-1]
    a, b = np.where(outside, b, a), np.where(outside, -1, b)
    points = np.stack(np.meshgrid(*3 * [np.linspace(0.0, 1.0, n + 1)], indexing="ij"), axis=-1).reshape(-1, 3)
    below = (points[quads][:, :, 2] == 0.0).all(axis=1)
    groups = [("floor", "wall"), ("farfield", "farfield")]
    start = np.arange(0, 4 * len(quads) + 1, 4)
    return mesh_from_faces(points, start, quads.ravel(), a, b, np.where(below, 0, 1), groups, 3)


def main() -> None:
    """What a helper process does; arguments: kinds and models, separated by commas."""
    kinds, models = (words.split(",") for words in sys.argv[1:3])
    for kind in reversed(kinds):
        for model in reversed(models):
            if kind == "section":
                mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, topology="O", first_height=1e-3)
            else:
                mesh = box_mesh()
            compile_flow_backwards(mesh, model)
        if kind == "aircraft":  # while the other process remeshes
            ball = Body.ellipsoid(1.0, 1.0).surface(tolerance=0.02)
            mesh_surface(ball, farfield=3.0, growth=1.0, layers=(1e-2, 1.5, 4))


if __name__ == "__main__":
    main()
