"""Fluxes through boundary faces: the state at the face, its gradients and the condition of its role.

Verified by tests/test_flow.py and tests/test_viscous.py.
"""

import math
from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import inlined, inner_inlined, parallel, prange, serial
from zephyrum.flow.discretization.face_batches import LEAST_FACE_FRACTION
from zephyrum.flow.discretization.kernel_arrays import Boundary
from zephyrum.flow.discretization.wall_pressure_gradient import wall_pressure_rise
from zephyrum.flow.physics.boundary_conditions import FARFIELD, IMPOSED, NO_SLIP, boundary_flux
from zephyrum.flow.physics.gas_model import GasModel
from zephyrum.flow.physics.transport import diffusion_coefficients, viscosity, viscous_stress
from zephyrum.flow.physics.turbulence import EULER, LAMINAR, SA, SST
from zephyrum.flow.physics.turbulence.sa import ROUGH_CHI, ROUGH_SHIFT
from zephyrum.flow.physics.turbulence.sst import BETA, WALL_OMEGA_FACTOR

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import Faces, SchemeNumbers


@serial
def boundary_order_factor(code: int, order_factor: float):
    """Order factor at a boundary face: nothing is extrapolated to the farfield, where the cells are wide and the stream
    is nearly uniform.

    Parameters
    ----------
    code : int
        Code of the boundary condition.
    order_factor : float
        1 at second order, 0 at first.
    """
    return 0.0 if code == FARFIELD else order_factor


@inlined
def boundary_cell_vector(faces: "Faces", f: int):
    """Vector (3) from the centroid of the cell to that of a boundary face.

    Parameters
    ----------
    faces : Faces
        Faces.
    f : int
        Face.
    """
    return faces.to_left[f, 0], faces.to_left[f, 1], faces.to_left[f, 2]


@inlined
def face_normal(faces: "Faces", f: int):
    """Unit normal (3) of a face.

    Parameters
    ----------
    faces : Faces
        Faces.
    f : int
        Face.
    """
    return faces.normal[f, 0], faces.normal[f, 1], faces.normal[f, 2]


@inner_inlined
def _extrapolated(q, g, c, m, r, order_factor):
    """Unknown m of cell c at the distance r (3) from its centroid."""
    return q[c, m] + order_factor * (g[c, m, 0] * r[0] + g[c, m, 1] * r[1] + g[c, m, 2] * r[2])


@serial
def boundary_face_state(states: tuple, f: int, faces: "Faces", boundary: Boundary, order_factor: float, gamma: float):
    """State (5) of a cell extrapolated to its boundary face; its own state where that is not physical.

    Parameters
    ----------
    states : tuple
        States (n, m) and gradients (n, m, 3).
    f : int
        Face.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    order_factor : float
        1 at second order, 0 at first.
    gamma : float
        Ratio of the specific heats.
    """
    q, g = states
    c, r = faces.left[f], boundary_cell_vector(faces, f)
    p = _extrapolated(q, g, c, 0, r, order_factor)
    p += order_factor * wall_pressure_rise(states, f, faces, boundary, gamma)
    t = _extrapolated(q, g, c, 4, r, order_factor)
    if 1.0 + gamma * p < LEAST_FACE_FRACTION * (1.0 + gamma * q[c, 0]) or t < LEAST_FACE_FRACTION * q[c, 4]:
        return q[c, 0], q[c, 1], q[c, 2], q[c, 3], q[c, 4]
    u = _extrapolated(q, g, c, 1, r, order_factor)
    v = _extrapolated(q, g, c, 2, r, order_factor)
    w = _extrapolated(q, g, c, 3, r, order_factor)
    return p, u, v, w, t


@inlined
def boundary_gradients(
    states: tuple, c: int, face_state: np.ndarray, wall: tuple, r: tuple, normal: tuple, out: np.ndarray
):
    """Gradients at a boundary face, to second order along the normal.

    Parameters
    ----------
    states : tuple
        States (n, m) and gradients (n, m, 3).
    c : int
        Cell.
    face_state : (m,) array
        Unknowns at the face.
    wall : tuple
        1.0 to keep the gradients of the cell along the face, 0.0 at a wall, where nothing changes along it; and the
        wall gradient factor (see `face_data`).
    r : tuple
        Vector (3) from the centroid to the face [m].
    normal : tuple
        Unit normal (3).
    out : (m, 3) array
        Written.
    """
    q, g = states
    tangential, factor = wall
    rx, ry, rz = r
    nx, ny, nz = normal
    h = rx * nx + ry * ny + rz * nz
    sx, sy, sz = tangential * (rx - h * nx), tangential * (ry - h * ny), tangential * (rz - h * nz)
    for m in range(1, q.shape[1]):
        gx, gy, gz = g[c, m, 0], g[c, m, 1], g[c, m, 2]
        gn = gx * nx + gy * ny + gz * nz
        up = (face_state[m] - q[c, m] - gx * sx - gy * sy - gz * sz) / h
        if m < 6:  # not log(omega), which has no wall value to be fitted
            up += factor * (up - gn)
        out[m, 0] = up * nx + tangential * (gx - gn * nx)
        out[m, 1] = up * ny + tangential * (gy - gn * ny)
        out[m, 2] = up * nz + tangential * (gz - gn * nz)


@inlined
def subtract_diffusion(gradients: np.ndarray, state: np.ndarray, coefficients: tuple, normal: tuple, out: np.ndarray):
    """Subtract viscous stress, conduction and turbulent diffusion from the flux through a unit area.

    Parameters
    ----------
    gradients : (m, 3) array
        At the face.
    state : (m,) array
        At the face.
    coefficients : tuple
        Viscosity, conductivity and two diffusion coefficients of turbulence.
    normal : tuple
        Unit normal (3).
    out : (m,) array
        Changed in place.
    """
    s = gradients
    mu, conductivity, diffusion, diffusion_w = coefficients
    nx, ny, nz = normal
    gu, gv, gw = (s[1, 0], s[1, 1], s[1, 2]), (s[2, 0], s[2, 1], s[2, 2]), (s[3, 0], s[3, 1], s[3, 2])
    tx, ty, tz = viscous_stress(gu, gv, gw, normal)
    out[1] -= mu * tx
    out[2] -= mu * ty
    out[3] -= mu * tz
    heat = conductivity * (s[4, 0] * nx + s[4, 1] * ny + s[4, 2] * nz)
    out[4] -= mu * (state[1] * tx + state[2] * ty + state[3] * tz) + heat
    if len(s) > 5:
        out[5] -= diffusion * (s[5, 0] * nx + s[5, 1] * ny + s[5, 2] * nz)
    if len(s) > 6:
        out[6] -= diffusion_w * (s[6, 0] * nx + s[6, 1] * ny + s[6, 2] * nz)


@serial
def boundary_face_flux(
    states: tuple,
    f: int,
    faces: "Faces",
    boundary: Boundary,
    scheme: "SchemeNumbers",
    gas: GasModel,
    perturbation: tuple,
    out: np.ndarray,
):
    """Flux through a unit area of a boundary face.

    Parameters
    ----------
    states : tuple
        States (n, m) and gradients (n, m, 3).
    f : int
        Face.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    scheme : SchemeNumbers
        Scheme.
    gas : GasModel
        Gas.
    perturbation : tuple
        Unknown of the face state that is changed (-1: none), and by how much.
    out : (m,) array
        Written.
    """
    q, _ = states
    c, e = faces.left[f], f - boundary.first
    perturbed, h = perturbation
    exterior = boundary.exterior
    order_factor = boundary_order_factor(boundary.code[e], scheme.order_factor)
    p, u, v, w, T = boundary_face_state(states, f, faces, boundary, order_factor, gas.gamma)
    inside = (
        p + h * (perturbed == 0),
        u + h * (perturbed == 1),
        v + h * (perturbed == 2),
        w + h * (perturbed == 3),
        T + h * (perturbed == 4),
    )
    outside = exterior[e, 0], exterior[e, 1], exterior[e, 2], exterior[e, 3], exterior[e, 4]
    F = boundary_flux(boundary.code[e], inside, outside, face_normal(faces, f), gas.gamma)
    for m in range(5):
        out[m] = F[m]
    for m in range(5, q.shape[1]):
        own = q[c, m] + h * (perturbed == m)
        out[m] = F[0] * (own if F[0] > 0.0 else exterior[e, m])
    if scheme.model > EULER:
        subtract_boundary_diffusion(states, c, f, faces, boundary, scheme, gas, out)


@serial
def boundary_unknowns(
    q: np.ndarray, c: int, e: int, boundary: Boundary, height: float, model: int, gas: GasModel, state: np.ndarray
):
    """Fill the state at a boundary face.

    Parameters
    ----------
    q : (n, m) array
        States.
    c : int
        Cell.
    e : int
        Boundary face.
    boundary : Boundary
        Boundary faces.
    height : float
        Distance of the cell from the face [m].
    model : int
        Code of the flow model.
    gas : GasModel
        Gas.
    state : (m,) array
        Written.

    Returns
    -------
    tuple of 4 float
        Viscosity, conductivity and two diffusion coefficients of turbulence.

    Notes
    -----
    A wall's row of `exterior` holds its velocity, its temperature (0: adiabatic) and the shift of the wall distance by
    its roughness; any other row the state outside. The conductivity of an adiabatic wall is 0.
    """
    floor, conducts = 0.0, 1.0
    for m in range(q.shape[1]):
        state[m] = boundary.exterior[e, m]
    if boundary.code[e] == NO_SLIP:
        state[0] = q[c, 0]
        if boundary.exterior[e, 4] <= 0.0:
            state[4], conducts = q[c, 4], 0.0
        if model == SA:
            roughness_shift = boundary.exterior[e, 5]
            state[5] = q[c, 5] * roughness_shift / (roughness_shift + height)
            floor = ROUGH_CHI / ROUGH_SHIFT if roughness_shift > 0.0 else 0.0
        if model == SST:
            state[5] = 0.0
            nu = viscosity(state[4], gas) * state[4] / (1.0 + gas.gamma * state[0])
            state[6] = math.log(WALL_OMEGA_FACTOR * nu / (BETA[0] * height * height))
    x = state[5] if model > LAMINAR else 0.0
    w = state[6] if model == SST else 0.0
    mu, conductivity, diffusion, diffusion_w = diffusion_coefficients(
        state[0], state[4], x, w, (floor, 1.0), model, gas
    )
    return mu, conducts * conductivity, diffusion, diffusion_w


@serial
def subtract_boundary_diffusion(
    states: tuple,
    c: int,
    f: int,
    faces: "Faces",
    boundary: Boundary,
    scheme: "SchemeNumbers",
    gas: GasModel,
    out: np.ndarray,
):
    """Subtract the viscous flux through a boundary face from the flux through a unit area.

    Parameters
    ----------
    states : tuple
        States (n, m) and gradients (n, m, 3).
    c : int
        Cell of the states.
    f : int
        Face.
    faces : Faces
        Faces.
    boundary : Boundary
        Boundary faces.
    scheme : SchemeNumbers
        Scheme.
    gas : GasModel
        Gas.
    out : (m,) array
        Changed in place.
    """
    q, _ = states
    e = f - boundary.first
    if boundary.code[e] != NO_SLIP and boundary.code[e] != IMPOSED:
        return
    normal, r = face_normal(faces, f), boundary_cell_vector(faces, f)
    height = r[0] * normal[0] + r[1] * normal[1] + r[2] * normal[2]
    state, gradients = np.zeros(q.shape[1]), np.empty((q.shape[1], 3))
    coefficients = boundary_unknowns(q, c, e, boundary, height, scheme.model, gas, state)
    wall = 0.0 if boundary.code[e] == NO_SLIP else 1.0, boundary.wall_gradient_factor[e]
    boundary_gradients(states, c, state, wall, r, normal, gradients)
    subtract_diffusion(gradients, state, coefficients, normal, out)


@parallel
def boundary_fluxes(
    q: np.ndarray,
    g: np.ndarray,
    faces: "Faces",
    boundary: Boundary,
    scheme: "SchemeNumbers",
    gas: GasModel,
    rows: np.ndarray,
    out: np.ndarray,
):
    """Flux times area of some boundary faces.

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
    rows : (k,) array of int
        Boundary faces, counted from the first boundary face.
    out : (k, m) array
        Written.
    """
    for k in prange(len(rows)):
        unperturbed = np.int64(-1), 0.0  # a literal would be compiled apart
        f = boundary.first + rows[k]
        boundary_face_flux((q, g), f, faces, boundary, scheme, gas, unperturbed, out[k])
        for m in range(q.shape[1]):
            out[k, m] *= faces.area[f]
