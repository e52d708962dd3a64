"""Interior faces taken thirty-two at a time, so that the arithmetic runs in the processor's vector registers.

A block of faces is gathered into one flat scratch array, row after row of `LANES` numbers (row r, lane k at
`r * LANES + k`), then worked on by loops without branches. Groups of `MOST` rows hold the two cells' unknowns, the
rises g.r to the face and g.d along the way between the centroids on either side, the two face states, the mean of
the two gradients, and the flux. A last, part-filled block repeats its last face.
Verified by tests/test_kernels.py (against face-by-face evaluation; J v against differences of the residual).
"""

from zephyrum._core.jit import serial
from zephyrum.flow.flux import roe_flux
from zephyrum.flow.limiter import limit_weight, van_albada

LANES = 32
MOST = 7  # unknowns of a cell: five of the mean flow, at most two of turbulence
SAFE = 0.2  # a face value of pressure or temperature below this share of the cell's is not used
SLOW = 1e-5  # mass flux, in speeds of sound, at which upwinding of turbulence is rounded off: Newton stalls on a kink
SMALL_ANGLE = 0.2  # least cosine between a face's normal and the line between centroids that is divided by

_group = MOST * LANES
OWN_L, OWN_R = 0 * _group, 1 * _group  # unknowns of the cells
REACH_L, REACH_R = 2 * _group, 3 * _group  # g.r of either cell
ALONG_L, ALONG_R = 4 * _group, 5 * _group  # g.d of either cell, each its own d, from left to right
STATE_L, STATE_R = 6 * _group, 7 * _group
FLUX = 8 * _group
SLOPE_X, SLOPE_Y, SLOPE_Z = 9 * _group, 10 * _group, 11 * _group
SHARE_L, SHARE_R, AREA, WEIGHT, SAFE_L, SAFE_R, FLOOR, BLEND, ACROSS = (12 * _group + k * LANES for k in range(9))
NORMAL = ACROSS + LANES  # ACROSS: distance between the centroids along the normal
SIZE = NORMAL + 3 * LANES


@serial
def gather(s, low, q, g, closure, left, right, normal, area, to_left, to_right, ahead, back, share, axes, model):
    """Fill the scratch `s` for faces low .. low + LANES; in two dimensions the y components are left at 0."""
    three, viscous = axes[2] == 2, len(model) > 0
    last = len(right) - 1
    if not three:
        for group in (OWN_L, OWN_R, STATE_L, STATE_R, SLOPE_X, SLOPE_Y, SLOPE_Z):
            for k in range(LANES):
                s[group + 2 * LANES + k] = 0.0
        for k in range(_group):
            s[SLOPE_Y + k] = 0.0
    for k in range(LANES):
        f = min(low + k, last)
        a, b = left[f], right[f]
        dx, dy, dz = ahead[f, 0], ahead[f, 1], ahead[f, 2]
        ex, ey, ez = back[f, 0], back[f, 1], back[f, 2]
        rx, ry, rz = to_left[f, 0], to_left[f, 1], to_left[f, 2]
        sx, sy, sz = to_right[f, 0], to_right[f, 1], to_right[f, 2]
        s[SHARE_L + k], s[SHARE_R + k], s[AREA + k] = share[f, 0], share[f, 1], area[f]
        for j in range(3):
            s[NORMAL + j * LANES + k] = normal[f, j]
        for j in range(len(axes)):
            m = axes[j]
            row = m * LANES + k
            s[OWN_L + row], s[OWN_R + row] = q[a, m], q[b, m]
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
                    s[SLOPE_Y + row] = 0.5 * (ya + yb)
            if viscous:
                s[SLOPE_X + row], s[SLOPE_Z + row] = 0.5 * (xa + xb), 0.5 * (za + zb)
            s[REACH_L + row], s[ALONG_L + row] = reach_a, along_a
            s[REACH_R + row], s[ALONG_R + row] = reach_b, along_b
        if len(model) > 1:
            s[FLOOR + k] = 0.5 * (closure[a, 0] + closure[b, 0])
            s[BLEND + k] = 0.5 * (closure[a, 1] + closure[b, 1])
        if viscous:
            dx, dy, dz = 0.5 * (dx + ex), 0.5 * (dy + ey), 0.5 * (dz + ez)
            nd = dx * normal[f, 0] + dy * normal[f, 1] + dz * normal[f, 2]
            s[ACROSS + k] = max(nd, SMALL_ANGLE * (dx * dx + dy * dy + dz * dz) ** 0.5)


@serial
def upwind_pressure(s, k):
    """Pressure differences on the far side of the left and of the right cell, along the line between them."""
    jump = s[OWN_R + k] - s[OWN_L + k]
    return 2.0 * s[ALONG_L + k] - jump, 2.0 * s[ALONG_R + k] - jump


@serial
def weigh(s, floor, gamma):
    """Fill the limiter's weights; returns the largest."""
    most = 0.0
    for k in range(LANES):
        far_l, far_r = upwind_pressure(s, k)
        a, b = OWN_L + k, OWN_R + k
        s[WEIGHT + k] = limit_weight(
            floor, s[a], s[a + LANES], s[a + 2 * LANES], s[a + 3 * LANES], s[a + 4 * LANES],
            s[b], s[b + LANES], s[b + 2 * LANES], s[b + 3 * LANES], s[b + 4 * LANES], far_l, far_r, gamma,
        )  # fmt: skip
    for k in range(LANES):
        most = max(most, s[WEIGHT + k])
    return most


@serial
def rise(s, m, k, kappa):
    """Rises of unknown m from the left and from the right centroid to the face."""
    row = m * LANES + k
    jump = s[OWN_R + row] - s[OWN_L + row]
    left = s[REACH_L + row] + kappa * s[SHARE_L + k] * (jump - s[ALONG_L + row])
    right = s[REACH_R + row] - kappa * s[SHARE_R + k] * (jump - s[ALONG_R + row])
    return left, right


@serial
def keep(s, m, k, weight, eps):
    """Shares of the two rises of unknown m that the limiter leaves."""
    row = m * LANES + k
    jump = s[OWN_R + row] - s[OWN_L + row]
    keep_l, _, _ = van_albada(2.0 * s[ALONG_L + row] - jump, jump, eps)
    keep_r, _, _ = van_albada(2.0 * s[ALONG_R + row] - jump, jump, eps)
    return 1.0 - weight * (1.0 - keep_l), 1.0 - weight * (1.0 - keep_r)


@serial
def reconstruct(s, kappa, slope, turbulent_slope, floor, eps, gamma, axes):
    """From gathered cells to the two states at every face; slope 0 is first order."""
    limited = False
    if slope == 0.0:
        for k in range(LANES):
            s[WEIGHT + k] = 0.0
    else:
        limited = weigh(s, floor, gamma) > 0.0
    for j in range(len(axes)):
        m = axes[j]
        e = eps[m]
        row = m * LANES
        if (turbulent_slope if m > 4 else slope) == 0.0:
            for k in range(LANES):
                s[STATE_L + row + k], s[STATE_R + row + k] = s[OWN_L + row + k], s[OWN_R + row + k]
        elif limited:
            for k in range(LANES):
                up_l, up_r = rise(s, m, k, kappa)
                keep_l, keep_r = keep(s, m, k, s[WEIGHT + k], e)
                s[STATE_L + row + k] = s[OWN_L + row + k] + up_l * keep_l
                s[STATE_R + row + k] = s[OWN_R + row + k] + up_r * keep_r
        else:
            for k in range(LANES):
                up_l, up_r = rise(s, m, k, kappa)
                s[STATE_L + row + k] = s[OWN_L + row + k] + up_l
                s[STATE_R + row + k] = s[OWN_R + row + k] + up_r
    _guard(s, OWN_L, STATE_L, SAFE_L, gamma, axes)
    _guard(s, OWN_R, STATE_R, SAFE_R, gamma, axes)


@serial
def _guard(s, own, state, flag, gamma, axes):
    """Where the pressure or temperature at the face is not safe, take the cell's own state."""
    heat = 4 * LANES
    for k in range(LANES):
        calm = 1.0 + gamma * s[state + k] >= SAFE * (1.0 + gamma * s[own + k])
        warm = s[state + heat + k] >= SAFE * s[own + heat + k]
        s[flag + k] = (1.0 if calm else 0.0) * (1.0 if warm else 0.0)
    for j in range(len(axes)):
        for k in range(LANES):
            row = axes[j] * LANES + k
            s[state + row] = s[state + row] if s[flag + k] > 0.0 else s[own + row]


@serial
def nudge(s, component, by_l, by_r):
    """Move one unknown of the two states of every lane."""
    for k in range(LANES):
        s[STATE_L + component * LANES + k] += by_l
        s[STATE_R + component * LANES + k] += by_r


@serial
def convect(s, n_turbulent, gamma):
    """Roe's flux times area of every lane into the FLUX rows; turbulence quantities go with the mass, upwind."""
    for k in range(LANES):
        a, b = STATE_L + k, STATE_R + k
        F = roe_flux(
            s[a], s[a + LANES], s[a + 2 * LANES], s[a + 3 * LANES], s[a + 4 * LANES],
            s[b], s[b + LANES], s[b + 2 * LANES], s[b + 3 * LANES], s[b + 4 * LANES],
            s[NORMAL + k], s[NORMAL + LANES + k], s[NORMAL + 2 * LANES + k], gamma,
        )  # fmt: skip
        for m in range(5):
            s[FLUX + m * LANES + k] = s[AREA + k] * F[m]
    for m in range(5, 5 + n_turbulent):
        for k in range(LANES):
            mass, a, b = s[FLUX + k], s[STATE_L + m * LANES + k], s[STATE_R + m * LANES + k]
            rounded = (mass * mass + (SLOW * s[AREA + k]) ** 2) ** 0.5
            s[FLUX + m * LANES + k] = 0.5 * (mass * (a + b) - rounded * (b - a))
