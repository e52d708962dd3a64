"""Cuts of a mesh in space by a plane: the polygons in which the cells meet it.

Every face that the plane passes gives a piece of line between its crossed edges; the pieces of a cell close to a
polygon, since neighbouring faces share their edges. Verified by tests/test_clipped.py (areas of the polygons of a box
add up to its cut).
"""

from dataclasses import dataclass

import numpy as np

from zephyrum._core.validation import choice
from zephyrum.errors import InputError
from zephyrum.mesh.core import Mesh
from zephyrum.mesh.polygons import next_corners

AXES = ("x", "y", "z")
ASIDE = 1e-9  # of the mesh: points nearer to the plane count as on one side of it


@dataclass(frozen=True, eq=False)
class Slice:
    """Cut of a mesh by a plane.

    Attributes
    ----------
    axis : str
        "x", "y" or "z".
    at : float
        Position of the plane [m].
    points : (n, 2) array
        In the other two axes [m].
    start : array
        Polygon i has the points start[i]:start[i + 1].
    cell : array
        Cell of each polygon.
    walls : (w, 2, 2) array
        Pieces of line in which the plane meets walls [m].

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 300).surface
    >>> cut = slice_mesh(zy.mesh_surface(ball, farfield=3.0, growth=1.0), "y", 0.0)
    >>> bool((cut.areas > 0.0).all())
    True
    """

    axis: str
    at: float
    points: np.ndarray
    start: np.ndarray
    cell: np.ndarray
    walls: np.ndarray

    @property
    def across(self) -> tuple[str, str]:
        """Names of the axes of `points`."""
        return tuple(name for name in AXES if name != self.axis)  # type: ignore[return-value]

    @property
    def areas(self) -> np.ndarray:
        """(n,) areas of the polygons [m^2]."""
        x, z = self.points.T
        after = next_corners(self.start)
        return 0.5 * np.abs(np.add.reduceat(x * z[after] - x[after] * z, self.start[:-1]))


def slice_mesh(mesh: Mesh, axis: str, at: float) -> Slice:
    """Cut a mesh in space by a plane.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    axis : str
        "x", "y" or "z".
    at : float
        Position of the plane [m].

    Raises
    ------
    InputError
        The plane misses the mesh.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 300).surface
    >>> cut = slice_mesh(zy.mesh_surface(ball, farfield=3.0, growth=1.0), "y", 0.0)
    >>> cut.across
    ('x', 'z')
    """
    k = AXES.index(choice("axis", axis, AXES))
    if mesh.planar:
        raise InputError("a slice needs a mesh in space; a section is drawn with draw_field.")
    low, high = mesh.points[:, k].min(), mesh.points[:, k].max()
    if not low <= at <= high:
        raise InputError(f"the plane {axis} = {at:g} m misses the mesh, which reaches from {low:.4g} to {high:.4g} m.")
    s = mesh.points[:, k] - at
    aside = ASIDE * (high - low)
    s = np.where(np.abs(s) < aside, np.where(at > 0.5 * (low + high), -aside, aside), s)
    first = mesh.face_start[:-1]
    above = s[mesh.face_points] > 0.0
    passed = np.add.reduceat(above, first)
    faces = np.flatnonzero((passed > 0) & (passed < np.diff(mesh.face_start)))
    count = np.diff(mesh.face_start)[faces]
    owner = np.repeat(np.arange(len(faces)), count)
    within = np.arange(count.sum()) - np.repeat(np.cumsum(count) - count, count)
    begin = mesh.face_start[faces][owner]
    a, b = mesh.face_points[begin + within], mesh.face_points[begin + (within + 1) % count[owner]]
    crossing = (s[a] > 0.0) != (s[b] > 0.0)
    a, b, owner = a[crossing], b[crossing], owner[crossing]
    fraction = s[a] / (s[a] - s[b])
    flat = [j for j in range(3) if j != k]
    x = (mesh.points[a] + fraction[:, None] * (mesh.points[b] - mesh.points[a]))[:, flat]
    # crossings come in pairs along a face; each belongs to the cells on both sides
    ends, line = x.reshape(-1, 2, 2), owner[::2]
    walls = np.isin(faces[line], mesh.faces_of("wall"))
    inner = faces[line] < mesh.n_interior
    cells = np.concatenate([mesh.left[faces[line]], mesh.right[faces[line][inner]]])
    pieces = np.concatenate([ends, ends[inner]])
    used, cell = np.unique(cells, return_inverse=True)
    corner, of = pieces.reshape(-1, 2), np.repeat(cell, 2)
    total = np.bincount(of)
    midpoint = np.stack([np.bincount(of, corner[:, j]) / total for j in range(2)], axis=1)
    angle = np.arctan2(*(corner - midpoint[of])[:, ::-1].T)
    order = np.lexsort((angle, of))
    return Slice(axis, float(at), corner[order], np.r_[0, np.cumsum(total)], used, ends[walls])
