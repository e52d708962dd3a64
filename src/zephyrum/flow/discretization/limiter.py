"""Limiter of the reconstruction at a face, with which shocks converge.

The increment from a cell to a face is g.r + kappa fraction (dq - g.d), exact for linear fields on any mesh; kappa
blends in the central difference (van Leer 1977, J. Comput. Phys. 23:263). Where needed it is multiplied by the smooth
limiter of van Albada, van Leer and Roberts (1982), Astron. Astrophys. 108:76, of the two differences a = 2 g.d - dq and
b = dq.

The limiter is faded in by the local Mach number and the relative pressure jump, so that smooth subsonic flow is not
limited. In viscous flow it is active everywhere as soon as the stream is fast: shocks reach into the slow, thin cells
at the wall, where the pressure jump does not show them. In slow viscous three-dimensional flow it is active everywhere
too, but only for variations that no mesh can resolve: distorted cells and coarse noses then converge. Verified by
tests/test_flow.py and the shock cases of validation/.
"""

from dataclasses import dataclass

from zephyrum._core.jit import inlined, inner_inlined
from zephyrum._core.validation import choice, number, set_fields
from zephyrum.flow.physics.smoothing import smoothstep, smoothstep_slope

ZERO_ROUNDING = 0.2  # half width of the rounding of the limiter where it reaches 0
# squares of the local Mach number and of the relative pressure jump between which the limiter is faded in
LOCAL_MACH_SQUARES = (0.75**2, 0.95**2)
PRESSURE_JUMP_SQUARES = (0.10**2, 0.30**2)
MODES = ("auto", "on", "off")


@dataclass(frozen=True)
class Limiter:
    """Where the reconstruction is limited.

    Attributes
    ----------
    mode : str
        "auto" (where needed), "on" or "off".
    smooth_variation : float
        [-] Variation from cell to cell, over the speed of the stream, below which nothing is limited.
    smooth_variation_viscous : float
        [-] The same in slow viscous three-dimensional flow: no mesh resolves larger ones, at coarse noses and tails.
    fade_in_mach : float
        [-] Mach number of the stream above which the limiter is faded in everywhere in viscous flow.
    full_mach : float
        [-] Mach number above which it is fully active there.

    Examples
    --------
    >>> import zephyrum as zy
    >>> zy.Numerics(limiter=zy.Limiter("off")).limiter.mode
    'off'
    """

    mode: str = "auto"
    smooth_variation: float = 0.01
    smooth_variation_viscous: float = 0.3
    fade_in_mach: float = 0.45
    full_mach: float = 0.65

    def __post_init__(self) -> None:
        choice("limiter mode", self.mode, MODES)
        for name in ("smooth_variation", "smooth_variation_viscous"):
            set_fields(self, **{name: number(name, getattr(self, name), 0.0, open_low=True)})
        set_fields(self, fade_in_mach=number("fade_in_mach", self.fade_in_mach, 0.0))
        set_fields(self, full_mach=number("full_mach", self.full_mach, self.fade_in_mach, open_low=True))

    def fade_in(self, mach: float) -> float:
        """Weight of fast flow, from 0 below `fade_in_mach` to 1 above `full_mach`.

        Parameters
        ----------
        mach : float
            Mach number of the stream.

        Examples
        --------
        >>> Limiter().fade_in(0.2), Limiter().fade_in(0.8)
        (0.0, 1.0)
        """
        return smoothstep(mach**2, self.fade_in_mach**2, self.full_mach**2)


def least_weight(limiter: Limiter, mach: float, friction: bool, space: bool) -> float:
    """Least weight of the limiter: 1 always limits, a negative one never.

    Parameters
    ----------
    limiter : Limiter
        Limiter.
    mach : float
        Mach number of the stream.
    friction : bool
        Whether the flow is viscous.
    space : bool
        Whether the flow is three-dimensional.

    Examples
    --------
    >>> least_weight(Limiter("on"), 0.3, False, False)
    1.0
    """
    if limiter.mode != "auto":
        return 1.0 if limiter.mode == "on" else -1.0
    if not friction:
        return 0.0
    return 1.0 if space else limiter.fade_in(mach)


def smooth_variation(limiter: Limiter, mach: float, friction: bool, space: bool) -> float:
    """Variation from cell to cell, over that of the stream, that the limiter takes as smooth.

    Parameters
    ----------
    limiter : Limiter
        Limiter.
    mach : float
        Mach number of the stream.
    friction : bool
        Whether the flow is viscous.
    space : bool
        Whether the flow is three-dimensional.

    Examples
    --------
    >>> smooth_variation(Limiter(), 0.3, False, False)
    0.01
    """
    if not (space and friction):
        return limiter.smooth_variation
    slow = limiter.smooth_variation_viscous
    return slow + (limiter.smooth_variation - slow) * limiter.fade_in(mach)


@inlined
def van_albada(a: float, b: float, eps: float):
    """Limiter of van Albada, van Leer and Roberts (1982) in [0, 1], and its derivatives to both differences.

    Parameters
    ----------
    a, b : float
        Differences.
    eps : float
        Square of the noise of the field.
    """
    bottom = a * a + b * b + eps
    s = (2.0 * a * b + eps) / bottom
    # the corner of max(0, s) rounded off, for Newton's method
    up = s + ZERO_ROUNDING
    up = up if up > 0.0 else 0.0
    slope_of_max = 0.5 * up / ZERO_ROUNDING
    value = 0.5 * up * slope_of_max
    slope_of_max = slope_of_max if s < ZERO_ROUNDING else 1.0
    value = value if s < ZERO_ROUNDING else s
    return value, slope_of_max * 2.0 * (b - s * a) / bottom, slope_of_max * 2.0 * (a - s * b) / bottom


@inlined
def limiter_weight(
    floor: float, left: tuple[float, ...], right: tuple[float, ...], far_l: float, far_r: float, gamma: float
):
    """Weight of the limiter at a face, from `floor` to 1; 0 with a negative floor.

    Parameters
    ----------
    floor : float
        Least weight.
    left, right : tuple[float, ...]
        States (5,) of the cells.
    far_l, far_r : float
        Upwind pressure differences.
    gamma : float
        Ratio of the specific heats.
    """
    if floor >= 1.0:
        return 1.0
    if floor < 0.0:
        return 0.0
    pl, ul, vl, wl, tl = left
    pr, ur, vr, wr, tr = right
    # smooth throughout: a kink would stall Newton's iteration; squares save the roots
    fast_l = smoothstep((ul * ul + vl * vl + wl * wl) / tl, *LOCAL_MACH_SQUARES)
    fast_r = smoothstep((ur * ur + vr * vr + wr * wr) / tr, *LOCAL_MACH_SQUARES)
    jump, level = pr - pl, 1.0 / gamma + 0.5 * (pl + pr)
    steep = smoothstep((jump * jump + far_l * far_l + far_r * far_r) / (level * level), *PRESSURE_JUMP_SQUARES)
    return 1.0 - (1.0 - floor) * (1.0 - fast_l) * (1.0 - fast_r) * (1.0 - steep)


@inner_inlined
def _fast_derivatives(state: tuple[float, ...]):
    """1 minus the smoothstep of the local Mach number squared, and its derivatives to u, v, w and T."""
    _, u, v, w, T = state
    square = (u * u + v * v + w * w) / T
    slope = -smoothstep_slope(square, *LOCAL_MACH_SQUARES) / T
    value = 1.0 - smoothstep(square, *LOCAL_MACH_SQUARES)
    return value, 2.0 * slope * u, 2.0 * slope * v, 2.0 * slope * w, -slope * square


@inlined
def limiter_weight_derivatives(
    floor: float, left: tuple[float, ...], right: tuple[float, ...], far_l: float, far_r: float, gamma: float
):
    """Derivatives of `limiter_weight`, for a floor between 0 and 1.

    Parameters
    ----------
    floor : float
        Least weight.
    left, right : tuple[float, ...]
        States (5,) of the cells.
    far_l, far_r : float
        Upwind pressure differences.
    gamma : float
        Ratio of the specific heats.

    Returns
    -------
    tuple of 12 float
        To the left state (5), the right state (5), `far_l` and `far_r`.
    """
    pl, pr = left[0], right[0]
    fl, fl_u, fl_v, fl_w, fl_t = _fast_derivatives(left)
    fr, fr_u, fr_v, fr_w, fr_t = _fast_derivatives(right)
    jump, level = pr - pl, 1.0 / gamma + 0.5 * (pl + pr)
    per_level2 = 1.0 / (level * level)
    square = (jump * jump + far_l * far_l + far_r * far_r) * per_level2
    slope = -smoothstep_slope(square, *PRESSURE_JUMP_SQUARES)
    even = 1.0 - smoothstep(square, *PRESSURE_JUMP_SQUARES)
    by_level = -slope * square / level
    by_jump = slope * 2.0 * jump * per_level2
    scale = floor - 1.0  # the weight is 1 + scale * fl * fr * even
    l, r, e = scale * fr * even, scale * fl * even, scale * fl * fr
    return (
        e * (by_level - by_jump),
        l * fl_u,
        l * fl_v,
        l * fl_w,
        l * fl_t,
        e * (by_level + by_jump),
        r * fr_u,
        r * fr_v,
        r * fr_w,
        r * fr_t,
        e * slope * 2.0 * far_l * per_level2,
        e * slope * 2.0 * far_r * per_level2,
    )
