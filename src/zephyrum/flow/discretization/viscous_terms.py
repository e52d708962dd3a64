"""Friction and heat conduction at faces: laminar plus eddy viscosity, from corrected face gradients.

The gradient at a face is the mean of the two cells', corrected along the normal so that it agrees with the difference
of the cell values (Nishikawa 2010, AIAA 2010-5093, and Weiss, Maruszewski and Smith 1999, AIAA J. 37:29, for the form
of the correction). Viscosity after Sutherland; Stokes' hypothesis. Coefficients are taken at the mean of the two face
states. Verified by tests/test_viscous.py (Couette, Poiseuille) and validation/ (manufactured Navier-Stokes, Blasius).
"""

import math

from zephyrum._core.jit import inlined, serial
from zephyrum.flow.discretization.face_batches import (
    AREA,
    BATCH_SIZE,
    BLEND,
    CELL_L,
    CELL_R,
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
)
from zephyrum.flow.physics.turbulence.sa import sa_diffusivity, sa_eddy_viscosity
from zephyrum.flow.physics.turbulence.sst import sst_diffusivities, sst_eddy_viscosity


@inlined
def viscosity(T, law):
    """Sutherland's viscosity at scaled temperature T, in scaled units (metres)."""
    return law.viscosity * T * math.sqrt(T) * (1.0 + law.sutherland) / (T + law.sutherland)


@inlined
def diffusion_coefficients(p, T, x, w, floor, blend, model, law):
    """(mu, heat, spread, spread_w): viscosity with its eddy part, conductivity, diffusion coefficients of turbulence.

    x, w: turbulence unknowns; floor, blend: see `sources`.
    """
    mu = viscosity(T, law)
    eddy = diffusion = diffusion_w = 0.0
    rho = (1.0 + law.gamma * p) / T
    if len(model) == 2:
        y = rho * law.viscosity * x
        eddy = sa_eddy_viscosity(y, mu, floor) * blend
        diffusion = sa_diffusivity(y, mu)
    if len(model) == 3:
        eddy = sst_eddy_viscosity(rho, law.k_unit * x, w, floor)
        diffusion, diffusion_w = sst_diffusivities(mu, eddy, blend)
    conductivity = (mu / law.prandtl + eddy / law.turbulent_prandtl) / (law.gamma - 1.0)
    return mu + eddy, conductivity, diffusion, diffusion_w


@serial
def correct_mean_gradients(s, axes):
    """Make the mean gradients in the SLOPE rows agree with the differences of the cell values."""
    nx, ny, nz = NORMAL, NORMAL + BATCH_SIZE, NORMAL + 2 * BATCH_SIZE
    for j in range(1, len(axes)):
        row = axes[j] * BATCH_SIZE
        for k in range(BATCH_SIZE):
            mean = 0.5 * (s[TO_CELL_L + row + k] + s[TO_CELL_R + row + k])
            up = (s[CELL_R + row + k] - s[CELL_L + row + k] - mean) / s[NORMAL_DISTANCE + k]
            s[GRADIENT_X + row + k] += up * s[nx + k]
            s[GRADIENT_Y + row + k] += up * s[ny + k]
            s[GRADIENT_Z + row + k] += up * s[nz + k]


@serial
def subtract_viscous_flux(s, model, law):
    """Take friction, conduction and turbulent diffusion off the FLUX rows."""
    for k in range(BATCH_SIZE):
        p = 0.5 * (s[STATE_L + k] + s[STATE_R + k])
        u = 0.5 * (s[STATE_L + BATCH_SIZE + k] + s[STATE_R + BATCH_SIZE + k])
        v = 0.5 * (s[STATE_L + 2 * BATCH_SIZE + k] + s[STATE_R + 2 * BATCH_SIZE + k])
        w = 0.5 * (s[STATE_L + 3 * BATCH_SIZE + k] + s[STATE_R + 3 * BATCH_SIZE + k])
        T = 0.5 * (s[STATE_L + 4 * BATCH_SIZE + k] + s[STATE_R + 4 * BATCH_SIZE + k])
        x = y = floor = blend = 0.0
        if len(model) > 1:
            x = 0.5 * (s[STATE_L + 5 * BATCH_SIZE + k] + s[STATE_R + 5 * BATCH_SIZE + k])
            floor, blend = s[FLOOR + k], s[BLEND + k]
        if len(model) > 2:
            y = 0.5 * (s[STATE_L + 6 * BATCH_SIZE + k] + s[STATE_R + 6 * BATCH_SIZE + k])
        mu, conductivity, diffusion, diffusion_w = diffusion_coefficients(p, T, x, y, floor, blend, model, law)
        nx, ny, nz = s[NORMAL + k], s[NORMAL + BATCH_SIZE + k], s[NORMAL + 2 * BATCH_SIZE + k]
        ux, uy, uz = s[GRADIENT_X + BATCH_SIZE + k], s[GRADIENT_Y + BATCH_SIZE + k], s[GRADIENT_Z + BATCH_SIZE + k]
        vx, vy, vz = (
            s[GRADIENT_X + 2 * BATCH_SIZE + k],
            s[GRADIENT_Y + 2 * BATCH_SIZE + k],
            s[GRADIENT_Z + 2 * BATCH_SIZE + k],
        )
        wx, wy, wz = (
            s[GRADIENT_X + 3 * BATCH_SIZE + k],
            s[GRADIENT_Y + 3 * BATCH_SIZE + k],
            s[GRADIENT_Z + 3 * BATCH_SIZE + k],
        )
        bulk = 2.0 / 3.0 * (ux + vy + wz)
        area = s[AREA + k]
        fx = area * mu * (2.0 * ux * nx + (uy + vx) * ny + (uz + wx) * nz - bulk * nx)
        fy = area * mu * ((vx + uy) * nx + 2.0 * vy * ny + (vz + wy) * nz - bulk * ny)
        fz = area * mu * ((wx + uz) * nx + (wy + vz) * ny + 2.0 * wz * nz - bulk * nz)
        tn = (
            s[GRADIENT_X + 4 * BATCH_SIZE + k] * nx
            + s[GRADIENT_Y + 4 * BATCH_SIZE + k] * ny
            + s[GRADIENT_Z + 4 * BATCH_SIZE + k] * nz
        )
        s[FLUX + BATCH_SIZE + k] -= fx
        s[FLUX + 2 * BATCH_SIZE + k] -= fy
        s[FLUX + 3 * BATCH_SIZE + k] -= fz
        s[FLUX + 4 * BATCH_SIZE + k] -= u * fx + v * fy + w * fz + area * conductivity * tn
        if len(model) > 1:
            xn = (
                s[GRADIENT_X + 5 * BATCH_SIZE + k] * nx
                + s[GRADIENT_Y + 5 * BATCH_SIZE + k] * ny
                + s[GRADIENT_Z + 5 * BATCH_SIZE + k] * nz
            )
            s[FLUX + 5 * BATCH_SIZE + k] -= area * diffusion * xn
        if len(model) > 2:
            yn = (
                s[GRADIENT_X + 6 * BATCH_SIZE + k] * nx
                + s[GRADIENT_Y + 6 * BATCH_SIZE + k] * ny
                + s[GRADIENT_Z + 6 * BATCH_SIZE + k] * nz
            )
            s[FLUX + 6 * BATCH_SIZE + k] -= area * diffusion_w * yn
