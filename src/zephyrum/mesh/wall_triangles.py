"""The walls of a mesh in space as a triangle surface."""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.polygons import fan_triangles

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


def wall_surface(mesh: "Mesh", whole: bool = True) -> tuple[Surface, np.ndarray]:
    """Walls of a mesh in space as a surface, their groups as labels.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    whole : bool, optional
        Whether the other half of a half model is wanted.

    Returns
    -------
    surface : Surface
    faces : (m,) array
        Face of each triangle.

    Notes
    -----
    Normals point out of the body. The triangles of the other half of a half model follow those of the first.

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.remesh(zy.Body.ellipsoid(1.0, 1.0).surface(), 300).surface
    >>> mesh = zy.mesh_surface(ball, farfield=3.0, growth=1.0)
    >>> walls, face = wall_surface(mesh)
    >>> walls.watertight, len(face) == len(walls.triangles)
    (True, True)
    """
    groups = [group for group in mesh.groups if group.role == "wall"]
    faces = np.concatenate([np.arange(g.start, g.stop) for g in groups])
    points, t, owner = fan_triangles(mesh, faces)
    label = np.repeat(np.arange(len(groups)), [g.stop - g.start for g in groups])[owner]
    t, faces = t[:, ::-1], faces[owner]  # faces look out of the air
    if mesh.mirrored and whole:
        n = len(points)
        points = np.concatenate([points, points * [1.0, -1.0, 1.0]])
        t, label, faces = np.concatenate([t, t[:, ::-1] + n]), np.r_[label, label], np.r_[faces, faces]
    used, t = np.unique(t, return_inverse=True)
    return Surface(points[used], t.reshape(-1, 3), label, tuple(g.name for g in groups)), faces
