"""Pressure and friction along the surface of a section, upper and lower side apart.

Friction is signed: positive where it points from the stagnation point towards the tail, so that it changes sign where
the flow separates and where it comes back. Verified by tests/test_results.py and tests/test_viscous.py.
"""

from typing import TYPE_CHECKING

import numpy as np

from zephyrum.mesh import Mesh
from zephyrum.mesh.section_walls import chord_fractions, section_order

if TYPE_CHECKING:
    from pandas import DataFrame

    from zephyrum.conditions.freestream import Freestream
    from zephyrum.conditions.reference import Reference


def surface_table(
    mesh: Mesh,
    pressure: np.ndarray,
    air: "Freestream",
    reference: "Reference",
    friction: np.ndarray | None = None,
    y_plus: np.ndarray | None = None,
    heat: np.ndarray | None = None,
):
    """Tabulate the quantities at every wall face.

    Parameters
    ----------
    mesh : Mesh
        Mesh.
    pressure : (n_boundary,) array
        Gauge pressure [Pa].
    air : Freestream
        Freestream.
    reference : Reference
        Reference quantities.
    friction : (n_boundary, 3) array, optional
        [Pa]
    y_plus : (n_boundary,) array, optional
        [-]
    heat : (n_boundary,) array, optional
        [W/m^2]

    Returns
    -------
    pandas.DataFrame
        part, side, x, y, z [m], x/c, Cp; in viscous flow also Cf and y+.

    Notes
    -----
    pressure (n_boundary,) gauge, friction (n_boundary, 3) [Pa], y_plus (n_boundary,) [-], heat (n_boundary,) [W/m^2].

    Examples
    --------
    >>> from zephyrum import Airfoil, Freestream, mesh_airfoil, solve
    >>> mesh = mesh_airfoil(Airfoil.naca("2412"), 32, 16, topology="O")
    >>> solution = solve(mesh, Freestream(mach=0.3, alpha=2.0))
    >>> table = surface_table(mesh, solution.wall_pressure, solution.air, solution.reference)
    >>> len(table) == len(mesh.faces_of("wall"))
    True
    """
    import pandas as pd

    frames = []
    for group in mesh.groups:
        if group.role != "wall":
            continue
        if mesh.planar:
            faces, side = section_order(mesh, group.name)
        else:
            faces, side = np.arange(group.start, group.stop), ["-"] * (group.stop - group.start)
        centre = mesh.face_centroid[faces]
        local = faces - mesh.n_interior
        columns = {
            "part": group.name,
            "side": side,
            "x": centre[:, 0],
            "y": centre[:, 1],
            "z": centre[:, 2],
            "x/c": chord_fractions(mesh, reference, centre),
            "Cp": pressure[local] / air.dynamic_pressure,
        }
        if friction is not None:
            columns["Cf"] = _signed(centre, friction[local], columns["Cp"], mesh.planar) / air.dynamic_pressure  # type: ignore[arg-type]
            columns["y+"] = y_plus[local]
        if heat is not None:
            columns["heat flux"] = heat[local]
        frames.append(pd.DataFrame(columns))
    return pd.concat(frames, ignore_index=True)


def _signed(centre: np.ndarray, friction: np.ndarray, cp: np.ndarray, planar: bool) -> np.ndarray:
    """Size of the friction, in the plane negative where it points back to the stagnation point."""
    if not planar:
        return np.linalg.norm(friction, axis=1)
    along = np.gradient(centre, axis=0)
    along /= np.linalg.norm(along, axis=1)[:, None]
    stagnation = stagnation_face(centre[:, 0], cp)
    # the faces run from the upper tail to the nose and back along the lower side
    away = np.where(np.arange(len(centre)) < stagnation, -1.0, 1.0)
    return np.einsum("ij,ij->i", friction, along) * away


def stagnation_face(x: np.ndarray, cp: np.ndarray) -> int:
    """Face of highest Cp on the front half.

    Parameters
    ----------
    x : (n,) array
        Chord fractions.
    cp : (n,) array
        Pressure coefficients.

    Examples
    --------
    >>> stagnation_face(np.array([1.0, 0.1, 0.0, 0.1, 1.0]), np.array([0.3, -1.0, 0.98, 0.2, 0.3]))
    2
    """
    front = x < x.min() + 0.5 * np.ptp(x)
    return int(np.argmax(np.where(front, cp, -np.inf)))


def turning_points(table: "DataFrame"):
    """Positions where the friction changes sign.

    Parameters
    ----------
    table : pandas.DataFrame
        See `surface_table`.

    Returns
    -------
    pandas.DataFrame
        part, side, kind, x/c, +-.

    Notes
    -----
    The uncertainty is half the distance of the two faces between which the sign changes.
    """
    import pandas as pd

    rows = []
    for part, own in table.groupby("part", sort=False):
        x, cf, cp, side = (own[name].to_numpy() for name in ("x/c", "Cf", "Cp", "side"))
        stagnation = stagnation_face(x, cp)
        rows.append(
            {
                "part": part,
                "side": side[stagnation],
                "kind": "stagnation",
                "x/c": x[stagnation],
                "+-": 0.5 * abs(x[min(stagnation + 1, len(x) - 1)] - x[stagnation - 1]),
            }
        )
        for walk in (range(stagnation - 2, 0, -1), range(stagnation + 2, len(x) - 1)):
            step = walk.step
            for k in walk:
                n = k + step
                if side[k] == "base" or side[n] == "base" or cf[k] * cf[n] > 0.0:
                    continue
                fraction = cf[k] / (cf[k] - cf[n]) if cf[k] != cf[n] else 0.5
                rows.append(
                    {
                        "part": part,
                        "side": side[k],
                        "kind": "separation" if cf[k] > 0.0 else "reattachment",
                        "x/c": x[k] + fraction * (x[n] - x[k]),
                        "+-": 0.5 * abs(x[n] - x[k]),
                    }
                )
    return pd.DataFrame(rows)
