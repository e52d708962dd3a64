"""A manufactured solution of the Euler equations on clipped meshes, in the plane and in space (Roache 2002, J. Fluids
Eng. 124:4).

A smooth field is imposed on the outer boundary and on the body's; the source follows from exact differentiation
(complex step) of the fluxes at the centroids, which differs from its mean over a cell by the second order of the size,
as the field does.
"""

import numpy as np

from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import FlowProblem, Limiter, Numerics, Start, solve_steady
from zephyrum.geometry import Body, Outline, remesh
from zephyrum.mesh import Mesh, mesh_bodies, mesh_surface

GAMMA = 1.4
BODY = 0.4  # m
NAMES = ("p", "u", "v", "w", "T")


def state(x, y, z, planar):
    """(p, u, v, w, T) in scaled units; may be complex."""
    across = 0.0 if planar else 1.0
    return (
        0.06 * np.sin(2.1 * x + 0.4) * np.cos(1.7 * z) * np.cos(1.2 * y + 0.1),
        0.55 + 0.09 * np.sin(1.9 * x - 0.3) * np.cos(2.3 * z + 0.2) * np.cos(1.5 * y),
        across * 0.07 * np.sin(1.4 * y + 0.2) * np.cos(1.8 * x) * np.cos(1.3 * z - 0.5),
        0.25 + 0.08 * np.cos(2.2 * x) * np.sin(1.8 * z + 0.5) * np.cos(1.1 * y - 0.2),
        1.0 + 0.07 * np.cos(1.6 * x + 0.7) * np.sin(2.0 * z + 0.1) * np.cos(1.3 * y),
    )


def fluxes(field):
    """Flux (5) along x, y and z of a state (p, u, v, w, T)."""
    p, u, v, w, T = field
    density = (1.0 + GAMMA * p) / T
    enthalpy = T / (GAMMA - 1.0) + 0.5 * (u * u + v * v + w * w)
    out = []
    for axis, along in enumerate((u, v, w)):
        flow = density * along
        push = [p if axis == k else 0.0 for k in range(3)]
        out.append((flow, flow * u + push[0], flow * v + push[1], flow * w + push[2], flow * enthalpy))
    return out


def source(x, planar: bool, state=state) -> np.ndarray:
    """(n, 5) divergence of the fluxes of a state at points (n, 3)."""
    total, h = np.zeros((len(x), 5)), 1e-30
    for axis in (0, 2) if planar else (0, 1, 2):
        moved = x.astype(complex)
        moved[:, axis] += 1j * h
        px, py, pz = moved.T
        total += np.stack([np.imag(part) / h for part in fluxes(state(px, py, pz, planar))[axis]], axis=1)
    return total


def values(x, planar: bool, state=state) -> np.ndarray:
    """(n, 5) states at points (n, 3)."""
    px, py, pz = x.T
    return np.stack(np.broadcast_arrays(*state(px, py, pz, planar)), axis=1)


def error(mesh: Mesh) -> tuple[np.ndarray, float]:
    """(L1 errors of the unknowns, size of the cells) on a mesh all of whose boundary is imposed."""
    planar = mesh.dimension == 2
    mesh = mesh.with_roles(**{group.name: "imposed" for group in mesh.groups})
    ni = mesh.n_interior
    midpoint, face = mesh.cell_centroid.copy(), mesh.face_centroid[ni:].copy()
    if planar:
        midpoint[:, 1] = face[:, 1] = 0.0
    exact = values(midpoint, planar)
    problem = FlowProblem(
        mesh,
        Freestream(mach=0.6),
        Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0)),
        Numerics(residual_drop=7, limiter=Limiter("off"), vortex=False),
        source=source(midpoint, planar),
        exterior=values(face, planar),
    )
    flow = solve_steady(problem, Start(exact.copy()))
    assert flow.outcome == "converged", flow.reason
    volume = mesh.cell_volume / (mesh.depth if planar else 1.0)
    used = [0, 1, 3, 4] if planar else [0, 1, 2, 3, 4]
    missed = (np.abs(flow.q - exact) * volume[:, None]).sum(axis=0)[used] / volume.sum()
    return missed, float((volume.sum() / mesh.n_cells) ** (0.5 if planar else 1.0 / 3.0))


def in_the_plane(level: int) -> Mesh:
    """Round a circle, all sizes halved for every level."""
    return mesh_bodies({"circle": Outline.circle(BODY)}, 2.0 * 0.5**level, coarse_levels=0, farfield=2.0, growth=0.15)


def in_space(level: int) -> Mesh:
    """Round a ball, the triangles a quarter as large for every level."""
    ball = remesh(Body.ellipsoid(BODY, BODY).surface(tolerance=1e-4), 400 * 4**level, stretch=1.0).surface
    return mesh_surface(ball, farfield=1.5, growth=0.2 * 0.5**level)
