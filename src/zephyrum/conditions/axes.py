"""Body and wind axes.

Body axes: x aft, y to starboard, z up. The wind vector is the direction in which the air moves. Alpha is nose-up
positive, beta positive with wind from starboard. Wind axes: drag along the wind, lift square to it in the body's
plane of symmetry, side force to starboard. Source: Etkin (1972), Dynamics of Atmospheric Flight, ch. 4 (axes
turned so that x points aft). Verified by tests/test_air.py.
"""

import math

import numpy as np

from zephyrum.errors import InputError


def wind_vector(alpha: float, beta: float = 0.0) -> np.ndarray:
    """Direction in which the air moves, in body axes.

    Parameters
    ----------
    alpha, beta : float
        Angle of attack and of sideslip [deg].

    Returns
    -------
    (3,) array
        Unit vector.

    Examples
    --------
    >>> (wind_vector(0.0) + 0.0).tolist()
    [1.0, 0.0, 0.0]
    """
    a, b = math.radians(alpha), math.radians(beta)
    return np.array([math.cos(a) * math.cos(b), -math.sin(b), math.sin(a) * math.cos(b)])


def turned_body(vector: np.ndarray | tuple[float, float, float], attitude: float) -> np.ndarray:
    """Rotate vectors of a body that is turned nose-up in the axes of its mesh.

    Parameters
    ----------
    vector : (..., 3) array
        Vectors in body axes.
    attitude : float
        Angle [deg], nose-up positive.

    Returns
    -------
    (..., 3) array
        Vectors in the axes of the mesh.

    Notes
    -----
    The wind at alpha = attitude blows along the x axis of such a mesh.

    Examples
    --------
    >>> (turned_body(np.array([1.0, 0.0, 0.0]), 90.0).round(6) + 0.0).tolist()
    [0.0, 0.0, -1.0]
    """
    c, s = math.cos(math.radians(attitude)), math.sin(math.radians(attitude))
    return np.asarray(vector, dtype=float) @ np.array([[c, 0.0, -s], [0.0, 1.0, 0.0], [s, 0.0, c]])


def angles_of(wind: np.ndarray) -> tuple[float, float]:
    """Angles of attack and sideslip of a wind vector.

    Parameters
    ----------
    wind : (3,) array
        Vector of any length, in body axes.

    Returns
    -------
    alpha, beta : float
        [deg]

    Raises
    ------
    InputError
        The vector has no length.

    Examples
    --------
    >>> [round(angle, 6) + 0.0 for angle in angles_of(wind_vector(4.0, 2.0))]
    [4.0, 2.0]
    """
    vector = np.asarray(wind, dtype=float)
    size = float(np.linalg.norm(vector)) if vector.shape == (3,) else 0.0
    if not (math.isfinite(size) and size > 0.0):
        raise InputError(
            f"wind = {wind!r} is not a direction; give three numbers, not all zero, for example (1, 0, 0.1)."
        )
    x, y, z = vector / size
    return math.degrees(math.atan2(z, x)), -math.degrees(math.asin(max(-1.0, min(1.0, y))))


def wind_axes(alpha: float, beta: float = 0.0) -> np.ndarray:
    """Directions of drag, side force and lift in body axes.

    Parameters
    ----------
    alpha, beta : float
        Angle of attack and of sideslip [deg].

    Returns
    -------
    (3, 3) array
        Rows: unit vectors of drag, side force and lift.

    Examples
    --------
    >>> (wind_axes(0.0)[2] + 0.0).tolist()
    [0.0, 0.0, 1.0]
    """
    drag = wind_vector(alpha, beta)
    a = math.radians(alpha)
    lift = np.array([-math.sin(a), 0.0, math.cos(a)])
    return np.array([drag, np.cross(lift, drag), lift])
