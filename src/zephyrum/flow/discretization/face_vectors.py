"""Vectors from the centroid of a cell to its faces and neighbours.

They are straight, but for the wide cells of thin layers in space, shells that are bent by more than they are thick.
There a vector across the rim of the shell leaves the layer by many of its heights, and the steep slope across the layer
would count as one along it. Such a vector is projected to the plane of the shell. Verified by tests/test_clipped.py.
"""

import numpy as np

from zephyrum.mesh import Mesh
from zephyrum.mesh.polygons import BROAD_FACE_RATIO

STEEPEST_SINE = 0.95  # sine of the angle between a way and its shell from which on it is no way along it


def cell_face_vectors(mesh: Mesh) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Vectors from the centroids to the faces and on to the other centroid.

    Parameters
    ----------
    mesh : Mesh
        Mesh.

    Returns
    -------
    to_left : (nf, 3) array
        From the left centroid to the face [m].
    to_right : (ni, 3) array
        From the right centroid to the face [m].
    ahead : (ni, 3) array
        From the left to the right centroid [m].
    back : (ni, 3) array
        From the right to the left centroid, reversed [m].

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> to_left, to_right, ahead, back = cell_face_vectors(mesh)
    >>> bool(np.allclose(ahead, to_left[: mesh.n_interior] - to_right))
    True
    """
    ni = mesh.n_interior
    left, right, x, c = mesh.left, mesh.right, mesh.face_centroid, mesh.cell_centroid
    to_left, to_right = x - c[left], x[:ni] - c[right]
    vector_to_right = c[right] - c[left[:ni]]
    vector_to_left = -vector_to_right
    if mesh.dimension == 2 or not mesh.cell_thin.any():
        return to_left, to_right, vector_to_right, vector_to_left
    area = np.linalg.norm(mesh.face_area, axis=1)
    order = np.argsort(area, kind="stable")
    normal, most = np.zeros((mesh.n_cells, 3)), np.zeros(mesh.n_cells)
    for side in (left, right):  # the largest face is written last
        rows = order[order < len(side)]
        larger = rows[area[rows] >= most[side[rows]]]
        normal[side[larger]], most[side[larger]] = mesh.face_area[larger] / area[larger][:, None], area[larger]
    for cells, vectors in ((left, (to_left,)), (left[:ni], (vector_to_right,)), (right, (to_right, vector_to_left))):
        rim = mesh.cell_thin[cells] * (area[: len(cells)] < BROAD_FACE_RATIO * most[cells])
        rows = np.flatnonzero(rim > 0.0)
        n = normal[cells[rows]]
        for v in vectors:
            off = np.einsum("ij,ij->i", v[rows], n)
            flat = off**2 < STEEPEST_SINE**2 * np.einsum("ij,ij->i", v[rows], v[rows])
            v[rows] -= (flat * rim[rows] * off)[:, None] * n
    return to_left, to_right, vector_to_right, vector_to_left
