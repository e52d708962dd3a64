"""What the ground does to a wing: lift and induced drag high up and half a chord above a runway that moves with the air."""

import sys
from pathlib import Path

import zephyrum as zy


def main(folder: Path) -> None:
    """Fly a rectangular wing towards the ground."""
    wing = zy.Wing(planform=zy.Planform(span=6.0, root_chord=1.0, taper=1.0), airfoil="NACA 4412", tip="flat")
    craft = zy.Aircraft(name="plank", parts={"wing": wing})
    air = zy.Freestream(mach=0.15, alpha=2.0)
    for height in (None, 2.0, 0.6):
        # the wind is turned, not the wing: at a small alpha the stream is let to run along the ground
        level = air if height is None else air.turned(alpha=0.0)
        tilted = craft if height is None else craft.changed({"wing.pitch": 2.0})
        mesh = zy.mesh_aircraft(tilted, 3.0, farfield=6.0, ground=None if height is None else -height)
        made = zy.solve(mesh, level, settings=zy.Settings(orders=3.5))
        where = "far from the ground" if height is None else f"{height:g} chords above it"
        print(f"{where:22}: CL {made.forces.CL:.4f}, CD {made.forces.CD:.5f}, {made.verdict}, {mesh.n_cells} cells")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
