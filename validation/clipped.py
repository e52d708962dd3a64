"""Flow on clipped meshes: published bands on a mesh that a computer made about a section without help, and a sphere in
space.
"""

import time

import numpy as np

from validation.clipped_manufactured import error, in_space, in_the_plane
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import Numerics
from zephyrum.geometry import Airfoil, Body, remesh
from zephyrum.mesh import mesh_bodies, mesh_surface
from zephyrum.results import solve


def clipped_euler():
    """NACA 0012 in inviscid flow on a clipped mesh of medium resolution."""
    rows = []
    mesh = mesh_bodies({"wing": Airfoil.naca("0012")})
    for mach, alpha, cl, cd in (
        (0.80, 1.25, (0.345, 0.370), (0.0218, 0.0236)),
        (0.63, 2.0, (0.326, 0.338), (-1e-4, 0.001)),
        (0.85, 1.0, (0.33, 0.39), (0.0545, 0.0590)),
    ):
        begin = time.perf_counter()
        made = solve(mesh, Freestream(mach=mach, alpha=alpha))
        label = f"NACA 0012 Euler on a clipped mesh, M {mach:g}, alpha {alpha:g} ({made.outcome})"
        seconds = time.perf_counter() - begin
        rows.append((label, "CL", *cl, made.forces.CL, mesh.n_cells, seconds))
        rows.append((label, "CD", *cd, made.forces.CD, mesh.n_cells, seconds))
    return rows


def clipped_turbulent():
    """NACA 0012 with Spalart-Allmaras on a clipped mesh with layers planned from y+."""
    rows = []
    mesh = mesh_bodies({"wing": Airfoil.naca("0012")}, "fine", y_plus=1.0, reynolds=6e6, wake=2.0, alpha=(0.0, 10.0))
    for alpha, cl, cd in ((0.0, None, (0.00808, 0.00832)), (10.0, (1.085, 1.101), (0.01215, 0.01250))):
        begin = time.perf_counter()
        made = solve(mesh, Freestream(mach=0.15, reynolds=6e6, alpha=alpha), "sa")
        label = f"NACA 0012, SA, on a clipped mesh, alpha {alpha:g} ({made.outcome})"
        seconds = time.perf_counter() - begin
        if cl:
            rows.append((label, "CL", *cl, made.forces.CL, mesh.n_cells, seconds))
        rows.append((label, "CD", *cd, made.forces.CD, mesh.n_cells, seconds))
    return rows


def clipped_manufactured():
    """Manufactured Euler solution on clipped meshes; the worst of all unknowns."""
    rows = []
    for name, mesh_of, levels in (("plane", in_the_plane, (2, 3)), ("space", in_space, (1, 2))):
        begin = time.perf_counter()
        (coarse, wide), (fine, narrow) = (error(mesh := mesh_of(level)) for level in levels)
        order = float((np.log(coarse / fine) / np.log(wide / narrow)).min())
        seconds = time.perf_counter() - begin
        label = f"manufactured Euler on clipped meshes, {name}"
        rows.append((label, "order, worst unknown, L1", 1.7, 2.6, order, mesh.n_cells, seconds))
    return rows


def clipped_spheroids():
    """A sphere and a spheroid twice as long in space at Mach 0.03 against potential theory, three sizes of irregular
    surfaces.
    """
    rows = []
    for name, length in (("sphere", 1.0), ("spheroid 2:1", 2.0)):
        ball = Body.ellipsoid(length, 1.0).surface(tolerance=2e-5)
        reference = Reference(np.pi / 4.0, 1.0, length, (0.5 * length, 0.0, 0.0), "typed")
        errors = []
        for triangles, growth in ((700, 0.36), (1960, 0.215), (5488, 0.129)):
            begin = time.perf_counter()
            skin = remesh(ball, triangles, stretch=1.0).surface
            mesh = mesh_surface(skin, farfield=12.0, growth=growth, reference=reference)
            made = solve(mesh, Freestream(mach=0.03), numerics=Numerics(residual_drop=5))
            table = made.surface()
            position = np.stack([table["x"] - 0.5 * length, table["y"], table["z"]], axis=1)
            normal = position / np.array([0.5 * length, 0.5, 0.5]) ** 2
            slant = normal[:, 0] ** 2 / (normal**2).sum(axis=1)
            exact = 1.0 - (1.0 + _carried(length)) ** 2 * (1.0 - slant)
            errors.append(float(np.abs(table["Cp"] - exact).mean()))
            seconds = time.perf_counter() - begin
            label = f"{name} in space, inviscid, M 0.03, {triangles} triangles ({made.outcome})"
        for k in (0, 1):
            order = 2.0 * float(np.log(errors[k] / errors[k + 1]) / np.log(2.8))
            rows.append(
                (label, f"Cp error order, L1, sizes {k + 1} and {k + 2}", 1.7, 3.0, order, mesh.n_cells, seconds)
            )
        rows.append((label, "mean Cp error", 0.0, 0.004, errors[-1], mesh.n_cells, seconds))
        rows.append((label, "abs(CD)", 0.0, 0.002, abs(made.forces.CD), mesh.n_cells, seconds))
    return rows


def _carried(length: float) -> float:
    """Mass of air that a spheroid of that length and thickness 1 carries along its axis, over its own (Lamb 1932,
    Hydrodynamics, art. 114).
    """
    if length == 1.0:
        return 0.5
    e = np.sqrt(1.0 - 1.0 / length**2)
    alpha = 2.0 * (1.0 - e * e) / e**3 * (np.arctanh(e) - e)
    return float(alpha / (2.0 - alpha))
