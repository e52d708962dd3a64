"""Drag from the wake: forces on a body from the flow behind it.

On a plane behind the body the drag is that of the trailing vortices, the energy of the flow across the wind, and that
of the entropy made upstream (Oswatitsch 1945; in this form Kusunose 1998, AIAA 98-2723, and van der Vooren and Slooff
1990, NLR MP 90034): with u', v, w the velocity less that of the stream along, beside and up the wind axes, induced: 1/2
rho (v^2 + w^2 - (1 - M^2) u'^2); entropy: T ds / U times the mass that carries it. In inviscid flow without shocks no
entropy is made: what is found there is the error of the mesh. A mesh loses the vortices downstream, what it loses
becomes entropy: planes close to the body tell most. Verified by tests/test_space.py.
"""

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from zephyrum._core.validation import number
from zephyrum.errors import InputError
from zephyrum.mesh.polygons import entries_of
from zephyrum.mesh.slices import slice_mesh

if TYPE_CHECKING:
    from zephyrum.results.solution import Solution


MIN_WAKE_DISTANCE = (0.1, 0.25, 0.5, 1.0)  # distances of the planes behind the body, in reference chords


def wake_drag(solution: "Solution", at: float | None = None) -> pd.DataFrame:
    """Drag seen in planes behind a body; see `Solution.wake_drag`.

    Parameters
    ----------
    solution : Solution
        On a mesh in space.
    at : float, optional
        x of the plane [m].
    """
    mesh, air = solution.mesh, solution.air
    if mesh.planar:
        raise InputError("the drag of a wake needs a mesh in space.")
    if air.mach >= 1.0:
        raise InputError(f"the drag of a wake is known in subsonic streams, not for Mach {air.mach:g}.")
    tail = mesh.points[mesh.face_points[entries_of(mesh.face_start, mesh.faces_of("wall"))[1]], 0].max()
    positions = tail + np.array(MIN_WAKE_DISTANCE) * solution.reference.chord if at is None else np.atleast_1d(at)
    fields, axes = solution.fields(), solution.computed.axes
    gamma, R = air.gas.gamma, air.gas.R
    density = air.pressure / (R * air.temperature)
    velocity = fields["velocity"] @ axes.T
    ahead, aside, up = velocity[:, 0] - air.speed, velocity[:, 1], velocity[:, 2]
    vortices = 0.5 * density * (aside**2 + up**2 - (1.0 - air.mach**2) * ahead**2) * axes[0, 0]
    entropy = R * (
        gamma / (gamma - 1.0) * np.log(fields["temperature"] / air.temperature)
        - np.log(fields["pressure"] / air.pressure)
    )
    lost = air.temperature * entropy / air.speed * fields["density"] * fields["velocity"][:, 0]
    scale = mesh.multiples[0][0] / (air.dynamic_pressure * solution.reference.area)
    rows = []
    for position in positions:
        cut = slice_mesh(mesh, "x", number("at", float(position)))
        if len(cut.walls):
            raise InputError(f"the plane x = {position:.5g} m meets the body; give places behind x = {tail:.5g} m.")
        induced, made = (float(scale * np.sum(values[cut.cell] * cut.areas)) for values in (vortices, lost))
        rows.append({"x": float(position), "induced CD": induced, "entropy CD": made, "wake CD": induced + made})
    return pd.DataFrame(rows)
