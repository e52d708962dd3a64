"""The nose of a section whose maker did not say where it is."""

from typing import TYPE_CHECKING

import numpy as np
from scipy.optimize import brentq

if TYPE_CHECKING:
    from zephyrum.geometry.airfoil.section import Airfoil

# The window in nose radii over which chords near the nose are halved, and its limits in chords. Half and twice the
# window move the nose of NACA 4415 by less than 2e-4 chords.
WINDOW = 1.5
WINDOW_LIMITS = (0.002, 0.03)


def nose_of_curve(foil: "Airfoil") -> float:
    """Parameter of the nose of a section from its shape alone.

    Parameters
    ----------
    foil : Airfoil
        Section.

    Returns
    -------
    float
        Parameter of the curve [same unit as points].

    Notes
    -----
    Midpoints of parallel chords of a parabola lie on a line along its axis. The slope m' of that line is found from
    chords across an assumed direction of the mean line c; with the radius r of the nose, m = c + r c' to first
    order, so c' = m' - r m''. The direction is turned until c' vanishes; the nose is the extreme point of the curve
    against it. The point farthest from the tail, with which the iteration starts, lies up to 0.007 chords
    from the end of the mean line (NACA 6415), this one up to 0.0003; in NACA 44024 0.026 and 0.013. A nose that is a
    corner stays where it is.

    Examples
    --------
    >>> import zephyrum as zy
    >>> from dataclasses import replace
    >>> foil = replace(zy.Airfoil.naca("4415"), nose_index=None)
    >>> foil.nose.round(4).tolist()
    [-0.0, 0.0002]
    """
    start = _farthest(foil)
    origin = foil.curve(start)[0]  # type: ignore[arg-type]
    chord = float(np.linalg.norm(foil.tail - origin))
    axis = (foil.tail - origin) / chord
    window = WINDOW * float(np.clip(_radius(foil, start), *np.array(WINDOW_LIMITS) * chord))
    at = start
    for _ in range(60):
        extreme = _extreme(foil, at, axis, 2.0 * window)
        if extreme is None:
            return start
        at = extreme
        turn = _slope_of_midpoints(foil, at, axis, window)
        if turn is None:
            return start
        axis = axis + turn * np.array([-axis[1], axis[0]])
        axis /= np.linalg.norm(axis)
        if abs(turn) < 1e-9:
            break
    return at


def _farthest(foil: "Airfoil") -> float:
    """Parameter of the point farthest from the centre of the tail."""
    s = foil.point_parameters
    far = np.linalg.norm(foil.points - foil.tail, axis=1)
    k = int(np.clip(np.argmax(far), 1, len(s) - 2))

    def receding(at: float) -> float:
        """Half the derivative of the squared distance from the centre of the tail."""
        return float((foil.curve(at)[0] - foil.tail) @ foil.curve(at, 1)[0])  # type: ignore[arg-type]

    if receding(s[k - 1]) > 0.0 > receding(s[k + 1]):
        return float(brentq(receding, s[k - 1], s[k + 1], xtol=1e-15 * foil.length))
    return float(s[k])  # the farthest point is a corner or an end


def _radius(foil: "Airfoil", s: float) -> float:
    """Radius of curvature at a parameter [same unit as points]."""
    (dx, dz), (ax, az) = foil.curve(s, 1)[0], foil.curve(s, 2)[0]  # type: ignore[arg-type]
    return float((dx * dx + dz * dz) ** 1.5 / max(abs(dx * az - dz * ax), 1e-300))


def _extreme(foil: "Airfoil", near: float, axis: np.ndarray, reach: float) -> float | None:
    """Parameter at which the curve is extreme against `axis` (2,), within `reach` of `near`; None at a corner."""

    def rate(at: float) -> float:
        return float(foil.curve(at, 1)[0] @ axis)  # type: ignore[arg-type]

    s = np.linspace(max(near - reach, 0.0), min(near + reach, foil.length), 201)
    k = int(np.argmin(foil.curve(s) @ axis))
    if not 0 < k < len(s) - 1 or not rate(s[k - 1]) < 0.0 < rate(s[k + 1]):
        return None
    return float(brentq(rate, s[k - 1], s[k + 1], xtol=1e-15 * foil.length))


def _slope_of_midpoints(foil: "Airfoil", at: float, axis: np.ndarray, window: float) -> float | None:
    """Slope against `axis` (2,) of the line of the midpoints of chords across it, at most `window` from the nose."""
    across = np.array([-axis[1], axis[0]])
    depth = window * np.linspace(0.1, 1.0, 15)
    height = []
    for end in (0.0, foil.length):
        s = at + np.sign(end - at) * min(abs(end - at), 6.0 * window) * np.linspace(0.0, 1.0, 601) ** 2
        p = foil.curve(s) - foil.curve(at)  # type: ignore[arg-type]
        if p[-1] @ axis < window:
            return None
        height.append(np.interp(depth, np.maximum.accumulate(p @ axis), p @ across))
    middle = 0.5 * (height[0] + height[1])
    slope, bend = np.polynomial.polynomial.polyfit(depth, middle / depth, 1)
    return float(slope - 2.0 * _radius(foil, at) * bend)
