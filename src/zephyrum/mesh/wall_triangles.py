"""The walls of a mesh in space as a triangle surface, and how far they are from the shape that was meshed."""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.geometry.surface.deviation import chords_at_points, local_chords
from zephyrum.geometry.surface.nearest_point import distances
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


def wall_distances(mesh: "Mesh", shape: Surface) -> dict[str, tuple[float, float]]:
    """Largest distance of the walls of a mesh from the shape that it was made about, both ways, of every part.

    Parameters
    ----------
    mesh : Mesh
        Mesh in space.
    shape : Surface
        Shape in the position of the mesh.

    Returns
    -------
    dict
        Of each part the distance [m], and the largest distance over the local chord (`local_chords`).

    Examples
    --------
    >>> import zephyrum as zy
    >>> ball = zy.Body.ellipsoid(1.0, 1.0).surface(tolerance=0.0005)
    >>> mesh = zy.mesh_surface(zy.remesh(ball, 300).surface, farfield=3.0, growth=1.0)
    >>> (far, of_chord), = wall_distances(mesh, ball).values()
    >>> bool(0.002 < far < 0.02), bool(of_chord >= far)
    (True, True)
    """
    wall, _ = wall_surface(mesh, whole=False)
    found: dict[str, tuple[float, float]] = {}
    for one, other in ((wall, shape), (shape, wall)):
        chord = local_chords(one)
        at_point = chords_at_points(one, chord)
        for part in one.parts:
            own = one.belongs(part)
            used = np.unique(one.triangles[own])
            samples = np.concatenate([one.points[used], one.points[one.triangles[own]].mean(axis=1)])
            far = distances(samples, other.points, other.triangles)
            of_chord = far / np.r_[at_point[used], chord[own]]
            last = found.get(part, (0.0, 0.0))
            found[part] = max(last[0], float(far.max())), max(last[1], float(of_chord.max()))
    return found


def describe_wall_distances(found: dict) -> str:
    """Put `wall_distances` into words.

    Parameters
    ----------
    found : dict
        As `wall_distances` returns.

    Examples
    --------
    >>> describe_wall_distances({"wing": (0.0031, 0.0042), "fin": (0.0012, 0.001)})
    'walls at most from the shape: wing 3.1 mm (0.42 % of the local chord), fin 1.2 mm (0.1 %)'
    """
    words = " of the local chord"
    parts = []
    for part, (far, of_chord) in found.items():
        parts.append(f"{part} {1e3 * far:.2g} mm ({100.0 * of_chord:.2g} %{words})")
        words = ""
    return f"walls at most from the shape: {', '.join(parts)}"
