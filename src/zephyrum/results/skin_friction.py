"""Lines of friction on the surface of a body in space, as oil on it would draw them; without friction those of the
velocity at the wall.

A line crosses one triangle after the other, with a direction linear between the corners and the midpoint rule (second
order); it ends at sharp edges, where the flow leaves the body, and where it would come nearer to another line than
their spacing. So the lines cover the body evenly without a seed picked, close up where the flow separates and spread
where it attaches. Legendre (1956), La Recherche Aeronautique 54 (lines of friction and their nodes and saddles);
spacing after Jobard and Lefer (1997). Verified by tests/test_paths.py (meridians of a ball, circles about an axis).
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from zephyrum._core.jit import inner_serial, serial
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.mesh.wall_triangles import wall_surface

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution


SPACING = 0.012  # of the body's size between lines
FINEST = 0.002  # of it: least spacing
SHORT = 3.0  # spacings: shorter lines are left out
# least cosine between the normals of triangles that a line passes between, and over which directions are averaged
SHARP = 0.5
MOST = 4000  # triangles that one line crosses either way
SAFE = 1e-9  # of a triangle: least distance from its sides


@dataclass(frozen=True, eq=False)
class SkinFrictionLines:
    """Lines of friction on a surface, in the order of the flow.

    Attributes
    ----------
    start : array
        Line i has the points start[i]:start[i + 1].
    points : (n, 3) array
        [m]
    normal : (n, 3) array
        Of the surface, out of the body.
    strength : (n,) array
        Quantity `name`.
    name : str
        "Cf" [-] or "speed" [m/s].
    """

    start: np.ndarray
    points: np.ndarray
    normal: np.ndarray
    strength: np.ndarray
    name: str

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{self.count} lines of {self.means}, {len(self.points):,} points"

    @property
    def count(self) -> int:
        """Number of lines."""
        return len(self.start) - 1

    @property
    def means(self) -> str:
        """What the lines follow."""
        return "friction" if self.name == "Cf" else "surface flow"

    def table(self):
        """DataFrame: line, x, y, z [m], length [m] from the line's beginning, and Cf [-] or speed [m/s]."""
        import pandas as pd

        line = np.repeat(np.arange(self.count), np.diff(self.start))
        step = np.r_[0.0, np.linalg.norm(np.diff(self.points, axis=0), axis=1)]
        step[self.start[:-1]] = 0.0
        along = np.cumsum(step)
        x, y, z = self.points.T
        return pd.DataFrame(
            {
                "line": line,
                "x": x,
                "y": y,
                "z": z,
                "length": along - along[self.start[:-1]][line],
                self.name: self.strength,
            }
        )

    def mirrored(self) -> "SkinFrictionLines":
        """With the lines of the other half of a half model."""
        other = np.array([1.0, -1.0, 1.0])
        return SkinFrictionLines(
            np.r_[self.start, self.start[1:] + self.start[-1]],
            np.concatenate([self.points, self.points * other]),
            np.concatenate([self.normal, self.normal * other]),
            np.r_[self.strength, self.strength],
            self.name,
        )


def skin_friction_lines(solution: "Solution", spacing: float | None = None) -> SkinFrictionLines:
    """Lines of friction on the surface; see `Solution.skin_friction_lines`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    spacing : float, optional
        Distance of the lines [m]; 1.2 % of the body without it.
    """
    mesh = solution.mesh
    if mesh.planar:
        raise InputError("lines on the surface need a mesh in space; on a section Cf along it gives the same.")
    surface, faces = wall_surface(mesh, whole=False)
    size = float(np.ptp(surface.points, axis=0).max())
    spacing = SPACING * size if spacing is None else number("spacing", spacing, FINEST * size, size)
    local = faces - mesh.n_interior
    if solution.viscous:
        name, along = "Cf", solution.wall_friction[local] / solution.air.dynamic_pressure
    else:
        name, along = "speed", solution.fields()["velocity"][mesh.left[faces]]
    normal = -mesh.face_area[faces]  # a triangle of a face that is not convex may look the wrong way
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    t, x = surface.triangles, surface.points
    side = np.cross(
        x[t[:, [2, 0, 1]]] - x[t[:, [1, 2, 0]]], surface.normals[:, None, :]
    )  # across the side before each corner
    height = np.einsum("tij,tij->ti", x[t] - x[t[:, [1, 2, 0]]], side)
    gradient = side / np.where(np.abs(height) > 0.0, height, np.inf)[:, :, None]  # of the fraction of each corner
    order = np.argsort(t.ravel(), kind="stable")
    begin = np.searchsorted(t.ravel()[order], np.arange(len(x) + 1))
    corners = _at_corners(t, begin, order // 3, along, normal, surface.areas)
    low = x.min(axis=0)
    boxes = np.floor((x.max(axis=0) - low) / spacing).astype(np.int64) + 1
    grid = _LineGrid(np.zeros((6, *boxes), dtype=np.int32), low, spacing)
    beyond = surface.neighbours[:, [1, 2, 0]]  # across the side before each corner
    wall = _WallField(t, x, normal, corners, gradient, beyond)
    seeds = np.random.default_rng(1).permutation(len(t))
    start, rows = _trace_lines(seeds, wall, grid, SHORT * spacing)
    if len(start) < 2:
        raise InputError(f"spacing = {spacing:g} m is too wide for a single line on this body; take less.")
    return SkinFrictionLines(start, rows[:, :3], rows[:, 3:6], rows[:, 6], name)


class _WallField(NamedTuple):
    """Triangles of the wall with points and normals, the direction at their corners (m, 3, 3), the gradient of their
    barycentric coordinates (m, 3, 3) and the triangle beyond the side before each corner (m, 3).
    """

    triangles: np.ndarray
    points: np.ndarray
    normal: np.ndarray
    corners: np.ndarray
    gradient: np.ndarray
    beyond: np.ndarray


class _LineGrid(NamedTuple):
    """Boxes of the side `spacing` [m] from `low` (3,) on; owner (6, nx, ny, nz): line that passes, 0 none."""

    owner: np.ndarray
    low: np.ndarray
    spacing: float


@serial
def _at_corners(t, begin, star, along, normal, area):
    """(m, 3, 3) direction at the corners of every triangle, along it: means by area over neighbours that are not behind
    a sharp edge.
    """
    out = np.zeros((len(t), 3, 3))
    for i in range(len(t)):
        for c in range(3):
            total = 0.0
            for e in range(begin[t[i, c]], begin[t[i, c] + 1]):
                j = star[e]
                turn = 0.0
                for k in range(3):
                    turn += normal[i, k] * normal[j, k]
                if turn > SHARP:
                    total += area[j]
                    for k in range(3):
                        out[i, c, k] += area[j] * along[j, k]
            off = 0.0
            for k in range(3):
                out[i, c, k] /= max(total, 1e-300)
                off += out[i, c, k] * normal[i, k]
            for k in range(3):
                out[i, c, k] -= off * normal[i, k]
    return out


@inner_serial
def _cross(i, fraction, corners, gradient, direction, rate):
    """Move the barycentric coordinates (3,) of triangle i to where the line leaves it; returns the corner opposite to
    that side, -1 if the line does not move.
    """
    first = fraction.copy()
    at = -1
    for half in (0.5, 1.0):
        for c in range(3):
            rate[c] = 0.0
            for b in range(3):
                for k in range(3):
                    rate[c] += direction * fraction[b] * corners[i, b, k] * gradient[i, c, k]
        time, at = np.inf, -1
        for c in range(3):
            if rate[c] < 0.0 and -first[c] / rate[c] < time:
                time, at = -first[c] / rate[c], c
        if at < 0 or not np.isfinite(time):
            return -1
        for c in range(3):
            fraction[c] = first[c] + half * time * rate[c]
    return at


@inner_serial
def _box(p, n, low, spacing):
    """Which of the six ways the surface looks, and the box of the point."""
    side = 0
    for k in range(3):
        if abs(n[k]) > abs(n[side]):
            side = k
    return (
        2 * side + (1 if n[side] > 0.0 else 0),
        int((p[0] - low[0]) / spacing),
        int((p[1] - low[1]) / spacing),
        int((p[2] - low[2]) / spacing),
    )


@inner_serial
def _claim(p, n, grid, own):
    """Take the box of a point for line `own`; False if another line has it."""
    a, b, c, d = _box(p, n, grid.low, grid.spacing)
    if grid.owner[a, b, c, d] != 0 and grid.owner[a, b, c, d] != own:
        return False
    grid.owner[a, b, c, d] = own
    return True


@serial
def _place(i, fraction, wall, row):
    """Write position, normal and strength of a point of triangle i, given by its barycentric coordinates."""
    t, x = wall.triangles, wall.points
    strength = 0.0
    for k in range(3):
        row[k] = fraction[0] * x[t[i, 0], k] + fraction[1] * x[t[i, 1], k] + fraction[2] * x[t[i, 2], k]
        row[3 + k] = wall.normal[i, k]
        v = 0.0
        for c in range(3):
            v += fraction[c] * wall.corners[i, c, k]
        strength += v * v
    row[6] = np.sqrt(strength)


@inner_serial
def _next_triangle(i, side, fraction, direction, wall):
    """Triangle that a line enters across a side of triangle i, with its barycentric coordinates there; -1 at an open or
    sharp edge, and where the directions on both sides meet (a line of separation or attachment).
    """
    t = wall.triangles
    j = wall.beyond[i, side]
    if j < 0:
        return -1
    turn = 0.0
    for k in range(3):
        turn += wall.normal[i, k] * wall.normal[j, k]
    if turn < SHARP:
        return -1
    one, two = t[i, (side + 1) % 3], t[i, (side + 2) % 3]
    s_one, s_two = max(fraction[(side + 1) % 3], SAFE), max(fraction[(side + 2) % 3], SAFE)
    back = 0
    for c in range(3):
        fraction[c] = s_one if t[j, c] == one else (s_two if t[j, c] == two else 0.0)
        fraction[c] /= s_one + s_two
        if t[j, c] != one and t[j, c] != two:
            back = c
    into = 0.0
    for b in range(3):
        for k in range(3):
            into += direction * fraction[b] * wall.corners[j, b, k] * wall.gradient[j, back, k]
    return j if into > 0.0 else -1


@inner_serial
def _trace_one_way(seed, direction, own, wall, grid, room):
    """Follow a line from the centroid of a triangle, its points written from the middle of `room` (2 MOST + 1, 7)
    outwards; (number of points, length [m]).
    """
    fraction, rate = np.full(3, 1.0 / 3.0), np.zeros(3)
    i, at, step, length = seed, MOST, int(direction), 0.0
    while 0 <= at < len(room):
        _place(i, fraction, wall, room[at])
        if not _claim(room[at, :3], room[at, 3:6], grid, own):
            break
        if at != MOST:
            gone = 0.0
            for k in range(3):
                gone += (room[at, k] - room[at - step, k]) ** 2
            length += np.sqrt(gone)
        at += step
        side = _cross(i, fraction, wall.corners, wall.gradient, direction, rate)
        if side < 0:
            break
        i = _next_triangle(i, side, fraction, direction, wall)
        if i < 0:
            break
    return abs(at - MOST), length


@serial
def _trace_lines(seeds, wall, grid, short):
    """Trace lines from the centroids of triangles that are not yet near to a line.

    Parameters
    ----------
    seeds : (m,) array of int
        Triangles, in the order in which they are tried.
    wall : _WallField
    grid : _LineGrid
    short : float
        Lines shorter than this [m] are dropped.

    Returns
    -------
    start : (k + 1,) array of int
    rows : (n, 7) array
        Position [m], normal and strength.
    """
    size = 1 << 16
    rows, used = np.zeros((size, 7)), 0
    start = np.zeros(len(seeds) + 1, dtype=np.int64)
    stored = 0
    room = np.zeros((2 * MOST + 1, 7))
    third = np.full(3, 1.0 / 3.0)
    for seed in seeds:
        _place(seed, third, wall, room[MOST])
        if not _claim(room[MOST, :3], room[MOST, 3:6], grid, 0):
            continue
        ahead, length = _trace_one_way(seed, 1.0, stored + 1, wall, grid, room)
        behind, more = _trace_one_way(seed, -1.0, stored + 1, wall, grid, room)
        first, last = MOST + 1 - behind, MOST + ahead
        if length + more < short:
            for at in range(first, last):
                a, b, c, d = _box(room[at, :3], room[at, 3:6], grid.low, grid.spacing)
                if grid.owner[a, b, c, d] == stored + 1:
                    grid.owner[a, b, c, d] = 0
            continue
        while used + last - first > size:
            longer = np.zeros((2 * size, 7))
            longer[:size] = rows
            rows, size = longer, 2 * size
        rows[used : used + last - first] = room[first:last]
        used += last - first
        stored += 1
        start[stored] = used
    return start[: stored + 1].copy(), rows[:used].copy()
