"""Laminar flow between two walls a unit apart: Couette and plane Poiseuille flow, exact at Mach 0 (White 2006, ch.
3).
"""

import numpy as np

from validation.grids import of_grid
from zephyrum.conditions import Freestream, Reference
from zephyrum.flow import FlowProblem, Numerics, Start, solve_steady

MACH, REYNOLDS = 0.02, 20.0


def channel(n: int, high: str):
    """Unit square with a wall below and the role `high` above; the sides are imposed."""
    t = np.linspace(0.0, 1.0, n + 1)
    x, z = np.meshgrid(t, t + 0.1 * np.sin(np.pi * t), indexing="ij")
    return of_grid(x, z, {"low": "wall", "high": high, "left": "imposed", "right": "imposed"})


def flow_between(mesh, profile, pressure):
    """March a laminar flow whose imposed sides are u = MACH * profile(z), p = pressure(x); returns flow and u over
    MACH.
    """
    face = mesh.face_centroid[mesh.n_interior :]
    outer = np.zeros((len(face), 5))
    outer[:, 0], outer[:, 1], outer[:, 4] = pressure(face[:, 0]), MACH * profile(face[:, 2]), 1.0
    outer[:, 4] += 0.4 * outer[:, 0]  # isentropic: density variations would add mass
    centre = mesh.cell_centroid
    start = np.zeros((mesh.n_cells, 5))
    start[:, 0], start[:, 1], start[:, 4] = 0.9 * pressure(centre[:, 0]), 0.9 * MACH * profile(centre[:, 2]), 1.0
    numerics = Numerics(residual_drop=7, vortex=False)
    air = Freestream(mach=MACH, reynolds=REYNOLDS)
    reference = Reference(1.0, 1.0, 1.0, (0.0, 0.0, 0.0))
    flow = solve_steady(FlowProblem(mesh, air, reference, numerics, "laminar", exterior=outer), Start(start))
    return flow, flow.q[:, 1] / MACH


def couette(n: int):
    """(mesh, flow, u) between a wall at rest and a stream that moves."""
    mesh = channel(n, "imposed")
    return mesh, *flow_between(mesh, lambda z: z, lambda x: 0.0 * x)


def poiseuille(n: int) -> tuple[float, str]:
    """(mean error of u over its largest, outcome) of flow driven by pressure."""
    drop = 8.0 * MACH**2 / REYNOLDS  # -dp/dx = mu 8 U / height^2
    mesh = channel(n, "wall")
    flow, u = flow_between(mesh, lambda z: 4.0 * z * (1.0 - z), lambda x: drop * (0.5 - x))
    z = mesh.cell_centroid[:, 2]
    return float(np.sum(mesh.cell_volume * np.abs(u - 4.0 * z * (1.0 - z)))), flow.outcome
