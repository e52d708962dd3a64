"""Viscous stress and heat conduction at interior faces, from corrected face gradients.

The gradient at a face is the mean of the two cells', corrected along the normal so that it agrees with the difference
of the cell values (Nishikawa 2010, AIAA 2010-5093, and Weiss, Maruszewski and Smith 1999, AIAA J. 37:29, for the form
of the correction). Coefficients are taken at the mean of the two face states (see `transport`).
Verified by tests/test_viscous.py (Couette, Poiseuille) and validation/ (manufactured Navier-Stokes, Blasius).
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum._core.jit import inlined, inner_inlined
from zephyrum.flow.discretization.face_batches import (
    AREA,
    BATCH_SIZE,
    BLEND,
    CELL_L,
    CELL_R,
    CONDUCTIVITY,
    DIFFUSION,
    DIFFUSION_W,
    FLOOR,
    FLUX,
    GRADIENT_X,
    GRADIENT_Y,
    GRADIENT_Z,
    NORMAL,
    NORMAL_DISTANCE,
    STATE_L,
    STATE_R,
    TO_CELL_L,
    TO_CELL_R,
    VISCOSITY,
)
from zephyrum.flow.physics.transport import conductivity, sa_diffusion, sst_diffusion, viscosity, viscous_stress
from zephyrum.flow.physics.turbulence import SA, SST

if TYPE_CHECKING:
    from zephyrum.flow.physics.gas_model import GasModel


@inlined
def correct_mean_gradients(s: np.ndarray, axes: np.ndarray):
    """Make the mean gradients in the GRADIENT rows agree with the differences of the cell values.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    axes : (nb,) array
        Active unknowns.
    """
    nx, ny, nz = NORMAL, NORMAL + BATCH_SIZE, NORMAL + 2 * BATCH_SIZE
    for j in range(1, len(axes)):
        row = axes[j] * BATCH_SIZE
        for k in range(BATCH_SIZE):
            mean = 0.5 * (s[TO_CELL_L + row + k] + s[TO_CELL_R + row + k])
            up = (s[CELL_R + row + k] - s[CELL_L + row + k] - mean) / s[NORMAL_DISTANCE + k]
            s[GRADIENT_X + row + k] += up * s[nx + k]
            s[GRADIENT_Y + row + k] += up * s[ny + k]
            s[GRADIENT_Z + row + k] += up * s[nz + k]


@inlined
def set_diffusion_coefficients(s: np.ndarray, model: int, gas: "GasModel"):
    """Fill the rows of viscosity, conductivity and turbulent diffusion, at the mean of the two face states.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    model : int
        Code of the flow model.
    gas : GasModel
        Gas.

    Notes
    -----
    There is one loop for each model, so that each is vectorised.
    """
    if model == SA:
        for k in range(BATCH_SIZE):
            rho, mu = _density_and_viscosity(s, k, gas)
            closure = s[FLOOR + k], s[BLEND + k]
            made = sa_diffusion(rho, mu, _mean_state(s, 5, k), closure, gas)
            s[VISCOSITY + k], s[CONDUCTIVITY + k], s[DIFFUSION + k] = made[0], made[1], made[2]
    elif model == SST:
        for k in range(BATCH_SIZE):
            rho, mu = _density_and_viscosity(s, k, gas)
            closure = s[FLOOR + k], s[BLEND + k]
            made = sst_diffusion(rho, mu, _mean_state(s, 5, k), _mean_state(s, 6, k), closure, gas)
            s[VISCOSITY + k], s[CONDUCTIVITY + k] = made[0], made[1]
            s[DIFFUSION + k], s[DIFFUSION_W + k] = made[2], made[3]
    else:
        for k in range(BATCH_SIZE):
            _, mu = _density_and_viscosity(s, k, gas)
            s[VISCOSITY + k], s[CONDUCTIVITY + k] = mu, conductivity(mu, 0.0, gas)


@inner_inlined
def _mean_state(s, m, k):
    """Mean of unknown m of the two face states of lane k."""
    return 0.5 * (s[STATE_L + m * BATCH_SIZE + k] + s[STATE_R + m * BATCH_SIZE + k])


@inner_inlined
def _density_and_viscosity(s, k, gas):
    T = _mean_state(s, 4, k)
    return (1.0 + gas.gamma * _mean_state(s, 0, k)) / T, viscosity(T, gas)


@inner_inlined
def _face_gradient(s, m, k):
    """Gradient (3) of unknown m at the face of lane k."""
    row = m * BATCH_SIZE + k
    return s[GRADIENT_X + row], s[GRADIENT_Y + row], s[GRADIENT_Z + row]


@inner_inlined
def _normal_derivative(s, m, k):
    gx, gy, gz = _face_gradient(s, m, k)
    return gx * s[NORMAL + k] + gy * s[NORMAL + BATCH_SIZE + k] + gz * s[NORMAL + 2 * BATCH_SIZE + k]


@inlined
def subtract_viscous_flux(s: np.ndarray, n_turbulence: int):
    """Subtract viscous stress, conduction and turbulent diffusion from the FLUX rows.

    Parameters
    ----------
    s : (SCRATCH_SIZE,) array
        Scratch array.
    n_turbulence : int
        Number of turbulence equations.
    """
    for k in range(BATCH_SIZE):
        normal = s[NORMAL + k], s[NORMAL + BATCH_SIZE + k], s[NORMAL + 2 * BATCH_SIZE + k]
        tx, ty, tz = viscous_stress(_face_gradient(s, 1, k), _face_gradient(s, 2, k), _face_gradient(s, 3, k), normal)
        force = s[AREA + k] * s[VISCOSITY + k]
        fx, fy, fz = force * tx, force * ty, force * tz
        work = _mean_state(s, 1, k) * fx + _mean_state(s, 2, k) * fy + _mean_state(s, 3, k) * fz
        s[FLUX + BATCH_SIZE + k] -= fx
        s[FLUX + 2 * BATCH_SIZE + k] -= fy
        s[FLUX + 3 * BATCH_SIZE + k] -= fz
        s[FLUX + 4 * BATCH_SIZE + k] -= work + s[AREA + k] * s[CONDUCTIVITY + k] * _normal_derivative(s, 4, k)
    if n_turbulence > 0:
        for k in range(BATCH_SIZE):
            s[FLUX + 5 * BATCH_SIZE + k] -= s[AREA + k] * s[DIFFUSION + k] * _normal_derivative(s, 5, k)
    if n_turbulence > 1:
        for k in range(BATCH_SIZE):
            s[FLUX + 6 * BATCH_SIZE + k] -= s[AREA + k] * s[DIFFUSION_W + k] * _normal_derivative(s, 6, k)
