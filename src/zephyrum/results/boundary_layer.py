"""Boundary layers along the surface of a section: profiles across them and their thicknesses.

A profile follows the mesh line that leaves a wall face through opposite faces of quadrilateral cells. Its edge is where
the shear has died away, y dU/dy below a fiftieth of U; thicknesses are the kinematic ones (White 2006, Viscous Fluid
Flow, ch. 4): displacement int (1 - U/Ue) dy, momentum int U/Ue (1 - U/Ue) dy. Verified by tests/test_walls.py
(Blasius).
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.mesh import Mesh
from zephyrum.mesh.section_walls import chord_fractions, section_order
from zephyrum.results.surface_quantities import stagnation_face

if TYPE_CHECKING:
    from pandas import DataFrame

    from zephyrum.conditions.reference import Reference


MIN_EDGE_SPEED = 0.3  # of the freestream at the edge: near the stagnation point there is no edge to be found
VORTICITY_LIMIT = 0.02  # y dU/dy over U at the edge
MIN_POINTS = 8  # cells within a layer below which its thicknesses are not given


def lines_from(mesh: Mesh, faces: np.ndarray, most: int = 300) -> np.ndarray:
    """Cells met along lines from wall faces outwards.

    Parameters
    ----------
    mesh : Mesh
        Structured mesh.
    faces : (n,) array
        Wall faces.
    most : int, optional
        Largest number of cells of a line.

    Returns
    -------
    (n, most) array
        -1 beyond the end of a line.

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> cells = lines_from(mesh, mesh.faces_of("wall"))
    >>> cells.shape[0]
    32
    """
    start, around = mesh.cell_faces
    points = mesh.edges
    flat = points[around, 0] != points[around, 1]  # the sides of a wedge don't count
    start, around = np.r_[0, np.cumsum(flat)][start], around[flat]
    out = np.full((len(faces), most), -1)
    cell, entered = mesh.left[faces].copy(), np.asarray(faces).copy()
    going = np.ones(len(faces), dtype=bool)
    for k in range(most):
        going &= np.diff(start)[np.maximum(cell, 0)] == 4
        if not going.any():
            break
        own = np.flatnonzero(going)
        out[own, k] = cell[own]
        sides = around[start[cell[own]][:, None] + np.arange(4)]
        shared = (points[sides][:, :, :, None] == points[entered[own]][:, None, None, :]).any(axis=(2, 3))
        opposite = sides[np.arange(len(own)), np.argmin(shared, axis=1)]
        inner = opposite < mesh.n_interior
        after = np.where(
            mesh.left[opposite] == cell[own], mesh.right[np.minimum(opposite, mesh.n_interior - 1)], mesh.left[opposite]
        )
        going[own[~inner]] = False
        cell[own], entered[own] = after, opposite
    return out


def _profile(y: np.ndarray, u: np.ndarray) -> tuple[int, float]:
    """Index of the edge of the layer and the velocity there; (0, nan) where none is found."""
    shear = np.abs(np.gradient(u, y)) * y
    past = int(np.argmax(shear[: max(4, len(y) // 2)]))
    irrotational = np.flatnonzero(
        (shear[past:] < VORTICITY_LIMIT * np.maximum.accumulate(np.abs(u))[past:]) & (u[past:] > 0.0)
    )
    return (
        (0, float("nan"))
        if not len(irrotational)
        else (past + int(irrotational[0]), float(u[past + int(irrotational[0])]))
    )


def boundary_layer_table(mesh: Mesh, velocity: np.ndarray, surface: "DataFrame", reference: "Reference", stream: float):
    """Tabulate the boundary layer at every wall face.

    Parameters
    ----------
    mesh : Mesh
        Mesh of a section.
    velocity : (n, 3) array
        In the cells [m/s].
    surface : pandas.DataFrame
        See `surface_table`.
    reference : Reference
        Reference quantities.
    stream : float
        Speed of the freestream [m/s].

    Returns
    -------
    pandas.DataFrame
        part, side, x/c, delta99, displacement, momentum [m], shape factor, edge speed [m/s].

    Notes
    -----
    Values are NaN where there is no layer (stagnation, base) or no lines of cells.
    """
    import pandas as pd

    frames = []
    for group in mesh.groups:
        if group.role != "wall":
            continue
        faces, side, away = _sides(mesh, group.name, surface)
        lines = lines_from(mesh, faces)
        centre = mesh.face_centroid[faces]
        rows = np.full((len(faces), 5), np.nan)
        for i in range(len(faces)):
            y, u = _cut(mesh, velocity, faces[i], lines[i], away[i])
            edge, speed = _profile(y, u) if len(y) > MIN_POINTS else (0, np.nan)
            if edge < MIN_POINTS or not speed > MIN_EDGE_SPEED * stream:
                continue
            y, u = np.r_[0.0, y[: edge + 1]], np.r_[0.0, u[: edge + 1]] / speed
            top = int(np.flatnonzero(u >= 0.99)[0])
            thick = float(np.interp(0.99, u[top - 1 : top + 1], y[top - 1 : top + 1]))
            displaced, lost = np.trapezoid(1.0 - u, y), np.trapezoid(u * (1.0 - u), y)
            rows[i] = thick, displaced, lost, displaced / lost, speed
        names = ("delta99", "displacement", "momentum", "shape factor", "edge speed")
        columns = {"part": group.name, "side": side, "x/c": chord_fractions(mesh, reference, centre)}
        frames.append(pd.DataFrame(columns | dict(zip(names, rows.T, strict=True))))
    return pd.concat(frames, ignore_index=True)


def _sides(mesh: Mesh, name: str, surface) -> tuple[np.ndarray, list[str], np.ndarray]:
    """Faces of a wall in order, their sides, and the way (n, 3) along each of them away from the stagnation point."""
    faces, side = section_order(mesh, name)
    own = surface[surface["part"] == name]
    centre = mesh.face_centroid[faces]
    along = np.gradient(centre, axis=0)
    along /= np.linalg.norm(along, axis=1)[:, None]
    first = stagnation_face(own["x"].to_numpy(), own["Cp"].to_numpy())
    return faces, side, np.where(np.arange(len(faces)) < first, -1.0, 1.0)[:, None] * along


def _cut(
    mesh: Mesh, velocity: np.ndarray, face: int, line: np.ndarray, away: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Distances [m] from the wall face and velocities along `away` [m/s]."""
    cells = line[line >= 0]
    normal = -mesh.face_area[face] / np.linalg.norm(mesh.face_area[face])
    y = (mesh.cell_centroid[cells] - mesh.face_centroid[face]) @ normal
    u = velocity[cells] @ (away - (away @ normal) * normal)
    near = y < 0.2 * max(np.ptp(mesh.points[:, 0]), 1e-30)
    y, u = y[near], u[near]
    good = np.r_[True, np.diff(y) > 0.0].cumprod().astype(bool)[: len(y)]
    return y[good], u[good]


def profile_table(
    mesh: Mesh, velocity: np.ndarray, surface: "DataFrame", reference: "Reference", position: float, side: str
):
    """Tabulate the velocity profile at a chord fraction.

    Parameters
    ----------
    mesh : Mesh
        Mesh of a section.
    velocity : (n, 3) array
        In the cells [m/s].
    surface : pandas.DataFrame
        See `surface_table`.
    reference : Reference
        Reference quantities.
    position : float
        Chord fraction.
    side : str
        "upper" or "lower".

    Returns
    -------
    pandas.DataFrame or None
        y [m], u [m/s], u/ue; None where there is no layer.
    """
    import pandas as pd

    best = None
    for group in mesh.groups:
        if group.role != "wall":
            continue
        faces, sides, away = _sides(mesh, group.name, surface)
        own, away = faces[np.array(sides) == side], away[np.array(sides) == side]
        if not len(own):
            continue
        x = chord_fractions(mesh, reference, mesh.face_centroid[own])
        k = int(np.argmin(np.abs(x - position)))
        if best is None or abs(x[k] - position) < best[0]:
            best = abs(x[k] - position), own[k], away[k]
    if best is None:
        return None
    y, u = _cut(mesh, velocity, best[1], lines_from(mesh, np.array([best[1]]))[0], best[2])
    edge, speed = _profile(y, u)
    return pd.DataFrame({"y": y, "u": u, "u/ue": u / speed}) if edge else None
