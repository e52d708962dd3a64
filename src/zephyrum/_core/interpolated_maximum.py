"""The maximum of tabulated values between their points.

Verified by tests/test_methods.py.
"""

import numpy as np


def interpolated_maximum(x: np.ndarray, y: np.ndarray) -> tuple[int, float, float] | None:
    """Top of the parabola through the highest of several points and its neighbours.

    Parameters
    ----------
    x, y : (n,) array
        Points by rising x.

    Returns
    -------
    int, float, float
        Number of the highest point, and x and y of the top; None if the highest point is at an end.

    Examples
    --------
    >>> interpolated_maximum(np.array([0.0, 1.0, 2.0]), np.array([0.0, 1.0, 0.0]))
    (1, 1.0, 1.0)
    """
    top = int(np.argmax(y)) if len(y) else 0
    if not 0 < top < len(y) - 1:
        return None
    near = slice(top - 1, top + 2)
    curvature, slope, _ = np.polyfit(x[near] - x[top], y[near], 2)
    left, right = x[top - 1] - x[top], x[top + 1] - x[top]
    shift = float(np.clip(-0.5 * slope / curvature, left, right)) if curvature < 0.0 else 0.0
    return top, float(x[top] + shift), float(y[top] + 0.5 * slope * shift)
