"""Slopes at a face: second-order upwind-biased reconstruction and the limiter with which shocks converge.

From a cell to a face: q + g.r + kappa share (dq - g.d), exact for linear fields on any mesh; kappa blends in the
central difference (van Leer 1977, J. Comput. Phys. 23:263). Where needed the rise is multiplied by the smooth limiter
of van Albada, van Leer and Roberts (1982), Astron. Astrophys. 108:76, built on the two differences a = 2 g.d - dq and b
= dq. It is faded in by the local Mach number and the relative pressure step, so that smooth subsonic flow is left
alone. Where walls have friction it counts everywhere as soon as the stream itself is fast (0.45 to 0.65 Mach): shocks
reach into the slow, thin cells at the wall, which pressure steps alone do not give away. In slow flow in space it
counts everywhere too, but only from variations on that no mesh can resolve: cells of an odd shape and coarse noses then
converge. Verified by tests/test_flow.py and the shock cases of validation/.
"""

from zephyrum._core.jit import inlined
from zephyrum.flow.physics.smoothing import smoothstep

ZERO_ROUNDING = 0.2  # half width of the rounding of the limiter where it reaches 0
MODES = ("auto", "on", "off")
SMOOTH_VARIATION = 0.01  # variation from cell to cell over the speed of the stream below which nothing is limited
SMOOTH_VARIATION_3D = (
    0.6,
    0.3,
)  # the same in slow flow in space, without and with friction: more is no flow but the wiggle of a coarse nose or tail
FADE_IN_MACH = (
    0.45,
    0.65,
)  # Mach numbers of the stream between which the limiter is faded in everywhere, with friction


def least_weight(mode: str, mach: float, friction: bool, space: bool) -> float:
    """The `floor` of `limiter_weight` for a mode at a Mach number of the stream: 1 always limited, negative never."""
    if mode != "auto":
        return 1.0 if mode == "on" else -1.0
    fast = smoothstep(mach**2, FADE_IN_MACH[0] ** 2, FADE_IN_MACH[1] ** 2)
    slow = 1.0 - fast if space else 0.0
    return slow + fast if friction else slow


def smooth_variation(mach: float, friction: bool, space: bool) -> float:
    """Variation from cell to cell, over that of the stream, that the limiter takes as smooth, at a Mach number of the
    stream.
    """
    if not space:
        return SMOOTH_VARIATION
    slow = SMOOTH_VARIATION_3D[int(friction)]
    return slow + (SMOOTH_VARIATION - slow) * smoothstep(mach**2, FADE_IN_MACH[0] ** 2, FADE_IN_MACH[1] ** 2)


@inlined
def van_albada(a, b, eps):
    """Factor in [0, 1] for differences a, b on a field whose noise has the square `eps`; with its derivatives."""
    bottom = a * a + b * b + eps
    s = (2.0 * a * b + eps) / bottom
    # the corner of max(0, s) rounded off, so that Newton's iteration does not bounce there
    up = s + ZERO_ROUNDING
    up = up if up > 0.0 else 0.0
    slope_of_max = 0.5 * up / ZERO_ROUNDING
    value = 0.5 * up * slope_of_max
    slope_of_max = slope_of_max if s < ZERO_ROUNDING else 1.0
    value = value if s < ZERO_ROUNDING else s
    return value, slope_of_max * 2.0 * (b - s * a) / bottom, slope_of_max * 2.0 * (a - s * b) / bottom


@inlined
def limiter_weight(floor, left, right, far_l, far_r, gamma):
    """Weight of the limiter at a face, from `floor` to 1; 0 with a negative floor.

    left, right: states (5,) of the cells; far_l, far_r: upwind pressure differences.
    """
    if floor >= 1.0:
        return 1.0
    if floor < 0.0:
        return 0.0
    pl, ul, vl, wl, tl = left
    pr, ur, vr, wr, tr = right
    # smooth throughout: a kink would stall Newton's iteration; squares save the roots
    fast_l = smoothstep((ul * ul + vl * vl + wl * wl) / tl, 0.75**2, 0.95**2)
    fast_r = smoothstep((ur * ur + vr * vr + wr * wr) / tr, 0.75**2, 0.95**2)
    jump, level = pr - pl, 1.0 / gamma + 0.5 * (pl + pr)
    steep = smoothstep((jump * jump + far_l * far_l + far_r * far_r) / (level * level), 0.10**2, 0.30**2)
    return 1.0 - (1.0 - floor) * (1.0 - fast_l) * (1.0 - fast_r) * (1.0 - steep)
