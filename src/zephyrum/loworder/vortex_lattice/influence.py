"""Velocities induced by a lattice of vortex rings whose last row trails into the wake.

A filament is a polyline of vortex segments that runs aft from the leading edge to the trailing edge and on along the
wake; its last node goes to infinity along `direction`. A strip lies between two filaments and holds the bound segments
between their nodes. Velocities of straight segments: Katz and Plotkin (2001), ch. 10.
Verified by tests/test_lattice.py.
"""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import parallel, prange, serial

FOUR_PI = 4.0 * np.pi
TINY = 1e-14  # square of the sine of an angle below which a point lies on the line of a segment


class Filaments(NamedTuple):
    """Vortex filaments and the strips between them.

    Attributes
    ----------
    nodes : (n_filaments, n_nodes, 3) array
        Nodes from the first bound segment aft [m].
    left, right : (n_strips,) array
        Filaments on either side of each strip; bound vorticity points from left to right.
    surface : (n_filaments,) array
        Number of the lifting surface.
    core : (n_filaments,) array
        Radius of the viscous core that other surfaces see [m].
    direction : (3,) array
        Unit vector along which the last nodes go to infinity.
    rows : int
        Chordwise number of rings.
    """

    nodes: np.ndarray
    left: np.ndarray
    right: np.ndarray
    surface: np.ndarray
    core: np.ndarray
    direction: np.ndarray
    rows: int


@serial
def segment_velocity(p, a, b, core):
    """Velocity at p of a segment from a to b of unit circulation, with a viscous core."""
    ux, uy, uz = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    vx, vy, vz = p[0] - b[0], p[1] - b[1], p[2] - b[2]
    cx, cy, cz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    cross = cx * cx + cy * cy + cz * cz
    uu, vv = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz
    if cross <= TINY * uu * vv:
        return 0.0, 0.0, 0.0
    u, v = np.sqrt(uu), np.sqrt(vv)
    dot = ux * vx + uy * vy + uz * vz
    # two forms of one expression, each where it does not cancel
    inverse = 1.0 / (u * v + dot) if dot > 0.0 else (u * v - dot) / cross
    factor = (1.0 / u + 1.0 / v) * inverse / FOUR_PI
    if core > 0.0:
        length = (a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2 + (a[2] - b[2]) ** 2
        factor *= cross / (cross + core * core * length)
    return factor * cx, factor * cy, factor * cz


@serial
def ray_velocity(p, a, d, core):
    """Velocity at p of a half line from a along the unit vector d, with a viscous core."""
    ux, uy, uz = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    cx, cy, cz = d[1] * uz - d[2] * uy, d[2] * ux - d[0] * uz, d[0] * uy - d[1] * ux
    cross = cx * cx + cy * cy + cz * cz
    uu = ux * ux + uy * uy + uz * uz
    if cross <= TINY * uu:
        return 0.0, 0.0, 0.0
    u = np.sqrt(uu)
    along = ux * d[0] + uy * d[1] + uz * d[2]
    inverse = 1.0 / (u - along) if along < 0.0 else (u + along) / cross
    factor = inverse / (FOUR_PI * u)
    if core > 0.0:
        factor *= cross / (cross + core * core)
    return factor * cx, factor * cy, factor * cz


@serial
def aft_velocity(p, surface, filaments, f, k):
    """Velocity at p on a surface of the segment behind node k of filament f, of the last node that of its half line."""
    nodes = filaments.nodes
    core = filaments.core[f] if filaments.surface[f] != surface else 0.0
    if k < nodes.shape[1] - 1:
        return segment_velocity(p, nodes[f, k], nodes[f, k + 1], core)
    return ray_velocity(p, nodes[f, k], filaments.direction, core)


@serial
def bound_velocity(p, surface, filaments, s, k):
    """Velocity at p on a surface of the bound segment k of strip s."""
    left, right = filaments.left[s], filaments.right[s]
    core = filaments.core[left] if filaments.surface[left] != surface else 0.0
    return segment_velocity(p, filaments.nodes[left, k], filaments.nodes[right, k], core)


@parallel
def normal_velocities(points, normals, surface, filaments):
    """(n_points, n_strips * rows) normal velocity of every ring of unit circulation."""
    rows, n_strips = filaments.rows, len(filaments.left)
    n_filaments, n_nodes = filaments.nodes.shape[0], filaments.nodes.shape[1]
    out = np.empty((len(points), n_strips * rows))
    for i in prange(len(points)):
        n = normals[i]
        aft = np.zeros((n_filaments, rows))  # of the segment behind each node; of the last one with its wake
        for f in range(n_filaments):
            for k in range(n_nodes):
                u, v, w = aft_velocity(points[i], surface[i], filaments, f, k)
                aft[f, min(k, rows - 1)] += u * n[0] + v * n[1] + w * n[2]
        for s in range(n_strips):
            left, right = filaments.left[s], filaments.right[s]
            behind = 0.0
            for k in range(rows - 1, -1, -1):
                u, v, w = bound_velocity(points[i], surface[i], filaments, s, k)
                bound = u * n[0] + v * n[1] + w * n[2]
                out[i, s * rows + k] = bound - behind + aft[right, k] - aft[left, k]
                behind = bound
    return out


@parallel
def induced_velocities(points, surface, filaments, circulation):
    """(n_points, n_sets, 3) velocity of rings of circulation (n_strips * rows, n_sets)."""
    rows, n_strips, n_sets = filaments.rows, len(filaments.left), circulation.shape[1]
    n_filaments, n_nodes = filaments.nodes.shape[0], filaments.nodes.shape[1]
    # circulation of the segments that run aft
    aft = np.zeros((n_filaments, rows, n_sets))
    for s in range(n_strips):
        for k in range(rows):
            for m in range(n_sets):
                aft[filaments.right[s], k, m] += circulation[s * rows + k, m]
                aft[filaments.left[s], k, m] -= circulation[s * rows + k, m]
    out = np.zeros((len(points), n_sets, 3))
    for i in prange(len(points)):
        for f in range(n_filaments):
            for k in range(n_nodes):
                u, v, w = aft_velocity(points[i], surface[i], filaments, f, k)
                row = min(k, rows - 1)
                for m in range(n_sets):
                    out[i, m, 0] += aft[f, row, m] * u
                    out[i, m, 1] += aft[f, row, m] * v
                    out[i, m, 2] += aft[f, row, m] * w
        for s in range(n_strips):
            for k in range(rows):
                u, v, w = bound_velocity(points[i], surface[i], filaments, s, k)
                for m in range(n_sets):
                    net = circulation[s * rows + k, m]
                    if k > 0:
                        net -= circulation[s * rows + k - 1, m]
                    out[i, m, 0] += net * u
                    out[i, m, 1] += net * v
                    out[i, m, 2] += net * w
    return out
