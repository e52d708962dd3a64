"""The solver in space on extruded meshes of the plane, against the solver in the plane: the flow is the same."""

import time

import numpy as np

from zephyrum.conditions import Freestream
from zephyrum.flow import Numerics
from zephyrum.geometry import Airfoil
from zephyrum.mesh import mesh_airfoil, mesh_bodies, mesh_extruded
from zephyrum.results import solve

COUNT = 1e-4  # of the drag coefficient


def extruded_section():
    """NACA 0012 in inviscid flow, Mach 0.2, alpha 4 deg, in the plane and on one layer of cells 1 chord wide.

    The vortex of the farfield is off, since the solver in space has none. All of CD is an error.
    """
    section, air = Airfoil.naca("0012"), Freestream(mach=0.2, alpha=4.0)
    numerics = Numerics(vortex=False, residual_drop=5.0)
    rows = []
    for name, flat in (
        ("O mesh, 64 cells around", mesh_airfoil(section, 64, 24, topology="O", farfield=30.0)),
        ("O mesh, 96 cells around", mesh_airfoil(section, 96, 32, topology="O", farfield=30.0)),
        ("clipped mesh, coarse", mesh_bodies({"wing": section}, "coarse", farfield=30.0)),
        ("clipped mesh, medium", mesh_bodies({"wing": section}, "medium", farfield=30.0)),
    ):
        begin = time.perf_counter()
        plane, space = (solve(mesh, air, numerics=numerics) for mesh in (flat, mesh_extruded(flat, [0.0, 1.0])))
        seconds = time.perf_counter() - begin
        label = f"NACA 0012 Euler, extruded {name} ({plane.outcome}, {space.outcome})"
        drag = (space.forces.CD - plane.forces.CD) / COUNT
        lift = space.forces.CL / plane.forces.CL - 1.0
        rows.append((label, "CD in space less that in the plane [counts]", -0.5, 0.5, drag, flat.n_cells, seconds))
        rows.append((label, "CL in space over that in the plane, less 1", -5e-4, 5e-4, lift, flat.n_cells, seconds))
    return rows


def extruded_normals():
    """Normals of the smooth wall of a section with 64 regular faces, against the normals of the section itself."""
    section = Airfoil.naca("0012")
    begin = time.perf_counter()
    mesh = mesh_extruded(mesh_airfoil(section, 64, 24, topology="O", farfield=30.0), [0.0, 1.0])
    missed, flat = normal_errors(section, mesh)
    seconds = time.perf_counter() - begin
    label = "normals of the smooth wall, extruded O mesh, 64 faces around"
    return [
        (label, "mean error [deg]", 0.0, 0.01, float(missed.mean()), mesh.n_cells, seconds),
        (label, "mean error over that of the flat faces", 0.0, 0.2, float(missed.mean() / flat.mean()), 0, seconds),
    ]


def normal_errors(section: Airfoil, mesh) -> tuple[np.ndarray, np.ndarray]:
    """Errors of the fitted normals and of those of the flat faces [deg], at every wall face of an extruded mesh."""
    from scipy.spatial import cKDTree

    from zephyrum.mesh.wall_shape import wall_shape

    faces = mesh.faces_of("wall")
    area = mesh.face_area[faces]
    flat = area / np.linalg.norm(area, axis=1)[:, None]
    s = np.linspace(0.0, section.length, 200001)
    nearest = cKDTree(section.curve(s)).query(mesh.face_centroid[faces][:, [0, 2]])[1]
    tangent = section.curve(s[nearest], 1)
    exact = np.stack([tangent[:, 1], np.zeros(len(faces)), -tangent[:, 0]], axis=1)
    exact /= np.linalg.norm(exact, axis=1)[:, None]
    exact *= np.sign(np.einsum("ij,ij->i", exact, flat))[:, None]
    return tuple(
        np.degrees(2.0 * np.arcsin(0.5 * np.linalg.norm(normal - exact, axis=1)))
        for normal in (wall_shape(mesh, faces).normal, flat)
    )
