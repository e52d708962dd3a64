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
def segment_velocity(px, py, pz, ax, ay, az, bx, by, bz, core):
    """Velocity at p of a segment from a to b of unit circulation, with a viscous core."""
    ux, uy, uz = px - ax, py - ay, pz - az
    vx, vy, vz = px - bx, py - by, pz - bz
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
        length = (ax - bx) ** 2 + (ay - by) ** 2 + (az - bz) ** 2
        factor *= cross / (cross + core * core * length)
    return factor * cx, factor * cy, factor * cz


@serial
def ray_velocity(px, py, pz, ax, ay, az, dx, dy, dz, core):
    """Velocity at p of a half line from a along the unit vector d, with a viscous core."""
    ux, uy, uz = px - ax, py - ay, pz - az
    cx, cy, cz = dy * uz - dz * uy, dz * ux - dx * uz, dx * uy - dy * ux
    cross = cx * cx + cy * cy + cz * cz
    uu = ux * ux + uy * uy + uz * uz
    if cross <= TINY * uu:
        return 0.0, 0.0, 0.0
    u = np.sqrt(uu)
    along = ux * dx + uy * dy + uz * dz
    inverse = 1.0 / (u - along) if along < 0.0 else (u + along) / cross
    factor = inverse / (FOUR_PI * u)
    if core > 0.0:
        factor *= cross / (cross + core * core)
    return factor * cx, factor * cy, factor * cz


@parallel
def normal_velocities(points, normals, surface, filaments):
    """(n_points, n_strips * rows) normal velocity of every ring of unit circulation."""
    nodes, d, rows = filaments.nodes, filaments.direction, filaments.rows
    n_filaments, n_nodes = nodes.shape[0], nodes.shape[1]
    n_strips = len(filaments.left)
    out = np.empty((len(points), n_strips * rows))
    for i in prange(len(points)):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
        aft = np.empty((n_filaments, rows))  # of the segment behind each node; of the last one with its wake
        for f in range(n_filaments):
            core = filaments.core[f] if filaments.surface[f] != surface[i] else 0.0
            for k in range(n_nodes):
                a = nodes[f, k]
                if k < n_nodes - 1:
                    b = nodes[f, k + 1]
                    u, v, w = segment_velocity(px, py, pz, a[0], a[1], a[2], b[0], b[1], b[2], core)
                else:
                    u, v, w = ray_velocity(px, py, pz, a[0], a[1], a[2], d[0], d[1], d[2], core)
                normal = u * nx + v * ny + w * nz
                if k < rows:
                    aft[f, k] = normal
                else:
                    aft[f, rows - 1] += normal
        for s in range(n_strips):
            left, right = filaments.left[s], filaments.right[s]
            core = filaments.core[left] if filaments.surface[left] != surface[i] else 0.0
            before = 0.0
            for k in range(rows - 1, -1, -1):
                a, b = nodes[left, k], nodes[right, k]
                u, v, w = segment_velocity(px, py, pz, a[0], a[1], a[2], b[0], b[1], b[2], core)
                bound = u * nx + v * ny + w * nz
                out[i, s * rows + k] = bound - before + aft[right, k] - aft[left, k]
                before = bound
    return out


@parallel
def induced_velocities(points, surface, filaments, circulation):
    """(n_points, n_sets, 3) velocity of rings of circulation (n_strips * rows, n_sets)."""
    nodes, d, rows = filaments.nodes, filaments.direction, filaments.rows
    n_filaments, n_nodes = nodes.shape[0], nodes.shape[1]
    n_strips, n_sets = len(filaments.left), circulation.shape[1]
    # circulation of the segments that run aft
    aft = np.zeros((n_filaments, rows, n_sets))
    for s in range(n_strips):
        for k in range(rows):
            for m in range(n_sets):
                aft[filaments.right[s], k, m] += circulation[s * rows + k, m]
                aft[filaments.left[s], k, m] -= circulation[s * rows + k, m]
    out = np.zeros((len(points), n_sets, 3))
    for i in prange(len(points)):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        for f in range(n_filaments):
            core = filaments.core[f] if filaments.surface[f] != surface[i] else 0.0
            for k in range(n_nodes):
                a = nodes[f, k]
                if k < n_nodes - 1:
                    b = nodes[f, k + 1]
                    u, v, w = segment_velocity(px, py, pz, a[0], a[1], a[2], b[0], b[1], b[2], core)
                else:
                    u, v, w = ray_velocity(px, py, pz, a[0], a[1], a[2], d[0], d[1], d[2], core)
                row = min(k, rows - 1)
                for m in range(n_sets):
                    out[i, m, 0] += aft[f, row, m] * u
                    out[i, m, 1] += aft[f, row, m] * v
                    out[i, m, 2] += aft[f, row, m] * w
        for s in range(n_strips):
            left, right = filaments.left[s], filaments.right[s]
            core = filaments.core[left] if filaments.surface[left] != surface[i] else 0.0
            for k in range(rows):
                a, b = nodes[left, k], nodes[right, k]
                u, v, w = segment_velocity(px, py, pz, a[0], a[1], a[2], b[0], b[1], b[2], core)
                for m in range(n_sets):
                    net = circulation[s * rows + k, m]
                    if k > 0:
                        net -= circulation[s * rows + k - 1, m]
                    out[i, m, 0] += net * u
                    out[i, m, 1] += net * v
                    out[i, m, 2] += net * w
    return out
