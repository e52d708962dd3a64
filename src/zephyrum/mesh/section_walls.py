"""The wall of a section in order: its faces from the upper tail over the nose to the lower tail, and the side of each.

Verified by tests/test_results.py.
"""

import numpy as np

from zephyrum.conditions import Reference
from zephyrum.conditions.axes import turned_body
from zephyrum.mesh.core import Mesh


def chord_fractions(mesh: Mesh, reference: Reference, points: np.ndarray) -> np.ndarray:
    """Positions along the chord of a section, whatever its attitude, or along the length of a body of revolution.

    Parameters
    ----------
    mesh : Mesh
        Two-dimensional mesh.
    reference : Reference
        Reference quantities.
    points : (n, 3) array
        [m]

    Returns
    -------
    (n,) array
        0 at the nose, 1 at the tail.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012").scaled(2.0), 32, 8)
    >>> chord_fractions(mesh, mesh.reference, np.array([[1.0, 0.0, 0.0]])).round(6)
    array([0.5])
    """
    if mesh.wedge:
        walls = mesh.faces_of("wall")
        x = mesh.points[mesh.face_points[mesh.face_start[walls[0]] : mesh.face_start[walls[-1] + 1]], 0]
        return (points[:, 0] - x.min()) / np.ptp(x)
    along = turned_body(points - np.asarray(reference.point), -mesh.attitude)[:, 0]
    return along / reference.chord + 0.25


def section_order(mesh: Mesh, name: str) -> tuple[np.ndarray, list[str]]:
    """Faces of a wall in order upper tail, nose, lower tail, base.

    Parameters
    ----------
    mesh : Mesh
        Two-dimensional mesh.
    name : str
        Wall group.

    Returns
    -------
    faces : array of int
    side : list[str]
        Side of each face.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> faces, side = section_order(mesh_airfoil(Airfoil.naca("0012"), 32, 8), "airfoil")
    >>> side[0], side[-1]
    ('upper', 'lower')
    """
    group = mesh.group(name)
    faces = np.arange(group.start, group.stop)
    edge = mesh.edges[faces]
    # the fluid is on the left cell's side; seen so, the wall runs clockwise or not, but always consistently
    follow = dict(zip(edge[:, 0].tolist(), range(len(faces))))
    x = mesh.points
    open_ends = sorted(set(edge[:, 0].tolist()) - set(edge[:, 1].tolist()))
    if open_ends:  # a plate: along it from its free end, each face on the side that it looks to
        chain = [follow[open_ends[0]]]
        while (after := follow.get(int(edge[chain[-1], 1]))) is not None:
            chain.append(after)
        up = mesh.face_area[faces[chain], 2] < 0.0
        return faces[chain], ["upper" if u else "lower" for u in up]
    # begin behind the tail: at the point farthest aft, the upper one of a blunt tail
    ends = x[edge[:, 0]]
    aft = ends[:, 0] > ends[:, 0].max() - 1e-9 * np.ptp(ends[:, 0]) - 1e-12
    first = int(np.flatnonzero(aft)[np.argmax(ends[aft, 2])])
    chain = [first]
    while len(chain) < len(faces):
        chain.append(follow[int(edge[chain[-1], 1])])
    chain = np.array(chain)
    centre = mesh.face_centroid[faces[chain]]
    half = len(chain) // 2
    if centre[:half, 2].mean() < centre[half:, 2].mean():
        chain = chain[::-1]
        centre = centre[::-1]
    normal = -mesh.face_area[faces[chain]]
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    tail = centre[:, 0].max()
    chord = np.ptp(centre[:, 0])
    nose = int(np.argmax(np.linalg.norm(centre - centre[np.argmax(centre[:, 0])], axis=1)))
    base = (np.abs(normal[:, 0]) > 0.85) & (centre[:, 0] > tail - 0.02 * chord)
    side = ["base" if base[k] else ("upper" if k <= nose else "lower") for k in range(len(chain))]
    return faces[chain], side
