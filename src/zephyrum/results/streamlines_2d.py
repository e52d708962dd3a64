"""Streamlines of a planar flow as lines of one stream function, and the zones that they close: separation bubbles.

The stream function's difference along a mesh edge is the mass that crosses it; all edges together are fitted by least
squares, each weighed by one over its length squared, walls exactly tight. Lines of equal value are streamlines, with
the same mass between neighbours, so they need no seeds and never end or crowd. Batchelor (1967), An Introduction to
Fluid Dynamics, ch. 2.2 (also for axisymmetric flow). Verified by tests/test_results.py (circle in potential flow).
"""

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu

from zephyrum.mesh import Mesh

CONTOUR_TOLERANCE = 1e3  # weight of a wall's edge over that of others
MIN_BUBBLE_FLUX = 1e-6  # of the mass through a chord: a zone that turns round less is mesh error
EDGES = 3  # along the way round a zone at least


def stream_function(mesh: Mesh, mass_flow: np.ndarray) -> np.ndarray:
    """Stream function at the points of a two-dimensional mesh.

    Parameters
    ----------
    mesh : Mesh
        Two-dimensional mesh.
    mass_flow : (n_cells, 3) array
        Density times velocity [kg/m^2/s].

    Returns
    -------
    (n_points,) array
        [kg/s]

    Notes
    -----
    It is 0 on the first wall and NaN on the back side. On a two-dimensional mesh it is the mass flow through its slab,
    on a wedge that through the whole annulus.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> flow = solution.fields()
    >>> psi = stream_function(mesh, flow["density"][:, None] * flow["velocity"])
    >>> psi.shape == (len(mesh.points),)
    True
    """
    real = mesh.edges[:, 0] != mesh.edges[:, 1]
    face = np.flatnonzero(real)
    a, b = mesh.edges[face].T
    ni = mesh.n_interior
    inner = face < ni
    mean = mass_flow[mesh.left[face]].copy()
    mean[inner] = 0.5 * (mean[inner] + mass_flow[mesh.right[face[inner]]])
    through = np.einsum("ij,ij->i", mean, mesh.face_area[face])
    if mesh.wedge:
        through *= np.pi / np.tan(mesh.wedge)
    walls = np.isin(face, mesh.faces_of("wall", "slip", "symmetry"))
    through[walls] = 0.0
    length = np.linalg.norm(mesh.points[a] - mesh.points[b], axis=1)
    weight = np.where(walls, CONTOUR_TOLERANCE, 1.0) * (length.min() / length) ** 2
    used, ends = np.unique(np.concatenate([a, b]), return_inverse=True)
    a, b, n = ends[: len(a)], ends[len(a) :], len(used)
    # normal equations of sum weight (psi_b - psi_a - through)^2: b lies on the left of what leaves the left cell
    rows, columns = np.concatenate([a, b, a, b]), np.concatenate([a, b, b, a])
    entries = np.concatenate([weight, weight, -weight, -weight])
    matrix = coo_array((entries, (rows, columns)), shape=(n, n)).tolil()
    right = np.bincount(b, weight * through, n) - np.bincount(a, weight * through, n)
    first = ends[np.flatnonzero(walls)[0]] if walls.any() else 0
    matrix[first, first] += weight.max()
    out = np.full(len(mesh.points), np.nan)
    psi = splu(matrix.tocsc()).solve(right)
    out[used] = psi - psi[first]
    return out


def separation_bubbles(mesh: Mesh, psi: np.ndarray, through_chord: float) -> np.ndarray:
    """Points within closed zones, where the stream function passes the wall's value and is cut off.

    Parameters
    ----------
    mesh : Mesh
        Two-dimensional mesh.
    psi : (n_points,) array
        Stream function [kg/s].
    through_chord : float
        Mass flow of the freestream through a chord [kg/s].

    Returns
    -------
    (n_points,) array of bool
    """
    edge = mesh.edges[mesh.edges[:, 0] != mesh.edges[:, 1]]
    far = np.unique(mesh.edges[mesh.faces_of("farfield", "outflow", "imposed")])
    out = np.zeros(len(psi), dtype=bool)
    faint = MIN_BUBBLE_FLUX * through_chord
    for sign in (1.0, -1.0):
        beyond = sign * psi > faint
        own = edge[beyond[edge].all(axis=1)]
        n = len(psi)
        _, label = connected_components(
            coo_array((np.ones(len(own)), (own[:, 0], own[:, 1])), shape=(n, n)), directed=False
        )
        open_ = np.unique(label[far[beyond[far]]])
        size = np.bincount(label, beyond, n)
        out |= beyond & ~np.isin(label, open_) & (size[label] >= EDGES)
    return out
