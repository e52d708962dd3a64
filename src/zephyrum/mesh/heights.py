"""How high the cells of thin layers stand over a wall that is bent.

The centroid of a wide, thin, bent cell lies off its layer by more than the layer is high, so that its distance from the wall's faces says
nothing. There heights are added up from the wall face outward, from one face to that on the other side of the cell.
Verified by tests/test_clipped.py.
"""

import numpy as np

from zephyrum.mesh.polygons import entries_of

CURVED = 0.02  # bulge of a wall face over the height of its cell from which on heights are added up
CLEAR = 10.0  # heights over the bulge where the distance from the wall's faces is right again
OPPOSITE = 0.3  # least area of the face on the other side, over that of the face come from
LEAST = 0.1  # of its height: how far the middle of a cell is above its floor at least
MOST = 500  # layers


def distances_along_layers(mesh, walls: np.ndarray, near: np.ndarray) -> np.ndarray:
    """(n_cells,) distances from the wall: `near` (n_cells,), but heights over those of the faces `walls` that bulge."""
    out = near.copy()
    S, x, middle = mesh.face_area, mesh.face_centroid, mesh.cell_centroid
    size = np.linalg.norm(S, axis=1)
    start, faces = mesh.cell_faces
    bulge = mesh.face_bulge
    bent = bulge[walls] > CURVED * mesh.cell_volume[mesh.left[walls]] / size[walls]
    face = walls[bent]
    cell, way, low = mesh.left[face], -S[face] / size[face][:, None], np.zeros(len(face))
    deep = bulge[face]
    for _ in range(MOST):
        if not len(face):
            break
        least = LEAST * mesh.cell_volume[cell] / size[face]  # an odd cell may have its middle below its floor
        high = low + np.maximum(np.einsum("ij,ij->i", middle[cell] - x[face], way), least)
        # near is wrong by as much as the wall bulges, and right where another wall is nearer
        out[cell] = np.minimum(high, near[cell] + deep)
        owner, entry = entries_of(start, cell)
        entry = faces[entry]
        sign = np.where(mesh.left[entry] == cell[owner], 1.0, -1.0)
        seen = sign * np.einsum("ij,ij->i", S[entry], way[owner])
        seen[(entry == face[owner]) | (entry >= mesh.n_interior)] = -np.inf
        best = np.lexsort((seen, owner))[np.cumsum(np.bincount(owner)) - 1]
        go = (seen[best] > OPPOSITE * size[face]) & (high < CLEAR * deep)
        best, face, cell, low, way, deep = best[go], face[go], cell[go], low[go], way[go], deep[go]
        after, outward = entry[best], sign[best][:, None] * S[entry[best]] / size[entry[best]][:, None]
        low = low + np.maximum(np.einsum("ij,ij->i", x[after] - x[face], outward), least[go])
        cell = np.where(mesh.left[after] == cell, mesh.right[after], mesh.left[after])
        face, way = after, outward
    return out
