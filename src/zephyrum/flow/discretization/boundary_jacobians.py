"""Jacobians of boundary faces, by difference quotients of the boundary flux.

Verified by tests/test_flow.py (J v against differences of the residual).
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import inner_inlined, inner_serial, parallel, prange, serial
from zephyrum.flow.discretization.boundary_fluxes import (
    boundary_cell_vector,
    boundary_face_flux,
    boundary_unknowns,
    face_normal,
    subtract_boundary_diffusion,
)
from zephyrum.flow.discretization.face_batches import MAX_UNKNOWNS
from zephyrum.flow.discretization.kernel_arrays import JacobianArrays
from zephyrum.flow.physics.boundary_conditions import IMPOSED, NO_SLIP
from zephyrum.flow.physics.transport import viscosity
from zephyrum.flow.physics.turbulence import EULER, equation_count

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import Boundary, Faces, SchemeNumbers
    from zephyrum.flow.physics.gas_model import GasModel


STATE_STEP = 1e-7  # of the unknowns of the flow; a thousand times that of the turbulence unknowns


@serial
def difference_step(m: int):
    """Difference by which unknown m is moved: turbulence is counted in hundreds."""
    return STATE_STEP if m < 5 else 1e3 * STATE_STEP


@parallel
def boundary_jacobians(
    q: np.ndarray,
    g: np.ndarray,
    faces: "Faces",
    boundary: "Boundary",
    scheme: "SchemeNumbers",
    gas: "GasModel",
    out: JacobianArrays,
):
    """Fill the Jacobians of the boundary faces.

    Parameters
    ----------
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    scheme : SchemeNumbers
        Scheme.
    gas : GasModel
        Gas.
    out : JacobianArrays
        Filled.

    Notes
    -----
    blocks[:, 0] are derivatives to the face state at a fixed cell, viscous_jacobian those to the cell at a fixed face
    state.
    """
    for e in prange(len(boundary.code)):
        _set_boundary_jacobian(np.int64(e), (q, g), faces, boundary, scheme, gas, out)


@inner_serial
def _set_boundary_jacobian(e, states, faces, boundary, scheme, gas, out):
    """`boundary_jacobians` of one face; a kernel of its own, which the parallel loop does not compile again."""
    q, g = states
    axes = scheme.axes
    f = boundary.first + e
    c = faces.left[f]
    base, moved = np.empty(MAX_UNKNOWNS), np.empty(MAX_UNKNOWNS)
    for j in range(-1, len(axes)):  # one call site, for the base and every unknown
        perturbed = axes[j] if j >= 0 else -1
        h = difference_step(perturbed) if j >= 0 else 0.0
        boundary_face_flux((q, g), f, faces, boundary, scheme, gas, (perturbed, h), moved)
        _store_difference(base, moved, j, h, faces.area[f], axes, out.blocks[f, 0])
    normal = face_normal(faces, f)
    un = q[c, 1] * normal[0] + q[c, 2] * normal[1] + q[c, 3] * normal[2]
    out.speed[f] = faces.area[f] * (abs(un) + np.sqrt(q[c, 4]))
    if scheme.model > EULER and boundary.code[e] in (NO_SLIP, IMPOSED):
        _set_boundary_viscous_jacobian((q, g), f, faces, boundary, scheme, gas, (base, moved), out)


@inner_inlined
def _store_difference(base, moved, j, h, area, axes, out):
    """Column j of out from the flux `moved` by h, or the base itself for j = -1."""
    if j < 0:
        for k in range(len(base)):
            base[k] = moved[k]
        return
    for k in range(len(axes)):
        out[k, j] = area * (moved[axes[k]] - base[axes[k]]) / h


@inner_inlined
def _set_boundary_viscous_jacobian(states, f, faces, boundary, scheme, gas, work, out):
    """Fill the viscous Jacobian and coefficients of a wall or an imposed boundary; they add to the wave speed."""
    q, g = states
    base, moved = work
    c, e, m, axes, only = faces.left[f], f - boundary.first, q.shape[1], scheme.axes, np.int32(0)
    # one more cell that only this face sees: the viscous flux of the cell itself, at fixed gradients
    own, fixed = np.empty((1, m)), np.empty((1, m, 3))
    for k in range(m):
        own[0, k] = q[c, k]
        for d in range(3):
            fixed[0, k, d] = g[c, k, d]
    for j in range(-1, len(axes)):
        h = difference_step(axes[max(j, 0)])
        for k in range(len(moved)):
            moved[k] = 0.0
        if j >= 0:
            own[0, axes[j]] += h
        subtract_boundary_diffusion((own, fixed), only, f, faces, boundary, scheme, gas, moved)
        if j >= 0:
            own[0, axes[j]] = q[c, axes[j]]
        _store_difference(base, moved, j, h, faces.area[f], axes, out.viscous_jacobian[f])
    r, normal = boundary_cell_vector(faces, f), face_normal(faces, f)
    height = r[0] * normal[0] + r[1] * normal[1] + r[2] * normal[2]
    out.speed[f] += 2.0 * faces.area[f] * viscosity(q[c, 4], gas) / height
    state = np.zeros(m)
    made = boundary_unknowns(q, c, e, boundary, height, scheme.model, gas, state)
    for k in range(4):
        out.viscous_coefficients[f, k] = faces.area[f] * made[k]
    for k in range(len(axes) - 2 - equation_count(scheme.model)):
        out.viscous_coefficients[f, 4 + k] = state[axes[1 + k]]
