"""One-dimensional point distributions.

Two-ended stretching after Vinokur (1983), J. Comput. Phys. 50:215. Every distribution is a smooth function of
index / count, so that halving the count keeps every second point: mesh families nest by construction.
"""

import numpy as np
from scipy.optimize import brentq

from zephyrum._core.geometric_steps import growth_ratio
from zephyrum.errors import InputError


def geometric(first: float, total: float, n: int) -> np.ndarray:
    """Distances in a geometric series.

    Parameters
    ----------
    first : float
        First step.
    total : float
        Sum of the steps.
    n : int
        Number of steps.

    Returns
    -------
    (n + 1,) array
        From 0 to `total`.

    Examples
    --------
    >>> geometric(1.0, 7.0, 3).round(6).tolist()
    [0.0, 1.0, 3.0, 7.0]
    """
    r = growth_ratio(first, total, n)
    steps = r ** np.arange(n)
    return total * np.r_[0.0, np.cumsum(steps)] / steps.sum()


def steps_for(first: float, total: float, ratio: float) -> int:
    """Number of geometric steps that span a distance.

    Parameters
    ----------
    first : float
        First step.
    total : float
        Distance.
    ratio : float
        Ratio of successive steps.

    Examples
    --------
    >>> steps_for(1.0, 7.0, 2.0)
    3
    """
    if ratio <= 1.0:
        raise InputError(f"growth = {ratio:g} must be above 1, for example 1.15.")
    return int(np.ceil(np.log1p(total / first * (ratio - 1.0)) / np.log(ratio)))


def two_ended(n: int, first: float, last: float) -> np.ndarray:
    """Points of [0, 1] with given spacings at both ends.

    Parameters
    ----------
    n : int
        Number of intervals.
    first, last : float
        Spacings at the ends, as fractions of the length.

    Returns
    -------
    (n + 1,) array

    Examples
    --------
    >>> len(two_ended(8, 0.01, 0.05))
    9
    """
    a = np.sqrt(last / first)
    b = 1.0 / (n * np.sqrt(first * last))
    t = np.arange(n + 1) / n
    if b > 1.0 + 1e-9:
        delta = brentq(lambda d: np.sinh(d) / d - b, 1e-9, 60.0)
        u = 0.5 * (1.0 + np.tanh(delta * (t - 0.5)) / np.tanh(0.5 * delta))
    elif b < 1.0 - 1e-9:
        delta = brentq(lambda d: np.sin(d) / d - b, 1e-9, np.pi - 1e-9)
        u = 0.5 * (1.0 + np.tan(delta * (t - 0.5)) / np.tan(0.5 * delta))
    else:
        u = t
    return u / (a + (1.0 - a) * u)
