"""Interior faces taken thirty-two at a time, so that the arithmetic runs in the processor's vector registers.

A block of faces is gathered into one flat scratch array, row after row of `BATCH_SIZE` numbers (row r, lane k at `r *
BATCH_SIZE + k`), then worked on by loops without branches. Groups of `MAX_UNKNOWNS` rows hold the two cells' unknowns,
the increments g.r to the face and g.d along the line between the centroids on either side, the two face states, the
mean of the two gradients, and the flux. A last, part-filled block repeats its last face. Verified by
tests/test_kernels.py (against face-by-face evaluation; J v against differences of the residual).
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import inlined, inner_inlined
from zephyrum.flow.discretization.limiter import limiter_weight, van_albada
from zephyrum.flow.physics.inviscid_flux import roe_flux
from zephyrum.flow.physics.turbulence import EULER, LAMINAR

if TYPE_CHECKING:
    from zephyrum.flow.discretization.kernel_arrays import Faces, SchemeNumbers


BATCH_SIZE = 32
MAX_UNKNOWNS = 7  # unknowns of a cell: five of the mean flow, at most two of turbulence
LEAST_FACE_FRACTION = 0.2  # a face value of pressure or temperature below this fraction of the cell's is not used
# mass flux, in speeds of sound, at which the upwinding of turbulence is rounded off: Newton's method stalls on a kink
UPWIND_ROUNDING = 1e-5
LEAST_COSINE = 0.2  # least cosine between a face's normal and the line between centroids that is divided by

_group = MAX_UNKNOWNS * BATCH_SIZE
CELL_L, CELL_R = 0 * _group, 1 * _group  # unknowns of the cells
TO_FACE_L, TO_FACE_R = 2 * _group, 3 * _group  # g.r of either cell
TO_CELL_L, TO_CELL_R = 4 * _group, 5 * _group  # g.d of either cell, each its own d, from left to right
STATE_L, STATE_R = 6 * _group, 7 * _group
FLUX = 8 * _group
GRADIENT_X, GRADIENT_Y, GRADIENT_Z = 9 * _group, 10 * _group, 11 * _group
_rows = [12 * _group + k * BATCH_SIZE for k in range(16)]
FRACTION_L, FRACTION_R, AREA, WEIGHT = _rows[:4]
PHYSICAL_L, PHYSICAL_R = _rows[4:6]  # 1 where the reconstructed pressure and temperature are used
FLOOR, BLEND = _rows[6:8]  # the closure
NORMAL_DISTANCE = _rows[8]  # between the centroids along the normal
VISCOSITY, CONDUCTIVITY, DIFFUSION, DIFFUSION_W = _rows[9:13]
NORMAL = _rows[13]  # three rows
SCRATCH_SIZE = NORMAL + 3 * BATCH_SIZE


@inlined
def gather_batch(
    s: np.ndarray, low: int, q: np.ndarray, g: np.ndarray, closure: np.ndarray, faces: "Faces", scheme: "SchemeNumbers"
):
    """Gather a batch of faces into the scratch array; in two dimensions the y components are left at 0.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    low : int
        First face of the batch.
    q : (n, m) array
        States.
    g : (n, m, 3) array
        Gradients.
    closure : (n, 2) array
        Closure of the turbulence model.
    faces : Faces
        Faces.
    scheme : SchemeNumbers
        Scheme.
    """
    axes = scheme.axes
    three, viscous = axes[2] == 2, scheme.model > EULER
    last = len(faces.right) - 1
    if not three:
        for group in (CELL_L, CELL_R, STATE_L, STATE_R, GRADIENT_X, GRADIENT_Y, GRADIENT_Z):
            for k in range(BATCH_SIZE):
                s[group + 2 * BATCH_SIZE + k] = 0.0
        for k in range(_group):
            s[GRADIENT_Y + k] = 0.0
    for k in range(BATCH_SIZE):
        f = min(low + k, last)
        a, b = faces.left[f], faces.right[f]
        dx, dy, dz = faces.vector_to_right[f, 0], faces.vector_to_right[f, 1], faces.vector_to_right[f, 2]
        ex, ey, ez = faces.vector_to_left[f, 0], faces.vector_to_left[f, 1], faces.vector_to_left[f, 2]
        rx, ry, rz = faces.to_left[f, 0], faces.to_left[f, 1], faces.to_left[f, 2]
        sx, sy, sz = faces.to_right[f, 0], faces.to_right[f, 1], faces.to_right[f, 2]
        s[FRACTION_L + k], s[FRACTION_R + k], s[AREA + k] = faces.fraction[f, 0], faces.fraction[f, 1], faces.area[f]
        for j in range(3):
            s[NORMAL + j * BATCH_SIZE + k] = faces.normal[f, j]
        for j in range(len(axes)):
            m = axes[j]
            row = m * BATCH_SIZE + k
            s[CELL_L + row], s[CELL_R + row] = q[a, m], q[b, m]
            xa, za, xb, zb = g[a, m, 0], g[a, m, 2], g[b, m, 0], g[b, m, 2]
            reach_a, along_a = xa * rx + za * rz, xa * dx + za * dz
            reach_b, along_b = xb * sx + zb * sz, xb * ex + zb * ez
            if three:
                ya, yb = g[a, m, 1], g[b, m, 1]
                reach_a += ya * ry
                along_a += ya * dy
                reach_b += yb * sy
                along_b += yb * ey
                if viscous:
                    s[GRADIENT_Y + row] = 0.5 * (ya + yb)
            if viscous:
                s[GRADIENT_X + row], s[GRADIENT_Z + row] = 0.5 * (xa + xb), 0.5 * (za + zb)
            s[TO_FACE_L + row], s[TO_CELL_L + row] = reach_a, along_a
            s[TO_FACE_R + row], s[TO_CELL_R + row] = reach_b, along_b
        if scheme.model > LAMINAR:
            s[FLOOR + k] = 0.5 * (closure[a, 0] + closure[b, 0])
            s[BLEND + k] = 0.5 * (closure[a, 1] + closure[b, 1])
        if viscous:
            dx, dy, dz = 0.5 * (dx + ex), 0.5 * (dy + ey), 0.5 * (dz + ez)
            nd = dx * faces.normal[f, 0] + dy * faces.normal[f, 1] + dz * faces.normal[f, 2]
            s[NORMAL_DISTANCE + k] = max(nd, LEAST_COSINE * (dx * dx + dy * dy + dz * dz) ** 0.5)


@inlined
def upwind_pressure(s: np.ndarray, k: int):
    """Pressure differences on the far side of the left and of the right cell, along the line between them.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    k : int
        Lane.
    """
    jump = s[CELL_R + k] - s[CELL_L + k]
    return 2.0 * s[TO_CELL_L + k] - jump, 2.0 * s[TO_CELL_R + k] - jump


@inlined
def batch_state(s: np.ndarray, group: int, k: int):
    """Mean-flow unknowns (5) of a lane in the rows of a group.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    group : int
        First row of the group.
    k : int
        Lane.
    """
    a = group + k
    return s[a], s[a + BATCH_SIZE], s[a + 2 * BATCH_SIZE], s[a + 3 * BATCH_SIZE], s[a + 4 * BATCH_SIZE]


@inlined
def set_limiter_weights(s: np.ndarray, floor: float, gamma: float):
    """Fill the weights of the limiter.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    floor : float
        Least weight.
    gamma : float
        Ratio of the specific heats.

    Returns
    -------
    float
        Largest weight.
    """
    largest = 0.0
    for k in range(BATCH_SIZE):
        far_l, far_r = upwind_pressure(s, k)
        left, right = batch_state(s, CELL_L, k), batch_state(s, CELL_R, k)
        s[WEIGHT + k] = limiter_weight(floor, left, right, far_l, far_r, gamma)
    for k in range(BATCH_SIZE):
        largest = max(largest, s[WEIGHT + k])
    return largest


@inlined
def face_increments(s: np.ndarray, m: int, k: int, kappa: float):
    """Increments of an unknown from the left and from the right centroid to the face.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    m : int
        Unknown.
    k : int
        Lane.
    kappa : float
        Weight of the central difference.
    """
    row = m * BATCH_SIZE + k
    jump = s[CELL_R + row] - s[CELL_L + row]
    left = s[TO_FACE_L + row] + kappa * s[FRACTION_L + k] * (jump - s[TO_CELL_L + row])
    right = s[TO_FACE_R + row] - kappa * s[FRACTION_R + k] * (jump - s[TO_CELL_R + row])
    return left, right


@inlined
def limiter_factors(s: np.ndarray, m: int, k: int, weight: float, eps: float):
    """Fractions of the two increments of an unknown that the limiter leaves.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    m : int
        Unknown.
    k : int
        Lane.
    weight : float
        Weight of the limiter.
    eps : float
        Squared variation taken as smooth.
    """
    row = m * BATCH_SIZE + k
    jump = s[CELL_R + row] - s[CELL_L + row]
    factor_l, _, _ = van_albada(2.0 * s[TO_CELL_L + row] - jump, jump, eps)
    factor_r, _, _ = van_albada(2.0 * s[TO_CELL_R + row] - jump, jump, eps)
    return 1.0 - weight * (1.0 - factor_l), 1.0 - weight * (1.0 - factor_r)


@inlined
def reconstruct(s: np.ndarray, scheme: "SchemeNumbers", gamma: float):
    """Reconstruct the two states at every face of a batch.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    scheme : SchemeNumbers
        Scheme.
    gamma : float
        Ratio of the specific heats.
    """
    limited, kappa, axes = False, scheme.kappa, scheme.axes
    if scheme.order_factor == 0.0:
        for k in range(BATCH_SIZE):
            s[WEIGHT + k] = 0.0
    else:
        limited = set_limiter_weights(s, scheme.limiter_floor, gamma) > 0.0
    for j in range(len(axes)):
        m = axes[j]
        e = scheme.smooth_squares[m]
        row = m * BATCH_SIZE
        if (scheme.turbulence_order_factor if m > 4 else scheme.order_factor) == 0.0:
            for k in range(BATCH_SIZE):
                s[STATE_L + row + k], s[STATE_R + row + k] = s[CELL_L + row + k], s[CELL_R + row + k]
        elif limited:
            for k in range(BATCH_SIZE):
                increment_l, increment_r = face_increments(s, m, k, kappa)
                factor_l, factor_r = limiter_factors(s, m, k, s[WEIGHT + k], e)
                s[STATE_L + row + k] = s[CELL_L + row + k] + increment_l * factor_l
                s[STATE_R + row + k] = s[CELL_R + row + k] + increment_r * factor_r
        else:
            for k in range(BATCH_SIZE):
                increment_l, increment_r = face_increments(s, m, k, kappa)
                s[STATE_L + row + k] = s[CELL_L + row + k] + increment_l
                s[STATE_R + row + k] = s[CELL_R + row + k] + increment_r
    _keep_physical(s, CELL_L, STATE_L, PHYSICAL_L, gamma, axes)
    _keep_physical(s, CELL_R, STATE_R, PHYSICAL_R, gamma, axes)


@inner_inlined
def _keep_physical(s, own, state, flag, gamma, axes):
    """Where the pressure or temperature at the face is not safe, take the cell's own state."""
    temperature_row = 4 * BATCH_SIZE
    for k in range(BATCH_SIZE):
        pressure_ok = 1.0 + gamma * s[state + k] >= LEAST_FACE_FRACTION * (1.0 + gamma * s[own + k])
        temperature_ok = s[state + temperature_row + k] >= LEAST_FACE_FRACTION * s[own + temperature_row + k]
        s[flag + k] = (1.0 if pressure_ok else 0.0) * (1.0 if temperature_ok else 0.0)
    for j in range(len(axes)):
        for k in range(BATCH_SIZE):
            row = axes[j] * BATCH_SIZE + k
            s[state + row] = s[state + row] if s[flag + k] > 0.0 else s[own + row]


@inlined
def perturb(s: np.ndarray, component: int, by_l: float, by_r: float):
    """Change one unknown of the two states of every lane.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    component : int
        Unknown.
    by_l, by_r : float
        Changes of the left and of the right state.
    """
    for k in range(BATCH_SIZE):
        s[STATE_L + component * BATCH_SIZE + k] += by_l
        s[STATE_R + component * BATCH_SIZE + k] += by_r


@inlined
def set_inviscid_flux(s: np.ndarray, n_turbulence: int, gamma: float):
    """Fill the FLUX rows with Roe's flux times area; turbulence is convected with the mass flux, upwind.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    n_turbulence : int
        Number of turbulence equations.
    gamma : float
        Ratio of the specific heats.
    """
    for k in range(BATCH_SIZE):
        normal = s[NORMAL + k], s[NORMAL + BATCH_SIZE + k], s[NORMAL + 2 * BATCH_SIZE + k]
        F = roe_flux(batch_state(s, STATE_L, k), batch_state(s, STATE_R, k), normal, gamma)
        for m in range(5):
            s[FLUX + m * BATCH_SIZE + k] = s[AREA + k] * F[m]
    for m in range(5, 5 + n_turbulence):
        for k in range(BATCH_SIZE):
            mass, a, b = s[FLUX + k], s[STATE_L + m * BATCH_SIZE + k], s[STATE_R + m * BATCH_SIZE + k]
            rounded = (mass * mass + (UPWIND_ROUNDING * s[AREA + k]) ** 2) ** 0.5
            s[FLUX + m * BATCH_SIZE + k] = 0.5 * (mass * (a + b) - rounded * (b - a))
