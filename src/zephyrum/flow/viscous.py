"""Friction and heat conduction at faces: laminar plus eddy viscosity, from corrected face gradients.

The gradient at a face is the mean of the two cells', corrected along the normal so that it agrees with the difference
of the cell values (Nishikawa 2010, AIAA 2010-5093, and Weiss, Maruszewski and Smith 1999, AIAA J. 37:29, for the form
of the correction). Viscosity after Sutherland; Stokes' hypothesis. Coefficients are taken at the mean of the two face
states. Verified by tests/test_viscous.py (Couette, Poiseuille) and validation/ (manufactured Navier-Stokes, Blasius).
"""

import math

from zephyrum._core.jit import inlined, serial
from zephyrum.flow.lanes import (
    ACROSS,
    ALONG_L,
    ALONG_R,
    AREA,
    BLEND,
    FLOOR,
    FLUX,
    LANES,
    NORMAL,
    OWN_L,
    OWN_R,
    SLOPE_X,
    SLOPE_Y,
    SLOPE_Z,
    STATE_L,
    STATE_R,
)
from zephyrum.flow.turbulence.sa import sa_diffusivity, sa_eddy_viscosity
from zephyrum.flow.turbulence.sst import sst_diffusivities, sst_eddy_viscosity


@inlined
def viscosity(T, law):
    """Sutherland's viscosity at scaled temperature T, in scaled units (metres)."""
    return law.viscosity * T * math.sqrt(T) * (1.0 + law.sutherland) / (T + law.sutherland)


@inlined
def coefficients(p, T, x, w, floor, blend, model, law):
    """(mu, heat, spread, spread_w): viscosity with its eddy part, conductivity, diffusion coefficients of turbulence.

    x, w: turbulence unknowns; floor, blend: see `sources`.
    """
    mu = viscosity(T, law)
    eddy = spread = spread_w = 0.0
    rho = (1.0 + law.gamma * p) / T
    if len(model) == 2:
        y = rho * law.viscosity * x
        eddy = sa_eddy_viscosity(y, mu, floor) * blend
        spread = sa_diffusivity(y, mu)
    if len(model) == 3:
        eddy = sst_eddy_viscosity(rho, law.k_unit * x, w, floor)
        spread, spread_w = sst_diffusivities(mu, eddy, blend)
    heat = (mu / law.prandtl + eddy / law.turbulent_prandtl) / (law.gamma - 1.0)
    return mu + eddy, heat, spread, spread_w


@serial
def correct_slopes(s, axes):
    """Make the mean gradients in the SLOPE rows agree with the differences of the cell values."""
    nx, ny, nz = NORMAL, NORMAL + LANES, NORMAL + 2 * LANES
    for j in range(1, len(axes)):
        row = axes[j] * LANES
        for k in range(LANES):
            mean = 0.5 * (s[ALONG_L + row + k] + s[ALONG_R + row + k])
            up = (s[OWN_R + row + k] - s[OWN_L + row + k] - mean) / s[ACROSS + k]
            s[SLOPE_X + row + k] += up * s[nx + k]
            s[SLOPE_Y + row + k] += up * s[ny + k]
            s[SLOPE_Z + row + k] += up * s[nz + k]


@serial
def diffuse(s, model, law):
    """Take friction, conduction and turbulent diffusion off the FLUX rows."""
    for k in range(LANES):
        p = 0.5 * (s[STATE_L + k] + s[STATE_R + k])
        u = 0.5 * (s[STATE_L + LANES + k] + s[STATE_R + LANES + k])
        v = 0.5 * (s[STATE_L + 2 * LANES + k] + s[STATE_R + 2 * LANES + k])
        w = 0.5 * (s[STATE_L + 3 * LANES + k] + s[STATE_R + 3 * LANES + k])
        T = 0.5 * (s[STATE_L + 4 * LANES + k] + s[STATE_R + 4 * LANES + k])
        x = y = floor = blend = 0.0
        if len(model) > 1:
            x = 0.5 * (s[STATE_L + 5 * LANES + k] + s[STATE_R + 5 * LANES + k])
            floor, blend = s[FLOOR + k], s[BLEND + k]
        if len(model) > 2:
            y = 0.5 * (s[STATE_L + 6 * LANES + k] + s[STATE_R + 6 * LANES + k])
        mu, heat, spread, spread_w = coefficients(p, T, x, y, floor, blend, model, law)
        nx, ny, nz = s[NORMAL + k], s[NORMAL + LANES + k], s[NORMAL + 2 * LANES + k]
        ux, uy, uz = s[SLOPE_X + LANES + k], s[SLOPE_Y + LANES + k], s[SLOPE_Z + LANES + k]
        vx, vy, vz = s[SLOPE_X + 2 * LANES + k], s[SLOPE_Y + 2 * LANES + k], s[SLOPE_Z + 2 * LANES + k]
        wx, wy, wz = s[SLOPE_X + 3 * LANES + k], s[SLOPE_Y + 3 * LANES + k], s[SLOPE_Z + 3 * LANES + k]
        bulk = 2.0 / 3.0 * (ux + vy + wz)
        area = s[AREA + k]
        fx = area * mu * (2.0 * ux * nx + (uy + vx) * ny + (uz + wx) * nz - bulk * nx)
        fy = area * mu * ((vx + uy) * nx + 2.0 * vy * ny + (vz + wy) * nz - bulk * ny)
        fz = area * mu * ((wx + uz) * nx + (wy + vz) * ny + 2.0 * wz * nz - bulk * nz)
        tn = s[SLOPE_X + 4 * LANES + k] * nx + s[SLOPE_Y + 4 * LANES + k] * ny + s[SLOPE_Z + 4 * LANES + k] * nz
        s[FLUX + LANES + k] -= fx
        s[FLUX + 2 * LANES + k] -= fy
        s[FLUX + 3 * LANES + k] -= fz
        s[FLUX + 4 * LANES + k] -= u * fx + v * fy + w * fz + area * heat * tn
        if len(model) > 1:
            xn = s[SLOPE_X + 5 * LANES + k] * nx + s[SLOPE_Y + 5 * LANES + k] * ny + s[SLOPE_Z + 5 * LANES + k] * nz
            s[FLUX + 5 * LANES + k] -= area * spread * xn
        if len(model) > 2:
            yn = s[SLOPE_X + 6 * LANES + k] * nx + s[SLOPE_Y + 6 * LANES + k] * ny + s[SLOPE_Z + 6 * LANES + k] * nz
            s[FLUX + 6 * LANES + k] -= area * spread_w * yn
