"""What the outside does at a boundary face: one flux for each role.

- wall, slip, symmetry (inviscid): no flow through; only the pressure, extrapolated to the face, acts.
- farfield: one-dimensional Riemann invariants decide face by face what enters and what leaves (Thomas and Salas 1986,
  AIAA J. 24:1074); in two dimensions the outer state carries the compressible vortex of the lift found so far, so that
  a farfield at 30 to 100 chords acts like infinity.
- outflow: the static pressure outside acts on what leaves, all else comes from inside, so that boundary layers and
  wakes pass; what leaves faster than sound keeps its own pressure.
- imposed: Roe's flux against a given outer state.
Verified by tests/test_flow.py (freestream preserved) and validation/.
"""

import math

import numpy as np

from zephyrum.flow.flux import exact_flux, roe_flux
from zephyrum.flow.gas import Scales
from zephyrum.flow.kernels import serial
from zephyrum.mesh import Mesh

SLIP, FARFIELD, IMPOSED, NO_SLIP, OUTFLOW = range(5)
CODES = {"wall": NO_SLIP, "slip": SLIP, "symmetry": SLIP, "farfield": FARFIELD, "outflow": OUTFLOW, "imposed": IMPOSED}


def code_of(role: str, model: str) -> int:
    """What the kernels do at a boundary of that role; a wall slips in inviscid flow."""
    return SLIP if role == "wall" and model == "euler" else CODES[role]


@serial
def boundary_flux(code, p, u, v, w, T, pe, ue, ve, we, te, nx, ny, nz, gamma):
    """Flux (5) out of the domain through a unit area; (p..T) inside, (pe..te) outside."""
    if code in (SLIP, NO_SLIP):
        return 0.0, p * nx, p * ny, p * nz, 0.0
    if code == IMPOSED:
        return roe_flux(p, u, v, w, T, pe, ue, ve, we, te, nx, ny, nz, gamma)
    if code == OUTFLOW:
        own = u * nx + v * ny + w * nz
        return exact_flux(p if own * own > T else pe, u, v, w, T, nx, ny, nz, gamma)
    g1 = gamma - 1.0
    ui, uo = u * nx + v * ny + w * nz, ue * nx + ve * ny + we * nz
    ai, ao = math.sqrt(T), math.sqrt(te)
    leaving, entering = ui + 2.0 * ai / g1, uo - 2.0 * ao / g1
    if uo < -ao:
        leaving = uo + 2.0 * ao / g1
    elif ui > ai:
        entering = ui - 2.0 * ai / g1
    ub = 0.5 * (leaving + entering)
    ab = max(0.25 * g1 * (leaving - entering), 1e-3)
    if ub > 0.0:
        pb, tb, shift, us, vs, ws = p, T, ub - ui, u, v, w
    else:
        pb, tb, shift, us, vs, ws = pe, te, ub - uo, ue, ve, we
    # same entropy as the side the air comes from: p ~ T^(gamma / (gamma - 1))
    total = (1.0 + gamma * pb) * (ab * ab / tb) ** (gamma / g1)
    return exact_flux(
        (total - 1.0) / gamma, us + shift * nx, vs + shift * ny, ws + shift * nz, ab * ab, nx, ny, nz, gamma
    )


def outer_states(mesh: Mesh, scales: Scales, lift: float, vortex: bool) -> np.ndarray:
    """(n_boundary, m) scaled states outside every boundary face: the freestream, with the vortex of `lift` = CL chord [m].

    The vortex is that of a lifting section in compressible subsonic flow, with the pressure and temperature that keep
    total enthalpy and entropy.
    """
    states = np.tile(scales.freestream, (mesh.n_faces - mesh.n_interior, 1))
    if not vortex or lift == 0.0:
        return states
    mach, gamma = scales.mach, scales.gamma
    dx, _, dz = (mesh.face_centroid[mesh.n_interior :] - np.asarray(mesh.reference.point)).T
    alpha = math.atan2(scales.freestream[3], scales.freestream[1])
    r, theta = np.hypot(dx, dz), np.arctan2(dz, dx)
    beta = math.sqrt(1.0 - mach**2)
    around = 0.5 * lift * mach * beta / (2.0 * math.pi * r * (1.0 - (mach * np.sin(theta - alpha)) ** 2))
    states[:, 1] += around * np.sin(theta)
    states[:, 3] -= around * np.cos(theta)
    speed2 = np.einsum("ij,ij->i", states[:, 1:4], states[:, 1:4])
    states[:, 4] = 1.0 + 0.5 * (gamma - 1.0) * (mach**2 - speed2)
    states[:, 0] = (states[:, 4] ** (gamma / (gamma - 1.0)) - 1.0) / gamma
    return states
