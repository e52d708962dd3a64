"""A surface from outside, in millimetres and nose to +y: adopted, repaired, meshed and flown; streamlines drawn past
it.
"""

import sys
from pathlib import Path

import numpy as np

import zephyrum as zy
from zephyrum.plotting import draw_streamlines_3d


def main(folder: Path) -> None:
    """Write such a file of a pod with a tail, then treat it like one from elsewhere."""
    pod = zy.Aircraft(
        name="pod",
        parts={
            "pod": zy.Body(
                rings=[zy.Ring(x=0.0, width=0.0), zy.Ring(x=0.6, width=0.7), zy.Ring(x=2.6, width=0.0, z=0.1)]
            ),
            "tail": zy.Wing(
                planform=zy.Planform(span=2.0, root_chord=0.6, taper=0.8),
                airfoil="NACA 0012",
                tip="flat",
                position=(1.5, 0.0, 0.05),
            ),
        },
    )
    turn = np.array([[0.0, 1.0, 0.0], [-1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])  # x aft becomes -y
    pod.surface().transformed(1000.0 * turn).write(folder / "pod.stl")
    taken = zy.import_surface(folder / "pod.stl", unit="mm", nose="+y")
    print(taken.surface.bounds.round(3), "m; watertight:", taken.surface.watertight)
    print("\n".join(taken.notes))
    reference = zy.Reference(area=1.08, chord=0.54, span=2.0, point=(1.65, 0.0, 0.0))
    mesh = zy.mesh_aircraft(taken.surface, 5.5, half=True, farfield=5.0, reference=reference)
    made = zy.solve(mesh, zy.Freestream(mach=0.2, alpha=3.0), numerics=zy.Numerics(residual_drop=3))
    print(made.outcome, made.reason)
    print(made.forces.table().round(4).to_string(index=False))
    print("drawn:", draw_streamlines_3d(made, folder / "streamlines.png"))


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
