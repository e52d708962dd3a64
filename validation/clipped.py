"""Flow on clipped meshes: published bands on a mesh that a computer made about a section without help, and a sphere in space."""

import time

import numpy as np

from zephyrum.air import Freestream, Reference
from zephyrum.flow import Settings
from zephyrum.mesh import mesh_bodies, mesh_surface
from zephyrum.results import solve
from zephyrum.shape import Airfoil, Body, remesh


def clipped_euler():
    """NACA 0012 in inviscid flow on a clipped mesh of medium fineness."""
    rows = []
    mesh = mesh_bodies({"wing": Airfoil.naca("0012")})
    for mach, alpha, cl, cd in (
        (0.80, 1.25, (0.345, 0.370), (0.0218, 0.0236)),
        (0.63, 2.0, (0.326, 0.338), (-1e-4, 0.001)),
        (0.85, 1.0, (0.33, 0.39), (0.0545, 0.0590)),
    ):
        begin = time.perf_counter()
        made = solve(mesh, Freestream(mach=mach, alpha=alpha))
        label = f"NACA 0012 Euler on a clipped mesh, M {mach:g}, alpha {alpha:g} ({made.verdict})"
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
        label = f"NACA 0012, SA, on a clipped mesh, alpha {alpha:g} ({made.verdict})"
        seconds = time.perf_counter() - begin
        if cl:
            rows.append((label, "CL", *cl, made.forces.CL, mesh.n_cells, seconds))
        rows.append((label, "CD", *cd, made.forces.CD, mesh.n_cells, seconds))
    return rows


def clipped_sphere():
    """A sphere in space at Mach 0.1 against potential theory, two sizes of an irregular surface mesh."""
    rows, errors = [], []
    ball = Body.ellipsoid(1.0, 1.0).surface(tolerance=2e-4)
    reference = Reference(np.pi / 4.0, 1.0, 1.0, (0.5, 0.0, 0.0), "typed")
    for triangles in (1000, 4000):
        begin = time.perf_counter()
        skin = remesh(ball, triangles, stretch=1.0).surface
        mesh = mesh_surface(skin, farfield=12.0, growth=0.3, reference=reference)
        made = solve(mesh, Freestream(mach=0.1), settings=Settings(orders=5))
        table = made.surface()
        x, y, z = table["x"] - 0.5, table["y"], table["z"]
        exact = 1.0 - 2.25 * (1.0 - x**2 / (x**2 + y**2 + z**2))
        errors.append(float(np.abs(table["Cp"] - exact).mean()))
        seconds = time.perf_counter() - begin
    label = f"sphere in space, inviscid, M 0.1 ({made.verdict})"
    rows.append((label, "mean Cp error, 4000 triangles", 0.0, 0.015, errors[1], mesh.n_cells, seconds))
    rows.append((label, "Cp error order, L1", 1.7, 3.0, float(np.log2(errors[0] / errors[1])), mesh.n_cells, seconds))
    rows.append((label, "abs(CD)", 0.0, 0.005, abs(made.forces.CD), mesh.n_cells, seconds))
    return rows
