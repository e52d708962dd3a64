"""Stream function of panels with linear vorticity, in closed form.

A vortex sheet of strength gamma (clockwise positive) along the surface keeps the fluid inside at rest if the stream
function is constant on it; the speed outside then equals gamma (Kennedy and Marsden 1976; Katz and Plotkin 2001,
ch. 10 for the integrals). Verified by tests/test_panel.py.
"""

import numpy as np


def vortex_panels(points: np.ndarray, first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Stream function at points of panels whose vorticity falls from one at one end to zero at the other.

    Parameters
    ----------
    points : (n, 2) array
        x and z.
    first, last : (m, 2) array
        Ends of the panels.

    Returns
    -------
    of_first, of_last : (n, m) array
        For unit vorticity at the first end, and at the last.

    Examples
    --------
    >>> one = np.array([[0.0, 0.0]]), np.array([[1.0, 0.0]])
    >>> a, b = vortex_panels(np.array([[50.0, 0.0]]), *one)
    >>> round(float((a + b)[0, 0]) * 2.0 * np.pi, 2), round(float(np.log(49.5)), 2)  # a vortex, seen from afar
    (3.9, 3.9)
    """
    along = last - first
    length = np.linalg.norm(along, axis=1)
    tangent = along / length[:, None]
    offset = points[:, None, :] - first[None, :, :]
    x1 = (offset * tangent).sum(axis=2)
    y = offset[..., 1] * tangent[:, 0] - offset[..., 0] * tangent[:, 1]
    x2 = x1 - length
    r1, r2 = x1**2 + y**2, x2**2 + y**2
    with np.errstate(divide="ignore", invalid="ignore"):
        log1, log2 = (np.where(r > 0.0, np.log(r), 0.0) for r in (r1, r2))
    angle = np.arctan2(y * length, y**2 + x1 * x2)
    # integrals of ln r and of xi ln r along the panel, xi measured from the point
    plain = 0.5 * (x1 * log1 - x2 * log2) - length + y * angle
    moment = 0.25 * (r1 * (log1 - 1.0) - r2 * (log2 - 1.0))
    of_last = (plain * x1 - moment) / length
    return (plain - of_last) / (2.0 * np.pi), of_last / (2.0 * np.pi)


def source_panels(points: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """Stream function at points of panels of uniform unit source strength.

    Parameters
    ----------
    points : (n, 2) array
        x and z.
    first, last : (m, 2) array
        Ends of the panels; the branch cut leaves each panel along x downstream.

    Returns
    -------
    (n, m) array

    Examples
    --------
    >>> one = np.array([[0.0, -0.5]]), np.array([[0.0, 0.5]])
    >>> above, below = source_panels(np.array([[0.0, 9.0], [0.0, -9.0]]), *one)[:, 0]
    >>> round(float(above - below), 6)  # half of the flux goes to the left
    -0.5
    """
    # psi = theta / (2 pi), theta from the upstream direction, integrated along the panel by Gauss's rule
    nodes, weights = np.polynomial.legendre.leggauss(8)
    length = np.linalg.norm(last - first, axis=1)
    out = np.zeros((len(points), len(first)))
    for node, weight in zip(nodes, weights):
        place = 0.5 * ((1.0 - node) * first + (1.0 + node) * last)
        offset = points[:, None, :] - place[None, :, :]
        out += 0.5 * weight * np.arctan2(-offset[..., 1], -offset[..., 0])  # the cut leads downstream
    return out * length / (2.0 * np.pi)


def surface_sources(points: np.ndarray, first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Stream function inside a section of sources on its surface whose density varies linearly along each panel.

    Parameters
    ----------
    points : (n, 2) array
        Within the section or on it.
    first, last : (m, 2) array
        Ends of the panels; the section lies on their left.

    Returns
    -------
    of_first, of_last : (n, m) array
        For unit density at the first end, and at the last. The branch cuts leave outwards.

    Examples
    --------
    >>> one = np.array([[0.0, 0.0]]), np.array([[1.0, 0.0]])
    >>> left, right = surface_sources(np.array([[0.0, 0.5], [1.0, 0.5]]), *one)
    >>> round(float((left + right)[0, 0] + (left + right)[1, 0]), 9)  # odd about the middle
    0.0
    """
    x, y, length, _ = _local(points, first, last)

    def plain(t: np.ndarray) -> np.ndarray:
        return t * np.arctan2(t, y) - 0.5 * y * _log(t * t + y * y)

    def moment(t: np.ndarray) -> np.ndarray:
        return 0.5 * (t * t * np.arctan2(t, y) - y * t + _squared_angle(t, y))

    whole = plain(x) - plain(x - length)
    of_last = -(x * whole - moment(x) + moment(x - length)) / length
    return (-whole - of_last) / (2.0 * np.pi), of_last / (2.0 * np.pi)


def wake_sources(points: np.ndarray, first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Stream function of sources along a wake whose density varies linearly along each panel.

    Parameters
    ----------
    points : (n, 2) array
        Upstream of the wake.
    first, last : (m, 2) array
        Ends of the panels, downstream.

    Returns
    -------
    of_first, of_last : (n, m) array
        For unit density at the first end, and at the last. The branch cuts leave downstream.

    Examples
    --------
    >>> one = np.array([[1.0, 0.0]]), np.array([[2.0, 0.0]])
    >>> a, b = wake_sources(np.array([[0.0, 0.5], [0.0, -0.5]]), *one)
    >>> round(float((a + b).sum()), 9)  # odd about the wake
    0.0
    """
    x, y, length, _ = _local(points, first, last)

    def plain(t: np.ndarray) -> np.ndarray:
        return t * np.arctan2(-y, -t) + 0.5 * y * _log(t * t + y * y)

    def moment(t: np.ndarray) -> np.ndarray:
        return 0.5 * (t * t * np.arctan2(-y, -t) + y * t - _squared_angle(t, y))

    whole = plain(x) - plain(x - length)
    of_last = (x * whole - moment(x) + moment(x - length)) / length
    return (whole - of_last) / (2.0 * np.pi), of_last / (2.0 * np.pi)


def source_velocity(points: np.ndarray, first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Complex velocity u - i w of sources whose density varies linearly along each panel.

    Parameters
    ----------
    points : (n, 2) array
        x and z; at an end of a panel the singular part, which its neighbour cancels, is left out.
    first, last : (m, 2) array
        Ends of the panels.

    Returns
    -------
    of_first, of_last : (n, m) complex array
        For unit density at the first end, and at the last. Clockwise vortices of that density have i times the
        velocity.

    Examples
    --------
    >>> one = np.array([[0.0, 0.0]]), np.array([[1.0, 0.0]])
    >>> a, b = source_velocity(np.array([[50.5, 0.0]]), *one)
    >>> round(float((a + b)[0, 0].real) * 2.0 * np.pi, 3)  # a source, seen from afar
    0.02
    """
    x, y, length, tangent = _local(points, first, last)
    z = x + 1j * y
    angle = np.where(y == 0.0, 0.0, np.arctan2(y * length, y * y + x * (x - length)))
    near = (1e-10 * length) ** 2
    squares = [np.where(square > near, square, 1.0) for square in (x * x + y * y, (x - length) ** 2 + y * y)]
    whole = 0.5 * (np.log(squares[0]) - np.log(squares[1])) - 1j * angle
    of_last = (z * whole - length) / length
    turn = (tangent[:, 0] - 1j * tangent[:, 1]) / (2.0 * np.pi)
    return (whole - of_last) * turn, of_last * turn


def _local(points, first, last) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """x and y (n, m) of points along and to the left of panels, lengths (m,) and tangents (m, 2)."""
    along = last - first
    length = np.linalg.norm(along, axis=1)
    tangent = along / length[:, None]
    offset = points[:, None, :] - first[None, :, :]
    x = (offset * tangent).sum(axis=2)
    y = offset[..., 1] * tangent[:, 0] - offset[..., 0] * tangent[:, 1]
    return x, np.where(np.abs(y) < 1e-12 * length, 0.0, y), length, tangent


def _log(square: np.ndarray) -> np.ndarray:
    """Logarithm, zero at zero."""
    return np.log(np.where(square > 0.0, square, 1.0))


def _squared_angle(t: np.ndarray, y: np.ndarray) -> np.ndarray:
    """y^2 arctan(t / y), zero where y is."""
    safe = np.where(y == 0.0, 1.0, y)
    return np.where(y == 0.0, 0.0, y * y * np.arctan(t / safe))
