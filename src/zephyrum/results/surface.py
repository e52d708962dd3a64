"""Pressure along the surface of a section, upper and lower side apart. Verified by tests/test_results.py."""

import numpy as np

from zephyrum.mesh import Mesh


def section_order(mesh: Mesh, name: str) -> tuple[np.ndarray, list[str]]:
    """Faces of the wall group `name` of a 2-D mesh in order upper tail, nose, lower tail (then base), and their side."""
    group = mesh.group(name)
    faces = np.arange(group.start, group.stop)
    edge = mesh.face_points.reshape(-1, 4)[faces][:, [0, 3]]
    # the fluid is on the left cell's side; seen so, the wall runs clockwise or not, but always consistently
    follow = dict(zip(edge[:, 0].tolist(), range(len(faces))))
    x = mesh.points
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


def cp_table(mesh: Mesh, pressure: np.ndarray, air, reference):
    """DataFrame of Cp at every wall face: part, side, x, y, z [m], x/c, Cp. `pressure` (n_boundary,) gauge [Pa]."""
    import pandas as pd

    frames = []
    for group in mesh.groups:
        if group.role != "wall":
            continue
        if mesh.dimension == 2:
            faces, side = section_order(mesh, group.name)
        else:
            faces, side = np.arange(group.start, group.stop), ["-"] * (group.stop - group.start)
        centre = mesh.face_centroid[faces]
        frames.append(
            pd.DataFrame(
                {"part": group.name, "side": side, "x": centre[:, 0], "y": centre[:, 1], "z": centre[:, 2],
                 "x/c": (centre[:, 0] - (reference.point[0] - 0.25 * reference.chord)) / reference.chord,
                 "Cp": pressure[faces - mesh.n_interior] / air.dynamic_pressure}
            )
        )  # fmt: skip
    return pd.concat(frames, ignore_index=True)
