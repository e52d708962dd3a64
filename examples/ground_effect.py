"""What the ground does to a wing: lift and induced drag high up and half a chord above a runway that moves with the
air.
"""

import sys
from pathlib import Path

import zephyrum as zy


def main(folder: Path) -> None:
    """Fly a rectangular wing towards the ground."""
    wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 4412", tip="flat")
    aircraft = zy.Aircraft(name="plank", parts={"wing": wing})
    air = zy.Freestream(mach=0.15, alpha=2.0)
    for height in (None, 0.6):
        # over a ground the wind blows along it, and alpha turns the wing: a mesh for each alpha, made at this attitude
        over = {} if height is None else {"ground": -height, "attitude": air.alpha}
        mesh = zy.mesh_aircraft(aircraft, 5.5, farfield=6.0, **over)
        made = zy.solve(mesh, air, numerics=zy.Numerics(residual_drop=3.5))
        where = "far from the ground" if height is None else f"{height:g} chords above it"
        print(f"{where:22}: CL {made.forces.CL:.4f}, CD {made.forces.CD:.5f}, {made.outcome}, {mesh.n_cells} cells")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
