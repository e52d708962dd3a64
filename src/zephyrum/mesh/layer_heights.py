"""How high the cells of thin layers stand over a wall that is bent.

The centroid of a wide, thin, bent cell lies off its layer by more than the layer is high, so that its distance from the
wall's faces says nothing. There heights are added up from the wall face outward, from one face to that on the other
side of the cell. Verified by tests/test_clipped.py.
"""

from typing import TYPE_CHECKING

import numpy as np
from scipy.spatial import cKDTree

from zephyrum.mesh.polygons import entries_of

if TYPE_CHECKING:
    from zephyrum.mesh.core import Mesh


BULGE_RATIO = 0.02  # bulge of a wall face over the height of its cell from which on heights are added up
CLEARANCE = 10.0  # heights over the bulge where the distance from the wall's faces is right again
MIN_OPPOSITE_AREA = 0.3  # least area of the face on the other side, over that of the face come from
MIN_HEIGHT_RATIO = 0.1  # of its height: how far the centre of a cell is above its floor at least
MAX_LAYERS = 500  # layers
FLAT_CELL_RATIO = 0.7  # height over width of a cell up to which it is one of a layer
# wall faces of the coarser mesh near that of a column, of which the first that looks the same way is taken
CANDIDATE_COUNT = 8
FACING_COSINE = 0.5  # cosine of the angle between them
MAX_LOG_HEIGHT_RATIO = 1.0  # logarithm of the ratio of two heights that are no longer the same


def height_across(mesh: "Mesh", cell: np.ndarray, face: np.ndarray, direction: np.ndarray, size: np.ndarray):
    """Opposite face and cell across cells of a layer.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    cell : (m,) array
        Cells.
    face : (m,) array
        Face of each.
    direction : (m, 3) array
        Unit vectors away from the face.
    size : (m,) array
        Sizes of the faces [m].

    Returns
    -------
    face : (m,) array
        Face on the other side.
    direction : (m, 3) array
        Its unit vectors outward.
    beyond : (m,) array
        Cell beyond.
    found : (m,) array of bool
        Whether there is one.
    """
    start, faces = mesh.cell_faces
    owner, entry = entries_of(start, cell)
    entry = faces[entry]
    sign = np.where(mesh.left[entry] == cell[owner], 1.0, -1.0)
    seen = sign * np.einsum("ij,ij->i", mesh.face_area[entry], direction[owner])
    seen[(entry == face[owner]) | (entry >= mesh.n_interior)] = -np.inf
    best = np.lexsort((seen, owner))[np.cumsum(np.bincount(owner)) - 1]
    after = entry[best]
    outward = sign[best][:, None] * mesh.face_area[after] / size[after][:, None]
    beyond = np.where(mesh.left[after] == cell, mesh.right[np.minimum(after, mesh.n_interior - 1)], mesh.left[after])
    return after, outward, beyond, seen[best] > MIN_OPPOSITE_AREA * size[face]


def wall_faces_of_cells(mesh: "Mesh", walls: np.ndarray) -> np.ndarray:
    """Wall face on which the column of a layer's cell stands.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    walls : array
        Wall faces.

    Returns
    -------
    (n_cells,) array
        -1 for cells that are as high as wide, or in no column.

    Examples
    --------
    >>> from zephyrum import Airfoil, mesh_airfoil
    >>> mesh = mesh_airfoil(Airfoil.naca("0012"), 32, 16, topology="O", first_height=1e-4)
    >>> faces = wall_faces_of_cells(mesh, mesh.faces_of("wall"))
    >>> len(set(faces[faces >= 0].tolist()))
    32
    """
    out = np.full(mesh.n_cells, -1)
    size = np.linalg.norm(mesh.face_area, axis=1)
    face, foot = walls, walls
    cell, direction = mesh.left[face], -mesh.face_area[face] / size[face][:, None]
    for _ in range(MAX_LAYERS):
        if not len(face):
            break
        flat = (mesh.cell_volume[cell] < FLAT_CELL_RATIO * size[face] ** 1.5) & (out[cell] < 0)
        flat[flat] &= np.isin(np.flatnonzero(flat), np.flatnonzero(flat)[np.unique(cell[flat], return_index=True)[1]])
        face, foot, cell, direction = face[flat], foot[flat], cell[flat], direction[flat]
        out[cell] = foot
        after, outward, beyond, go = height_across(mesh, cell, face, direction, size)
        face, direction, cell, foot = after[go], outward[go], beyond[go], foot[go]
    return out


def parent_cells(mesh: "Mesh", coarse: "Mesh", nearest: np.ndarray) -> np.ndarray:
    """Cells of a coarser mesh that correspond to the cells of a mesh.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    coarse : Mesh
        Coarser mesh.
    nearest : (n_cells,) array
        Coarse cell with the nearest centre, used outside the layers.

    Returns
    -------
    (n_cells,) array

    Notes
    -----
    In layers the parent lies at the same height over the same part of the wall. In a layer whose cells are a thousand
    times as wide as high the cell with the nearest centre may lie many layers off, or on the other side of a tail.
    """
    walls, under = mesh.faces_of("wall", "ground"), coarse.faces_of("wall", "ground")
    foot, base = mesh.wall_face_of_cell, coarse.wall_face_of_cell
    mine, theirs = np.flatnonzero(foot >= 0), np.flatnonzero(base >= 0)
    out = nearest.copy()
    if not len(mine) or not len(theirs):
        return out
    under = under[np.isin(under, base)]  # those on which a column stands
    near = (
        cKDTree(coarse.face_centroid[under])
        .query(mesh.face_centroid[walls], k=min(CANDIDATE_COUNT, len(under)), workers=-1)[1]
        .reshape(len(walls), -1)
    )
    along = [
        mesh.face_area[walls] / np.linalg.norm(mesh.face_area[walls], axis=1)[:, None],
        coarse.face_area[under] / np.linalg.norm(coarse.face_area[under], axis=1)[:, None],
    ]
    same = np.einsum("ij,ikj->ik", along[0], along[1][near]) > FACING_COSINE
    position = np.zeros(mesh.n_faces, dtype=np.int64)
    position[walls] = near[np.arange(len(walls)), np.argmax(same, axis=1)]
    rank = np.full(coarse.n_faces, -1)
    rank[under] = np.arange(len(under))
    high = [np.log(np.maximum(d, 1e-12)) for d in (mesh.wall_distance[mine], coarse.wall_distance[theirs])]
    low, room = min(h.min() for h in high) - 1.0, max(h.max() for h in high) - min(h.min() for h in high) + 2.0
    key = rank[base[theirs]] + (high[1] - low) / room
    order = np.argsort(key)
    column = position[foot[mine]]
    wanted = column + (high[0] - low) / room
    at = np.searchsorted(key[order], wanted)
    sides = [order[np.clip(at + k, 0, len(order) - 1)] for k in (-1, 0)]
    off = [np.where(rank[base[theirs[side]]] == column, np.abs(high[1][side] - high[0]), np.inf) for side in sides]
    best = np.where(off[0] <= off[1], sides[0], sides[1])
    good = np.minimum(*off) < MAX_LOG_HEIGHT_RATIO
    out[mine[good]] = theirs[best[good]]
    return out


def distances_along_layers(mesh: "Mesh", walls: np.ndarray, near: np.ndarray) -> np.ndarray:
    """Wall distances measured along layers.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    walls : array
        Wall faces.
    near : (n_cells,) array
        Distances from the nearest wall face [m].

    Returns
    -------
    (n_cells,) array
        `near`, but heights over wall faces that bulge [m].

    Notes
    -----
    At the top of a column the next face may lead aside: columns that stand on other faces are left alone.
    """
    out = near.copy()
    base = mesh.wall_face_of_cell
    S, x, midpoint = mesh.face_area, mesh.face_centroid, mesh.cell_centroid
    size = np.linalg.norm(S, axis=1)
    bulge = mesh.face_bulge
    bent = bulge[walls] > BULGE_RATIO * mesh.cell_volume[mesh.left[walls]] / size[walls]
    face = walls[bent]
    cell, direction, low = mesh.left[face], -S[face] / size[face][:, None], np.zeros(len(face))
    foot, deep = face, bulge[face]
    for _ in range(MAX_LAYERS):
        if not len(face):
            break
        least = (
            MIN_HEIGHT_RATIO * mesh.cell_volume[cell] / size[face]
        )  # an odd cell may have its centre below its floor
        high = low + np.maximum(np.einsum("ij,ij->i", midpoint[cell] - x[face], direction), least)
        # near is wrong by as much as the wall bulges, and right where another wall is nearer
        out[cell] = np.minimum(high, near[cell] + deep)
        after, outward, beyond, go = height_across(mesh, cell, face, direction, size)
        go &= high < CLEARANCE * deep
        go &= (base[beyond] == foot) | (base[beyond] < 0)
        low = (low + np.maximum(np.einsum("ij,ij->i", x[after] - x[face], outward), least))[go]
        cell, face, direction, foot, deep = beyond[go], after[go], outward[go], foot[go], deep[go]
    return out
