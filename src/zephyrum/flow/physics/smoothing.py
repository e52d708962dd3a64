"""Smooth steps between two values, in kernels and over arrays. Verified by tests/test_formulas.py."""

import numpy as np

from zephyrum._core.jit import inlined, serial


@inlined
def smoothstep(x: float, low: float, high: float):
    """Smooth step from 0 at `low` to 1 at `high`.

    Parameters
    ----------
    x : float
        Argument.
    low, high : float
        Ends of the step.

    Examples
    --------
    >>> smoothstep(0.25, 0.0, 1.0)
    0.15625
    """
    t = (x - low) / (high - low)
    t = t if t > 0.0 else 0.0
    t = t if t < 1.0 else 1.0
    return t * t * (3.0 - 2.0 * t)


@inlined
def smoothstep_slope(x: float, low: float, high: float):
    """Derivative of `smoothstep` to x.

    Parameters
    ----------
    x : float
        Argument.
    low, high : float
        Ends of the step.

    Examples
    --------
    >>> smoothstep_slope(0.5, 0.0, 1.0)
    1.5
    """
    t = (x - low) / (high - low)
    t = t if t > 0.0 else 0.0
    t = t if t < 1.0 else 1.0
    return 6.0 * t * (1.0 - t) / (high - low)


@serial
def smoothstep_array(x: np.ndarray, low: float, high: float):
    """`smoothstep` of every element.

    Parameters
    ----------
    x : (n,) array
        Arguments.
    low, high : float
        Ends of the step.

    Returns
    -------
    (n,) array

    Examples
    --------
    >>> smoothstep_array(np.array([-1.0, 0.5, 2.0]), 0.0, 1.0)
    array([0. , 0.5, 1. ])
    """
    out = np.empty_like(x)
    for i in range(len(x)):
        out[i] = smoothstep(x[i], low, high)
    return out
