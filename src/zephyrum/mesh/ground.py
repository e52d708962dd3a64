"""A level ground under bodies: how bodies are turned over it, and the layers that it gets in viscous flow.

The wind blows along the ground, so alpha turns the body. The clearance of its lowest point over the ground is kept. The
layers are columns under the cells that stand on the plane of their top: every polygon of that plane is the top of a
column of prisms. Verified by tests/test_ground.py.
"""

import bisect
from typing import NamedTuple

import numpy as np

from zephyrum._core.validation import number
from zephyrum.conditions.axes import turned_body
from zephyrum.errors import InputError
from zephyrum.mesh.construction import mesh_from_faces
from zephyrum.mesh.core import Mesh

MAX_CLEARANCE_FRACTION = 0.2  # of the clearance that the layers on the ground may fill
MAX_LAYERS = 60  # layers
MAX_ATTITUDE = 80.0  # deg


def rotated_about(points: np.ndarray, pivot: list[float] | tuple[float, float, float], attitude: float) -> np.ndarray:
    """Rotate points nose-up about a line along y.

    Parameters
    ----------
    points : (n, 3) array
        [m]
    pivot : list[float] or tuple[float, float, float]
        Point (3,) of the line [m].
    attitude : float
        Angle [deg].

    Returns
    -------
    (n, 3) array
        [m]

    Examples
    --------
    >>> rotated_about(np.array([[1.0, 0.0, 0.0]]), (0.0, 0.0, 0.0), 0.0).tolist()
    [[1.0, 0.0, 0.0]]
    """
    number("attitude", attitude, -MAX_ATTITUDE, MAX_ATTITUDE)
    if attitude == 0.0:
        return points
    return np.asarray(pivot) + turned_body(points - np.asarray(pivot), attitude)


def ground_level(ground: float, before: np.ndarray, after: np.ndarray) -> float:
    """Height of the ground under a turned body that keeps its clearance.

    Parameters
    ----------
    ground : float
        z of the ground before [m].
    before, after : (n, 3) arrays
        Points of the body before and after it is turned [m].

    Returns
    -------
    float
        z [m].

    Raises
    ------
    InputError
        The body reaches the ground.

    Examples
    --------
    >>> before = np.array([[0.0, 0.0, -1.0], [1.0, 0.0, 0.0]])
    >>> ground_level(-2.0, before, before + [0.0, 0.0, 0.5])
    -1.5
    """
    ground = number("ground", ground)
    lowest = float(before[:, 2].min())
    if lowest <= ground:
        raise InputError(
            f"the body reaches down to z = {lowest:.4g} m, below the ground at {ground:g} m; lift it, or give ground "
            f"below {lowest:.4g}."
        )
    return float(after[:, 2].min()) - (lowest - ground)


def ground_heights(first: float, growth: float, clearance: float, largest: float) -> np.ndarray:
    """Heights of the layers over the ground.

    Parameters
    ----------
    first : float
        Height of the first layer [m].
    growth : float
        Ratio of successive layers.
    clearance : float
        Clearance of the body [m], of which the layers fill a fraction at most.
    largest : float
        Height [m] at which the layers end.

    Returns
    -------
    (n + 1,) array
        From 0 up [m].

    Notes
    -----
    All of them together fill at most `MIN_CLEARANCE` of the clearance.

    Examples
    --------
    >>> ground_heights(0.01, 1.5, 1.0, 0.1).round(4).tolist()
    [0.0, 0.01, 0.025, 0.0475, 0.0812, 0.1319]
    """
    steps = [first]
    while (
        len(steps) < MAX_LAYERS
        and steps[-1] * growth <= largest
        and (sum(steps) + steps[-1] * growth) <= MAX_CLEARANCE_FRACTION * clearance
    ):
        steps.append(steps[-1] * growth)
    return np.concatenate([[0.0], np.cumsum(steps)])


class PlaneEdges(NamedTuple):
    """Edges of a plane mesh.

    Attributes
    ----------
    xz : (n, 2) array
        Corners x, z [m].
    a, b, own, other, tag : (m,) arrays of int
        Edge i from corner a to b has the cell `own` on its left and `other` on its right (-1: none, then `tag` is its
        group).
    """

    xz: np.ndarray
    a: np.ndarray
    b: np.ndarray
    own: np.ndarray
    other: np.ndarray
    tag: np.ndarray


def extruded_edges(edges: PlaneEdges, ground: int, far: int, depths: np.ndarray) -> PlaneEdges:
    """Add quadrilaterals under the edges of the ground of a plane mesh.

    Parameters
    ----------
    edges : PlaneEdges
    ground, far : int
        Tags of the ground and of the outer boundary.
    depths : (k + 1,) array
        Depths [m] of the levels under the edges of the ground, from 0.

    Returns
    -------
    PlaneEdges
        With the ground at the lowest level.
    """
    xz, a, b, own, other, tag = edges
    cells = int(max(own.max(), other.max())) + 1
    floor = np.flatnonzero(tag == ground)
    n, many = len(xz), len(floor)
    used, ends = np.unique(np.stack([a[floor], b[floor]]), return_inverse=True)
    ends = ends.reshape(2, many)
    layers = len(depths) - 1
    deeper = [xz[used] - [0.0, depth] for depth in depths[1:]]
    level = np.concatenate([used[None, :], n + np.arange(layers * len(used)).reshape(layers, -1)])  # corners by level
    column = cells + np.arange(layers * many).reshape(layers, many)  # cells by layer
    other, tag = other.copy(), tag.copy()
    other[floor], tag[floor] = column[0], -1
    left_of, right_of = np.full(len(used), -1), np.full(len(used), -1)
    left_of[ends[1]], right_of[ends[0]] = np.arange(many), np.arange(many)  # columns on both sides of a corner
    made = [(a, b, own, other, tag)]
    for k in range(layers):
        below = column[k + 1] if k + 1 < layers else np.full(many, -1)
        made.append((level[k + 1][ends[0]], level[k + 1][ends[1]], column[k], below, np.where(below < 0, ground, -1)))
        has = left_of >= 0
        right = np.where(right_of[has] >= 0, column[k][right_of[has]], -1)
        made.append((level[k + 1][has], level[k][has], column[k][left_of[has]], right, np.where(right < 0, far, -1)))
        first = (left_of < 0) & (right_of >= 0)
        count = int(first.sum())
        made.append(
            (level[k][first], level[k + 1][first], column[k][right_of[first]], np.full(count, -1), np.full(count, far))
        )
    return PlaneEdges(np.concatenate([xz, *deeper]), *(np.concatenate(parts) for parts in zip(*made, strict=True)))


def with_ground_layers(mesh: Mesh, depths: np.ndarray) -> Mesh:
    """Add prisms under the faces of the ground of a mesh in space.

    Parameters
    ----------
    mesh : Mesh
        Mesh with a ground.
    depths : (k + 1,) array
        Depths of the levels [m], from 0.
    """
    group = next(g for g in mesh.groups if g.role == "ground")
    floor = np.arange(group.start, group.stop)
    start, corners, ni = mesh.face_start, mesh.face_points, mesh.n_interior
    rings = _conformal_rings(mesh.points, [corners[start[f] : start[f + 1]] for f in floor])
    count = np.array([len(one) for one in rings])
    ring = np.concatenate(rings)
    used, ring = np.unique(ring, return_inverse=True)
    many, layers, width = len(floor), len(depths) - 1, len(used)
    owner = np.repeat(np.arange(many), count)
    follow = np.arange(1, len(ring) + 1)
    ends = np.cumsum(count)
    follow[ends - 1] = ends - count
    a, b = ring, ring[follow]  # edges of the polygons, each with its polygon on its left seen from below
    key = np.minimum(a, b) * width + np.maximum(a, b)
    order = np.argsort(key, kind="stable")
    first = np.r_[True, key[order][1:] != key[order][:-1]]
    edge = order[first]
    beside = np.full(len(edge), -1)
    twin = np.r_[~first[1:], False][first]
    beside[twin] = owner[order[np.flatnonzero(first)[twin] + 1]]
    points = np.concatenate([mesh.points, *(mesh.points[used] - [0.0, 0.0, depth] for depth in depths[1:])])
    level = np.concatenate([used[None, :], len(mesh.points) + np.arange(layers * width).reshape(layers, width)])
    column = mesh.n_cells + np.arange(layers * many).reshape(layers, many)
    tag = np.full(mesh.n_faces, -1)
    for k, one in enumerate(mesh.groups):
        tag[one.faces] = k
    ground = mesh.groups.index(group)
    rim = _rim_groups(mesh, tag, {(int(used[i]), int(used[j])) for i, j in zip(a[edge[~twin]], b[edge[~twin]])})
    rim_tag = np.array(
        [rim.get((min(i, j), max(i, j)), -1) for i, j in zip(used[a[edge]].tolist(), used[b[edge]].tolist())]
    )
    other = np.full(mesh.n_faces, -1)
    other[:ni] = mesh.right
    other[floor], tag[floor] = column[0], -1
    faces = [(np.diff(start), corners, mesh.left, other, tag)]
    for k in range(layers):
        below = column[k + 1] if k + 1 < layers else np.full(many, -1)
        faces.append((count, level[k + 1][ring], column[k], below, np.where(below < 0, ground, -1)))
        quads = np.stack([level[k][a[edge]], level[k][b[edge]], level[k + 1][b[edge]], level[k + 1][a[edge]]], axis=1)
        right = np.where(beside >= 0, column[k][np.maximum(beside, 0)], -1)
        faces.append(
            (np.full(len(edge), 4), quads.ravel(), column[k][owner[edge]], right, np.where(right < 0, rim_tag, -1))
        )
    sizes, points_of, left, right, tags = (np.concatenate(parts) for parts in zip(*faces, strict=True))
    return mesh_from_faces(
        points,
        np.r_[0, np.cumsum(sizes)],
        points_of,
        left,
        right,
        tags,
        [(g.name, g.role) for g in mesh.groups],
        3,
        reference=mesh.reference,
        recipe=mesh.recipe,
        attitude=mesh.attitude,
    )


def _conformal_rings(points: np.ndarray, rings: list[np.ndarray]) -> list[np.ndarray]:
    """Polygons in a level plane, with the corners of others that lie on their edges put in (where larger cells meet
    smaller ones).
    """
    every = np.unique(np.concatenate(rings))
    scale = 1e-9 * float(np.ptp(points[every, :2], axis=0).max())
    lines: dict[tuple[int, int], list[tuple[float, int]]] = {}
    key = np.round(points[:, :2] / scale).astype(np.int64)
    for p in every.tolist():
        for axis in (0, 1):  # edges between cells of different sizes are along x or y
            lines.setdefault((axis, int(key[p, 1 - axis])), []).append((float(points[p, axis]), p))
    sorted_lines = {line: sorted(points_on_line) for line, points_on_line in lines.items()}
    out = []
    for ring in rings:
        made: list[int] = []
        for i, j in zip(ring.tolist(), np.roll(ring, -1).tolist()):
            made.append(i)
            axis = next((k for k in (0, 1) if key[i, 1 - k] == key[j, 1 - k]), None)
            if axis is None:
                continue
            points_on_line = sorted_lines[axis, int(key[i, 1 - axis])]
            low, high = sorted((float(points[i, axis]), float(points[j, axis])))
            first, last = (
                bisect.bisect_right(points_on_line, (low, len(points))),
                bisect.bisect_left(points_on_line, (high, -1)),
            )
            between = [p for _, p in points_on_line[first:last]]
            made += between if points[i, axis] < points[j, axis] else between[::-1]
        out.append(np.array(made))
    return out


def _rim_groups(mesh: Mesh, tag: np.ndarray, wanted: set[tuple[int, int]]) -> dict[tuple[int, int], int]:
    """Group of the boundary face other than the ground at each of the edges `wanted`."""
    wanted = {(min(pair), max(pair)) for pair in wanted}
    found = {}
    for face in range(mesh.n_interior, mesh.n_faces):
        if mesh.groups[tag[face]].role == "ground":
            continue
        ring = mesh.face_points[mesh.face_start[face] : mesh.face_start[face + 1]].tolist()
        for i, j in zip(ring, ring[1:] + ring[:1]):
            pair = (i, j) if i < j else (j, i)
            if pair in wanted:
                found[pair] = int(tag[face])
    return found
