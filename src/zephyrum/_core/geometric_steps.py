"""Steps in geometric progression. Verified by tests/test_parts.py."""

import numpy as np
from scipy.optimize import brentq


def growth_ratio(first: float, total: float, n: int) -> float:
    """Ratio of geometric steps.

    Parameters
    ----------
    first : float
        First step.
    total : float
        Sum of the steps.
    n : int
        Number of steps.

    Examples
    --------
    >>> round(growth_ratio(1.0, 7.0, 3), 6)
    2.0
    """
    if n * first >= total:
        return 1.0

    def excess(log_r: float) -> float:
        return np.log(first) + np.log(np.expm1(n * log_r) / np.expm1(log_r)) - np.log(total)

    return float(np.exp(brentq(excess, 1e-12, min(5.0, 700.0 / n), xtol=1e-14)))
