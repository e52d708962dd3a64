"""Which point stands for a polar in tables, bars and sentences. Verified by tests/test_methods.py."""

from collections.abc import Sequence

import numpy as np

TYPICAL_ALPHA = 4.0  # [deg]


def nearest_to_typical(alphas: "Sequence[float] | np.ndarray") -> int:
    """Number of the angle of attack that stands for a polar: the one nearest to 4 deg.

    Parameters
    ----------
    alphas : sequence of float
        Angles of attack [deg].

    Examples
    --------
    >>> nearest_to_typical([0.0, 3.0, 8.0])
    1
    """
    return int(np.argmin(np.abs(np.asarray(alphas, dtype=float) - TYPICAL_ALPHA)))
