"""A plain flap with a sealed gap: the part behind the hinge turned, one side bridged by an arc, the other trimmed."""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.errors import InputError

if TYPE_CHECKING:
    from zephyrum.geometry.airfoil.section import Airfoil


def deflect_flap(foil: "Airfoil", hinge: float, angle: float, height: float) -> dict:
    """Deflect the part of a section behind a hinge.

    Parameters
    ----------
    foil : Airfoil
        Section.
    hinge : float
        Position of the hinge [chords].
    angle : float
        Angle [deg], tail down positive.
    height : float
        Position of the hinge between the lower (0) and the upper (1) side.

    Returns
    -------
    dict
        Changed fields: points, corners, notes and nose_index.

    Examples
    --------
    >>> import zephyrum as zy
    >>> sorted(deflect_flap(zy.Airfoil.naca("2412"), 0.7, 10.0, 0.5))
    ['corners', 'nose_index', 'notes', 'points']
    """
    if angle == 0.0:
        return {"notes": (*foil.notes, "flap at 0 deg")}
    along = (foil.tail - foil.nose) / foil.chord
    square = np.array([-along[1], along[0]])
    local = np.stack([(foil.points - foil.nose) @ along, (foil.points - foil.nose) @ square], axis=1) / foil.chord
    first = int(np.searchsorted(foil.point_parameters, foil.nose_parameter, side="right"))  # point below the nose
    up, low = np.vstack([[0.0, 0.0], local[:first][::-1]]), np.vstack([[0.0, 0.0], local[first:]])
    if np.linalg.norm(up[1]) < 1e-9:
        up = up[1:]
    z_up, z_low = np.interp(hinge, up[:, 0], up[:, 1]), np.interp(hinge, low[:, 0], low[:, 1])
    pivot = np.array([hinge, z_low + height * (z_up - z_low)])
    sides = [_side(up, pivot, -angle, 1.0), _side(low, pivot, -angle, -1.0)]
    (upper, upper_corners), (lower, lower_corners) = sides
    points = np.concatenate([upper[::-1], lower[1:]])
    n = len(upper) - 1
    corners = sorted([n - k for k in upper_corners] + [n + k for k in lower_corners])
    points = foil.nose + foil.chord * (points[:, :1] * along + points[:, 1:] * square)
    return {
        "points": points,
        "corners": tuple(corners),
        "nose_index": n,
        "notes": (*foil.notes, f"plain flap {angle:g} deg at {hinge:g} chord, gap sealed"),
    }


def _side(side: np.ndarray, pivot: np.ndarray, angle: float, sign: float) -> tuple[np.ndarray, list[int]]:
    """One surface, nose to tail, with its rear part turned counter-clockwise by `angle`; indices of its corners."""
    a = np.radians(angle)
    turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
    front = side[side[:, 0] < pivot[0] - 1e-9]
    rear = side[side[:, 0] > pivot[0] + 1e-9]
    edge = np.array([pivot[0], np.interp(pivot[0], side[:, 0], side[:, 1])])
    radius = abs(edge[1] - pivot[1])
    turned = (rear - pivot) @ turn.T + pivot
    moved = (edge - pivot) @ turn.T + pivot
    opens = sign * angle < 0.0
    if opens and radius > 1e-6:
        n = max(3, int(np.ceil(abs(angle) / 2.0)))
        start = np.pi / 2.0 * sign
        arc = pivot + radius * np.stack(
            [np.cos(start + a * np.linspace(0, 1, n + 1)), np.sin(start + a * np.linspace(0, 1, n + 1))], axis=1
        )
        joined = np.concatenate([front, arc, turned])
        return _spread(joined), []
    # the surfaces run into each other: keep what lies before and behind their crossing (it may lie behind the hinge)
    fixed = np.concatenate([front, edge[None], rear[rear[:, 0] < pivot[0] + 3.0 * radius + 0.01]])
    moving = np.concatenate([moved[None], turned])
    meeting = _crossing(fixed, moving)
    if meeting is None:
        raise InputError(
            f"the flap at {pivot[0]:g} chord with {abs(angle):g} deg leaves no closed surface; choose a smaller angle "
            f"or a hinge nearer the middle."
        )
    i, j, point = meeting
    head = fixed[: i + 1]
    head = head[np.linalg.norm(head - point, axis=1) > 2e-3]
    rest = moving[j + 1 :]
    rest = rest[np.linalg.norm(rest - point, axis=1) > 2e-3]
    return np.concatenate([head, point[None], rest]), [len(head)]


def _spread(points: np.ndarray) -> np.ndarray:
    """Points without near-coincident neighbours."""
    keep = [0]
    for k in range(1, len(points)):
        if np.linalg.norm(points[k] - points[keep[-1]]) > 1e-4 or k == len(points) - 1:
            keep.append(k)
    return points[keep]


def _crossing(a: np.ndarray, b: np.ndarray):
    """First crossing of two polylines: (segment of a, segment of b, point), or None."""
    p, r = a[:-1, None], np.diff(a, axis=0)[:, None]
    q, s = b[None, :-1], np.diff(b, axis=0)[None]
    cross = r[..., 0] * s[..., 1] - r[..., 1] * s[..., 0]
    d = q - p
    with np.errstate(divide="ignore", invalid="ignore"):
        t = (d[..., 0] * s[..., 1] - d[..., 1] * s[..., 0]) / cross
        u = (d[..., 0] * r[..., 1] - d[..., 1] * r[..., 0]) / cross
    hit = np.argwhere((t >= 0) & (t <= 1) & (u >= 0) & (u <= 1))
    if not len(hit):
        return None
    i, j = hit[0]
    return int(i), int(j), a[i] + t[i, j] * (a[i + 1] - a[i])
