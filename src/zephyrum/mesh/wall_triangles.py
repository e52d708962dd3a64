"""The walls of a mesh in space as a triangle surface."""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.geometry.surface.triangulation import Surface
from zephyrum.mesh.polygons import fan_triangles

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


def wall_surface(mesh: "Mesh", whole: bool = True) -> tuple[Surface, np.ndarray]:
    """(the walls of a mesh in space as a Surface with their groups as labels, the faces (m,) of its triangles).

    Normals point out of the body. Of a half model the triangles of the other half follow if it is wanted `whole`.
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
