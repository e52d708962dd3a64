"""The surface mesh that is remeshed, as arrays for kernels, with limits that all local steps share."""

from typing import NamedTuple

import numpy as np

from zephyrum._core.jit import exact

MIN_NORMAL_COSINE = 0.4  # least cosine between the normals of a new triangle and of the one that it replaces

# least cosine between the normals of a moved or flipped triangle and of the original, unless it was smaller before
FACING_COSINE = 0.4

POOR_QUALITY = 0.05  # quality below which the normal of a triangle has no meaning

INTERIOR, ON_LINE, CORNER = 0, 1, 2  # ranks of points


class MeshState(NamedTuple):
    """The mesh that is worked on.

    Attributes
    ----------
    points, metric : array (room, 3), (room, 6)
    rank, line : array (room,)
        Rank of each point, and the feature line that it lies on.
    triangles, patch : array (room, 3), (room,)
        A triangle that has vanished has corners -1.
    n_points, n_triangles : int
    lines : dict
        Feature line of each edge on one, by `key_of`.
    """

    points: np.ndarray
    metric: np.ndarray
    rank: np.ndarray
    line: np.ndarray
    triangles: np.ndarray
    patch: np.ndarray
    n_points: int
    n_triangles: int
    lines: dict[int, int]


class Scratch(NamedTuple):
    """Work arrays of one sweep.

    Attributes
    ----------
    location, direction, before, after, midpoint : (3,) arrays
        Vectors.
    metric, other_metric : (6,) arrays
        Metrics.
    corner : (3,) array
        Corners of a triangle.
    """

    location: np.ndarray
    direction: np.ndarray
    before: np.ndarray
    after: np.ndarray
    midpoint: np.ndarray
    metric: np.ndarray
    other_metric: np.ndarray
    corner: np.ndarray


@exact
def new_scratch():
    return Scratch(
        np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(6), np.empty(6), np.empty(3, np.int64)
    )


@exact
def has_corner(T: np.ndarray, t: int, p: int):
    """Whether point p is a corner of triangle t."""
    return T[t, 0] == p or T[t, 1] == p or T[t, 2] == p
