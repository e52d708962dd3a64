"""Continuous, piecewise linear quantities on the walls, from one value a face.

The value at a corner is the mean of what the faces round it give there, each with its own gradient along the wall
(least squares over the faces that share a corner with it). Faces of two parts, and faces that meet in a sharp edge,
have each their own value at a common corner: Cp of the upper and the lower side of a tail is not mixed. Exact for
linear fields on plane walls; verified by tests/test_loading.py.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zephyrum.errors import InputError
from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.polygons import fan_triangles, next_corners

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh

SHARP = 60.0  # angle between faces [deg] from which on their common edge separates their values
DAMPING = 1e-3  # of the least squares, in fractions of their trace: for faces whose neighbours lie in one line


def wall_faces(mesh: "Mesh", part: str | None) -> tuple[np.ndarray, np.ndarray]:
    """Faces of the walls, or of one of them.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    part : str or None
        Wall; all without it.

    Returns
    -------
    faces : array of int
    names : (m,) array
        Wall of each face.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> faces, names = wall_faces(mesh, None)
    >>> len(faces), str(names[0])
    (32, 'airfoil')
    """
    groups = [g for g in mesh.groups if g.role == "wall" and part in (None, g.name)]
    if not groups:
        names = ", ".join(g.name for g in mesh.groups if g.role == "wall")
        raise InputError(f"the mesh has no wall {part!r}; it has: {names}.")
    faces = np.concatenate([np.arange(g.start, g.stop) for g in groups])
    return faces, np.repeat([g.name for g in groups], [g.stop - g.start for g in groups])


@dataclass(frozen=True, eq=False)
class WallInterpolation:
    """Nodes of the walls and the faces round them.

    Attributes
    ----------
    faces : (m,) array
        Faces of the mesh.
    names : tuple[str, ...]
        Parts.
    part : (m,) array
        Index into `names`, of each face.
    points : (n, 3) array
        Positions of the nodes [m]: first the corners, each once for every side of a sharp edge, then the centroids of
        faces of more than three corners.
    triangles : (t, 3) array
        Nodes; as the faces, they are seen counter-clockwise from inside the body.
    owner : (t,) array
        Place in `faces` of each triangle.

    Examples
    --------
    >>> import numpy as np
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 300).surface
    >>> mesh = zy.mesh_surface(ball, farfield=3.0, growth=1.0)
    >>> walls = WallInterpolation.of(mesh)
    >>> heights = walls.at_nodes(mesh.face_centroid[walls.faces, 2])
    >>> bool(np.abs(heights - walls.points[:, 2]).max() < 0.02)
    True
    """

    faces: np.ndarray
    names: tuple[str, ...]
    part: np.ndarray
    points: np.ndarray
    triangles: np.ndarray
    owner: np.ndarray
    _face: np.ndarray  # (e,) of each corner of each face: its face, its node
    _node: np.ndarray
    _inner: np.ndarray  # (c,) node has faces all round it
    _centroid: np.ndarray
    _normal: np.ndarray

    @classmethod
    def of(cls, mesh: "Mesh", part: str | None = None) -> "WallInterpolation":
        """Nodes of all walls of a mesh in space, or of one part."""
        faces, each = wall_faces(mesh, part)
        index, names = pd.factorize(each)
        count = np.diff(mesh.face_start)[faces]
        start = np.concatenate([[0], np.cumsum(count)])
        face = np.repeat(np.arange(len(faces)), count)
        corner = mesh.face_points[np.arange(start[-1]) + np.repeat(mesh.face_start[faces] - start[:-1], count)]
        normal = mesh.face_area[faces] / np.linalg.norm(mesh.face_area[faces], axis=1)[:, None]
        node, inner = _split_at_edges(start, corner, face, index, normal)
        _, triangles, owner = fan_triangles(mesh, faces)
        hub = triangles >= len(mesh.points)
        first = start[owner]
        step = np.arange(len(owner)) - np.searchsorted(owner, owner)
        entry = np.stack([first + (step + k) % count[owner] for k in range(3)], axis=1)
        many = np.flatnonzero(count > 3)
        n = len(inner)
        place = np.zeros(len(faces), dtype=np.int64)
        place[many] = n + np.arange(len(many))
        position = np.empty((n + len(many), 3))
        position[node] = mesh.points[corner]
        position[n:] = mesh.face_centroid[faces[many]]
        nodes = np.where(hub, place[owner][:, None], node[entry])
        centroid = mesh.face_centroid[faces]
        return cls(faces, tuple(names), index, position, nodes, owner, face, node, inner, centroid, normal)

    def at_nodes(self, values: np.ndarray) -> np.ndarray:
        """Interpolate a quantity to the nodes.

        Parameters
        ----------
        values : (m,) array
            Quantity at each face.

        Returns
        -------
        (n,) array

        Notes
        -----
        Where faces lie all round a node, what a face gives there stays between the values of its neighbours, so that
        shocks do not overshoot.
        """
        gradient, low, high = self._gradients(values)
        away = self.points[self._node] - self._centroid[self._face]
        given = values[self._face] + np.einsum("ij,ij->i", gradient[self._face], away)
        bounded = np.clip(given, low[self._face], high[self._face])
        given = np.where(self._inner[self._node], bounded, given)
        weight = 1.0 / np.maximum(np.linalg.norm(away, axis=1), 1e-300)
        n = len(self._inner)
        corners = np.bincount(self._node, weight * given, n) / np.bincount(self._node, weight, n)
        return np.concatenate([corners, values[np.bincount(self._face)[: len(self.faces)] > 3]])

    def _gradients(self, values: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Gradient along the wall (m, 3) of each face, and the lowest and highest value (m,) of it and its
        neighbours.
        """
        m = len(self.faces)
        touch = coo_matrix((np.ones(len(self._face)), (self._face, self._node)), shape=(m, len(self._inner))).tocsr()
        pairs = (touch @ touch.T).tocoo()
        a, b = pairs.row[pairs.row != pairs.col], pairs.col[pairs.row != pairs.col]
        apart = self._centroid[b] - self._centroid[a]
        length = np.linalg.norm(apart, axis=1)
        along = apart - np.einsum("ij,ij->i", apart, self._normal[a])[:, None] * self._normal[a]
        along *= (length / np.maximum(np.linalg.norm(along, axis=1), 1e-300))[:, None]  # on round walls: the arc
        weight = 1.0 / np.maximum(length, 1e-300) ** 2
        jump = values[b] - values[a]
        system = np.zeros((m, 3, 3))
        right = np.zeros((m, 3))
        for i in range(3):
            right[:, i] = np.bincount(a, weight * along[:, i] * jump, m)
            for j in range(3):
                system[:, i, j] = np.bincount(a, weight * along[:, i] * along[:, j], m)
        trace = np.maximum(np.trace(system, axis1=1, axis2=2), 1e-300)[:, None, None]
        normal = self._normal[:, :, None] * self._normal[:, None, :]
        gradient = np.linalg.solve(system + trace * (normal + DAMPING**2 * np.eye(3)), right[:, :, None])[:, :, 0]
        low, high = values.copy(), values.copy()
        np.minimum.at(low, a, values[b])
        np.maximum.at(high, a, values[b])
        return gradient, low, high

    def surface(self, mirrored: bool = False) -> Surface:
        """Walls as a surface whose points are the nodes, normals out of the body; with its image at y = 0."""
        points, triangles, label = self.points, self.triangles[:, ::-1], self.part[self.owner]
        if mirrored:
            n = len(points)
            points = np.concatenate([points, points * [1.0, -1.0, 1.0]])
            triangles = np.concatenate([triangles, triangles[:, ::-1] + n])
            label = np.r_[label, label]
        return Surface(points, triangles, label, self.names)


def _split_at_edges(start, corner, face, part, normal) -> tuple[np.ndarray, np.ndarray]:
    """Node of each corner (e,) of faces, and whether each node (n,) has faces all round it.

    Corners at one point are of one node if their faces, of one part, are joined by edges that are not sharp.
    """
    after = next_corners(start)
    ends = np.sort(np.stack([corner, corner[after]], axis=1), axis=1)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    key = ends[order]
    # most edges have two faces; where both sides of a plate share their points, four
    same = [np.flatnonzero((key[k:] == key[:-k]).all(axis=1)) for k in (1, 2, 3)]
    a = order[np.concatenate(same)]
    b = order[np.concatenate([rows + k + 1 for k, rows in enumerate(same)])]
    fa, fb = face[a], face[b]
    smooth = (part[fa] == part[fb]) & (np.einsum("ij,ij->i", normal[fa], normal[fb]) > np.cos(np.radians(SHARP)))
    a, b = a[smooth], b[smooth]
    # the same point is the first end of one and the second end of the other, or the first of both
    turned = corner[a] == corner[after[b]]
    left = np.concatenate([a, after[a]])
    right = np.concatenate([np.where(turned, after[b], b), np.where(turned, b, after[b])])
    graph = coo_matrix((np.ones(len(left)), (left, right)), shape=(len(corner),) * 2)
    n, node = connected_components(graph, directed=False)
    joined = np.zeros(len(corner), dtype=bool)  # edges, by their first corner
    joined[a] = joined[b] = True
    inner = np.ones(n, dtype=bool)
    open_ends = np.flatnonzero(~joined)
    inner[node[open_ends]] = inner[node[after[open_ends]]] = False
    return node, inner
