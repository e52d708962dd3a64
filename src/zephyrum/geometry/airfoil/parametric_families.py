"""Sections from a few numbers: B-spline control points, and class-shape coefficients.

Sources: de Boor (1978), A Practical Guide to Splines; Kulfan (2008), J. Aircraft 45:142 (class function sqrt(x)(1 - x)
times Bernstein polynomials). Verified by tests/test_shape.py.
"""

import numpy as np
from scipy.interpolate import BSpline
from scipy.special import comb

from zephyrum._core.validation import number
from zephyrum.errors import InputError


def bspline_coordinates(control: np.ndarray, n: int) -> np.ndarray:
    """Points of a clamped cubic B-spline.

    Parameters
    ----------
    control : (m, 2) array
        Control points from the upper tail to the lower tail.
    n : int
        Number of points.

    Returns
    -------
    (n, 2) array
        Upper tail to lower tail.

    Examples
    --------
    >>> bspline_coordinates(np.array([[1.0, 0.0], [0.5, 0.1], [0.0, 0.0], [0.5, -0.1], [1.0, 0.0]]), 5)[0].tolist()
    [1.0, 0.0]
    """
    control = np.asarray(control, dtype=float)
    if control.ndim != 2 or control.shape[1] != 2 or len(control) < 5 or not np.isfinite(control).all():
        raise InputError(
            f"control points of shape {control.shape} are not usable; give at least 5 finite rows of x and z."
        )
    knots = np.r_[np.zeros(3), np.linspace(0.0, 1.0, len(control) - 2), np.ones(3)]
    t = 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, n)))
    # denser at both tails and, by the centre term, at the nose
    t = t - 0.12 * np.sin(4.0 * np.pi * t) / (4.0 * np.pi) * 2.0
    return BSpline(knots, control, 3)(t)


def class_shape_coordinates(upper: list[float], lower: list[float], gap: float, n: int) -> np.ndarray:
    """Points of a section of unit chord from class-shape coefficients.

    Parameters
    ----------
    upper, lower : list[float]
        Coefficients A_i of either side.
    gap : float
        Height of the tail [chords].
    n : int
        Number of points.

    Returns
    -------
    (n, 2) array
        Upper tail to lower tail.

    Notes
    -----
    z = sqrt(x)(1 - x) sum(A_i B_i(x)) +- x gap / 2, with the Bernstein polynomials B_i (Kulfan 2008, J. Aircraft
    45:142).

    Examples
    --------
    >>> class_shape_coordinates([0.17, 0.16], [-0.17, -0.16], 0.0, 5).shape
    (5, 2)
    """
    number("gap", gap, 0.0, 0.1)
    sides = []
    x = 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, n // 2 + 1)))
    for name, weights, sign in (("upper", upper, 1.0), ("lower", lower, -1.0)):
        a = np.asarray(weights, dtype=float)
        if a.ndim != 1 or not 1 <= len(a) <= 20 or not np.isfinite(a).all():
            raise InputError(f"{name} = {weights!r} must be 1 to 20 finite class-shape coefficients.")
        order = len(a) - 1
        shape = sum(a[i] * comb(order, i) * x**i * (1.0 - x) ** (order - i) for i in range(order + 1))
        sides.append(np.stack([x, np.sqrt(x) * (1.0 - x) * shape + sign * 0.5 * gap * x], axis=1))
    return np.concatenate([sides[0][::-1], sides[1][1:]])
