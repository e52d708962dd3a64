"""Points in polygons. Verified by tests/test_clipped.py."""

import numpy as np

POINTS_AT_ONCE = 256  # of which the position is compared with all edges of a polygon


def inside_polygon(points: np.ndarray, loop: np.ndarray) -> np.ndarray:
    """Whether points lie inside a closed polygon, by counting the edges to their right.

    Parameters
    ----------
    points : (n, 2) array
        [m]
    loop : (m, 2) array
        Corners [m].

    Returns
    -------
    (n,) array of bool

    Examples
    --------
    >>> square = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]])
    >>> inside_polygon(np.array([[0.5, 0.5], [2.0, 0.5]]), square).tolist()
    [True, False]
    """
    (ax, az), (bx, bz) = loop.T, np.roll(loop, -1, axis=0).T
    out = np.zeros(len(points), dtype=bool)
    for first in range(0, len(points), POINTS_AT_ONCE):
        x, z = points[first : first + POINTS_AT_ONCE].T[:, :, None]
        spans = (az > z) != (bz > z)
        row, side = np.nonzero(spans)
        fraction = (z[row, 0] - az[side]) / (bz[side] - az[side])
        beyond = ax[side] + fraction * (bx[side] - ax[side]) > x[row, 0]
        out[first : first + POINTS_AT_ONCE] = np.bincount(row[beyond], minlength=len(x)) % 2
    return out
