"""Streamlines through a mesh in space, from seeds that need no picking.

A line follows the velocity, linear in every cell, by steps of half a cell with the midpoint rule (second order), and
walks from cell to cell through the faces; on a symmetry plane it glides. The default seeds lie just before the foremost
points of the body, evenly over its span and denser towards the tips, so that the lines part over the wings and show the
tip vortices. Verified by tests/test_paths.py (circles of a vortex, the stagnation line of a sphere).
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from zephyrum._core.jit import inner_serial, parallel, prange
from zephyrum._core.representation import short_repr
from zephyrum._core.validation import number, whole
from zephyrum.errors import InputError
from zephyrum.mesh.polygons import entries_of
from zephyrum.results.iso_surfaces import velocity_gradients

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution


SEEDS = 30
STEP_PER_CELL = 0.5  # of the shortest extent of a cell at most in one step
SEED_DISTANCE = 0.02  # of the body's length: how far before it the default seeds lie
TIPS = 0.35  # of the default seeds lie in the outer tenth of the span
MAX_CELL_SEARCH = 40  # most faces that one step may pass


@dataclass(frozen=True, eq=False)
class Streamlines:
    """Streamlines in space, in the order of the flow.

    Attributes
    ----------
    start : array
        Line i has the points start[i]:start[i + 1].
    points : (n, 3) array
        [m]
    time : (n,) array
        From its seed [s].
    speed : (n,) array
        [m/s]
    """

    start: np.ndarray
    points: np.ndarray
    time: np.ndarray
    speed: np.ndarray

    __repr__ = short_repr

    def __str__(self) -> str:
        return f"{self.count} lines of {len(self.points):,} points"

    @property
    def count(self) -> int:
        """Number of lines."""
        return len(self.start) - 1

    def table(self):
        """DataFrame: line, x, y, z [m], time [s], speed [m/s]."""
        import pandas as pd

        line = np.repeat(np.arange(self.count), np.diff(self.start))
        x, y, z = self.points.T
        return pd.DataFrame({"line": line, "x": x, "y": y, "z": z, "time": self.time, "speed": self.speed})

    def mirrored(self) -> "Streamlines":
        """With the lines of the other half of a half model."""
        return Streamlines(
            np.r_[self.start, self.start[1:] + self.start[-1]],
            np.concatenate([self.points, self.points * [1.0, -1.0, 1.0]]),
            np.r_[self.time, self.time],
            np.r_[self.speed, self.speed],
        )


def default_seeds(solution: "Solution", count: int = SEEDS) -> np.ndarray:
    """Positions just before the body, over its span.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    count : int, optional
        Largest number of positions.

    Returns
    -------
    (k, 3) array
        [m]
    """
    mesh = solution.mesh
    wall = mesh.face_centroid[mesh.faces_of("wall")]
    low, high = wall[:, 1].min(), wall[:, 1].max()
    midpoint = low if mesh.mirrored else 0.5 * (low + high)
    half = high - midpoint
    tips = max(1, int(TIPS * count))
    even = np.linspace(0.02, 0.9, count - tips)
    fraction = np.r_[even, np.linspace(0.9, 0.9995, tips + 1)[1:]]
    if not mesh.mirrored:
        fraction = np.r_[-fraction[::2][::-1], fraction[::2]]
    wanted = midpoint + fraction * half
    wide = 0.02 * half
    wind = solution.computed.axes[0]
    ahead = wall @ wind
    seeds = []
    for y in wanted:
        near = np.flatnonzero(np.abs(wall[:, 1] - y) < wide)
        if len(near):
            seeds.append(wall[near[np.argmin(ahead[near])]] * [1.0, 0.0, 1.0] + [0.0, y, 0.0])
    return np.array(seeds) - SEED_DISTANCE * np.ptp(wall[:, 0]) * wind


def trace_streamlines(
    solution: "Solution", seeds: list[list] | None = None, length: float | None = None, steps: int = 4000
) -> Streamlines:
    """Trace streamlines; see `Solution.streamlines`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    seeds : list[list], optional
        Positions (k, 3) [m].
    length : float, optional
        Largest length either way [m].
    steps : int, optional
        Largest number of steps.
    """
    mesh = solution.mesh
    if mesh.planar:
        raise InputError("paths need a mesh in space; streamlines of a section come from stream_function().")
    wall = mesh.points[mesh.face_points[entries_of(mesh.face_start, mesh.faces_of("wall"))[1]]]
    size = float(np.ptp(wall, axis=0).max())
    length = 3.0 * size if length is None else number("length", length, 0.0, open_low=True)
    seeds = default_seeds(solution) if seeds is None else np.atleast_2d(np.asarray(seeds, dtype=float))
    if seeds.ndim != 2 or seeds.shape[1] != 3 or not np.isfinite(seeds).all():
        raise InputError(f"seeds of shape {seeds.shape} must be finite places (k, 3) [m].")
    velocity = np.ascontiguousarray(solution.fields()["velocity"])
    gradients = velocity_gradients(solution)
    start, faces = mesh.cell_faces
    inward = np.zeros(mesh.n_faces - mesh.n_interior, dtype=np.bool_)
    inward[mesh.faces_of("symmetry", "slip") - mesh.n_interior] = True
    nearest = cKDTree(mesh.cell_centroid).query(seeds)[1]
    whole("steps", steps, 10, 10**6)
    cells = TraceMesh(
        start,
        faces,
        mesh.left,
        mesh.right,
        mesh.face_centroid,
        mesh.face_area,
        inward,
        mesh.cell_centroid,
        mesh.cell_volume,
    )
    room, ends = np.zeros((len(seeds), 2 * steps, 5)), np.zeros((len(seeds), 2), dtype=np.int64)
    _trace(seeds, nearest, cells, velocity, gradients, length, room, ends)
    first, last = ends.T
    good = last - first > 2
    if not good.any():
        raise InputError(
            f"none of {len(seeds)} seeds lies in the flow; give places [m] outside the body and inside the mesh."
        )
    rows = np.concatenate([room[k, first[k] : last[k]] for k in np.flatnonzero(good)])
    return Streamlines(np.r_[0, np.cumsum((last - first)[good])], rows[:, :3], rows[:, 3], rows[:, 4])


class TraceMesh(NamedTuple):
    """The mesh as the tracer needs it.

    Attributes
    ----------
    start, faces : array
        Faces of each cell as CSR.
    left, right : array
    midpoint, area : array (n_faces, 3)
        Centroid and area vector of each face.
    inward : array (n_boundary,) of bool
        Boundary faces that a line follows: symmetry planes and slip walls.
    centre, volume : array (n_cells, 3), (n_cells,)
    """

    start: np.ndarray
    faces: np.ndarray
    left: np.ndarray
    right: np.ndarray
    midpoint: np.ndarray
    area: np.ndarray
    inward: np.ndarray
    centre: np.ndarray
    volume: np.ndarray


@inner_serial
def _cell_at(x, cell, mesh):
    """The cell of the point x (3,), searched from `cell` on through faces; -1 outside. x is put back onto a symmetry
    plane.
    """
    midpoint, area, n_interior = mesh.midpoint, mesh.area, len(mesh.right)
    for _ in range(MAX_CELL_SEARCH):
        worst, through = 1e-9, -1
        for e in range(mesh.start[cell], mesh.start[cell + 1]):
            f = mesh.faces[e]
            sign = 1.0 if mesh.left[f] == cell else -1.0
            off, size = 0.0, 0.0
            for k in range(3):
                off += sign * (x[k] - midpoint[f, k]) * area[f, k]
                size += area[f, k] ** 2
            far = off / np.sqrt(size * np.sqrt(size))  # over the face's own width
            if far > worst:
                worst, through = far, f
        if through < 0:
            return cell
        if through >= n_interior:
            if not mesh.inward[through - n_interior]:
                return -1
            off, size = 0.0, 0.0
            for k in range(3):
                off += (x[k] - midpoint[through, k]) * area[through, k]
                size += area[through, k] ** 2
            for k in range(3):
                x[k] -= off / size * area[through, k]
            return cell
        cell = mesh.right[through] if mesh.left[through] == cell else mesh.left[through]
    return cell  # between distorted cells: the last one is near enough


@inner_serial
def _shortest_extent(cell, mesh):
    """Volume of a cell over its largest face, or the side of the cube as large if that is less [m]."""
    largest = 0.0
    for e in range(mesh.start[cell], mesh.start[cell + 1]):
        f = mesh.faces[e]
        largest = max(largest, mesh.area[f, 0] ** 2 + mesh.area[f, 1] ** 2 + mesh.area[f, 2] ** 2)
    return min(mesh.volume[cell] ** (1.0 / 3.0), mesh.volume[cell] / np.sqrt(largest))


@inner_serial
def _velocity(x, cell, velocity, gradients, centre, out):
    """Velocity at x in a cell, no further from the cell's own than by half its size; returns its square."""
    own, change = 0.0, 0.0
    for i in range(3):
        out[i] = 0.0
        for k in range(3):
            out[i] += gradients[cell, i, k] * (x[k] - centre[cell, k])
        own += velocity[cell, i] ** 2
        change += out[i] ** 2
    factor = min(1.0, 0.5 * np.sqrt(own / max(change, 1e-300)))
    total = 0.0
    for i in range(3):
        out[i] = velocity[cell, i] + factor * out[i]
        total += out[i] ** 2
    return total


@parallel
def _trace(seeds, nearest, mesh, velocity, gradients, length, room, ends):
    """Follow every seed both ways; rows of room (k, m, 5): x, y, z, time, speed between its two ends."""
    half = room.shape[1] // 2
    for s in prange(len(seeds)):
        k = np.int64(s)
        x, y, v = np.empty(3), np.empty(3), np.empty(3)
        ends[k, 0] = ends[k, 1] = half
        for direction in (-1.0, 1.0):
            x[:] = seeds[k]
            cell = _cell_at(x, nearest[k], mesh)
            at = half if direction > 0.0 else half - 1
            time, gone = 0.0, 0.0
            while cell >= 0 and 0 <= at < room.shape[1] and gone < length:
                speed = np.sqrt(_velocity(x, cell, velocity, gradients, mesh.centre, v))
                if direction > 0.0 or gone > 0.0:  # the seed itself once
                    for i in range(3):
                        room[k, at, i] = x[i]
                    room[k, at, 3], room[k, at, 4] = time, speed
                    at += 1 if direction > 0.0 else -1
                if speed == 0.0:
                    break
                step = STEP_PER_CELL * _shortest_extent(cell, mesh)
                for i in range(3):
                    y[i] = x[i] + 0.5 * direction * step * v[i] / speed
                there = _cell_at(y, cell, mesh)
                if there < 0:
                    break
                fast = np.sqrt(_velocity(y, there, velocity, gradients, mesh.centre, v))
                if fast == 0.0:
                    break
                for i in range(3):
                    x[i] += direction * step * v[i] / fast
                time += direction * step / fast
                gone += step
                cell = _cell_at(x, there, mesh)
            if direction > 0.0:
                ends[k, 1] = at
            else:
                ends[k, 0] = at + 1
