"""A manufactured solution of the Euler equations beside curved walls: a circle in the plane, a ball in space.

The velocity is tangential to the wall. The pressure has the slope normal to the wall that this velocity demands there,
so the source of momentum (Roache 2002, J. Fluids Eng. 124:4) has no part normal to the wall and the condition at the
wall is that of a flow without a source.
"""

import time

import numpy as np

from validation.clipped_manufactured import BODY, GAMMA, in_space, in_the_plane, source, values
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import FlowProblem, Limiter, Numerics, Start, solve_steady
from zephyrum.flow.physics.boundary_conditions import set_curved_wall_normals
from zephyrum.mesh import Mesh

RADIUS = 0.5 * BODY
CENTRE = {True: np.zeros(3), False: np.array([0.5 * BODY, 0.0, 0.0])}  # of the circle, of the ball


def _wall_state(n, planar: bool):
    """(pressure, velocity (3), temperature) at the wall in the direction n (3) from the centre; may be complex."""
    x, y, z = n
    a = 0.15 * np.sin(1.6 * x + 0.4) * np.cos(1.3 * z - 0.2) * np.cos(0.9 * y)
    return a, _velocity(n, RADIUS, planar), _temperature(n, RADIUS)


def _velocity(n, r, planar: bool):
    """Velocity (3) at the distance r from the centre in the direction n (3): a smooth stream less its part through the
    wall, which fades with the square of the distance.
    """
    x, y, z = (r * part for part in n)
    u = 0.45 + 0.09 * np.sin(1.9 * x - 0.3) * np.cos(2.3 * z + 0.2) * np.cos(1.5 * y)
    v = 0.0 * x if planar else 0.1 + 0.07 * np.sin(1.4 * y + 0.2) * np.cos(1.8 * x) * np.cos(1.3 * z - 0.5)
    w = 0.2 + 0.08 * np.cos(2.2 * x) * np.sin(1.8 * z + 0.5) * np.cos(1.1 * y - 0.2)
    through = (u * n[0] + v * n[1] + w * n[2]) * (RADIUS / r) ** 2
    return u - through * n[0], v - through * n[1], w - through * n[2]


def _temperature(n, r):
    """Temperature at the distance r from the centre in the direction n (3)."""
    x, y, z = (r * part for part in n)
    return 1.0 + 0.05 * np.cos(1.6 * x + 0.7) * np.sin(2.0 * z + 0.1) * np.cos(1.3 * y)


def state(x, y, z, planar: bool):
    """(p, u, v, w, T) in scaled units; may be complex."""
    x = x - CENTRE[planar][0]
    r = np.sqrt(x * x + z * z + (0.0 if planar else y * y))
    n = x / r, (0.0 * x if planar else y / r), z / r
    p, V, T = _wall_state(n, planar)
    slope = (1.0 + GAMMA * p) / T * (V[0] ** 2 + V[1] ** 2 + V[2] ** 2) / RADIUS
    away = r - RADIUS
    p = p + slope * away / (1.0 + (away / RADIUS) ** 2) + 0.08 * away**2 / (RADIUS**2 + away**2) * np.cos(2.0 * x + z)
    return p, *_velocity(n, r, planar), _temperature(n, r)


def errors(mesh: Mesh) -> np.ndarray:
    """Mean error of the wall pressure, that of the force over the area of the wall, and that of the pressure in the
    cells, on a mesh whose outer boundary is imposed.
    """
    planar = mesh.dimension == 2
    mesh = mesh.with_roles(**{group.name: "imposed" for group in mesh.groups if group.role != "wall"})
    ni, wall = mesh.n_interior, mesh.faces_of("wall")
    midpoint, face = mesh.cell_centroid.copy(), mesh.face_centroid[ni:].copy()
    if planar:
        midpoint[:, 1] = face[:, 1] = 0.0
    exact = values(midpoint, planar, state)
    exterior = values(face, planar, state)
    exterior[wall - ni] = 0.0
    set_curved_wall_normals(mesh, exterior, "euler")
    problem = FlowProblem(
        mesh,
        Freestream(mach=0.5),
        Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0)),
        Numerics(residual_drop=7, limiter=Limiter("off"), vortex=False),
        source=source(midpoint, planar, state),
        exterior=exterior,
    )
    flow = solve_steady(problem, Start(exact.copy()))
    assert flow.outcome == "converged", flow.reason
    n = face[wall - ni] - CENTRE[planar]
    n /= np.linalg.norm(n, axis=1)[:, None]
    area = mesh.face_area[wall]
    size = np.linalg.norm(area, axis=1)
    missed = flow.boundary_pressure[wall - ni] - _wall_state(n.T, planar)[0]
    force = (flow.boundary_pressure[wall - ni, None] * area).sum(axis=0) / size.sum()
    volume = mesh.cell_volume
    return np.array(
        [
            np.average(np.abs(missed), weights=size),
            np.linalg.norm(force - _mean_push(planar)),
            np.average(np.abs(flow.q[:, 0] - exact[:, 0]), weights=volume),
        ]
    )


def _mean_push(planar: bool) -> np.ndarray:
    """(3,) exact mean of the pressure times the normal into the body."""
    if planar:
        t = 2.0 * np.pi * (np.arange(400) + 0.5) / 400
        n = np.stack([np.cos(t), 0.0 * t, np.sin(t)])
        weight = np.full(400, 1.0 / 400)
    else:
        s, w = np.polynomial.legendre.leggauss(60)
        t = 2.0 * np.pi * (np.arange(120) + 0.5) / 120
        s, t = (a.ravel() for a in np.meshgrid(s, t, indexing="ij"))
        n = np.stack([np.sqrt(1.0 - s * s) * np.cos(t), np.sqrt(1.0 - s * s) * np.sin(t), s])
        weight = np.repeat(0.5 * w, 120) / 120
    return -(n * weight * _wall_state(n, planar)[0]).sum(axis=1)


def curved_walls():
    """Manufactured Euler solution beside curved walls on clipped meshes: orders of wall pressure and force."""
    rows = []
    for name, mesh_of, levels in (("circle", in_the_plane, (2, 3)), ("ball", in_space, (1, 2))):
        begin, found = time.perf_counter(), []
        for level in levels:
            mesh = mesh_of(level)
            found.append(errors(mesh))
        order = np.log2(found[0] / found[1])
        seconds = time.perf_counter() - begin
        label = f"manufactured Euler beside a curved wall, {name}"
        for k, quantity in enumerate(("wall pressure, L1", "force")):
            rows.append((label, f"order, {quantity}", 1.8, 3.0, float(order[k]), mesh.n_cells, seconds))
    return rows
