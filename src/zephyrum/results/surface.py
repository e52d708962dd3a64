"""Pressure and friction along the surface of a section, upper and lower side apart.

Friction is signed: positive where it points from the stagnation point towards the tail, so that it changes sign where
the flow separates and where it comes back. Verified by tests/test_results.py and tests/test_viscous.py.
"""

import numpy as np

from zephyrum.mesh import Mesh


def section_order(mesh: Mesh, name: str) -> tuple[np.ndarray, list[str]]:
    """Faces of the wall group `name` of a 2-D mesh in order upper tail, nose, lower tail (then base), and their side."""
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


def surface_table(mesh: Mesh, pressure: np.ndarray, air, reference, friction=None, y_plus=None, heat=None):
    """DataFrame of every wall face: part, side, x, y, z [m], x/c, Cp; in viscous flow also Cf and y+.

    pressure (n_boundary,) gauge, friction (n_boundary, 3) [Pa], y_plus (n_boundary,) [-], heat (n_boundary,) [W/m^2].
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
        columns = {"part": group.name, "side": side, "x": centre[:, 0], "y": centre[:, 1], "z": centre[:, 2],
                   "x/c": reference.chord_fraction(centre[:, 0]),
                   "Cp": pressure[local] / air.dynamic_pressure}  # fmt: skip
        if friction is not None:
            columns["Cf"] = _signed(centre, friction[local], columns["Cp"], mesh.planar) / air.dynamic_pressure
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
    """The face of highest Cp on the front half."""
    front = x < x.min() + 0.5 * np.ptp(x)
    return int(np.argmax(np.where(front, cp, -np.inf)))


def turning_points(table):
    """DataFrame of the places where the friction of a `surface_table` changes sign: part, side, kind, x/c, +-.

    The uncertainty is half the distance of the two faces between which the sign changes.
    """
    import pandas as pd

    rows = []
    for part, own in table.groupby("part", sort=False):
        x, cf, cp, side = (own[name].to_numpy() for name in ("x/c", "Cf", "Cp", "side"))
        stagnation = stagnation_face(x, cp)
        rows.append({"part": part, "side": side[stagnation], "kind": "stagnation", "x/c": x[stagnation],
                     "+-": 0.5 * abs(x[min(stagnation + 1, len(x) - 1)] - x[stagnation - 1])})  # fmt: skip
        for walk in (range(stagnation - 2, 0, -1), range(stagnation + 2, len(x) - 1)):
            step = walk.step
            for k in walk:
                n = k + step
                if side[k] == "base" or side[n] == "base" or cf[k] * cf[n] > 0.0:
                    continue
                share = cf[k] / (cf[k] - cf[n]) if cf[k] != cf[n] else 0.5
                rows.append({"part": part, "side": side[k], "kind": "separation" if cf[k] > 0.0 else "reattachment",
                             "x/c": x[k] + share * (x[n] - x[k]), "+-": 0.5 * abs(x[n] - x[k])})  # fmt: skip
    return pd.DataFrame(rows)
