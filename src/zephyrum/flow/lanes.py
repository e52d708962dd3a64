"""Interior faces taken sixty-four at a time, so that the arithmetic runs in the processor's vector registers.

A block of faces is gathered into one flat scratch array, row after row of `LANES` numbers (row r, lane k at
`r * LANES + k`), then worked on by loops without branches. Rows: the two cells' unknowns, the rises g.r to the face and
g.d along the line between the centroids on either side, geometry, the limiter's weight, the two face states and whether
each was safe to use. A last, part-filled block repeats its last face.
Verified by tests/test_flow.py (flux against face-by-face evaluation, J v against differences of the residual).
"""

from zephyrum.flow.flux import roe_flux
from zephyrum.flow.kernels import serial
from zephyrum.flow.limiter import limit_weight, van_albada

LANES = 64
SAFE = 0.2  # a face value of pressure or temperature below this share of the cell's is not used

_five = 5 * LANES
OWN_L, OWN_R = 0 * _five, 1 * _five  # unknowns of the cells
REACH_L, REACH_R = 2 * _five, 3 * _five  # g.r of either cell
ALONG_L, ALONG_R = 4 * _five, 5 * _five  # g.d of either cell, d from left to right
STATE_L, STATE_R = 6 * _five, 7 * _five
FLUX = 8 * _five
SHARE_L, SHARE_R, AREA, WEIGHT, SAFE_L, SAFE_R = (9 * _five + k * LANES for k in range(6))
NORMAL = SAFE_R + LANES
SIZE = NORMAL + 3 * LANES


@serial
def gather(s, low, q, g, left, right, normal, area, to_left, to_right, apart, share, dims):
    """Fill the scratch `s` for faces low .. low + LANES; in two dimensions the y components are left at 0."""
    three = len(dims) == 5
    last = len(right) - 1
    for k in range(LANES):
        f = min(low + k, last)
        a, b = left[f], right[f]
        dx, dy, dz = apart[f, 0], apart[f, 1], apart[f, 2]
        rx, ry, rz = to_left[f, 0], to_left[f, 1], to_left[f, 2]
        sx, sy, sz = to_right[f, 0], to_right[f, 1], to_right[f, 2]
        s[SHARE_L + k], s[SHARE_R + k], s[AREA + k] = share[f, 0], share[f, 1], area[f]
        for j in range(3):
            s[NORMAL + j * LANES + k] = normal[f, j]
        for m in range(5):
            if m == 2 and not three:
                continue
            row = m * LANES + k
            s[OWN_L + row], s[OWN_R + row] = q[a, m], q[b, m]
            x, z = g[a, m, 0], g[a, m, 2]
            reach, along = x * rx + z * rz, x * dx + z * dz
            if three:
                reach += g[a, m, 1] * ry
                along += g[a, m, 1] * dy
            s[REACH_L + row], s[ALONG_L + row] = reach, along
            x, z = g[b, m, 0], g[b, m, 2]
            reach, along = x * sx + z * sz, x * dx + z * dz
            if three:
                reach += g[b, m, 1] * sy
                along += g[b, m, 1] * dy
            s[REACH_R + row], s[ALONG_R + row] = reach, along


@serial
def upwind_pressure(s, k):
    """Pressure differences on the far side of the left and of the right cell, along the line between them."""
    jump = s[OWN_R + k] - s[OWN_L + k]
    return 2.0 * s[ALONG_L + k] - jump, 2.0 * s[ALONG_R + k] - jump


@serial
def weigh(s, mode, gamma):
    """Fill the limiter's weights; returns the largest."""
    most = 0.0
    for k in range(LANES):
        far_l, far_r = upwind_pressure(s, k)
        a, b = OWN_L + k, OWN_R + k
        s[WEIGHT + k] = limit_weight(
            mode, s[a], s[a + LANES], s[a + 2 * LANES], s[a + 3 * LANES], s[a + 4 * LANES],
            s[b], s[b + LANES], s[b + 2 * LANES], s[b + 3 * LANES], s[b + 4 * LANES], far_l, far_r, gamma,
        )  # fmt: skip
    for k in range(LANES):
        most = max(most, s[WEIGHT + k])
    return most


@serial
def rise(s, m, k, kappa, weight, eps):
    """Rises of unknown m from the left and from the right centroid to the face, limited."""
    row = m * LANES + k
    jump = s[OWN_R + row] - s[OWN_L + row]
    left = s[REACH_L + row] + kappa * s[SHARE_L + k] * (jump - s[ALONG_L + row])
    right = s[REACH_R + row] - kappa * s[SHARE_R + k] * (jump - s[ALONG_R + row])
    keep_l, _, _ = van_albada(2.0 * s[ALONG_L + row] - jump, jump, eps)
    keep_r, _, _ = van_albada(2.0 * s[ALONG_R + row] - jump, jump, eps)
    return left * (1.0 - weight * (1.0 - keep_l)), right * (1.0 - weight * (1.0 - keep_r))


@serial
def reconstruct(s, kappa, slope, mode, eps, gamma, dims):
    """From gathered cells to the two states at every face; slope 0 is first order."""
    three = len(dims) == 5
    if slope == 0.0:
        for k in range(LANES):
            s[WEIGHT + k] = 0.0
        for k in range(_five):
            s[STATE_L + k], s[STATE_R + k] = s[OWN_L + k], s[OWN_R + k]
    else:
        limited = weigh(s, mode, gamma) > 0.0
        for m in range(5):
            if m == 2 and not three:
                continue
            e = eps[m]
            if limited:
                for k in range(LANES):
                    up_l, up_r = rise(s, m, k, kappa, s[WEIGHT + k], e)
                    s[STATE_L + m * LANES + k] = s[OWN_L + m * LANES + k] + up_l
                    s[STATE_R + m * LANES + k] = s[OWN_R + m * LANES + k] + up_r
            else:
                for k in range(LANES):
                    up_l, up_r = rise(s, m, k, kappa, 0.0, e)
                    s[STATE_L + m * LANES + k] = s[OWN_L + m * LANES + k] + up_l
                    s[STATE_R + m * LANES + k] = s[OWN_R + m * LANES + k] + up_r
    _guard(s, OWN_L, STATE_L, SAFE_L, gamma)
    _guard(s, OWN_R, STATE_R, SAFE_R, gamma)


@serial
def _guard(s, own, state, flag, gamma):
    """Where the pressure or temperature at the face is not safe, take the cell's own state."""
    heat = 4 * LANES
    for k in range(LANES):
        calm = 1.0 + gamma * s[state + k] >= SAFE * (1.0 + gamma * s[own + k])
        warm = s[state + heat + k] >= SAFE * s[own + heat + k]
        s[flag + k] = (1.0 if calm else 0.0) * (1.0 if warm else 0.0)
    for m in range(5):
        for k in range(LANES):
            row = m * LANES + k
            s[state + row] = s[state + row] if s[flag + k] > 0.0 else s[own + row]


@serial
def fluxes(s, nudge_l, nudge_r, component, gamma):
    """Roe's flux times area of every lane into the FLUX rows, one unknown of either state moved by a nudge."""
    for k in range(LANES):
        a, b = STATE_L + k, STATE_R + k
        F = roe_flux(
            s[a] + nudge_l * (component == 0),
            s[a + LANES] + nudge_l * (component == 1),
            s[a + 2 * LANES] + nudge_l * (component == 2),
            s[a + 3 * LANES] + nudge_l * (component == 3),
            s[a + 4 * LANES] + nudge_l * (component == 4),
            s[b] + nudge_r * (component == 0),
            s[b + LANES] + nudge_r * (component == 1),
            s[b + 2 * LANES] + nudge_r * (component == 2),
            s[b + 3 * LANES] + nudge_r * (component == 3),
            s[b + 4 * LANES] + nudge_r * (component == 4),
            s[NORMAL + k], s[NORMAL + LANES + k], s[NORMAL + 2 * LANES + k], gamma,
        )  # fmt: skip
        for m in range(5):
            s[FLUX + m * LANES + k] = s[AREA + k] * F[m]
